package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"hylostat.example/internal/bench"
	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/bench/worker"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/protocol/wire"
	"hylostat.example/internal/sqlite"
)

// Bench is a bench of this machine.
type Bench struct {
	Name   string // before the slash of its bays; the shop's own has none
	Title  string // what people call it
	Factor float64
	Source device.Source // nil: it runs apart, and nowhere else
	Rework bool
	Feed   sweep.Feed
	Apart  *Apart // it runs in a process of its own; nil: in this one
}

// openBench opens the journal of a bench in its folder and makes the bench. The caller closes the journal.
func openBench(ctx context.Context, o Bench, dir string, log *slog.Logger, how sqlite.How) (*bench.Bench, *journal.Journal, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, nil, fmt.Errorf("making the folder of %s: %w", o.Title, err)
	}
	j, err := journal.OpenHow(ctx, filepath.Join(dir, "bench.db"), how)
	if err != nil {
		return nil, nil, err
	}
	b, err := makeBench(ctx, o, dir, log, j)
	if err != nil {
		return nil, nil, errors.Join(err, j.Close())
	}
	return b, j, nil
}

func makeBench(ctx context.Context, o Bench, dir string, log *slog.Logger, j *journal.Journal) (*bench.Bench, error) {
	return bench.New(ctx, bench.Options{
		Title: o.Title, Factor: o.Factor, Feed: o.Feed,
		Machine: worker.Machine{Name: o.Name, Tool: Version, Source: o.Source, Journal: j, Folder: dir, AllowRework: o.Rework, Log: log},
	})
}

// begins is how long a bench that was started waits for the shop, which may know more of its reworks than the journal, before it goes on
// without.
const begins = 10 * time.Second

// awaited is a bench that notices when the shop works with it.
type awaited struct {
	*bench.Bench
	once  sync.Once
	asked chan struct{} // closed when the shop has asked for reports: whatever it has to say of before, it has said
}

// Reports implements protocol.Bench.
func (a *awaited) Reports(ctx context.Context) ([]protocol.Report, error) {
	a.once.Do(func() { close(a.asked) })
	return a.Bench.Reports(ctx)
}

// work runs a bench until the context ends, or answer does, which has the bench answer its shop.
func work(ctx context.Context, b *bench.Bench, answer func(ctx context.Context, b protocol.Bench) error) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	a := &awaited{Bench: b, asked: make(chan struct{})}
	ran := make(chan error, 1)
	go func() {
		select {
		case <-ctx.Done():
		case <-a.asked:
		case <-time.After(begins):
		}
		ran <- b.Run(ctx)
	}()
	err := answer(ctx, a)
	end()
	return errors.Join(err, <-ran)
}

// local is a bench that this service starts, and starts again when it ends.
type local struct {
	Bench
	dir string
	how sqlite.How
	log *slog.Logger

	mu      sync.Mutex // guards what follows
	journal *journal.Journal
	bench   *wire.Bench
	ended   <-chan error // what runs it has
	damage  error
}

// open looks whether the journal can be used. It stays open for a bench of this process.
func (l *local) open(ctx context.Context) error {
	if err := os.MkdirAll(l.dir, 0o700); err != nil {
		return fmt.Errorf("making the folder of %s: %w", l.Title, err)
	}
	j, err := journal.OpenHow(ctx, filepath.Join(l.dir, "bench.db"), l.how)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.damage = nil
	if damaged, ok := errors.AsType[*sqlite.DamagedError](err); ok {
		l.damage = damaged
	}
	if err != nil {
		return err
	}
	if l.Apart != nil {
		return j.Close()
	}
	l.journal = j
	return nil
}

