// Package bench runs a machine with bays: it notices drives that come and go, takes readings, and carries out runs, one
// worker for each bay. What it learns goes up as reports; it decodes nothing for people and keeps no history but its
// journal. Start with New and Run.
package bench

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/bench/worker"
	"hylostat.example/internal/bench/write"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// Options are what a bench is made of.
type Options struct {
	worker.Machine
	Title  string     // what people call it
	Factor float64    // of the source's time
	Feed   sweep.Feed // how it finds out how many sweeps it feeds; zero: all begin at once
}

// Bench is a running bench; it implements protocol.Bench.
type Bench struct {
	Options
	unkeptMu sync.Mutex        // guards unkept and keeping
	unkept   []protocol.Report // that the journal had no room for
	keeping  bool              // they are being tried again

	wake     chan struct{}
	progress chan protocol.Progress
	audience atomic.Int64 // who listens to it

	mu        sync.Mutex            // guards what follows
	taken     []*taken              // the last orders, the newest last
	addresses map[int]drive.Address // by the number of the bay
	settings  map[drive.Address]journal.BayRow
	workers   map[drive.Address]*worker.Worker
	runs      map[int64]*check.Run        // open ones
	holds     map[drive.Address]drive.Key // which drive answers in which bay
	group     sync.WaitGroup
	launch    func(do func(ctx context.Context)) // does something beside, until the bench ends; nil: it does not run yet
}

// New reads the journal and makes a worker for every bay it knows.
func New(ctx context.Context, o Options) (*Bench, error) {
	b := &Bench{
		Options:   o,
		wake:      make(chan struct{}, 1),
		progress:  make(chan protocol.Progress, 256),
		addresses: map[int]drive.Address{},
		settings:  map[drive.Address]journal.BayRow{},
		workers:   map[drive.Address]*worker.Worker{},
		runs:      map[int64]*check.Run{},
		holds:     map[drive.Address]drive.Key{},
	}
	b.Clock, b.Feeder = o.Source.Clock(), &sweep.Feeder{Feed: o.Feed}
	var err error
	if b.Consents, err = write.LoadConsents(ctx, o.Journal); err != nil {
		return nil, err
	}
	rows, err := o.Journal.Bays(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the bench's journal: %w", err)
	}
	for _, row := range rows {
		b.addWorker(row)
	}
	open, err := o.Journal.OpenRuns(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the bench's journal: %w", err)
	}
	for _, r := range open {
		if r.State != check.Queued {
			r.State = check.Interrupted
		}
		r.Bay.Bench = b.Name
		b.runs[r.ID] = &r
	}
	return b, nil
}

func (b *Bench) addWorker(row journal.BayRow) *worker.Worker {
	w := worker.New(&b.Machine, b, row)
	b.addresses[row.Number], b.workers[row.Address] = row.Address, w
	return w
}

// Run watches for drives until the context ends, then waits for the workers.
func (b *Bench) Run(ctx context.Context) error {
	b.mu.Lock()
	b.launch = func(do func(context.Context)) { b.group.Go(func() { do(ctx) }) }
	started := protocol.Started{Open: slices.Sorted(maps.Keys(b.runs))}
	b.mu.Unlock()
	b.Report(ctx, protocol.Report{Started: &started})
	b.mu.Lock()
	for _, w := range b.workers {
		b.start(w)
	}
	b.mu.Unlock()
	changed := b.Source.Changed(ctx)
	defer func() {
		b.mu.Lock()
		b.launch = nil
		b.mu.Unlock()
		b.group.Wait()
	}()
	for {
		var again <-chan time.Time
		if err := b.look(ctx); err != nil && ctx.Err() == nil {
			b.Log.Error("looking for drives", "error", err)
			again = time.After(worker.Again)
		}
		select {
		case <-again:
		case <-ctx.Done():
			return nil
		case <-changed:
			// Several events come together when a drive appears; its node may be a moment behind them.
			if err := (device.Wall{}).Sleep(ctx, 150*time.Millisecond); err != nil {
				return nil
			}
		}
	}
}

func (b *Bench) start(w *worker.Worker) {
	b.launch(w.Run)
}

