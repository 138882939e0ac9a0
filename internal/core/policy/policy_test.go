package policy

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheDefaultPolicyAnswersItsOwnExamples(t *testing.T) {
	p, err := Parse(Default)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(p.Rules), 12)
	trials, without := p.Test()
	assert.Empty(t, without)
	for _, x := range trials {
		assert.True(t, x.Passed(), "rule %s, example %d: %+v", x.Rule, x.Example, x)
	}
	fired := map[string]bool{}
	for _, x := range trials {
		fired[x.Rule] = fired[x.Rule] || x.Fires
	}
	for _, r := range p.Rules {
		assert.True(t, fired[r.ID], "rule %s has an example in which it fires", r.ID)
	}
}

func TestAWrongPolicyIsRefusedWithRuleAndColumn(t *testing.T) {
	const frame = "version: 2\nsources: {s: s}\nadvice: {copy: Copy.}\nrules:\n"
	for name, row := range map[string]struct{ yaml, want string }{
		"a word that does not exist": {"- {id: a, when: nowhere.pending > 0.0, effect: note, source: s}", "rule a: line 1, column 1 of its expression: undeclared reference to 'nowhere'"},
		"a number for a yes":         {"- {id: a, when: 1 + 1, effect: note, source: s}", "gives int, not true or false"},
		"an effect that is none":     {"- {id: a, when: 'true', effect: perhaps, source: s}", `effect "perhaps"`},
		"a signal that is none":      {"- {id: a, when: 'true', effect: note, needs: [mood], source: s}", `needs "mood", which is not a signal`},
		"an advice nobody wrote":     {"- {id: a, when: 'true', effect: note, advice: [pray], source: s}", `advice "pray"`},
		"a limit without a source":   {"- {id: a, when: 'true', effect: note}", `source ""`},
		"the same id twice":          {"- {id: a, when: 'true', effect: note, source: s}\n- {id: a, when: 'true', effect: note, source: s}", "rule 2 has no id of its own"},
		"no rules at all":            {"", "no rules"},
		"no YAML":                    {"\t- what", "policy: yaml"},
	} {
		_, err := Parse([]byte(frame + row.yaml))
		assert.ErrorContains(t, err, row.want, name)
	}
}

func TestAnExpressionThatCostsTooMuchIsCutOff(t *testing.T) {
	const rule = "version: 2\nsources: {s: s}\nrules:\n- {id: a, when: 'now.exists(a, now.exists(b, now.exists(c, now.exists(d, now[a] + now[b] + now[c] + now[d] > 1000.0))))', effect: note, source: s}"
	p, err := Parse([]byte(rule))
	require.NoError(t, err)
	f := Facts{Now: map[string]float64{}}
	for i := range 60 { // as many signals as a drive has; all of the expression would be 13 million comparisons
		f.Now[string(rune('a'+i))] = 1
	}
	bound, err := f.Bind()
	require.NoError(t, err)
	fires, err := p.Rules[0].Fires(bound)
	assert.False(t, fires)
	assert.ErrorContains(t, err, "cost limit exceeded")
}
