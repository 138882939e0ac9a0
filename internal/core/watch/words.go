package watch

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"hylostat.example/internal/core/wording"
)

// Title is the task in the middle of a sentence: "short self-test".
func (t Task) Title() string {
	return wording.Say(wording.WatchTask, wording.Values{"task": t.String()}).String()
}

// Says names whom a plan is for: "KVA07 7M511", "lot 4", "field bench", "duty continuous".
func (s Scope) Says() wording.Phrase {
	switch {
	case s.Drive != nil:
		return wording.Say(wording.WatchOfDrive, wording.Values{"serial": wording.Serial(s.Drive.Serial)})
	case s.Lot != 0:
		return wording.Say(wording.WatchOfLot, wording.Values{"n": s.Lot})
	case s.Bench != nil && *s.Bench == "":
		return wording.Say(wording.WatchOfOwnBench)
	case s.Bench != nil:
		return wording.Say(wording.WatchOfBench, wording.Values{"name": *s.Bench})
	}
	return wording.Say(wording.WatchOfDuty, wording.Values{"duty": string(s.Duty)})
}

// Says tells a plan in words: "read every 6 h; short self-test on Sundays at 03:00; never wakes it".
func (p Plan) Says() wording.Phrase {
	var all []wording.Phrase
	for _, t := range Tasks() {
		c := p.Of(t)
		switch {
		case c.IsZero():
		case t == Reading:
			all = append(all, wording.Say(wording.WatchRead, wording.Values{"when": c.says()}))
		default:
			all = append(all, wording.Say(wording.WatchTests, wording.Values{"task": t.String(), "when": c.says()}))
		}
	}
	if len(p.Windows) > 0 {
		words := make([]string, len(p.Windows))
		for i, w := range p.Windows {
			words[i] = w.words()
		}
		all = append(all, wording.Say(wording.WatchWindows, wording.Values{"windows": listed(words)}))
	}
	if p.Share > 0 && p.Share < 100 && (!p.Spot.IsZero() || !p.Whole.IsZero()) {
		all = append(all, wording.Say(wording.WatchShare, wording.Values{"n": p.Share}))
	}
	if p.Surface > 0 && !p.Spot.IsZero() {
		all = append(all, wording.Say(wording.WatchSurface, wording.Values{"n": p.Surface}))
	}
	if p.AtOnce > 0 && p.For.Drive == nil {
		all = append(all, wording.Say(wording.WatchAtOnce, wording.Values{"n": p.AtOnce}))
	}
	wakes := wording.Say(wording.WatchLeavesAsleep)
	if p.WakeAfter > 0 {
		wakes = wording.Say(wording.WatchWakes, wording.Values{"n": p.WakeAfter})
	}
	return wording.Say(wording.WatchPlan, wording.Values{"parts": append(all, wakes)})
}

// says tells when something recurs: "every 6 h", "on Sundays at 03:00".
func (c Cadence) says() wording.Phrase {
	switch day := 24 * time.Hour; {
	case c.Every == day:
		return wording.Say(wording.WatchDaily)
	case c.Every > 0 && c.Every%day == 0:
		return wording.Say(wording.WatchEveryDays, wording.Values{"n": int(c.Every / day)})
	case c.Every > 0:
		return wording.Say(wording.WatchEvery, wording.Values{"left": c.Every.Seconds()})
	}
	if words, ok := c.plain(); ok {
		return wording.Say(wording.WatchOn, wording.Values{"days": words.days, "times": words.times})
	}
	return wording.Say(wording.WatchByRule, wording.Values{"rule": c.Rule})
}

// onDays is a rule in words: on which days, at which times.
type onDays struct{ days, times string }

