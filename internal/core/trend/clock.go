package trend

import (
	"fmt"
	"math"
	"time"

	"hylostat.example/internal/core/wording"
)

// Clock is one of the several clocks a drive keeps: the attribute of its hours, a device statistic, the stamp of the newest entry
// of a log. A stamp is a moment that has been; it may lie behind the hours, never before them.
type Clock struct {
	Name  string  `json:"name"`
	Hours float64 `json:"hours"`
	Stamp bool    `json:"stamp,omitempty"`
	Loose bool    `json:"loose,omitempty"` // its unit is guessed: it may show too much, never too little
}

// Tick is what a drive's clocks showed at one reading.
type Tick struct {
	Seq     int
	At      time.Time
	Clocks  []Clock
	Written float64 // bytes, negative when unknown
}

// Contradiction is two things a drive says of its own life that cannot both be true.
type Contradiction struct {
	Seq  int    `json:"reading"`
	Says string `json:"says"`
}

// SlackHours, or a share of them, is how far apart two clocks of one reading may be: each counts whole hours by itself, some only while
// the medium turns,
// some save seldom.
const (
	SlackHours = 48
	slackShare = 0.05
)

// fastest is more than any link of a drive carries, in bytes per second.
const fastest = 16e9

// Contradictions holds a drive's clocks against each other in every reading, and against the calendar from one reading to the next.
// The history was tampered with, or the board exchanged, or two drives claim one serial.
func Contradictions(ticks []Tick) []Contradiction {
	var all []Contradiction
	say := func(seq int, format string, args ...any) {
		all = append(all, Contradiction{seq, fmt.Sprintf(format, args...)})
	}
	said := map[string]bool{} // of two clocks it is said once
	var before Tick           // the one before, without clocks at first
	for _, t := range ticks {
		for _, a := range t.Clocks {
			for _, b := range t.Clocks {
				pair := a.Name + "|" + b.Name
				apart := a.Hours - b.Hours
				if a.Name == b.Name || said[pair] || b.Stamp || a.Loose || apart <= max(SlackHours, slackShare*a.Hours) {
					continue
				}
				said[pair] = true
				if a.Stamp {
					say(t.Seq, "%s is of hour %s, %s says %s h", a.Name, hours(a.Hours), b.Name, hours(b.Hours))
				} else {
					say(t.Seq, "%s says %s h, %s says %s h", a.Name, hours(a.Hours), b.Name, hours(b.Hours))
				}
			}
			if !a.Stamp && t.Written > 0 && t.Written > (a.Hours+1)*3600*fastest {
				say(t.Seq, "more was written than %s leaves time for", a.Name)
			}
		}
		for _, now := range t.Clocks {
			for _, was := range before.Clocks {
				if was.Name != now.Name || now.Stamp {
					continue
				}
				ran, passed := now.Hours-was.Hours, t.At.Sub(before.At).Hours()
				switch {
				case ran < -1:
					say(t.Seq, "%s went back from %s h to %s h", now.Name, hours(was.Hours), hours(now.Hours))
				case passed > 0 && ran > passed+SlackHours && !said[now.Name] && !now.Loose:
					said[now.Name] = true
					say(t.Seq, "%s ran %s h in the %s h since reading %d", now.Name, hours(ran), hours(passed), before.Seq)
				}
			}
		}
		before = t
	}
	return all
}

func hours(x float64) string { return wording.Number(math.Round(x)) }
