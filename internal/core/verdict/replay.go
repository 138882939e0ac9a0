package verdict

import (
	"cmp"
	"reflect"
	"slices"
	"sync"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

// Said is what a policy says of a drive at one moment of its life.
type Said struct {
	Grade drive.Grade
	Why   string // the worst finding's sentence, else what is missing; empty when nothing is to say
}

// Differs is a moment from which on two policies say different grades of a drive, until the next one.
type Differs struct {
	Reading int // seq
	At      time.Time
	Hours   float64 // powered on; -1 unknown
	Was     Said    // by the policy in force
	Would   Said    // by the draft
	Still   bool    // to this day
}

// Replayed is a drive's life under two policies.
type Replayed struct {
	Readings int
	Differs  []Differs
	Was      Alarms
	Would    Alarms
}

// Alarms are the first moments at which a policy called a drive degrading, and at which it said replace; zero: never.
type Alarms struct{ Degrading, Replace time.Time }

func (a *Alarms) hear(g drive.Grade, at time.Time) {
	if g >= drive.Degrading && a.Degrading.IsZero() {
		a.Degrading = at
	}
	if g == drive.Replace && a.Replace.IsZero() {
		a.Replace = at
	}
}

// Judge judges lives by one policy, quickly: only what decides the grade is looked at.
type Judge struct {
	policy *policy.Policy
	rules  []*policy.Rule // those with a grade, the graver first
}

// NewJudge makes a judge by a policy.
func NewJudge(p *policy.Policy) *Judge {
	j := &Judge{policy: p}
	for _, effect := range []policy.Effect{policy.Replace, policy.Degrading} {
		for i := range p.Rules {
			if p.Rules[i].Effect == effect {
				j.rules = append(j.rules, &p.Rules[i])
			}
		}
	}
	return j
}

// Ruling is a grade with the rule that made it.
type Ruling struct {
	Grade drive.Grade
	Rule  *policy.Rule        // nil: none fired
	Lacks *policy.Requirement // the first evidence that is missing, of an undecided drive
}

// Judge judges evidence.
func (j *Judge) Judge(e Evidence) (Ruling, error) {
	bound, err := j.policy.Bind(Facts(e))
	if err != nil {
		return Ruling{}, err
	}
	return j.rule(e, bound, nil, nil), nil
}

// rule leaves out rules that were judged already: fired holds their answers, as maps each to its answer there.
func (j *Judge) rule(e Evidence, bound policy.Bound, fired map[*policy.Rule]bool, as map[*policy.Rule]*policy.Rule) Ruling {
	for _, r := range j.rules {
		if !r.Applies.To(e.Identity) {
			continue
		}
		twin := r
		if other := as[r]; other != nil {
			twin = other
		}
		fires, known := fired[twin]
		if !known {
			if unjudgeable(r, e) == "" {
				yes, err := r.Fires(bound)
				fires = yes && err == nil
			}
			if fired != nil {
				fired[twin] = fires
			}
		}
		if fires { // no other rule makes it worse
			return Ruling{Grade: r.Effect.Grade(), Rule: r}
		}
	}
	for i := range j.policy.Evidence {
		q := &j.policy.Evidence[i]
		if !q.For(e.Duty) {
			continue
		}
		if met, err := q.Met(bound); err != nil || !met {
			return Ruling{Grade: drive.Undecided, Lacks: q}
		}
	}
	if lacks := carried(j.policy, e); len(lacks) > 0 {
		return Ruling{Grade: drive.Undecided, Lacks: &policy.Requirement{ID: lacks[0].ID, What: lacks[0].What}}
	}
	return Ruling{Grade: drive.Healthy}
}

func (j *Judge) said(r Ruling, e Evidence) Said {
	s := Said{Grade: r.Grade}
	switch {
	case r.Rule != nil:
		s.Why = fill(j.policy, r.Rule, r.Rule.Says, e)
	case r.Lacks != nil:
		s.Why = "Missing: " + fill(j.policy, nil, r.Lacks.What, e)
	}
	return s
}

// Replay runs two policies over lives.
type Replay struct {
	Every bool // reading is looked at; false: those in which only clocks moved are once a day, so that a grade may come a day late

	was, would *Judge
	twins      map[*policy.Rule]*policy.Rule // rules of the second that judge as one of the first does
}

// NewReplay makes a replay of a draft beside the policy in force.
func NewReplay(was, would *policy.Policy) *Replay {
	r := &Replay{was: NewJudge(was), would: NewJudge(would), twins: map[*policy.Rule]*policy.Rule{}}
	for _, b := range r.would.rules {
		for _, a := range r.was.rules {
			if a.Judges(b) && sameLimits(was, would, a.When) {
				r.twins[b] = a
				break
			}
		}
	}
	return r
}

// sameLimits reports whether the limits that an expression names are the same in two policies.
func sameLimits(was, would *policy.Policy, expression string) bool {
	for _, name := range policy.LimitsIn(expression) {
		if !reflect.DeepEqual(was.Limits[name], would.Limits[name]) {
			return false
		}
	}
	return true
}

// Over replays a drive's life, reading by reading, each on what was known then. What the pages alone tell beside the signals (the
// clocks' contradictions, which bar healthy and condemn nothing) is left out. see hears of every reading and the two grades, and may ask
// what was known then; nil: nobody does.
func (r *Replay) Over(
	l *Life, id drive.Identity, duty drive.Duty, see func(m Moment, known func() Evidence, was, would drive.Grade),
) (Replayed, error) {
	out := Replayed{Readings: len(l.Moments)}
	differed := Differs{}
	set, fired, walk := signal.Set{}, map[*policy.Rule]bool{}, l.Walk()
	var f policy.Facts
	walk.trends = map[signal.Name]trend.Trend{} // nobody holds a moment's evidence beyond it
	quiet := quiet{life: l}
	var last [2]drive.Grade
	for i, m := range l.Moments {
		known := sync.OnceValue(func() Evidence {
			m.Signals.Into(set)
			return walk.Evidence(id, duty, set, i)
		})
		if !r.Every && quiet.passes(i) {
			if see != nil {
				see(m, known, last[0], last[1])
			}
			continue
		}
		clear(fired)
		e := known()
		f = factsInto(f, e)
		was, err := r.was.policy.Bind(f)
		if err != nil {
			return out, err
		}
		would, err := r.would.policy.Bind(f)
		if err != nil {
			return out, err
		}
		a, b := r.was.rule(e, was, fired, nil), r.would.rule(e, would, fired, r.twins)
		if last = [2]drive.Grade{a.Grade, b.Grade}; see != nil {
			see(m, known, a.Grade, b.Grade)
		}
		out.Was.hear(a.Grade, m.At)
		out.Would.hear(b.Grade, m.At)
		if a.Grade != b.Grade && (differed.Was.Grade != a.Grade || differed.Would.Grade != b.Grade) {
			hours, ok := m.Signals.Get(signal.PowerOnHours)
			if !ok {
				hours = -1
			}
			differed = Differs{Reading: m.Seq, At: m.At, Hours: hours, Was: r.was.said(a, e), Would: r.would.said(b, e)}
			out.Differs = append(out.Differs, differed)
		}
		if a.Grade == b.Grade {
			differed = Differs{}
		}
	}
	if n := len(out.Differs); n > 0 && differed.Reading > 0 {
		out.Differs[n-1].Still = true
	}
	return out, nil
}

// Outcome is what became of a drive, as far as it is known.
type Outcome struct {
	Failed bool
	At     time.Time // of the failure, or until when it is known to have worked
}

// asked is how often in its life a drive of known fate is asked for its chance.
const asked = 90 * 24 * time.Hour

// Fate gives what would have been said of a drive's chance over its life, once in 90 days, and what became of it within the year of each.
// What came within the year and is not known is left out.
func Fate(l *Life, id drive.Identity, duty drive.Duty, o Outcome) risk.Fate {
	var fate risk.Fate
	set, walk := signal.Set{}, l.Walk()
	var last time.Time
	for i, m := range l.Moments {
		until := m.At.AddDate(1, 0, 0)
		if m.At.After(o.At) || !o.Failed && until.After(o.At) || !last.IsZero() && m.At.Sub(last) < asked {
			continue
		}
		m.Signals.Into(set)
		e := walk.Evidence(id, duty, set, i)
		e.Calibration = risk.Calibration{}
		if c, ok := e.chance(); ok {
			fate, last = append(fate, risk.Outcome{Said: c.Year, Failed: o.Failed && !until.Before(o.At)}), m.At
		}
	}
	return fate
}

// Score is how a policy did on drives whose outcome is known: an alarm is that it said replace before the outcome.
type Score struct {
	Failed, Sound int             // drives by their outcome
	Hits          int             // failed, and it had said so
	FalseAlarms   int             // sound, and it had said replace
	Lead          []time.Duration // from the alarm to the failure, of each hit, shortest first
}

// Count adds a drive to the score.
func (s *Score) Count(a Alarms, o Outcome) {
	alarmed := !a.Replace.IsZero() && a.Replace.Before(o.At)
	switch {
	case o.Failed && alarmed:
		s.Hits++
		at, _ := slices.BinarySearch(s.Lead, o.At.Sub(a.Replace))
		s.Lead = slices.Insert(s.Lead, at, o.At.Sub(a.Replace))
	case !o.Failed && alarmed:
		s.FalseAlarms++
	}
	if o.Failed {
		s.Failed++
	} else {
		s.Sound++
	}
}

// Quantile is the lead time that a share of the hits have at least; 0 when there are none.
func (s *Score) Quantile(share float64) time.Duration {
	if len(s.Lead) == 0 {
		return 0
	}
	return s.Lead[min(len(s.Lead)-1, max(0, int((1-share)*float64(len(s.Lead)))))]
}

// Worst sorts drives for a person who looks at a replay: first those of which the draft says something graver to this day, the
// graver the earlier; last those of which it says something milder.
func Worst(a, b Replayed) int {
	graver := func(r Replayed) int {
		if n := len(r.Differs); n > 0 && r.Differs[n-1].Still {
			return int(r.Differs[n-1].Would.Grade) - int(r.Differs[n-1].Was.Grade)
		}
		return 0
	}
	return cmp.Compare(graver(b), graver(a))
}
