package backup

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/benbjohnson/litestream"
	"github.com/benbjohnson/litestream/file"
	_ "github.com/benbjohnson/litestream/s3" // for s3://
	"github.com/benbjohnson/litestream/sftp"

	"hylostat.example/internal/sqlite"
	"hylostat.example/internal/store"
)

// How often what was written is copied, and how it is kept: in files of each moment for five minutes, of each minute and of each hour for a
// day after they are in a snapshot.
const (
	replicaEvery     = 200 * time.Millisecond
	replicaSnapshots = 24 * time.Hour
	replicaKeeps     = 48 * time.Hour
	replicaEnd       = 5 * time.Second // how long the end of a service waits for what is not copied yet
)

// clientOf is where a database's replica is: a folder, an SFTP server's or a bucket's.
func clientOf(to, database string) (litestream.ReplicaClient, error) {
	name := strings.TrimSuffix(filepath.ToSlash(database), ".db")
	if !strings.Contains(to, "://") {
		dir, err := filepath.Abs(to)
		if err != nil {
			return nil, err
		}
		return file.NewReplicaClient(filepath.Join(dir, filepath.FromSlash(name))), nil
	}
	u, err := url.Parse(to)
	if err != nil {
		return nil, fmt.Errorf("the replica's address: %w", err)
	}
	files := map[string]string{}
	if u.Scheme == "sftp" { // which files hold the key to come in by, and the server's own
		q := u.Query()
		for _, name := range []string{"key", "host-key"} {
			if files[name] = q.Get(name); files[name] == "" {
				return nil, fmt.Errorf("the replica's address lacks %s=FILE: sftp://NAME@HOST/FOLDER?key=FILE&host-key=FILE", name)
			}
			q.Del(name)
		}
		u.RawQuery = q.Encode()
	}
	u.Path = path.Join("/", u.Path, name)
	client, err := litestream.NewReplicaClientFromURL(u.String())
	if err != nil {
		return nil, fmt.Errorf("the replica's address: %w", err)
	}
	if c, ok := client.(*sftp.ReplicaClient); ok {
		server, err := os.ReadFile(files["host-key"])
		if err != nil {
			return nil, fmt.Errorf("the key of the replica's server: %w", err)
		}
		c.KeyPath, c.HostKey = files["key"], string(server)
	}
	return client, nil
}

// named is a replica's place without the password in it.
func named(place string) string {
	if u, err := url.Parse(place); err == nil && u.User != nil {
		return u.Redacted()
	}
	return place
}

// Replica copies what is written to a shop's databases to another place, as it is written.
type Replica struct {
	store *litestream.Store
	log   *slog.Logger
}

// Replicate begins to copy the databases of a data folder, which are open. Close it before they are closed.
func Replicate(ctx context.Context, data, to string, log *slog.Logger) (*Replica, error) {
	names, err := Databases(data)
	if err != nil {
		return nil, err
	}
	quiet := slog.New(quieter{log.Handler()})
	var all []*litestream.DB
	for _, name := range names {
		client, err := clientOf(to, name)
		if err != nil {
			return nil, err
		}
		db := litestream.NewDB(filepath.Join(data, name))
		db.MonitorInterval, db.BusyTimeout = replicaEvery, 5*time.Second
		db.Replica = litestream.NewReplicaWithClient(db, client)
		db.Replica.SyncInterval, db.Replica.AutoRecoverEnabled = replicaEvery, true
		if c, ok := client.(*file.ReplicaClient); ok {
			c.Replica = db.Replica
		}
		all = append(all, db)
	}
	s := litestream.NewStore(all, litestream.CompactionLevels{
		{Level: 0}, {Level: 1, Interval: 30 * time.Second}, {Level: 2, Interval: 5 * time.Minute}, {Level: 3, Interval: time.Hour},
	})
	s.SnapshotInterval, s.SnapshotRetention, s.Logger = replicaSnapshots, replicaKeeps, quiet
	for _, db := range all {
		db.SetLogger(quiet.With("database", filepath.Base(db.Path())))
		db.ShutdownSyncTimeout = replicaEnd
	}
	if err := s.Open(ctx); err != nil {
		return nil, fmt.Errorf("beginning to copy to %s: %w", named(to), err)
	}
	return &Replica{s, log}, nil
}

