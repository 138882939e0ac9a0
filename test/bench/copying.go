package main

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"hylostat.example/internal/core/surface"
)

// Failing drives that are copied: made up, with the times of a spinning drive of 7 200/min. Copies of ours are compared with two plain ways
// to copy and with one that knows beforehand what cannot be read.
const (
	copyLives   = 500
	copyBytes   = 1e12
	copyRate    = 150e6  // bytes per second, everywhere
	copySeek    = 12e6   // ns, half a revolution with it
	copyFailing = 1800e6 // ns a read takes longer that fails
	copyUse     = 0.4    // share in use
	copyWhole   = 6667   // seconds to read all of it
)

// flaw is what cannot be read from a moment on.
type flaw struct {
	surface.Extent
	from time.Duration
}

// dying is a drive and its time.
type dying struct {
	g     surface.Geometry
	flaws []flaw // by LBA
	used  []surface.Extent
	dies  time.Duration
	now   time.Duration
	at    uint64
}

// read takes its time, and reports whether it went well.
func (d *dying) read(e surface.Extent) surface.Outcome {
	took := float64(e.Sectors) * float64(d.g.Logical) / copyRate * 1e9
	if d.at != e.LBA {
		took += copySeek
	}
	d.at = e.End()
	o := surface.Outcome{}
	i, _ := slices.BinarySearchFunc(d.flaws, e.LBA, func(f flaw, lba uint64) int {
		if f.End() <= lba {
			return -1
		}
		return 1
	})
	for ; i < len(d.flaws) && d.flaws[i].LBA < e.End(); i++ {
		if d.flaws[i].from <= d.now {
			o.Cause = surface.Medium
			took += copyFailing
			break
		}
	}
	o.Took = time.Duration(took)
	d.now += o.Took
	return o
}

// copyModes are the ways to fail.
var copyModes = []struct {
	name  string
	flaws func(r *rand.Rand, g surface.Geometry) []flaw
}{
	{"scattered", func(r *rand.Rand, g surface.Geometry) (all []flaw) {
		for range 5 + r.IntN(100) {
			all = append(all, flaw{Extent: g.PhysicalOf(r.Uint64N(g.Sectors))})
		}
		return all
	}},
	{"clustered", func(r *rand.Rand, g surface.Geometry) (all []flaw) {
		for range 2 + r.IntN(12) {
			width := 8000 + r.Uint64N(500_000)
			at := r.Uint64N(g.Sectors - width)
			for range 50 + r.IntN(1000) {
				all = append(all, flaw{Extent: g.PhysicalOf(at + r.Uint64N(width))})
			}
		}
		return all
	}},
	{"head loss", func(r *rand.Rand, g surface.Geometry) (all []flaw) {
		heads, stretch, back := 2+r.Uint64N(7), float64(100_000+r.IntN(300_000)), r.IntN(2) == 0
		dead, n := r.Uint64N(heads), uint64(0)
		for at := 0.0; at < float64(g.Sectors); n++ {
			head, size := n%heads, stretch*(1-0.5*at/float64(g.Sectors))
			if back && n/heads%2 == 1 {
				head = heads - 1 - head
			}
			if head == dead {
				all = append(all, flaw{Extent: surface.Extent{LBA: uint64(at) / 8 * 8, Sectors: uint64(size) / 8 * 8}})
			}
			at += size
		}
		return all
	}},
	{"dying", func(r *rand.Rand, g surface.Geometry) (all []flaw) { // more and more, about the places that there are
		at, grows := r.Uint64N(g.Sectors), time.Duration(int64(copyWhole*1000))*time.Millisecond
		for range 200 + r.IntN(2000) {
			if r.IntN(8) == 0 {
				at = r.Uint64N(g.Sectors)
			}
			at = (at + r.Uint64N(3000)) % g.Sectors
			share := r.Float64()
			all = append(all, flaw{g.PhysicalOf(at), time.Duration((1 - share*share) * float64(grows))})
		}
		return all
	}},
}

// failingDrive makes up one.
func failingDrive(r *rand.Rand, flaws func(*rand.Rand, surface.Geometry) []flaw) (*dying, error) {
	g, err := surface.NewGeometry(copyBytes, 512, 4096, 0, 7200, 0)
	if err != nil {
		return nil, err
	}
	d := &dying{g: g, flaws: flaws(r, g), dies: time.Duration((0.2 + 1.3*r.Float64()) * copyWhole * 1e9)}
	slices.SortFunc(d.flaws, func(a, b flaw) int { return cmp.Compare(a.LBA, b.LBA) })
	for at := uint64(0); at < g.Sectors; {
		length := 20_000 + r.Uint64N(40_000_000)
		d.used = append(d.used, surface.Extent{LBA: at, Sectors: min(length, g.Sectors-at)})
		at += length + uint64(float64(length)*(1/copyUse-1)*(0.5+r.Float64()))
	}
	return d, nil
}

// again is the same drive, before anything was read.
func (d *dying) again() *dying {
	fresh := *d
	fresh.now, fresh.at = 0, 0
	return &fresh
}

