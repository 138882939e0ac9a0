package app

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"

	"hylostat.example/internal/api"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/sqlite"
)

// examineFor is how long a start waits for a database to be looked through; what is left is looked through while the service runs.
const examineFor = time.Second

// examined is a database that can be looked through while it is used.
type examined interface {
	Examine(ctx context.Context) error
	Damaged() error
}

// damaged gives what is known to be damaged.
func damaged(all []examined) error {
	for _, one := range all {
		if err := one.Damaged(); err != nil {
			return err
		}
	}
	return nil
}

// examineBehind looks through what the start had no time for, then through the audit: whether each row follows from the one before.
func examineBehind(ctx context.Context, all []examined, s *whole.Shop, log *slog.Logger) {
	for _, one := range all {
		if err := one.Examine(ctx); err != nil {
			log.Error("a database is damaged: nothing is served any more", "error", err)
			return
		}
	}
	v, err := s.VerifyAudit(ctx)
	switch {
	case ctx.Err() != nil:
	case err != nil:
		log.Error("reading the audit", "error", err)
	case v.Bad != 0:
		log.Error("the audit was changed: a row does not follow from the one before", "row", v.Bad)
	}
}

// tellHead puts the head of the audit into the log, which is kept apart from the records, at the start and once a day.
func tellHead(ctx context.Context, s *whole.Shop, log *slog.Logger) {
	for {
		h, err := s.Head(ctx)
		switch key, wrong := h.SignedBy(); {
		case ctx.Err() != nil:
			return
		case err != nil || wrong != nil:
			log.Error("signing the head of the audit", "error", errors.Join(err, wrong))
		default:
			log.Info(
				"the head of the audit", "row", h.Rows, "hash", h.Hash, "key", key, "signature",
				base64.StdEncoding.EncodeToString(h.Signature.Value),
			)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(24 * time.Hour):
		}
	}
}

// serveDamage answers every request with what is damaged and what to do, until the context ends. No bench works, and nothing is written.
func serveDamage(ctx context.Context, o Options, found *sqlite.DamagedError) error {
	o.Log.Error("the records are damaged: nothing is served but this", "error", found)
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", o.Listen)
	if err != nil {
		return errors.Join(found, fmt.Errorf("listening on %s: %w", o.Listen, err))
	}
	web, err := webServer(ctx, o, api.OfDamage(found, o.Log))
	if err != nil {
		return errors.Join(found, err, listener.Close())
	}
	context.AfterFunc(ctx, func() { _ = web.Close() })
	tellManager(o.Log, daemon.SdNotifyReady)
	if o.Damaged != nil {
		o.Damaged(scheme(web) + listener.Addr().String())
	}
	if err := serveOn(web, listener); !errors.Is(err, http.ErrServerClosed) {
		return errors.Join(found, err)
	}
	return found
}
