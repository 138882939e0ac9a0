// Package verdict puts the evidence about a drive to a policy's rules and gives one grade with its reasons: findings,
// what could not be judged, what evidence is missing, and what to do. It is pure; the same evidence and policy give the
// same verdict for ever. Start with Decide.
package verdict

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
)

// Evidence is everything a verdict rests on.
type Evidence struct {
	Identity   drive.Identity
	Duty       drive.Duty
	Now        signal.Set                  // of the latest reading
	Trends     map[signal.Name]trend.Trend // over the drive's life here
	Readings   int                         // how many readings there are
	ReadingSeq int                         // of the latest
	FailingLBA *uint64                     // of the last failed self-test

	Carried     map[signal.Name]Carried // of Now, what is from an earlier reading
	Suspect     int                     // readings of which something was set aside: one said so alone, and the next took it back
	OtherPort   bool                    // link errors grew, and no longer do at another port
	Calibration risk.Calibration        // of the chance, by the shop's own outcomes
	Habit       string                  // how the drive's log stamps self-tests that the bench watched, where that is wrong; empty: rightly
	Doubtful    bool                    // the latest reading contradicts those before it so that another has to confirm it

	Reworked       *Reworked             // the last rework; nil: none
	Contradictions []trend.Contradiction // between the drive's several clocks
}

// counted is a signal's value as rules take it: what a counter that may only grow counted before a reset counts.
func (e Evidence) counted(n signal.Name) float64 {
	x := e.Now[n].Number
	if d, ok := signal.Lookup(n); ok && d.Direction == signal.Grows {
		x = max(x, e.Trends[n].Held)
	}
	return x
}

// Margin is how much of a rule's allowance is used.
type Margin struct {
	Used  float64 `json:"used"`
	Of    float64 `json:"of"`
	Words string  `json:"words"`
}

// Share is Used over Of, at most 1.
func (m Margin) Share() float64 {
	if m.Of <= 0 {
		return 1
	}
	return math.Min(1, math.Max(0, m.Used/m.Of))
}

// Finding is one rule that fired, with its evidence.
type Finding struct {
	Rule     string        `json:"rule"`
	Effect   policy.Effect `json:"effect"`
	Sentence string        `json:"sentence"`
	Detail   string        `json:"detail"`
	Customer string        `json:"customer"`
	Signals  []signal.Name `json:"signals"`
	Reading  int           `json:"reading"` // seq of the reading it rests on
	Rests    []Rest        `json:"rests"`   // on which values, one for each signal
	Margin   *Margin       `json:"margin,omitempty"`
	Source   string        `json:"source"`
}

// Rest is a value a finding rests on, and where it is from: bytes of a page of the reading, or the sweep of a run.
type Rest struct {
	Signal signal.Name `json:"signal"`
	Value  float64     `json:"value"`
	Source string      `json:"source"`
	Page   string      `json:"page,omitempty"`
	Offset int         `json:"offset,omitempty"`
	Length int         `json:"length,omitempty"`
	Run    int64       `json:"run,omitempty"`
}

// Unjudged is a rule that could not be put to the drive.
type Unjudged struct {
	Rule   string `json:"rule"`
	Title  string `json:"title"`
	Reason string `json:"reason"`
}

// Missing is evidence that healthy needs and that is not there.
type Missing struct {
	ID      string `json:"id"`
	What    string `json:"what"`
	Run     string `json:"run"`
	Minutes int    `json:"minutes"`
}

// Fit tells what the verdict means for one duty.
type Fit struct {
	Duty    drive.Duty     `json:"duty"`
	Fitness policy.Fitness `json:"fitness"` // empty: not judged
	Words   string         `json:"words"`
}

