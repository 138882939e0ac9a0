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
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/shop"
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
	Bench  string
	Factor float64 // of the source's time
	Source device.Source
	Rework bool       // the bench's own consent that drives are written to
	Feed   bench.Feed // how the bench finds out how many sweeps it feeds
	Log    *slog.Logger
	// Opened is called when the store is open and before anything runs; the demo fills the store here.
	Opened func(ctx context.Context, s *shop.Shop, st *store.Store) error
	// Ready is called with the address when requests are answered.
	Ready func(address string)
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

	j, err := journal.Open(ctx, filepath.Join(o.Dir, "bench.db"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, j.Close()) }()
	st, err := store.Open(ctx, filepath.Join(o.Dir, "shop.db"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	b, err := bench.New(ctx, bench.Options{Name: o.Bench, Tool: Version, Factor: o.Factor, Source: o.Source, Journal: j, Folder: o.Dir, AllowRework: o.Rework, Feed: o.Feed, Log: o.Log})
	if err != nil {
		return err
	}
	s, err := shop.New(ctx, o.Shop, st, b, policy.Default, o.Source.Clock(), o.Log)
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
	return run(ctx, o, listener, handler, b, s)
}

// run keeps the parts going until the context ends or one of them fails; then all end.
func run(ctx context.Context, o Options, listener net.Listener, handler http.Handler, b *bench.Bench, s *shop.Shop) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	parts := make(chan error, 3)
	web := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return ctx },
		ErrorLog:    slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn),
	}
	go func() { parts <- b.Run(ctx) }()
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
	running := 3
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
