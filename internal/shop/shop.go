// Package shop is what a repair shop does with drives: takes them in, records what they say, has them checked, decides, and
// lets a person sign. It knows neither HTTP nor SQL: it declares the storage it needs, and talks to benches through package
// protocol. One file holds one use case. Start with Shop, then record.go.
package shop

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop/fleet"
)

// Drive is a drive as the shop knows it.
type Drive struct {
	ID        int64
	Identity  drive.Identity
	Duty      drive.Duty
	FirstSeen time.Time
	Hints     dialect.Hints // concluded from its own behaviour
	Now       Now
}

// Listed is what a list tells of a drive.
type Listed struct {
	ID        int64
	Key       drive.Key
	Interface drive.Interface
	Medium    drive.Medium
	Bytes     uint64
	Duty      drive.Duty
	Now       Now
}

// Listed is what a list tells of the drive.
func (d Drive) Listed() Listed {
	return Listed{d.ID, d.Identity.Key, d.Identity.Interface, d.Identity.Medium, d.Identity.Bytes, d.Duty, d.Now}
}

// Now is how a drive stands: what lists are made of.
type Now struct {
	Grade         drive.Grade
	VerdictSeq    int
	VerdictDigest []byte   // a digest of what that verdict says; nil: not known
	Signed        *SignOff // of the present verdict
	Margin        string   // the tightest one in words; empty for none
	MarginShare   float64
	Findings      int
	First         string // sentence of the worst finding
	Hours         float64
	HasHours      bool
	Temperature   float64
	HasTemp       bool
	Readings      int
	LastAt        time.Time
	Policy        int         // by which it was judged last; its verdict is older when that policy says the same
	Bay           drive.Bay   // none: it is in no bay
	OtherBays     []drive.Bay // of its further paths
}

// Reading is a stored reading.
type Reading struct {
	Drive   int64
	Seq     int
	At      time.Time
	Took    time.Duration
	Bay     drive.Bay
	Run     int64
	Step    check.StepKind
	Tool    string
	Decoder int
	Pages   []reading.Page
	Report  string // the bench's own id of it
	Signals signal.Values
}

// Moment is a reading's place in a drive's life, with its signals.
type Moment struct {
	verdict.Moment
	Run  int64
	Step check.StepKind
}

// Verdict is a stored verdict. It is never edited; a new one follows it.
type Verdict struct {
	verdict.Verdict
	Drive   int64
	Seq     int
	At      time.Time
	Reading int // seq of the reading it was made at
	Signed  *SignOff
}

// SignOff is a person accepting or overruling a verdict.
type SignOff struct {
	At     time.Time   `json:"at"`
	By     string      `json:"by"`
	Grade  drive.Grade `json:"grade"` // the one signed; differs from the verdict's when overruled
	Reason string      `json:"reason,omitempty"`
}

// Intake is one arrival of a drive. It is open until the drive is handed over.
type Intake struct {
	ID        int64
	Drive     int64 // 0 until the drive named itself
	Lot       int64 // with which it came; 0: alone
	Bay       drive.Bay
	Ticket    string
	Customer  string // a name and nothing more; see Erase
	Reference string // the customer's own for it
	Complaint string
	Label     string // what the label and the hand tell
	Made      string // by the label, as 2021-08; empty: not noted
	Clicks    bool   // it does, or makes another noise that says: stop trying
	Wanted    bool   // the data is wanted
	Copied    bool   // and has been copied
	CopiedAt  time.Time
	Duty      drive.Duty
	At        time.Time
	By        string
	Release   *Release  // the owner's consent that data may be destroyed
	Handover  *Handover // how it ended; nil: it is open
	Tried     []Port    // where it was looked for and did not answer
}

// AtRisk reports whether the data is wanted and not yet copied.
func (i Intake) AtRisk() bool { return i.Handover == nil && i.Wanted && !i.Copied }

// Change is a counter that matters, moving.
type Change struct {
	Signal        signal.Name
	Seq           int
	At            time.Time
	Hours         float64 // -1 unknown
	Before, After float64
}

// EventKind names a fact.
type EventKind string

