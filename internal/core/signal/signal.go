// Package signal turns a Reading into signals: single comparable quantities with one name whatever the drive's interface.
// Every signal is one entry of the registry, with its sources in order of preference. A quantity that a drive does not
// give is a value of its own with the reason, never a zero. Start with Registry and Of; sources.go holds where they come from.
package signal

import (
	"fmt"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
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
	Words     string // for a table: "sectors reallocated"
	Unit      string // "sectors", "°C", "h", "B"; empty for a bare count
	Direction Direction
	Usual     string       // the reference that stands beside the number
	Matters   bool         // a change of it is an event in the drive's life
	Inner     bool         // for rules; people see it in the self-test log instead
	Only      drive.Medium // the other kind of drive has none; empty: both have it
	Sources   []Source     // in order of preference
}

const (
	matters = true
	quiet   = false
)

// Registry lists every signal, in the order in which tables show them.
var Registry = []Definition{
	{1, Reallocated, "media", "reallocated", "sectors", Grows, "usual 0", matters, false, "", from(inPhysical(statistic(ata.StatReallocatedSectors)), attribute(Reallocated, 5))},
	{35, GrownDefects, "media", "grown defects", "sectors", Grows, "usual 0", matters, false, "", from(grownDefects)},
	{2, Pending, "media", "waiting", "sectors", Varies, "usual 0", matters, false, "", from(pendingList, inPhysical(statistic(ata.StatPendingErrors)), attribute(Pending, 197), scsiPending)},
	{3, UncorrectableOffline, "media", "unreadable, found offline", "sectors", Varies, "usual 0", matters, false, "", from(attribute(UncorrectableOffline, 198))},
	{4, ReportedUncorrectable, "media", "errors reported", "", Grows, "usual 0", matters, false, "", from(statistic(ata.StatReportedUncorrected), attribute(ReportedUncorrectable, 187), uncorrectedErrors)},
	{36, MediaErrors, "media", "media errors", "", Grows, "usual 0", matters, false, "", from(health("Media and data integrity errors", 160, 16, func(h *nvme.Health) float64 { return h.MediaErrors.Float() }))},
	{54, ScanFindings, "media", "places found by the drive's own scan", "", Varies, "usual 0", matters, false, "", from(scanFindings)},
	{37, UnreadableFound, "media", "unreadable, found by a sweep", "sectors", Varies, "usual 0", matters, false, "", from(sweep)},
	{38, SlowFound, "media", "slow places, found by a sweep", "places", Varies, "usual 0", matters, false, "", from(sweep)},
	{5, ReallocationEvents, "media", "reallocation events", "", Grows, "usual 0", matters, false, "", from(attribute(ReallocationEvents, 196))},
	{6, SpinUpRetries, "mechanics", "spin-up retries", "", Grows, "usual 0", matters, false, drive.Spinning, from(attribute(SpinUpRetries, 10))},
	{28, StartFailures, "mechanics", "start failures", "", Grows, "usual 0", matters, false, drive.Spinning, from(statistic(ata.StatStartFailures))},
	{32, SeekErrors, "mechanics", "seek errors", "", Grows, "few", quiet, false, drive.Spinning, from(attribute(SeekErrors, 7))},
	{33, FreeFalls, "mechanics", "free falls", "", Grows, "usual 0", matters, false, drive.Spinning, from(statistic(ata.StatFreeFalls), attribute(FreeFalls, 254))},
	{7, EndToEndErrors, "link", "end-to-end errors", "", Grows, "usual 0", matters, false, "", from(attribute(EndToEndErrors, 184), datacenterEndToEnd)},
	{8, TestsFailed, "tests", "self-tests failed", "", Varies, "usual 0", matters, false, "", from(tests("failed ones", func(t *reading.SelfTest) bool { return t.Failed }))},
	{9, TestsFailedMechanics, "tests", "self-tests failed on mechanics or electronics", "", Varies, "usual 0", matters, false, "", from(tests("those failed on mechanics or electronics", func(t *reading.SelfTest) bool { return t.Failed && t.Mechanics }))},
	{65, TestsFailedPlaces, "tests", "places at which self-tests failed", "", Varies, "usual 0", quiet, true, "", from(failedPlaces)},
	{10, Alarm, "alarm", "the drive's own alarm", "", Varies, "usual 0", matters, false, "", from(returnStatus, healthAlarm, informationalAlarm)},
	{48, WarningRaised, "alarm", "the drive's own warning", "", Varies, "usual 0", matters, false, "", from(informationalWarning)},
	{57, DamagedPages, "alarm", "pages of its own that come damaged", "", Varies, "usual 0", matters, false, "", from(damagedPages)},
	{58, ElementsBad, "mechanics", "heads outside their specification, or given up", "", Varies, "usual 0", matters, false, drive.Spinning, from(elementsBad)},
	{11, AttributesFailing, "alarm", "attributes at their threshold", "", Varies, "usual 0", matters, false, "", from(attributes("pre-failure, at or below its threshold", func(a *reading.Attribute) bool { return a.PreFailure() && a.State() == reading.Failing }))},
	{12, AttributesFell, "alarm", "attributes once at their threshold", "", Grows, "usual 0", matters, false, "", from(attributes("pre-failure, ever at or below its threshold", func(a *reading.Attribute) bool {
		return a.PreFailure() && (a.State() == reading.FellBefore || a.State() == reading.Failing)
	}))},
	{44, SpareLow, "flash", "warning: spare below its threshold", "", Varies, "usual 0", matters, false, drive.Flash, from(warning(nvme.WarnSpare))},
	{45, ReliabilityDegraded, "flash", "warning: reliability degraded", "", Varies, "usual 0", matters, false, drive.Flash, from(warning(nvme.WarnReliability))},
	{43, ReadOnly, "flash", "warning: read-only", "", Varies, "usual 0", matters, false, drive.Flash, from(warning(nvme.WarnReadOnly))},
	{46, BackupFailed, "flash", "warning: memory backup failed", "", Varies, "usual 0", matters, false, drive.Flash, from(warning(nvme.WarnBackup))},
	{13, CRCErrors, "link", "link errors", "", Restarts, "usual steady", matters, false, "", from(statistic(ata.StatCRCErrors), attribute(CRCErrors, 199), invalidDwords)},
	{34, Resets, "link", "resets of the link", "", Restarts, "usual steady", quiet, false, "", from(statistic(ata.StatHardwareResets))},
	{14, CommandTimeouts, "link", "commands timed out", "", Grows, "usual steady", matters, false, "", from(attribute(CommandTimeouts, 188))},
	{15, ProgramFailures, "flash", "program failures", "", Grows, "usual 0", matters, false, drive.Flash, from(attribute(ProgramFailures, 171))},
	{16, EraseFailures, "flash", "erase failures", "", Grows, "usual 0", matters, false, drive.Flash, from(attribute(EraseFailures, 172))},
	{27, PercentageUsed, "flash", "wear", "%", Grows, "rated for 100 %", matters, false, drive.Flash, from(statistic(ata.StatPercentageUsed), attribute(PercentageUsed, 233), health("Percentage used", 5, 1, func(h *nvme.Health) float64 { return float64(h.Used) }), solidState)},
	{40, AvailableSpare, "flash", "spare", "%", Varies, "usual 100 %", matters, false, drive.Flash, from(spare("Available spare", 3, 1, func(h *nvme.Health) float64 { return float64(h.Spare) }), attribute(AvailableSpare, 232))},
	{41, SpareThreshold, "flash", "spare threshold", "%", Varies, "the drive's own", quiet, true, drive.Flash, from(spare("Available spare threshold", 4, 1, func(h *nvme.Health) float64 { return float64(h.SpareThreshold) }))},
	{42, SpareMargin, "flash", "spare above its threshold", "%", Varies, "", quiet, true, drive.Flash, from(spare("Available spare over its threshold", 3, 2, func(h *nvme.Health) float64 { return float64(h.Spare) - float64(h.SpareThreshold) }))},
	{17, UnsafeShutdowns, "flash", "sudden power losses", "", Grows, "", quiet, false, drive.Flash, from(attribute(UnsafeShutdowns, 174), health("Unsafe shutdowns", 144, 16, func(h *nvme.Health) float64 { return h.UnsafeShutdowns.Float() }))},
	{18, Temperature, "heat", "temperature", "°C", Varies, "usual 35 to 45 °C", quiet, false, "", from(statistic(ata.StatTemperature), attribute(Temperature, 194), sctTemperature, healthTemperature, scsiTemperature)},
	{19, TemperatureHighest, "heat", "hottest so far", "°C", Grows, "advice from 55 °C", matters, false, "", from(statistic(ata.StatHighestTemperature), sctHighest, attributeExtreme(true), environment("highest ever", 2, func(e *scsi.Environment) int8 { return e.LifeHighest }))},
	{39, TemperatureLowest, "heat", "coldest so far", "°C", Varies, "", quiet, true, "", from(statistic(ata.StatLowestTemperature), sctLowest, attributeExtreme(false), environment("lowest ever", 3, func(e *scsi.Environment) int8 { return e.LifeLowest }))},
	{31, TimeTooHot, "heat", "time above the drive's own limit", "min", Grows, "usual 0", matters, false, "", from(statistic(ata.StatTimeOverTemperature), health("Time above the warning temperature", 192, 4, func(h *nvme.Health) float64 { return float64(h.WarningMinutes) }))},
	{47, TimeCritical, "heat", "time above the critical temperature", "min", Grows, "usual 0", matters, false, "", from(health("Time above the critical temperature", 196, 4, func(h *nvme.Health) float64 { return float64(h.CriticalMinutes) }))},
	{20, LoadCycles, "mechanics", "head loadings", "", Grows, "some 300 000", quiet, false, drive.Spinning, from(statistic(ata.StatHeadLoads), attribute(LoadCycles, 193), logParameter(scsi.LogStartStop, scsi.LoadUnloadCycles))},
	{21, PowerOnHours, "life", "hours powered on", "h", Grows, "", quiet, false, "", hoursSources},
	{62, HoursRaw, "life", "time powered on, as it is counted", "", Varies, "", quiet, true, "", from(rawHours)},
	{63, HoursCounted, "life", "hours by a clock that counts hours", "h", Varies, "", quiet, true, "", from(statistic(ata.StatPowerOnHours))},
	{64, HoursStamp, "life", "hours of the newest entry of its logs", "h", Varies, "", quiet, true, "", from(logStamp)},
	{22, PowerCycles, "life", "power cycles", "", Grows, "", quiet, false, "", from(attribute(PowerCycles, 12), health("Power cycles", 112, 16, func(h *nvme.Health) float64 { return h.PowerCycles.Float() }), logParameter(scsi.LogStartStop, scsi.StartStopCycles))},
	{59, Capacity, "life", "capacity", "B", Varies, "", quiet, true, "", from(capacity)},
	{60, CapacityShown, "life", "capacity the adapter shows", "B", Varies, "the drive's own", quiet, true, "", from(capacityShown)},
	{61, CapacityLabel, "life", "capacity on the label", "B", Varies, "the drive's own", quiet, true, "", from(capacityLabel)},
	{29, BytesWritten, "life", "data written", "B", Grows, "", quiet, false, "", from(inBytes(statistic(ata.StatSectorsWritten)), attribute(BytesWritten, 241), dataUnits("Data units written", 48, func(h *nvme.Health) (units, commands nvme.Counter) { return h.Written, h.WriteCommands }), logParameter(scsi.LogWriteErrors, scsi.CounterProcessed))},
	{30, BytesRead, "life", "data read", "B", Grows, "", quiet, false, "", from(inBytes(statistic(ata.StatSectorsRead)), attribute(BytesRead, 242), dataUnits("Data units read", 32, func(h *nvme.Health) (units, commands nvme.Counter) { return h.Read, h.ReadCommands }), logParameter(scsi.LogReadErrors, scsi.CounterProcessed))},
	{49, AgeFromLabel, "life", "age from the label", "years", Grows, "", quiet, true, "", from(label)},
	{23, LoggedErrors, "tests", "errors in the drive's log", "", Grows, "", quiet, false, "", from(loggedErrors, health("Error information log entries", 176, 16, func(h *nvme.Health) float64 { return h.ErrorEntries.Float() }))},
	{24, TestsPassedSince, "tests", "self-tests passed since the last failure", "", Varies, "", quiet, true, "", from(testsPassedSince)},
	{51, LastShortTest, "tests", "the last short self-test failed", "", Varies, "usual 0", quiet, true, "", from(lastTest("short"))},
	{52, LastExtendedTest, "tests", "the last extended self-test failed", "", Varies, "usual 0", quiet, true, "", from(lastTest("extended"))},
	{53, LastConveyanceTest, "tests", "the last conveyance self-test failed", "", Varies, "usual 0", quiet, true, "", from(lastTest("conveyance"))},
	{50, FirstFailingLBA, "tests", "first failing LBA", "", Varies, "", quiet, true, "", from(firstFailing)},
	{25, ShortTestAge, "tests", "since a short self-test passed", "h", Varies, "", quiet, true, "", from(testAge("hours since one passed", passed("short", "extended")))},
	{26, ExtendedTestAge, "tests", "since an extended self-test passed", "h", Varies, "", quiet, true, "", from(testAge("hours since one passed", passed("extended")))},
	{66, FailedTestAge, "tests", "since a self-test failed", "h", Varies, "", quiet, true, "", from(testAge("hours since one failed", func(t *reading.SelfTest) bool { return t.Failed }))},
	{55, WholeSweepAge, "tests", "since a whole sweep", "h", Varies, "", quiet, true, "", from(sweep)},
	{56, SpotSweepAge, "tests", "since a spot sweep", "h", Varies, "", quiet, true, "", from(sweep)},
}

// hoursSources stand apart because the age of a self-test needs them, too.
var hoursSources = from(statistic(ata.StatPowerOnHours), attribute(PowerOnHours, 9), health("Power on hours", 128, 16, func(h *nvme.Health) float64 { return h.Hours.Float() }), backgroundHours)

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
	uncounted = map[drive.Interface]Value{drive.ATA: Missing("an ATA drive does not count it"), drive.NVMe: Missing("an NVMe drive does not count it"), drive.SCSI: Missing("a SCSI drive does not count it")}
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
