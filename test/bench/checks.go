package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"time"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/surface"
)

// sweptBytes is the size of the image that is swept.
const sweptBytes = 4 << 30

// pairs is how often sweep and dd read it in turn.
const pairs = 5

// checks measures sweeps of a loop device over a file on disk against dd on the same device.
func checks(ctx context.Context, dir string) ([]figure, error) {
	image := filepath.Join(dir, "swept.img")
	if err := exec.CommandContext(
		ctx, "dd", "if=/dev/urandom", "of="+image, "bs=16M", fmt.Sprintf("count=%d", sweptBytes>>24), "status=none",
	).
		Run(); err != nil {
		return nil, fmt.Errorf("making the image: %w", err)
	}
	defer func() { _ = os.Remove(image) }()
	out, err := exec.CommandContext(ctx, "losetup", "--find", "--show", "--direct-io=on", image).Output()
	if err != nil {
		fmt.Println("checks: no loop device here; the file itself is read instead")
		out = []byte(image)
	} else {
		defer func() {
			_ = exec.Command("losetup", "--detach",
				strings.TrimSpace(string(out))).Run()
		}() //nolint:noctx // it must go even when time is up
	}
	device := strings.TrimSpace(string(out))
	served, err := start(
		ctx, "serve", "--create", "--data", filepath.Join(dir, "sweeps"), "--listen", "127.0.0.1:0", "--bay-image", device,
	)
	if err != nil {
		return nil, err
	}
	defer served.end()
	serial := filepath.Base(device)
	if err := answers(ctx, served.Client, serial); err != nil {
		return nil, err
	}
	var ratios, cpu []float64
	var memory float64
	for range pairs {
		theirs, err := dd(ctx, device)
		if err != nil {
			return nil, err
		}
		before, err := family(served.process.Pid, busy)
		if err != nil {
			return nil, err
		}
		ours, rss, err := sweepOf(ctx, served.Client, serial, served.process.Pid)
		if err != nil {
			return nil, err
		}
		after, err := family(served.process.Pid, busy)
		if err != nil {
			return nil, err
		}
		memory = max(memory, rss)
		ratios = append(ratios, theirs.Seconds()/ours.Seconds())
		speed := sweptBytes / 1e8 / ours.Seconds() // in units of 100 MB/s
		cpu = append(cpu, 100*(after-before).Seconds()/ours.Seconds()/speed)
	}
	idle, err := family(served.process.Pid, resident)
	if err != nil {
		return nil, err
	}
	ratio := median(ratios)
	large, err := largest()
	if err != nil {
		return nil, err
	}
	return []figure{
		{
			"checks.sweep_to_dd",
			ratio,
			"",
			">= 1",
			ratio >= 1,
		},
		below("checks.cpu_per_100MBps", median(cpu), "%", 6),
		below("checks.sweep_memory", max(0, memory-idle), "MB", 24),
		below("checks.sweep_memory_20TB", large, "MB", 24),
	}, nil
}

// largest is the memory, in MB, that the sweep of a drive of 20 TB holds at its end: its state and its ribbon. The drive has
// twenty thousand unreadable sectors and as many slow chunks.
func largest() (float64, error) {
	g, err := surface.NewGeometry(20_000_000_000_000, 512, 4096, 0, 7200, 0)
	if err != nil {
		return 0, err
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	s := surface.New(g, nil)
	for !s.Finished() {
		r, ok := s.Next()
		if !ok {
			return 0, errors.New("the sweep waits for nothing")
		}
		o := surface.Outcome{Took: 7 * time.Millisecond * time.Duration(r.Sectors) / time.Duration(g.Chunk)}
		const every = 2_000_000 // sectors between flaws
		switch first := (r.LBA + every - 1) / every * every; {
		case first < r.End():
			o.Cause, o.Took = surface.Medium, o.Took+time.Second
		case (r.LBA+every/2)/every != (r.End()+every/2)/every:
			o.Took += 50 * time.Millisecond
		}
		s.Tell(r, o)
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	held := float64(after.HeapAlloc) - float64(before.HeapAlloc)
	if s.Unread == 0 || len(s.Slow) == 0 {
		return 0, errors.New("the sweep found nothing of what was planted")
	}
	return held / 1e6, nil
}

// answers waits for a drive to answer in its bay.
func answers(ctx context.Context, c *client.Client, serial string) error {
	for range 100 {
		if d, err := c.Drive(ctx, serial); err == nil && d.Bay != nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("%s does not answer", serial)
}

// sweepOf sweeps a drive whole and gives the time between its first and its last read, and the most memory the service had.
func sweepOf(ctx context.Context, c *client.Client, serial string, pid int) (took time.Duration, rss float64, err error) {
	r, err := c.Check(ctx, serial, contract.CheckRequest{Kind: "whole", By: "bench"})
	for err == nil && r.State != "done" {
		time.Sleep(50 * time.Millisecond)
		if now, err := family(pid, resident); err == nil {
			rss = max(rss, now)
		}
		r, err = c.Run(ctx, r.Id)
	}
	if err != nil {
		return 0, 0, err
	}
	s, err := c.Sweep(ctx, r.Id)
	if err == nil && (s.Ended == nil || s.Standing.Share < 1) {
		err = errors.New("the sweep did not come to its end: " + r.Standing.Words)
	}
	if err != nil {
		return 0, 0, err
	}
	return s.Ended.Sub(s.Began), rss, nil
}

var ddTook = regexp.MustCompile(`copied, ([0-9.]+) s`)

// dd reads a device as fast as one read of 1 MiB after another can.
func dd(ctx context.Context, device string) (time.Duration, error) {
	cmd := exec.CommandContext(ctx, "dd", "if="+device, "of=/dev/null", "bs=1M", "iflag=direct")
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("dd: %w: %s", err, out)
	}
	m := ddTook.FindSubmatch(out)
	if m == nil {
		return 0, fmt.Errorf("dd said %q", out)
	}
	s, err := strconv.ParseFloat(string(m[1]), 64)
	return time.Duration(s * float64(time.Second)), err
}

// family adds something up over a process and those it has started: its bench, and those that attend drives.
func family[T float64 | time.Duration](pid int, of func(int) (T, error)) (sum T, err error) {
	if sum, err = of(pid); err != nil {
		return 0, err
	}
	threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	if err != nil {
		return 0, err
	}
	for _, t := range threads {
		children, err := os.ReadFile(t)
		if err != nil {
			continue // a thread that has ended
		}
		for _, child := range strings.Fields(string(children)) {
			n, err := strconv.Atoi(child)
			if err != nil {
				return 0, err
			}
			if v, err := family(n, of); err == nil { // else it has ended
				sum += v
			}
		}
	}
	return sum, nil
}

// busy is the processor time a process has used (proc_pid_stat(5): utime and stime, in hundredths of a second).
func busy(pid int) (time.Duration, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	if len(fields) < 13 {
		return 0, errors.New("no processor time")
	}
	user, err := strconv.ParseInt(fields[11], 10, 64)
	if err != nil {
		return 0, err
	}
	system, err := strconv.ParseInt(fields[12], 10, 64)
	return time.Duration(user+system) * 10 * time.Millisecond, err
}
