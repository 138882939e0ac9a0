// Package watch plans what drives that stay attached are asked for, and when: readings, self-tests, sweeps. It is pure: plans, a moment
// and what ran give what is due. Start with Plan and Due.
package watch

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
)

// Task is one thing that a plan has drives do.
type Task uint8

// The tasks. All but a reading load the drive.
const (
	Reading Task = iota
	ShortTest
	SpotSweep
	ExtendedTest
	WholeSweep
	tasks
)

// TaskCount is how many tasks there are.
const TaskCount = int(tasks)

// Tasks lists all, in the order in which a drive does them when several are due.
func Tasks() []Task { return []Task{Reading, ShortTest, SpotSweep, ExtendedTest, WholeSweep} }

var taskNames = [tasks]string{"reading", "short_self_test", "spot_sweep", "extended_self_test", "whole_sweep"}

// String is the task's name in files and on the wire: "short_self_test".
func (t Task) String() string { return taskNames[t] }

// MarshalText implements encoding.TextMarshaler.
func (t Task) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (t *Task) UnmarshalText(text []byte) error {
	n := slices.Index(taskNames[:], string(text))
	if n < 0 {
		return fmt.Errorf("%q is no task of a watch: say %s", text, listed(taskNames[:]))
	}
	*t = Task(n)
	return nil
}

// Loads reports whether a task takes the drive's time: it waits for a window, and data at risk bars it.
func (t Task) Loads() bool { return t != Reading }

// Sweeps reports whether a task goes over the surface: it can wait and go on.
func (t Task) Sweeps() bool { return t == SpotSweep || t == WholeSweep }

// Scope is whom a plan is for: exactly one of a drive, a lot, a bench and a duty.
type Scope struct {
	Drive *drive.Key `json:"drive,omitempty" yaml:"drive,omitempty"`
	Lot   int64      `json:"lot,omitempty" yaml:"lot,omitempty"`
	Bench *string    `json:"bench,omitempty" yaml:"bench,omitempty"` // by its name; the shop's own has none
	Duty  drive.Duty `json:"duty,omitempty" yaml:"duty,omitempty"`
}

// narrow orders scopes: the narrowest plan for a drive is the one that counts. 0: it is for nobody.
func (s Scope) narrow() int {
	switch {
	case s.Drive != nil:
		return 4
	case s.Lot != 0:
		return 3
	case s.Bench != nil:
		return 2
	case s.Duty != "":
		return 1
	}
	return 0
}

// Width orders scopes, the narrowest first: 0 to 3.
func (s Scope) Width() int { return 4 - s.narrow() }

func (s Scope) named() (n int) {
	for _, is := range []bool{s.Drive != nil, s.Lot != 0, s.Bench != nil, s.Duty != ""} {
		if is {
			n++
		}
	}
	return n
}

// Place is what of a drive decides which plan it has.
type Place struct {
	Key   drive.Key
	Lot   int64 // it is on; 0: none
	Bench string
	Duty  drive.Duty
}

// Has reports whether a drive is among those a plan is for.
func (s Scope) Has(p Place) bool {
	switch {
	case s.Drive != nil:
		return *s.Drive == p.Key
	case s.Lot != 0:
		return s.Lot == p.Lot
	case s.Bench != nil:
		return *s.Bench == p.Bench
	}
	return s.Duty != "" && s.Duty == p.Duty
}

// Plan says how drives are watched. A zero task is never.
type Plan struct {
	ID       int64    `json:"id,omitempty" yaml:"-"`
	For      Scope    `json:"for" yaml:"for"`
	Read     Cadence  `json:"read,omitzero" yaml:"read,omitempty"` // 5 min to 30 days
	Short    Cadence  `json:"short,omitzero" yaml:"short,omitempty"`
	Extended Cadence  `json:"extended,omitzero" yaml:"extended,omitempty"`
	Spot     Cadence  `json:"spot,omitzero" yaml:"spot,omitempty"`
	Whole    Cadence  `json:"whole,omitzero" yaml:"whole,omitempty"`
	Windows  []Window `json:"windows,omitempty" yaml:"windows,omitempty"` // for all but readings; empty: any time
	// Share is how much of a drive's time a sweep may take, in per cent; 0: all.
	Share int `json:"share,omitempty" yaml:"share,omitempty"`
	// Surface is how much of its surface a spot sweep reads at most, in per cent; 0: the usual sample.
	Surface int `json:"surface,omitempty" yaml:"surface,omitempty"`
	// WakeAfter is after how many days without a reading a drive that sleeps is woken for one; 0: it is left asleep.
	WakeAfter int `json:"wake_after,omitempty" yaml:"wake_after,omitempty"`
	// AtOnce is how many drives of a bench may be busy for the watch when another one of this plan begins; 0: the usual bound.
	AtOnce int    `json:"at_once,omitempty" yaml:"at_once,omitempty"`
	Zone   string `json:"zone,omitempty" yaml:"zone,omitempty"` // of its rules and windows, IANA's name; empty: UTC
}

