// Package policy reads a shop's rules from YAML and compiles their CEL expressions. It judges nothing itself: package
// verdict puts evidence to the rules. The shipped policy is default.yaml. Start with Parse.
package policy

import (
	_ "embed" // the default policy
	"errors"
	"fmt"
	"slices"

	"cel.dev/cel-go/cel"
	"go.yaml.in/yaml/v3"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
)

// Default is the policy Hylostat ships, as YAML.
//
//go:embed default.yaml
var Default []byte

// Effect is what a rule that fires does.
type Effect string

// The effects. A note changes no grade.
const (
	Note      Effect = "note"
	Degrading Effect = "degrading"
	Replace   Effect = "replace"
)

// Grade is the grade an effect leads to; a note leads to none.
func (e Effect) Grade() drive.Grade {
	switch e {
	case Degrading:
		return drive.Degrading
	case Replace:
		return drive.Replace
	case Note:
	}
	return drive.Undecided
}

// Limit is the allowance a rule's margin is measured against.
type Limit struct {
	Signal     signal.Name `yaml:"signal"`
	At         float64     `yaml:"at"`
	From       float64     `yaml:"from"`       // where the allowance begins, 0 for counters
	Continuous float64     `yaml:"continuous"` // At for that duty, when another
}

// For gives the limit for a duty.
func (l Limit) For(d drive.Duty) float64 {
	if d == drive.Continuous && l.Continuous != 0 {
		return l.Continuous
	}
	return l.At
}

// Applies restricts a rule to some drives; an empty list allows all.
type Applies struct {
	Medium    []drive.Medium    `yaml:"medium"`
	Interface []drive.Interface `yaml:"interface"`
}

// To reports whether a drive is meant.
func (a Applies) To(id drive.Identity) bool {
	return (len(a.Medium) == 0 || slices.Contains(a.Medium, id.Medium)) &&
		(len(a.Interface) == 0 || slices.Contains(a.Interface, id.Interface))
}

// Example is a case a rule must answer as it says.
type Example struct {
	Now      map[string]float64 `yaml:"now"`
	Change   map[string]float64 `yaml:"change"`
	Grew     map[string]int     `yaml:"grew"`
	Drive    map[string]string  `yaml:"drive"`
	Duty     string             `yaml:"duty"`
	Rollback int                `yaml:"rollback"`
	Fires    bool               `yaml:"fires"`
}

// Rule is one rule, compiled.
type Rule struct {
	ID       string        `yaml:"id"`
	Title    string        `yaml:"title"`
	Applies  Applies       `yaml:"applies"`
	Needs    []signal.Name `yaml:"needs"`
	When     string        `yaml:"when"`
	Effect   Effect        `yaml:"effect"`
	Says     string        `yaml:"says"`
	Customer string        `yaml:"customer"`
	Advice   []string      `yaml:"advice"`
	Limit    *Limit        `yaml:"limit"`
	Source   string        `yaml:"source"`
	Examples []Example     `yaml:"examples"`

	program cel.Program
}

// Requirement is a piece of evidence healthy needs.
type Requirement struct {
	ID      string       `yaml:"id"`
	When    string       `yaml:"when"`
	What    string       `yaml:"what"`
	Run     string       `yaml:"run"`
	Minutes int          `yaml:"minutes"`
	Duties  []drive.Duty `yaml:"duties"` // empty: all

	program cel.Program
}

// For reports whether the evidence is asked for a duty.
func (r Requirement) For(d drive.Duty) bool {
	return len(r.Duties) == 0 || slices.Contains(r.Duties, d)
}

// Fitness is what a grade means for a duty.
type Fitness string

// The fitnesses. The empty one is "not judged".
const (
	Does Fitness = "does"
	Care Fitness = "care"
	Not  Fitness = "not"
)

// Advice is one thing to do, in the order of the policy.
type Advice struct{ ID, Says string }

// Policy is a compiled policy.
type Policy struct {
	Version  int
	Name     string
	Sources  map[string]string
	Advice   []Advice
	Rules    []Rule
	Evidence []Requirement
	Duties   map[drive.Grade]map[drive.Duty]Fitness
	Care     string // the care "with care" asks for
}

// Facts are what expressions see.
type Facts struct {
	Now      map[string]float64
	Change   map[string]float64
	Grew     map[string]int
	Drive    map[string]string
	Duty     string
	Rollback int
	Readings int
}

// costLimit bounds one expression: far above what a rule needs, far below what would be noticed.
const costLimit = 10_000

