package probe

import (
	"context"
	"fmt"
	"slices"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
)

// command sends a SCSI command that brings data.
func (s *Session) command(ctx context.Context, cdb []byte, size int) ([]byte, *drive.Fault) {
	timeout := commandTimeout
	if cdb[0] == scsi.StartStopUnit {
		timeout = wakeTimeout
	}
	for try := 0; ; try++ {
		r, err := s.exchange(ctx, device.Command{CDB: cdb, DataIn: size, Timeout: timeout})
		if err != nil {
			return nil, device.FaultOf(scsi.Name(cdb), err)
		}
		if r.Status == scsi.Good {
			return r.Data, nil
		}
		sense, err := scsi.DecodeSense(r.Sense)
		if err != nil {
			return nil, &drive.Fault{Class: drive.FaultBadAnswer, What: scsi.Name(cdb), Cause: fmt.Sprintf("%s, and %v", r.Status, err)}
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

// exchange sends a command. A deferred sense (71h, 73h) tells of an earlier command, and the present one was not carried out: it is
// repeated (SPC-5 4.4.7).
func (s *Session) exchange(ctx context.Context, c device.Command) (device.Result, error) {
	for try := 0; ; try++ {
		r, err := s.link.Exchange(ctx, c)
		if err != nil || r.Status != scsi.CheckCondition || try == 3 {
			return r, err
		}
		if sense, err := scsi.DecodeSense(r.Sense); err != nil || !sense.Deferred {
			return r, nil //nolint:nilerr // what cannot be read is the caller's to say
		}
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
var wantedLogs = []scsi.LogID{
	scsi.LogWriteErrors,
	scsi.LogReadErrors,
	scsi.LogVerifyErrors,
	scsi.LogNonMedium,
	scsi.LogTemperature,
	scsi.LogStartStop,
	scsi.LogSelfTests,
	scsi.LogSolidState,
	scsi.LogBackground,
	scsi.LogPending,
	scsi.LogProtocol,
	scsi.LogInformational,
	scsi.LogEnvironment,
	scsi.LogEnvironLimits,
}

// How much of a page is taken at first, and at most when it says that it is longer.
const (
	vpdRoom = 252
	logRoom = 8192
	most16  = 65_532 // a multiple of 4, as some adapters want
)

// whole asks for a page whose header, in its bytes 2 and 3, says how much follows, and asks again when that did not fit.
func (s *Session) whole(ctx context.Context, name reading.PageName, cdb func(room uint16) []byte, room uint16) reading.Page {
	p := s.ask(ctx, name, cdb(room), int(room))
	if p.Fault != nil || len(p.Bytes) < int(room) {
		return p
	}
	if length := 4 + int(p.Bytes[2])<<8 + int(p.Bytes[3]); length > int(room) {
		longer := uint16(min(most16, (length+3)&^3))
		if again := s.ask(ctx, name, cdb(longer), int(longer)); again.Fault == nil {
			return again
		}
	}
	return p
}

// scsiPages reads a drive that speaks SCSI itself.
func (s *Session) scsiPages(ctx context.Context, how Manner, pages []reading.Page) []reading.Page {
	_, notReady := s.command(ctx, scsi.TestUnitReadyCDB(), 0)
	if notReady != nil && notReady.Class == drive.FaultNotReady && how.Wake {
		_, notReady = s.command(ctx, scsi.StartCDB(), 0)
	}
	if notReady != nil && notReady.Class != drive.FaultNotReady { // locked, at fault, without a medium: said once, by name
		pages = append(pages, reading.Page{Name: reading.PageReady, Fault: notReady})
	}
	// put asks unless the reading has ended, and keeps the answer.
	put := func(name reading.PageName, what string, ask func() reading.Page) reading.Page {
		s.tell(name, len(pages), 28)
		p := reading.Page{Name: name}
		if f := over(pages); f != nil {
			p.Fault = notAsked(what, f)
		} else {
			p = ask()
		}
		pages = append(pages, p)
		return p
	}
	vpd := func(n uint8) reading.Page {
		cdb := func(room uint16) []byte { return scsi.VPDCDB(n, room) }
		return put(reading.PageVPD(n), scsi.Name(cdb(0)), func() reading.Page { return s.whole(ctx, reading.PageVPD(n), cdb, vpdRoom) })
	}
	log := func(l scsi.LogID, room uint16) reading.Page {
		cdb := func(room uint16) []byte { return scsi.LogSenseCDB(l, room) }
		return put(reading.PageLog(l), scsi.Name(cdb(0)), func() reading.Page { return s.whole(ctx, reading.PageLog(l), cdb, room) })
	}
	plain := func(name reading.PageName, cdb []byte, size int) reading.Page {
		return put(name, scsi.Name(cdb), func() reading.Page { return s.ask(ctx, name, cdb, size) })
	}
	have := pageList(vpd(scsi.VPDPages))
	if len(have) == 0 {
		have = []uint8{scsi.VPDSerial} // older than lists
	}
	for _, n := range []uint8{
		scsi.VPDSerial, scsi.VPDIdentification, scsi.VPDBlockLimits, scsi.VPDCharacteristics, scsi.VPDProvisioning, scsi.VPDRanges,
	} {
		if slices.Contains(have, n) { // what is not offered is no fault
			vpd(n)
		}
	}
	if p := plain(reading.PageCapacity, scsi.CapacityCDB(), scsi.CapacitySize); p.Fault != nil && p.Fault.Class == drive.FaultRefused {
		pages = pages[:len(pages)-1]
		plain(reading.PageCapacity, scsi.CapacityCDB10(), 8) // older than the 16-byte form
	}
	logs := s.logList(pageList(log(scsi.LogPages, vpdRoom)), func() reading.Page { return log(scsi.LogSubpages, logRoom) }, &pages)
	for _, l := range wantedLogs {
		if slices.Contains(logs, l) {
			log(l, logRoom)
		}
	}
	plain(reading.PageControl, scsi.ModeSenseCDB(scsi.ModeInformational, 64), 64)
	s.defects(&pages, plain)
	offered := func(name reading.PageName, cdb []byte, size int) { // nothing announces these: a drive that does not know them has none
		if p := plain(name, cdb, size); p.Fault != nil && p.Fault.Class == drive.FaultRefused {
			pages = pages[:len(pages)-1]
		}
	}
	offered(reading.PageSCSILock, scsi.SecurityInCDB(tcg.Protocol, tcg.Specific, tcg.Size), tcg.Size)
	offered(reading.PageSElement, scsi.ElementsCDB(elementPages*512), elementPages*512)
	if notReady != nil && notReady.Class == drive.FaultNotReady {
		for i := range pages {
			if f := pages[i].Fault; f != nil && f.Class == drive.FaultNotReady {
				f.Extra = "Read it by hand: that tells it to spin up."
			}
		}
	}
	return pages
}

// pageList reads a list of pages; without one nothing is asked blindly.
func pageList(p reading.Page) []uint8 {
	all, err := scsi.DecodePageList(p.Bytes)
	if p.Fault != nil || err != nil {
		return nil
	}
	return all
}

// logList is the log pages the drive has: those of the first list, and, where that shows a drive new enough to know subpages, those of
// the list with subpages. One that refuses the second list has no subpages.
func (s *Session) logList(first []uint8, second func() reading.Page, pages *[]reading.Page) []scsi.LogID {
	var all []scsi.LogID
	for _, n := range first {
		all = append(all, scsi.LogID{Page: n})
	}
	if len(first) == 0 || over(*pages) != nil {
		return all
	}
	p := second()
	subpages, err := scsi.DecodeSubpageList(p.Bytes)
	if p.Fault != nil && p.Fault.Class == drive.FaultRefused || p.Fault == nil && err != nil { // not offered, which is no fault
		*pages = (*pages)[:len(*pages)-1]
		return all
	}
	return append(all, subpages...)
}

// defects asks for the length of the grown list: in the format of 8-byte physical sectors, else of long blocks, else of
// short ones, and by the 10-byte command where the drive knows no other. The entries themselves can be many and are not taken.
func (s *Session) defects(pages *[]reading.Page, plain func(reading.PageName, []byte, int) reading.Page) {
	for i, cdb := range [][]byte{
		scsi.DefectCDB(5, 8), scsi.DefectCDB(3, 8), scsi.DefectCDB(0, 8), scsi.DefectCDB10(5, 4), scsi.DefectCDB10(3, 4),
		scsi.DefectCDB10(0, 4),
	} {
		if i > 0 {
			*pages = (*pages)[:len(*pages)-1]
		}
		page, size := reading.PageDefects, 8
		if cdb[0] == scsi.ReadDefectData10 {
			page, size = reading.PageDefects10, 4
		}
		if p := plain(page, cdb, size); p.Fault == nil || p.Fault.Class != drive.FaultRefused {
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
