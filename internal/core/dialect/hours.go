package dialect

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// hoursAttribute counts the time powered on, in a unit that differs by family, and within some families by the drive's age.
const hoursAttribute = 9

// Hints is what was concluded from a drive's own behaviour.
type Hints struct {
	Hours Layout `json:"hours,omitempty"` // of the time powered on; empty: nothing was concluded
	Why   string `json:"why,omitempty"`
}

// HoursAt is what attribute 9 showed at one reading, beside the drive's other clocks. What the drive did not tell is negative.
type HoursAt struct {
	At      time.Time
	Raw     float64 // the number in its lower four bytes
	Cycles  float64 // power cycles
	Counted float64 // hours by a clock of the drive that counts hours for certain
	Stamp   float64 // hours, of the newest entry of its self-test and error logs
}

// A clockUnit is a unit attribute 9 may count in.
type clockUnit struct {
	layout  Layout
	perHour float64
}

var clockUnits = []clockUnit{{Hours, 1}, {Minutes, 60}, {HalfMinutes, 120}, {Seconds, 3600}}

// hours is what a raw number comes to in the unit.
func (u clockUnit) hours(raw float64) float64 {
	if u.layout == Hours && raw >= 1<<24 { // as Decode reads it
		return math.Mod(raw, 1<<24)
	}
	return raw / u.perHour
}

// MostHours is older than any drive: about thirty years without a pause.
const MostHours = 260_000

// slack is how far two clocks of one drive may be apart, in hours, and as a share.
const (
	clockSlack = 48
	clockShare = 0.05
)

// ConcludeHours concludes the unit of attribute 9 from all readings of a drive, in any order, where that is another one than its dialect
// says. sure tells that a family is known; it takes more to outrank one than to speak where nobody does. In this order: a clock of the
// drive that counts hours for certain; how far it moved while the drive was powered all along, its power cycles being the same; that it
// moved faster than its unit allows; and a log that was stamped later than its unit allows.
func ConcludeHours(says Layout, sure bool, all []HoursAt) Hints {
	now := clockUnits[0]
	for _, u := range clockUnits {
		if u.layout == says {
			now = u
		}
	}
	all = slices.DeleteFunc(slices.Clone(all), func(h HoursAt) bool { return h.Raw < 0 })
	slices.SortFunc(all, func(a, b HoursAt) int { return a.At.Compare(b.At) })
	all = onCourse(all)
	for _, conclude := range []func(clockUnit, bool, []HoursAt) (clockUnit, string, bool){
		byCounted, byPowered, byFreshStamps, byPace, byStamp,
	} {
		if u, why, ok := conclude(now, sure, all); ok {
			if u == now {
				return Hints{}
			}
			return Hints{u.layout, why}
		}
	}
	return Hints{}
}

// onCourse leaves out what a single reading says against those before and after it, which agree that the count ran on, and a count of
// nothing at first: neither is a movement.
func onCourse(all []HoursAt) []HoursAt {
	var kept []HoursAt
	for i, h := range all {
		switch {
		case len(kept) == 0 && h.Raw == 0 && i+1 < len(all):
		case len(kept) > 0 && i+1 < len(all) && all[i+1].Raw >= kept[len(kept)-1].Raw &&
			(h.Raw < kept[len(kept)-1].Raw || h.Raw > all[i+1].Raw):
		default:
			kept = append(kept, h)
		}
	}
	return kept
}

// vote picks the unit most readings speak for; of equals the larger unit.
func vote(all []HoursAt, speaks func(i int) (clockUnit, bool)) (best clockUnit, ok bool) {
	votes := map[Layout]int{}
	for i := range all {
		if u, spoke := speaks(i); spoke {
			votes[u.layout]++
		}
	}
	for _, u := range clockUnits {
		if votes[u.layout] > votes[best.layout] {
			best, ok = u, true
		}
	}
	return best, ok
}

func byCounted(_ clockUnit, _ bool, all []HoursAt) (clockUnit, string, bool) {
	u, ok := vote(all, func(i int) (clockUnit, bool) { return unitOf(all[i].Raw, all[i].Counted) })
	return u, "the drive's own statistics count hours beside it", ok
}

// unitOf is the unit in which a raw number agrees with so many hours.
func unitOf(raw, counted float64) (clockUnit, bool) {
	if counted < 20 || raw <= 0 { // under a day the units of an hour's rounding are too near
		return clockUnit{}, false
	}
	for _, u := range clockUnits {
		if math.Abs(u.hours(raw)-counted) <= max(2, clockShare*counted) {
			return u, true
		}
	}
	return clockUnit{}, false
}

// pairs calls each with neighbours in time between which it moved forward over half an hour or more.
func pairs(all []HoursAt, each func(before, now HoursAt, moved, elapsed float64)) {
	for i := 1; i < len(all); i++ {
		moved, elapsed := all[i].Raw-all[i-1].Raw, all[i].At.Sub(all[i-1].At).Hours()
		if moved >= 0 && elapsed >= 0.5 {
			each(all[i-1], all[i], moved, elapsed)
		}
	}
}

