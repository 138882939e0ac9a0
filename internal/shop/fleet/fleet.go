// Package fleet is the benches of a shop, any number of them, each behind protocol.Bench. It brings an order to the bench whose bay
// it names, takes the benches' reports in their order, and sees to it that a bench and a shop whose records are not of the same
// past do not work together. Start with New and Join.
package fleet

import (
	"context"
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
	log     *slog.Logger
	benches []protocol.Bench // by name, the shop's own first; never changed
}

// New makes a fleet of benches. Their names differ; the shop's own has none.
func New(log *slog.Logger, benches ...protocol.Bench) (*Fleet, error) {
	f := &Fleet{log: log, benches: slices.Clone(benches)}
	slices.SortFunc(f.benches, func(a, b protocol.Bench) int { return strings.Compare(a.Describe().Name, b.Describe().Name) })
	for i, b := range f.benches {
		name := b.Describe().Name
		if name != "" && !drive.BenchName(name) {
			return nil, fmt.Errorf("%q cannot name a bench: lower-case letters, digits and hyphens, the first a letter, and not bay", name)
		}
		if i > 0 && name == f.benches[i-1].Describe().Name {
			return nil, fmt.Errorf("two benches are called %q", name)
		}
	}
	return f, nil
}

// Benches describes the benches, the shop's own first.
func (f *Fleet) Benches() []protocol.Description {
	all := make([]protocol.Description, len(f.benches))
	for i, b := range f.benches {
		all[i] = b.Describe()
	}
	return all
}

// bench finds a bench by its name.
func (f *Fleet) bench(name string) (protocol.Bench, bool) {
	i := slices.IndexFunc(f.benches, func(b protocol.Bench) bool { return b.Describe().Name == name })
	if i < 0 {
		return nil, false
	}
	return f.benches[i], true
}

// Has reports whether there is a bench of that name.
func (f *Fleet) Has(name string) bool {
	_, ok := f.bench(name)
	return ok
}

// Order gives an order to the bench whose bay it names. The error is a *protocol.Refusal, or says why the bench was not reached.
func (f *Fleet) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	b, ok := f.bench(o.Bay.Bench)
	if !ok {
		return protocol.Receipt{}, &protocol.Refusal{
			Class:  drive.FaultNoAnswer,
			What:   fmt.Sprintf("%s in %s", o.Kind, o.Bay.Words()),
			Cause:  "that bench is not here",
			Advice: "List the bays.",
		}
	}
	receipt, err := b.Order(ctx, o)
	if receipt.Run != nil { // a bench knows no other's bays
		receipt.Run.Bay.Bench = o.Bay.Bench
	}
	return receipt, err
}

// again is after how long a report that could not be taken in is tried again.
const again = 2 * time.Second

// Run takes the reports of all benches in, each bench's one after the other, and passes their progress on, until the context ends.
func (f *Fleet) Run(ctx context.Context, to Taker) {
	var all sync.WaitGroup
	for _, b := range f.benches {
		all.Go(func() { f.reports(ctx, b, to) })
		all.Go(func() { f.progress(ctx, b, to) })
	}
	all.Wait()
}

func (f *Fleet) progress(ctx context.Context, b protocol.Bench, to Taker) {
	name := b.Describe().Name
	for {
		select {
		case <-ctx.Done():
			return
		case p := <-b.Progress():
			p.Run.Bay.Bench = name
			to.Progressed(name, p)
		}
	}
}

func (f *Fleet) reports(ctx context.Context, b protocol.Bench, to Taker) {
	for ctx.Err() == nil {
		err := f.take(ctx, b, to)
		if err == nil || ctx.Err() != nil {
			continue
		}
		// The bench keeps what is not acknowledged: nothing is lost while, say, a disk is full, and what comes twice is taken in once.
		f.log.Error("taking a report in; it stays with the bench and is tried again", "bench", b.Describe().Title, "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
	}
}

// take takes in what a bench reports, one after the other, until something fails.
func (f *Fleet) take(ctx context.Context, b protocol.Bench, to Taker) error {
	reports, err := b.Reports(ctx)
	if err != nil {
		return fmt.Errorf("asking for reports: %w", err)
	}
	name := b.Describe().Name
	for _, r := range reports {
		stamp(&r, name)
		if err := to.Take(ctx, name, r); err != nil {
			return fmt.Errorf("storing report %d: %w", r.Seq, err)
		}
		if err := b.Acknowledge(ctx, r.Seq); err != nil {
			return fmt.Errorf("acknowledging report %d: %w", r.Seq, err)
		}
	}
	return nil
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
