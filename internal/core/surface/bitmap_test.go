package surface

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// small draws a surface of some hundred sectors, with every kind of alignment and a last physical sector that is cut.
func small(t *rapid.T) Geometry {
	per := rapid.SampledFrom([]uint32{1, 2, 8}).Draw(t, "logical sectors in a physical one")
	return Geometry{
		Sectors: rapid.Uint64Range(uint64(per), 400).Draw(t, "sectors"), Logical: 512, Physical: 512 * per,
		Alignment: uint16(rapid.Uint32Range(0, per-1).Draw(t, "alignment")),
		Chunk:     per * rapid.Uint32Range(1, 9).Draw(t, "physical in a chunk"),
	}
}

func extentIn(t *rapid.T, sectors uint64, name string) Extent {
	lba := rapid.Uint64Range(0, sectors-1).Draw(t, name)
	return Extent{lba, rapid.Uint64Range(1, sectors-lba).Draw(t, name+", sectors")}
}

// rangesIn draws sorted ranges that do not touch one another with the same cause.
func rangesIn(t *rapid.T, sectors uint64, name string) (all []Range, causes []Cause) {
	causes = rapid.SliceOfN(
		rapid.SampledFrom([]Cause{Whole, Whole, Whole, Medium, Unsteady, NotGiven, TimedOut}), int(sectors), int(sectors),
	).Draw(t, name)
	return rangesOf(causes), causes
}

// rangesOf makes ranges of a bitmap of causes.
func rangesOf(causes []Cause) (all []Range) {
	for lba, c := range causes {
		if n := len(all); n > 0 && all[n-1].Cause == c && all[n-1].End() == uint64(lba) {
			all[n-1].Sectors++
		} else if c != Whole {
			all = append(all, Range{Extent{uint64(lba), 1}, c})
		}
	}
	return all
}

// numberOf is which physical sector holds an LBA, counted by hand.
func numberOf(g Geometry, lba uint64) uint64 {
	n, in := uint64(0), uint64(g.Alignment)
	for range lba {
		if in++; in == g.perPhysical() {
			n, in = n+1, 0
		}
	}
	return n
}

func TestChunksPiecesAndPhysicalSectorsCoverTheSurface(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := small(t)
		at := uint64(0)
		for n := range g.chunks() {
			e := g.chunk(n)
			require.Equal(t, at, e.LBA, "chunk %d begins where the one before ended", n)
			require.Positive(t, e.Sectors)
			for lba := e.LBA; lba < e.End(); lba++ {
				require.Equal(t, n, g.chunkOf(lba))
			}
			at = e.End()
		}
		require.Equal(t, g.Sectors, at)
		for lba := range g.Sectors {
			e := g.PhysicalOf(lba)
			require.True(t, e.Holds(lba))
			require.False(t, e.Holds(e.End()))
			require.LessOrEqual(t, e.End(), g.Sectors)
			require.Equal(t, numberOf(g, lba), numberOf(g, e.LBA))
			require.Equal(t, numberOf(g, lba), numberOf(g, e.End()-1))
			if e.LBA > 0 {
				require.NotEqual(t, numberOf(g, lba), numberOf(g, e.LBA-1))
			}
			if e.End() < g.Sectors {
				require.NotEqual(t, numberOf(g, lba), numberOf(g, e.End()))
			}
		}
		e := extentIn(t, g.Sectors, "extent")
		require.Equal(t, numberOf(g, e.End()-1)-numberOf(g, e.LBA)+1, g.CountPhysical(e))
		require.Zero(t, g.CountPhysical(Extent{e.LBA, 0}))
		size := g.perPhysical() * rapid.Uint64Range(1, 5).Draw(t, "physical in a piece")
		at = e.LBA
		for _, p := range g.pieces(e, size) {
			require.Equal(t, at, p.LBA)
			require.Positive(t, p.Sectors)
			require.LessOrEqual(t, p.Sectors, size)
			if at = p.End(); at < e.End() {
				require.Zero(t, (at+uint64(g.Alignment))%size, "cut at multiples of it")
			}
		}
		require.Equal(t, e.End(), at)
	})
}

