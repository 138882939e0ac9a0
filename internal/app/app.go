// Package app wires the rooms together: it is the only one that knows them all. Start with Serve.
package app

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api"
	"hylostat.example/internal/bench"
	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/bench/worker"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/sqlite"
	"hylostat.example/internal/store"
)

// Version is the program's version.
const Version = "0.1.0"

// Options say what to serve.
type Options struct {
	Dir    string // where the databases are
	Listen string // host:port
	Hosts  []string
	Shop   string
	Bench  string  // what people call the shop's own bench
	Factor float64 // of the source's time
	Source device.Source
	Rework bool       // the bench's own consent that drives are written to
	Feed   sweep.Feed // how the bench finds out how many sweeps it feeds
	Others []Bench    // benches in the same process beside the shop's own
	Rejoin bool       // go on with databases that are not of the same past
	Log    *slog.Logger
	Gates  []sqlite.Gate // at every commit of every database
	// Opened is called when the store is open and before anything runs; the demo fills the store here.
	Opened func(ctx context.Context, s *whole.Shop, st *store.Store) error
	// Ready is called with the address when requests are answered.
	Ready func(address string)
}

// Bench is a bench beside the shop's own.
type Bench struct {
	Name   string // before the slash of its bays
	Title  string // what people call it
	Factor float64
	Source device.Source
	Rework bool
	Feed   sweep.Feed
}

// openBench opens the journal of a bench in its folder and makes the bench. The caller closes the journal.
func openBench(ctx context.Context, o Bench, dir string, log *slog.Logger, gates ...sqlite.Gate) (*bench.Bench, *journal.Journal, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, nil, fmt.Errorf("making the folder of %s: %w", o.Title, err)
	}
	j, err := journal.Open(ctx, filepath.Join(dir, "bench.db"), gates...)
	if err != nil {
		return nil, nil, err
	}
	b, err := bench.New(ctx, bench.Options{
		Title: o.Title, Factor: o.Factor, Feed: o.Feed,
		Machine: worker.Machine{Name: o.Name, Tool: Version, Source: o.Source, Journal: j, Folder: dir, AllowRework: o.Rework, Log: log},
	})
	if err != nil {
		return nil, nil, errors.Join(err, j.Close())
	}
	return b, j, nil
}

// Serve runs the service until the context ends.
func Serve(ctx context.Context, o Options) (err error) {
	lock, err := lockDir(o.Dir)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", o.Listen)
	if err != nil {
		return fmt.Errorf("listening on %s: %w. Choose another with --listen", o.Listen, err)
	}
	defer func() { _ = listener.Close() }()

	var benches []*bench.Bench
	var all []protocol.Bench
	for _, one := range append([]Bench{{Title: o.Bench, Factor: o.Factor, Source: o.Source, Rework: o.Rework, Feed: o.Feed}}, o.Others...) {
		b, j, wrong := openBench(ctx, one, filepath.Join(o.Dir, one.Name), o.Log, o.Gates...)
		if wrong != nil {
			return wrong
		}
		defer func() { err = errors.Join(err, j.Close()) }()
		benches, all = append(benches, b), append(all, b)
	}
	together, err := fleet.New(o.Log, all...)
	if err != nil {
		return err
	}
	st, err := store.Open(ctx, filepath.Join(o.Dir, "shop.db"), o.Gates...)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	if err := together.Join(ctx, st, o.Rejoin); err != nil {
		return err
	}
	s, err := whole.New(ctx, o.Shop, st.Storage(), together, policy.Default, o.Source.Clock(), o.Log)
	if err != nil {
		return err
	}
	if o.Opened != nil {
		if err := o.Opened(ctx, s, st); err != nil {
			return err
		}
	}
	handler, err := api.New(api.Options{Shop: s, Access: access.New(st, time.Now), Version: Version, Hosts: o.Hosts, Log: o.Log})
	if err != nil {
		return err
	}
	return run(ctx, o, listener, handler, benches, s)
}

// run keeps the parts going until the context ends or one of them fails; then all end.
func run(ctx context.Context, o Options, listener net.Listener, handler http.Handler, benches []*bench.Bench, s *whole.Shop) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	running := len(benches) + 2
	parts := make(chan error, running)
	web := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return ctx },
		ErrorLog:    slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn),
	}
	for _, b := range benches {
		go func() { parts <- b.Run(ctx) }()
	}
	go func() { parts <- s.Run(ctx) }()
	go func() {
		err := web.Serve(listener)
		if errors.Is(err, http.ErrServerClosed) {
			err = nil
		}
		parts <- err
	}()
	if o.Ready != nil {
		o.Ready("http://" + listener.Addr().String())
	}
	var failed error
	select {
	case <-ctx.Done():
	case failed = <-parts:
		running--
	}
	cancel(failed)
	ending, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer done()
	if err := web.Shutdown(ending); err != nil {
		_ = web.Close()
	}
	for ; running > 0; running-- {
		select {
		case err := <-parts:
			failed = errors.Join(failed, err)
		case <-ending.Done():
			return errors.Join(failed, errors.New("a drive holds a command; ending without it"))
		}
	}
	return failed
}

// lockDir keeps two services from using one folder.
func lockDir(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the data folder: %w. Choose another with --data", err)
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the data folder %s: %w. Choose another with --data", dir, err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("another service uses %s. Stop it, or choose another folder with --data", dir), f.Close())
	}
	return f, nil
}