// Verdict is the answer.
type Verdict struct {
	Grade    drive.Grade `json:"grade"`
	Duty     drive.Duty  `json:"duty"`
	Policy   int         `json:"policy"`
	Findings []Finding   `json:"findings"` // worst first
	Notes    []Finding   `json:"notes"`    // findings that change no grade
	Quiet    int         `json:"quiet"`    // rules judged that did not fire
	Unjudged []Unjudged  `json:"unjudged"`
	Missing  []Missing   `json:"missing"`
	Advice   []string    `json:"advice"` // in the order to follow
	Duties   []Fit       `json:"duties"`
	Risk     *Risk       `json:"risk,omitempty"` // for technicians; nil: not told
}

// Risk is the chance of failing within a year, as it is kept with a verdict.
type Risk struct {
	Year       float64      `json:"year"`
	Low        float64      `json:"low"`
	High       float64      `json:"high"`
	Base       float64      `json:"base"`
	Words      string       `json:"words"`
	Calibrated int          `json:"calibrated,omitempty"` // on how many outcomes; 0: published rates only
	Factors    []RiskFactor `json:"factors"`
}

// RiskFactor is one factor of it.
type RiskFactor struct {
	Words  string  `json:"words"`
	Ratio  float64 `json:"ratio"`
	Source string  `json:"source"`
}

// chance is the chance of failing that the evidence tells.
func (e Evidence) chance() (risk.Chance, bool) {
	c, ok := risk.Year(e.ofRisk())
	return e.Calibration.Apply(c), ok
}

func (e Evidence) ofRisk() risk.Evidence {
	r := risk.Evidence{Medium: e.Identity.Medium, Now: e.Now, Trends: e.Trends}
	if e.Reworked != nil {
		r.Reworked, r.Since = true, e.Reworked.Since
	}
	return r
}

// signs are what raises the chance of failing, the strongest first.
func (e Evidence) signs() []string {
	c, _ := risk.Of(e.ofRisk())
	var all []string
	for _, f := range c.Factors {
		if f.Ratio > 1 && !slices.Contains(all, f.Sign) {
			all = append(all, f.Sign)
		}
	}
	return all
}

func (e Evidence) risk() *Risk {
	c, ok := risk.Of(e.ofRisk())
	if !ok {
		return nil
	}
	c = e.Calibration.Apply(c)
	out := &Risk{Year: c.Year, Low: c.Low, High: c.High, Base: c.Base, Words: c.Words(), Calibrated: c.Calibrated, Factors: []RiskFactor{}}
	for _, f := range c.Factors {
		out.Factors = append(out.Factors, RiskFactor{f.Words, f.Ratio, f.Source})
	}
	return out
}

// Decide judges the evidence for its duty, and what follows for the other duties.
func Decide(p *policy.Policy, e Evidence) Verdict {
	known, f := ask(p), Facts(e)
	v := grade(p, e, f, known)
	v.Risk = e.risk()
	for _, d := range drive.Duties() {
		other := v
		if d != e.Duty {
			e2 := e
			e2.Duty = d
			other = grade(p, e2, f, known)
		}
		fit := Fit{Duty: d, Fitness: p.Duties[other.Grade][d], Words: string(d)}
		if slices.ContainsFunc(slices.Concat(other.Findings, other.Notes), func(f Finding) bool { return p.Unfit(f.Rule, d) }) {
			fit.Fitness = policy.Not
		}
		switch fit.Fitness {
		case policy.Care:
			fit.Words += ", " + p.Care
		case policy.Does, policy.Not:
		default:
			var what []string
			for _, m := range other.Missing {
				what = append(what, m.Run)
			}
			fit.Words += ", needs " + strings.Join(slices.Compact(what), " and ")
		}
		v.Duties = append(v.Duties, fit)
	}
	return v
}

