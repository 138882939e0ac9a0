// Package signal turns a Reading into signals: single comparable quantities with one name whatever the drive's interface.
// Every signal is one entry of the registry, with its sources in order of preference. A quantity that a drive does not
// give is a value of its own with the reason, never a zero. Start with Registry and Of.
package signal

import (
	"fmt"
	"slices"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
)

// Name names a signal, in code, policies, storage and the API alike.
type Name string

// The signals of this edition.
const (
	Reallocated           Name = "reallocated"
	Pending               Name = "pending"
	UncorrectableOffline  Name = "uncorrectable_offline"
	ReportedUncorrectable Name = "reported_uncorrectable"
	ReallocationEvents    Name = "reallocation_events"
	SpinUpRetries         Name = "spin_up_retries"
	LoadCycles            Name = "load_cycles"
	CRCErrors             Name = "crc_errors"
	CommandTimeouts       Name = "command_timeouts"
	EndToEndErrors        Name = "end_to_end_errors"
	ProgramFailures       Name = "program_failures"
	EraseFailures         Name = "erase_failures"
	UnsafeShutdowns       Name = "unsafe_shutdowns"
	Temperature           Name = "temperature"
	TemperatureHighest    Name = "temperature_highest"
	PowerOnHours          Name = "power_on_hours"
	PowerCycles           Name = "power_cycles"
	LoggedErrors          Name = "logged_errors"
	Alarm                 Name = "alarm"
	AttributesFailing     Name = "attributes_failing"
	AttributesFell        Name = "attributes_fell"
	TestsFailed           Name = "tests_failed"
	TestsPassedSince      Name = "tests_passed_since"
	TestsFailedMechanics  Name = "tests_failed_mechanics"
	PercentageUsed        Name = "percentage_used"
	StartFailures         Name = "start_failures"
	BytesWritten          Name = "bytes_written"
	BytesRead             Name = "bytes_read"
	TimeTooHot            Name = "time_too_hot"
	ShortTestAge          Name = "short_test_age"
	ExtendedTestAge       Name = "extended_test_age"
)

// Direction tells how a signal may move.
type Direction uint8

// The directions.
const (
	Grows  Direction = iota // a counter that can only rise; a fall is a rollback
	Varies                  // may rise and fall
)

// Value is a signal at one moment. The zero Value is not available, without a reason.
type Value struct {
	Number     float64            // in the definition's unit; meaningful only when Available
	Available  bool               //
	Reason     string             // why not, when not Available
	Source     string             // page and field, "SMART data, attribute 5"
	Page       reading.PageName   // where its bytes are
	Offset     int                // of the bytes in the page
	Length     int                // of the bytes; 0 when the value is not in one place
	Confidence dialect.Confidence //
	Disagrees  string             // another source has another number; empty when none has
}

// Definition is one entry of the registry.
type Definition struct {
	Code      uint8 // in packed form, never reused for another signal
	Name      Name
	Words     string // for a table: "sectors reallocated"
	Unit      string // "sectors", "°C", "h", "B"; empty for a bare count
	Direction Direction
	Usual     string // the reference that stands beside the number
	Matters   bool   // a change of it is an event in the drive's life
	Inner     bool   // for rules; people see it in the self-test log instead
	from      func(*reading.Reading) Value
}

