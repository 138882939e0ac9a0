package verdict

import (
	"slices"
	"time"

	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

// stills are the signals of a life that said one thing in every reading from their first on, as most counters do. What is told of one is
// told of all that are there as long: it is found once, and their points are not laid out.
type stills struct {
	from  [128]int // by a signal's code, from which moment on it is there, counted from 1; 0: it is not still
	value [128]float64
	told  map[stillKind]*still
}

// stillKind is what signals have in common whose trend differs in the value alone.
type stillKind struct {
	kind trend.Kind
	from int
}

// still is how a signal goes that stays 0.
type still struct {
	points  []trend.Point
	trend   trend.Trend
	line    trend.Line
	hasLine bool
}

// findStill finds them. Where a reading was taken back, and where sweeps or reworks have a say, nothing is taken for still.
func (l *Life) findStill() *stills {
	s := &stills{told: map[stillKind]*still{}}
	if slices.Contains(l.suspect, true) {
		return s
	}
	var seen [128]int
	var moved [128]bool
	var row []*signal.Definition
	for i := range l.Moments {
		now := l.Moments[i].Signals
		if i == 0 || !now.Alike(l.Moments[i-1].Signals) {
			row = row[:0]
			for d := range now.All() {
				row = append(row, d)
			}
		}
		for k, x := range now.Numbers() {
			code := row[k].Code
			if seen[code] == 0 {
				s.from[code], s.value[code] = i+1, x
				moved[code] = x < 0 || row[k].Name.BySweep() || explained[row[k].Name] && len(l.Reworks) > 0
			}
			seen[code]++
			moved[code] = moved[code] || x != s.value[code]
		}
	}
	for code, from := range s.from {
		if from > 0 && (moved[code] || seen[code] != len(l.Moments)-from+1) {
			s.from[code] = 0
		}
	}
	return s
}

// stays gives how a signal goes that is still, and its value; nil: it moves, or was never there.
func (l *Life) stays(d *signal.Definition) (*still, float64) {
	if l.still == nil {
		l.still = l.findStill()
	}
	key := stillKind{kindOf(d), l.still.from[d.Code]}
	if key.from == 0 {
		return nil, 0
	}
	told := l.still.told[key]
	if told == nil {
		told = &still{points: make([]trend.Point, 0, len(l.Moments)-key.from+1)}
		for i := key.from - 1; i < len(l.Moments); i++ {
			m := &l.Moments[i]
			hours, known := m.Signals.Of(hoursDefined)
			if !known {
				hours = -1
			}
			late := i > 0 && len(told.points) == 0
			told.points = append(told.points, trend.Point{Seq: m.Seq, At: m.At, Hours: hours, Late: late, Folded: m.Folded})
		}
		told.trend, _ = trend.Of(told.points, key.kind)
		told.line, told.hasLine = trend.Through(told.points)
		l.still.told[key] = told
	}
	return told, l.still.value[d.Code]
}

// course is that of a signal that is still at a value.
func (s *still) course(d *signal.Definition, value float64, m Marks) Course {
	t := s.trend
	t.First.Value, t.Last.Value, t.Held, t.Unexplained = value, value, value, value
	if t.HasBefore {
		t.Before = value
	}
	c := Course{Trend: t}
	since := func(at time.Time) *float64 {
		n, _ := slices.BinarySearchFunc(s.points, at, func(p trend.Point, at time.Time) int {
			if p.At.After(at) {
				return 1
			}
			return -1
		})
		if at.IsZero() || n == 0 || s.points[n-1].Seq == t.Last.Seq {
			return nil
		}
		return new(float64)
	}
	c.SinceIntake, c.SinceCheck = since(m.Intake), since(m.Check)
	if d.Unit != "h" && s.hasLine {
		line := s.line
		line.Middle = value
		c.Line = &line
	}
	return c
}

// Drawn is All, thinned for a figure: see trend.Drawn.
func (l *Life) Drawn(name signal.Name, about int) []trend.Point {
	d, ok := signal.Lookup(name)
	if !ok {
		return nil
	}
	s, value := l.stays(&d)
	if s == nil {
		l.lay(moving)
		return trend.Drawn(l.All(name), about)
	}
	points := slices.Clone(trend.Drawn(s.points, about))
	for i := range points {
		points[i].Value = value
	}
	return points
}
