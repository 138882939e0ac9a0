package surface

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// drive is a made-up surface: what fails, what is slow, how fast it is.
type drive struct {
	geometry Geometry
	bad      map[uint64]Cause // by LBA
	slow     map[uint64]time.Duration
	once     map[uint64]bool               // slow or failing the first time only
	speed    func(share float64) float64   // bytes per second
	failing  time.Duration                 // what a failed read takes
	noise    func() float64                // factor
	reads    func(e Extent, took Outcome)  // looks on
	clock    time.Duration                 // spent reading
	order    []uint64                      // of bad
	restart  func(number int) (again bool) // after that many reads
	pauses   func() bool                   // the next read is the first after a pause
}

func (d *drive) read(e Extent) Outcome {
	speed := 150e6
	if d.speed != nil {
		speed = d.speed(float64(e.LBA) / float64(d.geometry.Sectors))
	}
	o := Outcome{Took: time.Duration(float64(e.Sectors) * float64(d.geometry.Logical) / speed * 1e9)}
	if d.noise != nil {
		o.Took = time.Duration(float64(o.Took) * d.noise())
	}
	first := e.End() // the drive stops at the first sector it cannot read
	if d.order == nil {
		d.order = slices.Sorted(maps.Keys(d.bad))
	}
	for i, _ := slices.BinarySearch(d.order, e.LBA); i < len(d.order) && d.order[i] < e.End(); i++ {
		if c, bad := d.bad[d.order[i]]; bad {
			first, o.Cause = d.order[i], c
			break
		}
	}
	if o.Cause != Whole {
		o.Took += d.failing
		if d.once[first] {
			delete(d.bad, first)
		}
	}
	for lba, more := range d.slow {
		if e.Holds(lba) && lba < first {
			o.Took += more
			if d.once[lba] {
				delete(d.slow, lba)
			}
		}
	}
	if d.pauses != nil && d.pauses() {
		o.Cold = true
	}
	d.clock += o.Took
	if d.reads != nil {
		d.reads(e, o)
	}
	return o
}

// sweep carries a sweep through with so many reads in flight, their ends in any order.
func (d *drive) sweep(t *testing.T, s *Sweep, depth int, r *rand.Rand) *Sweep {
	t.Helper()
	type flying struct {
		Read
		Outcome
	}
	var flight []flying
	last := 0.0
	for number := 0; !s.Finished(); number++ {
		if number > 5_000_000 {
			require.Fail(t, "it does not end")
		}
		for len(flight) < depth {
			read, ok := s.Next()
			if !ok {
				break
			}
			if read.Sectors == 0 || read.End() > d.geometry.Sectors {
				require.Fail(t, "a read of nothing, or beyond the end", "%v", read)
			}
			flight = append(flight, flying{read, d.read(read.Extent)})
		}
		require.NotEmpty(t, flight, "it waits for nothing")
		i := r.IntN(len(flight))
		s.Tell(flight[i].Read, flight[i].Outcome)
		flight = slices.Delete(flight, i, i+1)
		if s.Share() < last {
			require.GreaterOrEqual(t, s.Share(), last, "progress went back")
		}
		last = s.Share()
		if d.restart != nil && d.restart(number) { // all that is left is what was stored
			kept, err := json.Marshal(s.State)
			require.NoError(t, err)
			ribbon := NewRibbon(d.geometry)
			for block := range ribbon.Blocks() {
				require.NoError(t, ribbon.UnpackBlock(block, s.Ribbon().PackBlock(block)))
			}
			var state State
			require.NoError(t, json.Unmarshal(kept, &state))
			s, flight = Resume(d.geometry, state, ribbon), nil
		}
	}
	return s
}

func geometry(t *testing.T, bytes uint64, logical, physical uint32, alignment, rpm uint16) Geometry {
	t.Helper()
	g, err := NewGeometry(bytes, logical, physical, alignment, rpm, 0)
	require.NoError(t, err)
	return g
}

