package bench

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/guard"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
)

// Sizes of what is written at a time.
const (
	renewBytes   = 8 << 20   // a renewal keeps a copy of that much on disk first
	stretchBytes = 256 << 20 // an overwrite's intent
)

// A rework is a sweep that writes: what goes over the surface, keeps the ribbon, waits, stops and resumes is the sweeper; the
// types below are device.Blocks whose reads write. Each write has an intent in the journal before it.
type writing struct {
	device.Exclusive
	journal *journal.Journal
	run     int64
	step    int
	count   func(func(w *check.Written)) // changes the sweeper's count
	g       surface.Geometry
}

// intend commits what is about to be written.
func (w *writing) intend(ctx context.Context, e surface.Extent) error {
	if err := w.journal.Intend(context.WithoutCancel(ctx), w.run, w.step, e); err != nil {
		return &device.Failed{Class: drive.FaultNotRead, What: fmt.Sprintf("storing that LBA %d is about to be written", e.LBA), Cause: err.Error()}
	}
	return nil
}

func (w *writing) fulfil(ctx context.Context) error {
	if err := w.journal.Fulfil(context.WithoutCancel(ctx), w.run, w.step); err != nil {
		return &device.Failed{Class: drive.FaultNotRead, What: "storing what is written", Cause: err.Error()}
	}
	return nil
}

// mending writes the sectors that cannot be read, one physical sector at a time, and reads each again.
type mending struct {
	*writing
	tried map[uint64]bool // written in this go: once is enough
}

