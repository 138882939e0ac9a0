package service

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/demo"
	"hylostat.example/internal/record"
	"hylostat.example/test/made"
)

// read gives a reading of a made-up drive at a moment, as a record file carries it.
func read(t *testing.T, spec sim.Spec, at time.Time) (model, serial string, one record.Reading) {
	t.Helper()
	pages, key, err := demo.NewReader().Read(t.Context(), spec, at)
	require.NoError(t, err)
	return key.Model, key.Serial, record.Reading{
		ID:     fmt.Sprintf("%s-%d", key.Serial, at.Unix()),
		At:     at,
		TookMs: 40,
		Tool:   "another bench",
		Pages:  record.FromPages(pages),
	}
}

// Two drives come with the record of another bench: away for eight months, then read on two days. One has lost a sector more on the
// second day, the other eight. What the policy, the drive's page and the trend say of them is the same, however the file is ordered.
func TestGrowthOfARecordIsJudgedByItsPace(t *testing.T) {
	now := time.Now().UTC().Truncate(time.Millisecond)
	day := func(n int) time.Time { return now.Add(-time.Duration(n) * 24 * time.Hour) }
	var said []string
	for _, order := range [][]int{{0, 1, 2}, {2, 0, 1}} {
		s, ctx := serve(t, t.TempDir()), t.Context()
		f := record.New(now)
		for ending, counts := range map[string][]float64{"0A511": {0, 2, 3}, "0A512": {0, 2, 10}} {
			var d record.Drive
			for _, i := range order {
				var one record.Reading
				spec := demo.Let(demo.Build("K4", ending, 9000, day(300)), 5, sim.Course{From: counts[i]})
				d.Model, d.Serial, one = read(t, spec, day([]int{242, 2, 0}[i]))
				d.Readings = append(d.Readings, one)
			}
			f.Drives = append(f.Drives, d)
		}
		text, err := json.Marshal(f)
		require.NoError(t, err)
		_, err = s.ImportRecord(ctx, bytes.NewReader(text), "Dov")
		require.NoError(t, err)
		for ending, want := range map[string]struct {
			grade contract.Grade
			rule  string
			pace  float64 // events in 60 days
		}{"0A511": {contract.GradeDegrading, "reallocated", 0.3015}, "0A512": {contract.GradeReplace, "surface-growing", 24.697}} {
			v, err := s.Verdict(ctx, ending)
			require.NoError(t, err)
			assert.Equal(t, want.grade, v.Grade, ending)
			assert.Equal(t, want.rule, v.Findings[0].Rule, ending)
			said = append(said, ending+": "+v.Findings[0].Detail)
			all, err := s.Signals(ctx, ending)
			require.NoError(t, err)
			i := slices.IndexFunc(all.Signals, func(c contract.Signal) bool { return c.Name == "reallocated" })
			require.GreaterOrEqual(t, i, 0)
			assert.Equal(t, 2, all.Signals[i].Trend.Grew)
			assert.InDelta(t, want.pace, all.Signals[i].Trend.Pace*60, 0.01)
			assert.Equal(t, want.grade == contract.GradeReplace, strings.Contains(v.Findings[0].Detail, " events or more in 60 days"))
		}
	}
	assert.ElementsMatch(t, said[:2], said[2:], "the order of a file does not matter")
}

// What a drive is meant for decides what is too much: the verdict follows, and a signature does not outlive it.
func TestAnotherDutyIsAnotherVerdict(t *testing.T) {
	spec := made.Disk("KVA077M511")
	spec.Counters[0].Course = sim.Course{From: 12}
	s, ctx := serve(t, t.TempDir(), spec), t.Context()
	s.answering(1)
	_, err := s.Sign(ctx, "7M511", contract.SignOffRequest{By: "Imre"})
	require.NoError(t, err)
	code, body := s.raw(http.MethodPatch, "/api/v1/drives/7M511", `{"duty":"everything","by":"Imre"}`)
	assert.Equal(t, http.StatusBadRequest, code, body)
	v, err := s.Verdict(ctx, "7M511")
	require.NoError(t, err)
	require.NotNil(t, v.Signed, "what is not understood changes nothing")
	require.Equal(t, contract.GradeDegrading, v.Grade)

	code, body = s.raw(http.MethodPatch, "/api/v1/drives/7M511", `{"duty":"continuous","by":"Imre"}`)
	require.Equal(t, http.StatusOK, code, body)
	assert.Contains(t, body, `"duty":"continuous"`)
	v, err = s.Verdict(ctx, "7M511")
	require.NoError(t, err)
	assert.Equal(t, contract.GradeReplace, v.Grade)
	assert.Equal(t, "surface-count", v.Findings[0].Rule)
	assert.Nil(t, v.Signed)
	audit, err := s.Audit(ctx, contract.ListAuditParams{})
	require.NoError(t, err)
	assert.Equal(t, "Imre", audit[0].By)
	assert.Contains(t, audit[0].Text.Words, "continuous")
}
