package verdict

import (
	"cmp"
	"strconv"

	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
)

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

// unjudgeable is why a rule cannot be judged: the reason of the first signal it needs that is not there. Empty: all are.
func unjudgeable(r *policy.Rule, e Evidence) string {
	for _, n := range r.Needs {
		if value := e.Now[n]; !value.Available {
			return cmp.Or(value.Reason, "nothing is known of it")
		}
	}
	return ""
}
