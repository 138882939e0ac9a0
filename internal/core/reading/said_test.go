package reading

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
	"hylostat.example/internal/vector"
)

// said is what a reading tells people and those who judge, a line each; the decoded structures themselves are held by their rooms.
func said(pages ...Page) (lines []string) {
	r := Explain(pages, dialect.Hints{})
	for _, s := range r.Sheets {
		for _, f := range s.Facts {
			lines = append(lines, fmt.Sprintf("%d+%d %s: %s%s %s", f.Offset, f.Length, f.Name, f.Value, f.Reason, f.Unit))
		}
	}
	r.Sheets = nil
	var kept []string
	for i, v := 0, reflect.ValueOf(r); i < v.NumField(); i++ {
		if field := v.Type().Field(i); field.IsExported() && !v.Field(i).IsZero() {
			kept = append(kept, field.Name)
		}
	}
	lines = append(lines, "kept: "+strings.Join(kept, " "))
	for _, part := range []struct {
		name string
		of   any
	}{
		{"identity", r.Identity},
		{"can", r.Capabilities},
		{"tests", r.Tests},
		{"running", struct {
			Is   bool
			Left uint8
		}{r.TestRunning, r.TestRemaining}},
		{"errors", r.Errors},
		{"errors in all", r.ErrorTotal},
		{"alarm", struct {
			Is   ata.Alarm
			From PageName
		}{r.Alarm, r.AlarmFrom}},
		{"has", struct{ Counters, Tests, Errors bool }{r.HasCounters, r.HasTests, r.HasErrors}},
		{"faults", r.Faults},
	} {
		switch v := reflect.ValueOf(part.of); {
		case v.IsZero():
		case v.Kind() == reflect.Slice:
			for i := range v.Len() {
				lines = append(lines, part.name+" "+vector.Say(v.Index(i).Interface()))
			}
		default:
			lines = append(lines, part.name+" "+vector.Say(part.of))
		}
	}
	return lines
}

// alone holds what a page says that is made of a T, and what each of its fields is in it.
func alone[T any](b *vector.Book, name PageName, encode func(T) []byte) {
	all := vector.Shapes(b, string(name), func(v T) any { return said(Page{Name: name, Bytes: encode(v)}) })
	b.Line("  cut short")
	page := encode(all)
	for _, length := range []int{0, 3, len(page) / 2, len(page) - 1} {
		for _, line := range said(Page{Name: name, Bytes: page[:length]}) {
			if !strings.Contains(line, "+") { // what is still there is said as it was
				b.Line("%d %s", length, line)
			}
		}
	}
}

// after is alone, of a page that is understood by those before it.
func after[T any](b *vector.Book, name PageName, encode func(T) []byte, before ...Page) {
	vector.Shapes(b, string(name)+" after "+string(before[len(before)-1].Name), func(v T) any {
		return said(append(before[:len(before):len(before)], Page{Name: name, Bytes: encode(v)})...)
	})
}

// one encodes a list of one.
func one[T any](encode func([]T) []byte) func(T) []byte {
	return func(v T) []byte { return encode([]T{v}) }
}

