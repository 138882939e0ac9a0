package probe

import (
	"context"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
)

// Test is a drive's own self-test, in the background, whatever the interface.
type Test uint8

// The self-tests. Conveyance is ATA's alone.
const (
	Short Test = iota
	Extended
	Conveyance
	abort
)

// codes are what starts a test, by interface.
var codes = map[Test]struct{ ata, nvme, scsi uint8 }{
	Short:      {ata.TestShort, nvme.TestShort, scsi.TestBackgroundShort},
	Extended:   {ata.TestExtended, nvme.TestExtended, scsi.TestBackgroundExtended},
	Conveyance: {ata.TestConveyance, 0, 0},
	abort:      {ata.TestAbort, nvme.TestAbort, scsi.TestAbortBackground},
}

// StartTest starts a self-test.
func (s *Session) StartTest(ctx context.Context, t Test) *drive.Fault {
	code := codes[t]
	switch {
	case s.kind == drive.NVMe && code.nvme != 0:
		return s.nvmeTest(ctx, code.nvme)
	case s.kind == drive.SCSI && code.scsi != 0:
		return s.scsiTest(ctx, code.scsi)
	case s.kind == drive.NVMe || s.kind == drive.SCSI:
		return &drive.Fault{Class: drive.FaultRefused, What: "starting a self-test", Cause: "this interface has no such self-test"}
	}
	_, fault := s.Do(ctx, ata.ExecuteSelfTest(code.ata))
	return fault
}

// StartSelective starts a self-test of up to five spans of the surface: the spans are written to the drive's log of it,
// which holds nothing else, and then the test is started in the background (ACS-4 A.9).
func (s *Session) StartSelective(ctx context.Context, spans []ata.Span) *drive.Fault {
	if s.kind == drive.NVMe || s.kind == drive.SCSI {
		return &drive.Fault{
			Class: drive.FaultRefused,
			What:  "starting a selective self-test",
			Cause: "this interface has no such self-test",
		}
	}
	if _, fault := s.Do(ctx, ata.WriteSelective(), ata.SelectiveLog{Spans: spans}.Encode()...); fault != nil {
		return fault
	}
	_, fault := s.Do(ctx, ata.ExecuteSelfTest(ata.TestSelective))
	return fault
}

// AbortTest ends the running self-test.
func (s *Session) AbortTest(ctx context.Context) *drive.Fault { return s.StartTest(ctx, abort) }

// Look is how a self-test stands.
type Look struct {
	Running bool
	Left    uint8            // per cent
	Status  ata.TestStatus   // by ATA's status byte, where there is no log
	Page    reading.PageName // of Log
	Log     []byte           // the self-test log; nil: the drive keeps none
	Words   string
}

// LookTest asks how a self-test stands.
func (s *Session) LookTest(ctx context.Context) (Look, *drive.Fault) {
	switch s.kind {
	case drive.NVMe:
		return s.nvmeLook(ctx)
	case drive.SCSI:
		return s.scsiLook(ctx)
	case drive.ATA, drive.InterfaceUnknown:
	}
	a, fault := s.Do(ctx, ata.ReadAttributes())
	if fault != nil {
		return Look{}, fault
	}
	d, err := ata.DecodeAttributes(a.Data)
	if err != nil {
		return Look{}, &drive.Fault{Class: drive.FaultBadAnswer, What: "following the self-test", Cause: err.Error()}
	}
	look := Look{Running: d.Test == ata.TestRunning, Left: d.TestRemaining, Status: d.Test, Page: reading.PageTestLog}
	if !look.Running {
		log, fault := s.Do(ctx, ata.ReadLog(ata.LogSelfTest, 1))
		if fault != nil && (fault.Class == drive.FaultVanished || fault.Class == drive.FaultStuck) {
			return look, fault
		}
		look.Log = log.Data
	}
	return look, nil
}

// TestLogPage is the page in which a drive of this kind logs its self-tests.
func (s *Session) TestLogPage() reading.PageName {
	switch s.kind {
	case drive.NVMe:
		return reading.PageNVMeTests
	case drive.SCSI:
		return reading.PageLog(scsi.LogSelfTests)
	case drive.ATA, drive.InterfaceUnknown:
	}
	return reading.PageTestLog
}

// Warmth asks for little more than the temperature, with as few commands as the drive allows.
func (s *Session) Warmth(ctx context.Context) []reading.Page {
	if s.link == nil && s.admin == nil {
		return nil
	}
	switch s.kind {
	case drive.NVMe:
		p := reading.Page{Name: reading.PageHealth}
		p.Bytes, p.Fault = s.Admin(ctx, nvme.ReadLog(nvme.LogHealth, nvme.HealthSize))
		return []reading.Page{{Name: reading.PageController, Bytes: nvme.Controller{}.Encode()}, p}
	case drive.SCSI:
		inquiry := reading.Page{Name: reading.PageInquiry, Bytes: scsi.InquiryData{}.Encode()}
		return []reading.Page{inquiry, s.ask(ctx, reading.PageLog(scsi.LogTemperature), scsi.LogSenseCDB(scsi.LogTemperature, 252), 252)}
	case drive.ATA, drive.InterfaceUnknown:
	}
	return []reading.Page{s.ata(ctx, question{page: reading.PageAttributes, command: ata.ReadAttributes()})}
}
