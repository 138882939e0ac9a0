package verdict

import (
	"fmt"
	"math"
	"time"

	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/wording"
)

// Course is how one signal went over a drive's life, for people: rules are judged by its trend alone.
type Course struct {
	trend.Trend
	SinceIntake *float64 // change since the reading before the present intake; nil: there is none
	SinceCheck  *float64 // change since the last check before the latest reading; nil: there is none
	Deltas      []trend.Delta
	Line        *trend.Line // nil: too few points, or no hours
	Forecast    *Forecast   // nil: the fit does not deserve one
}

// Forecast is the range of power-on hours in which a limit is met if the drive goes on as it did.
type Forecast struct{ From, To, Limit float64 }

// Marks are the moments that changes are counted from; a zero time is not there.
type Marks struct{ Intake, Check time.Time }

// latestDeltas is how many movements are told.
const latestDeltas = 3

// Course follows a signal over the whole life. It reports false when the signal never had a value.
func (l *Life) Course(name signal.Name, limit *float64, m Marks) (Course, bool) {
	d, _ := signal.Lookup(name)
	if s, value := l.stays(&d); s != nil {
		return s.course(&d, value, m), true
	}
	l.lay(moving)
	return courseOf(&d, l.All(name), limit, m)
}

func courseOf(d *signal.Definition, points []trend.Point, limit *float64, m Marks) (Course, bool) {
	t, ok := trend.Of(points, kindOf(d))
	if !ok {
		return Course{}, false
	}
	c := Course{Trend: t, Deltas: trend.Deltas(points, latestDeltas)}
	since := func(at time.Time) *float64 {
		if at.IsZero() {
			return nil
		}
		moved, from, ok := trend.Since(points, at, kindOf(d))
		if !ok || from.Seq == t.Last.Seq {
			return nil
		}
		return &moved
	}
	c.SinceIntake, c.SinceCheck = since(m.Intake), since(m.Check)
	if d.Unit == "%" {
		c.Pace = 0 // a share is no count of events, which alone come by chance
	}
	if d.Unit == "h" { // hours over hours say nothing
		return c, true
	}
	line, ok := trend.Through(points)
	if !ok {
		return c, true
	}
	c.Line = &line
	if limit != nil {
		if from, to, ok := line.Forecast(points, *limit); ok {
			c.Forecast = &Forecast{from, to, *limit}
		}
	}
	return c, true
}

// Words tells the course in sentences, the most telling first; a signal that never moved has one.
func (c Course) Words(d signal.Definition) []string {
	with := func(x float64) string { return wording.Of(x, wording.Singular(d.Unit, x)) }
	at := func(p trend.Point) string {
		if p.Hours < 0 {
			return fmt.Sprintf("reading %d", p.Seq)
		}
		return fmt.Sprintf("%s h, reading %d", wording.Number(p.Hours), p.Seq)
	}
	if c.Observations == 1 {
		return []string{fmt.Sprintf("One reading so far: %s.", with(c.Last.Value))}
	}
	if len(c.Deltas) == 0 {
		return []string{fmt.Sprintf("%s in all %d readings.", with(c.Last.Value), c.Observations)}
	}
	var all []string
	if c.Onset != nil {
		all = append(all, fmt.Sprintf("Still 0 at %s; %s at %s.", at(c.Onset.Before), with(c.Onset.First.Value), at(c.Onset.First)))
	}
	if d.Direction == signal.Grows && c.FellBy > 0 {
		all = append(all, fmt.Sprintf("It fell by %s, and it can only grow.", with(c.FellBy)))
	}
	switch {
	case !d.Matters:
	case c.Suspect == 1:
		all = append(all, "One reading was set aside: the next one took back what it said.")
	case c.Suspect > 1:
		all = append(all, fmt.Sprintf("%d readings were set aside: the next ones took back what they said.", c.Suspect))
	}
	if c.Grew > 0 {
		rose := fmt.Sprintf("It rose in %d of the last %d intervals of a day or more", c.Grew, c.Intervals)
		if pace := wording.Pace(c.Pace); pace != "" && d.Matters {
			rose += fmt.Sprintf(": %s, with %.0f %% confidence", pace, trend.Confidence*100)
		}
		all = append(all, rose+".")
	}
	last := c.Deltas[0]
	moved := fmt.Sprintf(
		"Last moved from %s to %s, between reading %d and %d", with(last.From.Value), with(last.To.Value), last.From.Seq,
		last.To.Seq,
	)
	if last.Change != last.To.Value-last.From.Value {
		moved += ", by a rework"
	}
	if c.SteadyHours > 0 {
		moved += fmt.Sprintf("; steady for %s h since", wording.Number(c.SteadyHours))
	}
	all = append(all, moved+".")
	if l := c.Line; l != nil && d.Matters {
		switch l.Shape {
		case trend.Burst:
			all = append(all, "It came in a burst.")
		case trend.Steady:
			all = append(all, fmt.Sprintf("It rises steadily, by %s to %s in 1\u00a0000 h.", wording.Number(l.Low*1000), with(l.High*1000)))
		case trend.Uneven:
			if l.Turn != nil {
				all = append(all, fmt.Sprintf("Its level is another one since %s.", at(*l.Turn)))
			}
		case trend.Still:
		}
	}
	if f := c.Forecast; f != nil {
		all = append(
			all,
			fmt.Sprintf(
				"Going on like this it meets %s between %s and %s h.", with(f.Limit), wording.Number(math.Floor(f.From)),
				wording.Number(math.Ceil(f.To)),
			),
		)
	}
	return all
}
