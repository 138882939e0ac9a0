package backup

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
)

// Plan is that a service makes backups by itself.
type Plan struct {
	Folder     string
	Every      time.Duration
	Keep       int // the newest so many; those before are removed
	Recipients []age.Recipient
}

// retryAfter is after how long a backup that failed is tried again, at most.
const retryAfter = time.Hour

// Run makes backups of a data folder until the context ends. The first is made when the newest one in the folder is old enough, so that a
// service that is restarted often makes no more than one that is not.
func (p Plan) Run(ctx context.Context, data, tool string, log *slog.Logger) {
	for {
		wait, err := p.due(ctx, data, time.Now())
		if err == nil && wait <= 0 {
			wait, err = p.Every, p.once(ctx, data, tool, log)
		}
		if err != nil && ctx.Err() == nil {
			log.Error("a backup was not made; it is tried again", "error", err)
			wait = min(p.Every, retryAfter)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// prefix begins the names of a shop's backups.
func prefix(ctx context.Context, data string) (string, error) {
	id, _, err := shopOf(ctx, filepath.Join(data, "shop.db"), time.Now())
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("hylostat-%.8s-", id), nil
}

// nameTime is how the moment of a backup stands in its name: names sort as the moments do.
const nameTime = "20060102T150405Z"

// made lists a shop's backups in the folder, oldest first.
func (p Plan) made(prefix string) (names []string, err error) {
	entries, err := os.ReadDir(p.Folder)
	if err != nil {
		return nil, fmt.Errorf("the folder of the backups: %w", err)
	}
	for _, e := range entries {
		if _, ok := momentOf(e.Name(), prefix); ok && e.Type().IsRegular() {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	return names, nil
}

func momentOf(name, prefix string) (time.Time, bool) {
	rest, ours := strings.CutPrefix(name, prefix)
	stamp, ending, dotted := strings.Cut(rest, ".")
	at, err := time.Parse(nameTime, stamp)
	return at, ours && dotted && err == nil && (ending == "tar.zst" || ending == "tar.zst.age")
}

// due is how long it is until the next backup.
func (p Plan) due(ctx context.Context, data string, now time.Time) (time.Duration, error) {
	if err := os.MkdirAll(p.Folder, 0o700); err != nil {
		return 0, fmt.Errorf("making the folder of the backups: %w", err)
	}
	begin, err := prefix(ctx, data)
	if err != nil {
		return 0, err
	}
	names, err := p.made(begin)
	if err != nil || len(names) == 0 {
		return 0, err
	}
	last, _ := momentOf(names[len(names)-1], begin)
	return min(last.Add(p.Every).Sub(now), p.Every), nil // a clock that was set back makes nobody wait for ever
}

// Last is when the newest backup in the folder was made; zero: there is none, or the folder cannot be read.
func (p Plan) Last(ctx context.Context, data string) time.Time {
	begin, err := prefix(ctx, data)
	if err != nil {
		return time.Time{}
	}
	names, err := p.made(begin)
	if err != nil || len(names) == 0 {
		return time.Time{}
	}
	at, _ := momentOf(names[len(names)-1], begin)
	return at
}

func (p Plan) once(ctx context.Context, data, tool string, log *slog.Logger) error {
	begin, err := prefix(ctx, data)
	if err != nil {
		return err
	}
	now := time.Now()
	name := begin + now.UTC().Format(nameTime) + ".tar.zst"
	if len(p.Recipients) > 0 {
		name += ".age"
	}
	m, err := Make(ctx, Request{
		Data: data, File: filepath.Join(p.Folder, name), Recipients: p.Recipients, Tool: tool, Now: now,
	})
	if err != nil {
		return err
	}
	log.Info("a backup was made", "file", filepath.Join(p.Folder, name), "audit", m.Audit.Hash, "rows", m.Audit.Rows)
	names, err := p.made(begin)
	if err != nil {
		return err
	}
	for _, old := range names[:max(0, len(names)-p.Keep)] {
		if err := os.Remove(filepath.Join(p.Folder, old)); err != nil {
			return fmt.Errorf("removing an old backup: %w", err)
		}
	}
	return nil
}