// start starts the bench and meets it. The journal is open, or was.
func (l *local) start(ctx context.Context) (err error) {
	var conn net.Conn
	var ended <-chan error
	if l.Apart != nil {
		conn, ended, err = l.startApart()
		if _, kept := errors.AsType[*fs.PathError](err); kept && l.Source != nil { // simulated drives do not need it
			l.log.Warn("this system does not let the program start itself: the bench runs in the service's process", "error", err)
			l.Apart = nil
			if err = l.open(ctx); err == nil {
				conn, ended, err = l.startHere(ctx)
			}
		}
	} else {
		conn, ended, err = l.startHere(ctx)
	}
	if err != nil {
		return fmt.Errorf("starting %s: %w", l.Title, err)
	}
	meeting, met := context.WithTimeout(ctx, time.Minute) // a journal may be long to look through
	defer met()
	b, err := wire.Meet(meeting, conn)
	l.mu.Lock()
	l.bench, l.ended = b, ended
	l.mu.Unlock()
	if err != nil {
		_ = conn.Close()
		return fmt.Errorf("starting %s: %w", l.Title, errors.Join(err, l.end()))
	}
	return nil
}

// startHere runs the bench in this process.
func (l *local) startHere(ctx context.Context) (net.Conn, <-chan error, error) {
	j := l.journal
	b, err := makeBench(ctx, l.Bench, l.dir, l.log, j)
	if err != nil {
		return nil, nil, err
	}
	ours, its := net.Pipe()
	ended := make(chan error, 1)
	go func() {
		err := work(ctx, b, func(ctx context.Context, b protocol.Bench) error { return wire.Answer(ctx, its, b, Version) })
		ended <- errors.Join(err, j.Close())
	}()
	return ours, ended, nil
}

// ends is how long a bench has for its end: a drive may hold a command.
const ends = 6 * time.Second

// end ends the bench, if it runs, and gives what it ended with.
func (l *local) end() error {
	l.mu.Lock()
	b, ended, j := l.bench, l.ended, l.journal
	l.bench, l.ended, l.journal = nil, nil, nil
	l.mu.Unlock()
	switch {
	case b != nil:
		_ = b.Close()
	case ended == nil && j != nil: // it has not been started
		return j.Close()
	}
	if ended == nil {
		return nil
	}
	select {
	case err := <-ended:
		return err
	case <-time.After(ends):
		return errors.New("a drive holds a command; ending without it")
	}
}

// keep attends the bench until the context ends. When the bench ends by itself, it is started again.
func (l *local) keep(ctx context.Context, join, attend func(ctx context.Context, b protocol.Bench) error) error {
	pause := time.Second
	for {
		began := time.Now()
		err := errors.Join(attend(ctx, l.bench), l.end())
		if time.Since(began) > time.Minute {
			pause = time.Second
		}
		for ctx.Err() == nil {
			l.log.Error("a bench has ended; it is started again", "bench", l.Title, "after", pause, "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(pause):
			}
			pause = min(2*pause, time.Minute)
			if err = l.again(ctx, join); err == nil {
				break
			}
		}
		if ctx.Err() != nil {
			return errors.Join(l.end(), unless(ctx, err))
		}
	}
}

// unless is an error that the end of a context did not cause.
func unless(ctx context.Context, err error) error {
	if errors.Is(err, protocol.ErrGone) || errors.Is(err, ctx.Err()) {
		return nil
	}
	return err
}

// again starts the bench again: its journal is there, and of the shop's past, as it was.
func (l *local) again(ctx context.Context, join func(ctx context.Context, b protocol.Bench) error) error {
	l.how.Kept, l.how.WithoutLog = true, false
	if err := l.open(ctx); err != nil {
		return err
	}
	if err := l.start(ctx); err != nil {
		return err
	}
	if err := join(ctx, l.bench); err != nil {
		return errors.Join(err, l.end())
	}
	return nil
}

// Examine implements examined.
func (l *local) Examine(ctx context.Context) error {
	l.mu.Lock()
	j := l.journal
	l.mu.Unlock()
	if j == nil { // its own process does
		return nil
	}
	return j.Examine(ctx)
}

// Damaged implements examined.
func (l *local) Damaged() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.damage != nil || l.journal == nil {
		return l.damage
	}
	return l.journal.Damaged()
}
