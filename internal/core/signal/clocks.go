package signal

import (
	"time"

	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/trend"
)

// wraps is where the hours in ATA's logs begin anew.
const wraps = 1 << 16

// Clocks gives the several clocks a drive keeps: every source of its hours, and the stamps of the newest entries of its self-test
// and error logs. A stamp of a clock that has wrapped says nothing, and is left out.
func Clocks(r *reading.Reading) []trend.Clock {
	var all []trend.Clock
	most := 0.0
	for _, s := range hoursSources {
		if s.On != "" && s.On != r.Identity.Interface {
			continue
		}
		if v := s.get(r); v.Available {
			all = append(
				all,
				trend.Clock{Name: v.Source, Hours: v.Number, Loose: v.Confidence == dialect.Inferred || v.Confidence == dialect.Varies},
			)
			most = max(most, v.Number)
		}
	}
	test, failure := stamps(r, most < wraps)
	if test > 0 {
		all = append(all, trend.Clock{Name: "self-test log", Hours: test, Stamp: true})
	}
	if failure > 0 {
		all = append(all, trend.Clock{Name: "error log", Hours: failure, Stamp: true})
	}
	return all
}

// stamps are the hours of the newest entries of the drive's self-test and error logs, -1 where there are none. Those of a clock of 16 bits
// count only while it has not wrapped.
func stamps(r *reading.Reading, unwrapped bool) (test, failure float64) {
	test, failure = -1, -1
	for i := range r.Tests {
		if t := &r.Tests[i]; !t.Running && !t.Saturated && (!t.Wraps || unwrapped) {
			test = max(test, float64(t.Hours))
		}
	}
	for i := range r.Errors {
		if unwrapped {
			failure = max(failure, float64(r.Errors[i].Hours))
		}
	}
	return test, failure
}

// rawHours is attribute 9 as it stands, whatever it counts in: what the unit is concluded from.
var rawHours = Source{"SMART data, attribute 9, its lower four bytes", drive.ATA, dialect.Trade, func(r *reading.Reading) Value {
	nine, ok := r.Attribute(9)
	if !ok || !r.HasCounters {
		return noCounters(r)
	}
	return at(float64(nine.Raw48()&0xFFFFFFFF), "SMART data, attribute 9", reading.PageAttributes, nine.Offset+5, 4, dialect.Trade)
}}

// logStamp is the newest stamp of the drive's logs.
var logStamp = Source{"the newest entry of the drive's logs", drive.ATA, dialect.Standard, func(r *reading.Reading) Value {
	test, failure := stamps(r, true)
	if n := max(test, failure); n >= 0 {
		return Value{Number: n, Available: true, Source: "the drive's logs", Confidence: dialect.Standard}
	}
	return Missing("its logs have no entries")
}}

// Clock is what attribute 9 and the drive's other clocks said at a reading, for dialect.ConcludeHours.
func (v Values) Clock(when time.Time) dialect.HoursAt {
	get := func(n Name) float64 {
		if x, ok := v.Get(n); ok {
			return x
		}
		return -1
	}
	return dialect.HoursAt{At: when, Raw: get(HoursRaw), Cycles: get(PowerCycles), Counted: get(HoursCounted), Stamp: get(HoursStamp)}
}
