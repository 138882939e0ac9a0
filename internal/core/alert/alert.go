// Package alert folds what is seen of drives, benches and the service into alerts: one thing has one alert, however often it happens. It
// says when somebody is to be told, and settles what has ended. It is pure. Start with Step; what a drive shows is told by Look.
package alert

import (
	"maps"
	"slices"
	"time"

	"hylostat.example/internal/core/wording"
)

// Severity is how loudly something is told.
type Severity string

// The severities, from the least.
const (
	None   Severity = "none"   // nobody is told, and there is no alert
	Digest Severity = "digest" // once a day, with what else there is
	Now    Severity = "now"    // at once, out of quiet hours
	Wake   Severity = "wake"   // at once, whatever the hour
)

// Severities lists all, from the least.
func Severities() []Severity { return []Severity{None, Digest, Now, Wake} }

// Rank orders severities: None is 0.
func (s Severity) Rank() int { return max(0, slices.Index(Severities(), s)) }

// Kind is what an alert is about.
type Kind string

// The kinds: of a drive, of a bench, of the service.
const (
	Verdict  Kind = "verdict"   // it got worse
	Signal   Kind = "signal"    // one that matters began, or grew
	Heat     Kind = "heat"      // a limit of heat was met
	SelfTest Kind = "self_test" // one failed
	Sweep    Kind = "sweep"     // one of the watch's failed, or found what cannot be read
	Vanished Kind = "vanished"  // a watched drive is not there any more
	Hangs    Kind = "hangs"     // its drive holds a command
	Unread   Kind = "unread"    // it was not read for two intervals
	RunEnded Kind = "run_ended" // one that somebody waits for

	BenchSilent Kind = "bench_silent" // not heard from
	BenchPulled Kind = "bench_pulled" // several of its drives vanished at once

	DiskFull    Kind = "disk_full"
	BackupLate  Kind = "backup_late"
	ReplicaLate Kind = "replica_late"
	RouteFailed Kind = "route_failed" // nobody could be told by it
	ClockMoved  Kind = "clock_moved"
)

// Thing is what an alert is about. Each has one alert for ever.
type Thing struct {
	Kind  Kind   `json:"kind"`
	Drive int64  `json:"drive,omitempty"` // by the shop's number; 0: it is about no drive
	Bench string `json:"bench,omitempty"`
	Name  string `json:"name,omitempty"` // of the signal, the route, the run
}

// State is how an alert stands.
type State string

// The states.
const (
	Open    State = "open"
	Taken   State = "taken"   // somebody looks after it
	Settled State = "settled" // by a person, or by itself when it ended
)

// Alert is one thing that a person should know.
type Alert struct {
	ID       int64 `json:"id"`
	Thing    `json:"thing"`
	State    State          `json:"state"`
	Severity Severity       `json:"severity"` // the highest since it was opened
	Said     wording.Phrase `json:"said"`     // what changed
	Before   float64        `json:"before"`   // the level before it was opened
	Level    float64        `json:"level"`    // as it was seen last
	Told     float64        `json:"told"`     // the highest level of which somebody was told
	Count    int            `json:"count"`    // how often it came
	Opened   time.Time      `json:"opened"`   // of late
	Moved    time.Time      `json:"moved"`    // when it grew last
	By       string         `json:"by,omitempty"`
	Note     string         `json:"note,omitempty"` // of whoever settled it
	Ended    time.Time      `json:"ended,omitzero"` // when it was settled
	Calm     int            `json:"calm,omitempty"` // looks at which it was over, in a row
	Since    time.Time      `json:"since,omitzero"` // the first of them
	Reading  int            `json:"reading,omitempty"`

	// Rests is what a verdict rested on when it was told, by signal: as long as nothing of that rises, the same grade is no news, however
	// often it comes and goes as evidence ages.
	Rests map[string]float64 `json:"rests,omitempty"`
}

// Seen is one look at a thing.
type Seen struct {
	Thing
	At       time.Time
	Over     bool // it is not so any more; else it has just begun, come again or grown
	Before   float64
	Level    float64 // how bad it is; the larger the worse
	Severity Severity
	Said     wording.Phrase
	Reading  int // at which it was seen; 0: at none
	Rests    map[string]float64
}

// Tells is what somebody is to be told.
type Tells string

// What there is to tell.
const (
	Nothing  Tells = ""
	Opened   Tells = "opened"
	Reopened Tells = "reopened"
	Grew     Tells = "grew"
	Ended    Tells = "ended" // by itself
)

// Hysteresis: what has ended is settled after so many looks, or so long.
const (
	calmLooks = 3
	calmFor   = 24 * time.Hour
)

// heatStep is by how many degrees something gets hotter before it is told again.
const heatStep = 3

