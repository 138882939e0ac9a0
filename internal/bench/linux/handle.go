package linux

import (
	"context"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
)

// grace is how long beyond a command's own deadline its thread may stay away before it counts as stuck.
const grace = 5 * time.Second

// handle is an open descriptor that takes one command at a time.
type handle struct {
	description drive.Attachment
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
		return result, &device.Failed{Class: class, What: what, Back: back}
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
		return a.result, a.err
	case <-ctx.Done():
		return result, ctx.Err()
	case <-deadline.C:
		h.mu.Lock()
		h.stuck = h.busy
		h.mu.Unlock()
		return result, &device.Failed{Class: drive.FaultStuck, What: what, Back: fmt.Sprintf("no answer for %s", timeout+grace)}
	}
}
