package reading

import (
	"fmt"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

func (r *Reading) ataPage(p Page) error {
	b := p.Bytes
	switch p.Name {
	case PageIdentify:
		return r.identify(b)
	case PageAttributes:
		return r.counters(b)
	case PageAlarm:
		return r.alarm(b)
	case PageDirectory, PageDirectoryExt:
		return r.directory(p)
	case PageStatistics:
		return r.statistics(b)
	case PageErrorLog:
		l, err := ata.DecodeErrorLog(b)
		r.ataErrors(p.Name, l, err, len(b) >= ata.PageSize)
		return err
	case PageErrors:
		l, err := ata.DecodeErrors(b)
		r.ataErrors(p.Name, l, err, err == nil)
		return err
	case PageErrorsExt:
		l, err := ata.DecodeErrorsExt(b)
		r.ataErrors(p.Name, l, err, err == nil)
		return err
	case PageTestLog:
		l, err := ata.DecodeSelfTestLog(b)
		r.ataTests(p.Name, l, len(b) >= ata.PageSize)
		return err
	case PageTestLogExt:
		l, err := ata.DecodeSelfTestsExt(b)
		r.ataTests(p.Name, l, err == nil)
		return err
	case PageSelective:
		return r.selective(b)
	case PagePending:
		return r.pending(b)
	case PageATALock:
		return r.lock(p)
	case PageElements:
		return r.elements(p, true)
	case PageRanges:
		all, err := scsi.DecodeATARanges(b)
		r.ranges(p.Name, all)
		return err
	case PagePHY:
		return r.phy(b)
	case PageSCTStatus:
		return r.sctStatus(b)
	case PageTemperatures:
		return r.temperatures(b)
	case PagePower, PageRecoveryRead, PageRecoveryWrite, PageNativeMax, PageAccessibleMax:
		return r.registers(p)
	case PageConfiguration:
		c, err := ata.DecodeConfiguration(b)
		if err == nil {
			s := r.sheet(p.Name)
			s.add("Sectors without the overlay", 6, 8, c.MaxLBA+1, "sectors")
			r.hidden(c.MaxLBA+1, "a device configuration overlay")
		}
		return err
	default:
		r.unknown(p.Name)
		return nil
	}
}

func (r *Reading) identify(b []byte) error {
	id, err := ata.DecodeIdentify(b)
	wrong := id.Integrity == ata.IntegrityWrong
	r.Identity = drive.Identity{
		Key:      drive.Key{Model: drive.Name(id.Model), Serial: drive.Name(id.Serial)},
		Firmware: drive.Printable(id.Firmware), WWN: drive.WWN64(id.WWN), Interface: drive.ATA,
		Bytes: id.Sectors * uint64(id.LogicalSector), LogicalSector: id.LogicalSector, PhysicalSector: id.PhysicalSector,
		AlignmentOffset: id.Alignment, FormFactor: id.FormFactorName(), Transport: id.TransportName(),
		LinkNow: ata.LinkSpeed(id.SATANow), LinkPossible: ata.LinkSpeed(id.LinkPossible()),
		SMART:        drive.Feature{Supported: id.SMARTSupported, Enabled: id.SMARTEnabled},
		SelfTest:     drive.Feature{Supported: id.SelfTestSupported, Enabled: id.SelfTestEnabled},
		ErrorLogging: drive.Feature{Supported: id.ErrorLogSupported, Enabled: id.ErrorLogEnabled},
		GPL:          drive.Feature{Supported: id.GPL, Enabled: id.GPL}, SCT: drive.Feature{Supported: id.SCT, Enabled: id.SCT},
		TRIM: drive.Feature{Supported: id.TRIM, Enabled: id.TRIM}, Security: security(id.Security),
		IntegrityChecked: id.Integrity == ata.IntegrityRight,
	}
	switch {
	case id.RotationRate == 1:
		r.Identity.Medium = drive.Flash
	case id.RotationRate > 1:
		r.Identity.Medium, r.Identity.RotationRate = drive.Spinning, id.RotationRate
	}
	if wrong { // a name out of a damaged page would open a history for a drive that does not exist
		r.Identity.Key = drive.Key{}
	}
	if len(b) < ata.PageSize {
		return err
	}
	if r.explains {
		r.identityFacts(id)
	}
	if id.SpinUpNeeded {
		r.Faults = append(
			r.Faults,
			drive.Fault{
				Class: drive.FaultNotRead,
				What:  "looking at the drive",
				Cause: "it waits to be told to spin up",
				Page:  string(PageIdentify),
				At:    4,
				Extra: "Read it by hand: that tells it to spin up.",
			},
		)
	}
	return err
}

func security(s ata.Security) drive.Security {
	out := drive.Security{Supported: s.Supported, Enabled: s.Enabled, Locked: s.Locked, Frozen: s.Frozen, CountExpired: s.CountExpired}
	if s.Locked {
		out.By = drive.LockPassword
	}
	return out
}

// identityFacts says in words what the words of IDENTIFY DEVICE hold, each with its place (word n is at byte 2n).
func (r *Reading) identityFacts(id ata.Identify) {
	s := r.sheet(PageIdentify)
	text := func(name string, word, words int, value string) {
		if value == "" {
			s.missing(name, 2*word, 2*words, "the drive does not say")
			return
		}
		s.add(name, 2*word, 2*words, value, "")
	}
	text("Model", 27, 20, r.Identity.Model)
	text("Serial", 10, 10, r.Identity.Serial)
	text("Firmware", 23, 4, r.Identity.Firmware)
	if id.WWN != 0 {
		s.add("World Wide Name", 216, 8, fmt.Sprintf("%016x", id.WWN), "")
	} else {
		s.missing("World Wide Name", 216, 8, "the drive does not say")
	}
	at := 120
	if id.LBA48 {
		at = 200
	}
	s.add("Sectors", at, 8, id.Sectors, "sectors")
	s.add("Logical sector", 234, 4, id.LogicalSector, "B")
	s.add("Physical sector", 212, 2, id.PhysicalSector, "B")
	if id.PhysicalSector > id.LogicalSector {
		if id.Alignment == 0 {
			s.add("Alignment", 418, 2, "first sector is aligned", "")
		} else {
			s.add("Alignment", 418, 2, fmt.Sprintf("the first sector is number %d inside its physical one, from 0", id.Alignment), "")
		}
	}
	switch {
	case id.RotationRate == 1:
		s.add("Rotation", 434, 2, "does not rotate", "")
	case id.RotationRate > 1:
		s.add("Rotation", 434, 2, id.RotationRate, "/min")
	default:
		s.missing("Rotation", 434, 2, "the drive does not say")
	}
	text("Form factor", 168, 1, id.FormFactorName())
	text("Transport", 222, 1, id.TransportName())
	text("Link, fastest possible", 76, 1, ata.LinkSpeed(id.LinkPossible()))
	text("Link, negotiated", 77, 1, ata.LinkSpeed(id.SATANow))
	feature := func(name string, word int, supported, enabled bool) {
		switch {
		case !supported:
			s.add(name, 2*word, 2, "not supported", "")
		case !enabled:
			s.add(name, 2*word, 2, "switched off", "")
		default:
			s.add(name, 2*word, 2, "on", "")
		}
	}
	feature("SMART", 85, id.SMARTSupported, id.SMARTEnabled)
	feature("Self-tests", 87, id.SelfTestSupported, id.SelfTestEnabled)
	feature("Error log", 87, id.ErrorLogSupported, id.ErrorLogEnabled)
	s.yes("General purpose logs", 168, 2, id.GPL, "supported", "not supported")
	s.yes("SCT", 412, 2, id.SCT, "supported", "not supported")
	s.yes("TRIM", 338, 2, id.TRIM, "supported", "not supported")
	s.yes("Host protected area", 164, 2, id.HPA, "supported", "not supported")
	s.yes("Configuration overlay", 166, 2, id.Overlay, "supported", "not supported")
	s.yes("Accessible max address", 238, 2, id.AccessibleMax, "supported", "not supported")
	s.add("Zones", 138, 2, [...]string{"none, or managed by the host", "host aware", "device managed", "reserved value"}[id.Zoned&3], "")
	s.yes("Security protocols (TCG)", 96, 2, id.Trusted, "supported", "not supported")
	s.add("Password lock", 256, 2, lockWords(id.Security), "")
	switch id.Integrity {
	case ata.IntegrityRight:
		s.add("Checksum of this page", 510, 2, "right", "")
	case ata.IntegrityWrong:
		s.add("Checksum of this page", 510, 2, "wrong", "")
	case ata.IntegrityAbsent:
		s.missing("Checksum of this page", 510, 2, "the drive does not use it")
	}
}

func lockWords(s ata.Security) string {
	switch {
	case !s.Supported:
		return "not supported"
	case s.Locked && s.CountExpired:
		return "locked, and its attempts are used up until the next power-on"
	case s.Locked:
		return "locked"
	case s.Enabled && s.Frozen:
		return "a password is set, unlocked, frozen"
	case s.Enabled:
		return "a password is set, unlocked"
	case s.Frozen:
		return "no password, frozen"
	}
	return "no password"
}

func (r *Reading) counters(b []byte) error {
	d, err := ata.DecodeAttributes(b)
	r.HasCounters = len(b) >= ata.PageSize
	r.Capabilities = Capabilities{d.CanTest, d.CanConveyance, d.CanSelective, d.ShortPoll, d.ExtendedPoll, d.ConveyancePoll}
	r.TestRunning, r.TestRemaining = d.Test == ata.TestRunning, d.TestRemaining
	r.Attributes = make([]Attribute, 0, len(d.Attributes))
	for _, a := range d.Attributes {
		r.Attributes = append(r.Attributes, Attribute{Attribute: a})
	}
	if len(b) < ata.PageSize || !r.explains {
		return err
	}
	s := r.sheet(PageAttributes)
	s.add("Self-test, last or running", 363, 1, d.Test, "")
	if r.TestRunning {
		s.add("Self-test, remaining", 363, 1, d.TestRemaining, "%")
	}
	s.yes("Self-tests", 367, 1, d.CanTest, "supported", "not supported")
	s.yes("Conveyance self-test", 367, 1, d.CanConveyance, "supported", "not supported")
	s.yes("Selective self-test", 367, 1, d.CanSelective, "supported", "not supported")
	for _, poll := range []struct {
		name   string
		at     int
		length int
		value  float64
	}{{
		"Short self-test takes", 372, 1, d.ShortPoll.Minutes(),
	}, {"Extended self-test takes", 373, 1, d.ExtendedPoll.Minutes()}, {"Conveyance self-test takes", 374, 1, d.ConveyancePoll.Minutes()}} {
		if poll.at == 373 && b[373] == 0xFF {
			poll.at, poll.length = 375, 2
		}
		if poll.value == 0 {
			s.missing(poll.name, poll.at, poll.length, "the drive does not say")
			continue
		}
		s.add(poll.name, poll.at, poll.length, poll.value, "min")
	}
	return err
}

// statistics are shown as counters of their own; what is a fact of this page alone is what their flags say.
func (r *Reading) statistics(b []byte) error {
	all, err := ata.DecodeStatistics(b)
	r.Statistics = all
	if !r.explains {
		return err
	}
	s := r.sheet(PageStatistics)
	for _, x := range all {
		name, at := x.Name, int(x.Page)*ata.PageSize+int(x.Offset)
		if name == "" {
			name = fmt.Sprintf("Statistic %d of page %d", x.Offset/8, x.Page)
		}
		if x.Notifies {
			s.yes(name+", notification", at+7, 1, true, "offered", "")
		}
		if x.Condition {
			s.yes(name+", monitored condition", at+7, 1, true, "met", "")
		}
	}
	return err
}

func (r *Reading) alarm(b []byte) error {
	sense, err := scsi.DecodeSense(b)
	if err != nil {
		return err
	}
	r.Alarm = ata.DecodeAlarm(sat.Registers(sense))
	if r.Alarm == ata.AlarmUnknown {
		r.Faults = append(r.Faults, drive.Fault{
			Class: drive.FaultNotPassed, What: "SMART RETURN STATUS", Cause: "the adapter did not hand back the drive's registers",
			Page: string(PageAlarm), Extra: "The drive's own alarm is unknown here. Try a direct port.",
		})
	}
	return nil
}

func (r *Reading) directory(p Page) error {
	d, err := ata.DecodeLogDirectory(p.Bytes)
	if err != nil || !r.explains {
		return err
	}
	s := r.sheet(p.Name)
	for address, pages := range d {
		if pages > 0 {
			s.add(fmt.Sprintf("Pages of log %02Xh", address), 2*address, 2, pages, "")
		}
	}
	return nil
}

func (r *Reading) ataErrors(page PageName, l ata.ErrorLog, err error, has bool) {
	if r.hasExt && page != PageErrorsExt || !has && page != PageErrorLog {
		return
	}
	if l.Beyond > 0 && len(r.Errors) > 0 { // a shorter log has the newest: what came of this one is older
		r.ErrorTotal = max(r.ErrorTotal, uint64(l.Total))
		return
	}
	r.Errors, r.ErrorTotal, r.HasErrors = make([]LoggedError, 0, len(l.Errors)), uint64(l.Total), has
	for _, e := range l.Errors {
		x := LoggedError{
			Command: e.Command.String(),
			Meaning: e.Meaning(),
			State:   e.StateName(),
			Hours:   int64(e.Hours),
			LBA:     e.LBA,
			HasLBA:  e.Error&(ata.ErrorUNC|ata.ErrorIDNF) != 0 || e.LBA != 0,
			Host:    e.Error&^ata.ErrorABRT == 0 && !e.DeviceFault(),
			Page:    page,
			Offset:  e.Offset,
		}
		for _, c := range e.Before {
			x.Before = append(x.Before, c.String())
		}
		r.Errors = append(r.Errors, x)
	}
	r.hasExt = r.hasExt || page == PageErrorsExt && err == nil
}

func (r *Reading) ataTests(page PageName, l ata.SelfTestLog, has bool) {
	if !has || l.Beyond > 0 && len(r.Tests) > 0 { // a shorter log has the newest: what came of this one is older
		return
	}
	r.Tests, r.HasTests = make([]SelfTest, 0, len(l.Tests)), true
	for _, t := range l.Tests {
		r.Tests = append(r.Tests, SelfTest{
			Kind:      t.KindName(),
			Result:    t.Status.String(),
			Passed:    t.Status == ata.TestPassed,
			Failed:    t.Status.Failed(),
			Running:   t.Status == ata.TestRunning,
			Mechanics: t.Status == ata.TestElectrical || t.Status == ata.TestServo || t.Status == ata.TestHandling,
			Hours:     uint64(t.Hours),
			Wraps:     true,
			LBA:       t.LBA,
			HasLBA:    t.HasLBA,
			Page:      page,
			Offset:    t.Offset,
		})
	}
}

func (r *Reading) selective(b []byte) error {
	l, err := ata.DecodeSelective(b)
	if err != nil {
		return err
	}
	if !r.explains {
		return nil
	}
	s := r.sheet(PageSelective)
	if len(l.Spans) == 0 {
		s.missing("Spans", 2, 80, "none was ever set")
	}
	for i, span := range l.Spans {
		s.add(fmt.Sprintf("Span %d", i+1), 2+16*i, 16, fmt.Sprintf("LBA %d to %d", span.First, span.Last), "")
	}
	if l.Span > 0 {
		s.add("Under test", 492, 8, fmt.Sprintf("LBA %d in span %d", l.Current, l.Span), "")
	}
	return nil
}

func (r *Reading) pending(b []byte) error {
	l, err := ata.DecodePending(b)
	if err != nil {
		return err
	}
	r.Pending = &l
	if !r.explains {
		return nil
	}
	s := r.sheet(PagePending)
	s.add("Pending sectors", 0, 4, l.Count, "sectors")
	for _, d := range l.Defects {
		when := ", hour not known"
		if d.Hours != 0xFFFFFFFF {
			when = fmt.Sprintf(", found at %d h", d.Hours)
		}
		s.add(fmt.Sprintf("LBA %d", d.LBA), d.Offset, 16, "pending"+when, "")
	}
	return nil
}

func (r *Reading) phy(b []byte) error {
	all, err := ata.DecodePHY(b)
	r.PHY = all
	if !r.explains {
		return err
	}
	s := r.sheet(PagePHY)
	for _, c := range all {
		name := c.Name
		if name == "" {
			name = fmt.Sprintf("Counter %04Xh, without a name in this version", c.ID)
		}
		if c.Full {
			s.add(name+", since power-on", c.Offset, c.Size, fmt.Sprintf("%d or more", c.Value), "")
			continue
		}
		s.add(name+", since power-on", c.Offset, c.Size, c.Value, "")
	}
	return err
}

func (r *Reading) sctStatus(b []byte) error {
	t, err := ata.DecodeSCTStatus(b)
	if err != nil {
		return err
	}
	r.SCT = &t
	if !r.explains {
		return nil
	}
	s := r.sheet(PageSCTStatus)
	s.add("State", 10, 1, t.StateName(), "")
	for i, x := range []struct {
		name string
		c    int8
	}{
		{"Temperature", t.Now},
		{"Lowest since power-on", t.Lowest},
		{"Highest since power-on", t.Highest},
		{"Lowest ever", t.LifeLowest},
		{"Highest ever", t.LifeHighest},
	} {
		s.celsius(x.name, 200+i, 1, int(x.c), x.c != ata.NoTemperature)
	}
	s.add("Times over the limit", 206, 4, t.OverLimit, "")
	s.add("Times under the limit", 210, 4, t.UnderLimit, "")
	if t.Alarm() == ata.AlarmUnknown {
		s.missing("The drive's own alarm", 214, 2, "the drive does not say it here")
	} else {
		s.add("The drive's own alarm", 214, 2, t.Alarm(), "")
	}
	return nil
}

func (r *Reading) temperatures(b []byte) error {
	h, err := ata.DecodeTemperatureHistory(b)
	if err != nil {
		return err
	}
	r.Curve = &h
	if !r.explains {
		return nil
	}
	s := r.sheet(PageTemperatures)
	s.add("Interval of the curve", 4, 2, h.Interval, "min")
	for i, x := range []struct {
		name string
		c    int8
	}{
		{"Highest it should work at", h.MaxOperating},
		{"Highest it may reach", h.OverLimit},
		{"Lowest it should work at", h.MinOperating},
		{"Lowest it may reach", h.UnderLimit},
	} {
		s.celsius(x.name, 6+i, 1, int(x.c), x.c != ata.NoTemperature)
	}
	known, low, high := 0, int8(127), int8(ata.NoTemperature)
	for _, c := range h.Curve {
		if c != ata.NoTemperature {
			known++
			low, high = min(low, c), max(high, c)
		}
	}
	s.add("Entries of the curve", h.Offset, len(h.Curve), fmt.Sprintf("%d of %d", known, len(h.Curve)), "")
	if known > 0 {
		s.add("Curve", h.Offset, len(h.Curve), fmt.Sprintf("%d to %d", low, high), "°C")
	}
	return nil
}

// registers reads the pages whose answer is in the returned registers; what is kept of them is the sense data.
func (r *Reading) registers(p Page) error {
	sense, err := scsi.DecodeSense(p.Bytes)
	if err != nil {
		return err
	}
	regs := sat.Registers(sense)
	unknown := func() error {
		r.Faults = append(
			r.Faults,
			drive.Fault{
				Class: drive.FaultNotPassed,
				What:  "asking for " + p.Name.Title(),
				Cause: "the adapter did not hand back the drive's registers",
				Page:  string(p.Name),
			},
		)
		return nil
	}
	if !regs.Reported {
		return unknown()
	}
	switch p.Name {
	case PagePower:
		power := ata.DecodePower(regs)
		if power == ata.PowerUnknown {
			return unknown()
		}
		r.sheet(p.Name).add("Power mode", 0, len(p.Bytes), power, "")
	case PageRecoveryRead, PageRecoveryWrite:
		tenths, ok := ata.DecodeRecoveryLimit(regs)
		switch s := r.sheet(p.Name); {
		case !ok:
			return unknown()
		case tenths == 0:
			s.add("Longest error recovery", 0, len(p.Bytes), "no limit", "")
		default:
			s.add("Longest error recovery", 0, len(p.Bytes), float64(tenths)/10, "s")
		}
	case PageNativeMax, PageAccessibleMax:
		if regs.Narrow { // fixed-format sense lost the upper bytes
			return unknown()
		}
		r.sheet(p.Name).add("Sectors there could be", 0, len(p.Bytes), regs.LBA+1, "sectors")
		r.hidden(
			regs.LBA+1,
			map[PageName]string{PageNativeMax: "a host protected area", PageAccessibleMax: "an accessible max address"}[p.Name],
		)
	default:
	}
	return nil
}

// hidden records that the drive shows less than it has.
func (r *Reading) hidden(sectors uint64, by string) {
	bytes := sectors * uint64(r.Identity.LogicalSector)
	if r.Identity.LogicalSector == 0 || bytes <= r.Identity.Bytes || sectors > 1<<48 {
		return
	}
	r.Identity.Hidden, r.Identity.HiddenBy = bytes-r.Identity.Bytes, by
}
