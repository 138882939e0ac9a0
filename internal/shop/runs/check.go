package runs

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/judge"
)

// CheckOrder is what is wanted of a check.
type CheckOrder struct {
	Kind    check.Kind
	Limit   check.Limit
	Spans   []ata.Span // of a selective self-test: one to five within the drive's capacity
	Despite string     // why the surface may be loaded although the data on it is at risk
	Order   string     // its name, where whoever orders has one: given again under it, it is carried out once
}

// Check starts a check of a drive. Data at risk keeps it from starting, since it loads the surface, unless somebody says why it
// may all the same; the reason is kept with the run.
func (s *Conductor) Check(ctx context.Context, by shop.Actor, d shop.Drive, o CheckOrder) (check.Run, error) {
	if o.Kind == check.Selective {
		if err := within(d.Identity, o.Spans); err != nil {
			return check.Run{}, err
		}
	}
	if d.Now.Bay.IsZero() {
		return check.Run{}, &shop.Conflict{What: d.Identity.Serial + " is in no bay", Advice: "Attach it to a bay, then check it."}
	}
	o.Despite = strings.TrimSpace(o.Despite)
	i, err := s.judge.Intake(ctx, d) // in whichever bay it was taken in
	if err != nil {
		return check.Run{}, err
	}
	if risk := i != nil && i.AtRisk(); risk && o.Despite == "" {
		return check.Run{}, &shop.Conflict{
			What:   "the data on " + d.Identity.Serial + " is wanted and not copied, checks wait",
			Advice: "Copy the data and record the copy, then check. Or say why its surface may be loaded all the same.",
		}
	} else if !risk {
		o.Despite = ""
	}
	if o.Limit.StopAt == 0 && o.Kind != check.Spot {
		o.Limit.StopAt = s.judge.Hopeless(d)
	}
	return s.order(
		ctx,
		by,
		d,
		protocol.Order{
			Kind:    protocol.OrderCheck,
			Check:   o.Kind,
			Spans:   o.Spans,
			Limit:   o.Limit,
			Despite: o.Despite,
			ID:      o.Order,
			Bay:     d.Now.Bay,
			Key:     d.Identity.Key,
		},
	)
}

// order gives an order that makes a run, and waits until the bench's report of the run is stored: whoever asks for the run, or for
// the open ones, is to find it. The run's number and the audit's row of the order are stored before the order is given.
func (s *Conductor) order(ctx context.Context, by shop.Actor, d shop.Drive, o protocol.Order) (_ check.Run, err error) {
	if o.Pace, err = judge.Pace(ctx, s.store, d); err != nil {
		return check.Run{}, err
	}
	if err := s.makeWay(ctx, o); err != nil {
		return check.Run{}, err
	}
	deed := shop.Deed{Kind: shop.RunOrdered, Serial: o.Key.Serial, Bay: o.Bay}
	err = shop.Act(ctx, s.books, s.store, by, func(tx Tx) (_ []shop.Deed, _ []shop.Event, err error) {
		if o.Run, err = tx.NewRun(ctx); err != nil {
			return nil, nil, err
		}
		deed.Run = o.Run
		deed.Said = wording.Say(wording.RunOrdered, wording.Values{"bay": o.Bay.String(), "kind": string(o.Check), "run": o.Run})
		if o.Despite != "" {
			deed.Said = wording.Say(wording.RunDespite, wording.Values{"deed": deed.Said, "why": o.Despite})
		}
		return []shop.Deed{deed}, nil, nil
	})
	if err != nil {
		return check.Run{}, err
	}
	o.By = by.Name
	listening, end := context.WithTimeout(ctx, shop.Settling)
	defer end()
	facts := s.books.Listen(listening)
	receipt, err := s.fleet.Order(ctx, o)
	if err != nil {
		return check.Run{}, errors.Join(err, shop.Failed(ctx, s.books, s.store, by, deed, err))
	}
	for e := range facts {
		if e.Kind == shop.RunChanged && e.Run == o.Run {
			break
		}
	}
	return *receipt.Run, nil
}

// within checks the spans of a selective self-test against the drive's capacity.
func within(id drive.Identity, spans []ata.Span) error {
	if len(spans) < 1 || len(spans) > 5 {
		return &shop.Invalid{
			What:   fmt.Sprintf("a selective self-test takes one to five spans, not %d", len(spans)),
			Advice: "Name them as FIRST-LAST.",
		}
	}
	for _, s := range spans {
		if sectors := id.Bytes / uint64(max(1, id.LogicalSector)); s.Last < s.First || s.Last >= sectors {
			return &shop.Invalid{
				What: fmt.Sprintf(
					"the span %d-%d does not lie within %s, whose last sector is %d", s.First, s.Last, id.Serial,
					max(1, sectors)-1,
				),
				Advice: "Name sectors it has.",
			}
		}
	}
	return nil
}

// StopRun stops a run and gives it as it stands then.
func (s *Conductor) StopRun(ctx context.Context, by shop.Actor, id int64) (check.Run, error) {
	return s.tellRun(ctx, by, id, protocol.OrderStop, wording.RunStopped)
}

// tellRun has a bench stop a run, let its sweep wait or go on, and gives the run as it stands then.
func (s *Conductor) tellRun(ctx context.Context, by shop.Actor, id int64, kind protocol.OrderKind, said wording.Code) (check.Run, error) {
	r, err := s.RunByID(ctx, id)
	if err != nil {
		return r, err
	}
	if r.State == check.Done {
		return r, &shop.Conflict{What: fmt.Sprintf("run %d is done", id), Advice: "There is nothing to " + string(kind) + "."}
	}
	deed := shop.Deed{
		Kind:   shop.RunOrdered,
		Serial: r.Key.Serial,
		Bay:    r.Bay,
		Run:    id,
		Said:   wording.Say(said, wording.Values{"bay": r.Bay.String(), "kind": string(r.Kind), "run": id}),
	}
	err = shop.Command(ctx, s.books, s.store, by, deed, func() error {
		_, err := s.fleet.Order(ctx, protocol.Order{Kind: kind, Run: id, Bay: r.Bay, By: by.Name})
		return err
	})
	if err != nil {
		return r, err
	}
	return s.RunByID(ctx, id)
}
