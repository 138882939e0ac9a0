package app

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// shedAfter is when a process gives back what only its start needed.
const shedAfter = 5 * time.Second

// shed gives back, once, what a start has touched and nothing will ask for soon: garbage, and the pages of the program's own file, of
// which packages at their start, and the kernel ahead of them, bring in most. Those are clean: what is wanted again comes from the page
// cache.
func shed(ctx context.Context) {
	select {
	case <-ctx.Done():
		return
	case <-time.After(shedAfter):
	}
	debug.FreeOSMemory()
	dropProgram()
}

// dropProgram has the kernel forget which pages of the program this process has used. It leaves alone what may differ from the file:
// whatever can be written, or has been (proc_pid_smaps(5), madvise(2) MADV_DONTNEED).
func dropProgram() {
	program, err := os.Executable()
	if err != nil {
		return
	}
	f, err := os.Open("/proc/self/smaps")
	if err != nil {
		return
	}
	defer func() { _ = f.Close() }()
	var from, to uintptr
	for lines := bufio.NewScanner(f); lines.Scan(); {
		line := lines.Text()
		if fields := strings.Fields(line); len(fields) >= 6 && strings.Contains(fields[0], "-") {
			from, to = 0, 0
			if fields[5] == program && !strings.Contains(fields[1], "w") {
				_, _ = fmt.Sscanf(fields[0], "%x-%x", &from, &to)
			}
			continue
		}
		if kb := -1; to > from && strings.HasPrefix(line, "Anonymous:") {
			if _, err := fmt.Sscanf(line, "Anonymous: %d kB", &kb); err == nil && kb == 0 {
				_, _, _ = unix.Syscall(unix.SYS_MADVISE, from, to-from, unix.MADV_DONTNEED)
			}
		}
	}
}
