// Package verdict puts the evidence about a drive to a policy's rules and gives one grade with its reasons: findings,
// what could not be judged, what evidence is missing, and what to do. It is pure; the same evidence and policy give the
// same verdict for ever. Start with Decide.
package verdict

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/wording"
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

// Facts are what a policy's expressions see of the evidence.
func Facts(e Evidence) policy.Facts { return factsInto(policy.Facts{}, e) }

// emptied is a map to be filled again, a new one with room for n when there is none.
func emptied[V any](m map[string]V, n int) map[string]V {
	if m == nil {
		return make(map[string]V, n)
	}
	clear(m)
	return m
}

// factsInto is Facts in the maps of earlier ones, which nobody may hold any more.
func factsInto(was policy.Facts, e Evidence) policy.Facts {
	chance := -1.0
	if c, ok := e.chance(); ok {
		chance = c.Year
	}
	n := len(e.Now)
	f := policy.Facts{
		Now:            emptied(was.Now, n),
		Change:         emptied(was.Change, n),
		Unexplained:    emptied(was.Unexplained, n),
		Grew:           emptied(was.Grew, n),
		Pace:           emptied(was.Pace, n),
		Jump:           emptied(was.Jump, n),
		Steady:         emptied(was.Steady, n),
		Before:         emptied(was.Before, n),
		SinceRework:    emptied(was.SinceRework, 0),
		Duty:           string(e.Duty),
		Readings:       e.Readings,
		Contradictions: len(e.Contradictions),
		Suspect:        e.Suspect,
		Doubtful:       e.Doubtful,
		OtherPort:      e.OtherPort,
		Habit:          e.Habit != "",
		Risk:           chance,
		Drive: map[string]string{
			"medium": string(e.Identity.Medium), "interface": string(e.Identity.Interface), "form_factor": e.Identity.FormFactor,
			"locked": strconv.FormatBool(e.Identity.Security.Locked), "smart": strconv.FormatBool(e.Identity.SMART.Enabled),
		},
	}
	for name, value := range e.Now {
		if !value.Available {
			continue
		}
		key, t := string(name), e.Trends[name]
		f.Now[key], f.Unexplained[key] = value.Number, value.Number
		f.Change[key], f.Grew[key], f.Pace[key], f.Jump[key], f.Steady[key] = t.Change, t.Grew, t.Pace, t.Jump, t.SteadyDays
		if t.Observations == 0 {
			continue
		}
		f.Unexplained[key] = t.Unexplained
		if t.HasBefore {
			f.Before[key] = t.Before
		}
		if d, ok := signal.Lookup(name); ok && d.Direction == signal.Grows {
			f.Now[key] = e.counted(name)
			if t.FellBy > 0 {
				f.Rollback++
			}
		}
	}
	if w := e.Reworked; w != nil {
		f.Rework = policy.ReworkNew
		if w.Held {
			f.Rework = policy.ReworkHeld
		}
		for name, moved := range w.Since {
			f.SinceRework[string(name)] = moved
		}
	}
	return f
}

// answers are what came of a policy's rules and of what it asks for, as far as they were put to a drive.
type answers struct{ rules, evidence []answer }

// ask makes room for a policy's answers.
func ask(p *policy.Policy) answers {
	return answers{make([]answer, len(p.Rules)), make([]answer, len(p.Evidence))}
}

// answer is what came of a rule, which for most is the same whatever the duty.
type answer struct {
	known   bool
	applies bool   // to this kind of drive
	reason  string // why it cannot be judged; empty: it can
	fires   bool
	err     error
}

