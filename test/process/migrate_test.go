package process

import (
	"maps"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
	_ "hylostat.example/internal/sqlite" // the driver
	"hylostat.example/test/made"
)

// Killed at any moment while it takes over the records of an earlier version, once or more often: the next start finishes that, and
// everything is there once.
func TestKilledWhileItTakesRecordsOver(t *testing.T) {
	var was []struct {
		Serial   string `db:"serial"`
		Readings int    `db:"readings"`
	}
	var intakes int
	db := sqlx.MustOpen("sqlite", filepath.Join(made.Before(t, 60), "shop.db"))
	require.NoError(t, db.Select(&was, `SELECT serial, count(*) AS readings FROM reading JOIN drive ON drive.id = drive GROUP BY serial`))
	require.NoError(t, db.Get(&intakes, `SELECT count(*) FROM intake`))
	require.NoError(t, db.Close())
	require.NotEmpty(t, was)
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 1)) //nolint:gosec // no secret
	t.Log("seed", seed)
	for range max(2, kills(t)/2) {
		dir := made.Before(t, 60)
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
