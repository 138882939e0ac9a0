// Package crash kills the whole service, bench and shop alike, after each of its commits during each procedure, starts it
// again, and wants everything finished and nothing that was finished lost or done twice.
package crash

import (
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"testing"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
)

// standing is what victim prints.
type standing struct {
	Runs       []contract.Run
	Sweeps     []contract.SweepSummary
	Tests      int
	Unreadable int
	Readings   map[string]int
}

func TestKilledAfterEveryCommit(t *testing.T) {
	program := filepath.Join(t.TempDir(), "victim")
	out, err := exec.Command("go", "build", "-o", program, "./victim").CombinedOutput()
	require.NoError(t, err, "%s", out)
	prepared, sound := t.TempDir(), t.TempDir()
	for dir, how := range map[string]string{prepared: "prepare", sound: "prepare-sound"} {
		out, err = exec.Command(program, dir, how, "0").CombinedOutput()
		require.NoError(t, err, "%s", out)
	}

	for _, row := range []struct {
		procedure  string
		tests      int // of the drive's own, in its log
		sweeps     int // kept of the run
		unreadable int // sectors at the end
		outcome    contract.RunOutcome
	}{
		{"quick", 1, 1, 2, contract.RunOutcomeFailed},
		{"extended", 1, 1, 2, contract.RunOutcomeFailed},
		{"mend", 0, 1, 0, contract.RunOutcomePassed},
		{"renew", 0, 1, 0, contract.RunOutcomePassed},
		{"overwrite", 0, 2, 0, contract.RunOutcomePassed},
	} {
		t.Run(row.procedure, func(t *testing.T) {
			t.Parallel()
			taken, n := 0, 1
			for ; ; n++ {
				dir := t.TempDir()
				from := prepared
				if row.procedure == "renew" {
					from = sound
				}
				require.NoError(t, os.CopyFS(dir, os.DirFS(from)))
				out, err := exec.Command(program, dir, row.procedure, strconv.Itoa(n)).Output()
				killed := false
				if exit, ok := errors.AsType[*exec.ExitError](err); ok {
					status, ok := exit.Sys().(syscall.WaitStatus)
					require.True(
						t, ok && status.Signaled() && status.Signal() == syscall.SIGKILL, "after commit %d: %v %s", n, err,
						exit.Stderr,
					)
					killed = true
					out, err = exec.Command(program, dir, row.procedure, "0").Output()
					exit, _ = errors.AsType[*exec.ExitError](err)
					require.NoError(t, err, "after commit %d, started again: %s", n, stderr(exit))
				} else {
					require.NoError(t, err)
				}
				var s standing
				require.NoError(t, json.Unmarshal(out, &s), "%s", out)
				if len(s.Runs) == 1 && killed && taken == 0 { // it was killed before the order was taken
					continue
				}
				taken++
				require.Len(t, s.Runs, 2, "after commit %d: one run, and the one before it", n)
				run := s.Runs[0]
				require.NotNil(t, run.Outcome, "after commit %d: %s", n, run.Standing)
				assert.Equal(t, row.outcome, *run.Outcome, "after commit %d: %s", n, run.Standing)
				for _, step := range run.Steps {
					assert.Contains(
						t, []contract.StepState{contract.StepStateDone, contract.StepStateFailed}, step.State,
						"after commit %d: %s", n, step.Title,
					)
				}
				kept := 0
				for _, w := range s.Sweeps {
					if w.Run == run.Id {
						kept++
						assert.InDelta(t, 1, w.Standing.Share, 1e-9, "after commit %d", n)
					}
				}
				assert.Equal(t, row.sweeps, kept, "after commit %d: sweeps kept", n)
				assert.Equal(t, row.tests, s.Tests, "after commit %d: self-tests in the drive's log", n)
				assert.Equal(t, row.unreadable, s.Unreadable, "after commit %d", n)
				for _, step := range []string{"reading_before", "reading_after"} {
					assert.GreaterOrEqual(t, s.Readings[strconv.FormatInt(run.Id, 10)+" "+step], 1, "after commit %d: %s", n, step)
				}
				if !killed || t.Failed() {
					break
				}
			}
			t.Logf("%s: killed after each of %d commits", row.procedure, taken-1)
			assert.Greater(t, taken, 10, "a procedure has that many commits at least")
		})
	}
}

// mailbox keeps the letters that come, by their names.
type mailbox struct {
	mu   sync.Mutex
	came map[string]int
}

// session is a conversation with it.
type session struct{ *mailbox }

func (session) Mail(string, *smtp.MailOptions) error { return nil }
func (session) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (session) Reset()                               {}
func (session) Logout() error                        { return nil }

func (s session) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.came[m.Header.Get("Message-Id")+" "+m.Header.Get("Subject")]++
	return nil
}

// take gives what came, and forgets it.
func (b *mailbox) take() (names []string, twice int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for name, n := range b.came {
		names = append(names, name)
		twice += n - 1
	}
	slices.Sort(names)
	b.came = map[string]int{}
	return names, twice
}

// Whatever commit the service is killed after, or before, what is to be told is told; a letter that comes twice has the same name.
func TestNothingToldIsLost(t *testing.T) {
	program := filepath.Join(t.TempDir(), "victim")
	out, err := exec.Command("go", "build", "-o", program, "./victim").CombinedOutput()
	require.NoError(t, err, "%s", out)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	box := &mailbox{came: map[string]int{}}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return session{box}, nil }))
	server.Domain = "saltmarsh.example"
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { _ = server.Close() })
	t.Setenv("VICTIM_MAIL", listener.Addr().String())
	prepared := t.TempDir()
	out, err = exec.Command(program, prepared, "prepare-told", "0").CombinedOutput()
	require.NoError(t, err, "%s", out)
	run := func(dir string, n int) error {
		out, err := exec.Command(program, dir, "told", strconv.Itoa(n)).Output()
		if exit, ok := errors.AsType[*exec.ExitError](err); ok {
			status, ok := exit.Sys().(syscall.WaitStatus)
			require.True(t, ok && status.Signaled() && status.Signal() == syscall.SIGKILL, "after commit %d: %s %s", n, out, exit.Stderr)
		}
		return err
	}
	whole := t.TempDir()
	require.NoError(t, os.CopyFS(whole, os.DirFS(prepared)))
	require.NoError(t, run(whole, 0))
	want, twice := box.take()
	require.GreaterOrEqual(t, len(want), 2, "the verdict, and a signal")
	require.Zero(t, twice)
	for _, side := range []int{1, -1} {
		again := 0
		for n := 1; ; n++ {
			dir := t.TempDir()
			require.NoError(t, os.CopyFS(dir, os.DirFS(prepared)))
			killed := run(dir, side*n) != nil
			if killed {
				require.NoError(t, run(dir, 0), "at commit %d, started again", side*n)
			}
			got, twice := box.take()
			require.Equal(t, want, got, "killed at commit %d", side*n)
			if again += twice; !killed {
				t.Logf("killed at each of %d commits; %d letters came twice, under their names", n-1, again)
				require.Greater(t, n, 3, "the report, what it brings, what was sent")
				break
			}
		}
	}
}

func stderr(e *exec.ExitError) string {
	if e == nil {
		return ""
	}
	return string(e.Stderr)
}
