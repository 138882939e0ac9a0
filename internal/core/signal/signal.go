// Package signal turns a Reading into signals: single comparable quantities with one name whatever the drive's interface.
// Every signal is one entry of the registry, with its sources in order of preference. A quantity that a drive does not
// give is a value of its own with the reason, never a zero. Start with Registry and Of; sources.go holds where they come from.
package signal

import (
	"fmt"
	"strings"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/wording"
)

// Name names a signal, in code, policies, storage and the API alike.
type Name string

// The signals of this edition.
const (
	Reallocated           Name = "reallocated"
	Pending               Name = "pending"
	UncorrectableOffline  Name = "uncorrectable_offline"
	ReportedUncorrectable Name = "reported_uncorrectable"
	GrownDefects          Name = "grown_defects"
	MediaErrors           Name = "media_errors"
	ScanFindings          Name = "scan_findings"
	UnreadableFound       Name = "unreadable_found"
	SlowFound             Name = "slow_found"
	ReallocationEvents    Name = "reallocation_events"
	SpinUpRetries         Name = "spin_up_retries"
	StartFailures         Name = "start_failures"
	SeekErrors            Name = "seek_errors"
	LoadCycles            Name = "load_cycles"
	FreeFalls             Name = "free_falls"
	CRCErrors             Name = "crc_errors"
	Resets                Name = "resets"
	CommandTimeouts       Name = "command_timeouts"
	EndToEndErrors        Name = "end_to_end_errors"
	PercentageUsed        Name = "percentage_used"
	AvailableSpare        Name = "available_spare"
	SpareThreshold        Name = "spare_threshold"
	SpareMargin           Name = "spare_margin"
	ProgramFailures       Name = "program_failures"
	EraseFailures         Name = "erase_failures"
	UnsafeShutdowns       Name = "unsafe_shutdowns"
	SpareLow              Name = "spare_low"
	ReliabilityDegraded   Name = "reliability_degraded"
	ReadOnly              Name = "read_only"
	BackupFailed          Name = "backup_failed"
	Temperature           Name = "temperature"
	TemperatureHighest    Name = "temperature_highest"
	TemperatureLowest     Name = "temperature_lowest"
	TimeTooHot            Name = "time_too_hot"
	TimeCritical          Name = "time_critical"
	PowerOnHours          Name = "power_on_hours"
	PowerCycles           Name = "power_cycles"
	BytesWritten          Name = "bytes_written"
	BytesRead             Name = "bytes_read"
	AgeFromLabel          Name = "age_from_label"
	LoggedErrors          Name = "logged_errors"
	Alarm                 Name = "alarm"
	WarningRaised         Name = "warning_raised"
	DamagedPages          Name = "damaged_pages"
	AttributesFailing     Name = "attributes_failing"
	AttributesFell        Name = "attributes_fell"
	TestsFailed           Name = "tests_failed"
	TestsPassedSince      Name = "tests_passed_since"
	TestsFailedPlaces     Name = "tests_failed_places"
	TestsFailedMechanics  Name = "tests_failed_mechanics"
	LastShortTest         Name = "last_short_test"
	LastExtendedTest      Name = "last_extended_test"
	LastConveyanceTest    Name = "last_conveyance_test"
	FirstFailingLBA       Name = "first_failing_lba"
	ElementsBad           Name = "elements_bad"
	HoursRaw              Name = "hours_raw"
	HoursCounted          Name = "hours_counted"
	HoursStamp            Name = "hours_stamp"
	Capacity              Name = "capacity"
	CapacityShown         Name = "capacity_shown"
	CapacityLabel         Name = "capacity_label"
	ShortTestAge          Name = "short_test_age"
	ExtendedTestAge       Name = "extended_test_age"
	FailedTestAge         Name = "failed_test_age"
	WholeSweepAge         Name = "whole_sweep_age"
	SpotSweepAge          Name = "spot_sweep_age"
)

// BySweep reports whether a signal is what a sweep found: every reading tells it again until the next sweep.
func (n Name) BySweep() bool { return n == UnreadableFound || n == SlowFound }

// Direction tells how a signal may move.
type Direction uint8