// grade judges for the evidence's duty; f is its facts for any. known holds what was answered for another duty.
func grade(p *policy.Policy, e Evidence, f policy.Facts, known answers) Verdict {
	v := Verdict{Duty: e.Duty, Policy: p.Version}
	f.Duty = string(e.Duty)
	bound, err := p.Bind(f)
	if err != nil { // only names that are no identifiers fail, and these are constants
		panic("policy: " + err.Error())
	}
	for i := range p.Rules {
		r, a := &p.Rules[i], &known.rules[i]
		switch a.put(r, e, bound); {
		case !a.applies:
		case a.reason != "":
			v.Unjudged = append(v.Unjudged, Unjudged{r.ID, r.Title, a.reason})
		case a.err != nil:
			v.Unjudged = append(v.Unjudged, Unjudged{r.ID, r.Title, "its expression: " + a.err.Error()})
		case !a.fires:
			v.Quiet++
		default:
			finding := found(p, r, e)
			if r.Effect == policy.Note {
				v.Notes = append(v.Notes, finding)
				continue
			}
			v.Findings = append(v.Findings, finding)
			v.Grade = max(v.Grade, r.Effect.Grade())
		}
	}
	slices.SortStableFunc(v.Findings, func(a, b Finding) int { return cmp.Compare(b.Effect.Grade(), a.Effect.Grade()) })
	for i := range p.Evidence {
		q, a := &p.Evidence[i], &known.evidence[i]
		if !q.For(e.Duty) {
			continue
		}
		if !a.known || q.OfDuty {
			a.fires, a.err = q.Met(bound)
			a.known = true
		}
		if a.err != nil || !a.fires {
			v.Missing = append(v.Missing, Missing{q.ID, fill(p, nil, q.What, e), q.Run, q.Minutes})
		}
	}
	v.Missing = append(v.Missing, carried(p, e)...)
	if v.Grade == drive.Undecided && len(v.Missing) == 0 {
		v.Grade = drive.Healthy
	}
	v.Advice = advice(p, v)
	if v.Grade == drive.Undecided {
		for _, m := range v.Missing {
			if next := "Run: " + m.Run + "."; !slices.Contains(v.Advice, next) {
				v.Advice = append(v.Advice, next)
			}
		}
	}
	if v.Grade == drive.Healthy && len(v.Advice) == 0 {
		v.Advice = append(v.Advice, "Nothing to do. If the trouble goes on, look at the system, the cable or the file system.")
	}
	return v
}

// carried is what healthy lacks because the latest reading does not give what a rule needs and an earlier one gave.
func carried(p *policy.Policy, e Evidence) []Missing {
	var all []Missing
	for i := range p.Rules {
		r := &p.Rules[i]
		if r.Effect == policy.Note || !r.Applies.To(e.Identity) {
			continue
		}
		for _, n := range r.Needs {
			c, ok := e.Carried[n]
			if !ok {
				continue
			}
			d, _ := signal.Lookup(n)
			m := Missing{"carried", fmt.Sprintf("%s, which reading %d gave and this one does not", d.Words, c.Seq), "a reading", 1}
			if e.Doubtful {
				m = Missing{"doubtful", "another reading: what this one says contradicts those before it", "a reading", 1}
			}
			return append(all, m) // one is enough: the reading that brings it brings all
		}
	}
	return all
}

// advice is what the findings that made the grade, and the notes, ask for, in the policy's order. Lesser findings are silent, and of a
// drive that is to be replaced the notes are: nobody mends or cools it.
func advice(p *policy.Policy, v Verdict) []string {
	wanted := map[string]bool{}
	for i := range p.Rules {
		r := &p.Rules[i]
		ruled := func(f Finding) bool {
			return f.Rule == r.ID && (f.Effect == policy.Note && v.Grade != drive.Replace || f.Effect.Grade() == v.Grade)
		}
		if slices.ContainsFunc(v.Findings, ruled) || slices.ContainsFunc(v.Notes, ruled) {
			for _, a := range r.Advice {
				wanted[a] = true
			}
		}
	}
	var all []string
	for _, a := range p.Advice {
		if wanted[a.ID] {
			all = append(all, a.Says)
		}
	}
	return all
}
