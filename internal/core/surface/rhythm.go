package surface

import "math"

// rhythm knows where damage comes at even distances. A drive lays a stretch on one surface of its platters, the next one on another, and
// begins anew, or goes back, when all had theirs: with a head dead, every so many stretches one cannot be read, a band. Bands are alike,
// and change slowly over the drive. All lengths are in sectors.
type rhythm struct {
	chunk uint64
	met   []uint64 // where the latest bands began that were met one after the other
	band  Extent   // the one that is not over; none: no sectors
	exact bool     // it is known where it began
	met1  uint64   // where the latest began of which that is known; while distances are known
	good  uint64   // where the latest chunk ended that was read

	known        bool
	turns        [2]float64 // from band to band, in turn
	turn         int        // which of them comes next
	drift        float64    // by how much a distance changes from band to band
	slack        float64    // by how much a band came too early or too late of late
	last         float64    // where the latest band began, met or guessed
	anchored     bool       // last and turn are known
	guessed      int        // bands passed over since one was met
	lower, upper uint64     // a band is longer than, and at most as long as
}

// What counts as a rhythm.
const (
	leastBand   = 4   // chunks
	learns      = 4   // bands
	mostGuessed = 6   // passed over, until the beginning of one is looked for again
	alikeBands  = 0.1 // by how much distances differ
	mostDrifts  = 4   // bands that may lie between two extents
)

// next is where the next band is to be expected.
func (r *rhythm) next() float64 { return r.last + r.turns[r.turn] }

// settled reports whether the length of a band is known well.
func (r *rhythm) settled() bool { return r.upper-r.lower <= max(2*r.chunk, r.upper/32) }

// length is how far to go from where a band begins: to its end, or to learn where that is.
func (r *rhythm) length() uint64 {
	if r.settled() {
		return r.upper
	}
	return (r.lower + r.upper) / 2
}

// read takes a chunk that was read.
func (r *rhythm) read(e Extent) {
	r.chunk = max(r.chunk, e.Sectors)
	if r.band.Sectors > 0 && e.LBA >= r.band.End() {
		r.over(e.LBA)
	}
	if r.known && r.anchored && r.band.Sectors == 0 && float64(e.LBA) > r.next()+float64(r.upper)/2 && e.LBA == r.good &&
		r.guessed >= mostGuessed { // it was looked for, and is not there
		*r = rhythm{chunk: r.chunk}
	}
	r.good = max(r.good, e.End())
}

// cut forgets a band whose end was not seen.
func (r *rhythm) cut() {
	r.band, r.met = Extent{}, r.met[:0]
}

// over ends a band, as what lies behind it was read.
func (r *rhythm) over(end uint64) {
	band, exact := r.band, r.exact
	r.band = Extent{}
	switch {
	case r.known && exact:
		r.lower, r.upper = max(r.lower, band.Sectors), max(end-band.LBA, band.Sectors)
		if r.upper <= r.lower { // they have become shorter
			r.lower = r.upper - r.upper/8
		}
	case r.known:
	case band.Sectors < leastBand*r.chunk || !exact:
	default:
		if r.met = append(r.met, band.LBA); len(r.met) == 1 {
			r.upper, r.lower = math.MaxUint64, 0
		}
		r.lower, r.upper = max(r.lower, band.Sectors), min(r.upper, end-band.LBA)
		r.learn()
	}
}

// learn looks for a rhythm in the bands that were met.
func (r *rhythm) learn() {
	n := len(r.met)
	if n < learns {
		return
	}
	r.met = r.met[n-learns:]
	var d [learns - 1]float64
	for i := range d {
		d[i] = float64(r.met[i+1]) - float64(r.met[i])
	}
	if r.upper < r.lower { // they are not alike
		r.met = r.met[:0]
		return
	}
	if even(d[0], d[2]) {
		r.known, r.anchored = true, true
		r.turns, r.turn = [2]float64{d[1], d[2]}, 0
		r.last, r.met1 = float64(r.met[learns-1]), r.met[learns-1]
	}
}

func even(a, b float64) bool { return a > 0 && b > 0 && max(a, b)-min(a, b) <= alikeBands*max(a, b) }

// passes tells to where a read at an LBA had better go, as the next band begins there.
func (r *rhythm) passes(lba uint64) (to uint64, ok bool) {
	if !r.known || !r.anchored || r.band.Sectors > 0 {
		return 0, false
	}
	for n := 0; r.next()+float64(r.upper) <= float64(lba); n++ { // it lay between two extents
		if n == mostDrifts {
			r.anchored = false
			return 0, false
		}
		r.step()
	}
	slack := uint64(r.slack) + r.chunk
	if next := uint64(r.next()); r.settled() && r.guessed < mostGuessed && lba+slack >= next {
		r.step()
		r.guessed++
		r.band, r.exact = Extent{next, r.upper}, false
		return next + r.upper + slack, true
	}
	return 0, false
}

// step goes on to the next band, unseen.
func (r *rhythm) step() {
	r.last = r.next()
	r.turn = 1 - r.turn
	for i := range r.turns {
		r.turns[i] += r.drift
	}
}

// failed takes a chunk that failed, and tells to where it is better to go on; not ok: that is not known.
func (r *rhythm) failed(e Extent) (to uint64, ok bool) {
	r.chunk = max(r.chunk, e.Sectors)
	if r.band.Sectors > 0 { // still in it
		if e.LBA < r.band.LBA {
			return 0, false
		}
		r.band = r.band.until(max(r.band.End(), e.End()))
		if r.known && r.exact && r.band.Sectors < r.upper {
			r.lower = max(r.lower, r.band.Sectors)
			return r.band.LBA + r.upper, true
		}
		if r.known && !r.exact {
			r.upper += r.chunk
		}
		return e.End() + r.upper/16, r.known
	}
	r.band, r.exact = e, e.LBA == r.good
	if !r.known {
		return 0, false
	}
	if r.exact {
		r.anchor(e.LBA)
		return e.LBA + r.length(), true
	}
	r.anchored = false
	return e.LBA + r.upper, true
}

// anchor takes a band that was met where it begins.
func (r *rhythm) anchor(lba uint64) {
	at := float64(lba)
	if off := at - r.next(); r.anchored && math.Abs(off) < alikeBands*2*min(r.turns[0], r.turns[1]) {
		n := float64(r.guessed + 1)
		if n >= mostGuessed { // fewer tell more of where chunks lie
			r.drift += off / (2 * n * n)
		}
		r.slack = (r.slack + math.Abs(off)) / 2
		for i := range r.turns {
			r.turns[i] += off / n
		}
		r.turn = 1 - r.turn
	} else if r.anchored = even(r.turns[0], r.turns[1]); !r.anchored {
		for i, d := range r.turns {
			if even(at-float64(r.met1), d) {
				r.anchored, r.turn = true, 1-i
			}
		}
	}
	r.last, r.met1, r.guessed = at, lba, 0
}