// grew reports whether a level is worth telling after another was told: a grade that is worse, a count that has doubled, heat that has
// risen by some degrees. What only comes and goes is not told again while it is known.
func (k Kind) grew(told, level float64) bool {
	switch k {
	case Verdict:
		return level > told
	case Signal, SelfTest, Sweep:
		return level > told && level >= 2*told
	case Heat:
		return level >= told+heatStep
	default:
		return false
	}
}

// Step is what becomes of an alert by a look at its thing; was is the zero Alert when there is none. A look that makes none gives the zero
// Alert.
func Step(was Alert, s Seen) (Alert, Tells) {
	a := was
	if s.Over {
		a.Rests = lowered(was.Rests, s.Rests)
	}
	switch {
	case s.Over && (a.Count == 0 || a.State == Settled && a.over(s.At)):
		return a, Nothing
	case s.Over:
		return a.calmer(s)
	case s.Severity.Rank() == 0:
		return a, Nothing
	}
	louder := s.Severity.Rank() > a.Severity.Rank()
	a.Thing, a.Level, a.Said, a.Reading = s.Thing, s.Level, s.Said, s.Reading
	if s.Rests != nil {
		a.Rests = s.Rests
	}
	over := a.over(s.At)
	a.Calm, a.Since = 0, time.Time{}
	switch {
	case a.Count == 0:
		a.Before = s.Before
		return a.open(s, Opened)
	case a.State == Settled && over && s.restsOnKnown(was):
		return was, Nothing
	case a.State == Settled:
		known := !over && !a.Kind.grew(a.Told, s.Level) // a person settled it as it is
		if known && !louder {
			was.Calm, was.Since = 0, time.Time{}
			return was, Nothing
		}
		if over {
			a.Before, a.Told, a.Severity = s.Before, 0, None
		}
		return a.open(s, Reopened)
	}
	a.Count++
	if !louder && !a.Kind.grew(a.Told, s.Level) {
		return a, Nothing
	}
	if louder {
		a.Severity = s.Severity
	}
	a.Told, a.Moved = max(a.Told, s.Level), s.At
	return a, Grew
}

// restsOnKnown reports whether nothing that a verdict rests on is more than it was when as bad a one was told.
func (s Seen) restsOnKnown(was Alert) bool {
	if len(s.Rests) == 0 || s.Level > was.Told {
		return false
	}
	for name, x := range s.Rests {
		if before, known := was.Rests[name]; !known || x > before {
			return false
		}
	}
	return true
}

// lowered is what an alert rests on, where that has fallen since: what rises again then is news.
func lowered(was, now map[string]float64) map[string]float64 {
	out := was
	for name, x := range now {
		if before, known := was[name]; known && x < before {
			out = maps.Clone(out)
			out[name] = x
		}
	}
	return out
}

func (a Alert) open(s Seen, tells Tells) (Alert, Tells) {
	a.Count++
	a.State, a.Opened, a.Moved, a.Told = Open, s.At, s.At, max(a.Told, s.Level)
	if s.Severity.Rank() > a.Severity.Rank() {
		a.Severity = s.Severity
	}
	a.By, a.Note, a.Ended = "", "", time.Time{}
	return a, tells
}

// over reports whether what an alert is about has been over for long enough: when it comes again, that is news.
func (a Alert) over(at time.Time) bool {
	return !a.Since.IsZero() && (a.Calm >= calmLooks || at.Sub(a.Since) >= calmFor)
}

// calmer counts a look at which it was over.
func (a Alert) calmer(s Seen) (Alert, Tells) {
	if a.Calm++; a.Since.IsZero() || a.Since.After(s.At) {
		a.Since = s.At
	}
	if a.Level = s.Level; a.State == Settled || !a.over(s.At) {
		return a, Nothing
	}
	a.State, a.Ended, a.By = Settled, s.At, ""
	return a, Ended
}

// Take is somebody looking after an alert.
func (a Alert) Take(by string) Alert {
	if a.State != Settled {
		a.State, a.By = Taken, by
	}
	return a
}

// Settle is somebody having done with an alert: it stays quiet until it comes anew, or grows beyond what was told.
func (a Alert) Settle(by, note string, at time.Time) Alert {
	if a.State != Settled {
		a.State, a.By, a.Note, a.Ended, a.Calm, a.Since = Settled, by, note, at, 0, time.Time{}
	}
	return a
}

// Accepted is a person's word that a flaw is known: it is quiet up to a level. It changes no verdict.
type Accepted struct {
	Drive  int64     `json:"drive"`
	Signal string    `json:"signal"`
	Level  float64   `json:"level"`
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until,omitzero"` // zero: for good
}

// Quiets reports whether it keeps a level of its signal quiet at a moment.
func (a Accepted) Quiets(level float64, at time.Time) bool {
	return level <= a.Level && (a.Until.IsZero() || at.Before(a.Until))
}
