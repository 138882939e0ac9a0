// Package trend follows one signal over a drive's life. Life is counted in power-on hours where the drive tells them;
// the calendar is kept beside. This edition knows change, onset and growth over intervals. Start with Of.
package trend

import "time"

// Point is a signal's value at one reading. Points without a value are left out by the caller.
type Point struct {
	Seq   int       // of the reading, rising
	At    time.Time // of the reading
	Hours float64   // power-on hours, negative when unknown
	Value float64
}

// Interval is the least time between two readings whose difference counts as one interval of growth.
const Interval = 24 * time.Hour

// Trend is what the points say.
type Trend struct {
	First, Last  Point
	Change       float64 // Last - First
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
	for i := 1; i < len(points); i++ {
		before, now := points[i-1], points[i]
		if t.Onset == nil && before.Value == 0 && now.Value > 0 {
			t.Onset = &Onset{before, now}
		}
		t.FellBy = max(t.FellBy, before.Value-now.Value)
	}
	changed := 0
	for i := len(points) - 1; i > 0; i-- {
		if points[i].Value != points[i-1].Value {
			changed = i
			break
		}
	}
	if from := points[changed]; from.Hours >= 0 && t.Last.Hours >= from.Hours {
		t.SteadyHours = t.Last.Hours - from.Hours
	}
	t.Grew, t.Intervals = growth(points)
	return t, true
}

// growth walks back from the last point in intervals of at least Interval and counts in how many of the last three the
// value rose. The time is the calendar's, since a drive on a shelf has no hours and a shop has closing days.
func growth(points []Point) (grew, intervals int) {
	end := len(points) - 1
	for i := end - 1; i >= 0 && intervals < 3; i-- {
		if points[end].At.Sub(points[i].At) < Interval {
			continue
		}
		intervals++
		if points[end].Value > points[i].Value {
			grew++
		}
		end = i
	}
	return grew, intervals
}
