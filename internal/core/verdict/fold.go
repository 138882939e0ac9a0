package verdict

import (
	"math"
	"slices"
	"time"

	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

// Foldable finds which readings between the first and the last of some, as indices into the moments of a life, nothing rests on: what
// they say is what those around them say, save for clocks and what varies, and of that they are no extreme. Without them every trend of a
// signal that matters is the same at each moment that is left, and so is the verdict. Only what lies within a day of its neighbours goes.
// Ranges share their ends at most, and are in order; the first and the last reading of each stay, and so do those that keep names by their
// Seq.
func Foldable(moments []Moment, ranges [][2]int, keep map[int]bool) []int {
	l := NewLife(moments, nil)
	needed := make([]bool, len(moments))
	for i := range moments {
		if needed[i] = needed[i] || keep[moments[i].Seq]; i > 0 && (l.suspect[i] || differs(&moments[i-1], &moments[i])) {
			for k := max(0, i-around); k < min(len(moments), i+around); k++ {
				needed[k] = true
			}
		}
	}
	l.ends(needed)
	var all []int
	for _, r := range ranges {
		extremes(moments[r[0]:r[1]+1], needed[r[0]:])
		for i := r[0] + 1; i < r[1]; i++ {
			if !needed[i] && moments[i+1].At.Sub(moments[i-1].At) <= dense {
				all = append(all, i)
			}
		}
	}
	return all
}

// dense is how far apart the readings before and after one lie at most that can be left out: one of a month is missed.
const dense = 2*24*time.Hour + time.Hour

// around is how many readings on each side of a change stay: what one says alone is taken back by those around it, see trend.Follower.
const around = 4

// countedFrom is for how long, after a signal moved or before it moves again, it matters from which readings its intervals are counted:
// only the newest trend.Recent are looked at, and after so many days all of these passed without a rise.
const countedFrom = (trend.Recent + 2) * trend.Interval

// ends marks the moments at which an interval of a signal that matters began, near to where it moved, and to where its life begins and
// ends: those that follow are counted from there.
func (l *Life) ends(needed []bool) {
	w := l.Walk()
	began, moves := make([]time.Time, len(l.columns)), make([][]time.Time, len(l.columns))
	for n, c := range l.columns {
		for k, p := range c.points {
			if k == 0 || k == len(c.points)-1 || p.Missing || p.Value != c.points[k-1].Value {
				moves[n] = append(moves[n], p.At)
			}
		}
	}
	for i := range l.Moments {
		w.upTo(i)
		for n, c := range l.columns {
			now := w.followers[n].Interval()
			if !c.definition.Matters || now.Equal(began[n]) {
				continue
			}
			for len(moves[n]) > 1 && moves[n][1].Before(now) {
				moves[n] = moves[n][1:]
			}
			if !slices.ContainsFunc(moves[n][:min(2, len(moves[n]))], func(at time.Time) bool { return now.Sub(at).Abs() <= countedFrom }) {
				began[n] = now
				continue
			}
			began[n] = now
			for k := i; k >= 0; k-- { // mostly the one before
				if l.Moments[k].At.Equal(now) {
					needed[k] = true
					break
				}
			}
		}
	}
}

// runsAhead is by how many hours a clock may be ahead of the calendar between two readings: some count whole hours by themselves.
const runsAhead = 2

// differs reports whether a reading says something else than the one before: other signals, another value of one that matters, or of one
// that is neither a clock nor counts up nor varies, or a clock that went back or ran ahead.
func differs(before, is *Moment) bool {
	if before.Place != is.Place || before.Signals.Len() != is.Signals.Len() {
		return true
	}
	for d, x := range is.Signals.All() {
		was, had := before.Signals.Of(d)
		switch {
		case !had:
			return true
		case was == x || varies(d):
		case d.Matters, x < was:
			return true
		case d.Unit == "h" || d.Name == signal.HoursRaw:
			if d.Unit == "h" && x-was > is.At.Sub(before.At).Hours()+runsAhead {
				return true
			}
		case d.Inner && d.Direction != signal.Grows:
			return true
		}
	}
	return false
}

// varies reports whether a signal goes up and down by itself, so that of some readings its extremes are told.
func varies(d *signal.Definition) bool {
	return d.Name == signal.Temperature || d.Name == signal.TemperatureLowest
}

// extremes marks, of some moments, the first that have the lowest and the highest value of a signal that varies.
func extremes(moments []Moment, needed []bool) {
	for _, n := range []signal.Name{signal.Temperature, signal.TemperatureLowest} {
		lowest, highest := math.Inf(1), math.Inf(-1)
		low, high := 0, 0
		for i, m := range moments {
			x, ok := m.Signals.Get(n)
			if ok && x < lowest {
				lowest, low = x, i
			}
			if ok && x > highest {
				highest, high = x, i
			}
		}
		needed[low], needed[high] = true, true
	}
}

// quiet finds the readings at which nothing can have become known but how late it is.
type quiet struct {
	life    *Life
	day     time.Time // since when the temperatures of the readings that were looked at are known
	low     float64
	high    float64
	changed int // the last reading that differed from the one before it
}

// passes reports whether the i-th reading need not be looked at: in the day before, others were, at which all that is no clock was the
// same, and which were as hot, and as cold. It is asked for each in turn.
func (q *quiet) passes(i int) bool {
	m := &q.life.Moments[i]
	x, warm := m.Signals.Of(temperatureDefined)
	if i == 0 || differs(&q.life.Moments[i-1], m) {
		q.changed = i
	}
	if i-q.changed < around || m.At.Sub(q.day) >= 24*time.Hour || i == len(q.life.Moments)-1 || !warm {
		q.day, q.low, q.high = m.At, x, x
		return false
	}
	if x < q.low || x > q.high {
		q.low, q.high = min(q.low, x), max(q.high, x)
		return false
	}
	return true
}
