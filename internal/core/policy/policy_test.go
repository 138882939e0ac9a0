package policy

import (
	"bytes"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
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

// A number in an expression that is somebody's limit would be a limit that stands twice: a draft that lowers it would change half.
func TestALimitStandsOnce(t *testing.T) {
	p, err := Parse(Default)
	require.NoError(t, err)
	number := regexp.MustCompile(`[^\w.](\d+(?:\.\d+)?)`)
	quoted := regexp.MustCompile(`'[^']*'|"[^"]*"`)
	check := func(id, expression string) {
		for _, m := range number.FindAllStringSubmatch(" "+quoted.ReplaceAllString(expression, ""), -1) {
			x, err := strconv.ParseFloat(m[1], 64)
			require.NoError(t, err)
			assert.LessOrEqual(t, x, 2.0, "%s: %s is somebody's limit: name it under limits", id, m[1])
		}
	}
	named := map[string]bool{}
	for _, r := range p.Rules {
		check(r.ID, r.When)
		for _, name := range LimitsIn(r.When + r.Says) {
			named[name] = true
		}
		if r.Limit != nil {
			require.NotEmpty(t, r.Limit.Name, "rule %s: its margin names no limit", r.ID)
			named[r.Limit.Name] = true
		}
	}
	for _, q := range p.Evidence {
		check(q.ID, q.When)
		for _, name := range LimitsIn(q.When + q.What) {
			named[name] = true
		}
	}
	for name, l := range p.Limits {
		assert.True(t, named[name], "nothing names limit %s", name)
		assert.Contains(t, p.Sources, l.Source)
	}
	assert.EqualValues(t, 10, p.Limits["bad_sectors"].For(drive.Continuous))
	assert.EqualValues(t, 100, p.Limits["bad_sectors"].For(drive.Carry))
	lower, err := Parse(bytes.Replace(Default, []byte("bad_sectors: {all: 100,"), []byte("bad_sectors: {all: 50,"), 1))
	require.NoError(t, err)
	f := Facts{Now: map[string]float64{"reallocated": 40, "pending": 10}, Duty: "everyday"}
	for policy, want := range map[*Policy]bool{p: false, lower: true} {
		for i := range policy.Rules {
			if r := &policy.Rules[i]; r.ID == "surface-count" {
				b, err := policy.Bind(f)
				require.NoError(t, err)
				fires, err := r.Fires(b)
				require.NoError(t, err)
				assert.Equal(t, want, fires, "lowering a limit changes what it limits")
			}
		}
	}
}

func TestAPolicyOlderThanNamedLimitsStillReads(t *testing.T) {
	p, err := Parse([]byte("version: 2\nsources: {s: s}\nrules:\n- {id: a, when: now.pending > 9.0, effect: note, limit: {signal: pending, at: 100, continuous: 10}, source: s}"))
	require.NoError(t, err)
	assert.EqualValues(t, 10, p.Rules[0].Limit.For(drive.Continuous))
	assert.EqualValues(t, 100, p.Rules[0].Limit.For(drive.Everyday))
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
		"a limit nobody wrote":       {"- {id: a, when: now.pending > limit.much, effect: note, source: s}", `limit "much" is not in the list`},
		"a margin nobody wrote":      {"- {id: a, when: 'true', effect: note, limit: {signal: pending, name: much}, source: s}", `limit "much" is not in the list`},
		"a duty that is none":        {"- {id: a, when: 'true', effect: note, source: s}\nlimits: {many: {all: 9, forever: 3, source: s}}", `duty "forever"`},
		"a limit's source":           {"- {id: a, when: 'true', effect: note, source: s}\nlimits: {many: {all: 9, source: t}}", `limit many: source "t"`},
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
	bound, err := p.Bind(f)
	require.NoError(t, err)
	fires, err := p.Rules[0].Fires(bound)
	assert.False(t, fires)
	assert.ErrorContains(t, err, "cost limit exceeded")
}