func physicals(g Geometry, lbas []uint64) []Extent {
	var all []Extent
	for _, lba := range lbas {
		if e := g.PhysicalOf(lba); !slices.Contains(all, e) {
			all = append(all, e)
		}
	}
	slices.SortFunc(all, func(a, b Extent) int { return int(a.LBA) - int(b.LBA) })
	return all
}

func found(s *Sweep, g Geometry) []Extent {
	var all []Extent
	for _, r := range s.Ranges {
		if r.Cause.Unreadable() {
			all = append(all, g.pieces(r.Extent, g.perPhysical())...)
		}
	}
	return all
}

func TestAWholeSweepFindsExactlyThePhysicalSectorsThatCannotBeRead(t *testing.T) {
	for seed := range uint64(30) {
		r := rand.New(rand.NewPCG(seed, 1))
		shape := []struct {
			logical, physical uint32
			alignment         uint16
		}{{512, 512, 0}, {512, 4096, 0}, {4096, 4096, 0}, {512, 4096, 7}, {520, 520, 0}}[seed%5]
		g := geometry(t, (60+r.Uint64N(80))<<20+r.Uint64N(1<<20), shape.logical, shape.physical, shape.alignment, 7200)
		d := &drive{geometry: g, bad: map[uint64]Cause{}, failing: 40 * time.Millisecond}
		var planted []uint64
		for range r.IntN(12) { // alone, in runs, and now and then a wide scratch
			at, run := r.Uint64N(g.Sectors), []uint64{1, 3, 20, 1_500}[r.IntN(4)]
			for lba := at; lba < min(at+run, g.Sectors); lba += 1 + r.Uint64N(3) {
				for n := range g.PhysicalOf(lba).Sectors {
					d.bad[g.PhysicalOf(lba).LBA+n] = []Cause{Medium, NotGiven}[seed%2]
				}
				planted = append(planted, lba)
			}
		}
		d.restart = func(int) bool { return seed%3 == 0 && r.IntN(400) == 0 }
		s := d.sweep(t, New(g, nil), 1+r.IntN(8), r)
		want := physicals(g, planted)
		require.Equal(t, want, found(s, g), "seed %d", seed)
		assert.EqualValues(t, len(want), s.Unread)
		assert.Equal(t, g.Sectors, s.Done, "seed %d: every sector is settled once", seed)
		sum := uint64(0)
		for _, c := range s.Ribbon().Cells() {
			sum += uint64(c.Unread)
		}
		assert.EqualValues(t, len(want), sum, "the ribbon shows each")
		for _, r := range s.Ranges {
			assert.True(t, r.Cause.Unreadable(), "%v", r)
		}
	}
}

func TestDenseDamageIsPassedOverAndComeBackToLast(t *testing.T) {
	g := geometry(t, 200<<20, 512, 512, 0, 5400)
	d := &drive{geometry: g, bad: map[uint64]Cause{}, failing: time.Second}
	for lba := g.chunk(50).LBA; lba < g.chunk(62).LBA; lba += 700 {
		d.bad[lba] = Medium
	}
	var order []uint64
	d.reads = func(e Extent, _ Outcome) {
		if e.Sectors == uint64(g.Chunk) {
			order = append(order, g.chunkOf(e.LBA))
		}
	}
	s := d.sweep(t, New(g, nil), 2, rand.New(rand.NewPCG(1, 1)))
	assert.EqualValues(t, len(d.bad), s.Unread)
	before := slices.DeleteFunc(slices.Clone(order[:slices.Index(order, 150)]), func(n uint64) bool { return n < 50 || n >= 62 })
	assert.Less(t, len(before), 9, "the sound part comes first")
	assert.Empty(t, s.Passed)
}

func TestABudgetBoundsWhatOneBadChunkMayCost(t *testing.T) {
	g := geometry(t, 64<<20, 512, 4096, 0, 7200)
	d := &drive{geometry: g, bad: map[uint64]Cause{}, failing: 10 * time.Second}
	for lba := g.chunk(20).LBA; lba < g.chunk(21).LBA; lba++ {
		d.bad[lba] = Medium
	}
	s := d.sweep(t, New(g, nil), 1, rand.New(rand.NewPCG(1, 1)))
	assert.Less(t, d.clock, 8*time.Minute)
	sum := uint64(0)
	for _, r := range s.Ranges {
		assert.True(t, g.chunk(20).Holds(r.LBA))
		sum += r.Sectors
	}
	assert.EqualValues(t, g.Chunk, sum, "what was not looked at singly is said to be so, and nothing is left out")
	assert.Equal(t, Suspect, s.Ranges[len(s.Ranges)-1].Cause)
}

