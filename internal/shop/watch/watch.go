// Package watch keeps drives that stay attached under watch: it gives each the narrowest plan there is for it, has benches do what comes
// due, and says what is to come. What comes due when is worked out by core/watch; nothing here decides it. Start with Keep.
package watch

import (
	"context"
	"sync"
	"time"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/drive"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/shop/tell"
)

// Plan is a plan with who made it.
type Plan struct {
	plans.Plan
	By string
	At time.Time
}

// Row is what is kept of a watched drive.
type Row struct {
	Drive  int64
	Plan   int64
	Since  time.Time
	Asleep bool
	Told   time.Time
	Begun  map[plans.Task]time.Time // the newest slots
}

// Reader is what it reads.
type Reader interface {
	runs.Reader
	tell.Reader
	WatchPlans(ctx context.Context) ([]Plan, error) // by their number
	Watched(ctx context.Context) ([]Row, error)
	AcceptedLevels(ctx context.Context, driveID int64) ([]alert.Accepted, error)                      // 0: of all drives
	ReadingTimes(ctx context.Context, driveID int64, since time.Time, limit int) ([]time.Time, error) // the latest first
	Alerts(ctx context.Context, q AlertQuery) ([]alert.Alert, error)
	Badges(ctx context.Context, drives []int64) (map[int64]Badge, error)
	DrivesBySerial(ctx context.Context, serial string) ([]shop.Drive, error)
	Awaited(ctx context.Context, run int64) (by string, err error) // empty: nobody waits for its end
}

// Tx is one change of the storage: all of it, or nothing.
type Tx interface {
	Reader
	tell.Tx
	SaveWatchPlan(ctx context.Context, p *Plan) error // a new one gets its number
	DropWatchPlan(ctx context.Context, id int64) error
	SaveWatched(ctx context.Context, r Row) error // without what was begun
	SaveAccepted(ctx context.Context, a alert.Accepted) error
	DropAccepted(ctx context.Context, driveID int64, signal string) error
	SaveAwaited(ctx context.Context, run int64, by string) error // empty: nobody any more
	DropWatched(ctx context.Context, drive int64) error
	SaveBegun(ctx context.Context, drive int64, t plans.Task, slot time.Time) error // the zero time: it came due, and was not begun
}

// Store is the storage it needs.
type Store interface {
	Reader
	Write(ctx context.Context, f func(tx Tx) error) error
}

// Watcher is the use case.
type Watcher struct {
	books *shop.Books
	store Store
	judge *judge.Judge
	runs  *runs.Conductor
	fleet *fleet.Fleet
	told  *tell.Teller

	unanswered chan string                        // orders for readings that brought nothing
	became     chan func()                        // what came of an order, for the one who keeps the watch
	around     around                             // Keep's alone, and so is again
	looks      []func(now time.Time) []alert.Seen // at the service's own things
	// when to read how drives are watched once more, in real time, since that failed; zero: it did not
	again time.Time

	mu      sync.Mutex // guards what follows; Keep alone changes it
	planner *plans.Planner
	known   map[int64]Plan
	whole   bool // all drives they are for have been seen
	drives  map[int64]*watched
	ids     map[drive.Key]int64 // of these
}

// ofKey is a watched drive; nil: it is not watched. The caller holds the lock.
func (w *Watcher) ofKey(k drive.Key) *watched {
	if d := w.drives[w.ids[k]]; d != nil && d.Key == k {
		return d
	}
	return nil
}

// watched is a drive under watch.
type watched struct {
	plans.Drive
	bay   drive.Bay
	now   shop.Drive
	lot   int64
	run   int64     // of what it does for the watch
	order string    // of the reading that is on its way
	sent  time.Time // that, in real time
	asked time.Time // that, by the shop's clock
	had   int       // readings when it was ordered
	given bool      // the order to begin what loads it is on its way
	left  time.Time // since when it is not here; zero: it is
	stuck time.Time // since when it holds a command; zero: it does not
	gave  [plans.TaskCount]gave
}

