package service

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	"hylostat.example/test/made"
)

// A draft is tested and replayed without changing anything; published, it judges every drive anew, and stays in force over a restart.
func TestAPolicyIsTestedReplayedAndPublished(t *testing.T) {
	spec := made.Disk("KVA077M511")
	spec.Counters[0].Course = sim.Course{From: 3}
	dir := t.TempDir()
	s, ctx := serve(t, dir, spec, made.Disk("KVA077M4R9")), t.Context()
	s.answering(1)
	s.answering(2)
	for range 2 {
		_, err := s.TakeReading(ctx, "7M511", contract.ReadingRequest{By: "Dov"})
		require.NoError(t, err)
	}
	v, err := s.Verdict(ctx, "7M511")
	require.NoError(t, err)
	require.Equal(t, contract.GradeDegrading, v.Grade)
	require.NotEmpty(t, v.Findings[0].Rests)
	rest := v.Findings[0].Rests[0]
	assert.Equal(
		t,
		contract.Rest{
			Signal: "reallocated",
			Words:  "reallocated sectors: 3",
			Value:  3,
			Source: "SMART data, attribute 5",
			Page:   rest.Page,
			Offset: rest.Offset,
			Length: rest.Length,
		},
		rest,
	)
	assert.Equal(t, "ata/attributes", *rest.Page)

	p, err := s.Policy(ctx)
	require.NoError(t, err)
	limits := map[string]string{}
	for _, l := range p.Limits {
		limits[l.Name] = l.Words
		assert.NotEmpty(t, l.Source, l.Name)
	}
	assert.Equal(t, "100 sectors; for continuous 10 sectors", limits["bad_sectors"])
	assert.Contains(t, strings.Join(p.Evidence, "; "), "a passed self-test, 168 h old at most")
	for _, words := range p.Evidence {
		assert.NotContains(t, words, "{")
	}
	for _, r := range p.Rules {
		assert.NotContains(t, r.Words+r.Customer, "{", r.Id)
	}
	trials, err := s.TestPolicy(ctx, contract.PolicyDraft{})
	require.NoError(t, err)
	assert.Zero(t, trials.Failed)
	assert.Empty(t, trials.Without)
	draft := strings.Replace(
		p.Text, "effect: degrading\n    says: \"{reallocated reallocated sectors}{steady}\"",
		"effect: replace\n    says: \"{reallocated reallocated sectors}{steady}\"", 1,
	)
	require.NotEqual(t, p.Text, draft)

	day := time.Now().Add(-48 * time.Hour)
	_, err = s.SetOutcome(ctx, "7M511", contract.OutcomeRequest{At: time.Now().Add(300 * 24 * time.Hour), By: "Dov"})
	assert.Contains(t, refused(t, http.StatusBadRequest, err).Detail, "a day that has been")
	assert.Contains(t, refused(t, http.StatusNotFound, second(s.Outcome(ctx, "7M511"))).Detail, "nobody has noted")
	_, err = s.SetOutcome(ctx, "7M4R9", contract.OutcomeRequest{At: day, By: "Dov"})
	require.NoError(t, err)

	x, err := s.ReplayPolicy(ctx, contract.PolicyDraft{Text: &draft})
	require.NoError(t, err)
	assert.Equal(t, 2, x.Drives)
	assert.Equal(t, 1, x.Changed)
	assert.Equal(t, []contract.ReplayMove{{Was: contract.GradeDegrading, Would: contract.GradeReplace, Drives: 1}}, x.Moves)
	assert.Equal(t, "KVA077M511", x.Shown[0].Serial)
	assert.Equal(t, 1, x.Shown[0].Differs[0].Reading)
	assert.True(t, x.Shown[0].Differs[0].Still)
	assert.Equal(t, 1, x.Sound)
	assert.Zero(t, x.Would.FalseAlarms)
	assert.Contains(t, x.Risk.Words, "too few outcomes: published rates only")
	assert.Len(t, x.Risk.Tenths, 10)
	require.NotNil(t, v.Risk)
	assert.Regexp(t, "^about .*, between .* and ", v.Risk.Words)
	assert.Zero(t, v.Risk.Calibrated)
	assert.NotEmpty(t, v.Risk.Factors)
	again, err := s.Verdict(ctx, "7M511")
	require.NoError(t, err)
	assert.Equal(t, v.Seq, again.Seq, "a replay changes nothing")

	wrong := strings.Replace(draft, "{now: {reallocated: 3}, fires: true}", "{now: {reallocated: 3}, fires: false}", 1)
	_, err = s.PublishPolicy(ctx, contract.PolicyPublication{Text: wrong, Note: "stricter", By: "Imre"})
	assert.Contains(t, refused(t, http.StatusBadRequest, err).Detail, "rule reallocated does not answer its example 1")
	unknown := strings.Replace(draft, "unexplained.reallocated", "nowhere.reallocated", 1)
	_, err = s.PublishPolicy(ctx, contract.PolicyPublication{Text: unknown, Note: "stricter", By: "Imre"})
	assert.Contains(t, refused(t, http.StatusBadRequest, err).Detail, "rule reallocated: column 1 of its expression")

	_, err = s.Sign(ctx, "7M511", contract.SignOffRequest{By: "Dov"})
	require.NoError(t, err)
	published, err := s.PublishPolicy(ctx, contract.PolicyPublication{Text: draft, Note: "stricter", By: "Imre"})
	require.NoError(t, err)
	assert.Equal(t, p.Version+1, published.Version)
	assert.Equal(t, "Imre", *published.Versions[0].By)
	s.until("the drive is judged anew", func() bool {
		v, err = s.Verdict(ctx, "7M511")
		return err == nil && v.Grade == contract.GradeReplace
	})
	assert.Equal(t, published.Version, v.Policy)
	assert.Nil(t, v.Signed, "what was signed is said no more")

	s.end()
	s = serve(t, dir, spec, made.Disk("KVA077M4R9"))
	p, err = s.Policy(ctx)
	require.NoError(t, err)
	assert.Equal(t, published.Version, p.Version)
}

func second[T any](_ T, err error) error { return err }