func TestWhatFailsForAnotherReasonIsNotUnreadable(t *testing.T) {
	g := geometry(t, 64<<20, 512, 512, 0, 7200)
	d := &drive{
		geometry: g,
		bad: map[uint64]Cause{
			5 * uint64(g.Chunk):    Damaged,
			9*uint64(g.Chunk) + 3:  Protected,
			12*uint64(g.Chunk) + 7: Medium,
			20*uint64(g.Chunk) + 9: NotGiven,
			30 * uint64(g.Chunk):   Damaged,
		},
	}
	d.once = map[uint64]bool{12*uint64(g.Chunk) + 7: true, 30 * uint64(g.Chunk): true}
	s := d.sweep(t, New(g, nil), 3, rand.New(rand.NewPCG(1, 1)))
	assert.Equal(t, []Range{
		{g.chunk(5), Damaged}, {g.chunk(9), Protected}, {g.chunk(12), Unsteady}, {Extent{20*uint64(g.Chunk) + 9, 1}, NotGiven},
	}, s.Ranges, "the link's errors are whole chunks; what was read at a later try is said so; damage that did not come back is nothing")
	assert.EqualValues(t, 1, s.Unread)
}

func TestAPlaceThatIsReadAtALaterTryIsNotUnreadable(t *testing.T) {
	g := geometry(t, 64<<20, 512, 512, 0, 7200)
	at := 12*uint64(g.Chunk) + 7
	for tries := 1; tries <= 3; tries++ { // chunk, 64 KiB, 4 KiB
		d := &drive{geometry: g, bad: map[uint64]Cause{at: Medium}}
		left := tries
		d.reads = func(e Extent, _ Outcome) {
			if left--; e.Holds(at) && left <= 0 {
				delete(d.bad, at)
			} else if !e.Holds(at) {
				left++
			}
		}
		s := d.sweep(t, New(g, nil), 1, rand.New(rand.NewPCG(1, 1)))
		assert.Equal(t, []Range{{g.chunk(12), Unsteady}}, s.Ranges, "%d tries", tries)
		assert.Zero(t, s.Unread)
	}
}

func TestSlownessCountsRevolutionsOrMultiples(t *testing.T) {
	turn := 60 * time.Second / 7200
	for extra, class := range map[time.Duration]uint8{turn / 4: 0, turn: 1, 3 * turn: 2, 5 * turn: 3, 10 * turn: 4, 40 * turn: 5} {
		p := newPace(Geometry{RPM: 7200})
		for range settles {
			p.add(3000)
		}
		assert.Equal(t, class, p.judge(2048*3000+extra, 2048), "%s", extra)
	}
	for factor, class := range map[time.Duration]uint8{1: 0, 3: 1, 6: 2, 12: 3, 40: 4, 100: 5} {
		p := newPace(Geometry{})
		for range settles {
			p.add(300)
		}
		assert.Equal(t, class, p.judge(factor*2048*300, 2048), "%d", factor)
	}
}

