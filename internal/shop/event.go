package shop

import (
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
)

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
	WatchChanged    EventKind = "watch.changed" // its plans
	AlertChanged    EventKind = "alert.changed" // raised, grown, taken, settled
	LevelAccepted   EventKind = "level.accepted"
	RoutesChanged   EventKind = "routes.changed" // who is told of alerts
	AlertTold       EventKind = "alert.told"     // the console is to sound; Seq 0
	PolicyPublished EventKind = "policy.published"
	OutcomeNoted    EventKind = "outcome.noted"
	BenchChanged    EventKind = "bench.changed" // it has come, or is gone: Bay names it, without a number
	VolumesSeen     EventKind = "volumes.seen"
	RunProgress     EventKind = "run.progress" // Seq 0
)

// Deeds that stand in the audit alone: what comes of them is a fact of its own.
const (
	PeopleChanged      EventKind = "people.changed"
	BayOrdered         EventKind = "bay.ordered"
	ReadingOrdered     EventKind = "reading.ordered"
	VolumesOrdered     EventKind = "volumes.ordered"
	RunOrdered         EventKind = "run.ordered"
	Redecoded          EventKind = "readings.redecoded"
	RecordImported     EventKind = "record.imported"
	ClockMoved         EventKind = "clock.moved"
	RecordsBroughtBack EventKind = "records.brought_back"
	KeyNamed           EventKind = "key.named"
	PolicyReplayed     EventKind = "policy.replayed"
)

// Told reports whether listeners are told of it.
func (k EventKind) Told() bool {
	switch k {
	case PeopleChanged, BayOrdered, ReadingOrdered, VolumesOrdered, RunOrdered, Redecoded, RecordImported, PolicyReplayed,
		RecordsBroughtBack, KeyNamed:
		return false
	default:
		return true
	}
}

// Event is a fact with its place in the sequence.
type Event struct {
	Seq      int64          `json:"seq"`
	At       time.Time      `json:"at"`
	Kind     EventKind      `json:"kind"`
	Serial   string         `json:"serial,omitempty"`
	Bay      drive.Bay      `json:"bay,omitzero"`
	Run      int64          `json:"run,omitempty"`
	Order    string         `json:"-"`
	Reading  int            `json:"reading,omitempty"`
	Percent  int            `json:"percent,omitempty"`
	Alert    int64          `json:"alert,omitempty"`
	Severity string         `json:"severity,omitempty"` // of that
	Repeat   bool           `json:"repeat,omitempty"`   // until somebody takes it
	People   []string       `json:"people,omitempty"`   // whose consoles sound; empty: all
	By       string         `json:"by,omitempty"`       // who did it; empty: nobody ordered it
	Said     wording.Phrase `json:"text,omitzero"`      // what happened
}
