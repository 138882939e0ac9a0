package surface

import (
	"encoding/binary"
	"errors"
	"math/bits"
	"time"
)

// Cells is how many cells a ribbon has, whatever the capacity; a drive of fewer physical sectors has one for each.
const Cells = 8 * 2048

// BlockCells is how many cells are kept together: a mark stores only blocks that changed.
const BlockCells = 256

// Cell is what a sweep knows of one stretch of the surface. The zero Cell was not swept.
type Cell struct {
	Bytes  uint64        // read of it
	Took   time.Duration // reading them
	Worst  uint8         // class of slowness
	Unread uint32        // physical sectors that are unreadable, or do not hold what was written to them
}

// Swept reports whether anything of the cell was tried.
func (c Cell) Swept() bool { return c.Bytes > 0 || c.Unread > 0 }

// Ribbon is the picture of a sweep: a fixed number of cells.
type Ribbon struct {
	geometry Geometry
	sectors  uint64
	logical  uint64
	cells    []Cell
	changed  []bool // by block
}

// NewRibbon gives an empty ribbon.
func NewRibbon(g Geometry) *Ribbon {
	n := int(min(Cells, g.CountPhysical(Extent{0, g.Sectors})))
	return &Ribbon{g, g.Sectors, uint64(g.Logical), make([]Cell, n), make([]bool, (n+BlockCells-1)/BlockCells)}
}

// Cells are all cells, in the order of the surface. They are the ribbon's own.
func (r *Ribbon) Cells() []Cell { return r.cells }

// Cell is the number of the cell that holds an LBA.
func (r *Ribbon) Cell(lba uint64) int { return int(mulDiv(lba, uint64(len(r.cells)), r.sectors)) }

// Extent is what a cell stands for.
func (r *Ribbon) Extent(cell int) Extent {
	return Extent{r.start(cell), 0}.until(r.start(cell + 1))
}

// start is the first LBA of a cell: the smallest that Cell maps to it.
func (r *Ribbon) start(cell int) uint64 {
	n := uint64(len(r.cells))
	hi, lo := bits.Mul64(uint64(cell), r.sectors)
	lo, carry := bits.Add64(lo, n-1, 0)
	q, _ := bits.Div64(hi+carry, lo, n)
	return q
}

// mulDiv is a*b/c without overflow, for a < c.
func mulDiv(a, b, c uint64) uint64 {
	hi, lo := bits.Mul64(a, b)
	q, _ := bits.Div64(hi, lo, c)
	return q
}

// read enters a read that went well.
func (r *Ribbon) read(e Extent, took time.Duration, class uint8) {
	for at := e.LBA; at < e.End(); {
		n := r.Cell(at)
		end := min(r.start(n+1), e.End())
		c := &r.cells[n]
		c.Bytes += (end - at) * r.logical
		c.Took += took * time.Duration(end-at) / time.Duration(e.Sectors)
		c.Worst = max(c.Worst, class)
		r.changed[n/BlockCells] = true
		at = end
	}
}

// unread enters the physical sectors of an extent as unreadable or lost, or takes them back: each in the cell that holds the
// first of its LBAs in the extent.
func (r *Ribbon) unread(e Extent, sign int) {
	physical := func(lba uint64) int { return int((lba + uint64(r.geometry.Alignment)) / r.geometry.perPhysical()) }
	before := physical(e.LBA) - 1
	for at := e.LBA; at < e.End(); {
		n := r.Cell(at)
		end := min(r.start(n+1), e.End())
		c, last := &r.cells[n], physical(end-1)
		c.Unread = uint32(max(0, int(c.Unread)+sign*(last-before)))
		r.changed[n/BlockCells] = true
		before, at = last, end
	}
}

// slower lifts the class of a stretch, which came to light only afterwards.
func (r *Ribbon) slower(e Extent, class uint8) {
	for n := r.Cell(e.LBA); n <= r.Cell(e.End()-1); n++ {
		r.cells[n].Worst = max(r.cells[n].Worst, class)
		r.changed[n/BlockCells] = true
	}
}

// calm takes back that a cell was slow.
func (r *Ribbon) calm(cell int) {
	r.cells[cell].Worst = min(r.cells[cell].Worst, SlowFrom-1)
	r.changed[cell/BlockCells] = true
}

// Blocks is how many blocks of BlockCells cells there are.
func (r *Ribbon) Blocks() int { return len(r.changed) }

// Block is the cells of a block. They are the ribbon's own.
func (r *Ribbon) Block(n int) []Cell {
	return r.cells[n*BlockCells : min((n+1)*BlockCells, len(r.cells))]
}

// Changed lists the blocks that changed since it was last called.
func (r *Ribbon) Changed() []int {
	var all []int
	for i, c := range r.changed {
		if c {
			all = append(all, i)
			r.changed[i] = false
		}
	}
	return all
}

// cellBytes is the length of a packed cell: bytes, ns, class and unreadable sectors.
const cellBytes = 8 + 8 + 1 + 4

// PackBlock gives the cells of a block as bytes, little-endian, 21 for each cell.
func (r *Ribbon) PackBlock(block int) []byte {
	cells := r.Block(block)
	b := make([]byte, 0, len(cells)*cellBytes)
	for _, c := range cells {
		b = binary.LittleEndian.AppendUint64(b, c.Bytes)
		b = binary.LittleEndian.AppendUint64(b, uint64(c.Took))
		b = append(b, c.Worst)
		b = binary.LittleEndian.AppendUint32(b, c.Unread)
	}
	return b
}

var errBlock = errors.New("a block of a ribbon has the wrong length or number")

// UnpackBlock takes back what PackBlock gave.
func (r *Ribbon) UnpackBlock(block int, b []byte) error {
	if block < 0 || block >= len(r.changed) {
		return errBlock
	}
	cells := r.Block(block)
	if len(b) != len(cells)*cellBytes {
		return errBlock
	}
	for i := range cells {
		at := b[i*cellBytes:]
		cells[i] = Cell{
			binary.LittleEndian.Uint64(at),
			time.Duration(binary.LittleEndian.Uint64(at[8:])),
			min(at[16], Classes-1),
			binary.LittleEndian.Uint32(at[17:]),
		}
	}
	return nil
}

// Speed is a cell's throughput in bytes per second; 0 when nothing of it was read.
func (c Cell) Speed() float64 {
	if c.Took <= 0 {
		return 0
	}
	return float64(c.Bytes) / c.Took.Seconds()
}