// Registry lists every signal, in the order in which tables show them.
var Registry = []Definition{
	{1, Reallocated, "reallocated", "sectors", Grows, "usual 0", true, false, prefer(statistic(ata.StatReallocatedSectors), attribute(5))},
	{2, Pending, "waiting", "sectors", Varies, "usual 0", true, false, attribute(197)},
	{3, UncorrectableOffline, "unreadable, found offline", "sectors", Varies, "usual 0", true, false, attribute(198)},
	{4, ReportedUncorrectable, "errors reported", "", Grows, "usual 0", true, false, prefer(statistic(ata.StatReportedUncorrected), attribute(187))},
	{5, ReallocationEvents, "reallocation events", "", Grows, "usual 0", true, false, attribute(196)},
	{6, SpinUpRetries, "spin-up retries", "", Grows, "usual 0", true, false, spinning(attribute(10))},
	{7, EndToEndErrors, "end-to-end errors", "", Grows, "usual 0", true, false, attribute(184)},
	{8, TestsFailed, "self-tests failed", "", Varies, "usual 0", true, false, testsFailed(ata.TestFatal, ata.TestUnknown, ata.TestElectrical, ata.TestServo, ata.TestRead, ata.TestHandling)},
	{9, TestsFailedMechanics, "self-tests failed on mechanics or electronics", "", Varies, "usual 0", true, false, testsFailed(ata.TestElectrical, ata.TestServo, ata.TestHandling)},
	{10, Alarm, "the drive's own alarm", "", Varies, "usual 0", true, false, alarm},
	{11, AttributesFailing, "attributes at their threshold", "", Varies, "usual 0", true, false, attributesFailing},
	{12, AttributesFell, "attributes once at their threshold", "", Grows, "usual 0", true, false, attributesFell},
	{13, CRCErrors, "link errors", "", Grows, "usual steady", true, false, prefer(statistic(ata.StatCRCErrors), attribute(199))},
	{14, CommandTimeouts, "commands timed out", "", Grows, "usual steady", true, false, attribute(188)},
	{15, ProgramFailures, "program failures", "", Grows, "usual 0", true, false, flash(attribute(171))},
	{16, EraseFailures, "erase failures", "", Grows, "usual 0", true, false, flash(attribute(172))},
	{17, UnsafeShutdowns, "power lost without warning", "", Grows, "", false, false, flash(attribute(174))},
	{18, Temperature, "temperature", "°C", Varies, "usual 35 to 45 °C", false, false, prefer(statistic(ata.StatTemperature), attribute(194, 190))},
	{19, TemperatureHighest, "hottest so far", "°C", Grows, "advice from 55 °C", true, false, prefer(statistic(ata.StatHighestTemperature), hottest)},
	{20, LoadCycles, "head loadings", "", Grows, "some 300 000", false, false, spinning(prefer(statistic(ata.StatHeadLoads), attribute(193)))},
	{21, PowerOnHours, "hours powered on", "h", Grows, "", false, false, attribute(9)},
	{22, PowerCycles, "power cycles", "", Grows, "", false, false, attribute(12)},
	{23, LoggedErrors, "errors in the drive's log", "", Grows, "", false, false, loggedErrors},
	{27, PercentageUsed, "wear", "%", Grows, "rated for 100 %", true, false, flash(statistic(ata.StatPercentageUsed))},
	{28, StartFailures, "start failures", "", Grows, "usual 0", true, false, spinning(statistic(ata.StatStartFailures))},
	{29, BytesWritten, "data written", "B", Grows, "", false, false, inBytes(statistic(ata.StatSectorsWritten))},
	{30, BytesRead, "data read", "B", Grows, "", false, false, inBytes(statistic(ata.StatSectorsRead))},
	{31, TimeTooHot, "time above the drive's own limit", "min", Grows, "usual 0", true, false, statistic(ata.StatTimeOverTemperature)},
	{24, TestsPassedSince, "self-tests passed since the last failure", "", Varies, "", false, true, testsPassedSince},
	{25, ShortTestAge, "since a short self-test passed", "h", Varies, "", false, true, testAge(ata.TestShort, ata.TestExtended)},
	{26, ExtendedTestAge, "since an extended self-test passed", "h", Varies, "", false, true, testAge(ata.TestExtended)},
}

var byName = func() map[Name]*Definition {
	m := make(map[Name]*Definition, len(Registry))
	for i := range Registry {
		m[Registry[i].Name] = &Registry[i]
	}
	return m
}()

// Lookup finds a definition by name.
func Lookup(n Name) (Definition, bool) {
	d, ok := byName[n]
	if !ok {
		return Definition{}, false
	}
	return *d, true
}

// Set is the signals of one reading.
type Set map[Name]Value

// Of takes every signal out of a reading.
func Of(r *reading.Reading) Set {
	s := make(Set, len(Registry))
	for _, d := range Registry {
		s[d.Name] = d.from(r)
	}
	return s
}

// Missing is a value that is not available.
func Missing(reason string) Value { return Value{Reason: reason} }

