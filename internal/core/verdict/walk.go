package verdict

import (
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/wording"
)

// doubtful reports whether a reading that is the latest says what cannot be, or of several counters that they fell: another has to
// confirm it before it counts.
func doubtful(before, is signal.Values) bool {
	if impossible(is) {
		return true
	}
	fell := 0
	for d, x := range is.All() {
		if was, had := before.Of(d); d.Direction == signal.Grows && had && 2*x < was {
			fell++
		}
	}
	return fell >= leastSuspect
}

// A Walk looks at a life from one moment after the other, which costs no more than to look at it once.
type Walk struct {
	life      *Life
	followers []*trend.Follower // one for each column
	taken     []int             // how many points of each have been taken
	ports     ports

	trends map[signal.Name]trend.Trend // of each evidence in turn; nil: each has its own
}

// counted is how many readings there were up to the i-th moment, those that are folded among them.
func (l *Life) counted(i int) int {
	n := i + 1
	for _, f := range l.folds {
		if f.at <= i {
			n += f.readings
		}
	}
	return n
}

// Walk begins before the first moment.
func (l *Life) Walk() *Walk {
	l.lay(every)
	w := &Walk{life: l, followers: make([]*trend.Follower, len(l.columns)), taken: make([]int, len(l.columns))}
	for i, c := range l.columns {
		w.followers[i] = trend.Follow(kindOf(c.definition))
	}
	return w
}

// upTo takes all points up to the i-th moment.
func (w *Walk) upTo(i int) {
	for n, c := range w.life.columns {
		for w.taken[n] < len(c.points) && c.at[w.taken[n]] <= int32(i) {
			k, f := w.taken[n], w.followers[n]
			if k > 0 && w.life.suspect[c.at[k-1]] {
				f.TakeBack()
			}
			if w.life.suspect[c.at[k]] {
				f.AddDoubtful(c.points[k])
			} else {
				f.Add(c.points[k])
			}
			w.taken[n]++
		}
	}
}

// Evidence is what is known at the i-th moment: its signals, the trends up to it, and what was reworked before. What only the
// pages of that reading tell, Identity aside, is left to the caller.
func (l *Life) Evidence(id drive.Identity, duty drive.Duty, now signal.Set, i int) Evidence {
	return l.Walk().Evidence(id, duty, now, i)
}

// Evidence is Life.Evidence; moments are asked for in their order. What the reading does not give of what was there before is carried
// into now, from the last reading that gave it. In a reading that is in doubt all is carried.
func (w *Walk) Evidence(id drive.Identity, duty drive.Duty, now signal.Set, i int) Evidence {
	l := w.life
	if now == nil {
		now = signal.Set{}
	}
	e := Evidence{
		Identity:    id,
		Duty:        duty,
		Now:         now,
		Calibration: l.Risk,
		Trends:      w.trends,
		Readings:    l.counted(i),
		Carried:     map[signal.Name]Carried{},
	}
	if e.Trends == nil {
		e.Trends = make(map[signal.Name]trend.Trend, len(l.columns))
	}
	clear(e.Trends)
	if i < 0 || i >= len(l.Moments) {
		return e
	}
	m := &l.Moments[i]
	e.ReadingSeq = m.Seq
	if e.Doubtful = i > 0 && w.doubtful(i); e.Doubtful {
		w.upTo(i - 1)
	} else {
		w.upTo(i)
	}
	for n, c := range l.columns {
		t, ok := w.followers[n].Trend()
		if !ok {
			continue
		}
		name := c.definition.Name
		e.Trends[name] = t
		if c.definition.Direction == signal.Grows { // a level may come and go
			e.Suspect = max(e.Suspect, t.Suspect)
		}
		if v := now[name]; (!v.Available || e.Doubtful) && carries(name) {
			now[name] = signal.Value{Number: t.Last.Value, Available: true, Source: fmt.Sprintf("reading %d", t.Last.Seq), Carried: true}
			e.Carried[name] = Carried{t.Last.Seq, m.At.Sub(t.Last.At).Hours() / 24}
		}
	}
	w.capacity(&e)
	w.watched(&e, i)
	w.ports.upTo(l.Moments, i)
	e.OtherPort = w.ports.still > 0 // they grew in one bay, and did not in another one since
	w.reworked(&e, i)
	return e
}

