package verdict

import (
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

// Moment is a reading's place in a drive's life, with its signals. Moments come in the order of time.
type Moment struct {
	Seq     int
	At      time.Time
	Signals signal.Values
}

// Rework is a rework in a drive's life that ended.
type Rework struct {
	Run   int64
	Ended time.Time
	After int         // seq of the reading that was taken when it had ended; 0: the first one later than Ended
	Held  time.Time   // when a check on a later day had found nothing of it again; zero: not known
	Swept []SweptThen // by sweeps since then
}

// SweptThen is what a sweep could not read.
type SweptThen struct {
	At    time.Time
	Found float64 // physical sectors
}

// Reworked is the last rework, as rules see it.
type Reworked struct {
	Run   int64
	Held  bool
	Since map[signal.Name]float64 // how far signals moved since the reading after it
}

// explained are the signals that a rework moves: what was waiting or unreadable becomes reallocated when it is written.
var explained = map[signal.Name]bool{signal.Reallocated: true, signal.ReallocationEvents: true, signal.GrownDefects: true}

// Life is a drive's life in columns: for each signal the points at which it had a value. It is made once and looked at from any
// moment.
type Life struct {
	Moments []Moment
	Reworks []Rework
	after   []int                   // per rework, the index of the moment after it; len(Moments) when there is none
	columns map[signal.Name]*column // of the signals that ever had a value
}

// column is the points of one signal.
type column struct {
	points []trend.Point
	upTo   []int32 // per moment, how many points there are up to it; nil: one at each
}

// until are the points up to the i-th moment.
func (c *column) until(i int) []trend.Point {
	if c.upTo == nil {
		return c.points[:i+1]
	}
	return c.points[:c.upTo[i]]
}

// NewLife lays a drive's moments out in columns and marks in them what reworks explain.
func NewLife(moments []Moment, reworks []Rework) *Life {
	l := &Life{Moments: moments, Reworks: reworks, after: make([]int, len(reworks))}
	reworked := make([]float64, len(moments)) // of the rise up to a moment, how much a rework explains
	for n, w := range reworks {
		l.after[n] = len(moments)
		for i, m := range moments {
			if w.After > 0 && m.Seq == w.After || w.After == 0 && m.At.After(w.Ended) {
				l.after[n] = i
				break
			}
		}
		if i := l.after[n]; i > 0 && i < len(moments) {
			was := func(n signal.Name) float64 { x, _ := moments[i-1].Signals.Get(n); return x }
			reworked[i] += max(was(signal.Pending), was(signal.UncorrectableOffline), was(signal.UnreadableFound))
		}
	}
	l.lay(reworked)
	return l
}

// lay makes the columns; reworked is, per moment, how much of the rise up to it a rework explains.
func (l *Life) lay(reworked []float64) {
	var had [128]int // by a signal's code, at how many moments it had a value
	kinds, all := 0, 0
	for i := range l.Moments {
		for d := range l.Moments[i].Signals.All() {
			if had[d.Code] == 0 {
				kinds++
			}
			had[d.Code]++
			all++
		}
	}
	l.columns = make(map[signal.Name]*column, kinds)
	var byCode [128]*column
	columns, points := make([]column, kinds), make([]trend.Point, all) // in one piece each: there are many lives
	for i := range l.Moments {
		m := &l.Moments[i]
		hours, known := m.Signals.Get(signal.PowerOnHours)
		if !known {
			hours = -1
		}
		for d, v := range m.Signals.All() {
			c := byCode[d.Code]
			if c == nil {
				c, columns = &columns[0], columns[1:]
				n := had[d.Code]
				c.points, points = points[:0:n], points[n:]
				if n < len(l.Moments) {
					c.upTo = make([]int32, len(l.Moments))
				}
				byCode[d.Code], l.columns[d.Name] = c, c
			}
			p := trend.Point{Seq: m.Seq, At: m.At, Hours: hours, Value: v}
			if explained[d.Name] {
				p.Reworked = reworked[i]
			}
			c.points = append(c.points, p)
			if c.upTo != nil {
				c.upTo[i] = 1
			}
		}
	}
	for _, c := range l.columns {
		for i := 1; i < len(c.upTo); i++ {
			c.upTo[i] += c.upTo[i-1]
		}
	}
}

// All are all moments at which a signal had a value.
func (l *Life) All(name signal.Name) []trend.Point {
	if c := l.columns[name]; c != nil {
		return c.points
	}
	return nil
}

// Evidence is what is known at the i-th moment: its signals, the trends up to it, and what was reworked before. What only the
// pages of that reading tell, Identity aside, is left to the caller.
func (l *Life) Evidence(id drive.Identity, duty drive.Duty, now signal.Set, i int) Evidence {
	e := Evidence{Identity: id, Duty: duty, Now: now, Trends: make(map[signal.Name]trend.Trend, len(l.columns)), Readings: i + 1}
	if i < 0 || i >= len(l.Moments) {
		return e
	}
	e.ReadingSeq = l.Moments[i].Seq
	for name, c := range l.columns {
		if t, ok := trend.Of(c.until(i)); ok {
			e.Trends[name] = t
		}
	}
	last := -1
	for n := range l.Reworks {
		if l.after[n] <= i && (last < 0 || l.after[n] >= l.after[last]) {
			last = n
		}
	}
	if last < 0 {
		return e
	}
	w, at := l.Reworks[last], l.Moments[i].At
	known := func(t time.Time) bool { return i == len(l.Moments)-1 || !t.After(at) } // the present knows more than its latest reading
	e.Reworked = &Reworked{Run: w.Run, Held: !w.Held.IsZero() && known(w.Held), Since: map[signal.Name]float64{}}
	for name, c := range l.columns {
		if moved, _, ok := trend.Since(c.until(i), l.Moments[l.after[last]].At); ok {
			e.Reworked.Since[name] = moved
		}
	}
	found := 0.0
	for _, x := range w.Swept {
		if known(x.At) {
			found = max(found, x.Found)
		}
	}
	e.Reworked.Since[signal.UnreadableFound] = found
	return e
}
