package verdict

import (
	"fmt"
	"math"
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/wording"
)

// Moment is a reading's place in a drive's life, with its signals. Moments come in the order of time.
type Moment struct {
	Seq     int
	At      time.Time
	Place   drive.Bay // it was taken in; none: it came from elsewhere
	Signals signal.Values
}

// Watched is a self-test that the bench followed from its start to its end: evidence, whatever hour the drive's log stamps it with.
type Watched struct {
	Extended bool
	Passed   bool
	Seq      int // of the reading that was taken when it had ended
}

// Rework is a rework in a drive's life that ended.
type Rework struct {
	Run   int64
	Ended time.Time
	After int         // seq of the reading that was taken when it had ended; 0: the first one later than Ended
	Held  time.Time   // when a check on a later day had found nothing of it again; zero: not known
	Swept []SweptThen // by sweeps since then

	Cleared float64 // physical sectors it wrote that could not be read before, and can be read since
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

// Life is a drive's life in columns: for each signal the points at which it had a value, and the moments at which it was missing
// after it had been there. It is made once and looked at from any moment.
type Life struct {
	Moments []Moment
	Reworks []Rework
	Watched []Watched // in the order of time
	Risk    risk.Calibration
	after   []int     // per rework, the index of the moment after it; len(Moments) when there is none
	suspect []bool    // per moment, whether the next reading took back what it said
	columns []*column // of the signals that ever had a value
	byCode  [128]*column
}

// column is the points of one signal.
type column struct {
	definition *signal.Definition
	points     []trend.Point
	at         []int32 // per point, the index of its moment
	given      int     // the last moment that gave a value, while they are laid out
	sweep      float64 // at which power-on hour the sweep ended that the last point is from, of a signal that sweeps give; -1 unknown
	partial    bool    // some of them have no value, or one that was taken back
}

// kindOf is how a signal may move, as its trend is followed.
func kindOf(d *signal.Definition) trend.Kind {
	if !carries(d.Name) { // how long ago something was begins anew with each time
		return trend.Restarting
	}
	switch d.Direction {
	case signal.Grows:
		return trend.Counter
	case signal.Restarts:
		return trend.Restarting
	case signal.Varies:
	}
	return trend.Level
}

// NewLife lays a drive's moments out in columns and marks in them what reworks explain.
func NewLife(moments []Moment, reworks []Rework) *Life {
	l := &Life{Moments: moments, Reworks: reworks, after: make([]int, len(reworks)), suspect: make([]bool, len(moments))}
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
			reworked[i] += max(was(signal.Pending), was(signal.UncorrectableOffline), was(signal.UnreadableFound), w.Cleared)
		}
	}
	for i := 0; i+1 < len(moments); i++ {
		is, next := &moments[i], &moments[i+1]
		switch {
		case impossible(is.Signals) && !impossible(next.Signals):
			l.suspect[i] = true
		case i == 0:
			l.suspect[i] = asleep(is, next)
		default:
			l.suspect[i] = takenBack(moments[i-1].Signals, is.Signals, next.Signals) ||
				strayed(moments[i-1].Signals, is.Signals, next.Signals)
		}
	}
	l.lay(reworked)
	return l
}

// leastSuspect is how many counters have to leave their course at once before a whole reading is doubted.
const leastSuspect = 2

// takenBack reports whether a reading said of several counters what the readings before and after it agree was not so: all of it is
// garbage then, whatever else it says.
func takenBack(before, is, after signal.Values) bool {
	n := 0
	for d, x := range is.All() {
		if d.Direction != signal.Grows {
			continue
		}
		was, had := before.Get(d.Name)
		then, has := after.Get(d.Name)
		if had && has && then >= was && (x < was || x > then) {
			if n++; n >= leastSuspect {
				return true
			}
		}
	}
	return false
}

// slackHours is what a count of hours may stray by without being doubted.
const slackHours = 24

// strayed reports whether a reading's count of hours lies outside those before and after it, which agree that it ran on.
func strayed(before, is, after signal.Values) bool {
	was, a := before.Get(signal.PowerOnHours)
	x, b := is.Get(signal.PowerOnHours)
	then, c := after.Get(signal.PowerOnHours)
	return a && b && c && then >= was && (x < was-slackHours || x > then+slackHours)
}

// asleep reports whether a first reading says that nothing has happened yet, no hour and no event, to a drive that shows soon after more
// hours than have passed: it had not read its counters.
func asleep(first, next *Moment) bool {
	hours, known := first.Signals.Get(signal.PowerOnHours)
	then, has := next.Signals.Get(signal.PowerOnHours)
	if !known || !has || hours > 0 || then <= next.At.Sub(first.At).Hours()+slackHours {
		return false
	}
	for d, x := range first.Signals.All() {
		if d.Direction == signal.Grows && x > 0 && d.Name != signal.UnsafeShutdowns && d.Name != signal.PowerCycles {
			return false
		}
	}
	return true
}

// mostHours is older than any drive: about thirty years without a pause.
const mostHours = 260_000

// impossible reports whether a reading says what no drive can have lived.
func impossible(is signal.Values) bool {
	hours, ok := is.Get(signal.PowerOnHours)
	return ok && hours > mostHours
}

// doubtful reports whether a reading that is the latest says what cannot be, or of several counters that they fell: another has to
// confirm it before it counts.
func doubtful(before, is signal.Values) bool {
	if impossible(is) {
		return true
	}
	fell := 0
	for d, x := range is.All() {
		if was, had := before.Get(d.Name); d.Direction == signal.Grows && had && 2*x < was {
			fell++
		}
	}
	return fell >= leastSuspect
}

