package service

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	"hylostat.example/test/made"
)

func conflicts(t *testing.T, err error, why string) {
	t.Helper()
	assert.Contains(t, refused(t, http.StatusConflict, err).Detail, why)
}

func TestAMendNeedsEverythingInOrderAndTellsWhatItChanged(t *testing.T) {
	spec := scratched("KVA077M511")
	spec.Counters[6].Course = sim.Course{From: 3} // they wait
	dir := t.TempDir()
	s, ctx := serve(t, dir, spec), t.Context()
	s.answering(1)
	mend := func() (contract.Run, error) {
		return s.StartRework(ctx, "7M511", contract.ReworkRequest{Kind: "mend", Ending: "A077M511", By: "Dov"})
	}
	release := contract.ReleaseRequest{Scope: "mend", Owner: "Orla Fenn, by phone", By: "Dov"}
	_, err := mend()
	conflicts(t, err, "not released by the owner")
	_, err = s.RecordRelease(ctx, "7M511", release)
	conflicts(t, err, "is on no open intake")

	yes := true
	_, err = s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov", Wanted: &yes})
	require.NoError(t, err)
	i, err := s.RecordRelease(ctx, "7M511", release)
	require.NoError(t, err)
	assert.Equal(t, "Orla Fenn, by phone", i.Release.Owner)
	_, err = mend()
	conflicts(t, err, "wanted and not copied")
	v, err := s.Verdict(ctx, "7M511")
	require.NoError(t, err)
	assert.Contains(t, v.Advice, "Copy the data first.")
	i, err = s.WithdrawRelease(ctx, "7M511", "Dov")
	require.NoError(t, err)
	assert.Nil(t, i.Release)
	_, err = mend()
	conflicts(t, err, "not released by the owner")
	_, err = s.RecordRelease(ctx, "7M511", release)
	require.NoError(t, err)
	_, err = s.RecordCopy(ctx, at(1), "Dov")
	require.NoError(t, err)
	v, err = s.Verdict(ctx, "7M511")
	require.NoError(t, err)
	assert.NotContains(t, v.Advice, "Copy the data first.", "it is copied")
	_, err = s.AskRework(ctx, "7M511", "mend")
	conflicts(t, err, "not swept since it was taken in")
	r, err := s.Check(ctx, "7M511", contract.CheckRequest{Kind: "whole", By: "Dov"})
	require.NoError(t, err)
	follow(s, r.Id)
	_, err = s.AskRework(ctx, "7M511", "renew")
	conflicts(t, err, "does not cover renew")
	ready, err := s.AskRework(ctx, "7M511", "mend")
	require.NoError(t, err)
	assert.Equal(t, contract.ReworkReady{TakesS: 70, Sectors: 3}, ready, "the serial is asked for now")
	open, err := s.Runs(ctx, contract.ListRunsParams{Open: new(true)})
	require.NoError(t, err)
	assert.Empty(t, open, "asking begins nothing")
	_, err = s.StartRework(ctx, "7M511", contract.ReworkRequest{Kind: "mend", Ending: "A077M512", By: "Dov"})
	conflicts(t, err, "not the end of the serial")
	_, err = s.StartRework(ctx, "7M511", contract.ReworkRequest{Kind: "renew", Ending: "A077M511", By: "Dov"})
	conflicts(t, err, "does not cover renew")
	status, body := s.raw("POST", "/api/v1/drives/KVA077M511/reworks", `{"kind":"mend","ending":"7M511","by":"Dov"}`)
	assert.Equal(t, http.StatusBadRequest, status, "five characters are too few: %s", body)
	assert.Zero(t, s.bench.Wrote("sim-1"), "nothing was written so far")

	r, err = mend()
	require.NoError(t, err)
	r = follow(s, r.Id)
	assert.Equal(t, "3 sectors cleared", r.Steps[1].Note.Words)
	require.NotNil(t, r.Found)
	assert.Contains(t, (*r.Found)[0].Words, "Pending sectors", "a run says what it found when it is done")
	require.NotNil(t, r.Next)
	assert.EqualValues(t, 3*8, s.bench.Wrote("sim-1"))
	done, err := s.Rework(ctx, r.Id)
	require.NoError(t, err)
	changes := map[string]string{}
	for _, row := range done.Rows {
		if row.Change != nil {
			changes[row.Words] = *row.Change
		}
	}
	assert.Equal(t, "+3", changes["reallocated sectors"])
	assert.Equal(t, "−3", changes["pending sectors"])
	assert.Nil(t, done.Held)
	assert.Equal(t, "Orla Fenn, by phone", done.Release.Owner)
	assert.Contains(t, fmt.Sprint(done.Words), "not known yet")

	s.bench.Pass(24 * time.Hour)
	again, err := s.Check(ctx, "7M511", contract.CheckRequest{Kind: "whole", By: "Dov"})
	require.NoError(t, err)
	follow(s, again.Id)
	done, err = s.Rework(ctx, r.Id)
	require.NoError(t, err)
	require.NotNil(t, done.Held)
	assert.True(t, *done.Held)

	_, err = s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov"})
	conflicts(t, err, "is on intake 1 already")
	instead := contract.IntakeInstead{Ticket: "1"}
	_, err = s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov", Instead: &instead})
	require.NoError(t, err)
	_, err = mend()
	conflicts(t, err, "not released by the owner")
	done, err = s.Rework(ctx, r.Id)
	require.NoError(t, err)
	assert.Equal(t, "an earlier owner", done.Release.Owner, "and not shown to the next one")
	s.end()
	journal, err := os.ReadFile(filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	assert.NotContains(t, string(journal), "Orla Fenn", "the bench was told no name")
}

// A lot has a plan of its own: its drives get its check, whatever the bench does with others.
func TestALotsPlanIsForItsDrives(t *testing.T) {
	s, ctx := serve(t, t.TempDir(), made.Disk("KVA077M511"), sim.Spec{}, sim.Spec{}), t.Context()
	s.answering(1)
	check, wrong := contract.PlannedCheck("quick"), contract.PlannedCheck("mend")
	_, err := s.OpenLot(ctx, contract.LotRequest{By: "Dov", Check: &wrong})
	assert.Equal(t, 400, status(t, err))
	l, err := s.OpenLot(ctx, contract.LotRequest{By: "Dov", Check: &check})
	require.NoError(t, err)
	assert.Equal(t, check, *l.Check)
	s.bench.Insert("sim-2", made.Disk("KVA077M60A"))
	var q contract.Queue
	s.until("it is checked", func() bool {
		q, err = s.Queue(ctx, "")
		return err == nil && q.Done == 1 && q.Going == 0
	})
	assert.Equal(t, l.Id, *q.Lot)
	assert.Contains(t, fmt.Sprint(q.Words), "Bay 2 is done: exchange the drive.")
	assert.Contains(t, fmt.Sprint(q.Words), "Bay 3 is free: put the next one in.")
	assert.NotContains(t, fmt.Sprint(q.Words), "Bay 1 is done: exchange the drive.")
	_, err = s.EndLot(ctx, l.Id, "Dov")
	require.NoError(t, err)
	s.bench.Insert("sim-3", made.Disk("KVA077M4R9"))
	s.answering(3)
	q, err = s.SetPlan(ctx, "", "whole", "Imre")
	require.NoError(t, err)
	assert.Nil(t, q.Lot)
	kinds := map[string]string{}
	s.until("the others have the bench's", func() bool {
		runs, err := s.Runs(ctx, contract.ListRunsParams{})
		clear(kinds)
		for _, r := range runs {
			kinds[r.Serial] += string(r.Kind)
		}
		return err == nil && len(runs) >= 3
	})
	assert.Equal(t, map[string]string{"KVA077M511": "whole", "KVA077M60A": "quick", "KVA077M4R9": "whole"}, kinds)
}

func TestAPlanChecksEveryDriveOnce(t *testing.T) {
	risk := made.Disk("KVA077M60A")
	s, ctx := serve(t, t.TempDir(), made.Disk("KVA077M511"), risk, sim.Spec{}), t.Context()
	s.answering(1)
	s.answering(2)
	yes := true
	_, err := s.TakeIn(ctx, contract.IntakeRequest{Bay: at(2), By: "Dov", Wanted: &yes})
	require.NoError(t, err)
	q, err := s.SetPlan(ctx, "", "quick", "Imre")
	require.NoError(t, err)
	assert.Equal(t, "quick", *q.Check)
	s.bench.Insert("sim-3", made.Disk("KVA077M4R9"))
	s.until("both are checked", func() bool {
		q, err = s.Queue(ctx, "")
		return err == nil && q.Done == 2 && q.Going == 0
	})
	runs, err := s.Runs(ctx, contract.ListRunsParams{})
	require.NoError(t, err)
	assert.Len(t, runs, 2, "each once, and not the one whose data is at risk")
	for _, r := range runs {
		assert.Equal(t, "Imre", r.By)
		assert.NotEqual(t, "KVA077M60A", r.Serial)
	}
	assert.Contains(t, fmt.Sprint(q.Words), "Bay 1 is done: exchange the drive.")
	q, err = s.SetPlan(ctx, "", "none", "Imre")
	require.NoError(t, err)
	assert.Nil(t, q.Check)
}
