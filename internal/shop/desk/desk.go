// Package desk is where drives come and go: bays as they stand, intakes, lots, what owners allow, handing over, and what the papers
// are made of. Start with TakeIn and Bays.
package desk

import (
	"context"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
	"hylostat.example/internal/shop/runs"
)

// Desk is the use case.
type Desk struct {
	books  *shop.Books
	store  Store
	judge  *judge.Judge
	record *record.Keeper
	runs   *runs.Conductor
	fleet  *fleet.Fleet
}

// New makes a desk over a store.
func New(books *shop.Books, store Store, judge *judge.Judge, keeper *record.Keeper, conductor *runs.Conductor, benches *fleet.Fleet) *Desk {
	return &Desk{books: books, store: store, judge: judge, record: keeper, runs: conductor, fleet: benches}
}

// Reader is what it reads.
type Reader interface {
	judge.Reader
	Audit(ctx context.Context, q shop.AuditQuery) ([]shop.Audited, error)
	AnsweredSince(ctx context.Context, bay drive.Bay, at time.Time) (bool, error) // whether a drive answered in a bay after a moment
	Bays(ctx context.Context) ([]protocol.Bay, error)
	// BaysAbout are a bay, where it is known, and those in which a drive is.
	BaysAbout(ctx context.Context, id drive.Bay, key drive.Key) ([]protocol.Bay, error)
	Changes(ctx context.Context, driveID int64) ([]shop.Change, error)
	DriveByKey(ctx context.Context, key drive.Key) (shop.Drive, error)
	IntakeByID(ctx context.Context, id int64) (shop.Intake, error)
	WaitingIn(ctx context.Context, bay drive.Bay) (shop.Intake, error)        // the newest that waits there for a drive
	IntakesOf(ctx context.Context, q shop.IntakeQuery) ([]shop.Intake, error) // newest first
	Lot(ctx context.Context, id int64) (shop.Lot, error)
	LotOpen(ctx context.Context) (shop.Lot, error)
	Lots(ctx context.Context) ([]shop.Lot, error) // newest first
}

// Tx is one change of the storage: all of it, or nothing.
type Tx interface {
	Reader
	judge.Tx
	SaveAnswered(ctx context.Context, bay drive.Bay, at time.Time) error
	SaveBay(ctx context.Context, b protocol.Bay) error
	SaveDrive(ctx context.Context, d *shop.Drive) error // a new one gets its ID
	SaveIntake(ctx context.Context, i *shop.Intake) error
	SaveLot(ctx context.Context, l *shop.Lot) error
	ForgetTold(ctx context.Context, customer string, drives []int64) error // the name in messages, and the notes on alerts of drives
}

// Store is the storage it needs.
type Store interface {
	Reader
	Write(ctx context.Context, f func(tx Tx) error) error
	Scrub(ctx context.Context) error // overwrites what was deleted or replaced
}
