package service

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/ata"
	"hylostat.example/test/made"
)

// scratched is a drive of 40 GB with unreadable sectors in its middle, and one slow place.
func scratched(serial string) sim.Spec {
	s := made.Disk(serial)
	s.Identity.Sectors = 80_000_000
	s.Unread, s.FirstLBA = sim.Course{From: 3}, 40_000_000
	s.Slow = []sim.Stretch{{LBA: 20_000_000, Sectors: 8, Costs: 7}}
	return s
}

// live listens to a run until it is done.
func (s *service) live(ctx context.Context, run int64) []contract.Live {
	s.t.Helper()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s/api/v1/runs/%d/live", s.address, run), http.NoBody)
	require.NoError(s.t, err)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(s.t, err)
	defer func() { _ = resp.Body.Close() }()
	require.Equal(s.t, "text/event-stream", resp.Header.Get("Content-Type"))
	var all []contract.Live
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var l contract.Live
			require.NoError(s.t, json.Unmarshal([]byte(data), &l))
			all = append(all, l)
		}
	}
	return all
}

func TestASweepIsFollowedCellByCellAndKeptToTheSector(t *testing.T) {
	s, ctx := serve(t, t.TempDir(), scratched("KVA077M511")), t.Context()
	s.answering(1)
	r, err := s.Check(ctx, "7M511", contract.CheckRequest{Kind: "whole", By: "Dov"})
	require.NoError(t, err)
	told := s.live(ctx, r.Id)
	require.NotEmpty(t, told)
	assert.Equal(t, contract.RunStateDone, told[len(told)-1].Run.State, "the stream ends with the run")
	cells, share := map[int]byte{}, 0.0
	for _, l := range told {
		for _, g := range l.Segments {
			require.Len(t, g.Classes, len(g.Speeds))
			for i := range g.Speeds {
				cells[g.First+i] = g.Classes[i]
			}
		}
		if now := l.Run.Steps[1].Sweep; now != nil {
			assert.GreaterOrEqual(t, now.Share, share, "progress never goes back")
			share = now.Share
		}
	}

	one, err := s.Sweep(ctx, r.Id)
	require.NoError(t, err)
	truth := s.bench.Truth("sim-1")
	require.Len(t, truth, 3)
	var found []uint64
	for _, g := range one.Ranges {
		assert.True(t, g.Unreadable)
		for lba := g.Lba; lba < g.Lba+g.Sectors; lba += 8 {
			found = append(found, uint64(lba))
		}
	}
	assert.Equal(t, truth, found)
	require.Len(t, one.Slow, 1)
	assert.Equal(t, "slow twice", one.Slow[0].Words.Words)
	assert.Contains(t, fmt.Sprint(one.Standing.Words), "3 sectors cannot be read.")
	final := 0
	for _, g := range one.Segments {
		final += len(g.Speeds)
		assert.NotContains(t, g.Classes, "-", "everything was swept")
	}
	assert.Equal(t, one.Cells, final)
	assert.NotEmpty(t, cells, "the ribbon filled while it went on")

	v, err := s.Verdict(ctx, "7M511")
	require.NoError(t, err)
	assert.Equal(t, contract.GradeDegrading, v.Grade)
	assert.Equal(t, "3 sectors unreadable, found by a sweep", v.Findings[0].Sentence)
	all, err := s.Sweeps(ctx, "7M511")
	require.NoError(t, err)
	require.Len(t, all, 1)

	again, err := s.Check(ctx, "7M511", contract.CheckRequest{Kind: "spot", By: "Dov"})
	require.NoError(t, err)
	follow(s, again.Id)
	differences, err := s.SweepDifferences(ctx, again.Id, r.Id)
	require.NoError(t, err)
	for _, d := range differences {
		assert.NotEqual(t, contract.PlaceNew, d.Change)
	}
	for format, begins := range map[string]string{"png": "\x89PNG", "svg": "<?xml"} {
		figure, err := s.Figure(ctx, r.Id, format)
		require.NoError(t, err)
		assert.Contains(t, string(figure[:60]), begins)
	}
	_, err = s.SweepDifferences(ctx, r.Id, 99)
	assert.Equal(t, 404, status(t, err))
}

func TestASweepWaitsAndStopsAsAPersonWishes(t *testing.T) {
	spec := scratched("KVA077M511")
	spec.Identity.Sectors = 3_906_250_168
	s, ctx := serve(t, t.TempDir(), spec), t.Context()
	s.answering(1)
	r, err := s.Check(ctx, "7M511", contract.CheckRequest{Kind: "whole", By: "Dov"})
	require.NoError(t, err)
	s.until("the sweep begins", func() bool { now, err := s.Run(ctx, r.Id); return err == nil && now.Steps[1].State == "begun" })
	_, err = s.PauseRun(ctx, r.Id, "Imre")
	require.NoError(t, err)
	var paused contract.Run
	s.until("it waits", func() (ok bool) {
		paused, err = s.Run(ctx, r.Id)
		return err == nil && paused.State == contract.RunStatePaused
	})
	assert.Equal(t, "waits: paused by Imre", paused.Standing.Words)
	_, err = s.PauseRun(ctx, r.Id, "Imre")
	assert.Contains(t, refused(t, 409, err).Detail, "it waits already")
	_, err = s.ResumeRun(ctx, r.Id, "Imre")
	require.NoError(t, err)
	s.until("it goes on", func() bool { now, err := s.Run(ctx, r.Id); return err == nil && now.State == contract.RunStateRunning })
	_, err = s.StopRun(ctx, r.Id, "Imre")
	require.NoError(t, err)
	done := follow(s, r.Id)
	assert.Equal(t, contract.RunOutcomeStopped, *done.Outcome)
	one, err := s.Sweep(ctx, r.Id)
	require.NoError(t, err)
	assert.Less(t, one.Standing.Share, 1.0, "what it found so far is kept")
}

func TestALockedSurfaceIsNotSweptAndItIsSaid(t *testing.T) {
	spec := scratched("KVL026D41R")
	spec.Identity.Security = ata.Security{Supported: true, Enabled: true, Locked: true}
	s, ctx := serve(t, t.TempDir(), spec), t.Context()
	s.answering(1)
	r, err := s.CheckQuick(ctx, "6D41R", "Dov")
	require.NoError(t, err)
	done := follow(s, r.Id)
	assert.Equal(t, contract.StepStateSkipped, done.Steps[2].State)
	assert.Equal(t, "locked by a password: the surface cannot be read", done.Steps[2].Note.Words)
	_, err = s.Sweep(ctx, r.Id)
	assert.Contains(t, refused(t, 404, err).Detail, "sweeps nothing")
}