func TestEverySlowPlaceIsFoundAndNoneInvented(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 2))
		g := geometry(t, 2<<30, 512, 4096, 0, []uint16{7200, 0}[seed%2])
		d := &drive{
			geometry: g,
			slow:     map[uint64]time.Duration{},
			once:     map[uint64]bool{},
			noise:    func() float64 { return 1 + math.Abs(r.NormFloat64())*0.1 },
		}
		d.speed = func(x float64) float64 { return 150e6 * math.Sqrt(1-0.75*x) }
		if g.RPM == 0 { // empty parts of flash come back much faster than written ones
			d.speed = func(x float64) float64 { return map[bool]float64{true: 1500e6, false: 500e6}[int(x*7)%2 == 0] }
		}
		var slow, busy []uint64
		for range 6 {
			n := r.Uint64N(g.chunks() - 1)
			if slices.Contains(slow, n) || slices.Contains(busy, n) || n == 999 || n == 1400 { // beside a slow stretch it is part of it
				continue
			}
			d.slow[g.chunk(n).LBA+9] = 400 * time.Millisecond
			if d.once[g.chunk(n).LBA+9] = r.IntN(2) == 0; d.once[g.chunk(n).LBA+9] {
				busy = append(busy, n)
			} else {
				slow = append(slow, n)
			}
		}
		for n := range uint64(400) { // a long slow stretch does not become the norm
			if g.RPM > 0 {
				d.slow[g.chunk(1000+n).LBA] = 100 * time.Millisecond
				slow = append(slow, 1000+n)
			}
		}
		if seed%2 == 0 {
			d.pauses = func() bool { return r.IntN(20) == 0 }
		}
		s := d.sweep(t, New(g, nil), 1, r)
		var confirmed, passing []uint64
		for _, p := range s.Slow {
			for n := g.chunkOf(p.LBA); n <= g.chunkOf(p.End()-1); n++ {
				if p.Confirmed() {
					confirmed = append(confirmed, n)
				} else {
					passing = append(passing, n)
				}
			}
		}
		assert.LessOrEqual(t, len(s.Slow), 9, "a stretch is one place")
		slices.Sort(slow)
		slices.Sort(busy)
		slices.Sort(confirmed)
		slices.Sort(passing)
		slow = slices.Compact(slow)
		confirmed = slices.Compact(confirmed)
		busy = slices.DeleteFunc(busy, func(n uint64) bool { return slices.Contains(slow, n) })
		assert.Equal(t, slow, confirmed, "seed %d", seed)
		if d.pauses == nil {
			assert.Equal(t, busy, passing, "seed %d: slow once is not confirmed", seed)
		} else { // after a pause it is not even doubted
			assert.Subset(t, busy, passing, "seed %d", seed)
		}
		for n, c := range s.Ribbon().Cells() { // and leaves no trace in the ribbon
			inside := slices.ContainsFunc(slow, func(chunk uint64) bool {
				return g.chunk(chunk).LBA < s.Ribbon().Extent(n).End() && s.Ribbon().Extent(n).LBA < g.chunk(chunk).End()
			})
			require.Equal(t, inside, c.Worst >= SlowFrom, "cell %d", n)
		}
	}
}

func TestABusyHostMakesNoPlatterSlow(t *testing.T) {
	for seed := range uint64(10) {
		r := rand.New(rand.NewPCG(seed, 5))
		g := geometry(t, 3<<30, 512, 4096, 0, 7200)
		d := &drive{geometry: g, noise: func() float64 { // now and then the host looks elsewhere
			if r.IntN(40) == 0 {
				return 9
			}
			return 1 + r.Float64()/20
		}}
		d.slow = map[uint64]time.Duration{g.chunk(2000).LBA: 90 * time.Millisecond}
		var last []uint64 // chunks the drive's cache would hold
		d.reads = func(e Extent, _ Outcome) {
			if n := g.chunkOf(e.LBA); n == 2000 {
				assert.NotContains(t, last, n, "seed %d: it would come from the cache", seed)
			}
			if last = append(last, g.chunkOf(e.LBA)); len(last) > 256 {
				last = last[1:]
			}
		}
		s := d.sweep(t, New(g, nil), 2, r)
		confirmed := slices.DeleteFunc(slices.Clone(s.Slow), func(p Slow) bool { return !p.Confirmed() })
		require.Len(t, confirmed, 1, "seed %d", seed)
		assert.EqualValues(t, 2000, g.chunkOf(confirmed[0].LBA))
		assert.Greater(t, len(s.Slow), 20, "many were doubted")
	}
}

