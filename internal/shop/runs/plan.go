package runs

import (
	"context"
	"fmt"
	"slices"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// Queue is how a bench stands with its plan.
type Queue struct {
	Bench   string     // by its name
	Plan    check.Plan // of the open lot where it has one, else the bench's
	Going   int
	Waiting int              // for their turn
	Done    int              // of the plan, since it was made
	Says    []wording.Phrase // what to do at which bay, and why others wait
}

func NoPlan(k check.Kind) error {
	return &shop.Invalid{What: fmt.Sprintf("%q is no check of a plan", k), Advice: "Choose quick, extended or whole."}
}

// planOf is the plan for a drive: that of the lot it is on, or that of the bench it is at.
func (s *Conductor) planOf(ctx context.Context, d shop.Drive) (check.Plan, error) {
	i, err := s.judge.Intake(ctx, d)
	if err != nil {
		return check.Plan{}, err
	}
	if i != nil && i.Lot != 0 && i.Handover == nil {
		if l, err := s.store.Lot(ctx, i.Lot); err != nil || l.Check != "" {
			return l.PlanOf(), err
		}
	}
	return s.store.Plan(ctx, d.Now.Bay.Bench)
}

// SetPlan has every drive at a bench checked once: those in the bays, and those that are put in from now on. No kind ends the plan.
func (s *Conductor) SetPlan(ctx context.Context, by shop.Actor, bench string, kind check.Kind) (Queue, error) {
	if !s.fleet.Has(bench) {
		return Queue{}, noBench(bench)
	}
	if kind != "" && !kind.Plannable() {
		return Queue{}, NoPlan(kind)
	}
	p := check.Plan{Check: kind, By: by.Name, At: s.books.Clock.Now()}
	where := wording.Phrase{}
	if bench != "" {
		where = wording.Say(wording.AtBench, wording.Values{"bench": bench})
	}
	said := wording.Say(wording.PlanEnded, wording.Values{"where": where, "by": by.Name})
	if kind != "" {
		said = wording.Say(wording.PlanMade, wording.Values{"where": where, "by": by.Name, "kind": string(kind)})
	}
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		was, err := tx.Plan(ctx, bench)
		if err != nil {
			return nil, nil, err
		}
		deed := shop.Deed{Kind: shop.PlanChanged, Said: said}
		deed.Edited("plan", was.Check, p.Check)
		return []shop.Deed{deed}, nil, tx.SavePlan(ctx, bench, p)
	})
	if err != nil {
		return Queue{}, err
	}
	bays, err := s.store.Bays(ctx)
	if err != nil {
		return Queue{}, err
	}
	for _, b := range bays {
		if b.ID.Bench == bench {
			s.startPlanned(ctx, b)
		}
	}
	return s.Queue(ctx, bench)
}

// PlanSoon starts the planned check of a drive that has come to answer, for the one who takes the bench's reports in and must
// not wait for another.
func (s *Conductor) PlanSoon(ctx context.Context, b protocol.Bay) {
	if b.Connection != protocol.Answering {
		return
	}
	s.books.Own.Go(func() {
		limited, end := context.WithTimeout(ctx, shop.Settling)
		defer end()
		s.startPlanned(limited, b)
	})
}

// startPlanned starts the planned check of the drive in a bay, unless it has had it or something else keeps it: data at risk, a
// lock, a run under way. Whoever looks at the bay sees why.
func (s *Conductor) startPlanned(ctx context.Context, b protocol.Bay) {
	if b.Connection != protocol.Answering {
		return
	}
	if err := s.checkPlanned(ctx, b); err != nil && ctx.Err() == nil {
		s.books.Log.Info("a planned check does not start", "bay", b.ID.String(), "drive", b.Key.Serial, "error", err)
	}
}

func (s *Conductor) checkPlanned(ctx context.Context, b protocol.Bay) error {
	d, err := s.store.DriveByKey(ctx, b.Key)
	if shop.IsNone(err) { // its first reading is on the way
		return nil
	}
	if err != nil || d.Now.Bay != b.ID || d.Identity.Security.Locked || b.Device.InUse != "" {
		return err
	}
	p, err := s.planOf(ctx, d)
	if err != nil || p.Check == "" {
		return err
	}
	runs, err := s.Runs(ctx, shop.RunQuery{Drive: b.Key, Limit: 20})
	if err != nil {
		return err
	}
	for i := range runs {
		if p.Bars(&runs[i]) {
			return nil
		}
	}
	_, err = s.Check(ctx, shop.Actor{Name: p.By, Via: access.Standing}, d, CheckOrder{Kind: p.Check})
	return err
}

func noBench(name string) error {
	return &shop.NotFound{What: fmt.Sprintf("there is no bench %q", name), Advice: "List the bays: each names its bench."}
}

// Queue tells how the plan of a bench stands.
func (s *Conductor) Queue(ctx context.Context, bench string) (q Queue, err error) {
	if !s.fleet.Has(bench) {
		return q, noBench(bench)
	}
	q.Bench = bench
	if q.Plan, err = s.store.Plan(ctx, bench); err != nil {
		return q, err
	}
	open, err := s.Runs(ctx, shop.RunQuery{Open: true, Limit: 1000})
	if err != nil {
		return q, err
	}
	for _, r := range open {
		switch {
		case r.Bay.Bench != bench:
		case r.Turn || r.State == check.Queued:
			q.Waiting++
		case r.State == check.Running || r.State == check.Stopping || r.State == check.Paused:
			q.Going++
		}
	}
	var of []shop.Drive // the lot's
	if l, err := s.store.LotOpen(ctx); err == nil && l.Check != "" {
		q.Plan = l.PlanOf()
		if of, err = s.store.Drives(ctx, shop.Query{Lot: l.ID}); err != nil {
			return q, err
		}
	} else if err != nil && !shop.IsNone(err) {
		return q, err
	}
	if q.Plan.Check == "" {
		return q, nil
	}
	all, err := s.store.Runs(ctx, shop.RunQuery{Limit: 1000})
	if err != nil {
		return q, err
	}
	for i := range all {
		r := &all[i]
		if r.Bay.Bench == bench && q.Plan.Met(r) &&
			(q.Plan.Lot == 0 || slices.ContainsFunc(of, func(d shop.Drive) bool { return d.Identity.Key == r.Key })) {
			q.Done++
		}
	}
	q.Says, err = s.exchanges(ctx, bench, all)
	return q, err
}

// exchanges says at which bay a drive can be put in, or exchanged because its planned check is done.
func (s *Conductor) exchanges(ctx context.Context, bench string, runs []check.Run) (says []wording.Phrase, err error) {
	bays, err := s.store.Bays(ctx)
	if err != nil {
		return nil, err
	}
	for _, b := range bays {
		if b.ID.Bench != bench {
			continue
		}
		switch b.Connection {
		case protocol.Empty:
			says = append(says, wording.Say(wording.BayFree, wording.Values{"bay": b.ID.String()}))
		case protocol.Answering:
			d, err := s.store.DriveByKey(ctx, b.Key)
			if shop.IsNone(err) { // it has just come to answer, and its reading is on the way
				continue
			}
			if err != nil {
				return nil, err
			}
			p, err := s.planOf(ctx, d)
			if err != nil {
				return nil, err
			}
			if slices.ContainsFunc(runs, func(r check.Run) bool { return r.Key == b.Key && p.Met(&r) }) {
				says = append(says, wording.Say(wording.BayDone, wording.Values{"bay": b.ID.String()}))
			}
		default: // nothing can be done there by exchanging
		}
	}
	return says, nil
}
