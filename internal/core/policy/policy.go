// Package policy reads a shop's rules from YAML and compiles their CEL expressions. It judges nothing itself: package
// verdict puts evidence to the rules. The shipped policy is default.yaml. Start with Parse.
package policy

import (
	_ "embed" // the default policy
	"errors"
	"fmt"
	"regexp"
	"slices"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/cost"
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
	Now            map[string]float64 `yaml:"now"`
	Change         map[string]float64 `yaml:"change"`
	Unexplained    map[string]float64 `yaml:"unexplained"` // of what is left out, all is unexplained
	Grew           map[string]int     `yaml:"grew"`
	Pace           map[string]float64 `yaml:"pace"`
	SinceRework    map[string]float64 `yaml:"since_rework"`
	Jump           map[string]float64 `yaml:"jump"`
	Steady         map[string]float64 `yaml:"steady"`
	Before         map[string]float64 `yaml:"before"`
	Risk           float64            `yaml:"risk"`
	Suspect        int                `yaml:"suspect"`
	Doubtful       bool               `yaml:"doubtful"`
	OtherPort      bool               `yaml:"other_port"`
	Habit          bool               `yaml:"habit"`
	Rework         string             `yaml:"rework"`
	Drive          map[string]string  `yaml:"drive"`
	Duty           string             `yaml:"duty"`
	Rollback       int                `yaml:"rollback"`
	Contradictions int                `yaml:"contradictions"`
	Readings       int                `yaml:"readings"`
	Fires          bool               `yaml:"fires"`
}

// CopyAdvice is the id of the advice to copy the data first, which is left out where there is nothing to copy any more.
const CopyAdvice = "copy"

// How the last rework stands.
const (
	ReworkNone = ""
	ReworkNew  = "new"  // no check on a later day yet
	ReworkHeld = "held" // a check on a later day has found nothing of it again
)

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
	Unfit    []drive.Duty  `yaml:"unfit"` // duties the drive is not for while it fires, whatever its grade
	Source   string        `yaml:"source"`
	Alert    string        `yaml:"alert"` // how loudly it is told: none, digest, now, wake; empty: by its effect
	Examples []Example     `yaml:"examples"`

	OfDuty  bool `yaml:"-"` // whether it fires may depend on the duty
	OfPace  bool `yaml:"-"` // it looks at how fast signals rise
	OfRisk  bool `yaml:"-"` // it looks at the chance of failing
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
	OfDuty  bool         `yaml:"-"`      // whether it is met may depend on the duty, too

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

// Unanswered is when a drive that names itself nowhere is to be replaced. A port counts that is known to be good: another drive
// answered there afterwards.
type Unanswered struct {
	Ports    int      `yaml:"ports"`
	Says     string   `yaml:"says"` // {ports} is which
	Customer string   `yaml:"customer"`
	Advice   []string `yaml:"advice"`
	Source   string   `yaml:"source"`
}

// Policy is a compiled policy.
type Policy struct {
	Version  int
	Name     string
	Sources  map[string]string
	Limits   map[string]Level
	Advice   []Advice
	Rules    []Rule
	Evidence []Requirement
	Duties   map[drive.Grade]map[drive.Duty]Fitness
	// Unanswered is when a drive that names itself nowhere is to be replaced; nil: never.
	Unanswered *Unanswered
	Care       string // the care "with care" asks for

	limitsFor map[drive.Duty]map[string]float64
}

// Unfit reports whether a rule that fires makes a drive unfit for a duty.
func (p *Policy) Unfit(rule string, d drive.Duty) bool {
	for i := range p.Rules {
		if p.Rules[i].ID == rule {
			return slices.Contains(p.Rules[i].Unfit, d)
		}
	}
	return false
}

// Alert is how loudly a rule is told as it says itself; empty: it does not.
func (p *Policy) Alert(rule string) string {
	for i := range p.Rules {
		if p.Rules[i].ID == rule {
			return p.Rules[i].Alert
		}
	}
	return ""
}

