package process

import (
	"context"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// told is a change that was acknowledged: the number of a drive's reading that was stored.
type told struct {
	drive   string
	reading int
	at      time.Time
}

// readOn has drives read again and again until the context ends, and gives what was acknowledged.
func (d *demo) readOn(ctx context.Context, drives ...string) (all []told) {
	d.t.Helper()
	var mu sync.Mutex
	var under sync.WaitGroup
	for _, name := range drives {
		c, err := client.New(d.address, "")
		require.NoError(d.t, err)
		under.Go(func() {
			for ctx.Err() == nil {
				r, err := c.TakeReading(ctx, name, contract.ReadingRequest{By: "Dov"})
				if err != nil {
					continue
				}
				mu.Lock()
				all = append(all, told{name, r.Seq, time.Now()})
				mu.Unlock()
			}
		})
	}
	under.Wait()
	return all
}

// The machine of the shop is lost, its power cut while drives are read. What comes back from the replica lacks a second at most; and where
// the benches' own machines are still there, nothing that was acknowledged.
func TestWhatIsLostWithTheMachine(t *testing.T) {
	drives := []string{"7M4R9", "7M511", "6D40P"}
	dir, replica := t.TempDir(), filepath.Join(t.TempDir(), "replica")
	stored := func(d *demo) map[string][]int {
		all := map[string][]int{}
		for _, name := range drives {
			for _, r := range ask[[]contract.ReadingSummary](d, "reading", "list", name) {
				all[name] = append(all[name], r.Seq)
			}
		}
		return all
	}
	var before []told
	d := start(t, dir, "--replica", replica)
	d.settled()
	for round, benchesToo := range []bool{false, true, false} {
		ctx, end := context.WithCancel(t.Context())
		killed := make(chan time.Time, 1)
		time.AfterFunc(time.Duration(2500+round*700)*time.Millisecond, func() {
			killed <- time.Now()
			_ = d.cmd.Process.Kill()
			end()
		})
		before = append(before, d.readOn(ctx, drives...)...)
		at := <-killed
		_ = d.cmd.Wait()
		lost, err := filepath.Glob(filepath.Join(dir, "shop.db*"))
		require.NoError(t, err)
		lost = append(lost, filepath.Join(dir, ".shop.db-litestream"))
		if benchesToo {
			for _, bench := range []string{dir, filepath.Join(dir, "field")} {
				more, err := filepath.Glob(filepath.Join(bench, "bench.db*"))
				require.NoError(t, err)
				lost = append(append(lost, more...), filepath.Join(bench, ".bench.db-litestream"))
			}
		}
		for _, file := range lost {
			require.NoError(t, os.RemoveAll(file))
		}
		out, err := exec.Command(program, "restore", replica, "--data", dir).CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Contains(t, string(out), "each follows from the one before")
		assert.Equal(t, !benchesToo, strings.Contains(string(out), "bench.db was there and stays"), string(out))

		d = start(t, dir, "--replica", replica)
		wants := map[string]int{} // the highest number that was acknowledged in time
		for _, one := range before {
			if !benchesToo || at.Sub(one.at) > time.Second {
				wants[one.drive] = max(wants[one.drive], one.reading)
			}
		}
		require.Len(t, wants, len(drives), "each was read")
		d.until("what was acknowledged is there", func() bool {
			have := stored(d)
			return !slices.ContainsFunc(drives, func(name string) bool { return slices.Max(have[name]) < wants[name] })
		})
		for name, have := range stored(d) {
			slices.Sort(have)
			assert.Len(t, slices.Compact(slices.Clone(have)), len(have), "no reading of %s is there twice", name)
			assert.Equal(t, slices.Max(have), len(have), "and none of %s is missing", name)
		}
		examined, err := exec.Command(program, "shop", "examine", "--data", dir).CombinedOutput()
		for line := range strings.Lines(string(examined)) { // the demo's time runs ahead
			assert.False(t, strings.HasPrefix(line, "WRONG") && !strings.Contains(line, "last entry lies"), "%s: %v", line, err)
		}
		before = nil
		for name, have := range maps.All(stored(d)) {
			before = append(before, told{name, slices.Max(have), time.Now()})
		}
	}
	d.kill()
}
