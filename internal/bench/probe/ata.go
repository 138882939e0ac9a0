package probe

import (
	"context"
	"fmt"
	"slices"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
)

// Answer is what an ATA command brought.
type Answer struct {
	Data      []byte
	Sense     []byte // as it came, for commands whose answer is in the registers
	Registers ata.Registers
	How       string
}

// Do sends an ATA command in the form the adapter takes; the first command finds out which that is. A 48-bit command needs
// the 16-byte form.
func (s *Session) Do(ctx context.Context, c ata.Command, out ...byte) (Answer, *drive.Fault) {
	var forms []sat.Form
	switch s.passes {
	case By16, By12:
		forms = []sat.Form{sat.Form(s.passes)}
	case Nothing, NotKnown:
		forms = []sat.Form{sat.Form16, sat.Form12}
	}
	if s.optical { // there the opcode of the 12-byte form is BLANK, which erases
		forms = slices.DeleteFunc(forms, func(f sat.Form) bool { return f == sat.Form12 })
		if len(forms) == 0 {
			return Answer{}, &drive.Fault{
				Class: drive.FaultNotPassed,
				What:  c.Name(),
				Cause: "not sent: on an optical drive the 12-byte pass-through means something else",
			}
		}
	}
	if c.Ext && forms[0] == sat.Form12 {
		return Answer{}, &drive.Fault{
			Class: drive.FaultNotPassed,
			What:  c.Name(),
			Cause: "the adapter takes the 12-byte form only, which cannot carry 48-bit commands",
			Extra: "Only this page is missing. A direct port gives it.",
		}
	}
	var fault *drive.Fault
	for _, form := range forms {
		var a Answer
		a, fault = s.once(ctx, form, c, out)
		if fault == nil {
			s.passes = Passes(form)
			return a, nil
		}
		if fault.Class != drive.FaultNotPassed {
			return a, fault
		}
	}
	if s.passes == NotKnown {
		s.passes = Nothing
	}
	return Answer{}, fault
}

func (s *Session) once(ctx context.Context, form sat.Form, c ata.Command, out []byte) (Answer, *drive.Fault) {
	timeout := commandTimeout
	switch c.Op {
	case ata.IdentifyDevice:
		timeout = identifyTimeout
	case ata.SetFeatures:
		timeout = wakeTimeout
	default:
	}
	command := device.Command{CDB: form.CDB(c), Timeout: timeout, DataOut: out}
	if c.Transfer == ata.PIOIn {
		command.DataIn = int(c.Blocks) * ata.PageSize
	}
	if c.Transfer == ata.DMAIn {
		command.DataIn = int(c.Blocks) * ata.PageSize
	}
	r, err := s.exchange(ctx, command)
	if err != nil {
		return Answer{}, device.FaultOf(c.Name(), err)
	}
	a := Answer{Data: r.Data, Sense: r.Sense, How: form.String()}
	if r.Status == scsi.Good {
		if c.Status && c.Transfer == ata.NonData {
			return a, &drive.Fault{
				Class: drive.FaultNotPassed,
				What:  c.Name(),
				Cause: "the adapter did not hand back the drive's registers",
				Extra: "The drive's own word is unknown here. Try a direct port.",
			}
		}
		return a, nil
	}
	sense, err := scsi.DecodeSense(r.Sense)
	if err != nil {
		return a, &drive.Fault{Class: drive.FaultBadAnswer, What: c.Name(), Cause: fmt.Sprintf("%s, and %v", r.Status, err)}
	}
	a.Registers = sat.Registers(sense)
	return a, ataFault(c, a.Registers, sense)
}

// ataFault reads an answer that came with sense: nil when the drive did what it was asked.
func ataFault(c ata.Command, r ata.Registers, s scsi.Sense) *drive.Fault {
	fault := func(class drive.FaultClass, back string) *drive.Fault {
		return &drive.Fault{Class: class, What: c.Name(), Cause: back}
	}
	if r.Failed() {
		back := fmt.Sprintf("status %02Xh, error %02Xh; %s", r.Status, r.Error, s)
		switch {
		case r.Status&ata.StatusDF != 0:
			return fault(drive.FaultDevice, "the drive reports that it is itself at fault: "+back)
		case s.Locked():
			return fault(drive.FaultLocked, back)
		case r.Error&ata.ErrorICRC != 0:
			return fault(drive.FaultLink, "the transfer was damaged on the link: "+back)
		case r.Error&ata.ErrorUNC != 0:
			return fault(drive.FaultMedium, "unreadable: "+back)
		case r.Error&ata.ErrorABRT != 0:
			return fault(drive.FaultRefused, "the drive does not do this: "+back)
		}
		return fault(drive.FaultNoAnswer, back)
	}
	switch s.Key {
	case scsi.RecoveredError, scsi.NoSense:
		return nil
	case scsi.IllegalRequest:
		if s.Locked() {
			return fault(drive.FaultLocked, s.String())
		}
		return fault(drive.FaultNotPassed, "the adapter does not pass ATA commands: "+s.String())
	default:
	}
	return senseFault(c.Name(), s)
}

