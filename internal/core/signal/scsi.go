package signal

import (
	"fmt"
	"slices"

	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
)

// The sources of drives that speak SCSI themselves.

// logParameter takes a number out of a SCSI log page.
func logParameter(page scsi.LogID, code uint16) Source {
	what := fmt.Sprintf("log page %s, %s", page, scsi.ParameterName(page, code))
	return Source{what, drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
		p, ok := r.SCSI.Logs[page].Parameter(code)
		n, number := p.Number()
		if !ok || !number || allOnes(p.Value) {
			return notRead(r, fmt.Sprintf("log page %s does not hold it", page), reading.PageLog(page))
		}
		return at(float64(n), what, reading.PageLog(page), p.Offset, len(p.Value), dialect.Standard)
	}}
}

// allOnes reports whether a parameter is nothing but ones: the drive does not count it.
func allOnes(b []byte) bool {
	return len(b) > 1 && !slices.ContainsFunc(b, func(x byte) bool { return x != 0xFF })
}

// uncorrectedErrors adds up what could not be corrected in reading, writing and verifying. Where one of the pages could not
// be read there is no sum: a smaller one would look like a counter that fell.
var uncorrectedErrors = Source{
	"log pages 02h, 03h and 05h, total uncorrected errors",
	drive.SCSI,
	dialect.Standard,
	func(r *reading.Reading) Value {
		sum, found := uint64(0), false
		var place scsi.Parameter
		for _, page := range []scsi.LogID{scsi.LogWriteErrors, scsi.LogVerifyErrors, scsi.LogReadErrors} {
			if why, damaged := damagedIn(r, reading.PageLog(page)); damaged {
				return Missing(why)
			}
			if r.SCSI.Logs[page].Short {
				return Missing("log page " + page.String() + " ends before its end")
			}
			if p, ok := r.SCSI.Logs[page].Parameter(scsi.CounterUncorrected); ok && !allOnes(p.Value) {
				if n, ok := p.Number(); ok {
					sum, found, place = sum+n, true, p
				}
			}
		}
		if !found {
			return notRead(r, "the drive counts no uncorrected errors", reading.PageLog(scsi.LogReadErrors))
		}
		return at(
			float64(sum), "log pages 02h, 03h and 05h, total uncorrected errors", reading.PageLog(scsi.LogReadErrors),
			place.Offset, len(place.Value), dialect.Standard,
		)
	},
}

var grownDefects = Source{"grown defect list", drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
	if r.SCSI.Defects == nil {
		return notRead(r, "the grown defect list was not read", reading.PageDefects, reading.PageDefects10)
	}
	page, offset, length := reading.PageDefects, 4, 4
	if r.SCSI.Defects.Short {
		page, offset, length = reading.PageDefects10, 2, 2
	}
	return at(float64(r.SCSI.Defects.Count), "grown defect list", page, offset, length, dialect.Standard)
}}

var scanFindings = Source{"log page 15h, results of the background scan", drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
	if r.SCSI.Background == nil {
		return notRead(r, "the drive keeps no results of a scan", reading.PageLog(scsi.LogBackground))
	}
	n := 0
	for _, f := range r.SCSI.Background.Found {
		if f.Failed() {
			n++
		}
	}
	return at(float64(n), "log page 15h", reading.PageLog(scsi.LogBackground), 0, 0, dialect.Standard)
}}

var backgroundHours = Source{"log page 15h, minutes powered on", drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
	l := r.SCSI.Logs[scsi.LogBackground]
	if r.SCSI.Background == nil || len(l.Parameters) == 0 || r.SCSI.Background.Minutes == 0 {
		return notRead(r, "the drive does not tell its hours", reading.PageLog(scsi.LogBackground))
	}
	return at(
		float64(r.SCSI.Background.Minutes/60), "log page 15h, minutes powered on", reading.PageLog(scsi.LogBackground),
		l.Parameters[0].Offset, 4, dialect.Standard,
	)
}}

