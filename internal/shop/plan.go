package shop

import (
	"context"
	"fmt"
	"time"

	"hylostat.example/internal/protocol"
)

// Plan is what becomes of every drive that answers in a bay, without being asked for each. The zero Plan is none.
type Plan struct {
	Check protocol.RunKind `json:"check,omitempty"`
	By    string           `json:"by,omitempty"`
	At    time.Time        `json:"at,omitzero"`
}

// Queue is how a bench stands with its plan.
type Queue struct {
	Plan    Plan
	Going   int
	Waiting int      // for their turn
	Done    int      // of the plan, since it was made
	Words   []string // what to do at which bay, and why others wait
}

// planned are the checks a plan may have.
func planned(k protocol.RunKind) bool {
	return k == protocol.Quick || k == protocol.Extended || k == protocol.Whole
}

// SetPlan has every drive checked once: those in the bays, and those that are put in from now on. No kind ends the plan.
func (s *Shop) SetPlan(ctx context.Context, kind protocol.RunKind, by string) (Queue, error) {
	if kind != "" && !planned(kind) {
		return Queue{}, &Invalid{fmt.Sprintf("%q is no check of a plan", kind), "Choose quick, extended or whole."}
	}
	p := Plan{kind, by, s.clock.Now()}
	text := "The plan is ended by " + by
	if kind != "" {
		text = fmt.Sprintf("Planned by %s: %s of every drive", by, kind.Title())
	}
	_, err := s.change(ctx, func(tx Tx) ([]Event, error) {
		return []Event{{At: p.At, Kind: PlanChanged, By: by, Text: text}}, tx.SavePlan(ctx, p)
	})
	if err != nil {
		return Queue{}, err
	}
	bays, err := s.store.Bays(ctx)
	if err != nil {
		return Queue{}, err
	}
	for _, b := range bays {
		s.startPlanned(ctx, p, b)
	}
	return s.Queue(ctx)
}

// planSoon starts the planned check of a drive that has come to answer, for the one who takes the bench's reports in and must
// not wait for another.
func (s *Shop) planSoon(ctx context.Context, b protocol.Bay) {
	if s.bench == nil || b.Connection != protocol.Answering {
		return
	}
	p, err := s.store.Plan(ctx)
	if err != nil || p.Check == "" {
		return
	}
	go func() {
		limited, end := context.WithTimeout(ctx, settling)
		defer end()
		s.startPlanned(limited, p, b)
	}()
}

// startPlanned starts the planned check of the drive in a bay, unless it has had it or something else keeps it: data at risk, a
// lock, a run under way. Whoever looks at the bay sees why.
func (s *Shop) startPlanned(ctx context.Context, p Plan, b protocol.Bay) {
	if p.Check == "" || b.Connection != protocol.Answering {
		return
	}
	d, err := s.store.DriveByKey(ctx, b.Key)
	if err != nil || d.Now.Bay != b.Number || d.Identity.Security.Locked || b.Device.InUse != "" {
		return
	}
	runs, err := s.Runs(ctx, RunQuery{Drive: b.Key, Limit: 20})
	if err != nil {
		return
	}
	for _, r := range runs {
		if r.State != protocol.Done || r.Kind == p.Check && !r.Asked.Before(p.At) {
			return
		}
	}
	if _, err := s.Check(ctx, d, p.Check, p.By, "", protocol.Limit{}); err != nil && ctx.Err() == nil {
		s.log.Info("a planned check does not start", "drive", d.Identity.Serial, "error", err)
	}
}

// Queue tells how the plan stands.
func (s *Shop) Queue(ctx context.Context) (q Queue, err error) {
	if q.Plan, err = s.store.Plan(ctx); err != nil {
		return q, err
	}
	open, err := s.Runs(ctx, RunQuery{Open: true, Limit: 1000})
	if err != nil {
		return q, err
	}
	for _, r := range open {
		switch {
		case r.Turn || r.State == protocol.Queued:
			q.Waiting++
		case r.State == protocol.Running || r.State == protocol.Stopping || r.State == protocol.Paused:
			q.Going++
		}
	}
	if q.Plan.Check == "" {
		return q, nil
	}
	done, err := s.store.Runs(ctx, RunQuery{Limit: 1000})
	if err != nil {
		return q, err
	}
	had := map[string]bool{}
	for _, r := range done {
		if r.State == protocol.Done && r.Kind == q.Plan.Check && r.Outcome != protocol.Stopped && !r.Asked.Before(q.Plan.At) {
			q.Done++
			had[r.Key.Serial] = true
		}
	}
	bays, err := s.store.Bays(ctx)
	if err != nil {
		return q, err
	}
	for _, b := range bays {
		switch {
		case b.Connection == protocol.Empty:
			q.Words = append(q.Words, fmt.Sprintf("Bay %d is free: put the next one in.", b.Number))
		case b.Connection == protocol.Answering && had[b.Key.Serial]:
			q.Words = append(q.Words, fmt.Sprintf("Bay %d is done: exchange the drive.", b.Number))
		}
	}
	return q, nil
}
