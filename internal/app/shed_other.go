//go:build !linux

package app

import (
	"context"
	"runtime/debug"
	"time"
)

// shed gives back, once, the garbage of the start.
func shed(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(5 * time.Second):
		debug.FreeOSMemory()
	}
}