func byPowered(_ clockUnit, _ bool, all []HoursAt) (clockUnit, string, bool) {
	type seen struct{ moved, elapsed float64 }
	var powered []seen
	pairs(all, func(before, now HoursAt, moved, elapsed float64) {
		if before.Cycles >= 0 && before.Cycles == now.Cycles {
			powered = append(powered, seen{moved, elapsed})
		}
	})
	// One unit must explain every such span: a drive that saves its power cycles late was not powered all along.
	for _, u := range clockUnits {
		if len(powered) > 0 && !slices.ContainsFunc(powered, func(s seen) bool {
			return math.Abs(s.moved-u.perHour*s.elapsed) > 1+u.perHour*(0.02*s.elapsed+0.05)
		}) {
			last := powered[len(powered)-1]
			return u, fmt.Sprintf("it grew by %.0f in %.1f h in which the drive was powered all along", last.moved, last.elapsed), true
		}
	}
	return clockUnit{}, "", false
}

// freshStamps is how many stamps that came between two readings it takes.
const freshStamps = 2

// byFreshStamps: a stamp that is new since the reading before was set between the two, so it lies between their hours. It takes the one
// unit
// in which that holds for all of them: stamps set by another clock, or by none, hold for no unit.
func byFreshStamps(_ clockUnit, _ bool, all []HoursAt) (clockUnit, string, bool) {
	type fresh struct{ before, now, stamp float64 }
	var some []fresh
	for i := 1; i < len(all); i++ {
		if all[i].Stamp > all[i-1].Stamp && all[i-1].Stamp >= 0 && all[i].Raw > all[i-1].Raw {
			some = append(some, fresh{all[i-1].Raw, all[i].Raw, all[i].Stamp})
		}
	}
	if len(some) < freshStamps {
		return clockUnit{}, "", false
	}
	var fits []clockUnit
	for _, u := range clockUnits {
		if !slices.ContainsFunc(some, func(f fresh) bool {
			return f.stamp < u.hours(f.before)-clockSlack || f.stamp > u.hours(f.now)+clockSlack
		}) {
			fits = append(fits, u)
		}
	}
	if len(fits) != 1 {
		return clockUnit{}, "", false
	}
	last := some[len(some)-1]
	return fits[0], fmt.Sprintf(
		"its logs were stamped at hour %.0f while it went from %.0f to %.0f", last.stamp, last.before, last.now,
	), true
}

// byPace takes the largest unit in which nothing moved faster than time itself. Over a family it takes two movements, and most of them:
// a single leap can come from a change of its board.
func byPace(now clockUnit, sure bool, all []HoursAt) (clockUnit, string, bool) {
	moves, fast := 0, 0
	fastest, why := 0.0, ""
	pairs(all, func(_, _ HoursAt, moved, elapsed float64) {
		if moved == 0 {
			return
		}
		moves++
		rate := moved / elapsed
		if moved > now.perHour*elapsed*1.05+1+now.perHour*0.2 && rate > 1.5*now.perHour {
			fast++
			if rate > fastest {
				fastest, why = rate, fmt.Sprintf("it grew by %.0f in %.1f h by the clock", moved, elapsed)
			}
		}
	})
	least := 1
	if sure {
		least = 2
	}
	if fast < least || 2*fast < moves {
		return clockUnit{}, "", false
	}
	for _, u := range clockUnits {
		if u.perHour > now.perHour && fastest <= u.perHour*1.02 {
			return u, why, true
		}
	}
	return clockUnit{}, "", false
}

// byStamp: no entry of a log is later than the hours. Where the unit says otherwise, that one is taken in which the hours are the nearest
// to the stamp, not before it, and of its size.
func byStamp(now clockUnit, _ bool, all []HoursAt) (clockUnit, string, bool) {
	why := ""
	u, ok := vote(all, func(i int) (best clockUnit, ok bool) {
		h := all[i]
		behind := func(u clockUnit) bool { return u.hours(h.Raw) < h.Stamp-max(clockSlack, clockShare*h.Stamp) }
		if h.Stamp < 100 || !behind(now) {
			return best, false
		}
		for _, u := range clockUnits {
			if hours := u.hours(h.Raw); !behind(u) && hours <= min(MostHours, 2*h.Stamp+500) && (!ok || hours < best.hours(h.Raw)) {
				best, ok = u, true
			}
		}
		if ok {
			why = fmt.Sprintf("its logs were stamped at hour %.0f while it showed %.0f", h.Stamp, h.Raw)
		}
		return best, ok
	})
	return u, why, ok
}

// CompareHours concludes the unit from another clock of the drive that counts hours for certain.
func CompareHours(raw uint64, hours float64) (Hints, bool) {
	u, ok := unitOf(float64(raw&0xFFFFFFFF), hours)
	return Hints{u.layout, fmt.Sprintf("the drive's own statistics count %.0f h", hours)}, ok
}

// HoursLayout is the layout a family has for the time powered on; nil has the common one.
func HoursLayout(f *Family) Layout {
	e := Match{Family: f}.Entry(hoursAttribute)
	for _, u := range clockUnits {
		if u.layout == e.Layout {
			return e.Layout
		}
	}
	return Hours
}