// Facts are what expressions see.
type Facts struct {
	Now            map[string]float64
	Change         map[string]float64
	Unexplained    map[string]float64
	Grew           map[string]int
	Pace           map[string]float64
	Jump           map[string]float64 // the largest rise in one interval
	Steady         map[string]float64 // days since it last moved, or since it was first seen
	Before         map[string]float64 // at the reading before the latest
	SinceRework    map[string]float64
	Rework         string
	Drive          map[string]string
	Duty           string
	Risk           float64 // chance of failing within a year; negative: not known
	Rollback       int
	Contradictions int
	Readings       int
	Suspect        int  // readings set aside: one said so alone, and the next took it back
	Doubtful       bool // the latest reading is such a one, unless the next confirms it
	Habit          bool // the drive's log stamps its self-tests wrongly
	OtherPort      bool // link errors grew, and no longer do at another port
}

// costLimit bounds one expression: far above what a rule needs, far below what would be noticed.
const costLimit = 10_000

func environment() (*cel.Env, error) {
	numbers := cel.MapType(cel.StringType, cel.DoubleType)
	return cel.NewEnv(
		cel.Variable("now", numbers), cel.Variable("change", numbers),
		cel.Variable("grew", cel.MapType(cel.StringType, cel.IntType)), cel.Variable("pace", numbers),
		cel.Variable("jump", numbers), cel.Variable("steady", numbers), cel.Variable("before", numbers),
		cel.Variable("limit", numbers), cel.Variable("risk", numbers), cel.Variable("suspect", cel.IntType),
		cel.Variable("doubtful", cel.BoolType), cel.Variable("other_port", cel.BoolType), cel.Variable("habit", cel.BoolType),
		cel.Variable("drive", cel.MapType(cel.StringType, cel.StringType)), cel.Variable("duty", cel.StringType),
		cel.Variable("unexplained", numbers), cel.Variable("since_rework", numbers), cel.Variable("rework", cel.StringType),
		cel.Variable("rollback", cel.IntType), cel.Variable("contradictions", cel.IntType), cel.Variable("readings", cel.IntType),
	)
}

// Error says which rule of a policy is wrong, and where in its expression.
type Error struct {
	Rule string // id; empty for the file as a whole
	Line int    // of the file, where the rule begins or its expression is wrong; 0: not known
	Err  error
}

func (e *Error) Error() string {
	where := "policy"
	if e.Line > 0 {
		where += fmt.Sprintf(", line %d", e.Line)
	}
	if e.Rule != "" {
		where += ", rule " + e.Rule
	}
	return where + ": " + e.Err.Error()
}

func (e *Error) Unwrap() error { return e.Err }

// Parse reads a policy and compiles every expression. All errors are found, joined.
func Parse(text []byte) (*Policy, error) {
	var file struct {
		Version    int
		Name       string
		Sources    map[string]string
		Limits     map[string]Level
		Advice     yaml.Node
		Rules      []Rule
		Evidence   []Requirement
		Unanswered *Unanswered
		Duties     map[string]map[drive.Duty]Fitness
		Care       string
	}
	if err := yaml.Unmarshal(text, &file); err != nil {
		return nil, &Error{Err: err}
	}
	env, err := environment()
	if err != nil {
		return nil, &Error{Err: err}
	}
	p := &Policy{
		Version:    file.Version,
		Name:       file.Name,
		Sources:    file.Sources,
		Limits:     file.Limits,
		Rules:      file.Rules,
		Evidence:   file.Evidence,
		Unanswered: file.Unanswered,
		Care:       file.Care,
		Duties:     map[drive.Grade]map[drive.Duty]Fitness{},
	}
	byDuty := make(map[drive.Duty]map[string]float64, len(drive.Duties()))
	for _, d := range drive.Duties() {
		byDuty[d] = p.LimitsFor(d)
	}
	p.limitsFor = byDuty
	for i := 0; i+1 < len(file.Advice.Content); i += 2 {
		p.Advice = append(p.Advice, Advice{file.Advice.Content[i].Value, file.Advice.Content[i+1].Value})
	}
	c := complaints{policy: p, places: placesIn(text)}
	for word, duties := range file.Duties {
		g, err := drive.ParseGrade(word)
		if err != nil {
			c.add("", "%w", err)
		}
		p.Duties[g] = duties
	}
	c.limits()
	seen := map[string]bool{}
	for i := range p.Rules {
		r := &p.Rules[i]
		if r.ID == "" || seen[r.ID] {
			c.add(r.ID, "rule %d has no id of its own", i+1)
		}
		seen[r.ID] = true
		c.rule(r, env)
	}
	if u := p.Unanswered; u != nil {
		if _, ok := p.Sources[u.Source]; !ok || u.Ports < 1 || u.Says == "" {
			c.add("unanswered", "it needs ports of 1 or more, a sentence and a source of the list")
		}
	}
	for i := range p.Evidence {
		c.evidence(&p.Evidence[i], env)
	}
	if len(c.all) > 0 {
		return nil, errors.Join(c.all...)
	}
	return p, nil
}

