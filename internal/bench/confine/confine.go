// Package confine runs programs of the system that read what strangers made, as file-system checkers do, without powers they do not need:
// they may read one node and the system's own files, write nothing, gain nothing, and reach no network. Start with Command and Become.
package confine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"syscall"

	"github.com/landlock-lsm/go-landlock/landlock"
	"golang.org/x/sys/unix"
	capability "kernel.org/pub/linux/libs/security/libcap/cap"
	"kernel.org/pub/linux/libs/security/libcap/psx"
)

// Word has the program confine itself and then become another one. It is no command of anybody's.
const Word = "run-confined"

// Bounds of what is confined: processor time, memory, open files; and nothing is written to a file.
const (
	mostSeconds = 15 * 60
	mostMemory  = 4 << 30
	mostFiles   = 256
)

// system is what such a program may read besides its node: itself, its libraries, their settings, what the kernel tells.
var system = []string{"/usr", "/lib", "/lib64", "/bin", "/sbin", "/etc", "/proc", "/sys"}

// Command makes a command that runs a program over a node, confined by self, which is this program's own file.
func Command(ctx context.Context, self, node, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, self, append([]string{Word, node, program}, args...)...) //nolint:gosec // its own file
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if os.Geteuid() == 0 { // namespaces without a network, and without others to talk to
		cmd.SysProcAttr.Cloneflags = syscall.CLONE_NEWNET | syscall.CLONE_NEWIPC
	}
	return cmd
}

// Become confines this process and has it become a program: node, program, its arguments. It comes back only with an error. Where the
// kernel cannot confine, it goes on without, and says so on the error output.
func Become(args []string) error {
	if len(args) < 2 {
		return errors.New("a node and a program are wanted")
	}
	node, program := args[0], args[1]
	runtime.LockOSThread() // what follows is this thread's, which becomes the program
	for _, step := range []struct {
		what string
		do   func() error
	}{
		{"files", func() error { return files(node) }},
		{"powers", powers},
		{"limits", limits},
	} {
		if err := step.do(); err != nil {
			_, _ = fmt.Fprintf(os.Stderr, "not confined, %s: %v\n", step.what, err)
		}
	}
	return fmt.Errorf("starting %s: %w", program, unix.Exec(program, append([]string{program}, args[2:]...), os.Environ()))
}

// files leaves nothing to be opened but the system's own files and the node, for reading (landlock(7)).
func files(node string) error {
	rules := []landlock.Rule{
		landlock.RODirs(system...).IgnoreIfMissing(), landlock.RWFiles("/dev/null").IgnoreIfMissing(),
		landlock.ROFiles(node).WithIoctlDev(),
	}
	if err := landlock.V5.RestrictPaths(rules...); err != nil {
		return errors.Join(err, landlock.V5.BestEffort().RestrictPaths(rules...))
	}
	return nil
}

// powers gives up all capabilities for good: neither this process nor what it becomes gains any (capabilities(7), prctl(2)).
func powers() error {
	err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
	if have, failed := capability.GetProc().GetFlag(capability.Effective, capability.SETPCAP); failed == nil && have {
		for v := range capability.MaxBits() {
			if one := capability.DropBound(v); one != nil {
				err = errors.Join(err, one)
			}
		}
	}
	return errors.Join(err, capability.NewSet().SetProc())
}

func limits() error {
	var err error
	for what, most := range map[int]uint64{
		unix.RLIMIT_CPU: mostSeconds, unix.RLIMIT_AS: mostMemory, unix.RLIMIT_NOFILE: mostFiles, unix.RLIMIT_FSIZE: 0, unix.RLIMIT_CORE: 0,
	} {
		err = errors.Join(err, unix.Setrlimit(what, &unix.Rlimit{Cur: most, Max: most}))
	}
	return err
}

// attending are the powers that speaking to a drive takes: pass-through to ATA and NVMe, protection from writing, and files of others.
var attending = []capability.Value{capability.SYS_RAWIO, capability.SYS_ADMIN, capability.DAC_OVERRIDE, capability.SYS_NICE}

// Attend leaves this process, and what it starts, with the powers that attending a drive takes, for good. The error says what it could not
// give up.
func Attend() error {
	_, _, failed := psx.Syscall6(unix.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0, 0)
	var err error
	if failed != 0 {
		err = failed
	}
	have := capability.GetProc()
	if may, wrong := have.GetFlag(capability.Effective, capability.SETPCAP); wrong == nil && may {
		for v := range capability.MaxBits() {
			if !slices.Contains(attending, v) {
				err = errors.Join(err, capability.DropBound(v))
			}
		}
	}
	keep := capability.NewSet()
	for _, v := range attending {
		if may, wrong := have.GetFlag(capability.Permitted, v); wrong == nil && may {
			err = errors.Join(err, keep.SetFlag(capability.Permitted, true, v), keep.SetFlag(capability.Effective, true, v))
		}
	}
	return errors.Join(err, keep.SetProc())
}
