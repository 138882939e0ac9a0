package probe

import (
	"context"
	"fmt"
	"slices"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
)

// command sends a SCSI command that brings data.
func (s *Session) command(ctx context.Context, cdb []byte, size int) ([]byte, *drive.Fault) {
	timeout := commandTimeout
	if cdb[0] == scsi.StartStopUnit {
		timeout = wakeTimeout
	}
	for try := 0; ; try++ {
		r, err := s.link.Exchange(ctx, device.Command{CDB: cdb, DataIn: size, Timeout: timeout})
		if err != nil {
			return nil, device.FaultOf(scsi.Name(cdb), err)
		}
		if r.Status == scsi.Good {
			return r.Data, nil
		}
		sense, err := scsi.DecodeSense(r.Sense)
		if err != nil {
			return nil, &drive.Fault{Class: drive.FaultBadAnswer, What: scsi.Name(cdb), Back: fmt.Sprintf("%s, and %v", r.Status, err)}
		}
		switch {
		case sense.Key == scsi.RecoveredError || sense.Key == scsi.NoSense:
			return r.Data, nil
		case sense.Key == 6 && try < 3: // unit attention: told once for each cause, then the command is taken
			continue
		}
		return nil, senseFault(scsi.Name(cdb), sense)
	}
}

// ask puts one question and makes a page of the answer.
func (s *Session) ask(ctx context.Context, name reading.PageName, cdb []byte, size int) reading.Page {
	b, fault := s.command(ctx, cdb, size)
	if fault != nil {
		return reading.Page{Name: name, Fault: fault}
	}
	return reading.Page{Name: name, How: scsi.Name(cdb), Bytes: b}
}

// wantedLogs are the log pages worth reading, where the drive lists them.
var wantedLogs = []uint8{
	scsi.LogWriteErrors, scsi.LogReadErrors, scsi.LogVerifyErrors, scsi.LogNonMedium, scsi.LogTemperature, scsi.LogStartStop, scsi.LogSelfTests, scsi.LogSolidState,
	scsi.LogBackground, scsi.LogProtocol, scsi.LogInformational,
}

// logRoom is how much of a log page is taken.
const logRoom = 8192

// scsiPages reads a drive that speaks SCSI itself.
func (s *Session) scsiPages(ctx context.Context, how Manner, pages []reading.Page) []reading.Page {
	_, notReady := s.command(ctx, scsi.TestUnitReadyCDB(), 0)
	if notReady != nil && notReady.Class == drive.FaultNotReady && how.Wake {
		_, notReady = s.command(ctx, scsi.StartCDB(), 0)
	}
	add := func(name reading.PageName, cdb []byte, size int, have []uint8, number uint8) reading.Page {
		s.tell(name, len(pages), 24)
		p := reading.Page{Name: name}
		switch f := over(pages); {
		case f != nil:
			p.Fault = notAsked(scsi.Name(cdb), f)
		case have != nil && !slices.Contains(have, number): // not offered, which is no fault
			return p
		default:
			p = s.ask(ctx, name, cdb, size)
		}
		pages = append(pages, p)
		return p
	}
	list := func(p reading.Page) []uint8 {
		all, err := scsi.DecodePageList(p.Bytes)
		if p.Fault != nil || err != nil {
			return []uint8{} // without a list nothing is asked blindly
		}
		return all
	}
	vpd := func(n uint8, have []uint8) reading.Page {
		return add(reading.PageVPD(n), scsi.VPDCDB(n, 252), 252, have, n)
	}
	have := list(vpd(scsi.VPDPages, nil))
	if len(have) == 0 {
		have = []uint8{scsi.VPDSerial} // older than lists
	}
	for _, n := range []uint8{scsi.VPDSerial, scsi.VPDIdentification, scsi.VPDBlockLimits, scsi.VPDCharacteristics, scsi.VPDProvisioning} {
		vpd(n, have)
	}
	add(reading.PageCapacity, scsi.CapacityCDB(), scsi.CapacitySize, nil, 0)
	logs := list(add(reading.PageLog(scsi.LogPages), scsi.LogSenseCDB(scsi.LogPages, 252), 252, nil, 0))
	for _, n := range wantedLogs {
		add(reading.PageLog(n), scsi.LogSenseCDB(n, logRoom), logRoom, logs, n)
	}
	add(reading.PageControl, scsi.ModeSenseCDB(scsi.ModeInformational, 64), 64, nil, 0)
	s.defects(ctx, &pages, add)
	if notReady != nil && notReady.Class == drive.FaultNotReady {
		for i := range pages {
			if f := pages[i].Fault; f != nil && f.Class == drive.FaultNotReady {
				f.Extra = "Read it by hand: that tells it to spin up."
			}
		}
	}
	return pages
}

// defects asks for the length of the grown list: in the format of 8-byte physical sectors, else of long blocks, else of
// short ones. The entries themselves can be many and are not taken.
func (s *Session) defects(_ context.Context, pages *[]reading.Page, add func(reading.PageName, []byte, int, []uint8, uint8) reading.Page) {
	for i, format := range []uint8{5, 3, 0} {
		if i > 0 {
			*pages = (*pages)[:len(*pages)-1]
		}
		if p := add(reading.PageDefects, scsi.DefectCDB(format, 8), 8, nil, 0); p.Fault == nil || p.Fault.Class != drive.FaultRefused {
			return
		}
	}
}

func (s *Session) scsiTest(ctx context.Context, code uint8) *drive.Fault {
	_, fault := s.command(ctx, scsi.SelfTestCDB(code), 0)
	return fault
}

// scsiLook asks how a background self-test stands: REQUEST SENSE tells the progress, log page 10h the result.
func (s *Session) scsiLook(ctx context.Context) (Look, *drive.Fault) {
	look := Look{Page: reading.PageLog(scsi.LogSelfTests)}
	if b, fault := s.command(ctx, scsi.RequestSenseCDB(), 252); fault == nil {
		if sense, err := scsi.DecodeSense(b); err == nil && sense.Key == scsi.NotReady && sense.ASC == 0x04 && sense.ASCQ == 0x09 {
			look.Running = true
			if percent, ok := scsi.Progress(sense); ok {
				look.Left = uint8(100 - min(100, percent))
			}
		}
	} else if fault.Class == drive.FaultVanished || fault.Class == drive.FaultStuck {
		return look, fault
	}
	b, fault := s.command(ctx, scsi.LogSenseCDB(scsi.LogSelfTests, logRoom), logRoom)
	if fault != nil {
		return look, fault
	}
	look.Log = b
	if all, err := scsi.DecodeSelfTests(b); err == nil && len(all) > 0 && all[0].Result == scsi.TestRunning {
		look.Running = true
	}
	return look, nil
}