func environment() (*cel.Env, error) {
	numbers := cel.MapType(cel.StringType, cel.DoubleType)
	return cel.NewEnv(
		cel.Variable("now", numbers), cel.Variable("change", numbers), cel.Variable("grew", cel.MapType(cel.StringType, cel.IntType)),
		cel.Variable("drive", cel.MapType(cel.StringType, cel.StringType)), cel.Variable("duty", cel.StringType),
		cel.Variable("rollback", cel.IntType), cel.Variable("readings", cel.IntType),
	)
}

// Error says which rule of a policy is wrong, and where in its expression.
type Error struct {
	Rule string // id; empty for the file as a whole
	Err  error
}

func (e *Error) Error() string {
	if e.Rule == "" {
		return "policy: " + e.Err.Error()
	}
	return fmt.Sprintf("policy, rule %s: %v", e.Rule, e.Err)
}

func (e *Error) Unwrap() error { return e.Err }

// Parse reads a policy and compiles every expression. All errors are found, joined.
func Parse(text []byte) (*Policy, error) {
	var file struct {
		Version  int
		Name     string
		Sources  map[string]string
		Advice   yaml.Node
		Rules    []Rule
		Evidence []Requirement
		Duties   map[string]map[drive.Duty]Fitness
		Care     string
	}
	if err := yaml.Unmarshal(text, &file); err != nil {
		return nil, &Error{"", err}
	}
	env, err := environment()
	if err != nil {
		return nil, &Error{"", err}
	}
	p := &Policy{Version: file.Version, Name: file.Name, Sources: file.Sources, Rules: file.Rules, Evidence: file.Evidence, Care: file.Care, Duties: map[drive.Grade]map[drive.Duty]Fitness{}}
	for i := 0; i+1 < len(file.Advice.Content); i += 2 {
		p.Advice = append(p.Advice, Advice{file.Advice.Content[i].Value, file.Advice.Content[i+1].Value})
	}
	var errs []error
	complain := func(rule, format string, args ...any) { errs = append(errs, &Error{rule, fmt.Errorf(format, args...)}) }
	for word, duties := range file.Duties {
		g, err := drive.ParseGrade(word)
		if err != nil {
			complain("", "%w", err)
		}
		p.Duties[g] = duties
	}
	if len(p.Rules) == 0 {
		complain("", "no rules")
	}
	seen := map[string]bool{}
	for i := range p.Rules {
		r := &p.Rules[i]
		if r.ID == "" || seen[r.ID] {
			complain(r.ID, "rule %d has no id of its own", i+1)
		}
		seen[r.ID] = true
		if r.Effect != Note && r.Effect.Grade() == drive.Undecided {
			complain(r.ID, "effect %q is not note, degrading or replace", r.Effect)
		}
		for _, n := range r.Needs {
			if _, ok := signal.Lookup(n); !ok {
				complain(r.ID, "needs %q, which is not a signal", n)
			}
		}
		for _, a := range r.Advice {
			if !slices.ContainsFunc(p.Advice, func(known Advice) bool { return known.ID == a }) {
				complain(r.ID, "advice %q is not in the list", a)
			}
		}
		if _, ok := p.Sources[r.Source]; !ok {
			complain(r.ID, "source %q is not in the list", r.Source)
		}
		if r.program, err = compile(env, r.When); err != nil {
			complain(r.ID, "%w", err)
		}
	}
	for i := range p.Evidence {
		if p.Evidence[i].program, err = compile(env, p.Evidence[i].When); err != nil {
			complain("evidence "+p.Evidence[i].ID, "%w", err)
		}
	}
	if len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	return p, nil
}

func compile(env *cel.Env, expression string) (cel.Program, error) {
	ast, issues := env.Compile(expression)
	if issues.Err() != nil {
		return nil, issues.Err() // names line and column
	}
	if ast.OutputType() != cel.BoolType {
		return nil, fmt.Errorf("expression %q gives %s, not true or false", expression, ast.OutputType())
	}
	return env.Program(ast, cel.CostLimit(costLimit))
}

func run(program cel.Program, f Facts) (bool, error) {
	out, _, err := program.Eval(map[string]any{
		"now": f.Now, "change": f.Change, "grew": f.Grew, "drive": f.Drive, "duty": f.Duty, "rollback": f.Rollback, "readings": f.Readings,
	})
	if err != nil {
		return false, err
	}
	fires, ok := out.Value().(bool)
	if !ok {
		return false, fmt.Errorf("gives %v, not true or false", out.Value())
	}
	return fires, nil
}

// Fires puts the facts to the rule's expression.
func (r *Rule) Fires(f Facts) (bool, error) { return run(r.program, f) }

// Met puts the facts to the requirement's expression.
func (r *Requirement) Met(f Facts) (bool, error) { return run(r.program, f) }
