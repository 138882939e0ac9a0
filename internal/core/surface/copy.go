package surface

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Copy reads a surface so that it is kept: what matters first, and of that what is easy first, since a drive that fails may not live to
// the end. It goes over the surface in legs, each one pass over one rank of what matters:
//
//   - gently: chunk by chunk, none tried twice; close to damage it leaves more and more for later, and where damage comes in a rhythm, as
//     that of a dead head does, it leaves the next stretch before it comes to it;
//   - from the edges: what was left is read from both sides until it fails, and the largest rest from its middle;
//   - singly: what failed is cut into pieces, these into physical sectors, and each of them is tried again, in turn upwards and downwards.
//
// The first two passes over a rank come before the next rank, and the third after them all: it costs the most and gives the least.
// The map says how often reads of a stretch failed: once as a chunk, twice as a piece too, and from then on singly; with what is wanted it
// is all there is to go on from.
//
// What is read is judged as a sweep's is, but nothing is read again because it was slow. As with a Sweep, somebody else carries out the
// reads of Next and tells their outcomes to Tell; outcomes count as they come.
type Copy struct {
	book   *Sweep // judges what is read, and has what was found; its order of reads is not used
	m      *Map
	ranks  [][]Extent
	legs   []leg // the first is the present one
	limits CopyLimits

	number uint64
	open   []Read   // asked for, and not told
	first  []Extent // asked for by Want

	cursor cursor // of the leg
	dense  row    // failures close together
	hop    uint64 // chunks left last
	hopTo  uint64 // where they end
	rhythm rhythm
	at     uint64 // where it was read last

	walks []walk
	probe Extent // the chunk in the middle of what is left
	tries uint8  // how often what the third pass looks for has failed
	down  bool   // it goes from the end

	fails    int           // reads that failed
	failTook time.Duration // all of them
	changes  []Part
}

// Changes are what became of parts of the map since it was asked last, in order.
func (c *Copy) Changes() []Part {
	all := c.changes
	c.changes = nil
	return all
}

func (c *Copy) set(p Part) {
	c.m.Set(p)
	c.changes = append(c.changes, p)
}

// Pass is one way to go over what is to be copied.
type Pass uint8

// The passes.
const (
	Gently Pass = iota
	FromEdges
	Singly
	passes
)

// leg is a pass over one rank.
type leg struct {
	pass Pass
	rank int
}

// CopyLimits bound what is tried at damage.
type CopyLimits struct {
	Singly uint8         // how often a physical sector is tried by itself
	Time   time.Duration // that reads may take which failed in the later passes; 0: however long
}

// DefaultCopyLimits are those of a copy of which nobody said otherwise.
var DefaultCopyLimits = CopyLimits{Singly: 3, Time: 24 * time.Hour}

// crawl is how long a chunk may take until it counts as close to damage although it was read.
const crawl = time.Second

// At damage: pieces of a chunk, or sectors of a piece, that fail one after the other until the rest is taken for failed as well, and is
// next tried from the other end.
const mostInRow = 4

// cursor is where a leg stands in its rank.
type cursor struct {
	extent int
	lba    uint64
}

// row counts failures one after the other in the same place.
type row struct {
	place Extent
	n     int
}

// walk reads from an edge of damage into it, until something fails.
type walk struct {
	at   uint64 // the next LBA, or the one after it when it goes back
	back bool
	in   Extent
}

// NewCopy begins a copy, or goes on from its map and from what was found meanwhile. Of wanted, the extents that come first stand first;
// what is in none of them comes last.
func NewCopy(g Geometry, wanted [][]Extent, m *Map, found State, r *Ribbon, limits CopyLimits) *Copy {
	c := &Copy{book: &Sweep{State: found, geometry: g, ribbon: r, pace: newPace(g)}, m: m, limits: limits}
	rest := []Extent{{0, g.Sectors}}
	for _, w := range wanted {
		whole := intersect(g.inChunks(w), rest)
		if len(whole) > 0 {
			c.ranks, rest = append(c.ranks, whole), without(rest, whole)
		}
	}
	if len(rest) > 0 {
		c.ranks = append(c.ranks, rest)
	}
	for rank := range c.ranks {
		c.legs = append(c.legs, leg{Gently, rank}, leg{FromEdges, rank})
	}
	for rank := range c.ranks {
		c.legs = append(c.legs, leg{Singly, rank})
	}
	c.recall()
	c.turn()
	return c
}

