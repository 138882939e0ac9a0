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
