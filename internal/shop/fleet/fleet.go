// Package fleet is the benches of a shop, any number of them, each behind protocol.Bench. It brings an order to the bench whose bay
// it names, takes the benches' reports in their order, and sees to it that a bench and a shop whose records are not of the same
// past do not work together. Benches come and go. Start with New, Join and Attend.
package fleet

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// Taker is told what benches have to tell.
type Taker interface {
	// Take stores a report, once, whichever time it comes.
	Take(ctx context.Context, bench string, r protocol.Report) error
	// Progressed hears how a run stands.
	Progressed(bench string, p protocol.Progress)
}

// Fleet is the benches of a shop.
type Fleet struct {
	log *slog.Logger
	mu  sync.Mutex // guards what follows
	all []*seat    // by name, the shop's own first

	back bool // the shop was brought back from a copy: its benches may be newer than it, or new
}

// seat is the place of a bench, which comes and goes.
type seat struct {
	said  protocol.Description // when it was here last
	bench protocol.Bench       // nil: it is away
	since time.Time            // it is away
	why   string               // it may not work with the shop, if that is so
	back  chan struct{}        // closed when it comes
}

// Standing is a bench as it stands.
type Standing struct {
	protocol.Description
	Away bool   // it is not connected
	Why  string // it may not be, if that is so
}

// New makes a fleet. It is to have those benches, which come later; their names differ, and the shop's own has none.
func New(log *slog.Logger, expected ...protocol.Description) (*Fleet, error) {
	f := &Fleet{log: log}
	for _, d := range expected {
		if err := f.expect(d); err != nil {
			return nil, err
		}
	}
	return f, nil
}

func (f *Fleet) expect(d protocol.Description) error {
	if d.Name != "" && !drive.BenchName(d.Name) {
		return fmt.Errorf("%q cannot name a bench: lower-case letters, digits and hyphens, the first a letter, and not bay", d.Name)
	}
	i, found := slices.BinarySearchFunc(f.all, d.Name, func(s *seat, name string) int { return strings.Compare(s.said.Name, name) })
	if found {
		return fmt.Errorf("two benches are called %q", d.Name)
	}
	f.all = slices.Insert(f.all, i, &seat{said: d, since: time.Now(), back: make(chan struct{})})
	return nil
}

// BroughtBack tells the fleet that the shop was brought back from a copy, before its benches come.
func (f *Fleet) BroughtBack() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.back = true
}

// Benches tells how the benches stand, the shop's own first.
func (f *Fleet) Benches() []Standing {
	f.mu.Lock()
	defer f.mu.Unlock()
	all := make([]Standing, len(f.all))
	for i, s := range f.all {
		all[i] = Standing{s.said, s.bench == nil, s.why}
	}
	return all
}

// seat finds the place of a bench. The caller holds the lock.
func (f *Fleet) seat(name string) *seat {
	if i := slices.IndexFunc(f.all, func(s *seat) bool { return s.said.Name == name }); i >= 0 {
		return f.all[i]
	}
	return nil
}

// Has reports whether there is a bench of that name, here or away.
func (f *Fleet) Has(name string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.seat(name) != nil
}

// here seats a bench that has come.
func (f *Fleet) here(b protocol.Bench) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if s := f.seat(b.Describe().Name); s.bench == nil {
		s.said, s.bench, s.why = b.Describe(), b, ""
		close(s.back)
	}
}

// left frees the seat of a bench that is gone.
func (f *Fleet) left(b protocol.Bench) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if s := f.seat(b.Describe().Name); s != nil && s.bench == b {
		s.bench, s.since, s.back = nil, time.Now(), make(chan struct{})
	}
}

// turned keeps why a bench may not work with the shop.
func (f *Fleet) turned(name string, why error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if s := f.seat(name); s != nil && s.bench == nil {
		s.why = why.Error()
	}
}

// patience is how long an order waits for a bench that has just gone: it may be started anew.
const patience = 10 * time.Second

