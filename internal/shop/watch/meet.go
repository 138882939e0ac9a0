package watch

import (
	"context"
	"maps"
	"slices"
	"time"

	"hylostat.example/internal/core/check"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/judge"
)

// meet reads the plans and all drives they are for.
func (w *Watcher) meet(ctx context.Context) error {
	all, err := w.store.WatchPlans(ctx)
	if err != nil {
		return err
	}
	known, only := map[int64]Plan{}, make([]plans.Plan, len(all))
	for i, p := range all {
		known[p.ID], only[i] = p, p.Plan
	}
	planner, err := plans.New(only)
	if err != nil {
		return err
	}
	before, err := w.store.Watched(ctx)
	if err != nil {
		return err
	}
	kept := map[int64]Row{}
	for _, r := range before {
		kept[r.Drive] = r
	}
	bays, err := w.store.Bays(ctx)
	if err != nil {
		return err
	}
	w.mu.Lock()
	w.planner, w.known, w.whole = planner, known, false
	none := len(known)+len(kept)+len(w.drives) == 0
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.whole = true
	}()
	if none {
		return nil
	}
	met, keep := map[int64]bool{}, rows{}
	for _, b := range bays {
		if b.Connection != protocol.Answering && b.Connection != protocol.StuckBay || !b.Key.IsValid() {
			continue
		}
		d, err := w.store.DriveByKey(ctx, b.Key)
		if shop.IsNone(err) { // its first reading is on the way
			continue
		}
		if err != nil {
			return err
		}
		if met[d.ID] { // by another path
			continue
		}
		met[d.ID] = true
		if err := w.see(ctx, d, kept[d.ID], &keep); err != nil {
			return err
		}
		w.Stands(b)
	}
	for id, row := range kept { // those that were here, and are not any more
		if met[id] {
			continue
		}
		d, err := w.store.Drive(ctx, id)
		if err != nil {
			return err
		}
		if err := w.see(ctx, d, row, &keep); err != nil {
			return err
		}
	}
	return w.keep(ctx, keep)
}

// rows are what has to be kept, and not any more, of drives that were seen.
type rows struct {
	save []Row
	drop []int64
}

