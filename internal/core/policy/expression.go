package policy

import (
	"fmt"
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"go.yaml.in/yaml/v3"
)

// place is where a rule or a piece of evidence stands in a policy's file, in lines; 0: not known.
type place struct{ begins, when int }

// placesIn finds the places of rules, by their IDs, and of evidence.
func placesIn(text []byte) map[string]place {
	all := map[string]place{}
	var top struct {
		Rules, Evidence []yaml.Node
	}
	if yaml.Unmarshal(text, &top) != nil {
		return all
	}
	note := func(before string, nodes []yaml.Node) {
		for _, n := range nodes {
			at, id := place{begins: n.Line}, ""
			for i := 0; i+1 < len(n.Content); i += 2 {
				switch value := n.Content[i+1]; n.Content[i].Value {
				case "id":
					id = value.Value
				case "when":
					if at.when = value.Line; value.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
						at.when++ // it begins below its sign
					}
				}
			}
			all[before+id] = at
		}
	}
	note("", top.Rules)
	note("evidence ", top.Evidence)
	return all
}

// expressionError is what is wrong with an expression.
type expressionError struct{ all []*common.Error }

func (e *expressionError) Error() string {
	var words []string
	for _, one := range e.all {
		words = append(words, inWords(one))
	}
	return strings.Join(words, "; ")
}

// What the expression language says of what people write most often.
var (
	undeclared = regexp.MustCompile(`^undeclared reference to '([^']*)'`)
	overload   = regexp.MustCompile(`^found no matching overload for '([^']*)' applied to '\(([^']*)\)'`)
)

// inWords says what is wrong at a place of an expression, and what to write instead.
func inWords(e *common.Error) string {
	words := e.Message
	if m := undeclared.FindStringSubmatch(words); m != nil {
		words += ". Write what the head of the shipped policy lists, as in now.pending"
		if strings.Count(m[1], ".") == 0 {
			words += fmt.Sprintf(": a signal is now.%[1]s or change.%[1]s, a text stands in quotes", m[1])
		}
	} else if m := overload.FindStringSubmatch(words); m != nil {
		op := strings.Trim(m[1], "_")
		words = fmt.Sprintf("%s cannot be put between %s", op, strings.ReplaceAll(m[2], ", ", " and "))
		switch {
		case strings.Contains(m[2], "int") && strings.Contains(m[2], "double"):
			words += ". Write double(...) around what is counted"
		case strings.Contains(m[2], "bool"):
			words += ". Join conditions by && and ||"
		case strings.Contains(m[2], "string"):
			words += ". A text is compared with a text in quotes"
		}
	}
	return fmt.Sprintf("column %d of its expression: %s", e.Location.Column()+1, words)
}

// widened checks an expression. A number written without a point is one with a point where its neighbour is: 10 is 10.0.
func widened(env *cel.Env, parsed *cel.Ast) (*cel.Ast, *cel.Issues) {
	for {
		checked, issues := env.Check(parsed)
		changed := false
		for _, e := range issues.Errors() {
			if !strings.Contains(e.Message, "double") || !strings.Contains(e.Message, "int") {
				continue
			}
			celast.PostOrderVisit(parsed.NativeRep().Expr(), celast.NewExprVisitor(func(x celast.Expr) {
				if x.ID() == e.ExprID && x.Kind() == celast.CallKind {
					for _, arg := range x.AsCall().Args() {
						changed = widen(arg) || changed
					}
				}
			}))
		}
		if !changed {
			return checked, issues
		}
	}
}

// widen makes a whole number, or those of a list, one with a point, and tells whether it did.
func widen(x celast.Expr) (changed bool) {
	switch x.Kind() {
	case celast.LiteralKind:
		if n, ok := x.AsLiteral().(types.Int); ok {
			x.SetKindCase(celast.NewExprFactory().NewLiteral(x.ID(), types.Double(n)))
			return true
		}
	case celast.ListKind:
		for _, one := range x.AsList().Elements() {
			changed = widen(one) || changed
		}
	case celast.CallKind: // 2 * 3 beside one with a point
		for _, one := range x.AsCall().Args() {
			if !constant(one) {
				return false
			}
		}
		for _, one := range x.AsCall().Args() {
			changed = widen(one) || changed
		}
	default:
	}
	return changed
}

// constant reports whether an expression is made of numbers alone.
func constant(x celast.Expr) bool {
	if x.Kind() != celast.CallKind {
		return x.Kind() == celast.LiteralKind
	}
	for _, one := range x.AsCall().Args() {
		if !constant(one) {
			return false
		}
	}
	return true
}
