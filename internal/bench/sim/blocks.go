package sim

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"lukechampine.com/blake3"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// Limits implements device.Blocks.
func (a *attached) Limits() device.Limits {
	id := &a.place.spec.Identity
	return device.Limits{
		Bytes:     id.Sectors * uint64(id.LogicalSector),
		Logical:   id.LogicalSector,
		Physical:  id.PhysicalSector,
		Alignment: id.Alignment,
		Most:      4 << 20,
		Rotates:   id.RotationRate > 1,
	}
}

// batch is how much simulated reading is done at once, in time of the wall: sleeping has a price.
const batch = 10 * time.Millisecond

// Stream implements device.Blocks: time passes as the drive's geometry, its heads and its damage have it.
func (a *attached) Stream(
	ctx context.Context, how device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	var keep *os.File
	if how.Keep != "" {
		var err error
		if keep, err = os.OpenFile(how.Keep, os.O_WRONLY, 0); err != nil {
			return &device.Unkept{File: how.Keep, Cause: err.Error()}
		}
		defer func() { _ = keep.Close() }()
	}
	return a.stream(ctx, how, func(e surface.Extent, h *heads) (surface.Outcome, bool, error) {
		o, hangs, err := a.surface(e, h)
		if keep != nil && err == nil && !hangs && o.Cause == surface.Whole {
			o.Sum, err = a.keep(keep, e)
		}
		if how.Compare != nil && err == nil && !hangs && o.Cause == surface.Whole {
			a.bench.mu.Lock()
			found := a.place.compare(e, *how.Compare)
			a.bench.mu.Unlock()
			o.Cause, o.All, o.From = found.Cause, found.All, found.From
		}
		if how.Look && err == nil && !hangs && o.Cause == surface.Whole {
			a.bench.mu.Lock()
			o.Looked, o.Empty = true, a.place.empty(e)
			a.bench.mu.Unlock()
		}
		return o, hangs, err
	}, next, told)
}

// empty counts the sectors of an extent that hold nothing: those beyond what is in use and what an overwrite reached.
func (p *place) empty(e surface.Extent) uint64 {
	used := uint64(p.spec.InUse * float64(p.spec.Identity.Sectors))
	if p.Filled != nil {
		used = max(used, p.Filled.End)
	}
	empty := e.End() - min(max(e.LBA, used), e.End())
	size := int(p.spec.Identity.LogicalSector)
	for _, c := range p.spec.Content {
		for i, lba := 0, c.LBA; i < len(c.Bytes); i, lba = i+size, lba+1 {
			if piece := c.Bytes[i:min(i+size, len(c.Bytes))]; e.Holds(lba) && lba >= used &&
				slices.ContainsFunc(piece, func(b byte) bool { return b != 0 }) {
				empty--
			}
		}
	}
	return empty
}

// Peek implements device.Peeker.
func (a *attached) Peek(_ context.Context, e surface.Extent) ([]byte, error) {
	id := &a.place.spec.Identity
	if e.Sectors == 0 || e.Sectors*uint64(id.LogicalSector) > device.MostPeek || e.LBA+e.Sectors > id.Sectors {
		return nil, &device.Failed{
			Class: drive.FaultNotRead,
			What:  fmt.Sprintf("reading LBA %d of %s", e.LBA, a.description.Node),
			Cause: "it is no peek, or beyond the end",
		}
	}
	o, hangs, err := a.surface(e, &heads{noise: a.noise()})
	if err != nil {
		return nil, err
	}
	if hangs || o.Cause != surface.Whole {
		return nil, &device.Failed{
			Class: drive.FaultBadAnswer,
			What:  fmt.Sprintf("reading LBA %d of %s", e.LBA, a.description.Node),
			Cause: o.Cause.String(),
		}
	}
	if content := a.place.content(e); content != nil {
		return content, nil
	}
	return make([]byte, e.Sectors*uint64(id.LogicalSector)), nil
}

// content is what an extent holds; nil: nothing but zeros.
func (p *place) content(e surface.Extent) (out []byte) {
	sector := uint64(p.spec.Identity.LogicalSector)
	from, to := e.LBA*sector, e.End()*sector
	for _, c := range p.spec.Content {
		start := c.LBA * sector
		first, end := max(from, start), min(to, start+uint64(len(c.Bytes)))
		if first >= end {
			continue
		}
		if out == nil {
			out = make([]byte, to-from)
		}
		copy(out[first-from:], c.Bytes[first-start:end-start])
	}
	return out
}