// gave is what this program ordered of a task last.
type gave struct {
	slot  time.Time // zero: nothing, or it could not begin
	tries int       // how often that failed
}

// New makes a watcher over a store.
func New(
	books *shop.Books, store Store, judge *judge.Judge, conductor *runs.Conductor, benches *fleet.Fleet, told *tell.Teller,
) *Watcher {
	return &Watcher{
		books: books, store: store, judge: judge, runs: conductor, fleet: benches, told: told,
		unanswered: make(chan string, 64), became: make(chan func(), 64), drives: map[int64]*watched{},
		ids: map[drive.Key]int64{},
	}
}

// tick is how often the watcher asks what is due.
const tick = time.Second

// lostAfter is how long, in real time, a reading may be on its way. What comes after that is taken in all the same.
const lostAfter = 5 * time.Minute

// meetAgain is after how long, in real time, what could not be read is read again.
const meetAgain = 10 * time.Second

// Keep keeps the watch until the context ends.
func (w *Watcher) Keep(ctx context.Context) {
	ticks := time.NewTicker(tick)
	defer ticks.Stop()
	for ctx.Err() == nil {
		facts := w.books.Listen(ctx)
		_ = w.meetAll(ctx) // it says so itself
		for listening := true; listening && ctx.Err() == nil; {
			select {
			case <-ctx.Done():
				return
			case e, more := <-facts:
				if listening = more; more {
					w.heard(ctx, e)
				}
				continue
			case order := <-w.unanswered:
				w.answered(order, nil)
			case f := <-w.became:
				f()
			case <-ticks.C:
				if !w.again.IsZero() && !time.Now().Before(w.again) {
					_ = w.meetAll(ctx) // it says so itself
				}
			}
			w.carryOut(ctx)
			if err := w.lookAround(ctx); err != nil && ctx.Err() == nil {
				w.books.Log.Warn("looking which watched drives are there; it is tried again", "error", err)
			}
		}
	}
}

// meetAll is meet, and once more later when that fails.
func (w *Watcher) meetAll(ctx context.Context) error {
	err := w.meet(ctx)
	w.again = time.Time{}
	if err != nil && ctx.Err() == nil {
		w.again = time.Now().Add(meetAgain)
		w.books.Log.Warn("reading how drives are watched; it is tried again", "error", err)
	}
	return err
}

// heard takes in a fact that may concern a watched drive.
func (w *Watcher) heard(ctx context.Context, e shop.Event) {
	var err error
	switch e.Kind {
	case shop.ReadingTaken:
		w.answered(e.Order, &e)
		err = w.meetSerial(ctx, e.Serial, &e)
	case shop.BayChanged:
		err = w.meetSerial(ctx, e.Serial, nil)
		for _, serial := range w.inBay(e.Bay) { // who was there, and may not be any more
			if serial != e.Serial && err == nil {
				err = w.meetSerial(ctx, serial, nil)
			}
		}
	case shop.RunChanged, shop.IntakeChanged, shop.VerdictSigned:
		err = w.meetSerial(ctx, e.Serial, nil)
	case shop.BenchChanged, shop.LotChanged, shop.WatchChanged:
		err = w.meetAll(ctx)
	default:
	}
	if err != nil && ctx.Err() == nil {
		w.books.Log.Warn("seeing how a watched drive stands", "drive", e.Serial, "error", err)
	}
}

// inBay are the serials of the watched drives in a bay.
func (w *Watcher) inBay(bay drive.Bay) (all []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, d := range w.drives {
		if d.bay == bay {
			all = append(all, d.Key.Serial)
		}
	}
	return all
}

// ReadingUnanswered hears of an ordered reading that brought nothing.
func (w *Watcher) ReadingUnanswered(u protocol.Unanswered) {
	select {
	case w.unanswered <- u.Order:
	default: // the reading counts as lost after a while
	}
}
