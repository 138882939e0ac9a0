package trend

import "time"

// Follower takes the points of a signal one after the other and tells the trend up to the latest. The latest is taken at its word; the
// next one can set it aside: a lone excursion, be it the first reading of all, is garbage or a slip, and no growth.
type Follower struct {
	kind    Kind
	stands  course
	latest  Point
	has     bool
	suspect int
	seen    int
	first   *Point    // the first of all, while nobody knows whether it or the second is right
	gap     *gap      // since the latest
	prior   stood     // how it stood before the latest came
	moved   bool      // whether the latest is another than the point before it
	before  *Follower // how it stood before the latest, where that may be taken back
}

// stood is a course with the point that was the latest.
type stood struct {
	stands course
	latest Point
}

// between reports whether the value that stood lies between the latest and one that came after it and was set aside: that one was no
// witness for the latest, which is judged by the next.
func (s *stood) between(after float64, kind Kind) bool {
	was := s.stands.stood(kind)
	return s.stands.observations > 0 && (s.latest.Value < was && after > was || s.latest.Value > was && after < was)
}

// Follow begins with no points.
func Follow(kind Kind) *Follower { return &Follower{kind: kind} }

// Add takes the next point.
func (f *Follower) Add(p Point) {
	f.before = nil
	if p.Missing {
		if f.gap == nil {
			f.gap = &gap{first: p.At, last: p.At}
		} else { // a copy: how it stood before may be kept
			f.gap = &gap{f.gap.first, p.At}
		}
		return
	}
	f.seen += 1 + p.Folded
	first := f.first
	f.first = nil
	switch {
	case !f.has:
	case first != nil && p.Value >= first.Value: // the third is with the first: it was the second that was wrong
		f.stands.take(first, f.kind)
	case f.excursion(&p):
		f.setAside(&p)
		if f.moved && f.prior.between(f.latest.Value, f.kind) {
			f.stands, f.latest, f.moved = f.prior.stands, f.prior.latest, false
			if f.excursion(&p) {
				f.setAside(&p)
			} else {
				f.stands.take(&f.latest, f.kind)
			}
		}
	default:
		if f.moved = p.Value != f.latest.Value; f.moved {
			f.prior = stood{f.stands, f.latest}
		}
		f.stands.take(&f.latest, f.kind)
	}
	p.gap = f.gap
	f.latest, f.has = p, true
	f.gap = nil
}

// Interval is when the present interval of growth, or of none, began: at one of the points that were added; the zero time before the
// second.
func (f *Follower) Interval() time.Time { return f.stands.from }

// setAside drops the latest for the one that takes it back; what a rework did before it still explains that.
func (f *Follower) setAside(next *Point) {
	f.suspect++
	if f.stands.observations == 0 {
		was := f.latest
		f.first = &was
	}
	next.Reworked = max(next.Reworked, f.latest.Reworked)
}

// AddDoubtful takes a point of a reading of which it is known that the next one takes it back, as a whole.
func (f *Follower) AddDoubtful(p Point) {
	stood := *f
	f.Add(p)
	f.before = &stood
}

// TakeBack sets the point that AddDoubtful took aside, and whatever it had set aside itself stands again.
func (f *Follower) TakeBack() {
	if f.before != nil {
		seen := f.seen
		*f = *f.before
		f.seen = seen
		f.suspect++
	}
}

// spike is to which part of it a level falls back at once when it never was so high.
const spike = 32

// excursion reports whether the latest point is taken back by the next: it had left the value that stands, and the next one returns to
// it. A counter that is high once and lower ever after was never so high; what two readings say in a row stands.
func (f *Follower) excursion(next *Point) bool {
	is := f.latest.Value
	if f.gap != nil || f.latest.gap != nil { // what a reading in between would have said nobody knows
		return false
	}
	if f.stands.observations == 0 {
		return f.kind == Counter && 2*next.Value < is && !f.latest.Late
	}
	was := f.stands.stood(f.kind)
	switch f.kind {
	case Counter:
		return is > next.Value && next.Value >= was && is > was || is < was && next.Value >= was
	case Level:
		return is > was && next.Value <= max(was, is/spike) || is == 0 && was > 0 && next.Value == was
	case Restarting:
	}
	return false
}