// recall has what was found agree with the map, which may know more: what was found is stored now and then, the map at once.
func (c *Copy) recall() {
	s := c.book
	for _, r := range s.Ranges {
		if r.Cause != Unsteady {
			s.count(r.Extent, r.Cause, -1)
		}
	}
	s.Ranges = slices.DeleteFunc(slices.Clone(s.Ranges), func(r Range) bool { return r.Cause != Unsteady })
	for _, p := range c.m.parts {
		if p.Kept == Missing {
			s.mark(p.Extent, p.Cause)
		}
	}
	s.Done, s.Tasks = c.m.Sum(Copied)+c.m.Sum(Missing), nil
}

// inChunks gives the chunks that hold some extents, joined where little lies between: to pass it over would take as long as to read it.
func (g Geometry) inChunks(extents []Extent) []Extent {
	gap := uint64(0)
	if g.RPM > 0 {
		gap = seekChunks * uint64(g.Chunk)
	}
	all := make([]Extent, 0, len(extents))
	for _, e := range extents {
		if e.Sectors == 0 || e.LBA >= g.Sectors {
			continue
		}
		end := min(e.End(), g.Sectors)
		all = append(all, Extent{g.chunk(g.chunkOf(e.LBA)).LBA, 0}.until(g.chunk(g.chunkOf(end-1)).End()))
	}
	slices.SortFunc(all, func(a, b Extent) int { return cmp.Compare(a.LBA, b.LBA) })
	joined := all[:0]
	for _, e := range all {
		if n := len(joined); n > 0 && e.LBA <= joined[n-1].End()+gap {
			joined[n-1] = joined[n-1].until(max(joined[n-1].End(), e.End()))
			continue
		}
		joined = append(joined, e)
	}
	return joined
}

// seekChunks is how many chunks a spinning drive reads in the time of a seek and half a revolution.
const seekChunks = 2

// Want has some extents read before all others: what is known of a surface while it is copied has to be copied first.
func (c *Copy) Want(e Extent) {
	for at := e.LBA; at < min(e.End(), c.book.geometry.Sectors); {
		chunk := c.book.geometry.chunk(c.book.geometry.chunkOf(at))
		c.first = append(c.first, chunk)
		at = chunk.End()
	}
}

// Next gives the next read. Not ok means: none before an outcome is told, or none at all when Finished. Beyond the first pass it is one
// read at a time.
func (c *Copy) Next() (Read, bool) {
	for len(c.first) > 0 {
		e := c.first[0]
		c.first = c.first[1:]
		if p, ok := c.m.next(e, func(p Part) bool { return p.Kept == ToCome || p.Kept == Skipped }); ok && !c.inFlight(p.Extent) {
			return c.ask(p.Extent), true
		}
	}
	for len(c.legs) > 0 {
		var e Extent
		var ok bool
		switch pass := c.legs[0].pass; {
		case pass != Gently && len(c.open) > 0:
			return Read{}, false
		case pass == Gently:
			e, ok = c.gentle()
		case pass == FromEdges:
			e, ok = c.edge()
		default:
			e, ok = c.single()
		}
		if ok {
			return c.ask(e), true
		}
		if len(c.open) > 0 {
			return Read{}, false
		}
		c.legs = c.legs[1:]
		c.turn()
	}
	return Read{}, false
}

// turn begins a leg.
func (c *Copy) turn() {
	c.cursor, c.dense, c.hop, c.hopTo, c.rhythm, c.probe, c.tries, c.down = cursor{}, row{}, 0, 0, rhythm{}, Extent{}, 1, false
	if len(c.legs) == 0 || c.legs[0].pass != FromEdges {
		return
	}
	for _, e := range c.ranks[c.legs[0].rank] {
		for at := e; at.Sectors > 0; {
			p, ok := c.m.next(at, Part.damaged)
			if !ok {
				break
			}
			end := e.End()
			if sound, ok := c.m.next(Extent{p.LBA, 0}.until(end), func(p Part) bool { return !p.damaged() }); ok {
				end = sound.LBA
			}
			whole := Extent{p.LBA, 0}.until(end)
			c.walks = append(c.walks, walk{whole.LBA, false, whole}, walk{whole.End(), true, whole})
			at = Extent{end, 0}.until(e.End())
		}
	}
}

