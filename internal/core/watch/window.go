package watch

import (
	"fmt"
	"slices"
	"time"
)

// Daytime is a time of day in minutes after midnight, 0 to 1439.
type Daytime int

// ParseDaytime reads "03:00".
func ParseDaytime(s string) (Daytime, error) {
	t, err := time.Parse("15:04", s)
	if err != nil {
		return 0, fmt.Errorf("%q is no time of day like 03:00", s)
	}
	return Daytime(t.Hour()*60 + t.Minute()), nil
}

func (d Daytime) String() string { return fmt.Sprintf("%02d:%02d", d/60, d%60) }

// MarshalText implements encoding.TextMarshaler.
func (d Daytime) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Daytime) UnmarshalText(text []byte) (err error) {
	*d, err = ParseDaytime(string(text))
	return err
}

// Weekday is a day of the week by the two letters of RFC 5545: MO, TU, WE, TH, FR, SA, SU.
type Weekday string

var weekdays = []Weekday{"SU", "MO", "TU", "WE", "TH", "FR", "SA"} // as package time counts them

// Window is a stretch of a day in which work that loads the surface may run. One that ends before its beginning ends on the next day.
type Window struct {
	From  Daytime   `json:"from" yaml:"from"`
	Until Daytime   `json:"until" yaml:"until"`
	Days  []Weekday `json:"days,omitempty" yaml:"days,omitempty"` // on which it begins; empty: on all
}

func (w Window) valid() error {
	if w.From == w.Until {
		return fmt.Errorf("the window from %s to %s lets nothing run", w.From, w.Until)
	}
	for _, d := range w.Days {
		if !slices.Contains(weekdays, d) {
			return fmt.Errorf("%q is no day of the week: say %s", d, "MO, TU, WE, TH, FR, SA or SU")
		}
	}
	return nil
}

// from gives the window that begins on the day of a time on the wall, as two moments; false: none begins there.
func (w Window) from(day time.Time, zone *time.Location) (from, until time.Time, ok bool) {
	if len(w.Days) > 0 && !slices.Contains(w.Days, weekdays[day.Weekday()]) {
		return from, until, false
	}
	ends := w.Until
	if ends < w.From {
		ends += 24 * 60
	}
	at := func(d Daytime) time.Time { return moment(day.Add(time.Duration(d)*time.Minute), zone) }
	from, until = at(w.From), at(ends)
	return from, until, from.Before(until) // a night may swallow one whole
}

// open gives when the windows that are open at a moment close, the latest; zero: none is open. Windows that meet are one.
func open(windows []Window, now time.Time, zone *time.Location) (until time.Time) {
	today := onWall(now, zone).Truncate(24 * time.Hour)
	for at, grown := now, true; grown && until.Sub(now) < 7*24*time.Hour; at = until {
		grown = false
		for back := -1; back <= 7; back++ {
			for _, w := range windows {
				from, ends, ok := w.from(today.AddDate(0, 0, back), zone)
				if ok && !from.After(at) && ends.After(at) && ends.After(until) {
					until, grown = ends, true
				}
			}
		}
		if until.IsZero() {
			return until
		}
	}
	return until
}

// opens is when the next window opens after now; zero: none does within two weeks.
func opens(windows []Window, now time.Time, zone *time.Location) (next time.Time) {
	today := onWall(now, zone).Truncate(24 * time.Hour)
	for ahead := -1; ahead <= 14; ahead++ {
		for _, w := range windows {
			if from, _, ok := w.from(today.AddDate(0, 0, ahead), zone); ok && from.After(now) && (next.IsZero() || from.Before(next)) {
				next = from
			}
		}
	}
	return next
}

// longest is how long the longest window lasts on an ordinary day, those that meet taken as one; 0: there is none.
func longest(windows []Window) (most time.Duration) {
	for day := range 7 { // of a week without a change of clocks
		for _, w := range windows {
			from, _, ok := w.from(anchor.AddDate(0, 0, day), time.UTC)
			if ok {
				most = max(most, open(windows, from, time.UTC).Sub(from))
			}
		}
	}
	return most
}

// OpenUntil is open, for other stretches of a day than those of plans: quiet hours.
func OpenUntil(windows []Window, now time.Time, zone *time.Location) time.Time {
	return open(windows, now, zone)
}

// ValidWindows tells what is wrong with stretches of a day.
func ValidWindows(all []Window) error {
	for _, w := range all {
		if err := w.valid(); err != nil {
			return err
		}
	}
	return nil
}

// Next is when the time of day comes next after a moment. On a night that swallows it, it comes when that night is over.
func (d Daytime) Next(after time.Time, zone *time.Location) time.Time {
	today := onWall(after, zone).Truncate(24 * time.Hour)
	for day := 0; ; day++ {
		if at := moment(today.AddDate(0, 0, day).Add(time.Duration(d)*time.Minute), zone); at.After(after) {
			return at
		}
	}
}
