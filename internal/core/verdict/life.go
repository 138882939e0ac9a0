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
	Signals map[signal.Name]float64
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
	after   []int                         // per rework, the index of the moment after it; len(Moments) when there is none
	points  map[signal.Name][]trend.Point //
	upTo    map[signal.Name][]int32       // per moment, how many points there are up to it
}

// NewLife lays a drive's moments out in columns and marks in them what reworks explain.
func NewLife(moments []Moment, reworks []Rework) *Life {
	l := &Life{Moments: moments, Reworks: reworks, after: make([]int, len(reworks)), points: map[signal.Name][]trend.Point{}, upTo: map[signal.Name][]int32{}}
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
			before := moments[i-1].Signals
			reworked[i] += max(before[signal.Pending], before[signal.UncorrectableOffline], before[signal.UnreadableFound])
		}
	}
	for i, m := range moments {
		hours, known := m.Signals[signal.PowerOnHours]
		if !known {
			hours = -1
		}
		for name, v := range m.Signals {
			p := trend.Point{Seq: m.Seq, At: m.At, Hours: hours, Value: v}
			if explained[name] {
				p.Reworked = reworked[i]
			}
			l.points[name] = append(l.points[name], p)
			if l.upTo[name] == nil {
				l.upTo[name] = make([]int32, len(moments))
			}
			l.upTo[name][i] = 1
		}
	}
	for _, counts := range l.upTo {
		for i := 1; i < len(counts); i++ {
			counts[i] += counts[i-1]
		}
	}
	return l
}

// Points are the moments up to the i-th at which a signal had a value.
func (l *Life) Points(name signal.Name, i int) []trend.Point {
	counts := l.upTo[name]
	if i >= len(counts) || i < 0 {
		return nil
	}
	return l.points[name][:counts[i]]
}

// All are all moments at which a signal had a value.
func (l *Life) All(name signal.Name) []trend.Point { return l.points[name] }

// Evidence is what is known at the i-th moment: its signals, the trends up to it, and what was reworked before. What only the
// pages of that reading tell, Identity aside, is left to the caller.
func (l *Life) Evidence(id drive.Identity, duty drive.Duty, now signal.Set, i int) Evidence {
	e := Evidence{Identity: id, Duty: duty, Now: now, Trends: make(map[signal.Name]trend.Trend, len(l.points)), Readings: i + 1}
	if i < 0 || i >= len(l.Moments) {
		return e
	}
	e.ReadingSeq = l.Moments[i].Seq
	for name := range l.points {
		if t, ok := trend.Of(l.Points(name, i)); ok {
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
	for name := range l.points {
		if moved, _, ok := trend.Since(l.Points(name, i), l.Moments[l.after[last]].At); ok {
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
