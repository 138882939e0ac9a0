package watch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// WatchPlans lists the plans, the narrow ones first.
func (w *Watcher) WatchPlans(ctx context.Context) ([]Plan, error) {
	all, err := w.store.WatchPlans(ctx)
	slices.SortStableFunc(all, func(a, b Plan) int { return cmp.Compare(a.For.Width(), b.For.Width()) })
	return all, err
}

// Weighed is what a plan comes to.
type Weighed struct {
	Drives int          // that are here, and would be watched by it
	ADay   float64      // readings of these
	Reads  float64      // drives read at once on average, by all plans, at the bench that has most to do
	Loads  float64      // drives loaded by self-tests and sweeps at once, likewise
	Never  []plans.Task // that can never begin, since they take longer than the longest window
}

// Says tells it in words.
func (s Weighed) Says(p plans.Plan) wording.Phrase {
	v := wording.Values{"drives": s.Drives, "readings": int(math.Round(s.ADay)), "most": p.Bound()}
	if s.Loads == 0 {
		return wording.Say(wording.WatchWeighed, v)
	}
	v["left"] = s.Loads * (24 * time.Hour).Seconds()
	return wording.Say(wording.WatchWeighedLoad, v)
}

// Weigh tells what a plan would come to. The error is that with which SetWatch would refuse it.
func (w *Watcher) Weigh(ctx context.Context, p plans.Plan) (Weighed, error) {
	now := w.books.Clock.Now()
	if err := p.Check(now); err != nil {
		if wrong, ok := errors.AsType[*plans.Wrong](err); ok {
			return Weighed{}, &shop.Invalid{What: wrong.What, Advice: wrong.Advice}
		}
		return Weighed{}, err
	}
	if err := w.exists(ctx, p.For); err != nil {
		return Weighed{}, err
	}
	return w.weigh(ctx, now, p)
}

// SetWatch puts a plan in force, in place of the one for the same drive, lot, bench or duty, if there is one.
func (w *Watcher) SetWatch(ctx context.Context, by shop.Actor, p plans.Plan) (Plan, error) {
	if _, err := w.Weigh(ctx, p); err != nil {
		return Plan{}, err
	}
	set := Plan{Plan: p, By: by.Name, At: w.books.Clock.Now()}
	err := shop.Act(ctx, w.books, w.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		all, err := tx.WatchPlans(ctx)
		if err != nil {
			return nil, nil, err
		}
		deed, was := shop.Deed{Kind: shop.WatchChanged}, Plan{}
		if i := slices.IndexFunc(all, func(other Plan) bool { return reflect.DeepEqual(other.For, p.For) }); i >= 0 {
			was = all[i]
		}
		set.ID = was.ID
		if p.For.Drive != nil {
			deed.Serial = p.For.Drive.Serial
		}
		deed.Said = wording.Say(wording.WatchSet, wording.Values{"of": p.For.Says(), "plan": p.Says()})
		if was.ID != 0 {
			deed.Edited("watch", was.Says().String(), p.Says().String())
		} else {
			deed.Edited("watch", "", p.Says().String())
		}
		return []shop.Deed{deed}, nil, tx.SaveWatchPlan(ctx, &set)
	})
	if err != nil {
		return Plan{}, err
	}
	return set, w.settled(ctx, func() bool { return w.whole && w.known[set.ID].At.Equal(set.At) })
}

// EndWatch ends a plan.
func (w *Watcher) EndWatch(ctx context.Context, by shop.Actor, id int64) error {
	err := shop.Act(ctx, w.books, w.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		all, err := tx.WatchPlans(ctx)
		if err != nil {
			return nil, nil, err
		}
		i := slices.IndexFunc(all, func(p Plan) bool { return p.ID == id })
		if i < 0 {
			return nil, nil, &shop.NotFound{What: fmt.Sprintf("there is no watch plan %d", id), Advice: "List the plans."}
		}
		deed := shop.Deed{Kind: shop.WatchChanged, Said: wording.Say(wording.WatchEnded, wording.Values{"of": all[i].For.Says()})}
		if k := all[i].For.Drive; k != nil {
			deed.Serial = k.Serial
		}
		deed.Edited("watch", all[i].Says().String(), "")
		return []shop.Deed{deed}, nil, tx.DropWatchPlan(ctx, id)
	})
	if err != nil {
		return err
	}
	return w.settled(ctx, func() bool { _, still := w.known[id]; return w.whole && !still })
}

