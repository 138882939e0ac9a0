package wording_test

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
)

// TestEveryOwnersSentenceOfThePolicyIsTranslated goes over what the shipped policy says to owners.
func TestEveryOwnersSentenceOfThePolicyIsTranslated(t *testing.T) {
	p, err := policy.Parse(policy.Default)
	require.NoError(t, err)
	says := []string{
		"Nothing to do. If the trouble goes on, look at the system, the cable or the file system.",
		p.Unanswered.Customer,
		"another reading: what this one says contradicts those before it",
	}
	for i := range p.Rules {
		says = append(says, p.Rules[i].Customer)
	}
	for _, a := range p.Advice {
		says = append(says, a.Says)
	}
	limit := regexp.MustCompile(`\{limit\.\w+\}`)
	for _, e := range p.Evidence {
		says = append(says, limit.ReplaceAllString(e.What, "720\u00a0h"), e.Run, "Run: "+e.Run+".")
	}
	for _, d := range signal.Registry {
		if d.Matters {
			says = append(says, d.Words+", which reading 12 gave and this one does not")
		}
	}
	for _, l := range wording.Languages()[1:] {
		for _, s := range says {
			assert.NotEqual(t, s, l.Policy(s), "%s in %s", s, l)
		}
	}
	assert.Equal(
		t, "ein bestandener Selbsttest, höchstens 720\u00a0h alt",
		wording.German.Policy("a passed self-test, 720\u00a0h old at most"),
	)
	assert.Equal(t, "Nötig: kurze Prüfung.", wording.German.Policy("Run: quick check."))
	assert.Equal(t, "A sentence of the shop's own.", wording.French.Policy("A sentence of the shop's own."))
}
