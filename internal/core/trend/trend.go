// Package trend follows one signal over a drive's life: how it changed and since when, in how many intervals it grew, how fast,
// when it would meet a limit, and what contradicts itself. Life is counted in power-on hours where the drive tells them; the
// calendar is kept beside. What a rework did to a counter is no growth, and what one reading alone says, and the next one takes back, is
// no fact. Start with Of; follow.go does the work, line.go draws the line through the points, clock.go holds the drive's clocks against
// each other.
package trend

import (
	"math"
	"sync"
	"time"

	"gonum.org/v1/gonum/stat/distuv"
)

// Kind is how a signal may move.
type Kind uint8

// The kinds. A fall of a Counter is a slip or a reset: what it counted before it still counts.
const (
	Counter    Kind = iota // can only rise
	Level                  // rises and falls
	Restarting             // a counter that begins anew when the power comes
)

// Point is a signal's value at one reading. They come in the order of time. A reading in which the signal was missing although it was
// there before is a Point with Missing set: it has a moment and no value.
type Point struct {
	Seq      int       // of the reading
	At       time.Time // of the reading
	Hours    float64   // power-on hours, negative when unknown
	Value    float64
	Reworked float64 // how much of the rise since the point before a rework explains, 0 or more
	Missing  bool
	Late     bool // the drive was read before without it
	Folded   int  // how many readings since the point before said the same, and are not kept

	gap *gap // before it; nil: none
}

// gap is a row of readings in which the value was missing, by its first and its last.
type gap struct{ first, last time.Time }

// Interval is the least time between two rises that count as two intervals of growth, and the length of an interval without one.
const Interval = 24 * time.Hour

// Recent is of how many intervals growth is counted.
const Recent = 3

// Trend is what the points say.
type Trend struct {
	First, Last  Point   // that have a value and stand
	Change       float64 // what it rose by since First, less what reworks explain; of a Level, Last - First
	Before       float64 // the value before the last, when HasBefore
	HasBefore    bool    //
	Held         float64 // of a Counter, all it ever counted, across resets; else the last value
	Unexplained  float64 // of Held, what no rework explains; never negative
	Onset        *Onset  // nil: never left zero, or was not zero when first seen
	Grew         int     // of the last three intervals, those in which the value rose
	Pace         float64 // how many events of growth a day there are at least; see Events
	Events       float64 // of growth since First
	Jump         float64 // the largest rise in one interval
	Intervals    int     // how many of those three exist
	SteadyHours  float64 // power-on hours since the value last changed, -1 unknown
	SteadyDays   float64 // by the calendar, since the value last changed
	FellBy       float64 // the largest fall between neighbours, 0 for none
	Observations int     // points with a value, those set aside included
	Suspect      int     // points set aside: a reading alone said so, and the next one took it back
}

// Onset is when a counter left zero: after Before, at the latest at First.
type Onset struct{ Before, First Point }

// Of looks at points in the order of their readings. It reports false when none has a value.
func Of(points []Point, kind Kind) (Trend, bool) {
	f := Follow(kind)
	for i := range points {
		f.Add(points[i])
	}
	return f.Trend()
}

// clustered is how many events a rise in one interval comes to. Bad sectors come in clusters: of those found together most are one event
// (An Analysis of Latent Sector Errors in Disk Drives, SIGMETRICS 2007, section 4.3), so each doubling counts as one more.
func clustered(rise float64) float64 {
	if rise < 1 {
		return rise
	}
	return 1 + math.Log2(rise)
}

// Confidence is that with which a counter rises at least as fast as is said.
const Confidence = 0.99

// leastCounts are the lower limits of a Poisson mean for 0, 1, 2 and more events seen, exact (Garwood, Fiducial limits for the
// Poisson distribution, 1936), in steps of a tenth: the limit is the quantile of a gamma distribution, which knows parts of events.
var leastCounts = sync.OnceValue(func() []float64 {
	all := make([]float64, 641)
	for n := 1; n < len(all); n++ {
		all[n] = distuv.Gamma{Alpha: float64(n) / 10, Beta: 1}.Quantile(1 - Confidence)
	}
	return all
})

// leastCount is the mean of which so many, or more, are seen by chance in one case of a hundred. For many events it is the
// approximation of Wilson and Hilferty (1931), there right to a thousandth.
func leastCount(seen float64) float64 {
	if exact := leastCounts(); 10*seen < float64(len(exact)) {
		return exact[int(10*seen)]
	}
	return seen * math.Pow(1-1/(9*seen)+distuv.UnitNormal.Quantile(1-Confidence)/(3*math.Sqrt(seen)), 3)
}

// Since gives what the value rose by from the last point at or before a moment to the last point, less what reworks explain; of a Level,
// how far it moved. It reports false when there is no such point.
func Since(points []Point, at time.Time, kind Kind) (change float64, from Point, ok bool) {
	first := -1
	for i := range points {
		if !points[i].Missing && !points[i].At.After(at) {
			first = i
		}
	}
	if first < 0 {
		return 0, Point{}, false
	}
	from = points[first]
	f := Follow(kind)
	for i, p := range points[first:] {
		if i == 0 {
			p.Reworked = 0 // what was written before is no part of the change
		}
		f.Add(p)
	}
	t, _ := f.Trend()
	return t.Change, from, true
}
