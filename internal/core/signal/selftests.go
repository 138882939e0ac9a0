package signal

import (
	"slices"

	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
)

func noTests(r *reading.Reading) Value {
	return notRead(r, "the self-test log was not read", reading.PageTestLog, reading.PageNVMeTests, reading.PageLog(scsi.LogSelfTests))
}

func inTestLog(r *reading.Reading, n float64, t *reading.SelfTest) Value {
	v := Value{Number: n, Available: true, Source: "self-test log", Confidence: dialect.Standard}
	switch {
	case t != nil:
		v.Page, v.Offset, v.Length = t.Page, t.Offset, testLength[t.Page]
	case len(r.Tests) > 0:
		v.Page = r.Tests[0].Page
	default:
		v.Page = map[drive.Interface]reading.PageName{
			drive.NVMe: reading.PageNVMeTests, drive.SCSI: reading.PageLog(scsi.LogSelfTests),
		}[r.Identity.Interface]
		if v.Page == "" {
			v.Page = reading.PageTestLog
		}
	}
	return v
}

// testLength is the size of one result in each log.
var testLength = map[reading.PageName]int{
	reading.PageTestLog:                24,
	reading.PageTestLogExt:             26,
	reading.PageNVMeTests:              28,
	reading.PageLog(scsi.LogSelfTests): 16,
}

func testSource(what string, get func(*reading.Reading) Value) Source {
	return Source{"the drive's self-test log: " + what, "", dialect.Standard, func(r *reading.Reading) Value {
		if !r.HasTests {
			return noTests(r)
		}
		return get(r)
	}}
}

// tests counts the log's results of a kind.
func tests(what string, which func(*reading.SelfTest) bool) Source {
	return testSource(what, func(r *reading.Reading) Value {
		n := 0
		var first *reading.SelfTest
		for i := range r.Tests {
			if t := &r.Tests[i]; which(t) {
				n++
				if first == nil {
					first = t
				}
			}
		}
		return inTestLog(r, float64(n), first)
	})
}

// failedPlaces counts the places at which tests failed: one lasting flaw fails every test at the same place, and counts once. A test that
// names no place counts by itself.
var failedPlaces = testSource("the places of failed ones, each counted once", func(r *reading.Reading) Value {
	places := map[uint64]bool{}
	n := 0
	for i := range r.Tests {
		switch t := &r.Tests[i]; {
		case !t.Failed:
		case !t.HasLBA:
			n++
		case !places[t.LBA]:
			places[t.LBA] = true
			n++
		}
	}
	return inTestLog(r, float64(n), nil)
})

var testsPassedSince = testSource("passed ones since the last failure", func(r *reading.Reading) Value {
	passed := 0
	for i := range r.Tests {
		switch t := &r.Tests[i]; {
		case t.Failed:
			return inTestLog(r, float64(passed), t)
		case t.Passed:
			passed++
		}
	}
	return inTestLog(r, float64(passed), nil)
})

func lastTest(kind string) Source {
	return testSource("the newest "+kind+" one that ended by itself", func(r *reading.Reading) Value {
		for i := range r.Tests {
			if t := &r.Tests[i]; t.Kind == kind && (t.Passed || t.Failed) {
				return inTestLog(r, truth(t.Failed), t)
			}
		}
		return Missing("none is in the drive's log")
	})
}

var firstFailing = testSource("first failing LBA of the newest failed one", func(r *reading.Reading) Value {
	for i := range r.Tests {
		if t := &r.Tests[i]; t.Failed && t.HasLBA {
			return inTestLog(r, float64(t.LBA), t)
		}
	}
	return Missing("no self-test failed at a place it names")
})

// passed picks tests of some kinds that passed.
func passed(kinds ...string) func(*reading.SelfTest) bool {
	return func(t *reading.SelfTest) bool { return t.Passed && slices.Contains(kinds, t.Kind) }
}

// testAge is how many power-on hours ago the newest test of some kind ended, ATA's 16-bit hours unwrapped.
func testAge(what string, which func(*reading.SelfTest) bool) Source {
	return testSource(what, func(r *reading.Reading) Value {
		now := (&Definition{Sources: hoursSources}).of(r)
		if !now.Available {
			return Missing("the drive does not tell its hours")
		}
		for i := range r.Tests {
			switch t := &r.Tests[i]; {
			case !which(t):
			case t.Wraps:
				return inTestLog(r, float64(uint16(uint64(now.Number))-uint16(t.Hours)), t)
			case t.Saturated:
				return Missing("the drive's log stopped counting hours")
			case float64(t.Hours) <= now.Number:
				return inTestLog(r, now.Number-float64(t.Hours), t)
			}
		}
		return Missing("none is in the drive's log")
	})
}