// look tells every worker what is in its bay now, and opens a bay for every new address.
func (b *Bench) look(ctx context.Context) error {
	found, err := b.Source.Look(ctx)
	if err != nil {
		return err
	}
	at := map[drive.Address]drive.Attachment{}
	for _, d := range found {
		at[d.Address] = d
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	var addresses []drive.Address
	if p, ok := b.Source.(device.Places); ok {
		addresses = p.Places()
	}
	for _, d := range found {
		addresses = append(addresses, d.Address)
	}
	for _, a := range addresses {
		if _, known := b.workers[a]; known {
			continue
		}
		row, err := b.Journal.AddBay(ctx, a)
		if err != nil {
			return fmt.Errorf("opening a bay for %s: %w", a, err)
		}
		b.start(b.addWorker(row))
	}
	for a, w := range b.workers {
		d, there := at[a]
		w.Attached(ctx, d, there)
	}
	return nil
}

// Describe implements protocol.Bench.
func (b *Bench) Describe() protocol.Description {
	return protocol.Description{Name: b.Name, Title: b.Title, Factor: b.Factor, Rework: b.AllowRework}
}

// Bond implements protocol.Bench.
func (b *Bench) Bond(ctx context.Context) (protocol.Bond, error) { return b.Journal.Bond(ctx) }

// Bind implements protocol.Bench.
func (b *Bench) Bind(ctx context.Context, shop string, after int64) error {
	return b.Journal.Bind(ctx, shop, after)
}

// Reports implements protocol.Bench.
func (b *Bench) Reports(ctx context.Context) ([]protocol.Report, error) {
	for {
		all, err := b.Journal.Reports(ctx)
		if err != nil || len(all) > 0 {
			return all, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-b.wake:
		}
	}
}

// Acknowledge implements protocol.Bench.
func (b *Bench) Acknowledge(ctx context.Context, seq int64) error {
	return b.Journal.Acknowledge(ctx, seq, time.Now())
}

// Resend implements protocol.Bench.
func (b *Bench) Resend(ctx context.Context, after int64) error {
	return b.Journal.Resend(ctx, after)
}

// Progress implements protocol.Bench.
func (b *Bench) Progress(context.Context) (<-chan protocol.Progress, error) {
	for {
		select {
		case <-b.progress: // meant for whoever listened before
			continue
		default:
		}
		b.audience.Add(1)
		return b.progress, nil
	}
}

// Audience implements worker.Bench.
func (b *Bench) Audience() int64 { return b.audience.Load() }

// Report keeps a report and wakes whoever waits for one. What the journal has no room for waits in memory, in its order, and is
// kept as soon as it has: a bay that has changed meanwhile would be told wrongly for ever.
func (b *Bench) Report(ctx context.Context, r protocol.Report) {
	b.unkeptMu.Lock()
	defer b.unkeptMu.Unlock()
	switch { // only how a bay or a run stands at last is of interest
	case r.Bay != nil:
		b.unkept = slices.DeleteFunc(b.unkept, func(o protocol.Report) bool { return o.Bay != nil && o.Bay.ID == r.Bay.ID })
	case r.Run != nil:
		b.forgetUnkept(r.Run.ID)
	}
	b.unkept = append(b.unkept, r)
	if b.keeping { // it is tried again already
		return
	}
	if err := b.keepReports(ctx); err != nil && ctx.Err() == nil {
		b.Log.Error("keeping a report in the journal; it waits until that has room", "error", err)
		b.keeping = true
		b.group.Go(func() { b.keepSoon(ctx) })
	}
}

// keepReports keeps what waits to be kept, until something fails. The caller holds the lock.
func (b *Bench) keepReports(ctx context.Context) error {
	for len(b.unkept) > 0 {
		keep := b.Journal.Report
		if b.unkept[0].Run != nil { // the journal is the authority on runs
			keep = func(ctx context.Context, r protocol.Report) error { return b.Journal.SaveRun(ctx, *r.Run) }
		}
		if err := keep(ctx, b.unkept[0]); err != nil {
			return err
		}
		b.unkept = b.unkept[1:]
	}
	b.Awake()
	return nil
}

func (b *Bench) keepSoon(ctx context.Context) {
	tick := time.NewTicker(worker.Again)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		b.unkeptMu.Lock()
		err := b.keepReports(ctx)
		if err == nil {
			b.keeping = false
		}
		b.unkeptMu.Unlock()
		if err == nil {
			b.Log.Info("the journal keeps reports again")
			return
		}
	}
}