var (
	dayNames   = []string{"Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays"} // as package rrule counts
	monthNames = []string{
		"January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December",
	}
	ordinals = map[int]string{1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last", -2: "last but one"}
)

// plain puts a rule into words where there are plain ones; false: there are none.
func (c Cadence) plain() (w onDays, ok bool) {
	o, err := c.option()
	if err != nil || len(o.Bysetpos)+len(o.Byyearday)+len(o.Byweekno)+len(o.Byeaster) > 0 || !slices.Equal(o.Bysecond, []int{0}) {
		return w, false
	}
	var times []string
	for _, h := range orZero(o.Byhour) {
		for _, m := range orZero(o.Byminute) {
			times = append(times, Daytime(h*60+m).String())
		}
	}
	slices.Sort(times)
	w.times = listed(times)
	every := func(unit string) string {
		switch o.Interval {
		case 1:
			return "every " + unit
		case 2:
			return "every other " + unit
		}
		return fmt.Sprintf("every %d %ss", o.Interval, unit)
	}
	switch {
	case o.Freq == rrule.DAILY && len(o.Byweekday)+len(o.Bymonth)+len(o.Bymonthday) == 0:
		w.days = every("day")
	case o.Freq == rrule.WEEKLY && len(o.Bymonth)+len(o.Bymonthday) == 0:
		w.days = "on " + listed(named(o.Byweekday, true))
		if len(o.Byweekday) == 0 {
			w.days = "on Mondays"
		}
		if o.Interval > 1 {
			w.days += " of " + every("week")
		}
	case o.Freq == rrule.MONTHLY && len(o.Bymonth) == 0 || o.Freq == rrule.YEARLY && len(o.Bymonth) > 0 && o.Interval == 1:
		day, plain := dayOf(o)
		if w.days = "on the " + day + " of " + every("month"); o.Freq == rrule.YEARLY {
			months := make([]string, len(o.Bymonth))
			for i, m := range o.Bymonth {
				months[i] = monthNames[m-1]
			}
			w.days = "on the " + day + " of " + listed(months)
		}
		if !plain {
			return w, false
		}
	default:
		return w, false
	}
	if o.Until.IsZero() {
		return w, true
	}
	w.days += " until " + wording.English.Day(o.Until)
	return w, true
}

// dayOf is the one kind of day of a month that a rule names: "15th", "last day", "first Saturday".
func dayOf(o *rrule.ROption) (string, bool) {
	switch {
	case len(o.Byweekday) > 0 && len(o.Bymonthday) == 0:
		days := named(o.Byweekday, false)
		return listed(days), !slices.Contains(days, "")
	case len(o.Byweekday) > 0:
		return "", false
	}
	days := o.Bymonthday
	if len(days) == 0 {
		days = []int{1}
	}
	words := make([]string, len(days))
	for i, d := range days {
		switch {
		case d == -1:
			words[i] = "last day"
		case d > 0:
			words[i] = ordinal(d)
		default:
			return "", false
		}
	}
	return listed(words), true
}

// named are days of the week by name; with a place in the month where they have one: "first Saturday". "" is one that says too little.
func named(days []rrule.Weekday, weekly bool) []string {
	all := make([]string, len(days))
	for i := range days {
		name := dayNames[days[i].Day()]
		switch place := ordinals[days[i].N()]; {
		case weekly && days[i].N() == 0:
			all[i] = name
		case !weekly && place != "":
			all[i] = place + " " + strings.TrimSuffix(name, "s")
		}
	}
	return all
}

func ordinal(n int) string {
	switch {
	case n%100/10 == 1:
	case n%10 == 1:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}

func orZero(of []int) []int {
	if len(of) == 0 {
		return []int{0}
	}
	return of
}

// listed joins words as a sentence does: "a, b and c".
func listed(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// words tells a window: "01:00 to 06:00 on Saturdays and Sundays".
func (w Window) words() string {
	s := w.From.String() + " to " + w.Until.String()
	if len(w.Days) == 0 {
		return s
	}
	days := make([]string, len(w.Days))
	for i, d := range w.Days {
		days[i] = time.Weekday(slices.Index(weekdays, d)).String() + "s"
	}
	return s + " on " + listed(days)
}