// Order gives an order to the bench whose bay it names. One that went away before it answered is given the order again when it is back; it
// carries it out once. The error is a *protocol.Refusal, or says why the bench was not reached.
func (f *Fleet) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	if o.ID == "" {
		o.ID = rand.Text()
	}
	refuse := func(cause, advice string) error {
		return &protocol.Refusal{
			Class: drive.FaultNoAnswer, What: fmt.Sprintf("%s in %s", o.Kind, o.Bay.Words()), Cause: cause, Advice: advice,
		}
	}
	given := false
	for {
		f.mu.Lock()
		s := f.seat(o.Bay.Bench)
		if s == nil {
			f.mu.Unlock()
			return protocol.Receipt{}, refuse("that bench is not here", "List the bays.")
		}
		b, back, wait, title, why := s.bench, s.back, patience-time.Since(s.since), s.said.Title, s.why
		f.mu.Unlock()
		if b != nil {
			receipt, err := b.Order(ctx, o)
			if errors.Is(err, protocol.ErrGone) && ctx.Err() == nil {
				given = true
				f.left(b)
				continue
			}
			if receipt.Run != nil { // a bench knows no other's bays
				receipt.Run.Bay.Bench = o.Bay.Bench
			}
			return receipt, err
		}
		select {
		case <-back:
			continue
		case <-ctx.Done():
		case <-time.After(wait):
		}
		switch {
		case given:
			return protocol.Receipt{}, refuse(
				title+" went away before it answered", "Whether it has taken the order shows when it is back: look at the bay then.",
			)
		case why != "":
			return protocol.Receipt{}, refuse(title+" may not work for this shop", why)
		}
		return protocol.Receipt{}, refuse(title+" is not connected", "Start its program, or look into its log.")
	}
}

// again is after how long a report that could not be taken in is tried again.
const again = 2 * time.Second

// Attend takes the reports of a bench that has joined in, one after the other, and passes its progress on, until the context or the bench
// ends. The error is protocol.ErrGone.
func (f *Fleet) Attend(ctx context.Context, b protocol.Bench, to Taker) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	defer f.left(b)
	moves, err := b.Progress(ctx)
	if err != nil {
		return fmt.Errorf("listening to %s: %w", b.Describe().Title, err)
	}
	var beside sync.WaitGroup
	defer beside.Wait()
	defer end()
	beside.Go(func() { progress(ctx, b.Describe().Name, moves, to) })
	for ctx.Err() == nil {
		err := f.take(ctx, b, to)
		if err == nil || ctx.Err() != nil {
			continue
		}
		if errors.Is(err, protocol.ErrGone) {
			return err
		}
		// The bench keeps what is not acknowledged: nothing is lost while, say, a disk is full, and what comes twice is taken in once.
		f.log.Error("taking a report in; it stays with the bench and is tried again", "bench", b.Describe().Title, "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
	}
	return nil
}

func progress(ctx context.Context, name string, moves <-chan protocol.Progress, to Taker) {
	for {
		select {
		case <-ctx.Done():
			return
		case p, ok := <-moves:
			if !ok { // its bench is gone
				return
			}
			p.Run.Bay.Bench = name
			to.Progressed(name, p)
		}
	}
}

// take takes in what a bench reports, one after the other, until something fails. Beside that the bench is told how far it went: while one
// word is on its way, of several more the last is enough. What is taken in without the bench knowing is told again, and taken in once.
func (f *Fleet) take(ctx context.Context, b protocol.Bench, to Taker) error {
	reports, err := b.Reports(ctx)
	if err != nil {
		return fmt.Errorf("asking for reports: %w", err)
	}
	taken, told := make(chan int64, 1), make(chan error, 1)
	go func() {
		var err error
		for seq := range taken {
			if err == nil {
				err = b.Acknowledge(ctx, seq)
			}
		}
		told <- err
	}()
	name := b.Describe().Name
	for _, r := range reports {
		stamp(&r, name)
		if err = to.Take(ctx, name, r); err != nil {
			err = fmt.Errorf("storing report %d: %w", r.Seq, err)
			break
		}
		select {
		case <-taken:
		default:
		}
		taken <- r.Seq
	}
	close(taken)
	if unheard := <-told; unheard != nil {
		err = errors.Join(err, fmt.Errorf("acknowledging reports: %w", unheard))
	}
	return err
}

// stamp has a report speak of bays of the bench it came from, and of no other's.
func stamp(r *protocol.Report, bench string) {
	switch {
	case r.Bay != nil:
		r.Bay.ID.Bench = bench
	case r.Reading != nil:
		r.Reading.Bay.Bench = bench
	case r.Run != nil:
		r.Run.Bay.Bench = bench
	case r.Unanswered != nil:
		r.Unanswered.Bay.Bench = bench
	case r.Volumes != nil:
		r.Volumes.Bay.Bench = bench
	}
}
