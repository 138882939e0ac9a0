package policy

import (
	"maps"

	"hylostat.example/internal/core/drive"
)

// Trial is what came of one example of a rule.
type Trial struct {
	Rule    string `json:"rule"`
	Example int    `json:"example"` // from 1
	Wants   bool   `json:"wants"`
	Fires   bool   `json:"fires"`
	Error   string `json:"error,omitempty"`
}

// Passed reports whether the rule answered as its example says.
func (t Trial) Passed() bool { return t.Error == "" && t.Wants == t.Fires }

// Test puts a policy's own examples to its rules, and tells of the rules that have none.
func (p *Policy) Test() (trials []Trial, without []string) {
	for i := range p.Rules {
		r := &p.Rules[i]
		if len(r.Examples) == 0 {
			without = append(without, r.ID)
		}
		for n, x := range r.Examples {
			t := Trial{Rule: r.ID, Example: n + 1, Wants: x.Fires}
			b, err := p.Bind(x.facts())
			if err == nil {
				t.Fires, err = r.Fires(b)
			}
			if err != nil {
				t.Error = err.Error()
			}
			trials = append(trials, t)
		}
	}
	return trials, without
}

func (x Example) facts() Facts {
	f := Facts{
		Now:            x.Now,
		Change:         map[string]float64{},
		Unexplained:    map[string]float64{},
		Grew:           map[string]int{},
		Pace:           map[string]float64{},
		SinceRework:    map[string]float64{},
		Rework:         x.Rework,
		Drive:          map[string]string{"medium": "", "interface": "", "form_factor": "", "locked": "false", "smart": "true"},
		Duty:           string(drive.Everyday),
		Rollback:       x.Rollback,
		Contradictions: x.Contradictions,
		Readings:       max(1, x.Readings),
		Risk:           x.Risk,
		Suspect:        x.Suspect,
		Doubtful:       x.Doubtful,
		OtherPort:      x.OtherPort,
		Habit:          x.Habit,
		Jump:           map[string]float64{},
		Steady:         map[string]float64{},
		Before:         map[string]float64{},
	}
	for name, v := range x.Now {
		f.Change[name], f.Grew[name], f.Pace[name], f.Unexplained[name], f.Jump[name], f.Steady[name] = 0, 0, 0, v, 0, 0
	}
	maps.Copy(f.Jump, x.Jump)
	maps.Copy(f.Steady, x.Steady)
	maps.Copy(f.Before, x.Before)
	maps.Copy(f.Change, x.Change)
	maps.Copy(f.Unexplained, x.Unexplained)
	maps.Copy(f.Grew, x.Grew)
	maps.Copy(f.Pace, x.Pace)
	maps.Copy(f.SinceRework, x.SinceRework)
	maps.Copy(f.Drive, x.Drive)
	if x.Duty != "" {
		f.Duty = x.Duty
	}
	return f
}
