package alert

import (
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
)

// Look is a drive at one reading and those before it.
type Look struct {
	Drive    int64
	Reading  int
	At       time.Time
	Was      *verdict.Verdict // before; nil: it was not judged yet
	Is       verdict.Verdict
	Past     []signal.Values // of the readings before, the latest first
	Now      signal.Values
	Accepted []Accepted // of this drive
	Policy   *policy.Policy
	Alerts   []Alert // of this drive
}

// Severity is how loudly a finding of a policy's rule is told: as the rule says, else by its effect.
func severity(p *policy.Policy, f verdict.Finding) Severity {
	if said := p.Alert(f.Rule); said != "" {
		return Severity(said)
	}
	switch f.Effect {
	case policy.Replace:
		return Wake
	case policy.Degrading:
		return Now
	case policy.Note:
	}
	return Digest
}

// before is what a signal was when the drive gave it last: one that slept gave nothing.
func (l Look) before(s signal.Name) (x float64, had bool) {
	for i := 0; i < len(l.Past) && !had; i++ {
		x, had = l.Past[i].Get(s)
	}
	return x, had
}

// quiet reports whether every flaw a finding rests on is known and accepted.
func (l Look) quiet(f verdict.Finding) bool { return len(KnownBy(f, l.Accepted, l.At)) > 0 }

// KnownBy are the accepted levels that keep a finding quiet; none: something it rests on is not known.
func KnownBy(f verdict.Finding, levels []Accepted, at time.Time) (by []Accepted) {
	for _, r := range f.Rests {
		if r.Value == 0 { // a count that is not there yet
			continue
		}
		i := slices.IndexFunc(levels, func(a Accepted) bool { return a.Signal == string(r.Signal) && a.Quiets(r.Value, at) })
		if i < 0 {
			return nil
		}
		by = append(by, levels[i])
	}
	return by
}

func (l Look) accepted(s signal.Name, level float64) bool {
	return slices.ContainsFunc(l.Accepted, func(a Accepted) bool { return a.Signal == string(s) && a.Quiets(level, l.At) })
}

// Seen tells what of a drive is to be looked at as an alert: a verdict that got worse, signals that grew, what is over.
func (l Look) Seen() []Seen {
	worse, graver := l.worse()
	var all []Seen
	if worse != nil {
		all = append(all, *worse)
	}
	seen := map[Thing]bool{}
	for _, f := range slices.Concat(l.Is.Findings, l.Is.Notes) {
		if slices.Contains(graver, f.Rule) || l.quiet(f) { // said with the grade, or known
			continue
		}
		for _, r := range f.Rests {
			thing, ok := l.thing(r.Signal)
			before, had := l.before(r.Signal)
			now, has := l.Now.Get(r.Signal)
			if !ok || !had || !has || now <= before || seen[thing] || l.accepted(r.Signal, now) {
				continue
			}
			seen[thing] = true
			all = append(all, Seen{
				Thing: thing, At: l.At, Before: before, Level: now, Severity: severity(l.Policy, f), Reading: l.Reading,
				Said: wording.Say(wording.AlertSignal, wording.Values{
					"signal": string(r.Signal), "words": wordsOf(r.Signal), "before": before, "after": now, "finding": f.Sentence,
				}),
			})
		}
	}
	return append(all, l.over(seen)...)
}

func wordsOf(s signal.Name) string {
	if d, ok := signal.Lookup(s); ok {
		return d.Words
	}
	return string(s)
}

// worse is the verdict that got worse, with the rules that made it so; nil: it did not.
func (l Look) worse() (*Seen, []string) {
	was := drive.Undecided
	if l.Was != nil {
		was = l.Was.Grade
	}
	if l.Was == nil || l.Is.Grade <= max(was, drive.Healthy) { // the first verdict is no change
		return nil, nil
	}
	var rules []string
	loudest, first, rests := None, "", map[string]float64{}
	for _, f := range l.Is.Findings {
		if f.Effect.Grade() <= was || l.quiet(f) {
			continue
		}
		rules = append(rules, f.Rule)
		for _, r := range f.Rests {
			rests[string(r.Signal)] = r.Value
		}
		if s := severity(l.Policy, f); s.Rank() > loudest.Rank() {
			loudest, first = s, f.Sentence
		}
	}
	return &Seen{
		Thing: Thing{Kind: Verdict, Drive: l.Drive}, At: l.At, Before: float64(was), Level: float64(l.Is.Grade), Severity: loudest,
		Reading: l.Reading, Rests: rests,
		Said: wording.Say(wording.AlertVerdict, wording.Values{
			"before": was.String(), "after": l.Is.Grade.String(), "finding": first,
		}),
	}, rules
}

// thing is what a signal that grows is an alert about; false: about nothing.
func (l Look) thing(s signal.Name) (Thing, bool) {
	d, ok := signal.Lookup(s)
	if !ok {
		return Thing{}, false
	}
	kind := Signal
	switch {
	case s == signal.Temperature:
		kind = Heat
	case d.Group == "tests":
		kind = SelfTest
		if !d.Matters { // ages and numbers of places
			return Thing{}, false
		}
	case d.Group == "life":
		return Thing{}, false
	}
	return Thing{Kind: kind, Drive: l.Drive, Name: string(s)}, true
}

// over are the drive's alerts whose cause is gone: a grade that is better, a count that may fall and has, heat that has passed. What only
// grows is over when a person says so.
func (l Look) over(seen map[Thing]bool) (all []Seen) {
	for _, a := range l.Alerts {
		s := Seen{Thing: a.Thing, At: l.At, Over: true, Reading: l.Reading}
		switch a.Kind {
		case Vanished, Unread, Hangs: // it has been read
		case Verdict:
			s.Level, s.Rests = float64(l.Is.Grade), map[string]float64{}
			for name := range a.Rests {
				if x, has := l.Now.Get(signal.Name(name)); has {
					s.Rests[name] = x
				}
			}
			if l.Is.Grade == drive.Undecided || s.Level >= a.Told {
				continue
			}
		case Signal, SelfTest, Heat:
			now, has := l.Now.Get(signal.Name(a.Name))
			least := a.Before
			if a.Kind == Heat {
				least = a.Told - heatStep
			}
			if s.Level = now; !has || seen[a.Thing] || now > least {
				continue
			}
		default:
			continue
		}
		all = append(all, s)
	}
	return all
}
