package sim

import (
	"context"
	"fmt"
	"os"
	"slices"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// filled is the pattern a drive was overwritten with, and how far.
type filled struct {
	Seed uint64 `json:"seed"`
	End  uint64 `json:"end"` // LBA behind the last sector written
}

// Uses implements device.Writable.
func (b *Bench) Uses(_ context.Context, d drive.Attachment) ([]string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if p, ok := b.places[d.Address]; ok && p.spec != nil && p.spec.Awkward.InUse != "" {
		return []string{p.spec.Awkward.InUse}, nil
	}
	return nil, nil
}

// OpenExclusive implements device.Writable.
func (b *Bench) OpenExclusive(_ context.Context, d drive.Attachment) (device.Exclusive, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	p, ok := b.places[d.Address]
	fail := func(class drive.FaultClass, back string) error {
		return &device.Failed{Class: class, What: "opening " + d.Node + " for writing", Cause: back}
	}
	switch {
	case !ok || p.spec == nil || p.out || fmt.Sprint(p.Instance) != d.Instance:
		return nil, fail(drive.FaultVanished, "the drive that was there is gone")
	case p.exclusive:
		return nil, fail(drive.FaultInUse, "something on this machine holds it")
	case p.Guarded:
		return nil, fail(drive.FaultNotAllowed, "it is set read-only at the block layer")
	}
	p.exclusive = true
	return &exclusive{attached: attached{bench: b, place: p, description: d}}, nil
}

// exclusive is a simulated surface opened for writing.
type exclusive struct{ attached }

// Close implements device.Exclusive.
func (x *exclusive) Close() error {
	x.bench.mu.Lock()
	defer x.bench.mu.Unlock()
	x.closed, x.place.exclusive = true, false
	x.bench.keep()
	return nil
}

// Fill implements device.Exclusive.
func (x *exclusive) Fill(
	ctx context.Context, p surface.Pattern, how device.Streaming, next func() (surface.Read, bool),
	told func(surface.Read, surface.Outcome),
) error {
	return x.stream(ctx, how, func(e surface.Extent, h *heads) (surface.Outcome, bool, error) {
		o, hangs, err := x.surface(e, h)
		if o.Cause == surface.Medium || o.Cause == surface.Whole {
			o.Cause = x.write(e)
			x.bench.mu.Lock()
			if f := x.place.Filled; f == nil || f.Seed != p.Seed {
				x.place.Filled = &filled{Seed: p.Seed}
			}
			x.place.Filled.End = max(x.place.Filled.End, e.End())
			x.bench.mu.Unlock()
		}
		return o, hangs, err
	}, next, told)
}

// write has an extent take what is written: a sector that could not be read is reallocated, unless the drive is past that. It
// gives the cause for which the write fails.
func (a *attached) write(e surface.Extent) surface.Cause {
	a.bench.mu.Lock()
	defer a.bench.mu.Unlock()
	p := a.place
	p.Wrote += e.Sectors
	bad := p.spec.unreadable(p.spec.hoursAt(a.bench.clock.Now(), p.Bayed), p)
	for _, at := range bad {
		if e.LBA >= at+p.spec.span() || at >= e.End() {
			continue
		}
		if p.spec.Stubborn {
			continue // it takes the write, and cannot be read after it either
		}
		if p.Healed == nil {
			p.Healed = map[uint64]bool{}
		}
		p.Healed[at] = true
		p.spec.mended = float64(len(p.Healed))
		a.bench.keep()
	}
	return surface.Whole
}

// compare is what a comparison with a pattern finds at an extent that can be read.
func (p *place) compare(e surface.Extent, with surface.Pattern) (o surface.Outcome) {
	f, room := p.Filled, p.spec.Holds
	if f == nil || f.Seed != with.Seed || f.End < e.End() {
		return surface.Outcome{Cause: surface.Altered, All: f == nil || f.Seed != with.Seed || f.End <= e.LBA}
	}
	if room == 0 || room >= f.End { // it has the room it claims
		return surface.Outcome{}
	}
	// What was written last to the place at which the LBA really lies: the highest LBA of that remainder.
	last := func(lba uint64) uint64 { return lba + (f.End-1-lba)/room*room }
	first, end := last(e.LBA), last(e.End()-1)
	switch {
	case first != e.LBA:
		return surface.Outcome{Cause: surface.Misplaced, From: first, All: end != e.End()-1}
	case end != e.End()-1:
		return surface.Outcome{Cause: surface.Misplaced, From: end}
	}
	return surface.Outcome{}
}

// single carries out one access, in the drive's own time.
func (x *exclusive) single(ctx context.Context, e surface.Extent) (surface.Outcome, error) {
	o, hangs, err := x.surface(e, &heads{noise: x.noise()})
	if err != nil {
		return o, err
	}
	if hangs {
		return o, &device.Failed{
			Class: drive.FaultStuck,
			What:  fmt.Sprintf("writing LBA %d of %s", e.LBA, x.description.Node),
			Cause: "no answer for 1m0s",
		}
	}
	return o, x.bench.clock.Sleep(ctx, o.Took)
}

// Mend implements device.Exclusive.
func (x *exclusive) Mend(ctx context.Context, e surface.Extent) (surface.Outcome, error) {
	o, err := x.single(ctx, e)
	if err == nil {
		o.Cause = x.write(e)
	}
	return o, err
}

// Save implements device.Exclusive. What simulated cells hold is never more than their place.
func (x *exclusive) Save(ctx context.Context, e surface.Extent, file string) (surface.Outcome, error) {
	o, err := x.single(ctx, e)
	if err == nil && o.Cause == surface.Whole {
		err = os.WriteFile(file, fmt.Appendf(nil, "%d+%d", e.LBA, e.Sectors), 0o600)
	}
	return o, err
}

// Restore implements device.Exclusive.
func (x *exclusive) Restore(_ context.Context, e surface.Extent, file string) (surface.Outcome, error) {
	kept, err := os.ReadFile(file)
	if err != nil || string(kept) != fmt.Sprintf("%d+%d", e.LBA, e.Sectors) {
		return surface.Outcome{}, &device.Failed{
			Class: drive.FaultNotRead,
			What:  "reading " + file,
			Cause: fmt.Sprintf("it is no copy of LBA %d: %q, %v", e.LBA, kept, err),
		}
	}
	o, err := x.single(context.Background(), e)
	if err == nil {
		o.Cause = x.write(e)
	}
	return o, err
}

// Wrote is how many sectors were written to the drive of a place since it was put in.
func (b *Bench) Wrote(at drive.Address) uint64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.place(at).Wrote
}

// waitingLBAs lists the sectors that wait, as the drive's own log has them: logical ones.
func (a *attached) waitingLBAs(h float64) []uint64 {
	bad := a.place.spec.unreadable(h, a.place)
	slices.Sort(bad)
	var all []uint64
	for _, at := range bad {
		for n := range a.place.spec.span() {
			all = append(all, at+n)
		}
	}
	return all
}