// statistic takes a device statistic, the standard's own word for a quantity.
func statistic(key ata.StatisticKey) func(*reading.Reading) Value {
	return func(r *reading.Reading) Value {
		s, ok := r.Statistic(key)
		if !ok {
			return Missing("the drive's statistics do not hold it")
		}
		return Value{
			Number: float64(s.Value), Available: true, Source: fmt.Sprintf("device statistics, page %d, %s", key.Page, s.Name),
			Page: reading.PageStatistics, Offset: int(key.Page)*ata.PageSize + int(key.Offset), Length: 8, Confidence: dialect.Standard,
		}
	}
}

// inBytes turns a number of logical sectors into bytes.
func inBytes(from func(*reading.Reading) Value) func(*reading.Reading) Value {
	return func(r *reading.Reading) Value {
		v := from(r)
		if v.Available && r.Identity.LogicalSector == 0 {
			return Missing("the drive does not tell the size of its sectors")
		}
		v.Number *= float64(r.Identity.LogicalSector)
		return v
	}
}

// prefer takes the first source that has the value, and says when a later one has another.
func prefer(sources ...func(*reading.Reading) Value) func(*reading.Reading) Value {
	return func(r *reading.Reading) Value {
		var best Value
		for _, source := range sources {
			v := source(r)
			switch {
			case !v.Available && !best.Available:
				best = v // the last source's reason is the one people know
			case v.Available && !best.Available:
				best = v
			case v.Available && v.Number != best.Number && best.Disagrees == "":
				best.Disagrees = fmt.Sprintf("%s says %g", v.Source, v.Number)
			}
		}
		return best
	}
}

// noCounters says why no counter could be read.
func noCounters(r *reading.Reading) Value {
	for _, page := range []reading.PageName{reading.PageAttributes, reading.PageIdentify} {
		for _, f := range r.Faults {
			if f.Page == string(page) {
				return Missing(f.Back)
			}
		}
	}
	return Missing("counters not read")
}

// attribute takes the first of several attribute numbers a drive has.
func attribute(ids ...uint8) func(*reading.Reading) Value {
	return func(r *reading.Reading) Value {
		if !r.HasCounters {
			return noCounters(r)
		}
		for _, id := range ids {
			if a, ok := r.Attribute(id); ok && a.Quantity.Known {
				return Value{
					Number: float64(a.Quantity.Number), Available: true, Source: fmt.Sprintf("SMART data, attribute %d", id),
					Page: reading.PageAttributes, Offset: a.Offset + 5, Length: 6, Confidence: a.Confidence,
				}
			}
		}
		return Missing(fmt.Sprintf("the drive has no attribute %d", ids[0]))
	}
}

func only(m drive.Medium, otherwise string, from func(*reading.Reading) Value) func(*reading.Reading) Value {
	return func(r *reading.Reading) Value {
		if r.Identity.Medium != m && r.Identity.Medium != drive.MediumUnknown {
			return Missing(otherwise)
		}
		return from(r)
	}
}

func spinning(from func(*reading.Reading) Value) func(*reading.Reading) Value {
	return only(drive.Spinning, "a flash drive has none", from)
}

func flash(from func(*reading.Reading) Value) func(*reading.Reading) Value {
	return only(drive.Flash, "a rotating drive has none", from)
}

func hottest(r *reading.Reading) Value {
	if !r.HasCounters {
		return noCounters(r)
	}
	for _, id := range []uint8{194, 190} {
		if a, ok := r.Attribute(id); ok && a.Quantity.HasRange {
			return Value{
				Number: float64(a.Quantity.Highest), Available: true, Source: fmt.Sprintf("SMART data, attribute %d", id),
				Page: reading.PageAttributes, Offset: a.Offset + 5, Length: 6, Confidence: dialect.Inferred,
			}
		}
	}
	return Missing("the drive keeps no record of its extremes here")
}

func alarm(r *reading.Reading) Value {
	v := Value{Available: true, Source: "SMART RETURN STATUS", Page: reading.PageAlarm, Confidence: dialect.Standard}
	switch r.Alarm {
	case ata.AlarmRaised:
		v.Number = 1
	case ata.AlarmUnknown:
		if f, ok := r.FaultOf(reading.PageAlarm); ok {
			return Missing(f.Back)
		}
		return Missing("the drive was not asked")
	case ata.AlarmEchoed:
		v.Confidence = dialect.Inferred
	case ata.AlarmNotRaised:
	}
	return v
}

