package wire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

const knockAt = "WIRE_TEST_KNOCK_AT"

func TestMain(m *testing.M) {
	if path := os.Getenv(knockAt); path != "" { // as another user, for TestStrangersAreTurnedAway
		_, err := Dial(context.Background(), path, nil)
		fmt.Print(err)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// bench says back what it is asked.
type bench struct {
	asked chan any
	moves chan protocol.Progress
}

func (b *bench) Describe() protocol.Description {
	return protocol.Description{Title: "north bench", Factor: 1, Rework: true}
}

func (b *bench) Bond(context.Context) (protocol.Bond, error) {
	return protocol.Bond{Bench: "one", Shop: "two", Next: 3, Acknowledged: 4, Forgotten: 5, Run: 6}, nil
}

func (b *bench) Bind(_ context.Context, shop string, after int64) error {
	return fmt.Errorf("no room to keep %s, %d", shop, after)
}

func (b *bench) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	switch o.Kind {
	case protocol.OrderRead: // for ever
		b.asked <- o
		<-ctx.Done()
		return protocol.Receipt{}, ctx.Err()
	case protocol.OrderStop:
		return protocol.Receipt{}, &protocol.Refusal{Class: drive.FaultInUse, What: "stop", Cause: "it has ended", Advice: "Look."}
	default:
	}
	return protocol.Receipt{Run: &check.Run{ID: o.Run, Kind: o.Check, Bay: o.Bay, Key: o.Key, Rework: o.Rework, Order: o.ID}}, nil
}

func (b *bench) Reports(ctx context.Context) ([]protocol.Report, error) {
	b.asked <- "reports"
	<-ctx.Done()
	return nil, ctx.Err()
}

func (b *bench) Acknowledge(_ context.Context, seq int64) error { b.asked <- seq; return nil }
func (b *bench) Resend(_ context.Context, after int64) error    { b.asked <- -after; return nil }

func (b *bench) Progress(context.Context) (<-chan protocol.Progress, error) { return b.moves, nil }

// met is a bench at both ends of a wire; cut cuts it.
func met(t *testing.T) (far *Bench, near *bench, cut func()) {
	t.Helper()
	ours, its := net.Pipe()
	near = &bench{asked: make(chan any, 8), moves: make(chan protocol.Progress, 1)}
	answered := make(chan error, 1)
	go func() { answered <- Answer(t.Context(), its, near, "9.9") }()
	far, err := Meet(t.Context(), ours)
	require.NoError(t, err)
	t.Cleanup(func() { _ = far.Close(); assert.NoError(t, <-answered) })
	return far, near, func() { _ = its.Close() }
}

func TestWhatPassesIsWhatWasSaid(t *testing.T) {
	far, near, _ := met(t)
	ctx := t.Context()
	assert.Equal(t, near.Describe(), far.Describe())
	assert.Equal(t, "9.9", far.Tool())
	bond, err := far.Bond(ctx)
	require.NoError(t, err)
	assert.Equal(t, protocol.Bond{Bench: "one", Shop: "two", Next: 3, Acknowledged: 4, Forgotten: 5, Run: 6}, bond)
	assert.EqualError(t, far.Bind(ctx, "the shop", 7), "north bench says: no room to keep the shop, 7")

	o := protocol.Order{
		Kind: protocol.OrderCheck, ID: "once", Run: 8, Check: check.Mend, Bay: drive.Bay{Bench: "field", Number: 2},
		Key: drive.Key{Model: "Korvan K4-2000", Serial: "KVA077M511"}, Rework: &check.Rework{Ending: "7M511"},
	}
	receipt, err := far.Order(ctx, o)
	require.NoError(t, err)
	assert.Equal(t, &check.Run{ID: 8, Kind: check.Mend, Bay: o.Bay, Key: o.Key, Rework: o.Rework, Order: "once"}, receipt.Run)
	_, err = far.Order(ctx, protocol.Order{Kind: protocol.OrderStop})
	assert.Equal(t, &protocol.Refusal{Class: drive.FaultInUse, What: "stop", Cause: "it has ended", Advice: "Look."}, err)

	require.NoError(t, far.Acknowledge(ctx, 9))
	require.NoError(t, far.Resend(ctx, 10))
	assert.Equal(t, []any{int64(9), int64(-10)}, []any{<-near.asked, <-near.asked})

	moves, err := far.Progress(ctx)
	require.NoError(t, err)
	p := protocol.Progress{Run: check.Run{ID: 8}, Step: 1, Blocks: []check.Block{{Number: 3, Cells: []byte{1, 2}}}, Whole: true}
	near.moves <- p
	assert.Equal(t, p, <-moves)

	soon, end := context.WithTimeout(ctx, 50*time.Millisecond)
	defer end()
	_, err = far.Reports(soon)
	assert.ErrorIs(t, err, context.DeadlineExceeded, "whoever asks may stop waiting")
	assert.NotErrorIs(t, err, protocol.ErrGone)
}

func TestWhoWaitsHearsThatTheWireIsCut(t *testing.T) {
	far, near, cut := met(t)
	moves, err := far.Progress(t.Context())
	require.NoError(t, err)
	wrong := make(chan error, 2)
	go func() { _, err := far.Reports(t.Context()); wrong <- err }()
	go func() { _, err := far.Order(t.Context(), protocol.Order{Kind: protocol.OrderRead}); wrong <- err }()
	<-near.asked
	<-near.asked
	cut()
	require.ErrorIs(t, <-wrong, protocol.ErrGone)
	require.ErrorIs(t, <-wrong, protocol.ErrGone)
	_, more := <-moves
	assert.False(t, more)
	_, err = far.Bond(t.Context())
	assert.ErrorIs(t, err, protocol.ErrGone, "and whoever asks later, too")
}

// A bench of a later version is told apart from one that does not answer.
func TestAnotherVersionIsSaid(t *testing.T) {
	ours, its := net.Pipe()
	web := &http.Server{Handler: http.NotFoundHandler(), Protocols: protocols()}
	go func() { _ = web.Serve(newLine(its)) }()
	defer web.Close()
	_, err := Meet(t.Context(), ours)
	assert.EqualError(t, err, "meeting a bench: it speaks another version of the wire than 1: upgrade the program on both sides")
}

// Neither side works with a process of a user it does not trust.
func TestStrangersAreTurnedAway(t *testing.T) {
	dir, err := os.MkdirTemp("", "wire-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	self := filepath.Join(dir, "knocks")
	body, err := os.ReadFile(os.Args[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(self, body, 0o755))
	path := filepath.Join(dir, "socket")
	for trusted, says := range map[string]string{
		"":       "at the other end is a process of the user nobody, who is not trusted",
		"nobody": "",
	} {
		users, err := UsersOf(strings.Fields(trusted)...)
		require.NoError(t, err)
		s, err := Listen(path, users)
		require.NoError(t, err)
		knocks := exec.Command(self)
		knocks.Env = append(os.Environ(), knockAt+"="+path)
		knocks.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		heard := make(chan error, 1)
		go func() { _, err := s.Accept(); heard <- err }()
		out, err := knocks.Output()
		require.NoError(t, err)
		assert.Equal(t, "<nil>", string(out), "root is trusted by everybody")
		if err := <-heard; says == "" {
			assert.NoError(t, err)
		} else {
			assert.EqualError(t, err, says)
			assert.NotErrorIs(t, err, net.ErrClosed)
		}
		_, err = Listen(path, nil)
		assert.ErrorContains(t, err, "another service waits for its bench at ")
		require.NoError(t, s.Close())
		_, err = Dial(t.Context(), path, nil)
		assert.True(t, errors.Is(err, ErrNobody), err)
	}
	_, err = UsersOf("nobody at all")
	assert.EqualError(t, err, "no user of this machine is called nobody at all")
}
