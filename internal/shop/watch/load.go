package watch

import (
	"context"
	"time"

	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/shop"
)

// Load is how many drives self-tests and sweeps of the watch have busy at once, hour by hour: as it was, and as the plans have it.
type Load struct {
	From  time.Time // of the first hour
	Now   int       // the hour that is now
	Busy  []int
	Limit int // the most that a plan allows of one bench
}

// The hours of a load, and of how many runs it is made.
const (
	loadBack  = 5 * 24
	loadAhead = 2 * 24
	loadRuns  = 2000
)

// Load tells the load of the watch: five days back, two ahead.
func (w *Watcher) Load(ctx context.Context) (Load, error) {
	now := w.books.Clock.Now()
	l := Load{From: now.Truncate(time.Hour).Add(-loadBack * time.Hour), Now: loadBack, Busy: make([]int, loadBack+loadAhead)}
	ran, err := w.store.Runs(ctx, shop.RunQuery{Limit: loadRuns})
	if err != nil {
		return l, err
	}
	for i := range ran {
		if r := &ran[i]; r.By == Name {
			ended := r.Ended
			if ended.IsZero() {
				ended = now
			}
			l.add(l.Busy[:loadBack+1], r.Asked, ended)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	ahead := map[string][]int{} // by bench
	for _, id := range w.numbers() {
		d := w.drives[id]
		p := w.known[d.Plan]
		if l.Limit = max(l.Limit, p.Bound()); d.bay.IsZero() || d.AtRisk {
			continue
		}
		busy := ahead[d.Bench]
		if busy == nil {
			busy = make([]int, len(l.Busy))
			ahead[d.Bench] = busy
		}
		for _, t := range plans.Tasks() {
			if !t.Loads() || p.Of(t).IsZero() {
				continue
			}
			takes := d.Takes[t]
			if t.Sweeps() && p.Share > 0 {
				takes = takes * 100 / time.Duration(p.Share)
			}
			for _, at := range w.planner.Slots(t, d.Drive, now, now.Add(loadAhead*time.Hour), loadAhead) {
				l.add(busy, at, at.Add(max(takes, time.Minute)))
			}
		}
	}
	for _, busy := range ahead {
		waits := 0 // what the bound of a bench has wait until the next hour
		for h := range busy {
			waits += busy[h]
			l.Busy[h] += min(waits, l.Limit)
			waits -= min(waits, l.Limit)
		}
	}
	return l, nil
}

// add counts a drive in the hours it is busy in.
func (l *Load) add(busy []int, from, until time.Time) {
	first, last := int(from.Sub(l.From)/time.Hour), int(until.Sub(l.From)/time.Hour)
	if until.Before(l.From) || first >= len(busy) {
		return
	}
	for h := max(0, first); h <= min(last, len(busy)-1); h++ {
		busy[h]++
	}
}
