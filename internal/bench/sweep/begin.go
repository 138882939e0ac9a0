package sweep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
)

// Sizes of what a rework goes over at a time, and how much of a mend is worth it.
const (
	renewBytes  = 8 << 20 // a renewal keeps a copy of that much on disk first
	mostTargets = 10_000  // a drive with more unreadable sectors is not worth mending
)

// Plan tells how a sweep of a run would begin on a drive that has just been read, or why there can be none. No blocks: the surface cannot
// be read. A run without a sweep has neither.
func Plan(of *check.Run, r reading.Reading, blocks device.Blocks, now time.Time) (begin *check.Standing, why wording.Phrase) {
	kind := of.Kind
	switch {
	case !slices.ContainsFunc(kind.Plan(), check.StepKind.IsSweep):
		return nil, wording.Phrase{}
	case blocks == nil:
		return nil, wording.Say(wording.NoSurface)
	case r.Identity.Security.Locked:
		return nil, wording.Say(wording.SurfaceLocked, wording.Values{"by": string(r.Identity.Security.By)})
	}
	l := blocks.Limits()
	physical, alignment, rpm := l.Physical, l.Alignment, r.Identity.RotationRate
	if r.Identity.PhysicalSector > physical {
		physical, alignment = r.Identity.PhysicalSector, r.Identity.AlignmentOffset
	}
	if rpm == 0 && l.Rotates && r.Identity.Medium != drive.Flash {
		rpm = 7200 // most do; it only sets the measure of slowness
	}
	g, err := surface.NewGeometry(l.Bytes, l.Logical, physical, alignment, rpm, l.Most)
	if err != nil {
		return nil, wording.Literal(err.Error())
	}
	if kind == check.Renew {
		g.Chunk = max(g.Chunk, renewBytes/g.Logical)
	}
	s := &check.Standing{Geometry: g, HotAt: hotAt(r)}
	if has := r.Identity.Bytes; r.Identity.Interface != drive.NVMe && has > l.Bytes { // an NVMe drive's capacity is all its namespaces'
		s.Beyond = has - l.Bytes
	}
	if kind == check.Quick || kind == check.Spot {
		_, sample := surface.Spots(g, uint64(now.UnixNano()), near(r), surface.Strata(g, of.Limit.Surface))
		s.Sample = &sample
	}
	return s, wording.Phrase{}
}

// mendSpots are the physical sectors a mend goes over.
func mendSpots(targets []surface.Extent, g surface.Geometry) []surface.Extent {
	var spots []surface.Extent
	for _, t := range targets {
		for lba := t.LBA; lba < min(t.End(), g.Sectors) && len(spots) < mostTargets; {
			p := g.PhysicalOf(lba)
			if len(spots) == 0 || spots[len(spots)-1] != p {
				spots = append(spots, p)
			}
			lba = p.End()
		}
	}
	return spots
}

// NotHeldError says why the surface is not held for a step that writes.
type NotHeldError struct{ Err error }

func (e *NotHeldError) Error() string { return e.Err.Error() }

func (e *NotHeldError) Unwrap() error { return e.Err }

// WithdrawnError ends a step that writes: what allowed it does not hold any more.
type WithdrawnError struct{}

func (*WithdrawnError) Error() string {
	return "the release does not hold any more, or nobody has said so for a while"
}

