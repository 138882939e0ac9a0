package sim

import (
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/scsi"
)

// SCSI is what a drive that speaks SCSI itself has beyond a name.
type SCSI struct {
	Vendor      string
	Port        uint64 // name of the port it is reached by; another path is another port
	Grown       Course // sectors replaced since it was made
	Uncorrected Course
	Predicts    Course // failure predicted while above 0
	Trial       bool   // its prediction is a false one, made for trials
	Warns       bool   // warning 0B/01
	Scan        []scsi.ScanResult
	Waits       bool // to be told to spin up
	Old         bool // knows no subpages, no 12-byte or 16-byte forms of questions, and leaves the length of its phy descriptors zero
	Silenced    bool // it was told to report no exceptions
}

// logsSCSI are the log pages the drive has.
func (s *Spec) logsSCSI() []scsi.LogID {
	all := []scsi.LogID{
		scsi.LogPages,
		scsi.LogWriteErrors,
		scsi.LogReadErrors,
		scsi.LogVerifyErrors,
		scsi.LogNonMedium,
		scsi.LogTemperature,
		scsi.LogStartStop,
		scsi.LogSelfTests,
	}
	if s.Identity.RotationRate == 1 {
		all = append(all, scsi.LogSolidState)
	}
	all = append(all, scsi.LogBackground, scsi.LogProtocol, scsi.LogInformational)
	if !s.SCSI.Old {
		all = append(all, scsi.LogSubpages, scsi.LogPending, scsi.LogEnvironment, scsi.LogEnvironLimits)
	}
	return all
}

// answerSCSI is the firmware of a SCSI drive.
func (a *attached) answerSCSI(c device.Command, now time.Time) device.Result {
	s, p := a.place.spec, a.place
	h := s.hoursAt(now, p.Bayed)
	a.bench.advance(p, now)
	cdb := c.CDB
	good := func(b []byte) device.Result { return device.Result{Data: cut(b, c.DataIn)} }
	waits := s.SCSI.Waits && !p.Spun
	switch cdb[0] {
	case scsi.TestUnitReady:
		if waits {
			return check(scsi.Sense{Key: scsi.NotReady, ASC: 0x04, ASCQ: 0x02, Fixed: true})
		}
		return device.Result{}
	case scsi.StartStopUnit:
		p.Spun = true
		return device.Result{}
	case scsi.Inquiry:
		return a.inquirySCSI(c)
	case scsi.RequestSense:
		sense := scsi.Sense{Fixed: true}
		if p.Running != nil {
			done := int64(now.Sub(p.Running.Started)) * 65536 / int64(p.Running.Length)
			done = max(0, min(65535, done))
			sense.Key, sense.ASC, sense.ASCQ, sense.SpecificValid = scsi.NotReady, 0x04, 0x09, true
			sense.SenseSpecific = [3]byte{0x80, uint8(done >> 8), uint8(done)}
		}
		return good(sense.Encode())
	}
	if waits {
		return check(scsi.Sense{Key: scsi.NotReady, ASC: 0x04, ASCQ: 0x02, Fixed: true})
	}
	switch cdb[0] {
	case scsi.SecurityIn:
		if s.Lock == nil {
			return check(illegal)
		}
		return good(s.Lock.Encode())
	case scsi.ReadDefectData10:
		return good(scsi.Defects{Format: 5, Count: uint32(s.SCSI.Grown.At(h, s.seedOf("grown")))}.Encode10())
	case scsi.ReadCapacity10:
		return good(scsi.Capacity{Last: s.Identity.Sectors - 1, Block: s.Identity.LogicalSector}.Encode10())
	case scsi.ServiceActionIn:
		id := s.Identity
		if cdb[1] != 0x10 {
			if len(s.Heads) == 0 {
				return check(illegal)
			}
			return good(s.elements().Encode(false))
		}
		if s.SCSI.Old {
			return check(illegal)
		}
		exponent := uint8(0)
		for size := id.LogicalSector; size > 0 && size < id.PhysicalSector; size *= 2 {
			exponent++
		}
		return good(scsi.Capacity{Last: id.Sectors - 1, Block: id.LogicalSector, Exponent: exponent}.Encode())
	case scsi.ReadDefectData12:
		if cdb[1]&7 != 5 || s.SCSI.Old {
			return check(illegal)
		}
		return good(scsi.Defects{Format: 5, Count: uint32(s.SCSI.Grown.At(h, s.seedOf("grown")))}.Encode())
	case scsi.ModeSense10:
		return good(scsi.Control{Disabled: s.SCSI.Silenced, Method: 6, Interval: 600}.Encode())
	case scsi.SendDiagnostic:
		kind := map[uint8]uint8{
			scsi.TestBackgroundShort: ata.TestShort, scsi.TestBackgroundExtended: ata.TestExtended,
			scsi.TestAbortBackground: ata.TestAbort,
		}[cdb[1]>>5]
		a.bench.startTest(p, kind, now)
		return device.Result{}
	case scsi.LogSense:
		if b := a.logSCSI(scsi.LogID{Page: cdb[2] & 0x3F, Subpage: cdb[3]}, now, h); b != nil {
			return good(b)
		}
	}
	return check(illegal)
}

