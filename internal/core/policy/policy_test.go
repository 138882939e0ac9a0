package policy

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheDefaultPolicyAnswersItsOwnExamples(t *testing.T) {
	p, err := Parse(Default)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(p.Rules), 12)
	for i := range p.Rules {
		r := &p.Rules[i]
		require.NotEmpty(t, r.Examples, "rule %s has no example", r.ID)
		for n, x := range r.Examples {
			f := Facts{Now: x.Now, Change: map[string]float64{}, Grew: map[string]int{}, Drive: map[string]string{"medium": "", "form_factor": ""}, Duty: "everyday", Rollback: x.Rollback}
			for name := range x.Now {
				f.Change[name], f.Grew[name] = 0, 0
			}
			maps.Copy(f.Change, x.Change)
			maps.Copy(f.Grew, x.Grew)
			maps.Copy(f.Drive, x.Drive)
			if x.Duty != "" {
				f.Duty = x.Duty
			}
			fires, err := r.Fires(f)
			require.NoError(t, err, "rule %s, example %d", r.ID, n+1)
			assert.Equal(t, x.Fires, fires, "rule %s, example %d", r.ID, n+1)
		}
	}
}

func TestAWrongPolicyIsRefusedWithRuleAndColumn(t *testing.T) {
	const frame = "version: 2\nsources: {s: s}\nadvice: {copy: Copy.}\nrules:\n"
	for name, row := range map[string]struct{ yaml, want string }{
		"a word that does not exist": {"- {id: a, when: nowhere.pending > 0.0, effect: note, source: s}", "rule a: ERROR: <input>:1:1: undeclared reference to 'nowhere'"},
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
