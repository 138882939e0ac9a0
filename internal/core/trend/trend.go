// Package trend follows one signal over a drive's life: how it changed and since when, in how many intervals it grew, how fast,
// when it would meet a limit, and what contradicts itself. Life is counted in power-on hours where the drive tells them; the
// calendar is kept beside. What a rework did to a counter is no growth. Start with Of; line.go draws the line through the points,
// clock.go holds the drive's clocks against each other.
package trend

import "time"

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
	t.Grew, t.Intervals = growth(points)
	return t, true
}

// growth cuts the time since the first point into intervals and counts in how many of the last three the value rose. An interval
// ends with a rise, or without one after a day; a rise within a day of another is part of it, however many readings lie
// between. So a further reading without a rise can only add an interval without one: it never makes a drive look worse. The time
// is the calendar's, since a drive on a shelf has no hours and a shop has closing days.
func growth(points []Point) (grew, intervals int) {
	var recent [Recent]bool // the newest last
	add := func(rose bool) {
		copy(recent[:], recent[1:])
		recent[Recent-1] = rose
		intervals = min(intervals+1, Recent)
	}
	from := points[0].At // where the present interval began
	rising := false      // whether it began with a rise
	for i := 1; i < len(points); i++ {
		p := points[i]
		over := p.At.Sub(from) >= Interval
		switch {
		case p.rise(points[i-1]) > 0 && (over || !rising):
			add(true)
			from, rising = p.At, true
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
	return grew, intervals
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
