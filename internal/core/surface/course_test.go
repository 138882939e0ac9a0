package surface

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/vector"
)

// surfaces are made-up drives whose sweeps are written down read by read.
func surfaces(t *testing.T) map[string]func() (*drive, *Sweep) {
	const revolution = time.Minute / 7200
	platter := func(mib uint64, alignment uint16) *drive {
		d := &drive{
			geometry: geometry(t, mib<<20, 512, 4096, alignment, 7200),
			bad:      map[uint64]Cause{}, slow: map[uint64]time.Duration{}, once: map[uint64]bool{},
			failing: 3 * time.Second,
			speed:   func(x float64) float64 { return 150e6 * (1 - 0.4*x) },
		}
		return d
	}
	flash := func(mib uint64) *drive {
		d := platter(mib, 0)
		d.geometry = geometry(t, mib<<20, 512, 512, 0, 0)
		d.speed = func(float64) float64 { return 500e6 }
		return d
	}
	whole := func(d *drive) (*drive, *Sweep) { return d, New(d.geometry, nil) }
	return map[string]func() (*drive, *Sweep){
		"a platter with three places that cannot be read": func() (*drive, *Sweep) {
			d := platter(64, 1)
			d.bad = map[uint64]Cause{0: Medium, 40_007: Medium, 40_008: NotGiven, 131_071: Medium}
			return whole(d)
		},
		"a scratch over many chunks": func() (*drive, *Sweep) {
			d := platter(512, 0)
			for lba := uint64(200_000); lba < 240_000; lba += 1900 {
				d.bad[lba] = Medium
			}
			return whole(d)
		},
		"failures of every cause": func() (*drive, *Sweep) {
			d := platter(64, 0)
			for c := Medium; c <= Empty; c++ {
				if c != Suspect && c != Unsteady {
					d.bad[5000+8000*uint64(c)] = c
				}
			}
			d.once = map[uint64]bool{5000 + 8000*uint64(TimedOut): true, 5000 + 8000*uint64(Damaged): true}
			return whole(d)
		},
		"reads that fail take so long that the budget is used up": func() (*drive, *Sweep) {
			d := platter(16, 0)
			d.failing = 16 * time.Second
			for lba := uint64(9000); lba < 9600; lba += 40 {
				d.bad[lba] = Medium
			}
			return whole(d)
		},
		"slow places of a platter": func() (*drive, *Sweep) {
			d := platter(1100, 0)
			for n, cost := range []float64{0.4, 0.6, 1.9, 2.1, 3.9, 4.1, 7.9, 8.1, 15.9, 16.1} {
				d.slow[d.geometry.chunk(uint64(40+20*n)).LBA] = time.Duration(cost * float64(revolution))
			}
			for n := range uint64(5) {
				d.slow[d.geometry.chunk(600+n).LBA] = 9 * revolution
			}
			busy := d.geometry.chunk(700).LBA
			d.slow[busy], d.once[busy] = 20*revolution, true
			d.slow[d.geometry.chunk(5).LBA] = 20 * revolution
			d.slow[d.geometry.chunk(1099).LBA] = 20 * revolution
			for n := range uint64(6) { // the ends of this place are slow once only
				lba := d.geometry.chunk(900 + n).LBA
				d.slow[lba], d.once[lba] = 9*revolution, n < 2 || n > 3
			}
			failing := d.geometry.chunk(800).LBA
			d.slow[failing] = 20 * revolution
			d.reads = func(e Extent, _ Outcome) { // the place is slow at first, then gone
				if e.LBA == d.geometry.chunk(1098).LBA {
					d.bad[failing+5], d.order = Medium, nil
				}
			}
			return whole(d)
		},
		"slow places of flash, whose empty parts are faster": func() (*drive, *Sweep) {
			d := flash(600)
			d.speed = func(x float64) float64 {
				if x > 0.5 {
					return 150e6
				}
				return 500e6
			}
			for n, cost := range []float64{1, 2.5, 3.5, 6, 9, 15, 17, 63, 65} {
				d.slow[d.geometry.chunk(uint64(50+20*n)).LBA] = time.Duration((cost - 1) * 1.05 * float64(time.Second) / 500)
			}
			slow := map[uint64]int{} // so often
			for n := range uint64(4) {
				lba := d.geometry.chunk(270 + 5*n).LBA
				slow[lba], d.slow[lba] = int(n)+1, time.Second
			}
			d.reads = func(e Extent, _ Outcome) {
				if slow[e.LBA]--; slow[e.LBA] == 0 {
					delete(d.slow, e.LBA)
				}
			}
			return whole(d)
		},
		"a drive that is read after pauses": func() (*drive, *Sweep) {
			d := platter(200, 0)
			for n := range uint64(4) {
				d.slow[d.geometry.chunk(60+n).LBA] = 20 * revolution
			}
			n := 0
			d.pauses = func() bool { n++; return n%31 == 0 }
			return whole(d)
		},
		"a platter so small that no norm is found": func() (*drive, *Sweep) {
			d := platter(15, 0)
			d.slow[d.geometry.chunk(4).LBA] = 20 * revolution
			return whole(d)
		},
		"a sample with a place the drive names": func() (*drive, *Sweep) {
			d := flash(3000)
			d.bad[4_000_000] = Medium
			spots, _ := Spots(d.geometry, 7, []uint64{4_000_000}, Strata(d.geometry, 0))
			d.slow[spots[400].LBA], d.slow[spots[700].LBA] = time.Second, time.Second
			d.once[spots[700].LBA] = true
			return d, New(d.geometry, spots)
		},
		"sectors of 520 bytes through an adapter of 100 kB": func() (*drive, *Sweep) {
			g, err := NewGeometry(16<<20, 520, 520, 0, 5400, 100_000)
			require.NoError(t, err)
			d := platter(16, 0)
			d.geometry, d.bad = g, map[uint64]Cause{777: Medium, 30_000: Medium}
			return d, New(g, nil)
		},
	}
}

