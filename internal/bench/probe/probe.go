// Package probe knows what to ask a drive and in which order, and brings home pages: bytes as the drive sent them, how they
// came, or the fault that stands for them. It decodes only as much as the next question needs. Start with Pages.
package probe

import (
	"context"
	"fmt"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

// Deadlines by what a sound drive may need: IDENTIFY may have to wait for platters to spin up.
const (
	identifyTimeout = 20 * time.Second
	commandTimeout  = 15 * time.Second
)

// Session talks to one opened drive and remembers which form of pass-through its adapter takes.
type Session struct {
	device device.Device
	link   device.SCSI
	form   sat.Form // 0 until something was passed
}

// Open begins a session. The fault says why a device cannot be asked at all.
func Open(d device.Device) (*Session, *drive.Fault) {
	link, ok := d.(device.SCSI)
	if !ok {
		return nil, &drive.Fault{Class: drive.FaultNotRead, What: "asking " + d.Describe().Node, Back: "this version has no way to ask this kind of device"}
	}
	return &Session{device: d, link: link}, nil
}

// Answer is what an ATA command brought.
type Answer struct {
	Data      []byte
	Sense     []byte // as it came, for commands whose answer is in the registers
	Registers ata.Registers
	How       string
}

// Do sends an ATA command in the form the adapter takes; the first command finds out which that is.
func (s *Session) Do(ctx context.Context, c ata.Command) (Answer, *drive.Fault) {
	forms := []sat.Form{s.form}
	if s.form == 0 {
		forms = []sat.Form{sat.Form16, sat.Form12}
	}
	var fault *drive.Fault
	for _, form := range forms {
		var a Answer
		a, fault = s.once(ctx, form, c)
		if fault == nil {
			s.form = form
			return a, nil
		}
		if fault.Class != drive.FaultNotPassed {
			return a, fault
		}
	}
	return Answer{}, fault
}

func (s *Session) once(ctx context.Context, form sat.Form, c ata.Command) (Answer, *drive.Fault) {
	timeout := commandTimeout
	if c.Op == ata.IdentifyDevice {
		timeout = identifyTimeout
	}
	r, err := s.link.Exchange(ctx, device.Command{CDB: form.CDB(c), DataIn: int(c.Blocks) * ata.PageSize, Timeout: timeout})
	if err != nil {
		return Answer{}, device.FaultOf(c.Name(), err)
	}
	a := Answer{Data: r.Data, Sense: r.Sense, How: form.String()}
	if r.Status == scsi.Good {
		if c.Status {
			return a, &drive.Fault{Class: drive.FaultNotPassed, What: c.Name(), Back: "the adapter did not hand back the drive's registers", Extra: "The drive's own word is unknown here. Try a direct port."}
		}
		return a, nil
	}
	sense, err := scsi.DecodeSense(r.Sense)
	if err != nil {
		return a, &drive.Fault{Class: drive.FaultBadAnswer, What: c.Name(), Back: fmt.Sprintf("%s, and %v", r.Status, err)}
	}
	a.Registers = sat.Registers(sense)
	return a, faultOf(c, a.Registers, sense)
}

// faultOf reads an answer that came with sense: nil when the drive did what it was asked.
func faultOf(c ata.Command, r ata.Registers, s scsi.Sense) *drive.Fault {
	fault := func(class drive.FaultClass, back string) *drive.Fault {
		return &drive.Fault{Class: class, What: c.Name(), Back: back}
	}
	if r.Failed() {
		back := fmt.Sprintf("status %02Xh, error %02Xh; %s", r.Status, r.Error, s)
		switch {
		case r.Error&ata.ErrorICRC != 0:
			return fault(drive.FaultLink, "the transfer was damaged on the link: "+back)
		case r.Error&ata.ErrorUNC != 0:
			return fault(drive.FaultMedium, "unreadable: "+back)
		case r.Error&ata.ErrorABRT != 0:
			return fault(drive.FaultRefused, "the drive does not do this: "+back)
		}
		return fault(drive.FaultNoAnswer, back)
	}
	switch {
	case s.Key == scsi.RecoveredError || s.Key == scsi.NoSense:
		return nil
	case s.Key == scsi.IllegalRequest:
		return fault(drive.FaultNotPassed, "the adapter does not pass ATA commands: "+s.String())
	case s.Key == scsi.NotReady && s.ASC == 0x3A:
		return fault(drive.FaultNoMedium, s.String())
	case s.ASC == 0x47 || s.ASC == 0x08:
		return fault(drive.FaultLink, s.String())
	case s.Key == scsi.DataProtect:
		return fault(drive.FaultLocked, s.String())
	case s.Key == scsi.AbortedCommand:
		return fault(drive.FaultRefused, "aborted, by the drive or the adapter: "+s.String())
	}
	return fault(drive.FaultNoAnswer, s.String())
}

// question is one page of a reading.
type question struct {
	page    reading.PageName
	command ata.Command
}

// Pages asks for everything a reading takes, in order. A question that fails becomes a page with a fault; only a drive
// that went away or got stuck ends the reading early, and the questions not asked say so.
func (s *Session) Pages(ctx context.Context) []reading.Page {
	var pages []reading.Page
	if r, err := s.link.Exchange(ctx, device.Command{CDB: scsi.InquiryCDB(36), DataIn: 36, Timeout: commandTimeout}); err != nil {
		pages = append(pages, reading.Page{Name: reading.PageInquiry, How: "INQUIRY", Fault: device.FaultOf("INQUIRY", err)})
	} else {
		pages = append(pages, reading.Page{Name: reading.PageInquiry, How: "INQUIRY", Bytes: r.Data})
	}
	if q, err := scsi.DecodeInquiry(pages[0].Bytes); err == nil && q.Vendor != "ATA" && s.device.Describe().Transport == "SCSI" {
		return append(pages, reading.Page{Name: reading.PageIdentify, Fault: &drive.Fault{
			Class: drive.FaultNotRead, What: "reading counters", Back: "this version does not read SCSI drives yet", Extra: "Its counters come with a later version.",
		}})
	}
	pages = append(pages, s.ask(ctx, question{reading.PageIdentify, ata.ReadIdentify()}))
	identity := pages[len(pages)-1]
	questions := []question{
		{reading.PageAttributes, ata.ReadAttributes()},
		{reading.PageThresholds, ata.ReadThresholds()},
		{reading.PageAlarm, ata.ReturnStatus()},
		{reading.PageErrorLog, ata.ReadLog(ata.LogSummaryError, 1)},
		{reading.PageTestLog, ata.ReadLog(ata.LogSelfTest, 1)},
		{reading.PageDirectory, ata.ReadLog(ata.LogDirectory, 1)},
		{reading.PageStatistics, ata.ReadLog(ata.LogDeviceStatistics, 8)},
	}
	if identity.Fault != nil {
		return pages
	}
	id, _ := ata.DecodeIdentify(identity.Bytes)
	for _, q := range questions {
		if f := pointless(id, q, pages); f != nil {
			pages = append(pages, reading.Page{Name: q.page, Fault: f})
			continue
		}
		if q.page == reading.PageStatistics { // as many pages as the directory says
			q.command = ata.ReadLog(ata.LogDeviceStatistics, min(8, directory(pages)[ata.LogDeviceStatistics]))
		}
		pages = append(pages, s.ask(ctx, q))
	}
	return pages
}

// pointless says why a question is not put: the drive cannot, or an earlier answer settled it.
func pointless(id ata.Identify, q question, before []reading.Page) *drive.Fault {
	name := q.command.Name()
	if last := before[len(before)-1].Fault; last != nil && (last.Class == drive.FaultVanished || last.Class == drive.FaultStuck) {
		return &drive.Fault{Class: last.Class, What: name, Back: "not asked: " + last.Back}
	}
	switch {
	case !id.SMARTSupported:
		return &drive.Fault{Class: drive.FaultRefused, What: name, Back: "the drive has no SMART"}
	case !id.SMARTEnabled:
		return &drive.Fault{Class: drive.FaultSwitchedOff, What: name, Back: "SMART is switched off in the drive"}
	case q.page == reading.PageErrorLog && !id.ErrorLogSupported && !counters(before).CanLogErrors:
		return &drive.Fault{Class: drive.FaultRefused, What: name, Back: "the drive keeps no error log"}
	case q.page == reading.PageStatistics && directory(before)[ata.LogDeviceStatistics] == 0:
		return &drive.Fault{Class: drive.FaultRefused, What: "device statistics", Back: "the drive's log directory lists none"}
	case q.page == reading.PageTestLog && !id.SelfTestSupported && !counters(before).CanTest:
		return &drive.Fault{Class: drive.FaultRefused, What: name, Back: "the drive has no self-tests"}
	}
	return nil
}

// directory is the log directory among the answers so far; empty when the drive gave none.
func directory(before []reading.Page) ata.LogDirectoryPages {
	for _, p := range before {
		if p.Name == reading.PageDirectory && p.Fault == nil {
			d, _ := ata.DecodeLogDirectory(p.Bytes) // cut short: nothing is listed
			return d
		}
	}
	return ata.LogDirectoryPages{}
}

// counters is the SMART data among the answers so far. Some drives announce self-tests and error log only there, and not
// in their identity.
func counters(before []reading.Page) ata.AttributePage {
	for _, p := range before {
		if p.Name == reading.PageAttributes && p.Fault == nil {
			d, _ := ata.DecodeAttributes(p.Bytes) // a broken page announces what it can
			return d
		}
	}
	return ata.AttributePage{}
}

func (s *Session) ask(ctx context.Context, q question) reading.Page {
	a, fault := s.Do(ctx, q.command)
	p := reading.Page{Name: q.page, How: a.How, Bytes: a.Data, Fault: fault}
	if q.command.Status {
		p.Bytes = a.Sense
	}
	if fault != nil {
		p.Bytes = nil
	}
	return p
}

// Key is the drive's name in a set of pages; not valid when they do not tell.
func Key(pages []reading.Page) drive.Key {
	for _, p := range pages {
		if p.Name == reading.PageIdentify && p.Fault == nil {
			if id, err := ata.DecodeIdentify(p.Bytes); err == nil {
				return drive.Key{Model: drive.Printable(id.Model), Serial: drive.Printable(id.Serial)}
			}
		}
	}
	return drive.Key{}
}

// FirstFault is the fault that kept a set of pages from naming a drive.
func FirstFault(pages []reading.Page) *drive.Fault {
	for _, p := range pages {
		if p.Fault != nil {
			return p.Fault
		}
		if p.Name == reading.PageIdentify {
			if _, err := ata.DecodeIdentify(p.Bytes); err != nil {
				return &drive.Fault{Class: drive.FaultBadAnswer, What: "IDENTIFY DEVICE", Back: err.Error()}
			}
		}
	}
	return nil
}