// lay makes the columns; reworked is, per moment, how much of the rise up to it a rework explains.
func (l *Life) lay(reworked []float64) {
	var had [128]int // by a signal's code, from which moment on it was there, counted from 1
	kinds, all := 0, 0
	for i := range l.Moments {
		for d := range l.Moments[i].Signals.All() {
			if had[d.Code] == 0 {
				had[d.Code] = i + 1
				kinds++
				all += len(l.Moments) - i
			}
		}
	}
	l.columns = make([]*column, 0, kinds)
	columns, points, at := make([]column, kinds), make([]trend.Point, all), make([]int32, all) // in one piece each: there are many lives
	for i := range l.Moments {
		m := &l.Moments[i]
		hours, known := m.Signals.Get(signal.PowerOnHours)
		if !known || l.suspect[i] {
			hours = -1
		}
		sweep := sweptAt(m.Signals)
		for d, v := range m.Signals.All() {
			c := l.byCode[d.Code]
			if c != nil && d.Name.BySweep() && sweep >= 0 && math.Abs(sweep-c.sweep) < sameSweep && v == c.points[len(c.points)-1].Value {
				c.given = i // what a sweep found, told again: it is as old as the sweep
				continue
			}
			if c == nil {
				c, columns = &columns[0], columns[1:]
				n := len(l.Moments) - had[d.Code] + 1
				c.definition, c.points, points, c.at, at = d, points[:0:n], points[n:], at[:0:n], at[n:]
				l.byCode[d.Code], l.columns = c, append(l.columns, c)
			}
			p := trend.Point{Seq: m.Seq, At: m.At, Hours: hours, Value: v, Late: i > 0 && len(c.points) == 0}
			if explained[d.Name] {
				p.Reworked = reworked[i]
			}
			c.points, c.at = append(c.points, p), append(c.at, int32(i))
			c.given, c.sweep = i, sweep
			c.partial = c.partial || l.suspect[i]
		}
		if garbled(m.Signals) { // as if it had not come
			continue
		}
		for _, c := range l.columns { // what was there before and is not now
			if c.given != i {
				p := trend.Point{Seq: m.Seq, At: m.At, Hours: hours, Missing: true}
				if explained[c.definition.Name] {
					p.Reworked = reworked[i]
				}
				c.points, c.at, c.partial = append(c.points, p), append(c.at, int32(i)), true
			}
		}
	}
}

// sameSweep is how many hours apart two sweeps end at least.
const sameSweep = 0.5

// sweptAt is the power-on hour at which the newest sweep ended that a reading knows of; -1 unknown.
func sweptAt(is signal.Values) float64 {
	hours, known := is.Get(signal.PowerOnHours)
	whole, swept := is.Get(signal.WholeSweepAge)
	spot, sampled := is.Get(signal.SpotSweepAge)
	switch {
	case !known || !swept && !sampled:
		return -1
	case !swept || sampled && spot < whole:
		return hours - spot
	}
	return hours - whole
}

// garbled reports whether what a reading does not give may be garbage that was recognized as such, be it the page or a value in it. That
// is other than not to be given at all: a reading of garbage is one too many, and hides none.
func garbled(is signal.Values) bool {
	damaged, known := is.Get(signal.DamagedPages)
	_, counters := is.Get(signal.AttributesFailing) // they were read
	return known && damaged > 0 || counters
}

// All are all moments at which a signal had a value that was not taken back with its reading.
func (l *Life) All(name signal.Name) []trend.Point {
	d, ok := signal.Lookup(name)
	if !ok || l.byCode[d.Code] == nil {
		return nil
	}
	c := l.byCode[d.Code]
	if !c.partial {
		return c.points
	}
	all := make([]trend.Point, 0, len(c.points))
	for n, p := range c.points {
		if !p.Missing && !l.suspect[c.at[n]] {
			all = append(all, p)
		}
	}
	return all
}

// Carried is a value that the latest reading does not give, or gives in doubt, from the last that did.
type Carried struct {
	Seq  int     // of the reading it is from
	Days float64 // before the latest
}

// A Walk looks at a life from one moment after the other, which costs no more than to look at it once.
type Walk struct {
	life      *Life
	followers []*trend.Follower // one for each column
	taken     []int             // how many points of each have been taken

	trends map[signal.Name]trend.Trend // of each evidence in turn; nil: each has its own
}

// Walk begins before the first moment.
func (l *Life) Walk() *Walk {
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
		Readings:    i + 1,
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
	e.OtherPort = w.otherPort(i)
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

// otherPort reports whether link errors grew in one bay, and did not in another one since.
func (w *Walk) otherPort(i int) bool {
	m := w.life.Moments[:i+1]
	place, still := drive.Bay{}, 0
	for k := 1; k < len(m); k++ {
		was, had := m[k-1].Signals.Get(signal.CRCErrors)
		is, has := m[k].Signals.Get(signal.CRCErrors)
		switch {
		case !had || !has || m[k].Place.IsZero():
		case is > was:
			place, still = m[k].Place, 0
		case !place.IsZero() && m[k].Place != place && m[k-1].Place == m[k].Place && m[k].At.Sub(m[k-1].At) >= leastElsewhere:
			still++
		}
	}
	return still > 0
}

// leastElsewhere is how long a drive has to stay at another port without a link error before that says something.
const leastElsewhere = 30 * time.Minute

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