// The directions.
const (
	Grows    Direction = iota // a counter that can only rise; a fall is a rollback
	Varies                    // may rise and fall
	Restarts                  // a counter that begins anew when the power comes: a fall is no rollback, what it counted before it counts
)

func (d Direction) String() string {
	return [...]string{"only grows", "rises and falls", "grows, and begins anew at power-on"}[min(d, Restarts)]
}

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
	Run        int64              // of the sweep it is from; 0: it is from a page
	Carried    bool               // the latest reading does not give it: it is from an earlier one, which Source names
	Disagrees  string             // another source has another number; empty when none has
}

// Definition is one entry of the registry.
type Definition struct {
	Code      uint8 // in packed form, never reused for another signal
	Name      Name
	Group     string // "media", "mechanics" ...
	Words     string // for a table: "reallocated sectors"
	Unit      string // "sectors", "°C", "h", "B"; empty for a bare count
	Direction Direction
	Usual     string       // the reference that stands beside the number
	Matters   bool         // a change of it is an event in the drive's life
	Inner     bool         // for rules; people see it in the self-test log instead
	Only      drive.Medium // the other kind of drive has none; empty: both have it
	Sources   []Source     // in order of preference
}

// Amount is a value with the unit, where the signal's words do not tell that already: "pending sectors: 8", "temperature: 41 °C".
func (d Definition) Amount(x float64) string {
	if d.TellsUnit() {
		return wording.Number(x)
	}
	return wording.Of(x, wording.Singular(d.Unit, x))
}

// Heading is the words for a column of bare numbers: "temperature °C".
func (d Definition) Heading() string {
	if d.TellsUnit() || d.Unit == "" {
		return d.Words
	}
	return d.Words + " " + d.Unit
}

// TellsUnit reports whether the words name the unit: "pending sectors".
func (d Definition) TellsUnit() bool {
	what, _, _ := strings.Cut(d.Words, ",")
	return d.Unit != "" && strings.HasSuffix(what, d.Unit)
}

// hoursSources stand apart because the age of a self-test needs them, too.
var hoursSources = from(
	statistic(ata.StatPowerOnHours), attribute(PowerOnHours, 9),
	health("Power on hours", 128, 16, func(h *nvme.Health) float64 { return h.Hours.Float() }), backgroundHours,
)

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
	for i := range Registry {
		s[Registry[i].Name] = Registry[i].of(r)
	}
	return s
}

// Missing is a value that is not available.
func Missing(reason string) Value { return Value{Reason: reason} }

// What is said of a signal that only the other kind of drive has, and of one that an interface has no source for.
var (
	onlyOther = map[drive.Medium]Value{drive.Spinning: Missing("a flash drive has none"), drive.Flash: Missing("a rotating drive has none")}
	uncounted = map[drive.Interface]Value{
		drive.ATA:  Missing("an ATA drive does not count it"),
		drive.NVMe: Missing("an NVMe drive does not count it"),
		drive.SCSI: Missing("a SCSI drive does not count it"),
	}
)

// of takes the first source of the drive's interface that has the value, and says when a later one has another.
func (d *Definition) of(r *reading.Reading) Value {
	if d.Only != "" && r.Identity.Medium != d.Only && r.Identity.Medium != drive.MediumUnknown {
		return onlyOther[d.Only]
	}
	kind := r.Identity.Interface
	if kind == drive.InterfaceUnknown {
		kind = drive.ATA
	}
	best := uncounted[kind]
	for i := range d.Sources {
		source := &d.Sources[i]
		if source.On != "" && source.On != kind {
			continue
		}
		v := source.get(r)
		switch {
		case !best.Available:
			best = v // the last source's reason is the one people know
		case v.Available && v.Number != best.Number && best.Disagrees == "":
			best.Disagrees = fmt.Sprintf("%s says %g", v.Source, v.Number)
		}
	}
	return best
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
	case GrownDefects:
		return "new flaws in the surface, replaced by spares"
	case MediaErrors:
		return "data the drive could not read back"
	case SpareLow, ReliabilityDegraded, ReadOnly, BackupFailed:
		return "the drive warns of itself"
	case TestsFailed, TestsFailedMechanics:
		return "the drive's own test"
	default:
	}
	return d.Usual
}
