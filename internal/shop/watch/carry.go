package watch

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/check"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
)

// Name is who orders what a plan asks for.
const Name = runs.Watch

// orderOf names the order for what came due: given again, it is carried out once.
func orderOf(o plans.Order, tries int) string {
	name := fmt.Sprintf("%s%d-%s-%d", runs.WatchOrders, o.Drive, o.Task, o.Slot.UnixMilli())
	if tries > 0 { // a bench answers what it has refused once as it did then
		name += "." + strconv.Itoa(tries)
	}
	return name
}

// taskOf is the task that a run is for; false: it is not the watch's.
func taskOf(r *check.Run) (t plans.Task, own bool) {
	if !runs.IsWatch(r) {
		return t, false
	}
	for task, kind := range kinds {
		if kind == r.Kind {
			return task, true
		}
	}
	return t, false
}

// slotOf is the moment at which a run of the watch came due.
func slotOf(r *check.Run) time.Time {
	last, _, _ := strings.Cut(r.Order[strings.LastIndexByte(r.Order, '-')+1:], ".")
	ms, err := strconv.ParseInt(last, 10, 64)
	if err != nil {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}

// gaveWay reports whether a run was stopped for somebody's own.
func gaveWay(r *check.Run) bool {
	return r.Reason.Code == wording.StoppedBy && r.Reason.Values["by"] == runs.GaveWay
}

// pausedHere reports whether a sweep waits because its window closed, not because somebody said so.
func pausedHere(r *check.Run) bool {
	return r.Pause.Code == wording.PausedBy && r.Pause.Values["by"] == Name
}

// carryOut asks the planner what is due, and has the benches do it.
func (w *Watcher) carryOut(ctx context.Context) {
	now := w.books.Clock.Now()
	w.mu.Lock()
	if w.planner == nil || len(w.drives) == 0 {
		w.mu.Unlock()
		return
	}
	ids := w.numbers()
	all := make([]plans.Drive, len(ids))
	for i, id := range ids {
		d := w.drives[id]
		if d.Reads && time.Since(d.sent) > lostAfter {
			d.unread(now)
		}
		all[i] = d.Drive
	}
	orders, _ := w.planner.Due(now, all)
	for i, id := range ids {
		w.drives[id].Drive = all[i] // with what the planner remembers
	}
	var begins []plans.Order
	for _, o := range orders {
		if d := w.drives[o.Drive]; o.Verb == plans.Begin {
			begins = append(begins, o)
			g := &d.gave[o.Task]
			g.slot = o.Slot
			if d.Did[o.Task].Slot = o.Slot; o.Task == plans.Reading {
				d.Reads, d.order, d.sent, d.asked, d.had = true, orderOf(o, g.tries), time.Now(), now, d.now.Now.Readings
			} else {
				d.Doing, d.given = o.Task, true
			}
		}
	}
	w.mu.Unlock()
	if len(begins) > 0 {
		err := w.store.Write(ctx, func(tx Tx) error {
			for _, o := range begins {
				if err := tx.SaveBegun(ctx, o.Drive, o.Task, o.Slot); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil { // nothing begins that is not kept
			w.books.Log.Warn("keeping what the watch begins; it is tried again", "error", err)
			for _, o := range begins {
				w.failed(o, nil)
			}
			begins = nil
		}
	}
	for _, o := range orders {
		w.mu.Lock()
		d := *w.drives[o.Drive]
		w.mu.Unlock()
		switch {
		case o.Verb == plans.Begin && begins == nil:
		case o.Verb == plans.Begin && o.Task == plans.Reading:
			w.books.Own.Go(func() { w.read(ctx, d, o) })
		case o.Verb == plans.Begin:
			w.books.Own.Go(func() { w.begin(ctx, d, o) })
		default:
			w.tell(ctx, d, o)
		}
	}
}

// read orders a reading of a drive.
func (w *Watcher) read(ctx context.Context, d watched, o plans.Order) {
	_, err := w.fleet.Order(ctx, protocol.Order{
		Kind: protocol.OrderRead, Bay: d.bay, Key: d.Key, ID: d.order, By: Name, LeaveAsleep: !o.Wake,
	})
	if err != nil {
		w.post(ctx, func() { w.failed(o, err) })
	}
}

// begin starts what loads a drive.
func (w *Watcher) begin(ctx context.Context, d watched, o plans.Order) {
	w.mu.Lock()
	p := w.known[d.Plan]
	w.mu.Unlock()
	r, err := w.runs.Check(ctx, shop.Actor{Name: Name, Via: access.Standing}, d.now, runs.CheckOrder{
		Kind: kinds[o.Task], Limit: check.Limit{Share: p.Share, Surface: p.Surface}, Order: orderOf(o, d.gave[o.Task].tries),
	})
	w.post(ctx, func() {
		if err != nil {
			w.failed(o, err)
			return
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		if d := w.drives[o.Drive]; d != nil {
			if d.given = false; d.Doing == o.Task {
				d.run = r.ID
			}
			if r.State == check.Done { // it was ordered before, and has ended
				d.Doing = plans.Reading
			}
		}
	})
}

// tell has a bench stop what a drive does for the watch, or have it wait or go on.
func (w *Watcher) tell(ctx context.Context, d watched, o plans.Order) {
	kind := map[plans.Verb]protocol.OrderKind{
		plans.Stop: protocol.OrderStop, plans.Pause: protocol.OrderPause, plans.Resume: protocol.OrderResume,
	}[o.Verb]
	if d.run == 0 {
		return
	}
	w.books.Own.Go(func() {
		by := Name
		if o.Verb == plans.Stop {
			by = runs.GaveWay
		}
		_, err := w.fleet.Order(ctx, protocol.Order{Kind: kind, Run: d.run, Bay: d.bay, By: by})
		if _, refused := errors.AsType[*protocol.Refusal](err); err != nil && !refused && ctx.Err() == nil {
			w.books.Log.Warn("the watch tells a bench", "what", string(kind), "run", d.run, "error", err)
		}
	})
}

// post hands what came of something to the one who keeps the watch.
func (w *Watcher) post(ctx context.Context, f func()) {
	select {
	case w.became <- f:
	case <-ctx.Done():
	}
}

// failed takes back what could not begin: it is due still, and tried again a little later.
func (w *Watcher) failed(o plans.Order, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.drives[o.Drive]
	if d == nil {
		return
	}
	if err != nil {
		w.books.Log.Debug("the watch could not begin", "drive", d.Key.Serial, "task", o.Task.String(), "error", err)
	}
	if o.Task == plans.Reading {
		d.unread(w.books.Clock.Now())
		return
	}
	d.notBegun(o.Task, w.books.Clock.Now())
	if d.given {
		d.given, d.Doing = false, plans.Reading
	}
}

// notBegun takes back that a task began: it is due still.
func (d *watched) notBegun(t plans.Task, now time.Time) {
	d.gave[t] = gave{tries: d.gave[t].tries + 1}
	d.Did[t].Slot, d.Did[t].Tried = time.Time{}, now
}

// unread ends a reading that brought nothing.
func (d *watched) unread(now time.Time) {
	d.Reads, d.order = false, ""
	d.notBegun(plans.Reading, now)
}

// answered ends the reading that an order asked for. e is the fact that it was taken; nil: it brought nothing.
func (w *Watcher) answered(order string, e *shop.Event) {
	var id int64
	if _, err := fmt.Sscanf(order, runs.WatchOrders+"%d-", &id); err != nil { // it is not the watch's
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	switch d := w.drives[id]; {
	case d == nil || d.order != order:
	case e == nil:
		d.unread(w.books.Clock.Now())
	default:
		d.read()
	}
}

// read ends a reading that came.
func (d *watched) read() { d.Reads, d.order, d.gave[plans.Reading].tries = false, "", 0 }