// Begin begins a sweep, or goes on from its mark, beside whoever asks. The error says why there can be none, a *NotHeldError when its
// surface is not held; what was held for it is let go of.
func Begin(ctx context.Context, host Host, o Order) (*Sweeper, error) {
	m, kept, err := host.Journal.Mark(ctx, o.Run.ID, o.Step)
	if err != nil {
		return nil, err
	}
	step := o.Run.Steps[o.Step]
	begin := step.Standing
	g := begin.Geometry
	if l := o.Blocks.Limits(); l.Bytes != g.Bytes() {
		return nil, fmt.Errorf("the drive had %d bytes when it began, and has %d now", g.Bytes(), l.Bytes)
	}
	s := &Sweeper{
		host:     host,
		blocks:   o.Blocks,
		events:   o.Events,
		full:     o.Full,
		current:  o.Run,
		step:     o.Step,
		hotAt:    begin.HotAt,
		stopAt:   o.Run.Limit.StopAt,
		sample:   begin.Sample,
		measured: time.Now(),
		again:    make(chan struct{}, 1),
		marks:    make(chan mark, 1),
		finished: make(chan struct{}),
		idle:     make(chan struct{}),
		began:    host.Clock.Now(),
		from:     host.Clock.Now(),
		how:      device.Streaming{Depth: depthSpinning},
		untold:   map[int]bool{},
		unmarked: map[int]bool{},
		unstored: map[int]check.Block{},
	}
	if g.RPM == 0 {
		s.how = device.Streaming{Depth: depthFlash, Alone: true, Look: o.Run.Rework == nil}
	}
	if share := o.Run.Limit.Share; share > 0 && share < 100 {
		s.rest, s.how.Depth = 100-share, 1
	}
	var spots []surface.Extent
	if rework := o.Run.Rework; rework != nil {
		s.stopAt = 0
		if o.Run.Kind == check.Mend {
			spots = mendSpots(rework.Targets, g)
		}
		if step.Kind == check.Verifying {
			s.how.Compare, s.mostLost = &rework.Pattern, mostLost
		}
	}
	switch {
	case m != nil:
		ribbon := surface.NewRibbon(m.Geometry)
		for _, b := range kept {
			if err := ribbon.UnpackBlock(b.Number, b.Cells); err != nil {
				return nil, err
			}
			s.untold[b.Number] = true
		}
		if intent, open, err := host.Journal.Intent(ctx, o.Run.ID, o.Step); err != nil {
			return nil, err
		} else if open && step.Kind == check.Overwriting { // what was being written may not have been kept
			m.State.Rewind(m.Geometry, intent.LBA)
		}
		s.sweep, s.began, s.heat, s.written = surface.Resume(m.Geometry, m.State, ribbon), m.Began, m.Heat, m.Written
	case begin.Sample != nil:
		spots, sample := surface.Spots(g, begin.Sample.Seed, begin.Sample.Named, uint64(max(0, begin.Sample.Independent)))
		s.sweep, s.sample = surface.New(g, spots), &sample
	default:
		s.sweep = surface.New(g, spots)
	}
	s.sweep.Unjudged, s.course = step.Kind.Writes() || step.Kind == check.Comparing, s.sweep
	switch step.Kind {
	case check.Copying:
		if err := s.beginCopy(ctx, o); err != nil {
			return nil, err
		}
	case check.Comparing:
		if err := s.beginComparing(ctx, o); err != nil {
			return nil, err
		}
	default:
	}
	if step.Kind.Writes() {
		if o.Hold == nil {
			return nil, errors.New("nothing holds its surface for writing")
		}
		s.writes = true
		if s.held, err = o.Hold(ctx, s.sweep.Geometry(), s.wrote); err != nil {
			s.letGo(false)
			return nil, &NotHeldError{err}
		}
		s.blocks = s.held.Blocks
	}
	ctx, s.cancel = context.WithCancel(ctx)
	go s.loop(ctx)
	return s, nil
}

// Run is the number of the run it belongs to.
func (s *Sweeper) Run() int64 { return s.current.ID }

// HotAt is the temperature at which it is to wait, in °C.
func (s *Sweeper) HotAt() int { return s.hotAt }

// Wait waits until it has ended by itself and everything is stored.
func (s *Sweeper) Wait() { <-s.finished }

// Over reports whether it has ended by itself.
func (s *Sweeper) Over() bool {
	select {
	case <-s.finished:
		return true
	default:
		return false
	}
}
