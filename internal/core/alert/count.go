package alert

import (
	"maps"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
)

// Telling is that somebody would have been told of something.
type Telling struct {
	Thing    Thing
	Tells    Tells
	At       time.Time
	Severity Severity
	Level    float64
	Again    bool // of what was told before, at no higher level, and had not ended since: this must not be
}

// Counter goes through a drive's life, reading by reading, and tells of what a policy would have had somebody told. Nobody takes or
// settles anything in it.
type Counter struct {
	policy   *policy.Policy
	drive    int64
	accepted []Accepted
	heat     []*policy.Rule // those that judge a temperature
	was      *verdict.Verdict
	past     []signal.Values // the latest first
	alerts   map[Thing]Alert
	told     map[Thing]float64 // the highest level since it was opened anew
}

// counted is how many readings back a signal is looked for that a drive does not always give.
const counted = 20

// NewCounter makes a counter for a drive.
func NewCounter(p *policy.Policy, driveID int64, accepted []Accepted) *Counter {
	c := &Counter{policy: p, drive: driveID, accepted: accepted, alerts: map[Thing]Alert{}, told: map[Thing]float64{}}
	for i := range p.Rules {
		if strings.Contains(p.Rules[i].When, string(signal.Temperature)) {
			c.heat = append(c.heat, &p.Rules[i])
		}
	}
	return c
}

// See takes in the next reading and the grade the policy gave it. It may ask what was known then.
func (c *Counter) See(m verdict.Moment, known func() verdict.Evidence, grade drive.Grade) (told []Telling) {
	l := Look{
		Drive: c.drive, Reading: m.Seq, At: m.At, Was: c.was, Is: verdict.Verdict{Grade: grade}, Past: c.past, Now: m.Signals,
		Accepted: c.accepted, Policy: c.policy,
	}
	for _, a := range c.alerts {
		l.Alerts = append(l.Alerts, a)
	}
	if c.was != nil && (grade > max(c.was.Grade, drive.Healthy) || c.grew(l, known)) {
		l.Is = verdict.Decide(c.policy, known()) // nothing else of it is asked for
	}
	for _, s := range l.Seen() {
		was := c.alerts[s.Thing]
		a, tells := Step(was, s)
		if a.Count == 0 {
			continue
		}
		c.alerts[s.Thing] = a
		before, again := c.told[s.Thing]
		switch tells {
		case Nothing:
			continue
		case Ended:
			delete(c.told, s.Thing)
			continue
		case Opened, Reopened, Grew:
		}
		c.told[s.Thing] = max(before, s.Level)
		told = append(told, Telling{
			Thing: s.Thing, Tells: tells, At: m.At, Severity: s.Severity, Level: s.Level,
			Again: again && s.Level <= before && s.Severity.Rank() <= was.Severity.Rank(),
		})
	}
	c.was = &l.Is
	if c.past = append([]signal.Values{m.Signals}, c.past...); len(c.past) > counted {
		c.past = c.past[:counted]
	}
	return told
}

// grew reports whether something went up of which an alert may be; heat alone does when a rule says so.
func (c *Counter) grew(l Look, known func() verdict.Evidence) bool {
	hotter := false
	for d, now := range l.Now.All() {
		thing, ok := l.thing(d.Name)
		if !ok {
			continue
		}
		if before, had := l.before(d.Name); !had || now <= before {
			continue
		}
		if thing.Kind != Heat {
			return true
		}
		hotter = true
	}
	if !hotter || len(c.heat) == 0 {
		return false
	}
	bound, err := c.policy.Bind(verdict.Facts(known()))
	for i := 0; i < len(c.heat) && err == nil; i++ {
		if fires, wrong := c.heat[i].Fires(bound); fires && wrong == nil {
			return true
		}
	}
	return false
}

// Accept has a level accepted from now on.
func (c *Counter) Accept(a Accepted) {
	c.accepted = append(slices.DeleteFunc(c.accepted, func(b Accepted) bool { return b.Signal == a.Signal }), a)
}

// Alert is an alert as it stands; Put changes it, as a person does. All are those that came.
func (c *Counter) Alert(t Thing) Alert { return c.alerts[t] }

// Put changes an alert.
func (c *Counter) Put(a Alert) { c.alerts[a.Thing] = a }

// All are the alerts that came, the first first.
func (c *Counter) All() []Alert {
	return slices.SortedFunc(maps.Values(c.alerts), func(a, b Alert) int { return a.Opened.Compare(b.Opened) })
}
