package app

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"runtime/debug"

	"hylostat.example/internal/bench/attend"
	"hylostat.example/internal/bench/confine"
	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/linux"
)

// thisMachinesDrives has the drives of this machine.
func thisMachinesDrives() (device.Source, error) { return linux.New(), nil }

// machineSource is the drives of this machine, each attended by a process of its own.
func machineSource(images []string, log *slog.Logger) (device.Source, error) {
	machine, err := linux.WithImages(linux.New(), images)
	if err != nil {
		return nil, err
	}
	program, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("finding this program's own file, which attends drives in processes of their own: %w", err)
	}
	return &attend.Source{Machine: machine, Command: []string{program, attendWord}, Files: images, Log: log}, nil
}

// helper carries out what the program is started for by itself, and by nobody else; ok: it was that.
func helper(args []string) (code int, ok bool) {
	switch {
	case len(args) == 2 && args[1] == attendWord:
		return attendDrive(), true
	case len(args) > 1 && args[1] == confine.Word:
		_, _ = fmt.Fprintln(os.Stderr, confine.Become(args[2:]))
		return 1, true
	}
	return 0, false
}

// attendWord has the program attend one drive for a service, on descriptor 3. It is no command of anybody's.
const attendWord = "attend-drive"

// attendDrive serves one drive until the service closes the socket.
func attendDrive() int {
	debug.SetGCPercent(25)
	debug.FreeOSMemory()
	if err := confine.Attend(); err != nil {
		logger(os.Stderr).Warn("a process that attends a drive has more powers than it needs", "error", err)
	}
	socket := os.NewFile(3, "service")
	self, err := os.Executable()
	if err != nil {
		logger(os.Stderr).Error("finding this program's own file, which confines checkers", "error", err)
	}
	err = attend.Serve(context.Background(), socket, func(files []string) (device.Source, error) {
		return linux.WithImages(linux.New().Confine(self), files)
	})
	if err != nil {
		logger(os.Stderr).Error("attending a drive", "error", err)
		return 1
	}
	return 0
}
