// Package surface is what a sweep computes: where to read next, what a slow or failed read means, which physical sectors
// cannot be read, how the whole looks as a ribbon, how long the rest takes, and what a sample can and cannot rule out. It
// reads nothing itself: somebody carries out the reads it asks for and tells it how they went. Positions are LBAs of logical
// sectors. Start with Sweep.
package surface

import (
	"fmt"
	"slices"
)

// Geometry is what a sweep must know of a drive.
type Geometry struct {
	Sectors   uint64 `json:"sectors"`             // logical
	Logical   uint32 `json:"logical"`             // bytes of a logical sector
	Physical  uint32 `json:"physical"`            // bytes of a physical sector, a multiple of Logical
	Alignment uint16 `json:"alignment,omitempty"` // logical sectors by which LBA 0 lies inside its physical sector
	RPM       uint16 `json:"rpm,omitempty"`       // 0: flash, or not known to rotate
	Chunk     uint32 `json:"chunk"`               // logical sectors read at a time
}

// ChunkBytes is how much a sweep reads at a time where nothing speaks against it.
const ChunkBytes = 1 << 20

// NewGeometry gives the geometry of a drive of that many bytes. A physical sector of 0 is taken for a logical one; most
// limits one read in bytes, 0: not limited. It errs when no sweep of such a drive is possible.
func NewGeometry(bytes uint64, logical, physical uint32, alignment, rpm uint16, most uint32) (Geometry, error) {
	if logical == 0 || bytes < uint64(logical) {
		return Geometry{}, fmt.Errorf("a drive of %d bytes in sectors of %d bytes cannot be swept", bytes, logical)
	}
	if physical < logical || physical%logical != 0 {
		physical = logical
	}
	chunk := uint32(ChunkBytes)
	if most > 0 && most < chunk {
		chunk = max(physical, most/physical*physical)
	}
	if rpm == 1 { // "does not rotate", ACS-4 7.13.6
		rpm = 0
	}
	return Geometry{
		Sectors:   bytes / uint64(logical),
		Logical:   logical,
		Physical:  physical,
		Alignment: alignment % uint16(max(1, physical/logical)),
		RPM:       rpm,
		Chunk:     max(chunk/logical, physical/logical),
	}, nil
}

// Bytes is the capacity.
func (g Geometry) Bytes() uint64 { return g.Sectors * uint64(g.Logical) }

// perPhysical is how many logical sectors make a physical one.
func (g Geometry) perPhysical() uint64 { return uint64(g.Physical / g.Logical) }

// chunks is how many chunks cover the drive. Chunks begin at borders of physical sectors: with an alignment the first is
// the shorter for it.
func (g Geometry) chunks() uint64 {
	return (g.Sectors + uint64(g.Alignment) + uint64(g.Chunk) - 1) / uint64(g.Chunk)
}

// chunk is the n-th of them.
func (g Geometry) chunk(n uint64) Extent {
	start := n * uint64(g.Chunk)
	return g.cell(start-min(start, uint64(g.Alignment)), uint64(g.Chunk))
}

// chunkOf is the chunk that holds an LBA.
func (g Geometry) chunkOf(lba uint64) uint64 { return (lba + uint64(g.Alignment)) / uint64(g.Chunk) }

// PhysicalOf is the extent of the physical sector that holds an LBA.
func (g Geometry) PhysicalOf(lba uint64) Extent { return g.cell(lba, g.perPhysical()) }

// cell is the extent of so many sectors, counted from where the physical sectors begin, that holds an LBA.
func (g Geometry) cell(lba, size uint64) Extent {
	start := (lba + uint64(g.Alignment)) / size * size
	end := min(start+size-uint64(g.Alignment), g.Sectors)
	return Extent{start - min(start, uint64(g.Alignment)), 0}.until(end)
}

// CountPhysical is how many physical sectors an extent touches.
func (g Geometry) CountPhysical(e Extent) uint64 {
	if e.Sectors == 0 {
		return 0
	}
	first, last := (e.LBA+uint64(g.Alignment))/g.perPhysical(), (e.End()-1+uint64(g.Alignment))/g.perPhysical()
	return last - first + 1
}

// Extent is a run of logical sectors.
type Extent struct {
	LBA     uint64 `json:"lba"`
	Sectors uint64 `json:"sectors"`
}

// End is the LBA after the last.
func (e Extent) End() uint64 { return e.LBA + e.Sectors }

// Holds reports whether an LBA lies inside.
func (e Extent) Holds(lba uint64) bool { return lba >= e.LBA && lba < e.End() }

func (e Extent) until(end uint64) Extent { return Extent{e.LBA, end - e.LBA} }

// pieces cuts an extent at multiples of size, counted from where the physical sectors begin.
func (g Geometry) pieces(e Extent, size uint64) []Extent {
	var all []Extent
	for at := e.LBA; at < e.End(); {
		next := min(((at+uint64(g.Alignment))/size+1)*size-uint64(g.Alignment), e.End())
		all = append(all, Extent{at, next - at})
		at = next
	}
	return all
}

// Cause says how a read failed. The zero Cause is a read that did not.
type Cause uint8

// The causes. Medium alone is the surface for certain; NotGiven is, when the place fails again while its neighbours are
// read. The others are not of themselves "unreadable".
const (
	Whole     Cause = iota // read
	Medium                 // the drive says: uncorrectable
	NotGiven               // failed, and neither drive nor adapter says why
	NotFound               // the drive says: no such sector
	TimedOut               // no answer in time
	Damaged                // the transfer was damaged on the link
	Protected              // a lock or another protection
	OverZone               // a border of a zone
	Suspect                // inside a place that failed, not looked at singly: the budget was used up
	Unsteady               // failed, and was read at a later try
	Altered                // holds something else than was written to it
	Misplaced              // holds what was written to another place
	Empty                  // holds one byte over and over, and not what was written to it
)

var causeWords = [...]string{
	"read",
	"unreadable",
	"unreadable, cause not given",
	"sector not found",
	"no answer in time",
	"damaged on the link",
	"protected",
	"over a zone's border",
	"failed, not narrowed down",
	"read at a later try only",
	"reads back otherwise",
	"holds what was written elsewhere",
	"reads back empty",
}

func (c Cause) String() string {
	if int(c) < len(causeWords) {
		return causeWords[c]
	}
	return fmt.Sprintf("cause(%d)", uint8(c))
}

// ParseCause is the cause that is called so.
func ParseCause(words string) (Cause, bool) {
	i := slices.Index(causeWords[:], words)
	return Cause(max(0, i)), i >= 0
}

// Unreadable reports whether the cause counts against the surface.
func (c Cause) Unreadable() bool { return c == Medium || c == NotGiven }

// Lost reports whether the place was read and does not hold what was written to it.
func (c Cause) Lost() bool { return c == Altered || c == Misplaced || c == Empty }

// narrows reports whether it makes sense to look for the sectors that fail.
func (c Cause) narrows() bool {
	return c == Medium || c == NotGiven || c == NotFound || c == TimedOut || c.Lost()
}

// Range is an exact run of sectors that could not be read.
type Range struct {
	Extent
	Cause Cause `json:"cause"`
}

// Slow is a place that took far longer than its surroundings: one chunk, or several in a row.
type Slow struct {
	Extent
	Class uint8 `json:"class"` // the worst
	Again uint8 `json:"again"` // the worst of the second read; meaningful when Read
	Read  bool  `json:"read"`  // a second time

	Hull Extent `json:"hull,omitzero"` // of what was slow again so far
}

// Confirmed reports whether it was slow twice.
func (s Slow) Confirmed() bool { return s.Read && s.Again >= SlowFrom }
