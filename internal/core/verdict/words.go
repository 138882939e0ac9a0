package verdict

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/wording"
)

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