// keep stores them, all in one change.
func (w *Watcher) keep(ctx context.Context, r rows) error {
	if len(r.save)+len(r.drop) == 0 {
		return nil
	}
	return w.store.Write(ctx, func(tx Tx) error {
		for _, row := range r.save {
			if err := tx.SaveWatched(ctx, row); err != nil {
				return err
			}
		}
		for _, id := range r.drop {
			if err := tx.DropWatched(ctx, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// meetSerial is meet for the drives with a serial. told is the fact that one was read, where that is why.
func (w *Watcher) meetSerial(ctx context.Context, serial string, told *shop.Event) error {
	if serial == "" {
		return nil
	}
	w.mu.Lock()
	none := len(w.known) == 0
	w.mu.Unlock()
	if none {
		return nil
	}
	found, err := w.store.DrivesBySerial(ctx, serial)
	if err != nil {
		return err
	}
	var keep rows
	for _, d := range found {
		w.mu.Lock()
		row, changed := Row{}, false
		if at := w.drives[d.ID]; at != nil {
			if told != nil && told.Bay == at.bay {
				asleep := told.Said.Code == wording.ReadingAsleep
				if changed = asleep != at.Asleep; !asleep {
					at.Told = told.At
				}
				at.Asleep = asleep
			}
			row = at.row()
		}
		w.mu.Unlock()
		if changed { // between two changes the time of its latest reading tells when it told something
			keep.save = append(keep.save, row)
		}
		if err := w.see(ctx, d, row, &keep); err != nil {
			return err
		}
	}
	return w.keep(ctx, keep)
}

// Stands takes in how a bay stands: whether its drive holds a command.
func (w *Watcher) Stands(b protocol.Bay) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if d := w.ofKey(b.Key); d != nil {
		switch {
		case b.Connection != protocol.StuckBay:
			d.stuck = time.Time{}
		case d.stuck.IsZero():
			d.stuck = w.books.Clock.Now()
		}
	}
}

// row is what is kept of a watched drive.
func (d *watched) row() Row {
	r := Row{Drive: d.ID, Plan: d.Plan, Since: d.Since, Asleep: d.Asleep, Told: d.Told, Begun: map[plans.Task]time.Time{}}
	for _, t := range plans.Tasks() {
		if slot := d.Did[t].Slot; !slot.IsZero() {
			r.Begun[t] = slot
		}
	}
	return r
}

// see takes in how a drive stands: whether it is watched and by which plan, where it is, what keeps it. row is what is known of its
// watch; the zero Row when it is not watched yet.
func (w *Watcher) see(ctx context.Context, d shop.Drive, row Row, keep *rows) error {
	i, place, err := w.place(ctx, d)
	if err != nil {
		return err
	}
	gone := i != nil && i.Handover != nil && d.Now.Bay.IsZero()
	w.mu.Lock()
	all := make([]plans.Plan, 0, len(w.known))
	for _, p := range w.known {
		all = append(all, p.Plan)
	}
	slices.SortFunc(all, func(a, b plans.Plan) int { return int(a.ID - b.ID) })
	p, err := plans.Narrowest(all, place)
	if was, still := w.known[row.Plan]; still && d.Now.Bay.IsZero() { // it is not here: it stays what it was, and where
		if p, err = was.Plan, nil; p.For.Bench != nil {
			place.Bench = *p.For.Bench
		} else if at := w.drives[d.ID]; at != nil {
			place.Bench = at.Bench
		}
	}
	set := w.known[p.ID].At
	w.mu.Unlock()
	if err != nil || gone || d.Now.Bay.IsZero() && row.Drive == 0 {
		w.forget(d.ID, row, keep)
		return nil
	}
	at := &watched{now: d, bay: d.Now.Bay, lot: place.Lot}
	at.Drive = plans.Drive{
		ID: d.ID, Key: d.Identity.Key, Bench: place.Bench, Plan: p.ID, Since: row.Since, Asleep: row.Asleep, Told: row.Told,
		Attached: !d.Now.Bay.IsZero() && w.here(place.Bench), AtRisk: i != nil && i.AtRisk(),
	}
	if at.Told.Before(d.Now.LastAt) && !at.Asleep {
		at.Told = d.Now.LastAt
	}
	if row.Plan != p.ID { // another plan counts now, from now on
		at.Since = w.books.Clock.Now()
		row.Drive, row.Plan, row.Since = d.ID, p.ID, at.Since
		keep.save = append(keep.save, row)
	}
	if set.After(at.Since) { // what came due before the plan was as it is now is not asked for
		at.Since = set
	}
	for t, slot := range row.Begun {
		at.Did[t].Slot = slot
	}
	at.Did[plans.Reading].At = d.Now.LastAt
	if err := w.ran(ctx, at, p); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if was := w.drives[d.ID]; was != nil {
		at.Reads, at.order, at.sent, at.asked, at.had = was.Reads, was.order, was.sent, was.asked, was.had
		at.gave, at.left, at.stuck = was.gave, was.left, was.stuck
		// It came, and the fact of it was missed. The bench's clock may be behind the shop's.
		if at.Reads && (d.Now.Readings > at.had || !at.Did[plans.Reading].At.Before(at.asked)) {
			at.read()
		}
		if was.given && at.Doing == plans.Reading {
			at.given, at.Doing = true, was.Doing
		}
		for _, t := range plans.Tasks() {
			at.Did[t].Tried = was.Did[t].Tried
		}
	}
	for _, t := range plans.Tasks() { // begun before this program was, or not at all: it is ordered again, and done once
		if did := &at.Did[t]; did.Slot.After(did.At) && !did.Slot.Equal(at.gave[t].slot) && (at.Doing != t || t == plans.Reading) {
			did.Slot = time.Time{}
		}
	}
	w.drives[d.ID], w.ids[at.Key] = at, d.ID
	return nil
}

// ran takes in the runs of a drive: what it does for the watch, whether somebody else's run goes on, and when it did what last.
func (w *Watcher) ran(ctx context.Context, at *watched, p plans.Plan) error {
	all, err := w.store.Runs(ctx, shop.RunQuery{Drive: at.Key, Limit: 30})
	if err != nil {
		return err
	}
	var newest [plans.TaskCount]bool // of the watch's runs of a task was seen
	for i := range all {
		r := &all[i]
		t, own := taskOf(r)
		switch {
		case r.State == check.Done:
			for j := range r.Steps {
				s := &r.Steps[j]
				if task, is := stepTasks[s.Kind]; is && r.Outcome != check.Stopped && s.Ended.After(at.Did[task].At) {
					at.Did[task].At = s.Ended
				}
			}
			if own && !newest[t] && at.Did[t].Slot.Equal(slotOf(r)) {
				if at.gave[t].slot = at.Did[t].Slot; gaveWay(r) { // for somebody's own: it comes again
					at.Did[t].Slot = time.Time{}
				}
			}
		case own:
			at.Doing, at.run, at.Waits = t, r.ID, r.State == check.Paused && pausedHere(r)
		default:
			at.Taken = true
		}
		newest[t] = newest[t] || own
	}
	return w.takes(ctx, at, p)
}

// place tells what of a drive decides which plan it has, and its newest intake, if it has one.
func (w *Watcher) place(ctx context.Context, d shop.Drive) (*shop.Intake, plans.Place, error) {
	p := plans.Place{Key: d.Identity.Key, Bench: d.Now.Bay.Bench, Duty: d.Duty}
	i, err := w.judge.Intake(ctx, d)
	if err == nil && i != nil && i.Handover == nil {
		p.Lot = i.Lot
	}
	return i, p, err
}

// takes reckons how long the tasks of a plan take on a drive.
func (w *Watcher) takes(ctx context.Context, at *watched, p plans.Plan) error {
	at.Takes[plans.Reading] = readingTakes
	if !slices.ContainsFunc(plans.Tasks(), func(t plans.Task) bool { return t.Loads() && !p.Of(t).IsZero() }) {
		return nil
	}
	pace, err := judge.Pace(ctx, w.store, at.now)
	if err != nil {
		return err
	}
	for t, kind := range kinds {
		r := check.New(kind, at.bay, at.Key, "", time.Time{}, check.Limit{Surface: p.Surface})
		r.Expect(pace)
		for i := range r.Steps {
			at.Takes[t] += r.Steps[i].Expect
		}
	}
	return nil
}

// readingTakes is about how long a reading takes, for the sum of what plans ask of a bench.
const readingTakes = 4 * time.Second

// here reports whether a bench is connected.
func (w *Watcher) here(bench string) bool {
	for _, b := range w.fleet.Benches() {
		if b.Name == bench {
			return !b.Away
		}
	}
	return false
}

// forget ends the watch of a drive, if it was watched.
func (w *Watcher) forget(id int64, row Row, keep *rows) {
	w.mu.Lock()
	defer w.mu.Unlock()
	at, was := w.drives[id]
	if was {
		delete(w.ids, at.Key)
	}
	if delete(w.drives, id); was || row.Drive != 0 {
		keep.drop = append(keep.drop, id)
	}
}

// kinds are the checks that tasks are.
var kinds = map[plans.Task]check.Kind{
	plans.ShortTest: check.Short, plans.ExtendedTest: check.Long, plans.SpotSweep: check.Spot, plans.WholeSweep: check.Whole,
}

// stepTasks are the tasks that the steps of a run, whoever asked for it, do as well.
var stepTasks = map[check.StepKind]plans.Task{
	check.ShortTest: plans.ShortTest, check.ExtendedTest: plans.ExtendedTest, check.SpotSweep: plans.SpotSweep,
	check.WholeSweep: plans.WholeSweep, check.Verifying: plans.WholeSweep,
}

// IsWatched reports whether a drive is under watch.
func (w *Watcher) IsWatched(id int64) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.drives[id] != nil
}

// numbers are the IDs of the drives under watch, in their order.
func (w *Watcher) numbers() []int64 { return slices.Sorted(maps.Keys(w.drives)) }