// Trend is the trend up to the latest point; false when there is none.
func (f *Follower) Trend() (Trend, bool) {
	c := f.stands
	if f.has {
		c.take(&f.latest, f.kind)
	}
	if c.observations == 0 {
		return Trend{}, false
	}
	t := c.trend(f.kind)
	t.Observations, t.Suspect = f.seen, f.suspect
	return t, true
}

// course is what the points that stand come to. It is copied whole for each look at the latest.
type course struct {
	observations int
	first, last  Point
	top          float64 // the highest value since the last reset
	rose         float64 // all rises, less what reworks explain
	held         float64 // all that was ever counted
	reworked     float64
	before       float64
	changed      Point // the first reading that had the present value
	onset        Onset
	left         bool // it left zero
	fell         float64
	jump, events float64

	recent    [Recent]bool // whether it rose, the newest interval last
	intervals int
	from      time.Time // when the present interval began
	rising    bool      // whether it began with a rise
	rises     [paced]rise
	risen     int
}

// stood is the value that stands: of a counter the highest, else the last.
func (c *course) stood(kind Kind) float64 {
	if kind == Counter {
		return c.top
	}
	return c.last.Value
}

// rise is an interval of growth: the reading before it, the one that showed it, and how many events there had been by then.
type rise struct {
	after, at moment
	events    float64
	before    float64 // events before it
}

// moment is a time by the calendar and by the drive's own clock, negative when unknown.
type moment struct {
	at    time.Time
	hours float64
}

func (p Point) moment() moment { return moment{p.At, p.Hours} }

// powered is how many hours a day a drive is powered at least when it is in use: less of them in more days is time on a shelf, in which
// nothing grows and nothing rests.
const powered = 8

// days is the time between two moments: by the calendar, or as many days as its power-on hours fill.
func (m moment) days(since moment) float64 {
	days := m.at.Sub(since.at).Hours() / 24
	if m.hours >= 0 && since.hours >= 0 && m.hours >= since.hours {
		days = min(days, (m.hours-since.hours)/powered)
	}
	return days
}

// paced is over how many intervals of growth the pace is looked for.
const paced = 8

func (c *course) take(is *Point, kind Kind) {
	p := *is
	if c.observations++; c.observations == 1 {
		c.first, c.last, c.changed, c.top, c.held, c.from = p, p, p, p.Value, p.Value, p.At
		return
	}
	if p.Value == c.last.Value { // as most are
		c.last, c.before = p, p.Value
		c.rest(p.At)
		return
	}
	before := c.last
	c.last, c.before = p, before.Value
	moved := p.Value - before.Value
	c.changed = p
	c.fell = max(c.fell, -moved)
	if !c.left && before.Value == 0 && p.Value > 0 {
		c.left, c.onset = true, Onset{before, p}
	}
	over := moved // by how much it rose, reworks included
	switch kind {
	case Counter:
		switch {
		case p.Value >= c.top:
			over = p.Value - c.top
			c.top = p.Value
		case 2*p.Value < c.top: // reset: what it shows has come since
			over, c.top = p.Value, p.Value
		default: // a slip
			over = 0
		}
		c.held += over
	case Restarting:
		if moved < 0 {
			over = p.Value
		}
		c.held = p.Value
	case Level:
		c.held = p.Value
	}
	explained := min(p.Reworked, max(0, over))
	c.reworked += explained
	by := max(0, over-explained)
	c.rose += by
	c.grow(before, p, by)
}