func (d *dying) inUse() (sum uint64) {
	for _, e := range d.used {
		sum += e.Sectors
	}
	return sum
}

// ours copies until the drive dies, or until a share of what is in use is there, and gives that share.
func (d *dying) ours(until float64) float64 {
	m := surface.NewMap(d.g.Sectors)
	c := surface.NewCopy(
		d.g, [][]surface.Extent{d.used}, m, surface.State{}, surface.NewRibbon(d.g), surface.DefaultCopyLimits,
	)
	all := float64(d.inUse())
	for n := 0; d.now < d.dies; n++ {
		read, ok := c.Next()
		if !ok {
			break
		}
		c.Tell(read, d.read(read.Extent))
		if until < 1 && n%100 == 0 && float64(m.SumIn(d.used, surface.Copied)) >= until*all {
			break
		}
	}
	return float64(m.SumIn(d.used, surface.Copied)) / all
}

// inOrder copies chunk by chunk; with retries, what fails is read again at once, sector by sector, three times each.
func (d *dying) inOrder(retries bool, until float64) float64 {
	m, all := surface.NewMap(d.g.Sectors), float64(d.inUse())
	keep := func(e surface.Extent) bool {
		if d.read(e).Cause != surface.Whole {
			return false
		}
		m.Set(surface.Part{Extent: e, Kept: surface.Copied})
		return true
	}
	for lba := uint64(0); lba < d.g.Sectors && d.now < d.dies; lba += uint64(d.g.Chunk) {
		e := surface.Extent{LBA: lba, Sectors: min(uint64(d.g.Chunk), d.g.Sectors-lba)}
		if !keep(e) && retries {
			for at := e.LBA; at < e.End() && d.now < d.dies; at += 8 {
				single := surface.Extent{LBA: at, Sectors: min(8, e.End()-at)}
				for n := 0; n < 3 && d.now < d.dies && !keep(single); n++ {
				}
			}
		}
		if until < 1 && lba/uint64(d.g.Chunk)%100 == 0 && float64(m.SumIn(d.used, surface.Copied)) >= until*all {
			break
		}
	}
	return float64(m.SumIn(d.used, surface.Copied)) / all
}

// foresight reads what is in use and never fails, in order, and nothing else.
func (d *dying) foresight() float64 {
	seconds, sum, i := 0.0, 0.0, 0
	for _, e := range d.used {
		good := float64(e.Sectors)
		for ; i < len(d.flaws) && d.flaws[i].End() <= e.LBA; i++ {
		}
		for n := i; n < len(d.flaws) && d.flaws[n].LBA < e.End(); n++ {
			if f := d.flaws[n]; f.from <= time.Duration(seconds*1e9) {
				good -= float64(min(f.End(), e.End()) - max(f.LBA, e.LBA))
			}
		}
		takes := max(0, good) * float64(d.g.Logical) / copyRate
		if left := d.dies.Seconds() - seconds; takes > left {
			good, takes = good*max(0, left)/takes, left
		}
		sum, seconds = sum+max(0, good), seconds+takes
	}
	return sum / float64(d.inUse())
}

// copying compares what is saved before drives die, and how soon most of it is there.
func copying(context.Context, string) (all []figure, err error) {
	for _, mode := range copyModes {
		var ours, plain, retries, best float64
		for n := range copyLives / len(copyModes) {
			d, err := failingDrive(rand.New(rand.NewPCG(uint64(n), uint64(len(mode.name)))), mode.flaws)
			if err != nil {
				return nil, err
			}
			ours += d.again().ours(1)
			plain += d.again().inOrder(false, 1)
			retries += d.again().inOrder(true, 1)
			best += d.foresight()
		}
		fmt.Printf("%-10s saved %.4f of what is in use; in order %.4f, with retries %.4f, with foresight %.4f\n", mode.name,
			ours*float64(len(copyModes))/copyLives, plain*float64(len(copyModes))/copyLives, retries*float64(len(copyModes))/copyLives,
			best*float64(len(copyModes))/copyLives)
		name := map[string]string{"head loss": "head_loss"}[mode.name]
		name = cmp.Or(name, mode.name)
		all = append(all, above("copy."+name+"_over_plain", ours/max(plain, retries), "", 1))
		if least := map[string]float64{"scattered": 0.99, "head loss": 0.9}[mode.name]; least > 0 {
			all = append(all, above("copy."+name+"_of_foresight", ours/best, "", least))
		}
	}
	var took, inOrder float64
	for n := range 20 {
		d, err := failingDrive(rand.New(rand.NewPCG(uint64(n), 95)), func(r *rand.Rand, g surface.Geometry) (all []flaw) {
			for range 200 {
				all = append(all, flaw{Extent: g.PhysicalOf(r.Uint64N(g.Sectors))})
			}
			return all
		})
		if err != nil {
			return nil, err
		}
		d.dies = time.Duration(1 << 62)
		a, b := d.again(), d.again()
		a.ours(0.95)
		b.inOrder(false, 0.95)
		took, inOrder = took+a.now.Seconds(), inOrder+b.now.Seconds()
	}
	return append(all, below("copy.time_to_95", took/inOrder, "", 0.55)), nil
}
