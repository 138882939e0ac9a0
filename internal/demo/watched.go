package demo

import (
	"context"
	"errors"
	"strings"
	"time"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/drive"
	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/core/verdict"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/tell"
	"hylostat.example/internal/shop/watch"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// watchedOnes are the drives of the shop's own bench that are watched, beside those of the field bench.
var watchedOnes = []string{"KVA077M511", "OSS0419Z4K", "BWN11Q7E30", "KVA077M61C"}

// knownFlaw is a level that somebody accepted some time ago.
type knownFlaw struct {
	serial string
	ago    time.Duration
	alert.Accepted
}

func knownFlaws() []knownFlaw {
	return []knownFlaw{
		{"KVA077M511", 20 * 24 * time.Hour, alert.Accepted{
			Signal: "crc_errors", Level: 30, By: "Imre", Reason: "old cable, goes with its case",
		}},
		{"BWN11Q7E30", 34 * 24 * time.Hour, alert.Accepted{
			Signal: "media_errors", Level: 5, By: "Dov", Reason: "its successor is ordered",
		}},
	}
}

// done is what somebody did about the alerts of a drive, some time after they came.
type done struct {
	serial string
	kind   alert.Kind
	after  time.Duration
	by     string
	note   string // of one that was settled; empty: they look after it
}

var dones = []done{
	{"KVA077M511", alert.Signal, 5 * time.Hour, "Imre", "cable reseated"},
	{"BWN11Q7E30", alert.Verdict, 3 * time.Hour, "Dov", ""},
	{"OSS0419Z4K", alert.Signal, 26 * time.Hour, "Imre", "its owner knows"},
}

// keepWatch writes what the watch made of the drives' past: plans, alerts as they would have come, reading by reading, what people did
// about them, and the levels they accepted.
func (d *Demo) keepWatch(ctx context.Context, s *whole.Shop, st *store.Store) error {
	began := history(d.clock.Start)[0]
	field := FieldName
	// Far from the demo's first days: what it begins by itself has numbers that its stories count on.
	testDay := strings.ToUpper(d.clock.Start.AddDate(0, 0, 5).Weekday().String()[:2])
	watched := []watch.Plan{{By: "Imre", At: began, Plan: plans.Plan{
		For: plans.Scope{Bench: &field}, Read: plans.Cadence{Every: 24 * time.Hour},
		Short: plans.Cadence{Rule: "FREQ=WEEKLY;BYDAY=" + testDay + ";BYHOUR=3;BYMINUTE=0"},
		Zone:  "Europe/Lisbon",
	}}}
	var all []shop.Drive
	for _, m := range d.fleet {
		serial := m.spec.Identity.Serial
		own := false
		for _, one := range watchedOnes {
			own = own || one == serial
		}
		if !m.field && (!own || m.bay == secondPath) {
			continue
		}
		found, err := st.DrivesBySerial(ctx, serial)
		if err != nil {
			return err
		}
		if own {
			key := drive.Key{Model: m.spec.Identity.Model, Serial: serial}
			if len(found) > 0 {
				key = found[0].Identity.Key
			}
			watched = append(watched, watch.Plan{By: "Dov", At: began, Plan: plans.Plan{
				For: plans.Scope{Drive: &key}, Read: plans.Cadence{Every: 24 * time.Hour}, Zone: "Europe/Lisbon",
			}})
		}
		if len(found) == 0 { // it tells nothing
			continue
		}
		found[0].Now.Bay = m.at()
		all = append(all, found[0])
	}
	err := st.Write(ctx, func(tx store.Tx) error {
		for i := range watched {
			if err := tx.SaveWatchPlan(ctx, &watched[i]); err != nil {
				return err
			}
		}
		return nil
	})
	for i := 0; i < len(all) && err == nil; i++ {
		err = d.relive(ctx, s, st, all[i])
	}
	if err == nil {
		err = d.mishaps(ctx, st)
	}
	return err
}

// relive goes through a drive's past as the watch would have.
func (d *Demo) relive(ctx context.Context, s *whole.Shop, st *store.Store, of shop.Drive) error {
	moments, err := st.Moments(ctx, of.ID)
	if err != nil {
		return err
	}
	life, err := s.Life(ctx, st, of, moments)
	if err != nil {
		return err
	}
	serial := of.Identity.Serial
	c := alert.NewCounter(s.Policy(), of.ID, nil)
	var told []tell.Body
	see := func(m verdict.Moment, known func() verdict.Evidence, was, _ drive.Grade) {
		for _, f := range knownFlaws() {
			at := d.clock.Start.Add(-f.ago)
			if f.serial == serial && !m.At.Before(at) {
				f.Drive, f.At = of.ID, at
				c.Accept(f.Accepted)
			}
		}
		for _, t := range c.See(m, known, was) {
			a := c.Alert(t.Thing)
			told = append(told, tell.Body{
				Alert: a, Tells: t.Tells, Of: watch.Subject(t.Thing, serial), Serial: serial, Model: of.Identity.Model, Bay: of.Now.Bay,
				Grade: was.String(),
			})
			for _, one := range dones {
				if one.serial != serial || one.kind != t.Thing.Kind {
					continue
				}
				if one.note == "" {
					c.Put(a.Take(one.by))
				} else {
					c.Put(a.Settle(one.by, one.note, m.At.Add(one.after)))
				}
			}
		}
	}
	p := s.Policy()
	past := verdict.NewReplay(p, p)
	past.Every = true
	if _, err := past.Over(life, of.Identity, of.Duty, see); err != nil {
		return err
	}
	return st.Write(ctx, func(tx store.Tx) error {
		for _, f := range knownFlaws() {
			if f.serial == serial {
				f.Drive, f.At = of.ID, d.clock.Start.Add(-f.ago)
				if err := tx.SaveAccepted(ctx, f.Accepted); err != nil {
					return err
				}
			}
		}
		ids := map[alert.Thing]int64{}
		for _, a := range c.All() {
			if err := tx.SaveAlert(ctx, &a); err != nil {
				return err
			}
			ids[a.Thing] = a.ID
		}
		for _, b := range told {
			b.Alert.ID = ids[b.Alert.Thing]
			if err := d.wasTold(ctx, tx, b, b.Alert.Moved); err != nil {
				return err
			}
		}
		return nil
	})
}

// wasTold notes that somebody was told of something at the time.
func (d *Demo) wasTold(ctx context.Context, tx store.Tx, b tell.Body, at time.Time) error {
	for _, r := range routesOf(&Post{}) {
		when, ok := r.When(&b.Alert, b.Tells, routes.Of{Serial: b.Serial, Bench: b.Bay.Bench}, at)
		if !ok || when.Untaken || when.At.After(d.clock.Start) {
			continue
		}
		m := tell.Message{
			Route: r.Name, State: tell.Sent, Due: when.At, Next: when.At, Tries: 1, When: when,
			Ended: when.At.Add(2 * time.Second), Body: b,
		}
		if r.Name == failing {
			m.State, m.Why, m.Ended = tell.Failed, "the log at loft.saltmarsh.example:514: no such host", when.At.Add(routes.TriesFor)
		}
		if err := tx.AddMessage(ctx, &m); err != nil {
			return err
		}
		if err := tx.SaveMessage(ctx, m); err != nil {
			return err
		}
	}
	return nil
}

// failing is the route that does not work.
const failing = "syslog, loft"

// mishaps are what happened to the field bench and to the service: each over, or known.
func (d *Demo) mishaps(ctx context.Context, st *store.Store) error {
	ago := func(days float64) time.Time { return d.clock.Start.Add(-time.Duration(days * 24 * float64(time.Hour))) }
	for _, m := range []struct {
		thing alert.Thing
		began time.Time
		ended time.Time // zero: not over
		loud  alert.Severity
		said  wording.Phrase
		by    string
		note  string
	}{
		{
			alert.Thing{Kind: alert.BenchSilent, Bench: FieldName},
			ago(31), ago(30.9), alert.Wake,
			wording.Say(wording.AlertSilent, wording.Values{"n": 3}), "", "",
		},
		{
			alert.Thing{Kind: alert.BackupLate},
			ago(12),
			time.Time{},
			alert.Now,
			wording.Say(wording.AlertBackup, wording.Values{"at": ago(14).Format(time.RFC3339)}), "Imre",
			"the store was full, another is there",
		},
		{
			alert.Thing{Kind: alert.RouteFailed, Name: failing},
			ago(2),
			time.Time{},
			alert.Now,
			wording.Say(wording.AlertRoute, wording.Values{"name": failing, "why": "no such host"}), "", "",
		},
	} {
		err := st.Write(ctx, func(tx store.Tx) error {
			a, tells := alert.Step(alert.Alert{}, alert.Seen{Thing: m.thing, At: m.began, Level: 1, Severity: m.loud, Said: m.said})
			told := a
			for at := m.ended; !m.ended.IsZero() && a.State != alert.Settled; at = at.Add(time.Hour) {
				a, _ = alert.Step(a, alert.Seen{Thing: m.thing, At: at, Over: true})
			}
			if m.by != "" {
				a = a.Settle(m.by, m.note, m.began.Add(5*time.Hour))
			}
			if err := tx.SaveAlert(ctx, &a); err != nil {
				return err
			}
			told.ID = a.ID
			return d.wasTold(ctx, tx, tell.Body{Alert: told, Tells: tells, Of: watch.Subject(m.thing, "")}, m.began)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// routesOf are who is told in the demo.
func routesOf(p *Post) []routes.Route {
	digest := plans.Daytime(7*60 + 30)
	night := []plans.Window{{From: 19 * 60, Until: digest}}
	return []routes.Route{
		{
			Name: "e-mail, Imre", By: routes.Mail, To: "imre@saltmarsh.example", Sender: "bench@saltmarsh.example",
			Server: "smtp+plain://" + p.Mail,
			Least:  alert.Digest, Zone: "Europe/Lisbon", Quiet: night, Digest: &digest,
		},
		{
			Name: "e-mail, Dov", By: routes.Mail, To: "dov@saltmarsh.example", Sender: "bench@saltmarsh.example",
			Server: "smtp+plain://" + p.Mail,
			Least:  alert.Now, Zone: "Europe/Lisbon", After: time.Hour,
		},
		{Name: "webhook, front desk", By: routes.Webhook, To: p.Page + "/", Least: alert.Now},
		{Name: failing, By: routes.Syslog, To: "tcp://127.0.0.1:9", Least: alert.Now, Off: "switched off by Imre: no such host"},
		{Name: "sound, own bench", By: routes.Console, Least: alert.Now, Zone: "Europe/Lisbon"},
	}
}

// Tell has the demo's shop tell its alerts to its own post, with links to a page (empty: none). What was sent and what failed before
// stays known.
func (d *Demo) Tell(ctx context.Context, st *store.Store, vault tell.Vault, page string) error {
	if d.Post == nil {
		post, err := NewPost(ctx)
		if err != nil {
			return err
		}
		d.Post = post
	}
	p := d.Post
	known, err := st.Routes(ctx)
	if err != nil {
		return err
	}
	sealed, err := vault.Seal(p.Secret)
	if err != nil {
		return err
	}
	return st.Write(ctx, func(tx store.Tx) error {
		var all error
		for _, r := range routesOf(p) {
			set := tell.Route{
				Route: r, SetBy: "Imre", At: d.clock.Start.Add(-400 * 24 * time.Hour),
				Sent: d.clock.Start.Add(-26 * time.Hour),
			}
			if set.Page = page; r.By == routes.Console {
				set.Page, set.Sent = "", time.Time{}
			}
			if r.By == routes.Webhook {
				set.Secret = sealed
			}
			if r.Name == failing {
				set.Failed, set.Sent, set.Why = d.clock.Start.Add(-48*time.Hour), d.clock.Start.Add(-60*24*time.Hour), "no such host"
			}
			for _, k := range known {
				if k.Name == r.Name {
					set.Sent, set.Failed, set.Why = k.Sent, k.Failed, k.Why
				}
			}
			all = errors.Join(all, tx.SaveRoute(ctx, set))
		}
		return all
	})
}
