//go:build !linux

package app

import (
	"errors"
	"log/slog"
	"runtime"

	"hylostat.example/internal/bench/device"
)

// errNoDrives says that this system's drives are not reached.
var errNoDrives = errors.New("drives are reached on Linux alone, and this is " + runtime.GOOS + ": ask a service on another machine " +
	"with --service, or see how it is with \"hylostat demo\"")

func thisMachinesDrives() (device.Source, error) { return nil, errNoDrives }

func machineSource([]string, *slog.Logger) (device.Source, error) { return nil, errNoDrives }

func helper([]string) (code int, ok bool) { return 0, false }