// exists reports whether there is what a plan is for.
func (w *Watcher) exists(ctx context.Context, s plans.Scope) error {
	switch {
	case s.Drive != nil:
		_, err := w.store.DriveByKey(ctx, *s.Drive)
		return err
	case s.Lot != 0:
		_, err := w.store.Lot(ctx, s.Lot)
		return err
	case s.Bench != nil:
		if !w.fleet.Has(*s.Bench) {
			return &shop.NotFound{What: fmt.Sprintf("there is no bench %q", *s.Bench), Advice: "List the bays: each names its bench."}
		}
	case !slices.Contains(drive.Duties(), s.Duty):
		return &shop.Invalid{What: fmt.Sprintf("%q is no duty", s.Duty), Advice: "Say continuous, archive, everyday or carry."}
	}
	return nil
}

// weigh adds up what the plans ask of the benches, with one more or another; an error when they cannot do it.
func (w *Watcher) weigh(ctx context.Context, now time.Time, p plans.Plan) (sum Weighed, err error) {
	p.ID = -1 // so that the planner can tell it from the others
	all := []plans.Plan{p}
	others, err := w.store.WatchPlans(ctx)
	if err != nil {
		return sum, err
	}
	for _, other := range others {
		if !reflect.DeepEqual(other.For, p.For) {
			all = append(all, other.Plan)
		}
	}
	planner, err := plans.New(all)
	if err != nil {
		return sum, err
	}
	bays, err := w.store.Bays(ctx)
	if err != nil {
		return sum, err
	}
	var drives, own []plans.Drive
	counts := map[string]int{}
	for _, b := range bays {
		if b.Connection != protocol.Answering {
			continue
		}
		d, err := w.store.DriveByKey(ctx, b.Key)
		if shop.IsNone(err) || err == nil && d.Now.Bay != b.ID {
			continue
		}
		if err != nil {
			return sum, err
		}
		_, place, err := w.place(ctx, d)
		if err != nil {
			return sum, err
		}
		best, err := plans.Narrowest(all, place)
		if err != nil { // none is for it
			continue
		}
		at := &watched{now: d, bay: b.ID}
		at.Drive = plans.Drive{ID: d.ID, Key: d.Identity.Key, Bench: place.Bench, Plan: best.ID}
		if err := w.takes(ctx, at, best); err != nil {
			return sum, err
		}
		if drives = append(drives, at.Drive); best.ID == p.ID {
			counts[place.Bench]++
			own = append(own, at.Drive)
		}
	}
	sum.Drives = len(own)
	for _, asks := range planner.Demands(now, own) {
		sum.ADay += asks.ADay
	}
	for i := range own {
		for _, t := range planner.Never(own[i]) {
			if !slices.Contains(sum.Never, t) {
				sum.Never = append(sum.Never, t)
			}
		}
	}
	for bench, asks := range planner.Demands(now, drives) {
		if counts[bench] == 0 {
			continue
		}
		sum.Reads, sum.Loads = max(sum.Reads, asks.Reads), max(sum.Loads, asks.Loads)
		name := plans.Scope{Bench: &bench}.Says().String()
		for _, one := range []struct {
			what string
			is   float64
		}{{"read", asks.Reads}, {"loaded", asks.Loads}} {
			if one.is > float64(p.Bound()) {
				return sum, &shop.Invalid{
					What: fmt.Sprintf(
						"at %s %.1f drives would be %s at once on average, and the plan allows %d", name, one.is, one.what, p.Bound(),
					),
					Advice: "Ask less often, or allow more at once.",
				}
			}
		}
	}
	return sum, nil
}

