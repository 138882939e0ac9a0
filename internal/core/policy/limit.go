package policy

import (
	"regexp"

	"go.yaml.in/yaml/v3"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
)

// Limit is the allowance a rule's margin is measured against: a limit of the policy, by its name. In policies older than named limits
// the number stands here.
type Limit struct {
	Signal     signal.Name `yaml:"signal"`
	Name       string      `yaml:"name"`
	At         float64     `yaml:"at"`
	From       float64     `yaml:"from"`       // where the allowance begins, 0 for counters
	Continuous float64     `yaml:"continuous"` // At for that duty, when another

	named *Level
}

// For gives the limit for a duty.
func (l Limit) For(d drive.Duty) float64 {
	switch {
	case l.named != nil:
		return l.named.For(d)
	case d == drive.Continuous && l.Continuous != 0:
		return l.Continuous
	}
	return l.At
}

// Level is a limit of the policy, which stands once: expressions (limit.name), margins and sentences ({limit.name}) name it.
type Level struct {
	All    float64
	Duties map[drive.Duty]float64 // where a duty has another one
	Unit   string
	Source string
}

// UnmarshalYAML reads all, unit and source; every other key is a duty with a limit of its own.
func (l *Level) UnmarshalYAML(n *yaml.Node) error {
	var keys map[string]yaml.Node
	if err := n.Decode(&keys); err != nil {
		return err
	}
	for key, value := range keys {
		var err error
		switch key {
		case "all":
			err = value.Decode(&l.All)
		case "unit":
			err = value.Decode(&l.Unit)
		case "source":
			err = value.Decode(&l.Source)
		default:
			var at float64
			if err = value.Decode(&at); l.Duties == nil {
				l.Duties = map[drive.Duty]float64{}
			}
			l.Duties[drive.Duty(key)] = at
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// For gives the limit for a duty.
func (l Level) For(d drive.Duty) float64 {
	if at, ok := l.Duties[d]; ok {
		return at
	}
	return l.All
}

// LimitsFor are the policy's limits for a duty. The map is not to be changed.
func (p *Policy) LimitsFor(d drive.Duty) map[string]float64 {
	if all, ok := p.limitsFor[d]; ok {
		return all
	}
	all := make(map[string]float64, len(p.Limits))
	for name, l := range p.Limits {
		all[name] = l.For(d)
	}
	return all
}

// LimitsIn lists the limits that an expression names.
func LimitsIn(expression string) []string {
	var all []string
	for _, m := range limitName.FindAllStringSubmatch(expression, -1) {
		all = append(all, m[1])
	}
	return all
}

// limitName finds a limit that an expression or a sentence names.
var limitName = regexp.MustCompile(`\blimit\.([a-z_]+)`)
