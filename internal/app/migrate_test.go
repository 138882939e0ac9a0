package app

import (
	"context"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/demo"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/store"
	"hylostat.example/test/made"
)

// serveDemo serves the demo's shop from a folder, its time running faster by a factor, and gives a client; the function ends it.
func serveDemo(t *testing.T, dir string, factor float64, change func(*Options)) (*client.Client, func() error) {
	t.Helper()
	d, err := demo.New(dir, factor)
	require.NoError(t, err)
	o := Demo(dir, d)
	o.Listen, o.Log = "127.0.0.1:0", slog.New(slog.NewTextHandler(t.Output(), nil))
	if change != nil {
		change(&o)
	}
	ready := make(chan string, 1)
	o.Ready = func(address string) { ready <- address }
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- Serve(ctx, o) }()
	select {
	case address := <-ready:
		c, err := client.New(address, "")
		require.NoError(t, err)
		return c, func() error { cancel(); return <-ended }
	case err := <-ended:
		cancel()
		return nil, func() error { return err }
	}
}

// What an earlier version recorded is all there, and what it had under way is finished.
func TestTheRecordsOfTheVersionBeforeAreTakenOver(t *testing.T) {
	t.Parallel()
	dir := made.Before(t, 20_000)
	c, end := serveDemo(t, dir, 20_000, nil)
	require.NotNil(t, c, "it starts: %v", end)
	ctx := t.Context()
	runs, err := c.Runs(ctx, contract.ListRunsParams{})
	require.NoError(t, err)
	require.Len(t, runs, 5)
	for i, want := range []struct {
		id       int64
		title    string
		bay      drive.Bay
		standing string
	}{
		{3, "Spot sweep", drive.Bay{Number: 1}, "failed: spot sweep, 9 unreadable sectors; 5 slow places, confirmed"},
		{2, "Quick check", drive.Bay{Number: 10}, "passed"},
		{1, "Quick check", drive.Bay{Number: 2}, "passed"},
	} {
		r := runs[i+2]
		assert.Equal(t, want.id, r.Id)
		assert.Equal(t, [3]any{want.title, want.bay, want.standing}, [3]any{r.Title, r.Bay, r.Standing.Words})
	}
	swept, err := c.Sweep(ctx, 3)
	require.NoError(t, err)
	assert.EqualValues(t, 9, swept.Standing.Unreadable)
	assert.Len(t, swept.Ranges, 9)
	assert.NotEmpty(t, swept.Segments, "its ribbon")
	readings, err := c.Readings(ctx, "7M4R9")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(readings), 31)
	intakes, err := c.Intakes(ctx, contract.ListIntakesParams{})
	require.NoError(t, err)
	assert.Len(t, intakes, 13)
	for _, i := range intakes {
		if i.Release != nil {
			assert.Equal(t, drive.Bay{Number: 10}, i.Bay)
			assert.Equal(t, "Orla Fenn, by phone", i.Release.Owner)
		}
	}
	history, err := c.History(ctx, "7M4R9")
	require.NoError(t, err)
	assert.True(
		t, slices.ContainsFunc(history, func(e contract.Entry) bool { return strings.Contains(e.Text.Words, "Signed by Dov.") }),
		"its sign-off",
	)
	audit, err := c.VerifyAudit(ctx, "")
	require.NoError(t, err)
	assert.True(t, audit.Sound)
	assert.GreaterOrEqual(t, audit.Rows, 46)
	for _, id := range []int64{4, 5} { // goes on from where it was
		require.Eventually(t, func() bool {
			r, err := c.Run(ctx, id)
			return err == nil && r.State == contract.RunStateDone
		}, time.Minute, 20*time.Millisecond)
		r, err := c.Run(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, "passed", r.Standing.Words, id)
	}
	fresh, err := c.Check(ctx, "7M4R9", contract.CheckRequest{Kind: contract.CheckRequestKindQuick, By: "Dov"})
	require.NoError(t, err)
	assert.Greater(t, fresh.Id, int64(5), "no number is given twice")
	require.NoError(t, end())

	st, err := store.Open(ctx, filepath.Join(dir, "shop.db"))
	require.NoError(t, err)
	defer st.Close()
	all, err := st.Drives(ctx, shop.Query{})
	require.NoError(t, err)
	for _, d := range all {
		moments, err := st.Moments(ctx, d.ID)
		require.NoError(t, err)
		for _, m := range moments {
			_, err := st.Reading(ctx, d.ID, m.Seq)
			require.NoError(t, err, "%s, reading %d", d.Identity.Serial, m.Seq)
		}
	}
}

// An earlier version took a reading dated 2099 for the latest, and judged by it.
func TestWhatLayAheadBeforeIsSetAside(t *testing.T) {
	t.Parallel()
	dir := made.Before(t, 20_000)
	db := rawly(t, filepath.Join(dir, "shop.db"))
	ahead := time.Date(2099, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
	var of struct {
		Drive int64 `db:"drive"`
		Seq   int   `db:"seq"`
	}
	require.NoError(t, db.Get(&of, `SELECT r.drive, r.seq FROM reading r JOIN drive d ON d.id = r.drive
		WHERE d.serial = 'KVA077M511' ORDER BY at DESC LIMIT 1`))
	_, err := db.Exec(`UPDATE reading SET at = ? WHERE drive = ? AND seq = ?`, ahead, of.Drive, of.Seq)
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE drive_now SET last_at = ? WHERE drive = ?`, ahead, of.Drive)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	c, end := serveDemo(t, dir, 60, nil)
	require.NotNil(t, c, "it starts: %v", end)
	all, err := c.Readings(t.Context(), "7M511")
	require.NoError(t, err)
	aside := 0
	for _, r := range all {
		if r.Aside != nil {
			aside++
			assert.Equal(t, [2]any{of.Seq, contract.ReadingAhead}, [2]any{r.Seq, *r.Aside})
		}
	}
	assert.Equal(t, 1, aside)
	require.Eventually(t, func() bool {
		d, err := c.Drive(t.Context(), "7M511")
		return err == nil && d.LastRead.Year() < 2099
	}, time.Minute, 20*time.Millisecond, "it is judged anew by what counts")
	require.NoError(t, end())
}