// senseFault sorts a sense that is no answer to what was asked.
func senseFault(what string, s scsi.Sense) *drive.Fault {
	fault := func(class drive.FaultClass) *drive.Fault {
		return &drive.Fault{Class: class, What: what, Cause: s.String()}
	}
	switch {
	case s.Key == scsi.NotReady && s.ASC == 0x3A:
		return fault(drive.FaultNoMedium)
	case s.Key == scsi.NotReady && s.ASC == 0x04:
		return fault(drive.FaultNotReady)
	case s.ASC == 0x44 && s.ASCQ == 0x71 || s.Key == scsi.HardwareError && s.ASC == 0x44: // SAT-4 table 180: a device fault
		return fault(drive.FaultDevice)
	case s.ASC == 0x47 || s.ASC == 0x08:
		return fault(drive.FaultLink)
	case s.Locked():
		return fault(drive.FaultLocked)
	case s.WriteProtected():
		return &drive.Fault{
			Class: drive.FaultRefused,
			What:  what,
			Cause: s.String(),
			Extra: "It takes no writing. Look for its switch, or for room it has run out of.",
		}
	case s.Key == scsi.MediumError:
		return fault(drive.FaultMedium)
	case s.Key == scsi.IllegalRequest:
		return &drive.Fault{Class: drive.FaultRefused, What: what, Cause: "the drive does not do this: " + s.String()}
	case s.Key == scsi.AbortedCommand:
		return &drive.Fault{Class: drive.FaultRefused, What: what, Cause: "aborted, by the drive or the adapter: " + s.String()}
	}
	return fault(drive.FaultNoAnswer)
}

// question is one page of a reading.
type question struct {
	page    reading.PageName
	command ata.Command
	first   []byte // written before, when the page is the answer to a question of SCT
}

// ataPages reads an ATA drive, whatever adapter it is behind.
func (s *Session) ataPages(ctx context.Context, how Manner, pages []reading.Page) []reading.Page {
	if s.passes == Nothing && !how.Wake {
		return append(
			pages,
			reading.Page{
				Name: reading.PageIdentify,
				Fault: &drive.Fault{
					Class: drive.FaultNotPassed,
					What:  "IDENTIFY DEVICE",
					Cause: "not asked: this adapter is known to pass no ATA commands",
				},
			},
		)
	}
	identity := s.ata(ctx, question{page: reading.PageIdentify, command: ata.ReadIdentify()})
	pages = append(pages, identity)
	if identity.Fault != nil {
		return pages
	}
	id, _ := ata.DecodeIdentify(identity.Bytes)
	if how.Wake && id.SpinUpNeeded {
		if _, fault := s.Do(ctx, ata.SpinUp()); fault == nil {
			pages[len(pages)-1] = s.ata(ctx, question{page: reading.PageIdentify, command: ata.ReadIdentify()})
			id, _ = ata.DecodeIdentify(pages[len(pages)-1].Bytes)
		}
	}
	pages = append(pages, s.capacity(ctx)...)
	power := s.ata(ctx, question{page: reading.PagePower, command: ata.PowerMode()})
	asleep := power.Fault == nil && !how.Wake && modeOf(power.Bytes) == ata.PowerStandby
	if power.Fault == nil || over([]reading.Page{power}) != nil {
		pages = append(pages, power)
	}
	questions := ataQuestions(id, how.Attachments)
	for i, q := range questions {
		s.tell(q.page, i, len(questions))
		if asleep {
			pages = append(
				pages,
				reading.Page{
					Name: q.page,
					Fault: &drive.Fault{
						Class: drive.FaultAsleep,
						What:  q.command.Name(),
						Cause: "not asked: the drive sleeps, and asking could wake it",
					},
				},
			)
			continue
		}
		f, offered := pointless(id, q, pages)
		if !offered {
			continue
		}
		if f != nil {
			pages = append(pages, reading.Page{Name: q.page, Fault: f})
			continue
		}
		pages = append(pages, s.log(ctx, s.sized(q, pages)))
	}
	return pages
}

