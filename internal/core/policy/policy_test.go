package policy

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
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
	p, err := Parse(
		[]byte(
			"version: 2\nsources: {s: s}\nrules:\n- {id: a, when: now.pending > 9.0, effect: note, limit: {signal: pending, at: " +
				"100, continuous: 10}, source: s}",
		),
	)
	require.NoError(t, err)
	assert.EqualValues(t, 10, p.Rules[0].Limit.For(drive.Continuous))
	assert.EqualValues(t, 100, p.Rules[0].Limit.For(drive.Everyday))
}

func TestAWrongPolicyIsRefusedWithRuleAndColumn(t *testing.T) {
	const frame = "version: 2\nsources: {s: s}\nadvice: {copy: Copy.}\nrules:\n"
	for name, row := range map[string]struct{ yaml, want string }{
		"a word that does not exist": {
			"- {id: a, when: nowhere.pending > 0.0, effect: note, source: s}",
			"policy, line 5, rule a: column 1 of its expression: undeclared reference to 'nowhere'. Write what the head of",
		},
		"an expression of many lines": {
			"- {id: a, when: 'true', effect: note, source: s}\n- id: b\n  effect: note\n  source: s\n  when: |\n    now.pending > 1 &&\n" +
				"    mood", "policy, line 11, rule b: column 1",
		},
		"what is counted beside a number with a point": {
			"- {id: a, when: readings * 2 > now.pending, effect: note, source: s}", "> cannot be put between int and double. Write double(",
		},
		"a text without quotes": {
			"- {id: a, when: duty == 3, effect: note, source: s}", "== cannot be put between string and int. A text is compared with",
		},
		"a number for a yes":     {"- {id: a, when: 1 + 1, effect: note, source: s}", "gives int, not true or false"},
		"an effect that is none": {"- {id: a, when: 'true', effect: perhaps, source: s}", `effect "perhaps"`},
		"a signal that is none": {
			"- {id: a, when: 'true', effect: note, needs: [mood], source: s}", `needs "mood", which is not a signal`,
		},
		"an advice nobody wrote":   {"- {id: a, when: 'true', effect: note, advice: [pray], source: s}", `advice "pray"`},
		"a limit without a source": {"- {id: a, when: 'true', effect: note}", `source ""`},
		"the same id twice": {
			"- {id: a, when: 'true', effect: note, source: s}\n- {id: a, when: 'true', effect: note, source: s}",
			"rule 2 has no id of its own",
		},
		"a limit nobody wrote": {
			"- {id: a, when: now.pending > limit.much, effect: note, source: s}", `limit "much" is not in the list`,
		},
		"a margin nobody wrote": {
			"- {id: a, when: 'true', effect: note, limit: {signal: pending, name: much}, source: s}",
			`limit "much" is not in the list`,
		},
		"a duty that is none": {
			"- {id: a, when: 'true', effect: note, source: s}\nlimits: {many: {all: 9, forever: 3, source: s}}", `duty "forever"`,
		},
		"a limit's source": {
			"- {id: a, when: 'true', effect: note, source: s}\nlimits: {many: {all: 9, source: t}}", `limit many: source "t"`,
		},
		"an expression of evidence": {
			"- {id: a, when: 'true', effect: note, source: s}\nevidence: [{id: e, when: mood}]", "line 6, rule evidence e: column 1",
		},
		"a grade that is none": {"- {id: a, when: 'true', effect: note, source: s}\nduties: {fine: {}}", "fine"},
		"a silence of no ports": {
			"- {id: a, when: 'true', effect: note, source: s}\nunanswered: {ports: 0, says: It is silent, source: s}",
			"unanswered: it needs ports",
		},
		"a silence without words": {
			"- {id: a, when: 'true', effect: note, source: s}\nunanswered: {ports: 1, source: s}", "unanswered: it needs ports",
		},
		"a silence without a source": {
			"- {id: a, when: 'true', effect: note, source: s}\nunanswered: {ports: 1, says: It is silent}",
			"unanswered: it needs ports",
		},
		"no rules at all": {"", "no rules"},
		"no YAML":         {"\t- what", "policy: yaml"},
	} {
		_, err := Parse([]byte(frame + row.yaml))
		assert.ErrorContains(t, err, row.want, name)
	}
}

func TestAnExampleSaysWhatItLeavesOut(t *testing.T) {
	const frame = "version: 2\nsources: {s: s}\nrules:\n- {id: a, effect: note, source: s, when: %q, examples: [{now: {pending: " +
		"3}, fires: true}]}"
	for _, when := range []string{
		"change.pending == 0.0 && grew.pending == 0 && pace.pending == 0.0 && jump.pending == 0.0 && steady.pending == 0.0 && " +
			"unexplained.pending == 3.0 && !('pending' in before)",
		"duty == 'everyday' && readings == 1 && rollback == 0 && contradictions == 0 && suspect == 0 && !doubtful && !other_port " +
			"&& !habit && rework == '' && !('pending' in since_rework)",
		"drive.medium == '' && drive.locked == 'false' && drive.smart == 'true'",
	} {
		p, err := Parse(fmt.Appendf(nil, frame, when))
		require.NoError(t, err)
		trials, without := p.Test()
		assert.Empty(t, without)
		assert.Equal(t, []Trial{{Rule: "a", Example: 1, Wants: true, Fires: true}}, trials, when)
		assert.True(t, trials[0].Passed())
	}
	p, err := Parse(
		[]byte(
			"version: 2\nsources: {s: s}\nrules:\n- {id: a, effect: note, source: s, when: 'now.pending > 1.0', examples: " +
				"[{fires: true}, {now: {pending: 1}, fires: true}]}\n- {id: b, effect: note, source: s, when: 'true'}",
		),
	)
	require.NoError(t, err)
	trials, without := p.Test()
	assert.Equal(t, []string{"b"}, without)
	assert.False(t, trials[0].Passed() || trials[1].Passed())
	assert.Contains(t, trials[0].Error, "no such key")
	assert.Equal(t, 2, trials[1].Example)
}

