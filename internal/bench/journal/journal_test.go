package journal_test

import (
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bubble"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
)

// Whatever the journal is asked to keep or to tell, and whichever access to its disk fails meanwhile: it is told, and what it holds is as
// before.
func TestABrokenDiskIsTold(t *testing.T) {
	ctx, disk := t.Context(), &bubble.Disk{}
	j, err := journal.Open(ctx, filepath.Join(t.TempDir(), "bench.db"), disk)
	require.NoError(t, err)
	defer func() { require.NoError(t, j.Close()) }()
	run := check.New(check.Whole, drive.Bay{Number: 1}, drive.Key{Model: "K4", Serial: "KVA"}, "Dov", time.Unix(0, 0), check.Limit{})
	run.ID = 7
	rework := run
	rework.ID, rework.Kind, rework.Rework = 8, check.Mend, &check.Rework{Release: check.Release{Nonce: "once"}}
	done := run
	done.State = check.Done
	blocks := []check.Block{{Number: 3, Cells: []byte{1, 2}}, {Number: 4, Cells: []byte{3}}}
	// kept is everything a bench asks of its journal when it starts.
	kept := func() []any {
		bays, err := j.Bays(ctx)
		require.NoError(t, err)
		open, err := j.OpenRuns(ctx)
		require.NoError(t, err)
		reports, err := j.Reports(ctx)
		require.NoError(t, err)
		bond, err := j.Bond(ctx)
		require.NoError(t, err)
		mark, marked, err := j.Mark(ctx, 7, 1)
		require.NoError(t, err)
		intent, intends, err := j.Intent(ctx, 8, 1)
		require.NoError(t, err)
		adapter, err := j.Adapter(ctx, "1f2e")
		require.NoError(t, err)
		return []any{bays, open, reports, bond, mark, marked, intent, intends, adapter}
	}
	for _, op := range []struct {
		name string
		does func() error
	}{
		{"a bay", func() error { _, err := j.AddBay(ctx, "one"); return err }},
		{"another", func() error { _, err := j.AddBay(ctx, "two"); return err }},
		{"its number", func() error {
			return j.SetBay(ctx, 1, protocol.BaySetting{Number: 2, Label: "left dock", Hidden: true})
		}},
		{"the order", func() error { return j.Arrange(ctx, []int{2, 1}) }},
		{"what a person says", func() error { return j.SaidBay(ctx, 1, true, 3) }},
		{"an adapter", func() error { return j.SaveAdapter(ctx, "1f2e", 2) }},
		{"a run", func() error { return j.AddRun(ctx, run) }},
		{"a rework", func() error { return j.AddRework(ctx, rework) }},
		{"a mark", func() error { return j.SaveMark(ctx, 7, 1, []byte(`{"began":"2026-11-02T09:30:00Z"}`), blocks) }},
		{"an intent", func() error { return j.Intend(ctx, 8, 1, surface.Extent{LBA: 1 << 40, Sectors: 8}) }},
		{"a report", func() error { return j.Report(ctx, protocol.Report{Started: &protocol.Started{Open: []int64{7}}}) }},
		{"bays", func() error { _, err := j.Bays(ctx); return err }},
		{"open runs", func() error { _, err := j.OpenRuns(ctx); return err }},
		{"reports", func() error { _, err := j.Reports(ctx); return err }},
		{"the bond", func() error { _, err := j.Bond(ctx); return err }},
		{"the mark", func() error { _, _, err := j.Mark(ctx, 7, 1); return err }},
		{"the intent", func() error { _, _, err := j.Intent(ctx, 8, 1); return err }},
		{"the adapter", func() error { _, err := j.Adapter(ctx, "1f2e"); return err }},
		{"an acknowledgement", func() error { return j.Acknowledge(ctx, 1, time.Now()) }},
		{"a bond", func() error { return j.Bind(ctx, "ours", 40) }},
		{"what was intended is done", func() error { return j.Fulfil(ctx, 8, 1) }},
		{"a sweep's end", func() error {
			return j.SweepEnded(ctx, check.Result{Sweep: check.Sweep{Run: 7, Step: 1}}, []byte(`{"began":"2026-11-02T10:30:00Z"}`))
		}},
		{"the run's end", func() error { return j.SaveRun(ctx, done) }},
	} {
		before := kept()
		for n := int64(0); ; n++ {
			disk.BreakAt(n)
			err := op.does()
			if _, fired := disk.Mend(); !fired {
				require.NoError(t, err, op.name)
				require.Positive(t, n, "%s asks the disk", op.name)
				break
			}
			require.Error(t, err, "%s: access %d", op.name, n)
			require.Equal(t, before, kept(), "%s: access %d", op.name, n)
		}
	}
	bays, err := j.Bays(ctx)
	require.NoError(t, err)
	assert.Equal(t, []journal.BayRow{
		{
			Number:   1,
			Address:  "two",
			Said:     true,
			Attempts: 3,
			Position: 2,
		}, {Number: 2, Address: "one", Label: "left dock", Hidden: true, Position: 1},
	}, bays)
	open, err := j.OpenRuns(ctx)
	require.NoError(t, err)
	require.Len(t, open, 1)
	assert.EqualValues(t, 8, open[0].ID)
	mark, marked, err := j.Mark(ctx, 7, 1)
	require.NoError(t, err)
	assert.Nil(t, mark, "a run that is over needs none")
	assert.Empty(t, marked)
	_, intends, err := j.Intent(ctx, 8, 1)
	require.NoError(t, err)
	assert.False(t, intends)
	assert.ErrorIs(t, j.AddRun(ctx, run), journal.ErrKnown)
	again := rework
	again.ID = 9
	assert.ErrorIs(t, j.AddRework(ctx, again), journal.ErrUsed, "a release is used once")
	reports, err := j.Reports(ctx)
	require.NoError(t, err)
	var seqs []int64
	for _, r := range reports {
		seqs = append(seqs, r.Seq)
	}
	assert.Equal(t, []int64{41, 42, 43, 44}, seqs, "of the rework, of the start, of the sweep and the end")
}

// A report that a version before kept, as it stood, is told as those of today are, and before them.
func TestReportsOfTheVersionBeforeAreTold(t *testing.T) {
	ctx, path := t.Context(), filepath.Join(t.TempDir(), "bench.db")
	j, err := journal.Open(ctx, path)
	require.NoError(t, err)
	db, err := sqlx.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.ExecContext(ctx, `INSERT INTO outbox (body) VALUES (?)`, `{"run": {"id": 7}}`)
	require.NoError(t, errors.Join(err, db.Close()))
	require.NoError(t, j.Report(ctx, protocol.Report{Run: &check.Run{ID: 8}}))
	all, err := j.Reports(ctx)
	require.NoError(t, errors.Join(err, j.Close()))
	require.Len(t, all, 2)
	assert.Equal(t, [2]int64{7, 8}, [2]int64{all[0].Run.ID, all[1].Run.ID})
}
