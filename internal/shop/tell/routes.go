package tell

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"hylostat.example/internal/core/alert"
	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// RouteList lists the routes, with the console's that there is when nobody has set one.
func (t *Teller) RouteList(ctx context.Context) ([]Route, error) { return all(ctx, t.store) }

// SetRoute makes a route, or puts another in the place of the one of that name. secret: nil leaves the one it has. made is the secret of
// a webhook that was given none: it is shown this once.
func (t *Teller) SetRoute(ctx context.Context, by shop.Actor, r routes.Route, secret *string) (set Route, made string, err error) {
	for _, text := range []*string{&r.Name, &r.To, &r.Server, &r.User, &r.Sender, &r.Off} {
		if err := shop.Tidy(text); err != nil {
			return set, "", err
		}
	}
	if err := r.Valid(); err != nil {
		return set, "", &shop.Invalid{What: err.Error(), Advice: "Change it, then set the route again."}
	}
	if r.Name == console.Name && r.By != routes.Console {
		return set, "", &shop.Invalid{What: fmt.Sprintf("%q is the console's own route", r.Name), Advice: "Choose another name."}
	}
	set = Route{Route: r, SetBy: by.Name, At: t.books.Clock.Now()}
	err = shop.Act(ctx, t.books, t.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		known, err := tx.Routes(ctx)
		if err != nil {
			return nil, nil, err
		}
		was := Route{}
		if i := slices.IndexFunc(known, func(k Route) bool { return k.Name == r.Name }); i >= 0 {
			was = known[i]
			set.Sent, set.Failed, set.Why, set.Secret = was.Sent, was.Failed, was.Why, was.Secret
		}
		if secret == nil && knows(was.Route) != knows(r) { // a secret is not given to somebody else
			set.Secret = nil
		}
		if secret == nil && set.Secret == nil && r.By == routes.Webhook {
			key := make([]byte, 24)
			_, _ = rand.Read(key) // never fails
			made = "whsec_" + base64.StdEncoding.EncodeToString(key)
			secret = &made
		}
		if secret != nil {
			if set.Secret = nil; *secret != "" {
				if set.Secret, err = t.vault.Seal(*secret); err != nil {
					return nil, nil, fmt.Errorf("sealing the route's secret: %w", err)
				}
			}
		}
		deed := shop.Deed{Kind: shop.RoutesChanged, Said: wording.Say(wording.RouteSet, wording.Values{
			"name":  r.Name,
			"means": string(r.By),
		})}
		deed.Edited("route", saysOf(was.Route), saysOf(r))
		if secret != nil {
			deed.Edited("secret", "", "given anew")
		}
		return []shop.Deed{deed}, nil, tx.SaveRoute(ctx, set)
	})
	t.poke()
	return set, made, err
}

// knows is who knows a route's secret: the user's mail server, or whom a webhook calls.
func knows(r routes.Route) string {
	if r.By == routes.Mail {
		return r.Server + " " + r.User
	}
	return r.To
}

// poke has the outbox looked at.
func (t *Teller) poke() {
	select {
	case t.wake <- struct{}{}:
	default:
	}
}

// EndRoute ends a route. What waits for it is not told.
func (t *Teller) EndRoute(ctx context.Context, by shop.Actor, name string) error {
	return shop.Act(ctx, t.books, t.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		was, err := find(ctx, tx, name)
		if err != nil {
			return nil, nil, err
		}
		deed := shop.Deed{Kind: shop.RoutesChanged, Said: wording.Say(wording.RouteEnded, wording.Values{"name": name})}
		deed.Edited("route", saysOf(was.Route), "")
		return []shop.Deed{deed}, nil, tx.DropRoute(ctx, name)
	})
}

func find(ctx context.Context, r Reader, name string) (Route, error) {
	known, err := r.Routes(ctx)
	if err != nil {
		return Route{}, err
	}
	i := slices.IndexFunc(known, func(k Route) bool { return k.Name == name })
	if i < 0 {
		return Route{}, &shop.NotFound{What: fmt.Sprintf("there is no route %q", name), Advice: "List the routes."}
	}
	return known[i], nil
}

// Trial is what came of a letter sent to try a route.
type Trial struct {
	Words []string // what was said between the two sides
	Wrong string   // empty: it arrived
}

// TryRoute sends a letter by a route that says it is a trial.
func (t *Teller) TryRoute(ctx context.Context, by shop.Actor, name string) (out Trial, err error) {
	known, err := all(ctx, t.store)
	if err != nil {
		return out, err
	}
	i := slices.IndexFunc(known, func(k Route) bool { return k.Name == name })
	if i < 0 {
		return out, &shop.NotFound{What: fmt.Sprintf("there is no route %q", name), Advice: "List the routes."}
	}
	now := t.books.Clock.Now()
	said := wording.Say(wording.RouteTrial, wording.Values{"by": by.Name})
	l := Letter{Shop: t.books.Name, Key: t.books.Key.Name(), At: now, Trial: true, All: []Body{{
		Alert: alert.Alert{Severity: alert.Now, State: alert.Settled, Said: said, Opened: now, Moved: now}, Tells: alert.Opened,
		Of: wording.Say(wording.AlertOfService),
	}}}
	l.ID = fmt.Sprintf("%s-trial-%d", l.Key, now.UnixMilli())
	words, wrong := t.sendSaying(ctx, known[i], l)
	if out.Words = words; wrong != nil {
		out.Wrong = wrong.Error()
	}
	return out, shop.Act(ctx, t.books, t.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		deed := shop.Deed{Kind: shop.RoutesChanged, Said: wording.Say(wording.RouteTried, wording.Values{"name": name})}
		deed.Edited("what came of it", "", ofTrial(out.Wrong))
		is, err := find(ctx, tx, name)
		if err != nil {
			if shop.IsNone(err) { // the console's own
				err = nil
			}
			return []shop.Deed{deed}, nil, err
		}
		if is.Sent = now; out.Wrong != "" {
			is.Sent, is.Failed, is.Why = known[i].Sent, now, out.Wrong
		}
		return []shop.Deed{deed}, nil, tx.SaveRoute(ctx, is)
	})
}

func ofTrial(wrong string) string {
	if wrong == "" {
		return "it arrived"
	}
	return wrong
}

// ToldOf are the messages of some alerts, the newest first; of no alert: of all.
func (t *Teller) ToldOf(ctx context.Context, alerts []int64, limit int) ([]Message, error) {
	return t.store.MessagesOf(ctx, alerts, limit)
}

// saysOf is a route in one line; empty for the zero one.
func saysOf(r routes.Route) string {
	if r.Name == "" {
		return ""
	}
	all := []string{string(r.By)}
	if r.To != "" {
		all = append(all, "to "+r.To)
	}
	if r.Server != "" {
		all = append(all, "by "+r.Server)
	}
	all = append(all, "from "+string(r.Least)+" on")
	if r.After > 0 {
		all = append(all, fmt.Sprintf("what nobody takes for %d min", int(r.After.Minutes())))
	}
	for _, q := range r.Quiet {
		all = append(all, fmt.Sprintf("quiet %s to %s", q.From, q.Until))
	}
	if r.Digest != nil {
		all = append(all, "digest at "+r.Digest.String())
	}
	if r.Off != "" {
		all = append(all, "off: "+r.Off)
	}
	return strings.Join(all, "; ")
}
