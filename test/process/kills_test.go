package process

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// kills is how often the service is killed; KILLS says another number.
func kills(t *testing.T) int {
	t.Helper()
	n := 6
	if s := os.Getenv("KILLS"); s != "" {
		var err error
		n, err = strconv.Atoi(s)
		require.NoError(t, err)
	}
	return n
}

// sound holds that nothing is wrong with the records of a folder, but that the demo's time runs ahead.
func sound(t *testing.T, dir string) {
	t.Helper()
	out, err := exec.Command(program, "shop", "examine", "--data", dir).CombinedOutput()
	for line := range strings.Lines(string(out)) {
		require.False(t, strings.HasPrefix(line, "WRONG") && !strings.Contains(line, "last entry lies"), "%s: %v", line, err)
	}
	require.Contains(t, string(out), "rows of the audit", string(out))
}

// Killed at any moment, over readings that come in, sweeps, an overwrite, backups and a restore: the records are whole, what was
// acknowledged is there, and nothing is there twice.
func TestKilledAtAnyMoment(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 1)) //nolint:gosec // no secret
	t.Log("seed", seed)
	drives := []string{"7M4R9", "7M511", "6D40P"}
	dir, away := t.TempDir(), t.TempDir()
	highest := map[string]int{}
	backups := 0
	for n := range kills(t) {
		d := start(t, dir, "--replica", filepath.Join(away, "replica"))
		c, err := client.New(d.address, "")
		require.NoError(t, err)
		ctx, end := context.WithCancel(t.Context())
		after := time.Duration(random.IntN(3500)) * time.Millisecond
		time.AfterFunc(after, func() {
			_ = d.cmd.Process.Kill()
			end()
		})
		backedUp := make(chan error, 1)
		file := filepath.Join(away, fmt.Sprintf("%d.tar.zst", n))
		go func() { // with its process, or after it
			out, err := exec.CommandContext(t.Context(), program, "backup", file, "--data", dir).CombinedOutput()
			if err != nil {
				err = fmt.Errorf("%w: %s", err, out)
			}
			backedUp <- err
		}()
		for _, ask := range []func() error{
			func() error {
				_, err := c.Check(ctx, "7M4R9", contract.CheckRequest{Kind: "whole", By: "Dov"})
				return err
			},
			func() error {
				_, err := c.RecordRelease(
					ctx, "6D40P", contract.ReleaseRequest{Scope: "overwrite", Owner: "Orla Fenn, by phone", By: "Dov"},
				)
				return err
			},
			func() error {
				_, err := c.StartRework(ctx, "6D40P", contract.ReworkRequest{Kind: "overwrite", Ending: "KVL026D40P", By: "Dov"})
				return err
			},
		} {
			_ = ask() // as things stand, or not
		}
		for _, one := range d.readOn(ctx, drives...) {
			highest[one.drive] = max(highest[one.drive], one.reading)
		}
		_ = d.cmd.Wait()
		if err := <-backedUp; err == nil { // else it is refused for what it finds, and leaves nothing
			backups++
			back := filepath.Join(away, fmt.Sprintf("back-%d", n))
			restore := exec.Command(program, "restore", file, "--data", back)
			require.NoError(t, restore.Start())
			if random.IntN(2) == 0 {
				time.Sleep(time.Duration(random.IntN(120)) * time.Millisecond)
				_ = restore.Process.Kill()
			}
			if restore.Wait() != nil {
				out, err := exec.Command(program, "restore", file, "--data", back).CombinedOutput()
				if err != nil { // it had come to its end
					require.Contains(t, string(out), "nothing is brought back over a shop")
				}
			}
			sound(t, back)
			require.NoError(t, os.RemoveAll(back))
			require.NoError(t, os.Remove(file))
		} else {
			require.NoFileExists(t, file)
		}
		sound(t, dir)
	}
	d := start(t, dir)
	d.settled()
	d.until("what was acknowledged is there", func() bool {
		for name, want := range highest {
			if len(ask[[]contract.ReadingSummary](d, "reading", "list", name)) < want {
				return false
			}
		}
		return true
	})
	for _, name := range drives {
		var have []int
		for _, r := range ask[[]contract.ReadingSummary](d, "reading", "list", name) {
			have = append(have, r.Seq)
		}
		slices.Sort(have)
		assert.Len(t, slices.Compact(slices.Clone(have)), len(have), "no reading of %s is there twice", name)
	}
	assert.Positive(t, backups, "some backups came to their end")
	t.Logf("%d kills, %d backups, readings %v", kills(t), backups, highest)
	left, err := filepath.Glob(filepath.Join(away, ".backup-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