// What each page says, by each field of it: testdata/said.txt. What whole drives say is held in internal/demo.
func TestWhatEachPageSays(t *testing.T) {
	b := vector.Open(t, "said.txt")
	sense := func(r ata.Registers) []byte { return sat.Sense(r, false).Encode() }
	disk := Page{Name: PageIdentify, Bytes: ata.Identify{
		Serial: "KVA077M511", Model: "Korvan K4-2000", Sectors: 50, LogicalSector: 512, Integrity: ata.IntegrityRight,
	}.Encode()}
	sas := Page{Name: PageInquiry, Bytes: scsi.InquiryData{Vendor: "Ostler", Product: "OS-900", Revision: "1A"}.Encode()}
	flash := Page{Name: PageController, Bytes: nvme.Controller{Serial: "HN1", Model: "Harrow N", Version: 0x10400}.Encode()}
	ofTests := func(all func(code uint8) []byte, name PageName) {
		b.Head(string(name) + ", each result")
		for code := range uint8(16) {
			for _, line := range said(Page{Name: name, Bytes: all(code)}) {
				b.Line("%x %s", code, line)
			}
		}
	}

	alone(b, PageIdentify, ata.Identify.Encode)
	alone(b, PageAttributes, ata.AttributePage.Encode)
	alone(b, PageAttributes, func(p ata.AttributePage) []byte { p.Test = ata.TestRunning; return p.Encode() })
	b.Head(string(PageDirectory))
	for _, line := range said(Page{Name: PageDirectory, Bytes: ata.LogDirectoryPages{3: 2, 0xE0: 1, 0xFF: 16}.Encode()}) {
		b.Line("%s", line)
	}
	for _, name := range []PageName{PagePower, PageAlarm, PageRecoveryRead, PageRecoveryWrite} {
		alone(b, name, sense)
	}
	for _, name := range []PageName{PageNativeMax, PageAccessibleMax} {
		after(b, name, sense, disk)
	}
	b.Head("registers")
	for _, name := range []PageName{PagePower, PageAlarm, PageRecoveryRead, PageRecoveryWrite, PageNativeMax, PageAccessibleMax} {
		for _, r := range []ata.Registers{
			{},
			{Status: 0x50},
			{Count: 0x80},
			{Count: 0xFF},
			{Count: 70},
			{Count: 1},
			{LBA: 49},
			{LBA: 50},
			{LBA: 1<<48 - 1},
			{LBA: 1 << 30, Narrow: true},
			ata.AlarmRegisters(false), ata.AlarmRegisters(true),
			{LBA: 99, Status: 0x51, Error: ata.ErrorABRT},
		} {
			r.Reported = true
			for _, line := range said(disk, Page{Name: name, Bytes: sense(r)}) {
				if strings.HasPrefix(line, "0+") || !strings.Contains(line, "+") {
					b.Line("%s %s: %s", name, vector.Say(r), line)
				}
			}
		}
	}
	alone(b, PageErrorLog, ata.ErrorLog.Encode)
	alone(b, PageErrorsExt, ata.ErrorLog.EncodeExt)
	alone(b, PageErrorLog, func(e ata.LoggedError) []byte { return ata.ErrorLog{Total: 3, Errors: []ata.LoggedError{e}}.Encode() })
	alone(b, PageTestLog, ata.SelfTestLog.Encode)
	alone(b, PageTestLogExt, ata.SelfTestLog.EncodeExt)
	ofTests(func(code uint8) []byte {
		return ata.SelfTestLog{Tests: []ata.SelfTest{{Number: ata.TestShort, Status: ata.TestStatus(code), Hours: 7}}}.Encode()
	}, PageTestLog)
	alone(b, PageSelective, ata.SelectiveLog.Encode)
	alone(b, PagePending, ata.PendingLog.Encode)
	alone(b, PagePHY, one(ata.EncodePHY))
	alone(b, PageStatistics, func(s ata.Statistic) []byte {
		s.StatisticKey = ata.StatPowerOnHours
		return ata.EncodeStatistics([]ata.Statistic{s})
	})
	alone(b, PageSCTStatus, ata.SCTReport.Encode)
	alone(b, PageTemperatures, ata.TemperatureHistory.Encode)
	after(b, PageConfiguration, ata.Configuration.Encode, disk)
	alone(b, PageRanges, one(scsi.EncodeATARanges))
	alone(b, PageElements, func(e scsi.Elements) []byte { return e.Encode(true) })
	alone(b, PageATALock, tcg.Discovery.Encode)
	alone(b, PageATALock, func(d tcg.Discovery) []byte { d.Subsystems = []string{"Opal 2", "Enterprise"}; return d.Encode() })

	alone(b, PageController, nvme.Controller.Encode)
	after(b, PageNamespace(1), nvme.Namespace.Encode, flash)
	alone(b, PageNames(1), one(nvme.EncodeNames))
	alone(b, PageHealth, nvme.Health.Encode)
	alone(b, PageNVMeErrors, func(e nvme.LoggedError) []byte { return nvme.EncodeErrors([]nvme.LoggedError{e}, 2) })
	alone(b, PageNVMeTests, nvme.SelfTestLog.Encode)
	ofTests(func(code uint8) []byte {
		return nvme.SelfTestLog{Tests: []nvme.SelfTest{{Code: 1, Result: nvme.TestResult(code), Hours: 7}}}.Encode()
	}, PageNVMeTests)
	alone(b, PageFirmware, nvme.Firmware.Encode)
	alone(b, PageEffects, func(of struct{ All []nvme.Opcode }) []byte {
		return nvme.EncodeEffects(append(of.All, nvme.IdentifyOp)...)
	})
	alone(b, PageSupported, func(of struct{ All []uint8 }) []byte { return nvme.EncodeSupported(of.All...) })
	alone(b, PagePersistent, nvme.PersistentLog.Encode)
	alone(b, PageDatacenter, nvme.Datacenter.Encode)
	alone(b, PageEndurance(1), nvme.Endurance.Encode)
	alone(b, PageSanitize, nvme.SanitizeStatus.Encode)
	alone(b, PageSanitize, func(s nvme.SanitizeStatus) []byte {
		s.State = nvme.SanitizeRuns
		if s.Progress != 0 {
			s.Progress = 1 << 15
		}
		return s.Encode()
	})

	alone(b, PageInquiry, scsi.InquiryData.Encode)
	after(b, PageCapacity, scsi.Capacity.Encode, sas)
	after(b, PageCapacity, scsi.Capacity.Encode, disk)
	alone(b, PageDefects, scsi.Defects.Encode)
	alone(b, PageControl, scsi.Control.Encode)
	for _, times := range []uint16{1, 120} {
		after(b, PageVPD(scsi.VPDCharacteristics), func(c scsi.Characteristics) []byte {
			c.RotationRate = 1 + c.RotationRate*times
			return c.Encode()
		}, sas)
	}
	after(b, PageVPD(scsi.VPDIdentification), func(of struct{ Unit, Port uint64 }) []byte {
		return scsi.EncodeDesignators(of.Unit, of.Port)
	}, sas)
	after(b, PageVPD(scsi.VPDSerial), func(of struct{ Serial string }) []byte {
		return scsi.EncodeVPD(scsi.VPDSerial, []byte(of.Serial))
	}, sas)
	alone(b, PageVPD(scsi.VPDRanges), one(scsi.EncodeRanges))
	alone(b, PageLog(scsi.LogSelfTests), one(scsi.EncodeSelfTests))
	ofTests(func(code uint8) []byte {
		return scsi.EncodeSelfTests([]scsi.SelfTest{{
			Code:   1,
			Result: scsi.TestResult(code),
			Hours:  7,
			Sense:  scsi.Sense{Key: 4, ASC: 0x40},
		}})
	}, PageLog(scsi.LogSelfTests))
	alone(b, PageLog(scsi.LogBackground), scsi.Background.Encode)
	alone(b, PageLog(scsi.LogProtocol), func(p scsi.PortPhy) []byte {
		p.Rate = min(p.Rate, 11)
		return scsi.EncodePorts([]scsi.PortPhy{p}, true)
	})
	alone(b, PageLog(scsi.LogPending), scsi.PendingDefects.Encode)
	alone(b, PageLog(scsi.LogEnvironment), scsi.Environment.Encode)
	alone(b, PageLog(scsi.LogEnvironLimits), scsi.EnvironmentLimits.Encode)
	b.Head("parameters of SCSI logs")
	for _, id := range []scsi.LogID{
		scsi.LogWriteErrors, scsi.LogReadErrors, scsi.LogVerifyErrors, scsi.LogTemperature, scsi.LogStartStop, scsi.LogSolidState,
		scsi.LogInformational,
		{Page: 0x30},
	} {
		for code := range uint16(7) {
			for _, v := range [][]byte{
				{},
				{9},
				{1, 0xFF},
				{1, 38},
				{0, 1, 2, 93},
				{0xFF, 0xFF, 0xFF, 0xFF},
				[]byte("202617"), []byte("000000"),
				make([]byte, 8), make([]byte, 9),
			} {
				page := scsi.EncodeLogPage(id, scsi.Parameter{Code: code, Value: v})
				if lines := said(Page{Name: PageLog(id), Bytes: page}); strings.Contains(lines[0], "+") { // a fact has a place
					b.Line("%s %d %x: %s", id, code, v, lines[0])
				}
			}
		}
	}
	b.Head("names of pages")
	for _, name := range []PageName{
		"", "ata/log-99", "nvme/log-09-x", "nvme/namespace-", "scsi/log-1ff", "scsi/log-1f-100", "scsi/log-1f-", "scsi/log-0d-01",
		"scsi/vpd-100",
		"scsi/vpd-c0", "scsi/vpd-zz", "scsi/mode-1d", "tape/x", PageImage, PageTelemetry, PageInternalStatus, PageIdentifyData,
	} {
		b.Line("%q: %q, %s", name, name.Title(), said(Page{Name: name, Bytes: []byte{0, 0xC0, 0, 1, 7}}))
	}
	b.Close()
}
