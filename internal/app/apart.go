package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/demo"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/protocol/wire"
	"hylostat.example/internal/sqlite"
)

// Apart is what a bench that runs in a process of its own is made from there.
type Apart struct {
	Images []string // files, or block devices without a drive behind them, that stand for drives
	Demo   string   // the folder of the demo whose simulated bench it is; empty: it has this machine's drives
}

// besideWord has the program be the bench of the service that started it, which talks to it by its standard input and output. It is no
// command of anybody's.
const besideWord = "bench-beside"

// beside is what a service tells the process of its bench.
type beside struct {
	Apart
	Name, Title string
	Factor      float64
	Rework      bool
	Dir         string // of its journal
	Kept        bool   // the journal has to be there
	WithoutLog  bool
}

// startApart runs the bench in a process of its own.
func (l *local) startApart() (net.Conn, <-chan error, error) {
	told, err := json.Marshal(beside{*l.Apart, l.Name, l.Title, l.Factor, l.Rework, l.dir, l.how.Kept, l.how.WithoutLog})
	if err != nil {
		return nil, nil, err
	}
	program, err := os.Executable()
	if err != nil {
		return nil, nil, fmt.Errorf("finding this program's own file: %w", err)
	}
	itsIn, ourOut, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	ourIn, itsOut, err := os.Pipe()
	if err != nil {
		return nil, nil, errors.Join(err, itsIn.Close(), ourOut.Close())
	}
	cmd := exec.Command(program, besideWord, string(told)) //nolint:gosec,noctx // its own file; it ends when the pipe does
	cmd.Stdin, cmd.Stdout, cmd.Stderr = itsIn, itsOut, os.Stderr
	withUs(cmd)
	started, ended := make(chan error), make(chan error, 1)
	go func() {
		runtime.LockOSThread() // the thread that starts it is the one with which it ends
		err := cmd.Start()
		_, _ = itsIn.Close(), itsOut.Close()
		if started <- err; err == nil {
			ended <- cmd.Wait()
		}
	}()
	if err := <-started; err != nil {
		return nil, nil, errors.Join(err, ourIn.Close(), ourOut.Close())
	}
	return wire.Pipe(ourIn, ourOut), ended, nil
}

// runBeside is the process of a bench beside its service. It ends with the service, and not by Ctrl-C, which is the service's to hear.
func runBeside(told string) int {
	signal.Ignore(os.Interrupt)
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	Settle(ctx)
	log := logger(os.Stderr)
	var o beside
	err := json.Unmarshal([]byte(told), &o)
	if err == nil {
		err = o.run(ctx, wire.Pipe(os.Stdin, os.Stdout), log)
	}
	if err != nil {
		log.Error("a bench ends", "bench", o.Title, "error", err)
		return 1
	}
	return 0
}

func (o *beside) run(ctx context.Context, conn net.Conn, log *slog.Logger) error {
	source, err := o.source(log)
	if err != nil {
		return err
	}
	return runBench(
		ctx, Bench{Name: o.Name, Title: o.Title, Factor: o.Factor, Source: source, Rework: o.Rework, Feed: sweep.RealFeed}, o.Dir, log,
		sqlite.How{Kept: o.Kept, WithoutLog: o.WithoutLog, Examined: examineFor},
		func(ctx context.Context, b protocol.Bench) error { return wire.Answer(ctx, conn, b, Version) },
	)
}

// source is what the bench has its drives from.
func (o *beside) source(log *slog.Logger) (device.Source, error) {
	if o.Demo == "" {
		return machineSource(o.Images, log)
	}
	d, err := demo.New(o.Demo, o.Factor)
	if err != nil {
		return nil, err
	}
	if o.Name == demo.FieldName {
		return d.Field, nil
	}
	return d.Source, nil
}

// runBench runs a bench that has this process to itself, until the context or answer ends.
func runBench(
	ctx context.Context, o Bench, dir string, log *slog.Logger, how sqlite.How, answer func(context.Context, protocol.Bench) error,
) (err error) {
	lock, err := lockBench(ctx, dir)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, lock.Close()) }()
	b, j, err := openBench(ctx, o, dir, log, how)
	if err != nil {
		return err
	}
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	go func() {
		if wrong := j.Examine(ctx); wrong != nil && ctx.Err() == nil {
			end(wrong)
		}
	}()
	ended := make(chan error, 1)
	go func() { ended <- work(ctx, b, answer) }()
	select {
	case err = <-ended:
	case <-ctx.Done():
		select {
		case err = <-ended:
		case <-time.After(ends - time.Second):
			return errors.New("a drive holds a command; ending without it")
		}
	}
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) { // its journal is damaged
		err = errors.Join(err, cause)
	}
	return errors.Join(err, j.Close())
}

// lockBench keeps two benches from using one journal. One that is about to end, since its service has, is waited for.
func lockBench(ctx context.Context, dir string) (*flock.Flock, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the bench's folder: %w. Choose another with --data", err)
	}
	for until := time.Now().Add(2 * ends); ; {
		f, err := lockFile(filepath.Join(dir, "bench.lock"))
		if err == nil {
			return f, nil
		}
		if !errors.Is(err, errLocked) {
			return nil, err
		}
		if time.Now().After(until) {
			return nil, fmt.Errorf("another bench uses %s. Stop it, or choose another folder with --data", dir)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