// keep writes an extent to a file, and gives its sum. What holds nothing takes no room there.
func (a *attached) keep(f *os.File, e surface.Extent) (sum [32]byte, err error) {
	a.bench.mu.Lock()
	content, sector := a.place.content(e), uint64(a.place.spec.Identity.LogicalSector)
	a.bench.mu.Unlock()
	if content == nil {
		return zeroSum(e.Sectors * sector), nil
	}
	if _, err := f.WriteAt(content, int64(e.LBA*sector)); err != nil {
		full := errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EFBIG)
		return sum, &device.Unkept{File: f.Name(), Cause: err.Error(), Full: full}
	}
	return blake3.Sum256(content), nil
}

var zeroSums sync.Map // by length

func zeroSum(length uint64) [32]byte {
	if sum, ok := zeroSums.Load(length); ok {
		return sum.([32]byte) //nolint:forcetypeassert // nothing else is stored
	}
	sum := blake3.Sum256(make([]byte, length))
	zeroSums.Store(length, sum)
	return sum
}

func (a *attached) noise() *rand.Rand {
	return rand.New(rand.NewPCG(a.place.spec.Seed, uint64(a.bench.clock.Now().UnixNano())))
}

// stream does something at each place that next gives.
func (a *attached) stream(
	ctx context.Context, how device.Streaming, do func(surface.Extent, *heads) (surface.Outcome, bool, error),
	next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	clock := a.bench.clock
	wall := time.Duration(float64(batch) * factorOf(clock))
	heads := &heads{noise: a.noise()}
	first := true
	due := clock.Now() // when the last one ended, by the drive's own time
	for {
		if err := ctx.Err(); err != nil { // where simulating takes longer than what is simulated, nothing sleeps
			return err
		}
		read, ok := next()
		if !ok {
			return clock.Sleep(ctx, due.Sub(clock.Now()))
		}
		if late := clock.Now().Sub(due); late > 4*wall { // the caller was busy with something else
			due = clock.Now()
		}
		outcome, hangs, err := do(read.Extent, heads)
		if err != nil {
			return err
		}
		if hangs {
			if err := clock.Sleep(ctx, time.Minute); err != nil {
				return err
			}
			return &device.Failed{
				Class: drive.FaultStuck,
				What:  fmt.Sprintf("reading LBA %d of %s", read.LBA, a.description.Node),
				Cause: "no answer for 1m0s",
			}
		}
		spent := outcome.Took
		outcome.Spent = spent
		if how.Alone { // the others are read meanwhile
			outcome.Took *= time.Duration(max(1, how.Depth))
		}
		due = due.Add(spent)
		if ahead := due.Sub(clock.Now()); ahead >= wall {
			if err := clock.Sleep(ctx, ahead); err != nil {
				return err
			}
		}
		outcome.Cold = first
		first = false
		told(read, outcome)
	}
}

func factorOf(c device.Clock) float64 {
	if c, ok := c.(*Clock); ok && c.Factor > 1 {
		return c.Factor
	}
	return 1
}

// heads is where the last read ended, and what was found out of the surface before it.
type heads struct {
	at     uint64
	noise  *rand.Rand
	bad    []uint64
	looked float64 // power-on hours at which bad was found out
	healed int
}

