package write

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// stretchBytes is how much an intent of an overwrite covers.
const stretchBytes = 256 << 20

// A rework is a sweep that writes: what goes over the surface, keeps the ribbon, waits, stops and resumes is the sweeper; the
// types below are device.Blocks whose reads write. Each write has an intent in the journal before it.
type writing struct {
	device.Exclusive
	journal  *journal.Journal
	consents *Consents
	run      int64
	step     int
	count    func(func(w *check.Written)) // changes the sweeper's count
	g        surface.Geometry
}

// allowed asks whether the release still holds; the error says that it does not.
func (w *writing) allowed() error {
	if w.consents.Hold(w.run, 0) {
		return nil
	}
	return &sweep.WithdrawnError{}
}

// intend commits what is about to be written.
func (w *writing) intend(ctx context.Context, e surface.Extent) error {
	if err := w.allowed(); err != nil {
		return err
	}
	if err := w.journal.Intend(context.WithoutCancel(ctx), w.run, w.step, e); err != nil {
		return &device.Failed{
			Class: drive.FaultNotRead,
			What:  fmt.Sprintf("storing that LBA %d is about to be written", e.LBA),
			Cause: err.Error(),
		}
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
func (m *mending) Stream(
	ctx context.Context, _ device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
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
	err = m.Exclusive.Stream(
		ctx, device.Streaming{Depth: 1}, func() (surface.Read, bool) { first := !done; done = true; return r, first },
		func(_ surface.Read, got surface.Outcome) { o = got },
	)
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
func (n *renewing) Stream(
	ctx context.Context, _ device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
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
			sectors := n.g.CountPhysical(r.Extent)
			if o, err = n.writeBack(ctx, r.Extent, func(w *check.Written) { w.Sectors += sectors }); err != nil {
				return err
			}
			o.Spent, o.Took = read+o.Took, read // the pace is that of reading
		}
		told(r, o)
	}
}

func (n *renewing) writeBack(ctx context.Context, e surface.Extent, counted func(*check.Written)) (surface.Outcome, error) {
	o, err := n.Restore(ctx, e, n.copy)
	if err != nil {
		return o, err
	}
	if o.Cause != surface.Whole {
		return o, &device.Failed{
			Class: drive.FaultMedium,
			What:  fmt.Sprintf("writing back LBA %d", e.LBA),
			Cause: "the drive refuses the write: " + o.Cause.String() + ". A copy of what stood there is in " + n.copy,
		}
	}
	n.count(counted)
	return o, n.fulfil(ctx)
}

// recover writes back what an end in the middle may have left half written.
func (n *renewing) recover(ctx context.Context) error {
	e, open, err := n.journal.Intent(ctx, n.run, n.step)
	if err != nil || !open {
		return err
	}
	if err := n.allowed(); err != nil { // the copy stays, for whoever is allowed again
		return err
	}
	sectors := n.g.CountPhysical(e)
	_, err = n.writeBack(ctx, e, func(w *check.Written) { w.Restored += sectors })
	return err
}

// overwriting writes the pattern, stretch by stretch.
type overwriting struct {
	*writing
	pattern surface.Pattern
}

// Stream writes the pattern everywhere. A stretch is intended as a whole, and the drive told to keep it before the next is.
func (o *overwriting) Stream(
	ctx context.Context, how device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
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
		var ended error
		err := o.Fill(ctx, o.pattern, how, func() (surface.Read, bool) {
			if ended = cmp.Or(ended, o.allowed()); ended != nil {
				return surface.Read{}, false
			}
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
		if err := cmp.Or(err, ended); err != nil {
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

// Opening is what a step of a rework is begun with.
type Opening struct {
	Source   device.Source
	Journal  *journal.Journal
	Consents *Consents
	Asked    Asked
	Identify func(context.Context) (drive.Key, *drive.Fault) // asks the drive for its name once its surface is held
	Run      check.Run
	Step     int
	Copy     string // the file that holds what a renewal is about to write back
}

// Hold opens the surface for a step of a rework and gives what the step does with it, as blocks whose reads write. The error is a
// *Refused, or says what failed.
func Hold(ctx context.Context, o Opening, g surface.Geometry, count func(func(w *check.Written))) (held sweep.Held, err error) {
	x, refused := Open(ctx, o.Source, o.Asked, o.Identify)
	for try := 0; refused != nil && refused.Reason == Held && try < heldTries; try++ {
		if err := (device.Wall{}).Sleep(ctx, heldPause); err != nil {
			return held, err
		}
		x, refused = Open(ctx, o.Source, o.Asked, o.Identify)
	}
	if refused != nil {
		return held, refused
	}
	held.Close = func() { _ = x.Close() }
	base := &writing{Exclusive: x, journal: o.Journal, consents: o.Consents, run: o.Run.ID, step: o.Step, count: count, g: g}
	switch o.Run.Steps[o.Step].Kind {
	case check.Mending:
		held.Blocks = &mending{base, map[uint64]bool{}}
	case check.Renewing:
		if err := os.MkdirAll(filepath.Dir(o.Copy), 0o700); err != nil {
			return held, fmt.Errorf("making the folder for the copy of what is renewed: %w", err)
		}
		n := &renewing{base, o.Copy}
		held.Blocks, held.Done = n, func() { _ = os.Remove(o.Copy) }
		return held, n.recover(ctx)
	default:
		held.Blocks = &overwriting{base, o.Run.Rework.Pattern}
	}
	return held, nil
}

// What was killed in the middle of a write lets go of the drive when the kernel has finished it.
const (
	heldTries = 20
	heldPause = 500 * time.Millisecond
)