// grow counts intervals of growth. An interval ends with a rise, or without one after a day; a rise within a day of another is part of
// it, however many readings lie between. So a further reading without a rise can only add an interval without one: it never makes a
// drive look worse. The time is the calendar's, since a drive on a shelf has no hours and a shop has closing days. Where a reading
// without the value lies between, nobody knows on which side of it the rise came: each interval counts as short, and the rise as two, as
// far as that could be.
func (c *course) grow(before, p Point, by float64) {
	if p.gap == nil || by == 0 {
		c.step(before.moment(), p.moment(), by)
		return
	}
	first, last := moment{p.gap.first, -1}, moment{p.gap.last, -1}
	split := by >= 2
	if split {
		c.step(before.moment(), first, by/2)
		by -= by / 2
	}
	c.step(last, p.moment(), by)
	c.rising = c.rising && split // what cannot be two may have come on the far side: a rise that follows soon is another
	r := &c.rises[paced-1]       // all of it may have come in the shortest part
	if short := min(p.gap.first.Sub(before.At), p.At.Sub(p.gap.last)); r.at.at.Add(-short).After(r.after.at) {
		r.after = moment{r.at.at.Add(-short), -1}
	}
	r.events = max(r.events, r.before+clustered(2*by))
}

func (c *course) step(before, now moment, by float64) {
	at := now.at
	over := at.Sub(c.from) >= Interval
	switch {
	case by > 0 && (over || !c.rising):
		c.add(true)
		c.from, c.rising = at, true
		copy(c.rises[:], c.rises[1:])
		c.rises[paced-1] = rise{before, now, c.events + clustered(by), c.events}
		c.risen = min(c.risen+1, paced)
		c.jump = max(c.jump, by)
		c.events = c.rises[paced-1].events
	case by > 0: // part of the rise it follows
		last := &c.rises[paced-1]
		c.events += clustered(by)
		last.at, last.events = now, c.events
		c.jump = max(c.jump, by)
	default:
		c.rest(at)
	}
}

// rest ends an interval without a rise, if it has been one.
func (c *course) rest(at time.Time) {
	if at.Sub(c.from) >= Interval {
		c.add(false)
		c.from, c.rising = at, false
	}
}

func (c *course) add(rose bool) {
	copy(c.recent[:], c.recent[1:])
	c.recent[Recent-1] = rose
	c.intervals = min(c.intervals+1, Recent)
}

func (c *course) trend(kind Kind) Trend {
	t := Trend{
		First:       c.first,
		Last:        c.last,
		Before:      c.before,
		HasBefore:   c.observations > 1,
		Change:      c.rose,
		Held:        c.held,
		Unexplained: max(0, c.held-c.reworked),
		Intervals:   c.intervals,
		Events:      c.events,
		Jump:        c.jump,
		SteadyHours: -1,
		SteadyDays:  c.last.At.Sub(c.changed.At).Hours() / 24,
		FellBy:      c.fell,
	}
	if kind == Level {
		t.Change = c.last.Value - c.first.Value - c.reworked
	}
	if c.left {
		onset := c.onset
		t.Onset = &onset
	}
	if c.changed.Hours >= 0 && c.last.Hours >= c.changed.Hours {
		t.SteadyHours = c.last.Hours - c.changed.Hours
	}
	for _, rose := range c.recent {
		if rose {
			t.Grew++
		}
	}
	t.Pace = leastPace(c.rises[paced-c.risen:], c.last.moment())
	return t
}

// leastPace is how many events of growth a day there are at least: the largest of the lower limits from the reading before some interval
// of growth to now, each that of a Poisson rate with Confidence. One interval alone bounds it, too, and quiet time since makes it less.
// A day is the least time: what comes in a shorter one comes with the work of a check.
func leastPace(rises []rise, now moment) float64 {
	pace := 0.0
	for _, r := range rises {
		pace = max(pace, leastCount(rises[len(rises)-1].events-r.before)/max(1, now.days(r.after)))
	}
	return pace
}
