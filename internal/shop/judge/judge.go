// Package judge decides about drives: it keeps the policy in force, gives each drive a verdict when something new is known of it,
// judges all anew by a new policy, replays drafts over what was recorded, and lets people sign. It takes no readings and orders
// nothing. Start with Redecide and Sign.
package judge

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/shop"
)

// Judge is the use case.
type Judge struct {
	books    *shop.Books
	store    Store
	policy   atomic.Pointer[policy.Policy]
	risk     atomic.Pointer[risk.Calibration]
	outdated chan struct{} // drives are to be judged by another policy
	watched  func(driveID int64) bool
}

// AlertsOf has replays count the alerts of some drives. Before anybody asks for one.
func (s *Judge) AlertsOf(drives func(id int64) bool) { s.watched = drives }

// New makes a judge over a store. Its policy is the newest the shop has published itself, else the newest shipped one.
func New(ctx context.Context, books *shop.Books, store Store, shipped []byte) (*Judge, error) {
	s := &Judge{books: books, store: store, outdated: make(chan struct{}, 1)}
	k, err := store.Calibration(ctx)
	if err != nil {
		return nil, fmt.Errorf("the calibration of chances: %w", err)
	}
	s.risk.Store(&k)
	return s, s.choosePolicy(ctx, shipped)
}

// Reader is what it reads.
type Reader interface {
	Calibration(ctx context.Context) (risk.Calibration, error) // the newest; the zero one when there is none
	Drive(ctx context.Context, id int64) (shop.Drive, error)
	Drives(ctx context.Context, q shop.Query) ([]shop.Drive, error)
	Intakes(ctx context.Context, driveID int64) ([]shop.Intake, error)
	LastVerdict(ctx context.Context, driveID int64) (shop.Verdict, error)
	Latest(ctx context.Context, driveID int64) (shop.Moment, error) // of its readings that count
	Moments(ctx context.Context, driveID int64) ([]shop.Moment, error)
	Outcomes(ctx context.Context, driveID int64) ([]shop.Outcome, error) // of one drive; 0: of all
	Outdated(
		ctx context.Context, version int, after int64, limit int,
	) ([]shop.Drive, error) // judged last by another policy; by ID, from after on
	Policies(ctx context.Context) ([]shop.Published, error) // newest first
	Reading(ctx context.Context, driveID int64, seq int) (shop.Reading, error)
	Runs(ctx context.Context, q shop.RunQuery) ([]check.Run, error)
	SweepDetail(ctx context.Context, run int64, step int) (check.Found, error)
	Sweeps(ctx context.Context, q shop.SweepQuery) ([]shop.Sweep, error) // newest first
	Verdicts(ctx context.Context, driveID int64) ([]shop.Verdict, error) // newest first
}

// Tx is one change of the storage: all of it, or nothing.
type Tx interface {
	shop.Ledger
	Reader
	AddVerdict(ctx context.Context, v *shop.Verdict) error
	SaveCalibration(ctx context.Context, at time.Time, k risk.Calibration) error
	SaveNow(ctx context.Context, driveID int64, n shop.Now) error
	SaveOutcome(ctx context.Context, o shop.Outcome) error
	SavePolicy(ctx context.Context, p shop.Published) error // a version that is there already stays as it is
	Sign(ctx context.Context, driveID int64, verdictSeq int, s shop.SignOff) error
	Standing(
		ctx context.Context, some []shop.Drive,
	) (map[int64]bool, error) // those of which nothing they are judged on changed since they were read
}

// Store is the storage it needs.
type Store interface {
	Reader
	Write(ctx context.Context, f func(tx Tx) error) error
}