func TestABusyHostMakesNoFlashSlow(t *testing.T) {
	for seed := range uint64(10) {
		r := rand.New(rand.NewPCG(seed, 4))
		g := geometry(t, 3<<30, 512, 512, 0, 0)
		d := &drive{
			geometry: g,
			speed:    func(float64) float64 { return 1e9 },
			noise: func() float64 { // most reads wait in a queue, some for long
				return []float64{1, 1, 1, 9, 10, 12, 1, 14}[r.IntN(8)] * (1 + r.Float64()/4)
			},
		}
		d.slow = map[uint64]time.Duration{g.chunk(2000).LBA: 2 * time.Second}
		s := d.sweep(t, New(g, nil), 8, r)
		confirmed := slices.DeleteFunc(slices.Clone(s.Slow), func(p Slow) bool { return !p.Confirmed() })
		require.Len(t, confirmed, 1)
		assert.EqualValues(t, 2000, g.chunkOf(confirmed[0].LBA))
		assert.Less(t, len(s.Slow), 60, "few are doubted at all")
	}
}

func TestTheTimeLeftKnowsThatInnerTracksAreSlower(t *testing.T) {
	for name, inner := range map[string]float64{"usual": 0.75, "small platters": 0.6, "even": 0} {
		g := geometry(t, 20<<30, 512, 4096, 0, 7200)
		r := rand.New(rand.NewPCG(3, 3))
		d := &drive{
			geometry: g,
			speed:    func(x float64) float64 { return 180e6 * math.Sqrt(1-inner*x) },
			noise:    func() float64 { return 1 + 0.05*r.NormFloat64() },
		}
		type look struct{ at, left time.Duration }
		var looks []look
		s := New(g, nil)
		d.reads = func(Extent, Outcome) {
			if s.Share() < 0.1 || s.At%500 != 0 {
				return
			}
			left, ok := s.Left()
			require.True(t, ok)
			looks = append(looks, look{d.clock, left})
		}
		d.sweep(t, s, 1, r)
		require.NotEmpty(t, looks)
		for _, l := range looks {
			if took := d.clock - l.at; inner > 0 && took > d.clock/50 {
				assert.InEpsilon(t, float64(took), float64(l.left), 0.15, "%s, after %s of %s", name, l.at, d.clock)
			}
		}
	}
}

func TestSectorsOfZerosAreCountedExactly(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for _, size := range []int{512, 520, 4096} {
		data, want := make([]byte, 300*size), uint64(0)
		for i := 0; i < 300; {
			run, full := 1+r.IntN(200), r.IntN(2) == 0 // long runs of either kind, and short ones
			for ; run > 0 && i < 300; run, i = run-1, i+1 {
				if full {
					data[i*size+r.IntN(size)] = 1
				} else {
					want++
				}
			}
		}
		assert.Equal(t, want, Zeros(data, uint32(size)), size)
	}
}

func TestTheRibbonIsTheSameSizeWhateverTheCapacity(t *testing.T) {
	for _, bytes := range []uint64{20_000_000_000_000, 2_000_000_000_000, 64 << 20} {
		g := geometry(t, bytes, 512, 4096, 0, 7200)
		r := NewRibbon(g)
		assert.Len(t, r.Cells(), Cells)
		end := uint64(0)
		for i := range r.Cells() {
			e := r.Extent(i)
			require.Equal(t, end, e.LBA)
			require.Equal(t, i, r.Cell(e.LBA))
			require.Equal(t, i, r.Cell(e.End()-1))
			end = e.End()
		}
		assert.Equal(t, g.Sectors, end)
	}
	g := geometry(t, 64<<20, 512, 4096, 0, 7200)
	r := NewRibbon(g)
	r.read(Extent{0, 2048}, time.Second, 1)
	r.read(Extent{0, 8}, time.Second, 4)
	r.read(Extent{0, 8}, time.Second, 2)
	r.unread(Extent{4, 1}, 1)
	assert.EqualValues(t, 4, r.Cells()[0].Worst, "the worst stays")
	assert.Equal(t, []int{0}, r.Changed(), "2 048 sectors are 256 cells of this drive")
	assert.Empty(t, r.Changed())
	back := NewRibbon(g)
	require.NoError(t, back.UnpackBlock(0, r.PackBlock(0)))
	assert.Equal(t, r.Cells(), back.Cells())
	require.Error(t, back.UnpackBlock(0, r.PackBlock(0)[1:]))
	require.Error(t, back.UnpackBlock(999, r.PackBlock(0)))
}

