// Package record keeps what drives say of themselves: it stores readings as they came, derives signals and changes, takes record
// files in and gives them out, and shows a drive over its life. What follows for its verdict is package judge's. Start with Arrived.
package record

import (
	"context"
	"sync"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/judge"
)

// Keeper is the use case.
type Keeper struct {
	books *shop.Books
	store Store
	judge *judge.Judge
	fleet *fleet.Fleet

	mu      sync.Mutex              // guards waiting
	waiting map[string]chan brought // orders whose reading somebody waits for
}

// New makes a keeper over a store.
func New(books *shop.Books, store Store, judge *judge.Judge, benches *fleet.Fleet) *Keeper {
	return &Keeper{books: books, store: store, judge: judge, fleet: benches, waiting: map[string]chan brought{}}
}

// Reader is what it reads.
type Reader interface {
	KnownKeys(ctx context.Context) ([]shop.KnownKey, error)
	judge.Reader
	AllMoments(ctx context.Context, driveID int64) ([]shop.Moment, error) // those of the readings that do not count among them
	Bays(ctx context.Context) ([]protocol.Bay, error)
	DriveByKey(ctx context.Context, key drive.Key) (shop.Drive, error)
	FoldedTimes(ctx context.Context, driveID int64) (map[int][]time.Time, error) // by the number of the reading before
	Stretches(ctx context.Context, driveID int64, before time.Time) ([]shop.Stretch, error)
	ToldReadings(ctx context.Context, driveID int64) ([]int, error)                 // at which alerts were raised
	Unfolded(ctx context.Context, after int64, limit int) (drives []int64, _ error) // that have stretches
	DrivesBySerial(ctx context.Context, serial string) ([]shop.Drive, error)
	DrivesBySuffix(ctx context.Context, ending string) ([]shop.Drive, error)
	HasReading(ctx context.Context, of drive.Key, at time.Time, report string) (bool, error)
	List(ctx context.Context, q shop.Query) ([]shop.Listed, error)
	Volumes(ctx context.Context, driveID int64) (protocol.Volumes, error) // the newest
	VolumesAt(ctx context.Context, driveID int64) (time.Time, error)      // when that was; zero: nobody has looked
}

// Tx is one change of the storage: all of it, or nothing.
type Tx interface {
	Reader
	judge.Tx
	AddChange(ctx context.Context, driveID int64, c shop.Change) error
	AddReading(ctx context.Context, r *shop.Reading, signals signal.Set) error // gives it its Seq
	AddVolumes(ctx context.Context, driveID int64, v protocol.Volumes) error   // one that is there already stays as it is
	Fold(ctx context.Context, driveID int64, first int, seqs []int) error      // of the stretch that begins with first
	ForgetChanges(ctx context.Context, driveID int64) error
	SaveDrive(ctx context.Context, d *shop.Drive) error // a new one gets its ID
	SaveSignals(ctx context.Context, driveID int64, seq, decoder int, signals signal.Set) error
	// StandReading says whether a reading counts, and of which time.
	StandReading(ctx context.Context, driveID int64, seq int, aside shop.Aside, at time.Time) error
	SaveKey(ctx context.Context, k shop.KnownKey) error
}

// Store is the storage it needs.
type Store interface {
	Reader
	Write(ctx context.Context, f func(tx Tx) error) error
}
