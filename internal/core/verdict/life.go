package verdict

import (
	"math"
	"time"

	"hylostat.example/internal/core/dialect"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

// Moment is a reading's place in a drive's life, with its signals. Moments come in the order of time.
type Moment struct {
	Seq     int
	At      time.Time
	Place   drive.Bay // it was taken in; none: it came from elsewhere
	Signals signal.Values
	Folded  int // how many readings lie between the one before and this of which only the times are kept, see Foldable
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
	folds   []fold

	reworked []float64 // of the rise up to a moment, how much a rework explains
	laid     laid
	still    *stills // nil: not looked for yet
}

// laid is which columns are laid out.
type laid uint8

const (
	none   laid = iota
	moving      // those of signals that are not still
	every
)

// fold is how many readings before a moment are folded.
type fold struct{ at, readings int }

// column is the points of one signal.
type column struct {
	definition *signal.Definition
	points     []trend.Point
	at         []int32 // per point, the index of its moment
	given      int     // the last moment that gave a value, while they are laid out
	sweep      float64 // at which power-on hour the sweep ended that the last point is from, of a signal that sweeps give; -1 unknown
	swept      bool    // sweeps give it
	explained  bool    // reworks move it
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
	for i := range moments {
		if n := moments[i].Folded; n > 0 {
			l.folds = append(l.folds, fold{i, n})
		}
	}
	l.reworked = make([]float64, len(moments))
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
			l.reworked[i] += max(was(signal.Pending), was(signal.UncorrectableOffline), was(signal.UnreadableFound), w.Cleared)
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
	return l
}

// leastSuspect is how many counters have to leave their course at once before a whole reading is doubted.
const leastSuspect = 2

// takenBack reports whether a reading said of several counters what the readings before and after it agree was not so: all of it is
// garbage then, whatever else it says.
func takenBack(before, is, after signal.Values) bool {
	n := 0
	if before.Alike(is) && is.Alike(after) { // as most are
		first, last := before.Numbers(), after.Numbers()
		for i, x := range is.Numbers() {
			if last[i] >= first[i] && (x < first[i] || x > last[i]) && is.Definition(i).Direction == signal.Grows {
				n++
			}
		}
		return n >= leastSuspect
	}
	for d, x := range is.All() {
		if d.Direction != signal.Grows {
			continue
		}
		was, had := before.Of(d)
		then, has := after.Of(d)
		if had && has && then >= was && (x < was || x > then) {
			if n++; n >= leastSuspect {
				return true
			}
		}
	}
	return false
}

// The definitions that are looked up at every moment.
var (
	hoursDefined       = signal.Defined(signal.PowerOnHours)
	crcDefined         = signal.Defined(signal.CRCErrors)
	damagedDefined     = signal.Defined(signal.DamagedPages)
	failingDefined     = signal.Defined(signal.AttributesFailing)
	wholeDefined       = signal.Defined(signal.WholeSweepAge)
	spotDefined        = signal.Defined(signal.SpotSweepAge)
	temperatureDefined = signal.Defined(signal.Temperature)
)

// slackHours is what a count of hours may stray by without being doubted.
const slackHours = 24

// strayed reports whether a reading's count of hours lies outside those before and after it, which agree that it ran on.
func strayed(before, is, after signal.Values) bool {
	was, a := before.Of(hoursDefined)
	x, b := is.Of(hoursDefined)
	then, c := after.Of(hoursDefined)
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

// impossible reports whether a reading says what no drive can have lived.
func impossible(is signal.Values) bool {
	hours, ok := is.Of(hoursDefined)
	return ok && hours > dialect.MostHours
}

// lay makes the columns, or those alone of signals that are not still.
func (l *Life) lay(which laid) {
	if l.laid >= which {
		return
	}
	l.laid, l.byCode = which, [128]*column{}
	left := func(d *signal.Definition) bool { return which == moving && l.still.from[d.Code] > 0 }
	var had [128]int // by a signal's code, from which moment on it was there, counted from 1
	kinds, all := 0, 0
	for i := range l.Moments {
		if i > 0 && l.Moments[i].Signals.Alike(l.Moments[i-1].Signals) {
			continue
		}
		for d := range l.Moments[i].Signals.All() {
			if had[d.Code] == 0 && !left(d) {
				had[d.Code] = i + 1
				kinds++
				all += len(l.Moments) - i
			}
		}
	}
	l.columns = make([]*column, 0, kinds)
	columns, points, at := make([]column, kinds), make([]trend.Point, all), make([]int32, all) // in one piece each: there are many lives
	var row []*column                                                                          // of the signals of a moment
	for i := range l.Moments {
		m := &l.Moments[i]
		hours, known := m.Signals.Of(hoursDefined)
		if !known || l.suspect[i] {
			hours = -1
		}
		sweep := sweptAt(m.Signals)
		if i == 0 || !m.Signals.Alike(l.Moments[i-1].Signals) {
			row = row[:0]
			for d := range m.Signals.All() {
				c := l.byCode[d.Code]
				if c == nil && !left(d) {
					c, columns = &columns[0], columns[1:]
					n := len(l.Moments) - had[d.Code] + 1
					c.definition, c.swept, c.explained = d, d.Name.BySweep(), explained[d.Name]
					c.points, points, c.at, at = points[:0:n], points[n:], at[:0:n], at[n:]
					l.byCode[d.Code], l.columns = c, append(l.columns, c)
				}
				row = append(row, c)
			}
		}
		for k, v := range m.Signals.Numbers() {
			c := row[k]
			if c == nil {
				continue
			}
			if had := len(c.points); c.swept && had > 0 && sweep >= 0 && math.Abs(sweep-c.sweep) < sameSweep && v == c.points[had-1].Value {
				c.given = i // what a sweep found, told again: it is as old as the sweep
				continue
			}
			p := trend.Point{Seq: m.Seq, At: m.At, Hours: hours, Value: v, Late: i > 0 && len(c.points) == 0, Folded: m.Folded}
			if c.explained {
				p.Reworked = l.reworked[i]
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
				if c.explained {
					p.Reworked = l.reworked[i]
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
	hours, known := is.Of(hoursDefined)
	whole, swept := is.Of(wholeDefined)
	spot, sampled := is.Of(spotDefined)
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
	damaged, known := is.Of(damagedDefined)
	_, counters := is.Of(failingDefined) // they were read
	return known && damaged > 0 || counters
}

// All are all moments at which a signal had a value that was not taken back with its reading.
func (l *Life) All(name signal.Name) []trend.Point {
	d, ok := signal.Lookup(name)
	if !ok {
		return nil
	}
	if l.laid != moving || l.still.from[d.Code] > 0 {
		l.lay(every)
	}
	if l.byCode[d.Code] == nil {
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

// leastElsewhere is how long a drive has to stay at another port without a link error before that says something.
const leastElsewhere = 30 * time.Minute