var stageWords = [...]string{"pass", "narrow", "later", "confirm", "retry", "flush"}

// What is read in which order, what each sweep says of itself meanwhile, and what it ends with: testdata/sweeps.txt.
func TestTheCourseOfASweep(t *testing.T) {
	b := vector.Open(t, "sweeps.txt")
	for name, begin := range vector.ByName(surfaces(t)) {
		b.Head(name)
		d, s := begin()
		course(b, d, s)
		conclusion(b, s)
	}
	b.Head("samples")
	for _, mib := range []uint64{10, 90, 1500, 9000} {
		g := geometry(t, mib<<20, 512, 512, 0, 0)
		end := g.Sectors
		spots, sample := Spots(g, mib, []uint64{0, end / 2, end - 1, end}, Strata(g, 0))
		chosen := make([]uint64, len(spots))
		sum := uint64(0)
		for i, e := range spots {
			chosen[i] = g.chunkOf(e.LBA)
			sum += chosen[i] * uint64(i)
		}
		b.Line("%d MiB: %d chunks, %v to %v, all %d; %d independent, near %v", mib, len(chosen), chosen[:8], chosen[len(chosen)-8:], sum,
			sample.Independent, sample.Named)
		b.Line(
			"rules out %.6f, misses %.6f of 64 kB and %.6f of 30 MB",
			sample.RulesOut(0.95), sample.Misses(g, 64<<10), sample.Misses(g, 30e6),
		)
	}
	b.Close()
}

// course writes down the reads of a sweep, two of them in flight, the second of which ends first. Those of one stage that follow one
// another are one line, as are the spots of a sample.
func course(b *vector.Book, d *drive, s *Sweep) {
	type flying struct {
		Read
		Outcome
	}
	var flight []flying
	var row Extent
	stage, reads, looked := stagePass, 0, 0.0
	tell := func() {
		if reads > 0 {
			b.Line("%s %d+%d in %d, reached %.5f", stageWords[stage], row.LBA, row.Sectors, reads, s.Share())
		}
		reads = 0
	}
	for !s.Finished() {
		for full := len(flight) == 0; full && len(flight) < 2; {
			r, ok := s.Next()
			if !ok {
				break
			}
			if r.stage != stage || reads == 0 || row.End() != r.LBA && (s.Spots == nil || r.stage != stagePass) {
				tell()
				row, stage = Extent{r.LBA, 0}, r.stage
			}
			row, reads = row.until(r.End()), reads+1
			o := d.read(r.Extent)
			o.Looked, o.Empty = o.Cause == Whole, r.LBA%3
			if o.Cause == Misplaced {
				o.From = r.LBA + 1000
			}
			if o.Cause != Whole {
				tell()
				b.Line("  %s %d+%d: %s", stageWords[r.stage], r.LBA, r.Sectors, o.Cause)
			}
			flight = append(flight, flying{r, o})
		}
		last := len(flight) - 1
		s.Tell(flight[last].Read, flight[last].Outcome)
		flight = flight[:last]
		if s.Share() >= looked {
			tell()
			left, ok := s.Left()
			held, known := s.Held()
			b.Line(
				"at %d, reached %.4f, left %s %t, closer %t, held %.4f %t",
				s.LBA(), s.Share(), left.Round(time.Microsecond), ok, s.Closer(), held, known,
			)
			looked = s.Share() + 0.1
		}
	}
	tell()
}