func TestASampleSaysWhatItRulesOut(t *testing.T) {
	g := geometry(t, 2_000_000_000_000, 512, 4096, 0, 7200)
	near := g.Sectors / 3
	spots, s := Spots(g, 7, []uint64{near, g.Sectors + 5}, Strata(g, 0))
	again, _ := Spots(g, 7, []uint64{near, g.Sectors + 5}, Strata(g, 0))
	other, _ := Spots(g, 8, nil, Strata(g, 0))
	assert.Equal(t, spots, again)
	assert.NotEqual(t, spots, other)
	assert.Zero(t, spots[0].LBA)
	assert.Equal(t, g.Sectors, spots[len(spots)-1].End())
	assert.True(t, slices.ContainsFunc(spots, func(e Extent) bool { return e.Holds(near) }))
	assert.Equal(t, []uint64{near}, s.Named, "an LBA beyond the end is nowhere")
	for i := 1; i < len(spots); i++ {
		require.GreaterOrEqual(t, spots[i].LBA, spots[i-1].End())
	}
	width := g.Sectors / spotCount
	for i := range uint64(spotCount) { // stratified: every stretch has its spot
		stretch := Extent{i * width, width}
		assert.True(t, slices.ContainsFunc(spots, func(e Extent) bool { return e.LBA < stretch.End() && stretch.LBA < e.End() }), "%d", i)
	}
	assert.InDelta(t, 0.003, s.RulesOut(0.95), 0.00005, "about 3/n")
	more, wide := Spots(g, 7, nil, Strata(g, 5))
	var read uint64
	for _, e := range more {
		read += e.Sectors
	}
	assert.InDelta(t, 0.05, float64(read)/float64(g.Sectors), 0.001, "a share of the surface is that share")
	assert.Less(t, wide.RulesOut(0.95), s.RulesOut(0.95)/50)
	same, _ := Spots(g, 7, nil, uint64(wide.Independent))
	assert.Equal(t, more, same, "it is drawn again by its seed and its size")
	assert.Greater(t, s.Misses(g, 1<<20), 0.99, "one small cluster is almost surely missed")
}

func TestASpotSweepReadsItsSpotsAndNarrowsWhatFails(t *testing.T) {
	g := geometry(t, 8<<30, 512, 4096, 0, 7200)
	bad := g.Sectors / 2
	spots, _ := Spots(g, 7, []uint64{bad}, Strata(g, 0))
	d := &drive{geometry: g, bad: map[uint64]Cause{bad: Medium}}
	s := d.sweep(t, New(g, spots), 2, rand.New(rand.NewPCG(1, 1)))
	assert.Equal(t, []Extent{g.PhysicalOf(bad)}, found(s, g))
	assert.Equal(t, s.Sectors(), s.Done)
	assert.Less(t, d.clock, 60*time.Second)
}

func TestTwoSweepsAreLaidOverEachOther(t *testing.T) {
	before := Found{
		Ranges: []Range{{Extent{10, 10}, Medium}, {Extent{40, 1}, Unsteady}, {Extent{90, 2}, Medium}},
		Slow:   []Slow{{Extent: Extent{200, 8}, Class: 4, Again: 4, Read: true}, {Extent: Extent{300, 8}, Class: 3, Again: 0, Read: true}},
	}
	after := Found{
		Ranges: []Range{{Extent{15, 10}, Medium}, {Extent{40, 1}, Medium}},
		Slow:   []Slow{{Extent: Extent{400, 8}, Class: 3, Again: 3, Read: true}},
		Swept:  func(e Extent) bool { return e.LBA < 250 },
	}
	got := map[string]Change{}
	for _, d := range Compare(before, after) {
		got[fmt.Sprintf("%d+%d", d.LBA, d.Sectors)] = d.Change
	}
	assert.Equal(
		t,
		map[string]Change{"10+5": Gone, "15+5": Stays, "20+5": Fresh, "40+1": Worse, "90+2": Gone, "200+8": Gone, "400+8": Fresh},
		got,
	)
}

