package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"

	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/cli"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/protocol/wire"
	"hylostat.example/internal/sqlite"
)

// serveBench runs the bench of a service that somebody else started, which may come and go.
func serveBench(ctx context.Context, o cli.BenchOptions) error {
	ctx, stop := untilInterrupted(ctx)
	defer stop()
	Settle(ctx)
	log, err := logAs(o.Log)
	if err != nil {
		return err
	}
	log.Info("the bench starts", "version", Version, "bench", o.Title, "journal", o.Dir, "socket", o.Socket, "writes", o.Rework)
	defer func() { log.Info("the bench has stopped") }()
	users, err := wire.UsersOf(o.Users...)
	if err != nil {
		return err
	}
	source, err := machineSource(o.Images, log)
	if err != nil {
		return err
	}
	err = runBench(
		ctx, Bench{Title: o.Title, Factor: 1, Source: source, Rework: o.Rework, Feed: sweep.RealFeed}, o.Dir, log,
		sqlite.How{Kept: true, WithoutLog: o.Rejoin, Examined: examineFor},
		func(ctx context.Context, b protocol.Bench) error {
			tellManager(log, daemon.SdNotifyReady)
			knock(ctx, o.Socket, users, b, log)
			return nil
		},
	)
	if missing, ok := errors.AsType[*sqlite.MissingError](err); ok && !missing.WithLog {
		return fmt.Errorf(
			"%w. At the first start, make it with \"hylostat bench create --data %s\"; if it is lost, bring it back", err, o.Dir,
		)
	}
	return err
}

// createBench makes the journal of a bench in a folder that has none.
func createBench(ctx context.Context, dir string) (err error) {
	lock, err := lockBench(ctx, dir)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, lock.Close()) }()
	path := filepath.Join(dir, "bench.db")
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return errors.Join(err, fmt.Errorf("there is a journal in %s already; nothing was changed", dir))
	}
	j, err := journal.Open(ctx, path)
	if err != nil {
		return err
	}
	return j.Close()
}

// waitQuietly is how long a service may take for its start before that is said.
const waitQuietly = 30 * time.Second

// knock has a bench answer at the socket of its service, again whenever that is gone, until the context ends.
func knock(ctx context.Context, path string, users wire.Users, b protocol.Bench, log *slog.Logger) {
	told, began := "", time.Now()
	for pause := time.Second; ctx.Err() == nil; pause = min(2*pause, 30*time.Second) {
		conn, err := wire.Dial(ctx, path, users)
		if err == nil {
			log.Info("connected to the service", "socket", path)
			told, began = "", time.Now()
			err = wire.Answer(ctx, conn, b, Version)
			if time.Since(began) > time.Minute {
				pause = time.Second
			}
			if err == nil && ctx.Err() == nil {
				err = errors.New("the service closed the connection; its log may say why")
			}
		}
		if ctx.Err() != nil {
			return
		}
		nobody := errors.Is(err, wire.ErrNobody) && time.Since(began) < waitQuietly // it is being started
		if said := err.Error(); said != told && !nobody {                           // once, not with every try
			log.Error("the service is not connected; what the bench finds waits in its journal", "socket", path, "error", err)
			told = said
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}