// quieter passes on what matters of the library's own log.
type quieter struct{ slog.Handler }

func (q quieter) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && q.Handler.Enabled(ctx, l)
}

func (q quieter) WithAttrs(all []slog.Attr) slog.Handler { return quieter{q.Handler.WithAttrs(all)} }

func (q quieter) WithGroup(name string) slog.Handler { return quieter{q.Handler.WithGroup(name)} }

// Sync copies what is not copied yet, and returns when it is there.
func (r *Replica) Sync(ctx context.Context) error {
	var err error
	for _, db := range r.store.DBs() {
		if one := db.SyncAndWait(ctx); one != nil {
			err = errors.Join(err, fmt.Errorf("copying %s: %w", filepath.Base(db.Path()), one))
		}
	}
	return err
}

// Behind is how long ago the last of the databases was copied as it stood.
func (r *Replica) Behind(now time.Time) time.Duration {
	var behind time.Duration
	for _, db := range r.store.DBs() {
		behind = max(behind, now.Sub(db.LastSuccessfulSyncAt()))
	}
	return behind
}

// EmptyLog empties the write-ahead log of a database, which nobody else can while it is copied.
func (r *Replica) EmptyLog(ctx context.Context, name string) error {
	for _, db := range r.store.DBs() {
		if filepath.Base(db.Path()) == name {
			if err := db.Checkpoint(ctx, "TRUNCATE"); err != nil {
				return fmt.Errorf("emptying the log of %s: %w", name, err)
			}
		}
	}
	return nil
}

// Close copies what is left, if the place answers, and ends the copying.
func (r *Replica) Close() error {
	ctx, end := context.WithTimeout(context.Background(), 2*replicaEnd)
	defer end()
	if err := r.store.Close(ctx); err != nil {
		return fmt.Errorf("ending the copying to the replica: %w", err)
	}
	return nil
}

// RestoreReplica brings a shop back from its replica, as it was a moment before it was lost. The caller holds the folder's lock.
func RestoreReplica(ctx context.Context, from, data string) (Restored, error) {
	var m Manifest
	r, err := BringBack(ctx, data, func(dir string) error {
		if err := fetch(ctx, from, dir, "shop.db"); err != nil {
			return err
		}
		benches, err := benchesOf(ctx, filepath.Join(dir, "shop.db"))
		if err != nil {
			return err
		}
		for _, bench := range benches {
			if err := fetch(ctx, from, dir, filepath.Join(bench, "bench.db")); err != nil && !isNone(err) {
				return err
			}
		}
		m.Shop, m.Audit, err = shopOf(ctx, filepath.Join(dir, "shop.db"), time.Now())
		if info, wrong := os.Stat(filepath.Join(dir, "shop.db")); wrong == nil {
			m.Made = info.ModTime()
		}
		return err
	})
	r.Manifest = m
	return r, err
}

// NoReplica says that nothing of a database was ever copied to a place.
type NoReplica struct{ Place, Database string }

func (e *NoReplica) Error() string {
	return fmt.Sprintf("there is no replica of %s in %s. Give the place that serve was given by --replica", e.Database, e.Place)
}

func isNone(err error) bool {
	_, none := errors.AsType[*NoReplica](err)
	return none
}

// fetch makes a database of its replica.
func fetch(ctx context.Context, from, dir, name string) error {
	client, err := clientOf(from, name)
	if err != nil {
		return err
	}
	to := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	o := litestream.NewRestoreOptions()
	o.OutputPath = to
	if err := litestream.NewReplicaWithClient(nil, client).Restore(ctx, o); err != nil {
		if errors.Is(err, litestream.ErrTxNotAvailable) {
			return &NoReplica{Place: named(from), Database: name}
		}
		return fmt.Errorf(
			"fetching %s from %s: %w. See whether that place answers; if a part of the replica is gone, restore the last backup", name,
			named(from), err,
		)
	}
	return errors.Join(os.Chmod(to, 0o600), sqlite.MarkAtRest(to))
}

// benchesOf gives the names of the benches of a shop.
func benchesOf(ctx context.Context, path string) (names []string, err error) {
	o, end, err := store.Look(path)
	if err != nil {
		return nil, err
	}
	defer end()
	taken, err := o.Taken(ctx)
	for name := range taken {
		names = append(names, name)
	}
	return names, err
}