func (a *attached) inquirySCSI(c device.Command) device.Result {
	s := a.place.spec
	id := s.Identity
	good := func(b []byte) device.Result { return device.Result{Data: cut(b, c.DataIn)} }
	if c.CDB[1] == 0 {
		return good(scsi.InquiryData{Vendor: s.SCSI.Vendor, Product: id.Model, Revision: id.Firmware}.Encode())
	}
	switch c.CDB[2] {
	case scsi.VPDPages:
		return good(
			scsi.EncodeVPD(0, []byte{scsi.VPDPages, scsi.VPDSerial, scsi.VPDIdentification, scsi.VPDBlockLimits, scsi.VPDCharacteristics}),
		)
	case scsi.VPDSerial:
		return good(scsi.EncodeVPD(scsi.VPDSerial, []byte(id.Serial)))
	case scsi.VPDIdentification:
		return good(scsi.EncodeDesignators(id.WWN, s.SCSI.Port))
	case scsi.VPDBlockLimits:
		return good(scsi.EncodeVPD(scsi.VPDBlockLimits, make([]byte, 60)))
	case scsi.VPDCharacteristics:
		return good(scsi.Characteristics{RotationRate: id.RotationRate, FormFactor: id.FormFactor}.Encode())
	}
	return check(illegal)
}