// The facts that are stored and served. Progress is told, not stored.
const (
	BayChanged      EventKind = "bay.changed"
	ReadingTaken    EventKind = "reading.taken"
	VerdictChanged  EventKind = "verdict.changed"
	VerdictSigned   EventKind = "verdict.signed"
	RunChanged      EventKind = "run.changed"
	IntakeChanged   EventKind = "intake.changed"
	LotChanged      EventKind = "lot.changed"
	PlanChanged     EventKind = "plan.changed"
	PolicyPublished EventKind = "policy.published"
	OutcomeNoted    EventKind = "outcome.noted"
	VolumesSeen     EventKind = "volumes.seen"
	RunProgress     EventKind = "run.progress" // Seq 0
)

// Deeds that stand in the audit alone: what comes of them is a fact of its own.
const (
	PeopleChanged  EventKind = "people.changed"
	BayOrdered     EventKind = "bay.ordered"
	ReadingOrdered EventKind = "reading.ordered"
	VolumesOrdered EventKind = "volumes.ordered"
	RunOrdered     EventKind = "run.ordered"
	Redecoded      EventKind = "readings.redecoded"
	RecordImported EventKind = "record.imported"
	PolicyReplayed EventKind = "policy.replayed"
)

// told reports whether listeners are told of it.
func (k EventKind) told() bool {
	switch k {
	case PeopleChanged, BayOrdered, ReadingOrdered, VolumesOrdered, RunOrdered, Redecoded, RecordImported, PolicyReplayed:
		return false
	default:
		return true
	}
}

// Event is a fact with its place in the sequence.
type Event struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"`
	Kind    EventKind `json:"kind"`
	Serial  string    `json:"serial,omitempty"`
	Bay     drive.Bay `json:"bay,omitzero"`
	Run     int64     `json:"run,omitempty"`
	Order   string    `json:"-"`
	Reading int       `json:"reading,omitempty"`
	Percent int       `json:"percent,omitempty"`
	By      string    `json:"by,omitempty"`   // who did it; empty: nobody ordered it
	Text    string    `json:"text,omitempty"` // what happened, for a live region
}

// Reader is the storage the shop reads from.
type Reader interface {
	Drive(ctx context.Context, id int64) (Drive, error)
	DriveByKey(ctx context.Context, key drive.Key) (Drive, error)
	DrivesBySerial(ctx context.Context, serial string) ([]Drive, error)
	DrivesBySuffix(ctx context.Context, ending string) ([]Drive, error)
	Drives(ctx context.Context, q Query) ([]Drive, error)
	List(ctx context.Context, q Query) ([]Listed, error)
	Moments(ctx context.Context, driveID int64) ([]Moment, error)
	Reading(ctx context.Context, driveID int64, seq int) (Reading, error)
	HasReport(ctx context.Context, id string) (bool, error)
	Changes(ctx context.Context, driveID int64) ([]Change, error)
	Verdicts(ctx context.Context, driveID int64) ([]Verdict, error) // newest first
	LastVerdict(ctx context.Context, driveID int64) (Verdict, error)
	Runs(ctx context.Context, q RunQuery) ([]check.Run, error)
	Run(ctx context.Context, id int64) (check.Run, error)
	Bays(ctx context.Context) ([]protocol.Bay, error)
	Intakes(ctx context.Context, driveID int64) ([]Intake, error)
	IntakeInBay(ctx context.Context, bay drive.Bay) (Intake, error)               // the newest, if it is open
	AnsweredSince(ctx context.Context, bay drive.Bay, at time.Time) (bool, error) // whether a drive answered in a bay after a moment
	IntakeByID(ctx context.Context, id int64) (Intake, error)
	IntakesOf(ctx context.Context, q IntakeQuery) ([]Intake, error) // newest first
	Lots(ctx context.Context) ([]Lot, error)                        // newest first
	Lot(ctx context.Context, id int64) (Lot, error)
	LotOpen(ctx context.Context) (Lot, error)
	Latest(ctx context.Context, driveID int64) (Moment, error) // of its readings
	Audit(ctx context.Context, q AuditQuery) ([]Audited, error)
	Volumes(ctx context.Context, driveID int64) (protocol.Volumes, error) // the newest
	WalkAudit(ctx context.Context, f func(Audited) error) error           // oldest first
	Events(ctx context.Context, after int64, limit int) ([]Event, error)
	LastEvent(ctx context.Context) (int64, error)
	Sweeps(ctx context.Context, q SweepQuery) ([]Sweep, error) // newest first
	SweepDetail(ctx context.Context, run int64, step int) (check.Found, error)
	Plan(ctx context.Context, bench string) (check.Plan, error)
	Policies(ctx context.Context) ([]Published, error)                                  // newest first
	Outdated(ctx context.Context, version int, after int64, limit int) ([]Drive, error) // judged last by another policy; by ID, from after on
	Outcomes(ctx context.Context, driveID int64) ([]Outcome, error)                     // of one drive; 0: of all
	Calibration(ctx context.Context) (risk.Calibration, error)                          // the newest; the zero one when there is none
}