// put asks a rule, or gives what it answered for another duty.
func (a *answer) put(r *policy.Rule, e Evidence, bound policy.Bound) {
	if !a.known {
		if a.known, a.applies = true, r.Applies.To(e.Identity); a.applies {
			a.reason = unjudgeable(r, e)
		}
	} else if !r.OfDuty {
		return
	}
	if a.applies && a.reason == "" {
		a.fires, a.err = r.Fires(bound)
	}
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

// unjudgeable is why a rule cannot be judged: the reason of the first signal it needs that is not there. Empty: all are.
func unjudgeable(r *policy.Rule, e Evidence) string {
	for _, n := range r.Needs {
		if value := e.Now[n]; !value.Available {
			return cmp.Or(value.Reason, "nothing is known of it")
		}
	}
	return ""
}

func found(p *policy.Policy, r *policy.Rule, e Evidence) Finding {
	f := Finding{
		Rule:     r.ID,
		Effect:   r.Effect,
		Sentence: fill(p, r, r.Says, e),
		Customer: fill(p, r, r.Customer, e),
		Signals:  r.Needs,
		Reading:  e.ReadingSeq,
		Source:   p.Sources[r.Source],
	}
	f.Detail = detail(r, e)
	for _, n := range r.Needs {
		v := e.Now[n]
		f.Rests = append(f.Rests, Rest{n, v.Number, v.Source, string(v.Page), v.Offset, v.Length, v.Run})
	}
	if r.Limit != nil {
		f.Margin = margin(*r.Limit, e.Duty, e.counted(r.Limit.Signal))
	}
	return f
}

// Margins gives, for every limit of the policy that applies to the drive and has a value, how much of it is used,
// tightest first. A signal appears once.
func Margins(p *policy.Policy, id drive.Identity, duty drive.Duty, now signal.Set) []SignalMargin {
	var all []SignalMargin
	for i := range p.Rules {
		r := &p.Rules[i]
		if r.Limit == nil || !r.Applies.To(id) || !now[r.Limit.Signal].Available ||
			slices.ContainsFunc(all, func(m SignalMargin) bool { return m.Signal == r.Limit.Signal }) {
			continue
		}
		all = append(all, SignalMargin{r.Limit.Signal, r.Limit.For(duty), *margin(*r.Limit, duty, now[r.Limit.Signal].Number)})
	}
	slices.SortStableFunc(all, func(a, b SignalMargin) int { return cmp.Compare(b.Margin.Share(), a.Margin.Share()) })
	return all
}

// SignalMargin is a signal with its limit and how much of it is used.
type SignalMargin struct {
	Signal signal.Name
	Limit  float64
	Margin Margin
}

func margin(l policy.Limit, duty drive.Duty, now float64) *Margin {
	at := l.For(duty)
	m := &Margin{Used: max(0, now-l.From), Of: at - l.From}
	if l.From != 0 {
		d, _ := signal.Lookup(l.Signal)
		m.Words = fmt.Sprintf("%s %s left", wording.Number(max(0, at-now)), d.Unit)
	} else {
		m.Words = fmt.Sprintf("%s of %s used", wording.Number(m.Used), wording.Number(m.Of))
	}
	return m
}

// detail says how the rule's first counter came to its value, in words that stay true until it moves: a verdict is stored
// once and read for a long time. A rule that looks at how fast signals rise tells that of the fastest, one that looks at the chance of
// failing the signs that make it.
func detail(r *policy.Rule, e Evidence) string {
	needs := r.Needs
	if r.OfRisk {
		return strings.Join(e.signs(), "; ")
	}
	if r.OfPace && len(needs) > 0 {
		needs = []signal.Name{slices.MaxFunc(needs, func(a, b signal.Name) int { return cmp.Compare(e.Trends[a].Pace, e.Trends[b].Pace) })}
	}
	for _, n := range needs {
		t, ok := e.Trends[n]
		d, _ := signal.Lookup(n)
		if !ok || t.Observations < 2 || t.Last.Value == 0 || !d.Matters {
			continue
		}
		var says string
		switch {
		case t.Onset != nil && t.Onset.First.Hours >= 0:
			says = fmt.Sprintf(
				"%s: 0 at %s h, first seen at %s h, reading %d", d.Words, wording.Number(t.Onset.Before.Hours),
				wording.Number(t.Onset.First.Hours), t.Onset.First.Seq,
			)
		case t.Change != 0:
			says = fmt.Sprintf("%s: %+.0f since reading %d", d.Words, t.Change, t.First.Seq)
		default:
			says = fmt.Sprintf("%s: unchanged since reading %d", d.Words, t.First.Seq)
		}
		if pace := wording.Pace(t.Pace); r.OfPace && pace != "" {
			says += fmt.Sprintf("; %s, with %.0f %% confidence", pace, trend.Confidence*100)
		}
		return says
	}
	return ""
}

var hole = regexp.MustCompile(`\{([a-z_.]+)(?: ([a-z -]+))?\}`)

// fill puts values into a sentence of a rule: a signal's name in braces becomes its value with its unit, or with the noun that follows the
// name; a limit's name its level; steady, lba and contradiction become a clause where there is one to say.
func fill(p *policy.Policy, r *policy.Rule, text string, e Evidence) string {
	return hole.ReplaceAllStringFunc(text, func(m string) string {
		parts := hole.FindStringSubmatch(m)
		name, noun := parts[1], parts[2]
		if limit, ok := strings.CutPrefix(name, "limit."); ok {
			l := p.Limits[limit]
			return wording.Of(l.For(e.Duty), wording.Singular(l.Unit, l.For(e.Duty)))
		}
		switch name {
		case "steady":
			if r == nil || r.Limit == nil {
				return ""
			}
			if t := e.Trends[r.Limit.Signal]; t.Observations > 1 && t.SteadyHours > 0 {
				return fmt.Sprintf(", steady since %s h", wording.Number(t.Last.Hours-t.SteadyHours))
			}
			return ""
		case "lba":
			if e.FailingLBA == nil {
				return ""
			}
			return fmt.Sprintf(" at LBA %d", *e.FailingLBA)
		case "habit":
			if e.Habit == "" {
				return ""
			}
			return " (" + e.Habit + ")"
		case "contradiction":
			if len(e.Contradictions) == 0 {
				return ""
			}
			return fmt.Sprintf(" (reading %d: %s)", e.Contradictions[0].Seq, e.Contradictions[0].Says)
		default:
			d, ok := signal.Lookup(signal.Name(name))
			value := e.Now[signal.Name(name)]
			if !ok || !value.Available {
				return "not available"
			}
			n := e.counted(d.Name)
			return wording.Of(n, wording.Singular(cmp.Or(noun, d.Unit), n))
		}
	})
}

// InWords is a sentence of the policy for a list of rules, n standing for the values.
func InWords(p *policy.Policy, says string) string {
	return hole.ReplaceAllStringFunc(says, func(m string) string {
		parts := hole.FindStringSubmatch(m)
		if name, ok := strings.CutPrefix(parts[1], "limit."); ok {
			return wording.Of(p.Limits[name].All, wording.Singular(p.Limits[name].Unit, p.Limits[name].All))
		}
		d, ok := signal.Lookup(signal.Name(parts[1]))
		if !ok { // a clause that says more of one drive
			return ""
		}
		return strings.TrimSpace("n " + cmp.Or(parts[2], d.Unit))
	})
}
