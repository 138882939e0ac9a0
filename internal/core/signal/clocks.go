package signal

import (
	"hylostat.example/internal/core/dialect"
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
			all = append(all, trend.Clock{Name: v.Source, Hours: v.Number, Loose: v.Confidence == dialect.Inferred || v.Confidence == dialect.Varies})
			most = max(most, v.Number)
		}
	}
	var test, failure float64 = -1, -1
	for i := range r.Tests {
		if t := &r.Tests[i]; !t.Running && !t.Saturated && (!t.Wraps || most < wraps) {
			test = max(test, float64(t.Hours))
		}
	}
	for i := range r.Errors {
		if most < wraps {
			failure = max(failure, float64(r.Errors[i].Hours))
		}
	}
	if test > 0 {
		all = append(all, trend.Clock{Name: "self-test log", Hours: test, Stamp: true})
	}
	if failure > 0 {
		all = append(all, trend.Clock{Name: "error log", Hours: failure, Stamp: true})
	}
	return all
}