// chunk is how many pages of a general purpose log are asked for at once: adapters differ in how much they pass.
const chunk = 16

// log puts a question. A log of many pages is fetched in pieces; where a later piece fails, what came before it is kept.
func (s *Session) log(ctx context.Context, q question) reading.Page {
	c := q.command
	if q.page == reading.PageStatistics {
		return s.statistics(ctx, q)
	}
	if c.Op != ata.ReadLogExt || c.Count <= chunk {
		return s.ata(ctx, q)
	}
	address := uint8(c.LBA)
	q.command = ata.ReadLogGPLFrom(address, 0, chunk)
	p := s.ata(ctx, q)
	for at := uint16(chunk); p.Fault == nil && at < c.Count; at += chunk {
		q.command = ata.ReadLogGPLFrom(address, at, min(chunk, c.Count-at))
		next := s.ata(ctx, q)
		if next.Fault != nil {
			break
		}
		p.Bytes = append(p.Bytes, next.Bytes...)
	}
	return p
}

// statistics reads the device statistics in one transfer, or, where the drive or its adapter does not give them so, page by page: the
// first says which there are.
func (s *Session) statistics(ctx context.Context, q question) reading.Page {
	p := s.ata(ctx, q)
	if p.Fault == nil && len(p.Bytes) >= int(q.command.Count)*ata.PageSize || s.passes == By12 || over([]reading.Page{p}) != nil {
		return p
	}
	page := func(n uint8) reading.Page {
		one := q
		one.command = ata.ReadLogGPLFrom(ata.LogDeviceStatistics, uint16(n), 1)
		return s.ata(ctx, one)
	}
	first := page(0)
	if first.Fault != nil || len(first.Bytes) < ata.PageSize {
		return p
	}
	whole := make([]byte, ata.StatisticPages*ata.PageSize)
	copy(whole, first.Bytes)
	for _, n := range ata.StatisticPageList(first.Bytes) {
		if n == 0 || int(n) >= ata.StatisticPages {
			continue
		}
		if one := page(n); one.Fault == nil && len(one.Bytes) >= ata.PageSize {
			copy(whole[int(n)*ata.PageSize:], one.Bytes[:ata.PageSize])
		}
	}
	first.Bytes = whole
	return first
}

// capacity asks the adapter how large it says the drive is: some count only 32 bits, and show a part of it.
func (s *Session) capacity(ctx context.Context) []reading.Page {
	if s.device.Describe().Adapter == "" { // no adapter between
		return nil
	}
	p := s.ask(ctx, reading.PageCapacity, scsi.CapacityCDB(), scsi.CapacitySize)
	if p.Fault != nil && (p.Fault.Class == drive.FaultRefused || p.Fault.Class == drive.FaultNotPassed) {
		p = s.ask(ctx, reading.PageCapacity, scsi.CapacityCDB10(), 8)
	}
	if p.Fault != nil && over([]reading.Page{p}) == nil {
		return nil // it is the drive's word that counts
	}
	return []reading.Page{p}
}

func modeOf(sense []byte) ata.Power {
	decoded, err := scsi.DecodeSense(sense)
	if err != nil {
		return ata.PowerUnknown
	}
	return ata.DecodePower(sat.Registers(decoded))
}