// complaints are what is wrong with a policy: all of it, so that who writes one mends all of it.
type complaints struct {
	policy *Policy
	places map[string]place
	all    []error
}

func (c *complaints) add(rule, format string, args ...any) {
	c.all = append(c.all, &Error{rule, c.places[rule].begins, fmt.Errorf(format, args...)})
}

// expression complains of what is wrong with an expression, each at its line of the file.
func (c *complaints) expression(rule string, err error) {
	wrong, ok := errors.AsType[*expressionError](err)
	if !ok {
		c.add(rule, "%w", err)
		return
	}
	for _, one := range wrong.all {
		line := 0
		if at := c.places[rule].when; at > 0 {
			line = at + one.Location.Line() - 1
		}
		c.all = append(c.all, &Error{rule, line, errors.New(inWords(one))})
	}
}

func (c *complaints) limits() {
	p := c.policy
	if len(p.Rules) == 0 {
		c.add("", "no rules")
	}
	for name, l := range p.Limits {
		if _, ok := p.Sources[l.Source]; !ok {
			c.add("limit "+name, "source %q is not in the list", l.Source)
		}
		for d := range l.Duties {
			if _, err := drive.ParseDuty(string(d)); err != nil {
				c.add("limit "+name, "%w", err)
			}
		}
	}
}

// named complains of limits that an expression or a sentence names and that are not there, and tells whether one differs by duty.
func (c *complaints) named(id string, texts ...string) (byDuty bool) {
	for _, text := range texts {
		for _, m := range limitName.FindAllStringSubmatch(text, -1) {
			l, ok := c.policy.Limits[m[1]]
			if !ok {
				c.add(id, "limit %q is not in the list", m[1])
			}
			byDuty = byDuty || len(l.Duties) > 0
		}
	}
	return byDuty
}

// rule checks a rule and makes it ready.
func (c *complaints) rule(r *Rule, env *cel.Env) {
	p := c.policy
	if l := r.Limit; l != nil && l.Name != "" {
		if level, ok := p.Limits[l.Name]; ok {
			l.named = &level
		} else {
			c.add(r.ID, "limit %q is not in the list", l.Name)
		}
	}
	if r.Effect != Note && r.Effect.Grade() == drive.Undecided {
		c.add(r.ID, "effect %q is not note, degrading or replace", r.Effect)
	}
	if r.Alert != "" && !slices.Contains([]string{"none", "digest", "now", "wake"}, r.Alert) {
		c.add(r.ID, "alert %q is not none, digest, now or wake", r.Alert)
	}
	for _, n := range r.Needs {
		if _, ok := signal.Lookup(n); !ok {
			c.add(r.ID, "needs %q, which is not a signal", n)
		}
	}
	for _, a := range r.Advice {
		if !slices.ContainsFunc(p.Advice, func(known Advice) bool { return known.ID == a }) {
			c.add(r.ID, "advice %q is not in the list", a)
		}
	}
	if _, ok := p.Sources[r.Source]; !ok {
		c.add(r.ID, "source %q is not in the list", r.Source)
	}
	r.OfPace, r.OfRisk = pace.MatchString(r.When), chance.MatchString(r.When)
	r.OfDuty = c.named(r.ID, r.When, r.Says, r.Customer) || duty.MatchString(r.When)
	var err error
	if r.program, err = compile(env, r.When); err != nil {
		c.expression(r.ID, err)
	}
}

