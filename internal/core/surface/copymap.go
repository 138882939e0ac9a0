package surface

import (
	"fmt"
	"slices"
)

// Kept is what a copy has of a stretch of the surface.
type Kept uint8

// What it may have.
const (
	ToCome  Kept = iota // nobody has tried to read it
	Skipped             // close to damage: left for later, and not tried
	Failed              // a read that held it failed; it is tried again
	Missing             // given up
	Copied
	keptKinds
)

var keptWords = [keptKinds]string{"to come", "skipped", "failed", "missing", "copied"}

func (k Kept) String() string {
	if k < keptKinds {
		return keptWords[k]
	}
	return fmt.Sprintf("kept(%d)", uint8(k))
}

// Part is a stretch of a copy's map.
type Part struct {
	Extent
	Kept  Kept
	Cause Cause // of Failed and Missing: how the last read of it ended
	Tries uint8 // of Failed and Missing: see Copy
}

func (p Part) alike(o Part) bool { return p.Kept == o.Kept && p.Cause == o.Cause && p.Tries == o.Tries }

// Map is what a copy has of a surface: parts from LBA 0 to the end, without a gap, and no two alike side by side.
type Map struct {
	parts []Part
	sum   [keptKinds]uint64 // sectors
}

// NewMap is the map of a surface of which nothing was read.
func NewMap(sectors uint64) *Map {
	m := &Map{parts: []Part{{Extent: Extent{0, sectors}}}}
	m.sum[ToCome] = sectors
	return m
}

// Parts are all parts, in the order of the surface. They are the map's own.
func (m *Map) Parts() []Part { return m.parts }

// Sum is how many sectors there are of a kind.
func (m *Map) Sum(k Kept) uint64 { return m.sum[k] }

// sectors is how many there are in all.
func (m *Map) sectors() uint64 { return m.parts[len(m.parts)-1].End() }

// index is that of the part which holds an LBA.
func (m *Map) index(lba uint64) int {
	i, _ := slices.BinarySearchFunc(m.parts, lba, func(p Part, lba uint64) int {
		switch {
		case p.End() <= lba:
			return -1
		case p.LBA > lba:
			return 1
		}
		return 0
	})
	return i
}

// Set enters a part in the place of what stood there. What of it is not on the surface is left out.
func (m *Map) Set(p Part) {
	if p = p.within(Extent{0, m.sectors()}); p.Sectors == 0 {
		return
	}
	first, last := m.index(p.LBA), m.index(p.End()-1)
	for i := first; i <= last; i++ {
		m.sum[m.parts[i].Kept] -= m.parts[i].Sectors
	}
	before, after := m.parts[first], m.parts[last]
	before.Extent, after.Extent = before.until(p.LBA), Extent{p.End(), 0}.until(after.End())
	row := make([]Part, 0, 3)
	for _, x := range [...]Part{before, p, after} {
		if x.Sectors > 0 {
			row = append(row, x)
			m.sum[x.Kept] += x.Sectors
		}
	}
	if first > 0 { // what it may have become like stands beside it
		first--
		row = slices.Insert(row, 0, m.parts[first])
	}
	if last+1 < len(m.parts) {
		last++
		row = append(row, m.parts[last])
	}
	joined := row[:1]
	for _, x := range row[1:] {
		if end := &joined[len(joined)-1]; end.alike(x) {
			end.Sectors += x.Sectors
		} else {
			joined = append(joined, x)
		}
	}
	m.parts = slices.Replace(m.parts, first, last+1, joined...)
}

// In are the parts that lie in an extent, cut to it.
func (m *Map) In(e Extent) (all []Part) {
	e = Part{Extent: e}.within(Extent{0, m.sectors()}).Extent
	for i := m.index(e.LBA); e.Sectors > 0 && i < len(m.parts) && m.parts[i].LBA < e.End(); i++ {
		all = append(all, m.parts[i].within(e))
	}
	return all
}

// within cuts a part to an extent.
func (p Part) within(e Extent) Part {
	start, end := max(p.LBA, e.LBA), min(p.End(), e.End())
	p.Extent = Extent{start, 0}.until(max(start, end))
	return p
}

// next is the first part inside an extent, cut to it, that is as wanted.
func (m *Map) next(e Extent, wanted func(Part) bool) (Part, bool) {
	if e.Sectors == 0 {
		return Part{}, false
	}
	for i := m.index(e.LBA); i < len(m.parts) && m.parts[i].LBA < e.End(); i++ {
		if wanted(m.parts[i]) {
			return m.parts[i].within(e), true
		}
	}
	return Part{}, false
}

// last is next from the end.
func (m *Map) last(e Extent, wanted func(Part) bool) (Part, bool) {
	if e.Sectors == 0 {
		return Part{}, false
	}
	for i := m.index(e.End() - 1); i >= 0 && m.parts[i].End() > e.LBA; i-- {
		if wanted(m.parts[i]) {
			return m.parts[i].within(e), true
		}
	}
	return Part{}, false
}

// SumIn is how many sectors of a kind lie in some extents.
func (m *Map) SumIn(extents []Extent, k Kept) (sum uint64) {
	for _, e := range extents {
		for _, p := range m.In(e) {
			if p.Kept == k {
				sum += p.Sectors
			}
		}
	}
	return sum
}