// Stream reads each place; what cannot be read is written, unless the cause is not the surface, and read again.
func (m *mending) Stream(ctx context.Context, _ device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error {
	for {
		r, ok := next()
		if !ok {
			return nil
		}
		o, err := m.read(ctx, r)
		if err != nil {
			return err
		}
		switch {
		case m.tried[r.LBA]:
		case o.Cause == surface.Whole:
			m.count(func(w *check.Written) { w.Readable += m.g.CountPhysical(r.Extent) })
		case o.Cause.Unreadable():
			m.tried[r.LBA] = true
			if o, err = m.mend(ctx, r); err != nil {
				return err
			}
		}
		told(r, o)
	}
}

// read is one read through the descriptor that is held.
func (m *mending) read(ctx context.Context, r surface.Read) (o surface.Outcome, err error) {
	done := false
	err = m.Exclusive.Stream(ctx, device.Streaming{Depth: 1}, func() (surface.Read, bool) { first := !done; done = true; return r, first }, func(_ surface.Read, got surface.Outcome) { o = got })
	return o, err
}

func (m *mending) mend(ctx context.Context, r surface.Read) (o surface.Outcome, err error) {
	if err := m.intend(ctx, r.Extent); err != nil {
		return o, err
	}
	if o, err = m.Mend(ctx, r.Extent); err != nil {
		return o, err
	}
	n := m.g.CountPhysical(r.Extent)
	m.count(func(w *check.Written) { w.Sectors += n })
	if o.Cause == surface.Whole {
		if o, err = m.read(ctx, r); err != nil {
			return o, err
		}
	}
	if o.Cause == surface.Whole {
		m.count(func(w *check.Written) { w.Cleared += n })
	}
	return o, m.fulfil(ctx)
}

// renewing reads a stretch, keeps a copy of it on the machine's disk, and writes it back.
type renewing struct {
	*writing
	copy string // the file
}

// Stream renews each place that can be read, and leaves the others as they are.
func (n *renewing) Stream(ctx context.Context, _ device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error {
	for {
		r, ok := next()
		if !ok {
			return ctx.Err()
		}
		o, err := n.Save(ctx, r.Extent, n.copy)
		if err != nil {
			return err
		}
		if o.Cause == surface.Whole {
			read := o.Took
			if err := n.intend(ctx, r.Extent); err != nil {
				return err
			}
			if o, err = n.writeBack(ctx, r.Extent); err != nil {
				return err
			}
			o.Spent, o.Took = read+o.Took, read // the pace is that of reading
			n.count(func(w *check.Written) { w.Sectors += n.g.CountPhysical(r.Extent) })
		}
		told(r, o)
	}
}

func (n *renewing) writeBack(ctx context.Context, e surface.Extent) (surface.Outcome, error) {
	o, err := n.Restore(ctx, e, n.copy)
	if err != nil {
		return o, err
	}
	if o.Cause != surface.Whole {
		return o, &device.Failed{Class: drive.FaultMedium, What: fmt.Sprintf("writing back LBA %d", e.LBA), Cause: "the drive refuses the write: " + o.Cause.String() + ". A copy of what stood there is in " + n.copy}
	}
	return o, n.fulfil(ctx)
}

// recover writes back what an end in the middle may have left half written.
func (n *renewing) recover(ctx context.Context) error {
	e, open, err := n.journal.Intent(ctx, n.run, n.step)
	if err != nil || !open {
		return err
	}
	if _, err := n.writeBack(ctx, e); err != nil {
		return err
	}
	n.count(func(w *check.Written) { w.Restored += n.g.CountPhysical(e) })
	return nil
}

// overwriting writes the pattern, stretch by stretch.
type overwriting struct {
	*writing
	pattern surface.Pattern
}

// Stream writes the pattern everywhere. A stretch is intended as a whole, and the drive told to keep it before the next is.
func (o *overwriting) Stream(ctx context.Context, how device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error {
	stretch := uint64(stretchBytes / o.g.Logical)
	held, have := next()
	for have {
		intent := surface.Extent{LBA: held.LBA, Sectors: min(max(stretch, held.Sectors), o.g.Sectors-held.LBA)}
		if err := o.intend(ctx, intent); err != nil {
			return err
		}
		first := held
		have = false
		begun := false
		err := o.Fill(ctx, o.pattern, how, func() (surface.Read, bool) {
			if !begun {
				begun = true
				return first, true
			}
			if have {
				return surface.Read{}, false
			}
			r, ok := next()
			if ok && (r.LBA < intent.LBA || r.End() > intent.End()) {
				held, have = r, true
				return surface.Read{}, false
			}
			return r, ok
		}, func(r surface.Read, got surface.Outcome) {
			if got.Cause == surface.Whole {
				o.count(func(w *check.Written) { w.Sectors += o.g.CountPhysical(r.Extent) })
			}
			told(r, got)
		})
		if err != nil {
			return err
		}
		if !have { // it waits, or there is nothing more
			if err := o.fulfil(ctx); err != nil {
				return err
			}
			held, have = next()
		}
	}
	return ctx.Err()
}

// reworkBegins is the geometry with which a rework goes over the surface, and the spots of a mend.
func reworkBegins(kind check.Kind, w *check.Rework, g surface.Geometry) (surface.Geometry, []surface.Extent) {
	switch kind {
	case check.Mend:
		var spots []surface.Extent
		for _, t := range w.Targets {
			for lba := t.LBA; lba < min(t.End(), g.Sectors) && len(spots) < mostTargets; {
				p := g.PhysicalOf(lba)
				if len(spots) == 0 || spots[len(spots)-1] != p {
					spots = append(spots, p)
				}
				lba = p.End()
			}
		}
		return g, spots
	case check.Renew:
		g.Chunk = max(g.Chunk, renewBytes/g.Logical)
	default:
	}
	return g, nil
}

// mostTargets bounds a mend: a drive with more unreadable sectors is not worth one.
const mostTargets = 10_000

// asked is what the guard is asked about the run in the bay.
func (w *worker) asked(ctx context.Context, kind check.Kind, key drive.Key, rework *check.Rework) guard.Asked {
	bay := w.bay
	if source, ok := w.bench.Source.(device.Writable); ok { // what the bay says of it may be half a minute old
		if uses, err := source.Uses(ctx, bay.Device); err == nil {
			bay.Device.InUse = strings.Join(uses, ", ")
		}
	}
	w.bench.mu.Lock()
	others := map[int]drive.Key{}
	for bay, k := range w.bench.holds {
		others[bay] = k
	}
	w.bench.mu.Unlock()
	return guard.Asked{Kind: kind, Rework: rework, Key: key, Now: w.bench.clock.Now(), Allowed: w.bench.AllowRework, Bay: bay, Others: others, Identity: w.identity}
}

// writer opens the surface of the current run's drive for writing and gives what its step does with it.
func (w *worker) writer(ctx context.Context, s *sweeper) (device.Blocks, error) {
	r := w.current
	a := w.asked(ctx, r.Kind, r.Key, r.Rework)
	a.Begun = true // the release was used when the run was taken
	x, refused := guard.Open(ctx, w.bench.Source, a, w.session.Name)
	for try := 0; refused != nil && refused.Reason == guard.Held && try < heldTries; try++ {
		if err := (device.Wall{}).Sleep(ctx, heldPause); err != nil {
			return nil, err
		}
		x, refused = guard.Open(ctx, w.bench.Source, a, w.session.Name)
	}
	if refused != nil {
		return nil, refused
	}
	s.closes = func() { _ = x.Close() }
	base := &writing{Exclusive: x, journal: w.bench.Journal, run: r.ID, step: s.step, count: s.wrote, g: s.sweep.Geometry()}
	switch r.Steps[s.step].Kind {
	case check.Mending:
		return &mending{base, map[uint64]bool{}}, nil
	case check.Renewing:
		file := w.bench.copyOf(r.ID)
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			return nil, fmt.Errorf("making the folder for the copy of what is renewed: %w", err)
		}
		n := &renewing{base, file}
		s.done = func() { _ = os.Remove(file) }
		return n, n.recover(ctx)
	default:
	}
	return &overwriting{base, r.Rework.Pattern}, nil
}

// What was killed in the middle of a write lets go of the drive when the kernel has finished it.
const (
	heldTries = 20
	heldPause = 500 * time.Millisecond
)

// copyOf is the file that holds what a renewal is about to write back.
func (b *Bench) copyOf(run int64) string {
	return filepath.Join(b.Folder, "renewal", fmt.Sprintf("run-%d.copy", run))
}

// takeRework makes a run of an order that writes, or says why not.
func (w *worker) takeRework(ctx context.Context, o protocol.Order, r check.Run) error {
	asked := w.asked(ctx, o.Check, o.Key, o.Rework)
	refused := guard.Admit(asked)
	if refused == nil {
		refused = guard.Free(ctx, w.bench.Source, asked)
	}
	if refused != nil {
		return refused.Refusal(o.Check, w.bay.ID)
	}
	if err := w.bench.Journal.AddRework(ctx, r); err != nil {
		if errors.Is(err, journal.ErrUsed) {
			return (&guard.Refused{Reason: guard.Used, Class: drive.FaultNotAllowed, Cause: "this order has begun a rework already", Advice: "Order it again."}).Refusal(o.Check, w.bay.ID)
		}
		return err
	}
	return nil
}

// reworkTrouble makes an event of what kept a rework from beginning.
func reworkTrouble(kind check.Kind, err error) check.Event {
	if refused, ok := errors.AsType[*guard.Refused](err); ok {
		return check.Trouble{Fault: *refused.Fault(kind)}
	}
	return check.Trouble{Fault: *device.FaultOf("beginning to "+string(kind), err)}
}