// conclusion writes down what a sweep ends with.
func conclusion(b *vector.Book, s *Sweep) {
	for _, r := range s.Ranges {
		b.Line("%d+%d %s", r.LBA, r.Sectors, r.Cause)
	}
	for _, p := range s.Slow {
		b.Line("slow %d+%d class %d, again %d %t, confirmed %t", p.LBA, p.Sectors, p.Class, p.Again, p.Read, p.Confirmed())
	}
	b.Line(
		"unreadable %d, lost %d, elsewhere %v, slow places %d, done %d of %d, looked %d, empty %d, trouble %s",
		s.Unread, s.Lost, s.Elsewhere, s.SlowPlaces, s.Done, s.Sectors(), s.Looked, s.Empty, s.Trouble.Round(time.Microsecond),
	)
	cells, all := []string{}, s.Ribbon().Cells()
	for n := 0; n < len(all); {
		end := n + 1
		for end < len(all) && all[end].Worst == all[n].Worst && all[end].Unread == all[n].Unread {
			end++
		}
		if all[n].Unread > 0 || all[n].Worst > 0 {
			cells = append(cells, fmt.Sprintf("%d..%d:%d/%d", n, end-1, all[n].Worst, all[n].Unread))
		}
		n = end
	}
	b.Line("cells %s", strings.Join(cells, " "))
}

func TestAClassBeginsAtItsBorder(t *testing.T) {
	const per = 1000                           // ns of a sector
	g := geometry(t, 1<<30, 512, 512, 0, 6000) // a revolution is 10 ms
	platter, flash := newPace(g), newPace(geometry(t, 1<<30, 512, 512, 0, 0))
	for n := range settles {
		require.False(t, platter.ready(), "after %d", n)
		platter.add(per)
		flash.add(per)
	}
	require.True(t, platter.ready())
	for class, revolutions := range revolutionsBelow {
		at := 100*per + time.Duration(revolutions*float64(10*time.Millisecond))
		assert.EqualValues(t, class, platter.judge(at-1, 100))
		assert.EqualValues(t, class+1, platter.judge(at, 100))
	}
	for class, times := range multiplesBelow {
		at := time.Duration(100 * per * times)
		assert.EqualValues(t, class, flash.judge(at-1, 100))
		assert.EqualValues(t, class+1, flash.judge(at, 100))
	}
}

func TestTheNormFollowsAStepOnlyWhenItLasts(t *testing.T) {
	p := newPace(geometry(t, 1<<30, 512, 512, 0, 0))
	for range window {
		p.add(1000)
	}
	for range window {
		require.EqualValues(t, 2, p.follow(5000, 1))
	}
	assert.EqualValues(t, 1000, p.norm())
	p.follow(17_000, 1) // a slow read begins the count anew
	for range window {
		p.follow(5000, 1)
	}
	assert.EqualValues(t, 1000, p.norm(), "not long enough in a row")
	n := 0
	for ; p.norm() < 5000 && n < 2*window; n++ {
		p.follow(5000, 1)
	}
	assert.Equal(t, window/2+1, n, "half of the window makes the median")
}

func TestOnlyFlashThatScattersHasJitter(t *testing.T) {
	p := newPace(geometry(t, 1<<30, 512, 512, 0, 0))
	for n := range settles {
		assert.InDelta(t, 1, p.jitter(), 0, "too few")
		p.all.add([]float64{1, 1, 1, 10}[n%4])
	}
	assert.InDelta(t, 5, p.jitter(), 0, "a quarter takes ten times as long")
	for n := range 3 * window {
		p.all.add(7)
		assert.Len(t, p.all.sorted, min(settles+n+1, window), "the latest alone")
	}
	assert.InDelta(t, 1, p.jitter(), 0)
}