// evidence checks a piece of evidence that is required and makes it ready.
func (c *complaints) evidence(e *Requirement, env *cel.Env) {
	id := "evidence " + e.ID
	e.OfDuty = c.named(id, e.When, e.What) || duty.MatchString(e.When)
	var err error
	if e.program, err = compile(env, e.When); err != nil {
		c.expression(id, err)
	}
}

func compile(env *cel.Env, expression string) (cel.Program, error) {
	ast, issues := env.Parse(expression)
	if issues.Err() == nil {
		ast, issues = widened(env, ast)
	}
	if issues.Err() != nil {
		return nil, &expressionError{issues.Errors()}
	}
	if ast.OutputType() != cel.BoolType {
		return nil, fmt.Errorf("expression %q gives %s, not true or false", expression, ast.OutputType())
	}
	// Most expressions cannot cost much whatever the facts are; counting while they run would cost as much as they do.
	if most, err := env.EstimateCost(ast, unsized{}); err == nil && most.Max <= costLimit {
		return env.Program(ast)
	}
	return env.Program(ast, cel.CostLimit(costLimit))
}

// unsized tells the estimate of an expression's cost nothing of how large facts are: what goes through them has no bound.
type unsized struct{}

func (unsized) EstimateSize(cost.AstNode) *cost.SizeEstimate { return nil }

func (unsized) EstimateCallCost(string, string, *cost.AstNode, []cost.AstNode) *cost.CallEstimate {
	return nil
}

// Bound are facts made ready for expressions, once for all of them.
type Bound struct{ activation cel.Activation }

// Bind makes facts ready for the expressions of a policy.
func (p *Policy) Bind(f Facts) (Bound, error) {
	risk := map[string]float64{}
	if f.Risk >= 0 {
		risk["year"] = f.Risk
	}
	a, err := cel.NewActivation(map[string]any{
		"jump":           f.Jump,
		"steady":         f.Steady,
		"before":         f.Before,
		"limit":          p.LimitsFor(drive.Duty(f.Duty)),
		"risk":           risk,
		"suspect":        f.Suspect,
		"doubtful":       f.Doubtful,
		"other_port":     f.OtherPort,
		"habit":          f.Habit,
		"now":            f.Now,
		"change":         f.Change,
		"unexplained":    f.Unexplained,
		"grew":           f.Grew,
		"pace":           f.Pace,
		"since_rework":   f.SinceRework,
		"rework":         f.Rework,
		"drive":          f.Drive,
		"duty":           f.Duty,
		"rollback":       f.Rollback,
		"contradictions": f.Contradictions,
		"readings":       f.Readings,
	})
	return Bound{a}, err
}

// duty, pace and chance find the names in an expression. A text that only mentions the duty costs an evaluation, nothing else.
var duty, pace, chance = regexp.MustCompile(`\bduty\b`), regexp.MustCompile(`\bpace\b`), regexp.MustCompile(`\brisk\.year\b`)

func run(program cel.Program, b Bound) (bool, error) {
	out, _, err := program.Eval(b.activation)
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
func (r *Rule) Fires(b Bound) (bool, error) { return run(r.program, b) }

// Met puts the facts to the requirement's expression.
func (r *Requirement) Met(b Bound) (bool, error) { return run(r.program, b) }

// Judges reports whether two rules judge alike, whatever they say of it.
func (r *Rule) Judges(other *Rule) bool {
	return r.When == other.When && r.Effect == other.Effect && slices.Equal(r.Needs, other.Needs) &&
		slices.Equal(r.Applies.Medium, other.Applies.Medium) && slices.Equal(r.Applies.Interface, other.Applies.Interface)
}