// ataQuestions is everything there is to ask; pointless says which of it is not worth asking this drive.
func ataQuestions(id ata.Identify, attachments bool) []question {
	all := []question{
		{page: reading.PageAttributes, command: ata.ReadAttributes()},
		{page: reading.PageThresholds, command: ata.ReadThresholds()},
		{page: reading.PageAlarm, command: ata.ReturnStatus()},
		{page: reading.PageErrorLog, command: ata.ReadLog(ata.LogSummaryError, 1)},
		{page: reading.PageTestLog, command: ata.ReadLog(ata.LogSelfTest, 1)},
		{page: reading.PageDirectory, command: ata.ReadLog(ata.LogDirectory, 1)},
	}
	if id.GPL {
		all = append(all, question{page: reading.PageDirectoryExt, command: ata.ReadLogGPL(ata.LogDirectory, 1)})
	}
	all = append(
		all, question{page: reading.PageStatistics, command: ata.ReadLog(ata.LogDeviceStatistics, 8)},
		question{page: reading.PageSelective, command: ata.ReadLog(ata.LogSelective, 1)},
	)
	if id.GPL {
		all = append(all,
			question{page: reading.PageErrorsExt, command: ata.ReadLogGPL(ata.LogErrorsExt, 1)},
			question{page: reading.PageTestLogExt, command: ata.ReadLogGPL(ata.LogSelfTestExt, 1)},
			question{page: reading.PagePending, command: ata.ReadLogGPL(ata.LogPending, 1)},
			question{page: reading.PagePHY, command: ata.ReadLogGPL(ata.LogPHY, 1)},
			question{page: reading.PageRanges, command: ata.ReadLogGPL(ata.LogRanges, 1)},
			question{page: reading.PageElements, command: ata.ReadElements(elementPages)},
		)
	}
	all = append(all, question{page: reading.PageErrors, command: ata.ReadLog(ata.LogErrors, 1)})
	if id.SCT {
		all = append(all, question{page: reading.PageSCTStatus, command: ata.ReadLog(ata.LogSCTStatus, 1)})
		if id.SCTTables {
			all = append(
				all,
				question{page: reading.PageTemperatures, command: ata.ReadLog(ata.LogSCTData, 1), first: ata.SCTTemperatureQuestion()},
			)
		}
		if id.SCTRecovery {
			all = append(all,
				question{page: reading.PageRecoveryRead, command: ata.SCTCommand(), first: ata.SCTRecoveryQuestion(false)},
				question{page: reading.PageRecoveryWrite, command: ata.SCTCommand(), first: ata.SCTRecoveryQuestion(true)})
		}
	}
	if id.Trusted {
		all = append(all, question{page: reading.PageATALock, command: ata.ReadTrusted(tcg.Protocol, tcg.Specific)})
	}
	if attachments && id.GPL {
		all = append(all, question{page: reading.PageInternalStatus, command: ata.ReadLogGPL(ata.LogInternalStatus, 1)},
			question{page: reading.PageIdentifyData, command: ata.ReadLogGPL(ata.LogIdentifyData, 1)})
	}
	if id.HPA && id.LBA48 {
		all = append(all, question{page: reading.PageNativeMax, command: ata.NativeMax()})
	}
	if id.Overlay {
		all = append(all, question{page: reading.PageConfiguration, command: ata.ReadConfiguration()})
	}
	if id.AccessibleMax {
		all = append(all, question{page: reading.PageAccessibleMax, command: ata.AccessibleMax()})
	}
	return all
}

// logOf is the log a question asks for, in whichever directory lists it; ok is false for other questions.
func logOf(c ata.Command) (address uint8, directory reading.PageName, ok bool) {
	switch {
	case c.Op == ata.ReadLogExt && uint8(c.LBA) != ata.LogDirectory:
		return uint8(c.LBA), reading.PageDirectoryExt, true
	case c.Op == ata.SMART && c.Feature == ata.SMARTReadLog && uint8(c.LBA) != ata.LogDirectory:
		return uint8(c.LBA), reading.PageDirectory, true
	}
	return 0, "", false
}

// elementPages hold the status of 15 physical elements each.
const elementPages = 4

// most bounds how many pages of a log are read. Logs that are rings are read whole up to it: their newest entry may stand anywhere.
var most = map[reading.PageName]uint16{
	reading.PageStatistics:     8,
	reading.PageErrors:         51,
	reading.PageErrorsExt:      64,
	reading.PageTestLogExt:     32,
	reading.PagePending:        64,
	reading.PageInternalStatus: 64,
	reading.PageIdentifyData:   16,
}

// sized asks for as many pages of a log as its directory says there are, and reads statistics through whichever log command
// the directory lists them under.
func (s *Session) sized(q question, before []reading.Page) question {
	address, in, ok := logOf(q.command)
	limit := most[q.page]
	if !ok || limit == 0 {
		return q
	}
	have := directory(before, in)[address]
	if have == 0 && q.page == reading.PageStatistics { // listed as a general purpose log only
		q.command = ata.ReadLogGPL(ata.LogDeviceStatistics, max(1, min(limit, directory(before, reading.PageDirectoryExt)[address])))
		return q
	}
	q.command.Count = max(1, min(limit, have))
	q.command.Blocks = q.command.Count
	return q
}