var scsiTemperature = Source{"log page 0Dh, or 2Fh", drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
	if p, ok := r.SCSI.Logs[scsi.LogTemperature].Parameter(scsi.TemperatureNow); ok && len(p.Value) >= 2 && p.Value[1] != 0xFF {
		return at(float64(p.Value[1]), "log page 0Dh, temperature", reading.PageLog(scsi.LogTemperature), p.Offset+1, 1, dialect.Standard)
	}
	if i := r.SCSI.Informational; i != nil && i.Temperature != 0xFF && i.Temperature != 0 {
		return at(
			float64(i.Temperature), "log page 2Fh, temperature", reading.PageLog(scsi.LogInformational), i.Offset+2, 1,
			dialect.Standard,
		)
	}
	return notRead(r, "the drive reports no temperature", reading.PageLog(scsi.LogTemperature))
}}

var solidState = Source{"log page 11h, percentage used", drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
	p, ok := r.SCSI.Logs[scsi.LogSolidState].Parameter(scsi.PercentageUsed)
	if !ok || len(p.Value) < 4 {
		return notRead(r, "the drive does not tell its wear", reading.PageLog(scsi.LogSolidState))
	}
	return at(float64(p.Value[3]), "log page 11h, percentage used", reading.PageLog(scsi.LogSolidState), p.Offset+3, 1, dialect.Standard)
}}

func informational(what string, is func(scsi.Informational) bool) Source {
	return Source{"log page 2Fh, " + what, drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
		i := r.SCSI.Informational
		if i == nil {
			return notRead(r, "the drive gives no informational exceptions", reading.PageLog(scsi.LogInformational))
		}
		if c := r.SCSI.Control; c != nil && c.Disabled && !is(*i) { // mode page 1Ch, DEXCPT
			return Missing("the drive was told to report no exceptions")
		}
		return at(truth(is(*i)), "log page 2Fh, "+what, reading.PageLog(scsi.LogInformational), i.Offset, 2, dialect.Standard)
	}}
}

var (
	informationalAlarm   = informational("failure predicted", scsi.Informational.Predicts)
	informationalWarning = informational("warning", scsi.Informational.Warns)
)

// invalidDwords are damaged words on the links of a SAS drive.
var invalidDwords = Source{"log page 18h, invalid dwords of all phys", drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
	if len(r.SCSI.Ports) == 0 {
		return notRead(r, "the drive counts no link errors", reading.PageLog(scsi.LogProtocol))
	}
	sum := uint64(0)
	for _, p := range r.SCSI.Ports {
		sum += uint64(p.Invalid)
	}
	return at(
		float64(sum), "log page 18h, invalid dwords", reading.PageLog(scsi.LogProtocol), r.SCSI.Ports[0].Offset+32, 4,
		dialect.Standard,
	)
}}

var scsiPending = Source{"log page 15h/01h, as physical sectors", drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
	if r.SCSI.Pending == nil {
		return notRead(r, "the drive keeps no list of pending defects", reading.PageLog(scsi.LogPending))
	}
	if why, damaged := damagedIn(r, reading.PageLog(scsi.LogPending)); damaged {
		return Missing(why)
	}
	if r.SCSI.Logs[scsi.LogPending].Short {
		return Missing("the list of pending defects ends before its end")
	}
	var listed []uint64
	for _, d := range r.SCSI.Pending.Defects {
		listed = append(listed, d.LBA)
	}
	return at(
		physicalSectors(r.Identity, uint64(r.SCSI.Pending.Count), listed), "log page 15h/01h", reading.PageLog(scsi.LogPending),
		8, 4, dialect.Standard,
	)
}}

// environment takes a temperature of a SCSI drive's environmental report.
func environment(what string, offset int, pick func(*scsi.Environment) int8) Source {
	return Source{"log page 0Dh/01h, " + what, drive.SCSI, dialect.Standard, func(r *reading.Reading) Value {
		e := r.SCSI.Environment
		if e == nil || pick(e) == scsi.NoTemperature {
			return notRead(r, "the drive keeps no record of its extremes", reading.PageLog(scsi.LogEnvironment))
		}
		return at(float64(pick(e)), "log page 0Dh/01h, "+what, reading.PageLog(scsi.LogEnvironment), e.Offset+offset, 1, dialect.Standard)
	}}
}
