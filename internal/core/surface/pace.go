package surface

import (
	"slices"
	"time"
)

// Classes is how many classes of slowness there are; SlowFrom is the first that makes a place slow.
const (
	Classes  = 6
	SlowFrom = 3
)

// What a class may cost: revolutions lost beyond the local streaming time on a spinning drive, multiples of the local median
// on flash. A spinning drive's retry costs a revolution, so its classes count those.
var (
	revolutionsBelow = [Classes - 1]float64{0.5, 2, 4, 8, 16}
	multiplesBelow   = [Classes - 1]float64{2, 4, 8, 16, 64}
)

// settles is how many reads it takes until the local norm is known; window is how many reads it is taken from.
const (
	settles = 16
	window  = 101
)

// pace knows the local norm: the median time per sector of the last reads that were not slow themselves. The norm follows a
// drive whose speed changes along its surface; a slow place does not become its own norm, however long it is, unless it
// is a step to another, steady, not much slower speed, as flash makes between empty and written parts.
type pace struct {
	revolution float64 // ns; 0: flash
	local      latest  // reads that were not slow
	all        latest  // every read
	shifted    int     // reads of class 2 in a row
}

// latest keeps the last reads of a kind, in ns per sector, and their order by time and by size.
type latest struct {
	ring   [window]float64
	sorted []float64
	next   int
}

func (l *latest) add(per float64) {
	if len(l.sorted) == window {
		i, _ := slices.BinarySearch(l.sorted, l.ring[l.next])
		l.sorted = slices.Delete(l.sorted, i, i+1)
	}
	l.ring[l.next] = per
	l.next = (l.next + 1) % window
	i, _ := slices.BinarySearch(l.sorted, per)
	l.sorted = slices.Insert(l.sorted, i, per)
}

func newPace(g Geometry) *pace {
	p := &pace{}
	if g.RPM > 0 {
		p.revolution = 60e9 / float64(g.RPM)
	}
	return p
}

func (p *pace) ready() bool { return len(p.local.sorted) >= settles }

// add takes a read into the norm.
func (p *pace) add(per float64) { p.local.add(per) }

// norm is the local median, in ns per sector.
func (p *pace) norm() float64 { return p.local.sorted[len(p.local.sorted)/2] }

// jitter is by how much a flash drive's times scatter of themselves, as they do where the host is busy: the quartiles of all
// reads, whose ratio is near 1 while the drive keeps its pace, whatever that is.
func (p *pace) jitter() float64 {
	n := len(p.all.sorted)
	if n < settles {
		return 1
	}
	return max(1, p.all.sorted[3*n/4]/max(1, p.all.sorted[n/4])/2)
}

// judge gives the class of a read, against the norm as it stands.
func (p *pace) judge(took time.Duration, sectors uint64) uint8 {
	expected := p.norm() * float64(sectors)
	limits, measure := multiplesBelow, float64(took)/max(1, expected*p.jitter())
	if p.revolution > 0 {
		limits, measure = revolutionsBelow, (float64(took)-expected)/p.revolution
	}
	for class, limit := range limits {
		if measure < limit {
			return uint8(class)
		}
	}
	return Classes - 1
}

// follow judges a read and lets the norm follow it.
func (p *pace) follow(took time.Duration, sectors uint64) uint8 {
	class := p.judge(took, sectors)
	p.all.add(float64(took) / float64(sectors))
	if class == 2 {
		p.shifted++
	} else if class > 2 {
		p.shifted = 0
	}
	if class < 2 || p.shifted > window {
		p.add(float64(took) / float64(sectors))
		if class < 2 {
			p.shifted = 0
		}
	}
	return class
}