// logSCSI is a log page; nil for one the drive does not have.
func (a *attached) logSCSI(page scsi.LogID, now time.Time, h float64) []byte {
	s := a.place.spec
	flash := s.Identity.RotationRate == 1
	written := uint64(s.Rate * h * 512)
	temperature, _, _ := s.Heat.at(now, s.Seed)
	counters := func(uncorrected, bytes uint64) []byte {
		return scsi.EncodeLogPage(
			page, scsi.Number(0, 8, bytes/40_000_000), scsi.Number(1, 8, bytes/9_000_000_000),
			scsi.Number(2, 8, bytes/80_000_000_000), scsi.Number(3, 8, bytes/39_000_000), scsi.Number(4, 8, bytes/30_000_000),
			scsi.Number(5, 8, bytes), scsi.Number(6, 8, uncorrected),
		)
	}
	switch page {
	case scsi.LogPages:
		b := []byte{0, 0, 0, 0}
		for _, l := range s.logsSCSI() {
			if l.Subpage == 0 {
				b = append(b, l.Page)
			}
		}
		b[3] = uint8(len(b) - 4)
		return b
	case scsi.LogSubpages:
		if s.SCSI.Old {
			return nil
		}
		return scsi.EncodeSubpageList(s.logsSCSI())
	case scsi.LogWriteErrors:
		return counters(0, written)
	case scsi.LogReadErrors:
		return counters(uint64(s.SCSI.Uncorrected.At(h, s.seedOf("uncorrected"))), 3*written)
	case scsi.LogVerifyErrors:
		return counters(0, written/50)
	case scsi.LogNonMedium:
		return scsi.EncodeLogPage(page, scsi.Number(0, 4, uint64(h/700)))
	case scsi.LogTemperature:
		return scsi.EncodeLogPage(
			page, scsi.Parameter{Code: 0, Value: []byte{0, uint8(temperature)}}, scsi.Parameter{Code: 1, Value: []byte{0, 60}},
		)
	case scsi.LogStartStop:
		return scsi.EncodeLogPage(
			page, scsi.Parameter{Code: 1, Value: []byte("202138")}, scsi.Parameter{Code: 2, Value: []byte("      ")},
			scsi.Number(3, 4, 50_000), scsi.Number(4, 4, uint64(h/300)), scsi.Number(5, 4, 600_000),
			scsi.Number(6, 4, uint64(h/20)),
		)
	case scsi.LogSelfTests:
		return a.testsSCSI()
	case scsi.LogSolidState:
		if flash {
			return scsi.EncodeLogPage(page, scsi.Parameter{Code: 1, Value: []byte{0, 0, 0, uint8(s.Used.At(h, s.seedOf("used")))}})
		}
	case scsi.LogBackground:
		return scsi.Background{Minutes: uint32(h * 60), Status: 8, Scans: uint16(h / 400), Found: s.SCSI.Scan}.Encode()
	case scsi.LogProtocol:
		since := s.hoursAt(a.place.Bayed, a.place.Bayed) // they begin anew when the power comes
		invalid := max(0, s.linkErrors(h)-s.linkErrors(since))
		return scsi.EncodePorts(
			[]scsi.PortPhy{{Rate: 11, Address: s.SCSI.Port, Attached: 0x500005E0FF000001, Invalid: uint32(invalid)}, {Phy: 1}},
			!s.SCSI.Old,
		)
	case scsi.LogPending:
		if s.SCSI.Old {
			return nil
		}
		var waiting scsi.PendingDefects
		for _, x := range s.SCSI.Scan {
			if x.Status == scsi.ReassignWaits {
				waiting.Defects = append(waiting.Defects, scsi.PendingDefect{Hours: x.Minutes / 60, LBA: x.LBA})
			}
		}
		waiting.Count = uint32(len(waiting.Defects))
		return waiting.Encode()
	case scsi.LogEnvironment:
		_, low, high := s.Heat.at(now, s.Seed)
		return scsi.Environment{
			Now:         int8(temperature),
			LifeHighest: int8(high),
			LifeLowest:  int8(low),
			Highest:     int8(temperature + 1),
			Lowest:      int8(temperature - 2),
		}.Encode()
	case scsi.LogEnvironLimits:
		return scsi.EnvironmentLimits{
			HighCritical:       70,
			HighCriticalReset:  65,
			LowCritical:        -10,
			LowCriticalReset:   -5,
			HighOperating:      60,
			HighOperatingReset: 55,
			LowOperating:       5,
			LowOperatingReset:  10,
		}.Encode()
	case scsi.LogInformational:
		value := []byte{0, 0, uint8(temperature), 0}
		switch {
		case s.SCSI.Trial:
			value[0], value[1] = 0x5D, 0xFF
		case s.SCSI.Predicts.At(h, s.seedOf("predicts")) > 0:
			value[0], value[1] = 0x5D, 0x10
		case s.SCSI.Warns:
			value[0], value[1] = 0x0B, 0x01
		}
		return scsi.EncodeLogPage(page, scsi.Parameter{Code: 0, Value: value})
	}
	return nil
}

// testsSCSI is log page 10h, made of the same memory as an ATA drive's.
func (a *attached) testsSCSI() []byte {
	var all []scsi.SelfTest
	if r := a.place.Running; r != nil {
		all = append(all, scsi.SelfTest{Code: r.Kind, Result: scsi.TestRunning})
	}
	for _, t := range a.place.Log {
		x := scsi.SelfTest{Code: t.Number, Hours: t.Hours, LBA: t.LBA, HasLBA: t.HasLBA}
		switch t.Status {
		case ata.TestAborted:
			x.Result = scsi.TestAbortedByHost
		case ata.TestInterrupted:
			x.Result = scsi.TestAbortedReset
		case ata.TestRead:
			x.Result, x.Sense = scsi.TestSecondSegment, scsi.Sense{Key: scsi.MediumError, ASC: 0x11}
		default:
		}
		all = append(all, x)
	}
	return scsi.EncodeSelfTests(all)
}