func countAttributes(r *reading.Reading, which func(reading.Attribute) bool) Value {
	if !r.HasCounters {
		return noCounters(r)
	}
	if f, broken := r.FaultOf(reading.PageThresholds); broken {
		return Missing(f.Back)
	}
	n := 0
	for _, a := range r.Attributes {
		if which(a) {
			n++
		}
	}
	return Value{Number: float64(n), Available: true, Source: "SMART data and thresholds", Page: reading.PageAttributes, Confidence: dialect.Trade}
}

// attributesFailing counts pre-failure attributes at or below their threshold: advisory ones tell of age.
func attributesFailing(r *reading.Reading) Value {
	return countAttributes(r, func(a reading.Attribute) bool { return a.PreFailure() && a.State() == reading.Failing })
}

func attributesFell(r *reading.Reading) Value {
	return countAttributes(r, func(a reading.Attribute) bool {
		return a.PreFailure() && (a.State() == reading.FellBefore || a.State() == reading.Failing)
	})
}

func noTests(r *reading.Reading) Value {
	if f, ok := r.FaultOf(reading.PageTestLog); ok {
		return Missing(f.Back)
	}
	return Missing("the self-test log was not read")
}

func fromTestLog(n float64) Value {
	return Value{Number: n, Available: true, Source: "self-test log", Page: reading.PageTestLog, Confidence: dialect.Standard}
}

// testsFailed counts the log's tests that ended with one of these results.
func testsFailed(results ...ata.TestStatus) func(*reading.Reading) Value {
	return func(r *reading.Reading) Value {
		if !r.HasTests {
			return noTests(r)
		}
		n := 0
		for _, t := range r.Tests {
			if slices.Contains(results, t.Status) {
				n++
			}
		}
		return fromTestLog(float64(n))
	}
}

func testsPassedSince(r *reading.Reading) Value {
	if !r.HasTests {
		return noTests(r)
	}
	passed := 0
	for _, t := range r.Tests {
		switch {
		case t.Status.Failed():
			return fromTestLog(float64(passed))
		case t.Status == ata.TestPassed:
			passed++
		}
	}
	return fromTestLog(float64(passed))
}

// testAge is how many power-on hours ago a test of one of these kinds passed, the log's 16-bit hours unwrapped.
func testAge(kinds ...uint8) func(*reading.Reading) Value {
	return func(r *reading.Reading) Value {
		if !r.HasTests {
			return noTests(r)
		}
		now := attribute(9)(r)
		if !now.Available {
			return Missing("the drive does not tell its hours")
		}
		for _, t := range r.Tests {
			for _, kind := range kinds {
				if t.Number&^0x80 == kind && t.Status == ata.TestPassed {
					return fromTestLog(float64(uint16(uint64(now.Number)) - t.Hours))
				}
			}
		}
		return Missing("none is in the drive's log")
	}
}

func loggedErrors(r *reading.Reading) Value {
	if !r.HasErrors {
		if f, ok := r.FaultOf(reading.PageErrorLog); ok {
			return Missing(f.Back)
		}
		return Missing("the error log was not read")
	}
	return Value{Number: float64(r.ErrorTotal), Available: true, Source: "summary error log", Page: reading.PageErrorLog, Offset: 452, Length: 2, Confidence: dialect.Standard}
}

// Says puts into words what a move of the signal means, between two readings.
func (d Definition) Says(before, after float64) string {
	grew := after > before
	switch {
	case after < before && d.Direction == Grows:
		return "a counter that can only grow has fallen"
	case before == after && d.Matters && after > 0 && d.Unit != "°C":
		return "nothing added"
	case before == after:
		return d.Usual
	}
	switch d.Name {
	case Reallocated, ReallocationEvents:
		return "new flaws in the surface, replaced by spares"
	case Pending:
		if grew {
			return "places that cannot be read at present"
		}
		return "some were written or replaced"
	case UncorrectableOffline, ReportedUncorrectable:
		return "places that cannot be read"
	case CRCErrors:
		return "the link, not the drive: change the cable"
	case CommandTimeouts:
		return "often power or cable"
	case SpinUpRetries:
		return "motor, bearings or power"
	case TestsFailed, TestsFailedMechanics:
		return "the drive's own test"
	default:
	}
	return d.Usual
}
