package surface

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// patient is a drive that is copied: which physical sectors fail, and how it takes its time.
type patient struct {
	g      Geometry
	bad    func(lba uint64) bool
	flaky  map[uint64]int // reads after which a sector gives in
	now    time.Duration
	at     uint64
	reads  []Read
	failed int
}

func (p *patient) read(r Read) Outcome {
	p.reads = append(p.reads, r)
	took := time.Duration(float64(r.Sectors)*float64(p.g.Logical)/100e6*1e9) + 8*time.Millisecond*time.Duration(min(1, p.at^r.LBA))
	p.at = r.End()
	o := Outcome{Took: took}
	for lba := r.LBA; lba < r.End(); lba = p.g.PhysicalOf(lba).End() {
		if !p.bad(lba) {
			continue
		}
		if left := p.flaky[lba]; left > 0 {
			if r.Sectors > p.g.perPhysical() {
				o.Cause = Medium
				continue
			}
			if p.flaky[lba]--; p.flaky[lba] == 0 {
				continue
			}
		}
		o.Cause = Medium
	}
	if o.Cause != Whole {
		o.Took += 1800 * time.Millisecond
		p.failed++
	}
	p.now += o.Took
	return o
}

// carry copies until the end, or until a moment.
func (p *patient) carry(c *Copy, depth int, until time.Duration) {
	var open []Read
	for until == 0 || p.now < until {
		for len(open) < depth {
			r, ok := c.Next()
			if !ok {
				break
			}
			open = append(open, r)
		}
		if len(open) == 0 {
			return
		}
		c.Tell(open[0], p.read(open[0]))
		open = open[1:]
	}
}

func begun(g Geometry, wanted ...[]Extent) *Copy {
	return NewCopy(g, wanted, NewMap(g.Sectors), State{}, NewRibbon(g), DefaultCopyLimits)
}

// Whatever is damaged and wanted, and wherever it is ended and begun anew: each sector ends copied or missing, none that can be read is
// missing but in the midst of what failed in a row, nothing is read twice that was read, and the map adds up.
func TestACopyEndsWithEverySectorAccountedFor(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g, err := NewGeometry(
			rapid.Uint64Range(1, 300_000).Draw(t, "sectors")*512, 512, rapid.SampledFrom([]uint32{512, 4096}).Draw(t, "physical"),
			uint16(rapid.IntRange(0, 7).Draw(t, "alignment")), rapid.SampledFrom([]uint16{0, 7200}).Draw(t, "rpm"), 0,
		)
		require.NoError(t, err)
		extents := func(what string, most int) (all []Extent) {
			for range rapid.IntRange(0, most).Draw(t, what) {
				lba := rapid.Uint64Range(0, g.Sectors-1).Draw(t, "lba")
				all = append(all, Extent{lba, rapid.Uint64Range(0, g.Sectors-lba).Draw(t, "length")})
			}
			return all
		}
		damage := map[uint64]bool{}
		for _, e := range extents("damaged", 12) {
			for n := range min(e.Sectors, uint64(rapid.IntRange(1, 3000).Draw(t, "size"))) {
				damage[g.PhysicalOf(e.LBA+n).LBA] = true
			}
		}
		p := &patient{g: g, bad: func(lba uint64) bool { return damage[g.PhysicalOf(lba).LBA] }}
		wanted := [][]Extent{extents("first", 2), extents("used", 6)}
		m := NewMap(g.Sectors)
		for {
			c := NewCopy(g, wanted, m, State{}, NewRibbon(g), DefaultCopyLimits)
			until := p.now + time.Duration(rapid.IntRange(1, 60_000).Draw(t, "until"))*time.Millisecond
			p.carry(c, rapid.IntRange(1, 8).Draw(t, "depth"), until)
			if c.Finished() {
				assert.Equal(t, g.Sectors, c.book.Done)
				break
			}
		}
		at, sum := uint64(0), uint64(0)
		for i, part := range m.Parts() {
			require.Equal(t, at, part.LBA, "no gap")
			require.True(t, i == 0 || !part.alike(m.Parts()[i-1]), "none alike side by side")
			require.Contains(t, []Kept{Copied, Missing}, part.Kept)
			for lba := part.LBA; lba < part.End(); lba = g.PhysicalOf(lba).End() {
				bad := damage[g.PhysicalOf(lba).LBA]
				require.False(t, bad && part.Kept == Copied, "%d was copied and cannot be read", lba)
				require.False(t, !bad && part.Kept == Missing && part.Cause != Suspect, "%d is readable", lba)
			}
			at, sum = part.End(), sum+part.Sectors
		}
		assert.Equal(t, g.Sectors, sum)
		assert.Equal(t, g.Sectors, m.Sum(Copied)+m.Sum(Missing))
		good := map[uint64]bool{}
		for _, r := range p.reads {
			whole := true
			for lba := r.LBA; lba < r.End(); lba = g.PhysicalOf(lba).End() {
				whole = whole && !p.bad(lba)
			}
			require.False(t, whole && good[r.LBA], "%v was read twice", r.Extent)
			if whole {
				good[r.LBA] = true
			}
		}
	})
}

// What files use is copied first, and what was named before that.
func TestWhatIsWantedComesFirst(t *testing.T) {
	g, err := NewGeometry(4<<30, 512, 4096, 0, 7200, 0)
	require.NoError(t, err)
	c := begun(g, []Extent{{5_000_000, 100}}, []Extent{{1_000_000, 4096}, {1_000_000, 100_000}, {7_000_000, 9}})
	p := &patient{g: g, bad: func(uint64) bool { return false }}
	p.carry(c, 2, 0)
	require.True(t, c.Finished())
	var order []Extent // what lies behind each other in one
	for _, r := range p.reads {
		if n := len(order); n > 0 && order[n-1].End() == r.LBA {
			order[n-1].Sectors += r.Sectors
			continue
		}
		order = append(order, r.Extent)
	}
	require.Len(t, order, 7)
	assert.Equal(t, []uint64{4_999_168, 999_424, 6_998_016, 0}, []uint64{order[0].LBA, order[1].LBA, order[2].LBA, order[3].LBA})
	assert.True(t, order[1].Holds(1_099_999))
}

// A sector that is read at the third try is kept, and said to be unsteady.
func TestASectorThatGivesInIsKept(t *testing.T) {
	g, err := NewGeometry(64<<20, 512, 4096, 0, 7200, 0)
	require.NoError(t, err)
	p := &patient{g: g, bad: func(lba uint64) bool { return lba/8 == 9000/8 }, flaky: map[uint64]int{9000: 3}}
	c := begun(g)
	p.carry(c, 2, 0)
	require.True(t, c.Finished())
	assert.Equal(t, g.Sectors, c.Map().Sum(Copied))
	assert.Equal(t, []Range{{Extent{9000, 8}, Unsteady}}, c.book.Ranges)
}
