package app

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/shop/fleet"
)

// ordered starts an extended check of a drive, once it answers, and gives its number.
func ordered(t *testing.T, c *client.Client, serial string) int64 {
	t.Helper()
	var id int64
	require.Eventually(t, func() bool {
		r, err := c.Check(t.Context(), serial, contract.CheckRequest{Kind: contract.CheckRequestKindExtended, By: "Dov"})
		id = r.Id
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	return id
}

// rawly opens a database without anything of ours in between.
func rawly(t *testing.T, path string) *sqlx.DB {
	t.Helper()
	db, err := sqlx.Open("sqlite", path)
	require.NoError(t, err)
	return db
}

// forget has a bench forget what it has told and was told is stored, as it does after two days.
func forget(t *testing.T, path string) {
	t.Helper()
	db := rawly(t, path)
	_, err := db.Exec(`DELETE FROM outbox WHERE acknowledged IS NOT NULL`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

// A copy of a database put back, another one's, or a lost one is told before anything starts; nothing is overwritten when people go on.
func TestRecordsThatAreNotOfTheSamePastAreTold(t *testing.T) {
	t.Parallel()
	ctx, dir, other := t.Context(), t.TempDir(), t.TempDir()
	keep := func(from, name, as string) {
		body, err := os.ReadFile(filepath.Join(from, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, as), body, 0o600))
	}
	check := func(serial string) int64 {
		c, end := serveDemo(t, dir, 60, nil)
		require.NotNil(t, c)
		id := ordered(t, c, serial)
		require.NoError(t, end())
		return id
	}
	refused := func(words string) {
		t.Helper()
		c, end := serveDemo(t, dir, 60, nil)
		require.Nil(t, c, "it does not start")
		var strangers *fleet.Strangers
		require.ErrorAs(t, end(), &strangers)
		assert.Contains(t, strangers.Error(), words)
		assert.Contains(t, strangers.Error(), "--rejoin")
	}
	one := check("7M4R9")
	keep(dir, "bench.db", "bench.old")
	keep(dir, "shop.db", "shop.old")
	two := check("6D40P")
	assert.Greater(t, two, one)
	keep(dir, "bench.db", "bench.new")
	keep(dir, "shop.db", "shop.new")

	keep(dir, "bench.old", "bench.db")
	refused("north bench do not belong together: the bench's are an older copy: it has made ")
	keep(dir, "bench.new", "bench.db")
	keep(dir, "shop.old", "shop.db")
	c, end := serveDemo(t, dir, 60, nil) // the bench has all of it still
	require.NotNil(t, c)
	require.Eventually(t, func() bool { // it is stored, and so is what was told before it
		all, err := c.Runs(ctx, contract.ListRunsParams{})
		is := func(r contract.Run) bool { return r.Id == two && strings.HasSuffix(r.Serial, "6D40P") }
		return err == nil && slices.ContainsFunc(all, is)
	}, 10*time.Second, 20*time.Millisecond)
	audited, err := c.Audit(ctx, contract.ListAuditParams{})
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(audited, func(a contract.Audited) bool {
		return strings.Contains(a.Text.Words, "The records were brought back from a copy")
	}))
	require.NoError(t, end())
	keep(dir, "shop.old", "shop.db")
	forget(t, filepath.Join(dir, "bench.db"))
	refused("the shop's are an older copy: of the bench's reports it has ")
	keep(dir, "bench.new", "bench.db")
	keep(dir, "shop.new", "shop.db")

	_, end = serveDemo(t, other, 60, nil)
	require.NoError(t, end())
	keep(other, "bench.db", "bench.db")
	refused("the bench belongs to another shop")

	for _, name := range []string{"bench.db", "bench.db-wal", "bench.db-shm"} {
		_ = os.Remove(filepath.Join(dir, name))
	}
	refused("its journal was lost")
	c, end = serveDemo(t, dir, 60, func(o *Options) { o.Rejoin = true })
	require.NotNil(t, c)
	runs := func() (all []contract.Run) {
		all, err := c.Runs(ctx, contract.ListRunsParams{})
		require.NoError(t, err)
		return all
	}
	require.Eventually(t, func() bool { return runs()[0].State == contract.RunStateDone }, 10*time.Second, 10*time.Millisecond)
	before := runs()
	require.Len(t, before, 2)
	for i, r := range before {
		assert.Equal(t, "stopped: its bench knows nothing of it any more: what it did last is not known", r.Standing.Words, i)
	}
	assert.Greater(t, ordered(t, c, "7M4R9"), two, "a new journal begins no run anew")
	for i, r := range runs()[1:] {
		assert.Equal(t, before[i].Serial, r.Serial)
		assert.Equal(t, before[i].Asked, r.Asked, "what is recorded of them stays")
	}
	require.NoError(t, end())
	c, end = serveDemo(t, dir, 60, nil)
	require.NotNil(t, c, "they belong together now")
	require.NoError(t, end())
}