func (b *Bench) Awake() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// RunFor finds the open run of a drive and moves it to the bay in which the drive answers. A drive on two paths answers in
// two bays; its run stays where it is.
func (b *Bench) RunFor(key drive.Key, bay drive.Bay) *check.Run {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, r := range b.runs {
		if r.Key == key {
			if r.Bay != bay && b.holds[b.addresses[r.Bay.Number]] == key {
				return nil
			}
			r.Bay = bay
			return r
		}
	}
	return nil
}

// Claim notes that a bay holds a drive, and tells whether no other does.
func (b *Bench) Claim(key drive.Key, at drive.Address) (alone bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.holds[at] = key
	for other, k := range b.holds {
		if other != at && k == key {
			return false
		}
	}
	return true
}

// Release notes that a bay holds its drive no more, and tells a bay that holds the same drive by another path.
func (b *Bench) Release(ctx context.Context, at drive.Address) {
	b.mu.Lock()
	defer b.mu.Unlock()
	key, held := b.holds[at]
	delete(b.holds, at)
	for other, k := range b.holds {
		if held && k == key {
			b.workers[other].Freed(ctx)
			return
		}
	}
}

// SaveRun implements worker.Bench.
func (b *Bench) SaveRun(ctx context.Context, r check.Run, ended ...check.Result) error {
	b.unkeptMu.Lock()
	defer b.unkeptMu.Unlock()
	if err := b.Journal.SaveRun(ctx, r, ended...); err != nil {
		return err
	}
	b.forgetUnkept(r.ID)
	b.stands(r)
	b.Awake()
	return nil
}

// KeepRun implements worker.Bench.
func (b *Bench) KeepRun(ctx context.Context, r check.Run) {
	b.stands(r)
	b.Report(ctx, protocol.Report{Run: &r})
}

// stands notes how a run stands; a finished one leaves the open ones.
func (b *Bench) stands(r check.Run) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r.State == check.Done {
		delete(b.runs, r.ID)
		return
	}
	b.runs[r.ID] = &r
}

// forgetUnkept drops what waits to be kept of a run that stands otherwise now. The caller holds unkeptMu.
func (b *Bench) forgetUnkept(run int64) {
	b.unkept = slices.DeleteFunc(b.unkept, func(o protocol.Report) bool { return o.Run != nil && o.Run.ID == run })
}

// Tell implements worker.Bench: it reports whether somebody will hear it.
func (b *Bench) Tell(p protocol.Progress) bool {
	if b.audience.Load() == 0 {
		return false
	}
	select {
	case b.progress <- p:
		return true
	default:
		return false
	}
}

// Opened implements worker.Bench.
func (b *Bench) Opened(r check.Run) {
	b.mu.Lock()
	b.runs[r.ID] = &r
	b.mu.Unlock()
	b.Awake()
}

// OpenRun implements worker.Bench.
func (b *Bench) OpenRun(id int64) (check.Run, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	r, ok := b.runs[id]
	if !ok {
		return check.Run{}, false
	}
	return *r, true
}

// Holds implements worker.Bench.
func (b *Bench) Holds(at drive.Address, key drive.Key, answers bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if delete(b.holds, at); answers {
		b.holds[at] = key
	}
}

// Held implements worker.Bench.
func (b *Bench) Held() map[drive.Bay]drive.Key {
	b.mu.Lock()
	defer b.mu.Unlock()
	all := map[drive.Bay]drive.Key{}
	for number, at := range b.addresses {
		if k, held := b.holds[at]; held {
			all[drive.Bay{Bench: b.Name, Number: number}] = k
		}
	}
	return all
}

// Go implements worker.Bench.
func (b *Bench) Go(f func()) { b.group.Go(f) }
