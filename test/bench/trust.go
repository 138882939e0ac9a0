package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"time"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// readFor asks for lists until the context ends, and gives the median of how long they took, in milliseconds.
func readFor(ctx context.Context, c *client.Client) float64 {
	var took []float64
	for ctx.Err() == nil {
		begun := time.Now()
		limit := 100
		if _, err := c.Drives(ctx, contract.ListDrivesParams{Limit: &limit}); err == nil {
			took = append(took, float64(time.Since(begun).Microseconds())/1000)
		}
	}
	if len(took) == 0 {
		return 0
	}
	return median(took)
}

// trust measures what keeps a shop of many years from being lost: a backup of it while it is read, bringing it back, and how far its
// replica is behind.
func trust(ctx context.Context, dir string) ([]figure, error) {
	shop := filepath.Join(dir, "years")
	if _, err := os.Stat(shop); err != nil {
		if err := os.MkdirAll(shop, 0o700); err != nil {
			return nil, err
		}
		if err := multiply(ctx, shop, manyDrives); err != nil {
			return nil, err
		}
	}
	served, err := start(ctx, "demo", "--data", shop, "--listen", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer func() { served.end() }()
	time.Sleep(5 * time.Second) // the bays settle
	alone, done := context.WithTimeout(ctx, 4*time.Second)
	before := readFor(alone, served.Client)
	done()
	file := filepath.Join(dir, "years.tar.zst")
	backUp := func() (float64, error) {
		begun := time.Now()
		_ = os.Remove(file)
		out, err := exec.CommandContext(ctx, program, "backup", file, "--data", shop).CombinedOutput()
		if err != nil {
			err = fmt.Errorf("the backup: %w: %s", err, out)
		}
		return time.Since(begun).Seconds(), err
	}
	undisturbed, err := backUp()
	if err != nil {
		return nil, err
	}
	var during float64
	beside, finished := context.WithCancel(ctx)
	var reading sync.WaitGroup
	reading.Go(func() { during = readFor(beside, served.Client) })
	took, err := backUp()
	finished()
	reading.Wait()
	if err != nil {
		return nil, err
	}
	served.end()
	served.end = func() {}
	size := 0.0
	if info, err := os.Stat(filepath.Join(shop, "shop.db")); err == nil {
		size = float64(info.Size()) / 1e9
	}
	begun := time.Now()
	back := filepath.Join(dir, "brought-back")
	if out, err := exec.CommandContext(ctx, program, "restore", file, "--data", back).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("bringing it back: %w: %s", err, out)
	}
	again, err := start(ctx, "demo", "--data", back, "--listen", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	restored := time.Since(begun).Seconds()
	again.end()
	lag, err := lagging(ctx, dir)
	if err != nil {
		return nil, err
	}
	return []figure{
		below("trust.backup", undisturbed, "s", 10),
		{"trust.backup_beside_lists", took, "s", "", true},
		{"trust.backup_size", size, "GB", "", true},
		below("trust.list_slower", during/max(before, 0.001), "x", 1.5),
		below("trust.restore_and_start", restored, "s", 60),
		below("trust.replica_lag", lag, "s", 1),
	}, nil
}

// lagging is how long it takes until what was written is in the replica: the longest of several writes.
func lagging(ctx context.Context, dir string) (worst float64, err error) {
	shop, replica := filepath.Join(dir, "replicated"), filepath.Join(dir, "replica")
	served, err := start(ctx, "demo", "--data", shop, "--listen", "127.0.0.1:0", "--replica", replica)
	if err != nil {
		return 0, err
	}
	defer served.end()
	time.Sleep(5 * time.Second) // the first copy is made
	newest := func() (at time.Time) {
		_ = filepath.WalkDir(filepath.Join(replica, "shop"), func(path string, _ os.DirEntry, _ error) error {
			if info, err := os.Stat(path); err == nil && info.ModTime().After(at) && !info.IsDir() {
				at = info.ModTime()
			}
			return nil
		})
		return at
	}
	for n := range 8 {
		label := fmt.Sprint("lag ", n)
		if _, err := served.SetBay(ctx, contract.BayName{Number: 3}, contract.BaySetting{Label: &label, By: "bench"}); err != nil {
			return 0, err
		}
		written := time.Now()
		for newest().Before(written) && time.Since(written) < 10*time.Second {
			time.Sleep(5 * time.Millisecond)
		}
		worst = max(worst, time.Since(written).Seconds())
		time.Sleep(300 * time.Millisecond)
	}
	return worst, nil
}