func TestWhatARuleLooksAtIsFoundInItsWords(t *testing.T) {
	p, err := Parse(
		[]byte("version: 2\nsources: {s: s}\nlimits: {flat: {all: 9, source: s}, each: {all: 9, continuous: 3, source: s}}\nrules:\n" +
			"- {id: a, when: now.pending > limit.flat, effect: note, source: s}\n- {id: b, when: now.pending > limit.each, " +
			"effect: note, source: s}\n" +
			"- {id: c, when: pace.pending > 0.0, effect: note, source: s, says: 'of {limit.each}'}\n- {id: d, when: \"duty == " +
			"'archive' || 'year' in risk && risk.year > 0.5\", effect: note, source: s}"),
	)
	require.NoError(t, err)
	var seen [][3]bool
	for _, r := range p.Rules {
		seen = append(seen, [3]bool{r.OfDuty, r.OfPace, r.OfRisk})
	}
	assert.Equal(t, [][3]bool{{}, {true}, {true, true}, {true, false, true}}, seen)
	other := p.Rules[0]
	assert.True(t, p.Rules[0].Judges(&other))
	for _, change := range []func(*Rule){
		func(r *Rule) { r.When = "true" }, func(r *Rule) { r.Effect = Replace }, func(r *Rule) { r.Needs = []signal.Name{signal.Pending} },
		func(r *Rule) { r.Applies.Medium = []drive.Medium{drive.Flash} },
		func(r *Rule) { r.Applies.Interface = []drive.Interface{drive.ATA} },
	} {
		other = p.Rules[0]
		change(&other)
		assert.False(t, p.Rules[0].Judges(&other))
	}
}

func TestARuleNamesTheDutiesADriveIsNotFor(t *testing.T) {
	p, err := Parse(
		[]byte(
			"version: 2\nsources: {s: s}\nrules:\n- {id: a, when: 'true', effect: note, source: s, unfit: [archive]}\n- {id: b, " +
				"when: 'true', effect: note, source: s}",
		),
	)
	require.NoError(t, err)
	assert.True(t, p.Unfit("a", drive.Archive))
	assert.False(t, p.Unfit("a", drive.Carry))
	assert.False(t, p.Unfit("b", drive.Archive))
	assert.False(t, p.Unfit("c", drive.Archive))
}

func TestAnExpressionThatCostsTooMuchIsCutOff(t *testing.T) {
	const rule = "version: 2\nsources: {s: s}\nrules:\n- {id: a, when: 'now.exists(a, now.exists(b, now.exists(c, now.exists(d, " +
		"now[a] + now[b] + now[c] + now[d] > 1000.0))))', effect: note, source: s}"
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

func TestARiskOfNothingIsARiskThatIsKnown(t *testing.T) {
	p, err := Parse([]byte("version: 2\nsources: {s: s}\nrules:\n- {id: a, when: '\"year\" in risk', effect: note, source: s}"))
	require.NoError(t, err)
	for risk, known := range map[float64]bool{-1: false, 0: true, 0.2: true} {
		b, err := p.Bind(Facts{Risk: risk})
		require.NoError(t, err)
		fires, err := p.Rules[0].Fires(b)
		require.NoError(t, err)
		assert.Equal(t, known, fires, "%v", risk)
	}
}

// A number may be written without a point wherever one with a point is meant, and is that.
func TestTenIsANumberLikeTenPointNought(t *testing.T) {
	for when, fires := range map[string]bool{
		"now.pending > 9": true, "now.pending > 10": false, "10 <= now.pending * 1": true, "now.pending == 10": true,
		"now.pending in [9, 10]": true, "now.pending - 1 > 2 * 4 && readings > 2": true, "now.pending / 4 == 2.5": true,
		"readings / 2 == 1": true, "limit.few > 3 ? now.pending > 100 : false": false, "-10 < now.pending": true,
	} {
		p, err := Parse([]byte(
			"version: 2\nsources: {s: s}\nlimits: {few: {all: 4, source: s}}\nrules:\n- {id: a, when: '" + when +
				"', effect: note, source: s}",
		))
		require.NoError(t, err, when)
		facts, err := p.Bind(Facts{Now: map[string]float64{"pending": 10}, Readings: 3})
		require.NoError(t, err)
		fired, err := run(p.Rules[0].program, facts)
		require.NoError(t, err, when)
		assert.Equal(t, fires, fired, when)
	}
}