func (p Part) damaged() bool { return p.Kept == Skipped || p.Kept == Failed || p.Kept == Missing }

func (c *Copy) ask(e Extent) Read {
	r := Read{Extent: e, Number: c.number}
	c.number++
	c.open = append(c.open, r)
	return r
}

func (c *Copy) inFlight(e Extent) bool {
	return slices.ContainsFunc(c.open, func(r Read) bool { return r.LBA < e.End() && e.LBA < r.End() })
}

// extents are those of the leg.
func (c *Copy) extents() []Extent { return c.ranks[c.legs[0].rank] }

// gentle is the next chunk of the first pass.
func (c *Copy) gentle() (Extent, bool) {
	g := c.book.geometry
	for all := c.extents(); c.cursor.extent < len(all); c.cursor.extent++ {
		e := all[c.cursor.extent]
		for from := max(e.LBA, c.cursor.lba); from < e.End(); {
			p, ok := c.m.next(Extent{from, 0}.until(e.End()), func(p Part) bool { return p.Kept == ToCome })
			if !ok {
				break
			}
			if to, ok := c.rhythm.passes(p.LBA); ok && to > p.LBA {
				c.leave(Extent{p.LBA, 0}.until(min(to, e.End())))
				from = min(to, e.End())
				continue
			}
			chunk := g.cell(p.LBA, uint64(g.Chunk))
			end := min(chunk.End(), p.End())
			if next := (Extent{p.LBA, 0}).until(end); !c.inFlight(next) {
				c.cursor.lba = end
				return next, true
			}
			from = end
		}
	}
	return Extent{}, false
}

// leave puts off what nobody has tried of an extent.
func (c *Copy) leave(e Extent) {
	for e.Sectors > 0 {
		p, ok := c.m.next(e, func(p Part) bool { return p.Kept == ToCome })
		if !ok {
			break
		}
		c.set(Part{Extent: p.Extent, Kept: Skipped})
		e = Extent{p.End(), 0}.until(e.End())
	}
	c.cursor.lba = max(c.cursor.lba, e.End())
}

// edge is the next read of the second pass.
func (c *Copy) edge() (Extent, bool) {
	for len(c.walks) > 0 {
		if e, ok := c.step(c.walks[0]); ok {
			return e, true
		}
		c.walks = c.walks[1:]
	}
	// The largest that nobody has tried, from its middle: that tells the most.
	var most Extent
	for _, e := range c.extents() {
		for at := e; at.Sectors > 0; {
			p, ok := c.m.next(at, func(p Part) bool { return p.Kept == Skipped })
			if !ok {
				break
			}
			if p.Sectors > most.Sectors {
				most = p.Extent
			}
			at = Extent{p.End(), 0}.until(e.End())
		}
	}
	if most.Sectors == 0 {
		return Extent{}, false
	}
	g := c.book.geometry
	middle := Part{Extent: g.chunk(g.chunkOf(most.LBA + most.Sectors/2))}.within(most)
	c.probe = middle.Extent
	c.walks = []walk{{middle.End(), false, most}, {middle.LBA, true, most}} // dropped when it fails
	return c.probe, true
}

// step is what a walk reads next: a chunk nobody has tried, or a piece of one that failed.
func (c *Copy) step(w walk) (Extent, bool) {
	if w.back && w.at <= w.in.LBA || !w.back && w.at >= w.in.End() {
		return Extent{}, false
	}
	lba := w.at
	if w.back {
		lba--
	}
	p := c.m.parts[c.m.index(lba)].within(w.in)
	switch {
	case p.Kept == Skipped:
		g := c.book.geometry
		return p.within(g.chunk(g.chunkOf(lba))).Extent, true
	case p.Kept == Failed && p.Tries == 1:
		return p.within(c.piece(lba)).Extent, true
	}
	return Extent{}, false
}

// piece is the part of a chunk that is read by itself, and holds an LBA.
func (c *Copy) piece(lba uint64) Extent {
	g := c.book.geometry
	return g.cell(lba, min(max(ladder[0]/uint64(g.Logical), g.perPhysical()), uint64(g.Chunk)))
}