// watched lets a passed self-test that the bench followed count as passed when its reading was taken, and finds out whether the drive's
// log stamps such tests with hours of its own making.
func (w *Walk) watched(e *Evidence, i int) {
	l := w.life
	hours := func(m *Moment) float64 {
		if x, ok := m.Signals.Get(signal.PowerOnHours); ok {
			return x
		}
		return -1
	}
	now := &l.Moments[i]
	for _, test := range l.Watched {
		k := slices.IndexFunc(l.Moments[:i+1], func(m Moment) bool { return m.Seq == test.Seq })
		if k < 0 {
			continue
		}
		then := &l.Moments[k]
		if stamp, ok := then.Signals.Get(signal.HoursStamp); ok && hours(then) >= 0 && stamp > hours(then)+trend.SlackHours {
			e.Habit = fmt.Sprintf("hour %s at hour %s", wording.Number(stamp), wording.Number(hours(then)))
		}
		if !test.Passed {
			continue
		}
		age := now.At.Sub(then.At).Hours()
		if hours(now) >= 0 && hours(then) >= 0 && hours(now) >= hours(then) {
			age = hours(now) - hours(then)
		}
		ages := []signal.Name{signal.ShortTestAge}
		if test.Extended {
			ages = append(ages, signal.ExtendedTestAge)
		}
		for _, n := range ages {
			if v := e.Now[n]; !v.Available || age < v.Number {
				e.Now[n] = signal.Value{Number: age, Available: true, Source: fmt.Sprintf("watched by the bench, reading %d", test.Seq)}
			}
		}
	}
}

// capacity takes a whole sweep back where the drive was larger once: what is hidden now was not swept.
func (w *Walk) capacity(e *Evidence) {
	d, _ := signal.Lookup(signal.Capacity)
	c := w.life.byCode[d.Code]
	if c == nil || !e.Now[signal.WholeSweepAge].Available {
		return
	}
	for _, p := range c.points[:w.taken[slices.Index(w.life.columns, c)]] {
		if now := e.Now[signal.Capacity].Number; !p.Missing && p.Value > now {
			e.Now[signal.WholeSweepAge] = signal.Missing(
				fmt.Sprintf(
					"it showed %s at reading %d and shows %s now: no sweep reads the whole of it", wording.Of(p.Value, "B"),
					p.Seq, wording.Of(now, "B"),
				),
			)
			return
		}
	}
}

// ports remembers in which bay link errors grew last, and in how many readings since they did not in another one.
type ports struct {
	grew  drive.Bay // none: nowhere yet
	still int
	next  int // the first moment that was not looked at
}

// upTo looks at the moments up to the i-th.
func (p *ports) upTo(moments []Moment, i int) {
	for p.next = max(p.next, 1); p.next <= i; p.next++ {
		before, m := &moments[p.next-1], &moments[p.next]
		was, had := before.Signals.Of(crcDefined)
		is, has := m.Signals.Of(crcDefined)
		switch {
		case !had || !has || m.Place.IsZero():
		case is > was:
			p.grew, p.still = m.Place, 0
		case !p.grew.IsZero() && m.Place != p.grew && before.Place == m.Place && m.At.Sub(before.At) >= leastElsewhere:
			p.still++
		}
	}
}

// doubtful reports whether the i-th reading is one that another has to confirm, and none has: two in a row that say the same are believed.
func (w *Walk) doubtful(i int) bool {
	m := w.life.Moments
	return doubtful(m[i-1].Signals, m[i].Signals) && (i < 2 || !doubtful(m[i-2].Signals, m[i-1].Signals))
}

// carries reports whether a signal's last value stands until another is known. How long ago something was does not: it is not known how
// long.
func carries(n signal.Name) bool {
	switch n {
	case signal.ShortTestAge, signal.ExtendedTestAge, signal.FailedTestAge, signal.WholeSweepAge, signal.SpotSweepAge, signal.CapacityShown:
		return false
	default:
		return true
	}
}

// reworked adds what was reworked last before the i-th moment.
func (w *Walk) reworked(e *Evidence, i int) {
	l := w.life
	last := -1
	for n := range l.Reworks {
		if l.after[n] <= i && (last < 0 || l.after[n] >= l.after[last]) {
			last = n
		}
	}
	if last < 0 {
		return
	}
	r, at := l.Reworks[last], l.Moments[i].At
	known := func(t time.Time) bool { return i == len(l.Moments)-1 || !t.After(at) } // the present knows more than its latest reading
	e.Reworked = &Reworked{Run: r.Run, Held: !r.Held.IsZero() && known(r.Held), Since: map[signal.Name]float64{}}
	for _, c := range l.columns {
		points := c.points
		for len(points) > 0 && c.at[len(points)-1] > int32(i) {
			points = points[:len(points)-1]
		}
		if moved, _, ok := trend.Since(points, l.Moments[l.after[last]].At, kindOf(c.definition)); ok {
			e.Reworked.Since[c.definition.Name] = moved
		}
	}
	found := 0.0
	for _, x := range r.Swept {
		if known(x.At) {
			found = max(found, x.Found)
		}
	}
	e.Reworked.Since[signal.UnreadableFound] = found
}