func TestAPatternTellsWherePlacesBelong(t *testing.T) {
	const logical, sectors = 512, 1 << 40
	p := Pattern{Seed: 0x5EED}
	buf := make([]byte, 8*logical)
	p.Fill(buf, 1_000_000, logical)
	assert.Equal(t, Match{}, p.Check(buf, 1_000_000, logical, sectors))
	part := make([]byte, logical)
	p.Fill(part, 1_000_005, logical)
	assert.Equal(t, part, buf[5*logical:6*logical], "each sector's content follows from its own place alone")

	assert.Equal(
		t, Match{Cause: Misplaced, All: true, From: 1_000_000, At: 7}, p.Check(buf, 7, logical, sectors),
		"the content of another place names it",
	)
	other := Pattern{Seed: 0x5EEE}
	assert.Equal(
		t, Match{Cause: Altered, All: true, At: 1_000_000}, other.Check(buf, 1_000_000, logical, sectors),
		"another overwrite's content is none of this one's",
	)
	buf[3*logical+17] ^= 1
	assert.Equal(t, Match{Cause: Altered, At: 1_000_003}, p.Check(buf, 1_000_000, logical, sectors), "a single bit")
	clear(buf)
	assert.Equal(t, Match{Cause: Empty, All: true, At: 1_000_000}, p.Check(buf, 1_000_000, logical, sectors))
	p.Fill(part, sectors+5, logical)
	assert.Equal(t, Altered, p.Check(part, 1, logical, sectors).Cause, "no place beyond the drive's end is named")
}

// A drive with a tenth of the room it claims: what does not hold is found at once, chunk by chunk, and a single wrong sector
// exactly.
func TestWhatDoesNotHoldWhatWasWrittenIsFoundExactly(t *testing.T) {
	g, err := NewGeometry(400<<20, 512, 4096, 0, 0, 0)
	require.NoError(t, err)
	s, reads := New(g, nil), 0
	end, wrong := g.Sectors/10, uint64(8*1001)
	for !s.Finished() {
		r, ok := s.Next()
		require.True(t, ok)
		reads++
		o := Outcome{Took: time.Millisecond}
		switch {
		case r.LBA >= end:
			o.Cause, o.All, o.From = Misplaced, true, r.LBA%end
		case r.End() > end:
			o.Cause, o.From = Misplaced, 0
		case r.LBA < wrong+8 && wrong < r.End():
			o.Cause = Altered
		}
		s.Tell(r, o)
	}
	require.Len(t, s.Ranges, 2)
	assert.Equal(t, Range{Extent{wrong, 8}, Altered}, s.Ranges[0])
	assert.Equal(t, Range{Extent{end, g.Sectors - end}, Misplaced}, s.Ranges[1])
	assert.EqualValues(t, (g.Sectors-end)/8+1, s.Lost)
	assert.Zero(t, s.Unread, "it can be read")
	require.NotNil(t, s.Elsewhere)
	assert.Less(t, reads, 1000)
	drawn := 0
	for _, c := range s.Ribbon().Cells() {
		drawn += int(c.Unread)
	}
	assert.EqualValues(t, s.Lost, drawn)
}

func TestASweepRewound(t *testing.T) {
	g, err := NewGeometry(64<<20, 512, 512, 0, 0, 0)
	require.NoError(t, err)
	s := New(g, nil)
	for range 40 {
		r, _ := s.Next()
		s.Tell(r, Outcome{Took: time.Millisecond})
	}
	reached := s.Share()
	s.Rewind(g, g.chunk(30).LBA)
	again := Resume(g, s.State, s.Ribbon())
	r, ok := again.Next()
	require.True(t, ok)
	assert.Equal(t, g.chunk(30), r.Extent)
	assert.InDelta(t, reached, again.Share(), 1e-9, "progress does not go back")
	assert.EqualValues(t, 30*uint64(g.Chunk), again.Done)
}