// single is the next read of the third pass.
func (c *Copy) single() (Extent, bool) {
	for c.tries < pieceTries+c.limits.Singly {
		wanted := func(p Part) bool { return p.Kept == Failed && p.Tries == c.tries }
		for all := c.extents(); c.cursor.extent < len(all); c.cursor.extent++ {
			e, find := all[c.cursor.extent], c.m.next
			if c.down {
				e, find = all[len(all)-1-c.cursor.extent], c.m.last
			}
			if p, ok := find(e, wanted); ok {
				lba := p.LBA
				if c.down {
					lba = p.End() - 1
				}
				return p.within(c.unit(lba)).Extent, true
			}
		}
		c.tries, c.down, c.cursor, c.dense = c.tries+1, !c.down, cursor{}, row{}
	}
	return Extent{}, false
}

// pieceTries is how often reads have failed that held a sector before it is read singly.
const pieceTries = 2

// unit is what the third pass reads at a time, by how often it failed.
func (c *Copy) unit(lba uint64) Extent {
	if c.tries < pieceTries {
		return c.piece(lba)
	}
	return c.book.geometry.PhysicalOf(lba)
}

// place is what the units of it lie in.
func (c *Copy) place(lba uint64) Extent {
	if g := c.book.geometry; c.tries < pieceTries {
		return g.chunk(g.chunkOf(lba))
	}
	return c.piece(lba)
}

// Pass is the one that goes on, and of which rank; passes: it is over.
func (c *Copy) Pass() (p Pass, rank int) {
	if len(c.legs) == 0 {
		return passes, 0
	}
	return c.legs[0].pass, c.legs[0].rank
}

// Ranks are what comes first, what next, and so on: whole chunks, none in two of them, and all of the surface.
func (c *Copy) Ranks() [][]Extent { return c.ranks }

// Found has what was found of the surface so far. It is the copy's own, and asks for no reads.
func (c *Copy) Found() *Sweep { return c.book }

// LBA is where it was read last.
func (c *Copy) LBA() uint64 { return c.at }

// Closer reports whether it looks closer at damage.
func (c *Copy) Closer() bool { return c.pass() != Gently }

// Share is how much of the surface was copied or given up, 0 to 1.
func (c *Copy) Share() float64 {
	if c.Finished() {
		return 1
	}
	return min(float64(c.book.Done)/float64(max(1, c.book.geometry.Sectors)), 0.999)
}

// Left estimates how long the rest takes, by the speed of what was read and by how long a read takes that fails. Not ok before there is
// something to go by.
func (c *Copy) Left() (left time.Duration, ok bool) {
	g := c.book.geometry
	v0, k, ok := c.book.ribbon.profile()
	if !ok || c.Finished() {
		return 0, c.Finished()
	}
	if g.RPM == 0 {
		k = 0
	}
	seconds, total := 0.0, float64(g.Sectors)
	fails := c.failTook.Seconds() / float64(max(1, c.fails))
	for _, p := range c.m.parts {
		switch p.Kept {
		case ToCome, Skipped:
			x := (float64(p.LBA) + float64(p.Sectors)/2) / total
			seconds += float64(p.Sectors) * float64(g.Logical) / (v0 * math.Sqrt(1-k*x))
		case Failed:
			if p.Tries < pieceTries { // each chunk has a piece that fails, and this a sector
				seconds += math.Ceil(float64(p.Sectors)/float64(g.Chunk)) * float64(1+c.limits.Singly) * fails
			} else {
				left := max(0, int(pieceTries+c.limits.Singly)-int(p.Tries))
				seconds += float64(min(g.CountPhysical(p.Extent), mostInRow)) * float64(left) * fails
			}
		case Missing, Copied, keptKinds:
		}
	}
	return time.Duration(seconds * 1e9), true
}

// Finished reports whether all was copied or given up.
func (c *Copy) Finished() bool {
	return len(c.open) == 0 && c.m.Sum(ToCome)+c.m.Sum(Skipped)+c.m.Sum(Failed) == 0
}

// Map is what there is. It is the copy's own.
func (c *Copy) Map() *Map { return c.m }