// Tx is one change of the storage: all of it, or nothing.
type Tx interface {
	Reader
	SaveDrive(ctx context.Context, d *Drive) error // a new one gets its ID
	SaveNow(ctx context.Context, driveID int64, n Now) error
	Standing(ctx context.Context, some []Drive) (map[int64]bool, error)   // those of which nothing they are judged on changed since they were read
	AddReading(ctx context.Context, r *Reading, signals signal.Set) error // gives it its Seq
	SaveSignals(ctx context.Context, driveID int64, seq, decoder int, signals signal.Set) error
	AddChange(ctx context.Context, driveID int64, c Change) error
	ForgetChanges(ctx context.Context, driveID int64) error
	AddVerdict(ctx context.Context, v *Verdict) error
	Sign(ctx context.Context, driveID int64, verdictSeq int, s SignOff) error
	NewRun(ctx context.Context) (int64, error)                        // a number no run has had
	SaveRun(ctx context.Context, r check.Run) error                   // its bench's report of it: the number of another run is refused
	Taken(ctx context.Context, bench string, seq int64) (bool, error) // notes a report, and whether it was taken before
	SaveBay(ctx context.Context, b protocol.Bay) error
	SaveAnswered(ctx context.Context, bay drive.Bay, at time.Time) error
	AddSweep(ctx context.Context, s Sweep, d check.Found) error // one that is there already stays as it is
	SaveIntake(ctx context.Context, i *Intake) error
	AddVolumes(ctx context.Context, driveID int64, v protocol.Volumes) error // one that is there already stays as it is
	SaveLot(ctx context.Context, l *Lot) error
	AddEvent(ctx context.Context, e *Event) error
	AddAudit(ctx context.Context, a Audited) error // after the last one
	SavePlan(ctx context.Context, bench string, p check.Plan) error
	SavePolicy(ctx context.Context, p Published) error // a version that is there already stays as it is
	SaveOutcome(ctx context.Context, o Outcome) error
	SaveCalibration(ctx context.Context, at time.Time, k risk.Calibration) error
}

// Store is the storage as a whole.
type Store interface {
	Reader
	Write(ctx context.Context, f func(tx Tx) error) error
	Scrub(ctx context.Context) error // overwrites what was deleted or replaced
}

// Query selects drives for a list.
type Query struct {
	Text   string // in serial, model, ticket or customer
	Model  string // exactly; empty: any
	Grade  *drive.Grade
	Medium drive.Medium // empty: any
	Lot    int64        // taken in on it; 0: any
	From   int          // power-on hours, at least
	To     int          // power-on hours, less than; 0: however many
	After  string       // cursor: serial of the last one seen
	Limit  int          // more come when the last ones share a serial
}

// IntakeQuery selects intakes.
type IntakeQuery struct {
	Lot      int64  // 0: any
	Ticket   string // empty: any
	Customer string // empty: any
	Open     bool   // only those not handed over
	Limit    int    // 0: 1,000
}

// RunQuery selects runs, newest first.
type RunQuery struct {
	Drive   drive.Key // zero: all
	Open    bool
	Reworks bool // those that write
	Limit   int
}

// Clock tells the time of the shop; a simulated bench's time is the shop's, too.
type Clock interface{ Now() time.Time }

// NotFound says that there is no such thing.
type NotFound struct{ What, Advice string }

func (e *NotFound) Error() string { return e.What + ". " + e.Advice }

// Invalid says what is wrong with a request.
type Invalid struct{ What, Advice string }

func (e *Invalid) Error() string { return e.What + ". " + e.Advice }