// pointless says why a question is not put: the drive cannot, or an earlier answer settled it. A log that is nobody's
// duty to have and that no directory lists is not offered, which is no fault.
func pointless(id ata.Identify, q question, before []reading.Page) (fault *drive.Fault, offered bool) {
	name := q.command.Name()
	if last := over(before); last != nil {
		return notAsked(name, last), true
	}
	refused := func(back string) (*drive.Fault, bool) {
		return &drive.Fault{Class: drive.FaultRefused, What: name, Cause: back}, true
	}
	smart := q.command.Op == ata.SMART
	address, in, isLog := logOf(q.command)
	switch {
	case smart && !id.SMARTSupported:
		return refused("the drive has no SMART")
	case smart && !id.SMARTEnabled:
		return &drive.Fault{Class: drive.FaultSwitchedOff, What: name, Cause: "SMART is switched off in the drive"}, true
	case q.page == reading.PageErrorLog && !id.ErrorLogSupported && !counters(before).CanLogErrors:
		return refused("the drive keeps no error log")
	case q.page == reading.PageTestLog && !id.SelfTestSupported && !counters(before).CanTest:
		return refused("the drive has no self-tests")
	case q.page == reading.PageSelective && !counters(before).CanSelective, q.page == reading.PageElements && !tellsElements(before):
		return nil, false
	case q.page == reading.PageErrorLog || q.page == reading.PageTestLog:
		return nil, true // older than directories: asked even where no directory lists them
	case isLog && q.page == reading.PageStatistics:
		if directory(before, in)[address] == 0 && directory(before, reading.PageDirectoryExt)[address] == 0 {
			return refused("the drive's log directory lists no device statistics")
		}
	case q.page == reading.PageErrors && directory(before, reading.PageDirectoryExt)[ata.LogErrorsExt] > 0:
		return nil, false // log 03h has the same errors with wider addresses, and this adapter passes it
	case isLog && q.page != reading.PageSCTStatus && q.page != reading.PageTemperatures && directory(before, in)[address] == 0:
		return nil, false
	}
	return nil, true
}

// directory is a log directory among the answers so far; empty when the drive gave none.
func directory(before []reading.Page, page reading.PageName) ata.LogDirectoryPages {
	for _, p := range before {
		if p.Name == page && p.Fault == nil {
			d, _ := ata.DecodeLogDirectory(p.Bytes) // cut short: nothing is listed
			return d
		}
	}
	return ata.LogDirectoryPages{}
}

// tellsElements reports whether the drive's statistics count changes of its physical elements: such a drive tells of them, and no other
// is asked.
func tellsElements(before []reading.Page) bool {
	for _, p := range before {
		if p.Name == reading.PageStatistics && p.Fault == nil {
			all, _ := ata.DecodeStatistics(p.Bytes) // a broken page announces nothing
			return slices.ContainsFunc(all, func(s ata.Statistic) bool { return s.StatisticKey == ata.StatElementsChanged })
		}
	}
	return false
}

// counters is the attribute page among the answers so far. Some drives announce self-tests and error log only there, and
// not in their identity.
func counters(before []reading.Page) ata.AttributePage {
	for _, p := range before {
		if p.Name == reading.PageAttributes && p.Fault == nil {
			d, _ := ata.DecodeAttributes(p.Bytes) // a broken page announces what it can
			return d
		}
	}
	return ata.AttributePage{}
}

// ata puts one question.
func (s *Session) ata(ctx context.Context, q question) reading.Page {
	if q.first != nil && q.command.Transfer != ata.PIOOut { // ask first, then fetch the answer
		if _, fault := s.Do(ctx, ata.SCTCommand(), q.first...); fault != nil {
			return reading.Page{Name: q.page, Fault: fault}
		}
		q.first = nil
	}
	a, fault := s.Do(ctx, q.command, q.first...)
	p := reading.Page{Name: q.page, How: q.command.Name() + " in " + a.How, Bytes: a.Data, Fault: fault}
	if q.command.Status {
		p.Bytes = a.Sense
	}
	if fault == nil && q.command.Status && len(a.Sense) == 0 {
		p.Fault = &drive.Fault{
			Class: drive.FaultNotPassed,
			What:  q.command.Name(),
			Cause: "the adapter did not hand back the drive's registers",
		}
	}
	if p.Fault != nil {
		p.Bytes, p.How = nil, ""
	}
	return p
}