func TestCausesThatAreMarkedReplaceOneAnother(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := small(t)
		s := New(g, nil)
		causes := make([]Cause, g.Sectors)
		for range rapid.IntRange(1, 12).Draw(t, "marks") {
			// A place is marked inside one that is known, or where nothing is: that is how a failed chunk is narrowed.
			e := extentIn(t, g.Sectors, "place")
			first := causes[e.LBA]
			end := e.LBA + 1
			for end < e.End() && causes[end] == first {
				end++
			}
			e.Sectors = end - e.LBA
			c := rapid.SampledFrom([]Cause{Medium, NotGiven, Unsteady, Suspect, Altered, Damaged}).Draw(t, "cause")
			s.mark(e, c)
			for lba := e.LBA; lba < e.End(); lba++ {
				causes[lba] = c
			}
		}
		want := rangesOf(causes)
		require.Equal(t, want, s.Ranges)
		var unread, lost uint64
		for _, r := range want {
			switch {
			case r.Cause.Unreadable():
				unread += g.CountPhysical(r.Extent)
			case r.Cause.Lost():
				lost += g.CountPhysical(r.Extent)
			}
		}
		if g.perPhysical() == 1 { // else neighbours may share a physical sector
			require.Equal(t, [2]uint64{unread, lost}, [2]uint64{s.Unread, s.Lost})
			var seen uint64
			for _, c := range s.Ribbon().Cells() {
				seen += uint64(c.Unread)
			}
			require.Equal(t, unread+lost, seen, "and the ribbon shows them")
		}
	})
}

func TestSweepsAreComparedSectorBySector(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const sectors = 60
		before, was := rangesIn(t, sectors, "before")
		after, is := rangesIn(t, sectors, "after")
		swept := rapid.Uint64Range(0, sectors).Draw(t, "swept")
		got := make([]Change, sectors)
		last := uint64(0)
		for _, d := range Compare(Found{Ranges: before}, Found{Ranges: after, Swept: func(e Extent) bool { return e.End() <= swept }}) {
			require.GreaterOrEqual(t, d.LBA, last, "in the order of the surface")
			last = d.LBA
			for lba := d.LBA; lba < d.End(); lba++ {
				require.Empty(t, got[lba], "each sector once")
				got[lba] = d.Change
				require.Equal(t, [2]Cause{was[lba], is[lba]}, [2]Cause{d.Before, d.After})
			}
		}
		for lba := range got {
			want := Change("")
			switch {
			case was[lba] == Whole && is[lba] == Whole:
			case was[lba] == Whole:
				want = Fresh
			case is[lba] == Whole:
				want = Gone
			case was[lba] != is[lba] && is[lba].Unreadable():
				want = Worse
			default:
				want = Stays
			}
			if want == Gone && got[lba] == "" { // told where the later sweep has read the whole of the place
				require.True(t, slices.ContainsFunc(before, func(r Range) bool { return r.Holds(uint64(lba)) && r.End() > swept }))
				continue
			}
			require.Equal(t, want, got[lba], "LBA %d", lba)
		}
	})
}

