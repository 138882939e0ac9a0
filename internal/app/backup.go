package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"filippo.io/age"

	"hylostat.example/internal/backup"
	"hylostat.example/internal/cli"
)

func makeBackup(ctx context.Context, o cli.BackupOptions) (backup.Manifest, error) {
	ctx, stop := untilInterrupted(ctx)
	defer stop()
	to, err := backup.RecipientsOf(o.Recipients)
	if err != nil {
		return backup.Manifest{}, err
	}
	return backup.Make(ctx, backup.Request{Data: o.Dir, File: o.File, Recipients: to, Tool: Version, Now: time.Now()})
}

func restore(ctx context.Context, o cli.BackupOptions) (r backup.Restored, err error) {
	ctx, stop := untilInterrupted(ctx)
	defer stop()
	keepToUs()
	var keys []age.Identity
	if o.Key != "" {
		if keys, err = backup.IdentitiesOf(o.Key); err != nil {
			return r, err
		}
	}
	replica := strings.Contains(o.File, "://")
	if !replica { // looked for before the folder is made
		info, err := os.Stat(o.File)
		if err != nil {
			return r, fmt.Errorf("there is no backup at %s: %w", o.File, errors.Unwrap(err))
		}
		replica = info.IsDir()
	}
	lock, err := lockDir(o.Dir)
	if err != nil {
		return r, err
	}
	defer func() { err = errors.Join(err, lock.Close()) }()
	if replica {
		return backup.RestoreReplica(ctx, o.File, o.Dir)
	}
	return backup.Restore(ctx, o.File, o.Dir, keys)
}

func examineShop(ctx context.Context, dir string) (backup.Examination, error) {
	ctx, stop := untilInterrupted(ctx)
	defer stop()
	return backup.Examine(ctx, dir, time.Now())
}