// settled waits until the one who keeps the watch has read the plans as they are now, for as long as orders may take to show.
func (w *Watcher) settled(ctx context.Context, is func() bool) error {
	limited, end := context.WithTimeout(ctx, shop.Settling)
	defer end()
	for {
		w.mu.Lock()
		done := is()
		w.mu.Unlock()
		if done {
			return nil
		}
		select {
		case <-limited.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Comes is when a task came due for a drive last, was done last, and comes due next; zero times: never, or not known.
type Comes struct {
	Task plans.Task
	Done time.Time
	Next time.Time
}

// Standing is how a watched drive stands.
type Standing struct {
	Drive  shop.Drive
	Plan   Plan
	Since  time.Time
	Bay    drive.Bay // none: it is not here
	Asleep bool
	AtRisk bool
	Told   time.Time // when it told its counters last
	Doing  plans.Task
	Run    int64 // what loads it for the watch; 0: nothing
	Waits  bool
	Comes  []Comes
	Missed []time.Time    // readings that came due and were not taken, since it was read last
	Never  []plans.Task   // tasks of its plan that can never begin: they take longer than the longest window
	Keeps  wording.Phrase // what keeps all but readings; zero: nothing
}

// Standings tells how the watched drives stand: those that were missed first, then by what is due next.
func (w *Watcher) Standings() []Standing {
	now := w.books.Clock.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	all := make([]Standing, 0, len(w.drives))
	for _, d := range w.drives {
		all = append(all, w.standing(d, now))
	}
	next := func(s Standing) time.Time {
		first := time.Time{}
		for _, c := range s.Comes {
			if !c.Next.IsZero() && (first.IsZero() || c.Next.Before(first)) {
				first = c.Next
			}
		}
		return first
	}
	slices.SortFunc(all, func(a, b Standing) int {
		return cmp.Or(len(b.Missed)-len(a.Missed), next(a).Compare(next(b)), cmp.Compare(a.Drive.ID, b.Drive.ID))
	})
	return all
}

// StandingOf tells how a drive stands; false: it is not watched.
func (w *Watcher) StandingOf(driveID int64) (Standing, bool) {
	now := w.books.Clock.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.drives[driveID]
	if d == nil {
		return Standing{}, false
	}
	return w.standing(d, now), true
}

// standing is how a drive stands at a moment. The caller holds the lock.
func (w *Watcher) standing(d *watched, now time.Time) Standing {
	s := Standing{
		Drive: d.now, Plan: w.known[d.Plan], Since: d.Since, Bay: d.bay, Asleep: d.Asleep, AtRisk: d.AtRisk, Told: d.Told,
		Doing: d.Doing, Run: d.run, Waits: d.Waits,
	}
	if d.Doing == plans.Reading {
		s.Run = 0
	}
	for _, t := range plans.Tasks() {
		if s.Plan.Of(t).IsZero() {
			continue
		}
		_, next := w.planner.About(t, &d.Drive, now)
		s.Comes = append(s.Comes, Comes{Task: t, Done: d.Did[t].At, Next: next})
	}
	s.Missed = w.missed(d, now)
	s.Never = w.planner.Never(d.Drive)
	switch {
	case d.AtRisk:
		s.Keeps = wording.Say(wording.WatchAtRisk)
	case d.Taken:
		s.Keeps = wording.Say(wording.WatchTaken)
	case d.Asleep:
		s.Keeps = wording.Say(wording.WatchAsleep)
	}
	return s
}

// Course is how a drive was read of late, and what comes.
type Course struct {
	Read  []time.Time // in the last 7 days, the latest first
	Ahead []Ahead     // in the next 2 days
}

// Ahead is a task that comes due.
type Ahead struct {
	Task plans.Task
	At   time.Time
}

// The bounds of a course.
const (
	courseBack  = 7 * 24 * time.Hour
	courseAhead = 2 * 24 * time.Hour
	mostRead    = 400
	mostAhead   = 200
)

// CourseOf tells the course of a drive that is watched.
func (w *Watcher) CourseOf(ctx context.Context, s Standing) (c Course, err error) {
	now := w.books.Clock.Now()
	w.mu.Lock()
	if d := w.drives[s.Drive.ID]; d != nil {
		for _, t := range plans.Tasks() {
			for _, at := range w.planner.Slots(t, d.Drive, now, now.Add(courseAhead), mostAhead/plans.TaskCount) {
				c.Ahead = append(c.Ahead, Ahead{t, at})
			}
		}
	}
	w.mu.Unlock()
	slices.SortFunc(c.Ahead, func(a, b Ahead) int { return a.At.Compare(b.At) })
	c.Read, err = w.store.ReadingTimes(ctx, s.Drive.ID, now.Add(-courseBack), mostRead)
	return c, err
}
