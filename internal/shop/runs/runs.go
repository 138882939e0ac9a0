// Package runs has benches carry out checks, sweeps and reworks, keeps how they stand, and starts what is planned. The benches' journals
// are the authority on runs; the table of them here is a projection of their reports. Start with Check.
package runs

import (
	"context"
	"sync"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
)

// Conductor is the use case.
type Conductor struct {
	books  *shop.Books
	store  Store
	judge  *judge.Judge
	record *record.Keeper
	fleet  *fleet.Fleet

	mu      sync.Mutex                                // guards what follows
	live    map[int64]check.Run                       // progress of open runs, fresher than the store
	ribbons map[int64]*ribbon                         // of open runs whose sweep goes on
	watched map[int64]map[chan protocol.Progress]bool // who follows a run
}

// New makes a conductor over a store.
func New(books *shop.Books, store Store, judge *judge.Judge, keeper *record.Keeper, benches *fleet.Fleet) *Conductor {
	return &Conductor{
		books: books, store: store, judge: judge, record: keeper, fleet: benches,
		live: map[int64]check.Run{}, ribbons: map[int64]*ribbon{}, watched: map[int64]map[chan protocol.Progress]bool{},
	}
}

// Reader is what it reads.
type Reader interface {
	judge.Reader
	Bays(ctx context.Context) ([]protocol.Bay, error)
	DriveByKey(ctx context.Context, key drive.Key) (shop.Drive, error)
	IntakeByID(ctx context.Context, id int64) (shop.Intake, error)
	Lot(ctx context.Context, id int64) (shop.Lot, error)
	LotOpen(ctx context.Context) (shop.Lot, error)
	Plan(ctx context.Context, bench string) (check.Plan, error)
	Run(ctx context.Context, id int64) (check.Run, error)
}

// Tx is one change of the storage: all of it, or nothing.
type Tx interface {
	Reader
	judge.Tx
	AddSweep(ctx context.Context, s shop.Sweep, d check.Found) error // one that is there already stays as it is
	NewRun(ctx context.Context) (int64, error)                       // a number no run has had
	SaveIntake(ctx context.Context, i *shop.Intake) error
	SavePlan(ctx context.Context, bench string, p check.Plan) error
	SaveRun(ctx context.Context, r check.Run) error // its bench's report of it: the number of another run is refused
}

// Store is the storage it needs.
type Store interface {
	Reader
	Write(ctx context.Context, f func(tx Tx) error) error
}
