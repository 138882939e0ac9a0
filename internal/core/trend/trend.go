// Package trend follows one signal over a drive's life: how it changed and since when, in how many intervals it grew, how fast,
// when it would meet a limit, and what contradicts itself. Life is counted in power-on hours where the drive tells them; the
// calendar is kept beside. What a rework did to a counter is no growth. Start with Of; line.go draws the line through the points,
// clock.go holds the drive's clocks against each other.
package trend

import (
	"math"
	"sync"
	"time"

	"gonum.org/v1/gonum/stat/distuv"
)

// Point is a signal's value at one reading. Points without a value are left out by the caller; they come in the order of time.
type Point struct {
	Seq      int       // of the reading
	At       time.Time // of the reading
	Hours    float64   // power-on hours, negative when unknown
	Value    float64
	Reworked float64 // how much of the rise since the point before a rework explains, 0 or more
}

// rise is what the value grew by since the point before, beyond what a rework explains. Never negative.
func (p Point) rise(before Point) float64 { return max(0, p.Value-before.Value-p.Reworked) }

// Interval is the least time between two rises that count as two intervals of growth, and the length of an interval without one.
const Interval = 24 * time.Hour

// Recent is of how many intervals growth is counted.
const Recent = 3

// Trend is what the points say.
type Trend struct {
	First, Last  Point
	Change       float64 // Last - First, less what reworks explain
	Unexplained  float64 // of the last value, what no rework explains; never negative
	Onset        *Onset  // nil: never left zero, or was not zero when first seen
	Grew         int     // of the last three intervals, those in which the value rose
	Pace         float64 // by how much a day it rises at least, when it rose in two of those intervals or more; else 0
	Intervals    int     // how many of those three exist
	SteadyHours  float64 // power-on hours since the value last changed, -1 unknown
	FellBy       float64 // the largest fall between neighbours, 0 for none
	Observations int
}

// Onset is when a counter left zero: after Before, at the latest at First.
type Onset struct{ Before, First Point }

// Of looks at points in the order of their readings. It reports false for no points.
func Of(points []Point) (Trend, bool) {
	if len(points) == 0 {
		return Trend{}, false
	}
	t := Trend{First: points[0], Last: points[len(points)-1], SteadyHours: -1, Observations: len(points)}
	t.Change = t.Last.Value - t.First.Value
	changed, reworked := 0, 0.0
	for i := 1; i < len(points); i++ {
		before, now := points[i-1], points[i]
		if t.Onset == nil && before.Value == 0 && now.Value > 0 {
			t.Onset = &Onset{before, now}
		}
		if now.Value != before.Value {
			changed = i
		}
		t.FellBy = max(t.FellBy, before.Value-now.Value)
		reworked += min(now.Reworked, max(0, now.Value-before.Value))
	}
	t.Change -= reworked
	t.Unexplained = max(0, t.Last.Value-reworked)
	if from := points[changed]; from.Hours >= 0 && t.Last.Hours >= from.Hours {
		t.SteadyHours = t.Last.Hours - from.Hours
	}
	t.Grew, t.Intervals, t.Pace = growth(points)
	return t, true
}

// growth cuts the time since the first point into intervals, counts in how many of the last three the value rose, and bounds how
// fast it does. An interval ends with a rise, or without one after a day; a rise within a day of another is part of it, however many
// readings lie between. So a further reading without a rise can only add an interval without one: it never makes a drive look worse.
// The time is the calendar's, since a drive on a shelf has no hours and a shop has closing days.
func growth(points []Point) (grew, intervals int, pace float64) {
	var recent [Recent]bool // the newest last
	add := func(rose bool) {
		copy(recent[:], recent[1:])
		recent[Recent-1] = rose
		intervals = min(intervals+1, Recent)
	}
	from := points[0].At // where the present interval began
	rising := false      // whether it began with a rise
	total := 0.0
	var rises [paced]rise // the newest last
	risen := 0
	for i := 1; i < len(points); i++ {
		p := points[i]
		over, by := p.At.Sub(from) >= Interval, p.rise(points[i-1])
		total += by
		switch {
		case by > 0 && (over || !rising):
			add(true)
			from, rising = p.At, true
			copy(rises[:], rises[1:])
			rises[paced-1] = rise{p.At, total}
			risen = min(risen+1, paced)
		case over:
			add(false)
			from, rising = p.At, false
		}
	}
	for _, rose := range recent {
		if rose {
			grew++
		}
	}
	if grew > 1 {
		pace = leastPace(rises[paced-risen:])
	}
	return grew, intervals, pace
}

// rise is an interval of growth: when it was seen, and by how much the value had risen by then.
type rise struct {
	at    time.Time
	total float64
}

// paced is over how many intervals of growth the pace is looked for.
const paced = 8

// leastPace is how much a day a counter rises at least: the largest of the lower limits from an earlier interval of growth to the
// latest, each that of a Poisson rate with Confidence. The first of two rises is left out of what is counted: the time in which it
// came is not known.
func leastPace(rises []rise) float64 {
	pace := 0.0
	last := rises[len(rises)-1]
	for _, r := range rises[:len(rises)-1] {
		pace = max(pace, leastCount(last.total-r.total)/(last.at.Sub(r.at).Hours()/24))
	}
	return pace
}

// Confidence is that with which a counter rises at least as fast as is said.
const Confidence = 0.99

// leastCounts are the lower limits of a Poisson mean for 0, 1, 2 and more events seen, exact (Garwood, Fiducial limits for the
// Poisson distribution, 1936).
var leastCounts = sync.OnceValue(func() []float64 {
	all := make([]float64, 256)
	for n := 1; n < len(all); n++ {
		all[n] = distuv.Gamma{Alpha: float64(n), Beta: 1}.Quantile(1 - Confidence)
	}
	return all
})

// leastCount is the mean of which so many, or more, are seen by chance in one case of a hundred. For many events it is the
// approximation of Wilson and Hilferty (1931), there right to a thousandth.
func leastCount(seen float64) float64 {
	if exact := leastCounts(); seen < float64(len(exact)) {
		return exact[int(seen)]
	}
	return seen * math.Pow(1-1/(9*seen)+distuv.UnitNormal.Quantile(1-Confidence)/(3*math.Sqrt(seen)), 3)
}

// Since gives the change of the value from the last point at or before a moment to the last point, less what reworks explain.
// It reports false when there is no such point.
func Since(points []Point, at time.Time) (change float64, from Point, ok bool) {
	for i := len(points) - 1; i >= 0; i-- {
		if !points[i].At.After(at) {
			return change, points[i], true
		}
		if i > 0 {
			change += points[i].Value - points[i-1].Value - min(points[i].Reworked, max(0, points[i].Value-points[i-1].Value))
		}
	}
	return 0, Point{}, false
}