// Conflict says why a request cannot be met as things stand.
type Conflict struct{ What, Advice string }

func (e *Conflict) Error() string { return e.What + ". " + e.Advice }

// Shop is the running shop.
type Shop struct {
	Name   string
	store  Store
	fleet  *fleet.Fleet
	policy atomic.Pointer[policy.Policy]
	risk   atomic.Pointer[risk.Calibration]
	clock  Clock
	log    *slog.Logger
	hub    hub

	own      sync.WaitGroup // what it began on its own account
	outdated chan struct{}  // drives are to be judged by another policy

	mu      sync.Mutex
	waiting map[string]chan brought                   // orders whose reading somebody waits for
	live    map[int64]check.Run                       // progress of open runs, fresher than the store
	ribbons map[int64]*ribbon                         // of open runs whose sweep goes on
	watched map[int64]map[chan protocol.Progress]bool // who follows a run
}

// New makes a shop over a store and its benches. Its policy is the newest it has published itself, else the newest shipped one.
func New(ctx context.Context, name string, store Store, benches *fleet.Fleet, shipped []byte, clock Clock, log *slog.Logger) (*Shop, error) {
	s := &Shop{Name: name, store: store, fleet: benches, clock: clock, log: log, outdated: make(chan struct{}, 1), waiting: map[string]chan brought{}, live: map[int64]check.Run{}, ribbons: map[int64]*ribbon{}, watched: map[int64]map[chan protocol.Progress]bool{}}
	k, err := store.Calibration(ctx)
	if err != nil {
		return nil, fmt.Errorf("the calibration of chances: %w", err)
	}
	s.risk.Store(&k)
	return s, s.choosePolicy(ctx, shipped)
}

// Run takes the benches' reports in until the context ends, and returns when nothing of the shop's is under way any more.
func (s *Shop) Run(ctx context.Context) error {
	defer s.Wait()
	s.own.Go(func() { s.judgeAnew(ctx) })
	s.fleet.Run(ctx, s)
	return nil
}

// Wait waits for what the shop began on its own account, while it took reports in: it ends soon after their context. The store may
// be closed then.
func (s *Shop) Wait() { s.own.Wait() }

// Progressed implements fleet.Taker: how a run stands is passed on. The end is a fact: it comes as a report, after all that led to it.
func (s *Shop) Progressed(_ string, p protocol.Progress) {
	if r := p.Run; r.State != check.Done {
		s.progress(p)
		s.hub.publish(Event{At: s.clock.Now(), Kind: RunProgress, Serial: r.Key.Serial, Bay: r.Bay, Run: r.ID, Percent: r.Percent()})
	}
}