// surface reads an extent of the simulated platters or cells.
func (a *attached) surface(e surface.Extent, h *heads) (o surface.Outcome, hangs bool, err error) {
	a.bench.mu.Lock()
	defer a.bench.mu.Unlock()
	p, s := a.place, a.place.spec
	if a.closed || p.out || fmt.Sprint(p.Instance) != a.description.Instance {
		return o, false, &device.Failed{
			Class: drive.FaultVanished,
			What:  fmt.Sprintf("reading LBA %d of %s", e.LBA, a.description.Node),
			Cause: "the device is gone",
		}
	}
	p.Spun = true
	if s.Awkward.HangsOn != 0 {
		return o, true, nil
	}
	if s.Identity.Security.Locked {
		return surface.Outcome{Took: time.Millisecond, Cause: surface.Protected}, false, nil
	}
	now := a.bench.clock.Now()
	hours := s.hoursAt(now, p.Bayed)
	share := float64(e.LBA) / float64(s.Identity.Sectors)
	bytes := float64(e.Sectors) * float64(s.Identity.LogicalSector)
	took := bytes / s.speed(share) * (1 + 0.01*math.Abs(h.noise.NormFloat64()))
	turn := s.turn()
	if turn > 0 && e.LBA != h.at { // a seek, and half a revolution
		took += 0.003 + 0.008*math.Abs(share-float64(h.at)/float64(s.Identity.Sectors)) + turn*h.noise.Float64()
	}
	for _, slow := range s.Slow {
		if slow.LBA < e.End() && e.LBA < slow.LBA+slow.Sectors {
			if turn > 0 {
				took += slow.Costs * turn
			} else {
				took *= slow.Costs
			}
		}
	}
	h.at = e.End()
	if p.Running != nil { // it shares its time with its own test
		took *= 2
	}
	if h.bad == nil || hours-h.looked > 0.01 || len(p.Healed) != h.healed { // half a minute: no flaw comes sooner
		h.bad, h.looked, h.healed = s.unreadable(hours, p), hours, len(p.Healed)
	}
	if slices.ContainsFunc(h.bad, func(at uint64) bool { return e.LBA < at+s.span() && at < e.End() }) {
		took += map[bool]float64{true: 0.02, false: 1.8}[turn == 0]
		o.Cause = surface.Medium
	}
	o.Took = time.Duration(took * 1e9)
	return o, false, nil
}

// turn is the time of a revolution in seconds; 0 for flash.
func (s *Spec) turn() float64 {
	if s.Identity.RotationRate > 1 {
		return 60 / float64(s.Identity.RotationRate)
	}
	return 0
}

// speed is the streaming rate at a share of the capacity, in bytes per second: of a spinning drive at constant density it
// falls with the radius, to half at the inner edge.
func (s *Spec) speed(share float64) float64 {
	outer := s.Outer
	switch {
	case outer > 0:
	case s.NVMe != nil:
		outer = 2.4e9
	case s.turn() == 0:
		outer = 520e6
	default:
		outer = 26_000 * float64(s.Identity.RotationRate)
	}
	if s.turn() == 0 {
		return outer
	}
	return outer * math.Sqrt(1-0.75*min(1, share))
}

// span is how many logical sectors a physical one has.
func (s *Spec) span() uint64 { return uint64(s.perPhysical()) }

// unreadable lists the first LBAs of the physical sectors that cannot be read at h hours. Damage comes in clusters: most
// flaws lie close to the one before (SIGMETRICS 2007).
func (s *Spec) unreadable(h float64, p *place) []uint64 {
	from := 0
	n := int(s.Unread.At(h, s.seedOf("unread")))
	if s.Wait > 0 || s.Defects != (Course{}) {
		from = int(s.reallocated(h))
		n += int(s.waiting(h))
	}
	all := []uint64{}
	if n == 0 {
		return all
	}
	r := rand.New(rand.NewPCG(s.seedOf("places"), 3))
	at := uint64(s.FirstLBA)
	if at == 0 {
		at = r.Uint64N(s.Identity.Sectors)
	}
	for i := range from + n {
		if i > 0 {
			if at += 8 * (1 + r.Uint64N(40)); r.IntN(6) == 0 {
				at += r.Uint64N(s.Identity.Sectors / 50)
			}
		}
		at = at % s.Identity.Sectors / s.span() * s.span()
		if i >= from && !p.healed(at) {
			all = append(all, at)
		}
	}
	return all
}

func (p *place) healed(lba uint64) bool { return p.Healed[lba] }

// Truth lists what cannot be read of the drive in a place, for tests that compare with what was found: the first LBA of each
// physical sector, sorted.
func (b *Bench) Truth(at drive.Address) []uint64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	p := b.place(at)
	all := p.spec.unreadable(p.spec.hoursAt(b.clock.Now(), p.Bayed), p)
	slices.Sort(all)
	return slices.Compact(all)
}