// usualAtOnce is how many drives of a bench are busy for the watch at once where a plan says nothing.
const usualAtOnce = 3

// Bound is AtOnce, or the usual one.
func (p Plan) Bound() int {
	if p.AtOnce == 0 {
		return usualAtOnce
	}
	return p.AtOnce
}

// Of is when a task recurs.
func (p Plan) Of(t Task) Cadence {
	return [tasks]Cadence{p.Read, p.Short, p.Spot, p.Extended, p.Whole}[t]
}

// Wrong is a plan that cannot be: what is wrong with it, and what to do.
type Wrong struct{ What, Advice string }

func (w *Wrong) Error() string { return w.What + ". " + w.Advice }

// Check reports what is wrong with a plan at a moment: a *Wrong, or nil.
func (p Plan) Check(now time.Time) error {
	wrong := func(advice, format string, args ...any) error {
		return &Wrong{What: fmt.Sprintf(format, args...), Advice: advice}
	}
	if n := p.For.named(); n != 1 {
		return wrong("Name a drive, a lot, a bench or a duty.", "the plan is for %d things at once, not for one", n)
	}
	zone, err := time.LoadLocation(p.Zone)
	if err != nil || p.Zone == "Local" {
		return wrong("Say one like Europe/Lisbon, or none for UTC.", "%q is no time zone", p.Zone)
	}
	if p.Read.IsZero() && p.Short.IsZero() && p.Extended.IsZero() && p.Spot.IsZero() && p.Whole.IsZero() {
		return wrong("Say how often to read, or remove the plan.", "the plan has drives do nothing")
	}
	for _, b := range []struct {
		what     string
		is, most int
	}{
		{"share of a drive's time", p.Share, 100},
		{"share of its surface", p.Surface, 100},
		{"days until a drive is woken", p.WakeAfter, 365},
		{"number of drives busy at once", p.AtOnce, 1000},
	} {
		if b.is < 0 || b.is > b.most {
			return wrong("Change it.", "the %s is 0 to %d, not %d", b.what, b.most, b.is)
		}
	}
	for _, w := range p.Windows {
		if err := w.valid(); err != nil {
			return wrong("Leave windows out to let it run at any time.", "%v", err)
		}
	}
	for _, t := range Tasks() {
		if err := p.possible(t, now, zone); err != nil {
			return err
		}
	}
	return nil
}

// possible reports why a task of a plan cannot be, or never comes.
func (p Plan) possible(t Task, now time.Time, zone *time.Location) error {
	c, name := p.Of(t), t.Title()
	if c.IsZero() {
		return nil
	}
	least, most := c.Every, c.Every
	if c.Rule != "" {
		o, err := c.option()
		if err != nil {
			return &Wrong{What: err.Error(), Advice: "Write it as in FREQ=WEEKLY;BYDAY=SU;BYHOUR=3."}
		}
		one := after(*o, now, zone)
		if one.IsZero() {
			what := fmt.Sprintf("the rule %s of its %s never comes again", c.Rule, name)
			return &Wrong{What: what, Advice: "Change the rule, or leave it out."}
		}
		for range 50 { // as far as a rule's next times say how often it comes
			two := after(*o, one, zone)
			if two.IsZero() {
				break
			}
			if gap := two.Sub(one); least == 0 || gap < least {
				least = gap
			}
			most, one = max(most, two.Sub(one)), two
		}
	}
	switch {
	case least > 0 && least < mostOften:
		return &Wrong{What: fmt.Sprintf("its %s comes every %s", name, Cadence{Every: least}), Advice: "Every 5 minutes is the most."}
	case t == Reading && most > leastOnce+24*time.Hour: // months have 31 days
		return &Wrong{What: fmt.Sprintf("its reading comes every %s", Cadence{Every: most}), Advice: "Read at least every 30 days."}
	}
	return nil
}

// errNoPlan says that none of the plans is for a drive.
var errNoPlan = errors.New("no plan is for this drive")

// Narrowest is the plan that counts for a drive: a drive's own before its lot's, its bench's, its duty's.
func Narrowest(plans []Plan, of Place) (best Plan, err error) {
	err = errNoPlan
	for _, p := range plans {
		if p.For.Has(of) && (err != nil || p.For.narrow() > best.For.narrow()) {
			best, err = p, nil
		}
	}
	return best, err
}