// change carries out f as one change of the store, together with the facts it gives back; then the world is told of them. What somebody
// does goes through act.
func (s *Shop) change(ctx context.Context, f func(tx Tx) ([]Event, error)) ([]Event, error) {
	var events []Event
	err := s.store.Write(ctx, func(tx Tx) (err error) {
		events, err = f(tx)
		for i := range events {
			if err == nil {
				err = tx.AddEvent(ctx, &events[i])
			}
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, e := range events {
		s.hub.publish(e)
	}
	return events, nil
}

// Take implements fleet.Taker: it stores one report of a bench and tells the world. A report that comes twice is stored once.
func (s *Shop) Take(ctx context.Context, bench string, r protocol.Report) error {
	events, err := s.change(ctx, func(tx Tx) ([]Event, error) {
		if r.Seq > 0 { // else it is of no bench of ours
			if known, err := tx.Taken(ctx, bench, r.Seq); err != nil || known {
				return nil, err
			}
		}
		switch {
		case r.Started != nil:
			return s.benchStarted(ctx, tx, bench, *r.Started)
		case r.Reading != nil:
			return s.record(ctx, tx, *r.Reading)
		case r.Bay != nil:
			return s.bayChanged(ctx, tx, *r.Bay)
		case r.Run != nil:
			return s.runChanged(ctx, tx, *r.Run)
		case r.Sweep != nil:
			return s.swept(ctx, tx, *r.Sweep)
		case r.Volumes != nil:
			return s.volumesSeen(ctx, tx, *r.Volumes)
		}
		return nil, nil
	})
	if u := r.Unanswered; u != nil {
		s.bring(u.Order, brought{err: &Conflict{fmt.Sprintf("%s brought no reading: %s: %s", u.Bay.Words(), u.Fault.What, u.Fault.Cause), u.Fault.Advice()}})
	}
	if err == nil && r.Run != nil && r.Run.State == check.Done {
		s.progress(protocol.Progress{Run: *r.Run})
	}
	if err == nil && r.Bay != nil {
		s.protectSoon(ctx, *r.Bay)
		s.planSoon(ctx, *r.Bay)
	}
	for _, e := range events {
		switch {
		case e.Order == "":
		case e.Kind == ReadingTaken:
			s.deliver(ctx, e)
		case e.Kind == VolumesSeen:
			s.bring(e.Order, brought{})
		}
	}
	return err
}

// benchStarted ends the runs a bench knows nothing of any more: its journal was lost, or is an older copy.
func (s *Shop) benchStarted(ctx context.Context, tx Tx, bench string, started protocol.Started) ([]Event, error) {
	open, err := tx.Runs(ctx, RunQuery{Open: true})
	if err != nil {
		return nil, err
	}
	var events []Event
	for _, r := range open {
		if r.Bay.Bench != bench || slices.Contains(started.Open, r.ID) {
			continue
		}
		r.State, r.Outcome, r.Reason, r.Ended = check.Done, check.Stopped, "its bench knows nothing of it any more: what it did last is not known", s.clock.Now()
		more, err := s.runChanged(ctx, tx, r)
		if err != nil {
			return nil, err
		}
		events = append(events, more...)
	}
	return events, nil
}

func (s *Shop) runChanged(ctx context.Context, tx Tx, r check.Run) ([]Event, error) {
	if err := tx.SaveRun(ctx, r); err != nil {
		return nil, err
	}
	text := fmt.Sprintf("%s: %s, %s", capital(r.Bay.Words()), r.Kind.Title(), Standing(r))
	events := []Event{{At: s.clock.Now(), Kind: RunChanged, Serial: r.Key.Serial, Bay: r.Bay, Run: r.ID, Percent: r.Percent(), Text: text}}
	if r.State != check.Done {
		return events, nil
	}
	d, err := tx.DriveByKey(ctx, r.Key) // what it found out, and what it wrote, is known whole now
	if err != nil {
		if isNone(err) {
			err = nil
		}
		return events, err
	}
	more, err := s.Redecide(ctx, tx, d)
	return append(events, more...), err
}

func (s *Shop) bayChanged(ctx context.Context, tx Tx, b protocol.Bay) ([]Event, error) {
	was, err := tx.Bays(ctx)
	if err != nil {
		return nil, err
	}
	if err := tx.SaveBay(ctx, b); err != nil {
		return nil, err
	}
	events := []Event{{At: s.clock.Now(), Kind: BayChanged, Serial: b.Key.Serial, Bay: b.ID, Text: fmt.Sprintf("%s: %s", capital(b.ID.Words()), b.Connection)}}
	if b.Connection == protocol.Empty && slices.ContainsFunc(was, func(w protocol.Bay) bool { return w.ID == b.ID && w.Connection == protocol.Silent }) {
		return events, leaveBay(ctx, tx, b.ID)
	}
	if b.Connection != protocol.Answering {
		return events, nil
	}
	if err := tx.SaveAnswered(ctx, b.ID, s.clock.Now()); err != nil {
		return nil, err
	}
	// A drive that named itself takes the intake that was opened for its bay.
	i, err := tx.IntakeInBay(ctx, b.ID)
	if err != nil && !isNone(err) {
		return nil, err
	}
	waits := err == nil && i.Drive == 0
	d, err := tx.DriveByKey(ctx, b.Key)
	if isNone(err) { // found by a second path before the first one's reading is here: the intake waits on
		return events, nil
	}
	if err != nil {
		return nil, err
	}
	var more []Event
	if waits {
		more, err = s.settle(ctx, tx, &i, d)
	} else if !slices.ContainsFunc(was, func(w protocol.Bay) bool { return w.Connection == protocol.Answering && w.Key == b.Key }) {
		more, err = s.joinLot(ctx, tx, b.ID, d)
	}
	return append(events, more...), err
}
