package linux

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
)

// grace is how long beyond a command's own deadline its thread may stay away before it counts as stuck.
const grace = 5 * time.Second

// A drive that is pulled ends its commands before the kernel takes it down: with whatever its adapter says of them. So a command
// that got no answer is judged when so much time has passed, at most once in doubtEvery: a bad cable would cost it each time.
const (
	goesWithin = 2 * time.Second
	doubtEvery = time.Minute
)

// handle is an open descriptor that takes one command at a time.
type handle struct {
	description drive.Attachment
	attached    func() bool // whether the machine still has the drive that was opened
	doubted     time.Time   // when it was last waited for going
	mu          sync.Mutex
	fd          int
	closed      bool
	stuck       bool
	busy        bool
}

// Describe is what the machine said of the drive when it was opened.
func (h *handle) Describe() drive.Attachment { return h.description }

// Close releases the descriptor. While a command is stuck in the kernel the descriptor stays with it.
func (h *handle) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		return nil
	}
	h.closed = true
	if h.busy {
		return nil // released by the command when it comes back
	}
	return unix.Close(h.fd)
}

// do carries out one ioctl. It cannot be interrupted, so it runs on a thread of its own; when neither the kernel's time-out
// nor the grace after it brings it back, the device is stuck and takes no more commands.
func do[T any](ctx context.Context, h *handle, what string, timeout time.Duration, f func(fd int) (T, error)) (result T, err error) {
	if err := ctx.Err(); err != nil {
		return result, err
	}
	h.mu.Lock()
	if h.closed || h.stuck || h.busy {
		defer h.mu.Unlock()
		class, back := drive.FaultVanished, "the device is closed"
		if h.stuck || h.busy {
			class, back = drive.FaultStuck, "an earlier command has not come back"
		}
		return result, &device.Failed{Class: class, What: what, Cause: back}
	}
	h.busy = true
	h.mu.Unlock()

	type answer struct {
		result T
		err    error
	}
	done := make(chan answer, 1)
	go func() {
		r, err := f(h.fd)
		h.mu.Lock()
		h.busy, h.stuck = false, false
		if h.closed {
			_ = unix.Close(h.fd)
		}
		h.mu.Unlock()
		done <- answer{r, err}
	}()
	deadline := time.NewTimer(timeout + grace)
	defer deadline.Stop()
	select {
	case a := <-done:
		return a.result, h.gone(ctx, a.err)
	case <-ctx.Done():
		return result, ctx.Err()
	case <-deadline.C:
		h.mu.Lock()
		h.stuck = h.busy
		h.mu.Unlock()
		return result, &device.Failed{Class: drive.FaultStuck, What: what, Cause: fmt.Sprintf("no answer for %s", timeout+grace)}
	}
}

// gone makes of a command without an answer one whose drive went away, when it did.
func (h *handle) gone(ctx context.Context, err error) error {
	f, ok := errors.AsType[*device.Failed](err)
	if !ok || f.Class != drive.FaultLink && f.Class != drive.FaultNoAnswer {
		return err
	}
	h.mu.Lock()
	wait := goesWithin
	if time.Since(h.doubted) < doubtEvery {
		wait = 0
	}
	h.doubted = time.Now()
	h.mu.Unlock()
	for until := time.Now().Add(wait); ; {
		switch {
		case !h.attached():
			return &device.Failed{Class: drive.FaultVanished, What: f.What, Cause: f.Cause + ", and the drive is gone"}
		case ctx.Err() != nil || !time.Now().Before(until):
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
}