func TestTheRibbonHoldsEverySectorOnce(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		g := small(t)
		if rapid.Bool().Draw(t, "large") { // of more physical sectors than there are cells
			g.Sectors += rapid.Uint64Range(Cells*8, 1<<40).Draw(t, "more")
		}
		r := NewRibbon(g)
		lba := rapid.Uint64Range(0, g.Sectors-1).Draw(t, "lba")
		n := r.Cell(lba)
		require.True(t, r.Extent(n).Holds(lba))
		require.LessOrEqual(t, uint64(len(r.Cells())), g.CountPhysical(Extent{0, g.Sectors}))
		if n > 0 {
			require.Equal(t, r.Extent(n-1).End(), r.Extent(n).LBA)
		}
		require.Equal(t, g.Sectors, r.Extent(len(r.Cells())-1).End())
		r.Changed()
		e := Extent{lba, rapid.Uint64Range(1, min(g.Sectors-lba, 4096)).Draw(t, "sectors")}
		r.read(e, time.Duration(e.Sectors)*time.Millisecond, 2)
		r.unread(e, 1)
		var bytes, unread uint64
		var took time.Duration
		for i, c := range r.Cells() {
			bytes, unread, took = bytes+c.Bytes, unread+uint64(c.Unread), took+c.Took
			if in := i >= r.Cell(e.LBA) && i <= r.Cell(e.End()-1); in != (c.Bytes > 0) || in != (c.Worst == 2) || in != c.Swept() {
				require.Fail(t, "a cell is in what was read, or it is not", "cell %d of %v: %+v", i, e, c)
			}
		}
		require.Equal(t, []uint64{e.Sectors * 512, g.CountPhysical(e)}, []uint64{bytes, unread})
		require.InDelta(t, float64(e.Sectors), took.Seconds()*1000, 0.001)
		blocks := r.Changed()
		require.Equal(t, []int{r.Cell(e.LBA) / BlockCells, r.Cell(e.End()-1) / BlockCells}, []int{blocks[0], blocks[len(blocks)-1]})
		require.Empty(t, r.Changed(), "told once")
		again := NewRibbon(g)
		for n := range r.Blocks() {
			require.NoError(t, again.UnpackBlock(n, r.PackBlock(n)))
		}
		require.True(t, slices.Equal(r.Cells(), again.Cells()))
		r.calm(r.Cell(e.LBA))
		require.EqualValues(t, SlowFrom-1, r.Cells()[r.Cell(e.LBA)].Worst)
		r.slower(e, 4)
		require.EqualValues(t, 4, r.Cells()[r.Cell(e.End()-1)].Worst)
		r.unread(e, -1)
		require.False(t, slices.ContainsFunc(r.Cells(), func(c Cell) bool { return c.Unread > 0 }))
		require.Equal(t, blocks, r.Changed())
	})
	assert.Error(t, NewRibbon(Geometry{Sectors: 9, Logical: 512, Physical: 512}).UnpackBlock(1, nil))
	assert.Error(t, NewRibbon(Geometry{Sectors: 9, Logical: 512, Physical: 512}).UnpackBlock(0, []byte("of another length")))
	assert.Zero(t, Cell{Bytes: 9}.Speed())
	assert.InDelta(t, 500, Cell{Bytes: 1000, Took: 2 * time.Second}.Speed(), 1e-9)
}

func TestAGeometryIsMadeOfWhatTheMachineSays(t *testing.T) {
	for name, row := range map[string]struct {
		bytes             uint64
		logical, physical uint32
		alignment, rpm    uint16
		most              uint32
		want              Geometry
	}{
		"a platter":               {4096_000, 512, 4096, 1, 7200, 0, Geometry{8000, 512, 4096, 1, 7200, 2048}},
		"flash":                   {4096_000, 512, 4096, 9, 1, 0, Geometry{8000, 512, 4096, 1, 0, 2048}},
		"an adapter of 100 kB":    {4096_000, 512, 4096, 0, 0, 100_000, Geometry{8000, 512, 4096, 0, 0, 192}},
		"one of less than 4 kB":   {4096_000, 512, 4096, 0, 0, 512, Geometry{8000, 512, 4096, 0, 0, 8}},
		"physical not known":      {4096_511, 512, 0, 3, 0, 0, Geometry{8000, 512, 512, 0, 0, 2048}},
		"physical is no multiple": {4096_000, 512, 1000, 0, 0, 0, Geometry{8000, 512, 512, 0, 0, 2048}},
		"sectors of 4 kB":         {4096_000, 4096, 512, 0, 0, 0, Geometry{1000, 4096, 4096, 0, 0, 256}},
	} {
		g, err := NewGeometry(row.bytes, row.logical, row.physical, row.alignment, row.rpm, row.most)
		require.NoError(t, err, name)
		assert.Equal(t, row.want, g, name)
	}
	for _, wrong := range [][2]uint32{{511, 512}, {4096, 0}, {0, 512}} {
		_, err := NewGeometry(uint64(wrong[0]), wrong[1], 0, 0, 0, 0)
		assert.ErrorContains(t, err, "cannot be swept")
	}
	assert.Equal(t, "cause(13)", Cause(13).String())
	assert.Equal(t, "reads back empty", Empty.String())
	for c := Whole; c <= Empty; c++ {
		assert.Equal(t, c == Medium || c == NotGiven, c.Unreadable(), c)
		assert.Equal(t, c >= Altered, c.Lost(), c)
		assert.Equal(t, c >= Medium && c <= TimedOut || c >= Altered, c.narrows(), c)
	}
}
