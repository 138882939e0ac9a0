package process

import (
	"archive/tar"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	_ "hylostat.example/internal/sqlite" // the driver
)

// before gives a folder with the records that version 0.1 left, its simulated clock where it stood.
func before(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	f, err := os.Open("../../internal/app/testdata/version-0.1.tar.zst")
	require.NoError(t, err)
	defer f.Close()
	z, err := zstd.NewReader(f)
	require.NoError(t, err)
	defer z.Close()
	for files := tar.NewReader(z); ; {
		head, err := files.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		body, err := io.ReadAll(files)
		require.NoError(t, err)
		if filepath.Base(head.Name) == "drives.json" {
			memory := map[string]any{}
			require.NoError(t, json.Unmarshal(body, &memory))
			memory["clock"] = sim.Clock{Wall: time.Now(), Start: time.Date(2026, 11, 27, 13, 14, 0, 0, time.UTC), Factor: 60}
			body, err = json.Marshal(memory)
			require.NoError(t, err)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.Base(head.Name)), body, 0o600))
	}
	return dir
}

// Killed at any moment while it takes over the records of an earlier version, once or more often: the next start finishes that, and
// everything is there once.
func TestKilledWhileItTakesRecordsOver(t *testing.T) {
	var was []struct {
		Serial   string `db:"serial"`
		Readings int    `db:"readings"`
	}
	var intakes int
	db := sqlx.MustOpen("sqlite", filepath.Join(before(t), "shop.db"))
	require.NoError(t, db.Select(&was, `SELECT serial, count(*) AS readings FROM reading JOIN drive ON drive.id = drive GROUP BY serial`))
	require.NoError(t, db.Get(&intakes, `SELECT count(*) FROM intake`))
	require.NoError(t, db.Close())
	require.NotEmpty(t, was)
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 1)) //nolint:gosec // no secret
	t.Log("seed", seed)
	for range max(2, kills(t)/2) {
		dir := before(t)
		for range 1 + random.IntN(3) {
			cmd := exec.Command(program, "demo", "--data", dir, "--listen", "127.0.0.1:0", "--factor", "60")
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(random.IntN(400)) * time.Millisecond)
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		}
		d := start(t, dir)
		for _, w := range was {
			have := ask[[]contract.ReadingSummary](d, "reading", "list", w.Serial)
			assert.GreaterOrEqual(t, len(have), w.Readings, w.Serial)
			numbers := map[int]bool{}
			for _, r := range have {
				numbers[r.Seq] = r.Seq <= len(have)
			}
			assert.Len(t, numbers, len(have), "no reading of %s is there twice", w.Serial)
			assert.NotContains(t, slices.Collect(maps.Values(numbers)), false, "and none of %s is missing", w.Serial)
		}
		assert.Len(t, ask[[]contract.Intake](d, "intake", "list"), intakes)
		d.kill()
		sound(t, dir)
	}
}
