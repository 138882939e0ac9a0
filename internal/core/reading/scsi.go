package reading

import (
	"fmt"
	"strings"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/scsi"
)

func (r *Reading) scsiPage(p Page) error {
	b := p.Bytes
	switch p.Name {
	case PageInquiry:
		return r.inquiry(b)
	case PageCapacity:
		return r.capacity(b)
	case PageDefects, PageDefects10:
		d, err := scsi.DecodeDefects(b)
		at, length := 4, 4
		if p.Name == PageDefects10 {
			d, err = scsi.DecodeDefects10(b)
			at, length = 2, 2
		}
		if err == nil {
			r.SCSI.Defects = &d
			r.sheet(p.Name).add("Sectors replaced since it was made", at, length, d.Count, "sectors")
		}
		return err
	case PageSCSILock:
		return r.lock(p)
	case PageSElement:
		return r.elements(p, false)
	case PageControl:
		c, err := scsi.DecodeControl(b)
		if err == nil {
			r.SCSI.Control = &c
			s := r.sheet(p.Name)
			s.yes("Informational exceptions", c.Offset+2, 1, !c.Disabled, "on", "switched off")
			s.yes("Warnings", c.Offset+2, 1, c.Warnings, "on", "switched off")
			s.add("Method of reporting", c.Offset+3, 1, c.Method, "")
		}
		return err
	default:
		if n, ok := p.Name.number(vpdPrefix); ok {
			return r.vpd(n, p)
		}
		if l, ok := p.Name.log(); ok {
			return r.scsiLog(l, p)
		}
		r.unknown(p.Name)
		return nil
	}
}

// inquiry names a SCSI drive. Behind a SAT layer the vendor is "ATA", and IDENTIFY DEVICE names the drive.
func (r *Reading) inquiry(b []byte) error {
	q, err := scsi.DecodeInquiry(b)
	if err != nil {
		return err
	}
	s := r.sheet(PageInquiry)
	kind := map[uint8]string{0x00: "direct access", 0x14: "zoned, managed by the host"}[q.DeviceType]
	if kind == "" {
		kind = fmt.Sprintf("type %02Xh", q.DeviceType)
	}
	s.add("Device type", 0, 1, kind, "")
	s.add("Vendor", 8, 8, drive.Printable(q.Vendor), "")
	s.add("Product", 16, 16, drive.Printable(q.Product), "")
	s.add("Revision", 32, 4, drive.Printable(q.Revision), "")
	if r.Identity.Interface == drive.InterfaceUnknown && q.Vendor != "ATA" {
		r.Identity.Interface = drive.SCSI
		r.Identity.Model = strings.TrimSpace(drive.Printable(q.Vendor) + " " + drive.Printable(q.Product))
		r.Identity.Firmware = drive.Printable(q.Revision)
	}
	return nil
}

func (r *Reading) capacity(b []byte) error {
	c, err := scsi.DecodeCapacity(b)
	if err != nil {
		return err
	}
	id := &r.Identity
	if id.Interface == drive.ATA { // the adapter's word, beside the drive's own
		r.adapter = shown{c.Last + 1, c.Block}
		s := r.sheet(PageCapacity)
		s.add("Last LBA the adapter shows", 0, 8, c.Last, "")
		s.add("Logical sector the adapter shows", 8, 4, c.Block, "B")
		return nil
	}
	id.Bytes, id.LogicalSector, id.PhysicalSector, id.AlignmentOffset = (c.Last+1)*uint64(c.Block), c.Block, c.Block<<c.Exponent, c.Offset()
	switch {
	case c.Protection > 0:
		id.Protection = fmt.Sprintf("protection type %d", c.Protection)
	case c.Block%512 != 0:
		id.Protection = fmt.Sprintf("formatted with %d-byte sectors, which computers do not take", c.Block)
	}
	s := r.sheet(PageCapacity)
	s.add("Last LBA", 0, 8, c.Last, "")
	s.add("Logical sector", 8, 4, c.Block, "B")
	s.add("Physical sector", 13, 1, id.PhysicalSector, "B")
	s.add("First aligned LBA", 14, 2, c.Alignment, "")
	s.yes("Protection information", 12, 1, c.Protection > 0, fmt.Sprintf("type %d", c.Protection), "none")
	s.yes("Unmapped blocks are managed", 14, 1, c.Thin, "yes", "no")
	return nil
}

func (r *Reading) vpd(n uint8, p Page) error {
	s := r.sheet(p.Name)
	switch n {
	case scsi.VPDSerial:
		serial, err := scsi.DecodeSerial(p.Bytes)
		if err == nil && r.Identity.Interface == drive.SCSI {
			r.Identity.Serial = drive.Name(serial)
		}
		if err == nil {
			s.add("Serial", 4, len(p.Bytes)-4, drive.Printable(serial), "")
		}
		return err
	case scsi.VPDIdentification:
		all, err := scsi.DecodeDesignators(p.Bytes)
		if r.Identity.Interface == drive.SCSI {
			r.Identity.WWN = drive.WWNOf(scsi.UnitName(all))
		}
		for _, d := range all {
			of := [...]string{"logical unit", "target port", "target device", "reserved"}[d.Association&3]
			s.add(fmt.Sprintf("Name of the %s, type %d", of, d.Type), d.Offset, 4+len(d.Value), fmt.Sprintf("%x", d.Value), "")
		}
		return err
	case scsi.VPDCharacteristics:
		c, err := scsi.DecodeCharacteristics(p.Bytes)
		if err != nil {
			return err
		}
		id := &r.Identity
		id.FormFactor = c.FormFactorName()
		switch {
		case c.RotationRate == 1:
			id.Medium = drive.Flash
			s.add("Rotation", 4, 2, "does not rotate", "")
		case c.RotationRate > 1:
			id.Medium, id.RotationRate = drive.Spinning, c.RotationRate
			s.add("Rotation", 4, 2, c.RotationRate, "/min")
		default:
			s.missing("Rotation", 4, 2, "the drive does not say")
		}
		if f := c.FormFactorName(); f != "" {
			s.add("Form factor", 7, 1, f, "")
		}
		return nil
	case scsi.VPDRanges:
		all, err := scsi.DecodeRanges(p.Bytes)
		r.ranges(p.Name, all)
		return err
	default:
		body, err := scsi.DecodeVPD(n, p.Bytes)
		if err == nil {
			s.add("Length", 2, 2, len(body), "B")
		}
		return err
	}
}

func (r *Reading) scsiLog(id scsi.LogID, p Page) error {
	b := p.Bytes
	switch id {
	case scsi.LogPages:
		all, err := scsi.DecodePageList(b)
		s := r.sheet(p.Name)
		for i, page := range all {
			s.add(scsi.LogTitle(scsi.LogID{Page: page}), 4+i, 1, fmt.Sprintf("%02Xh", page), "")
		}
		return err
	case scsi.LogSubpages:
		all, err := scsi.DecodeSubpageList(b)
		s := r.sheet(p.Name)
		for i, l := range all {
			s.add(scsi.LogTitle(l), 4+2*i, 2, l.String(), "")
		}
		return err
	}
	l, err := scsi.DecodeLogPage(id, b)
	if r.SCSI.Logs == nil {
		r.SCSI.Logs = map[scsi.LogID]scsi.LogPage{}
	}
	if err == nil {
		r.SCSI.Logs[id] = l
		r.HasCounters = true
	}
	switch id {
	case scsi.LogSelfTests:
		return r.scsiTests(p, err)
	case scsi.LogBackground:
		return r.background(p)
	case scsi.LogInformational:
		return r.informational(p)
	case scsi.LogProtocol:
		return r.ports(p)
	case scsi.LogPending:
		return r.scsiPending(p)
	case scsi.LogEnvironment:
		return r.environment(p)
	case scsi.LogEnvironLimits:
		return r.environmentLimits(p)
	}
	if r.explains {
		r.parameters(p.Name, l)
	}
	return err
}

// parameters lists the parameters that are plain numbers.
func (r *Reading) parameters(page PageName, l scsi.LogPage) {
	s := r.sheet(page)
	for _, x := range l.Parameters {
		name := scsi.ParameterName(l.LogID, x.Code)
		if name == "" {
			name = fmt.Sprintf("Parameter %04Xh, without a name in this version", x.Code)
		}
		switch v := x.Value; {
		case l.LogID == scsi.LogTemperature && len(v) >= 2:
			s.celsius(name, x.Offset+1, 1, int(v[1]), v[1] != 0xFF)
		case l.LogID == scsi.LogSolidState && x.Code == scsi.PercentageUsed && len(v) >= 4:
			s.add(name, x.Offset+3, 1, v[3], "%")
		case l.LogID == scsi.LogStartStop && x.Code <= 2 && len(v) >= 6: // digits as text: year and week
			year, week := strings.TrimSpace(string(v[:4])), strings.TrimSpace(string(v[4:6]))
			if year == "" || strings.Trim(year, "0") == "" {
				s.missing(name, x.Offset, 6, "none is set")
			} else {
				s.add(name, x.Offset, 6, drive.Printable("week "+week+" of "+year), "")
			}
		case l.LogID == scsi.LogStartStop && len(v) == 4 && v[0] == 0xFF && v[1] == 0xFF && v[2] == 0xFF && v[3] == 0xFF:
			s.missing(name, x.Offset, 4, "the drive does not say")
		default:
			if number, ok := x.Number(); ok {
				unit := ""
				if x.Code == scsi.CounterProcessed &&
					(l.LogID == scsi.LogWriteErrors || l.LogID == scsi.LogReadErrors || l.LogID == scsi.LogVerifyErrors) {
					unit = "B"
				}
				s.add(name, x.Offset, len(v), number, unit)
			}
		}
	}
}

func (r *Reading) scsiTests(p Page, err error) error {
	all, wrong := scsi.DecodeSelfTests(p.Bytes)
	r.HasTests = err == nil
	for _, t := range all {
		result := t.Result.String()
		if t.Result.Failed() && t.Sense.ASC != 0 {
			result += ": " + t.Sense.String()
		}
		r.Tests = append(r.Tests, SelfTest{
			Kind:      t.KindName(),
			Result:    result,
			Passed:    t.Result == scsi.TestPassed,
			Failed:    t.Result.Failed(),
			Running:   t.Result == scsi.TestRunning,
			Mechanics: t.Result.Failed() && t.Sense.Key == scsi.HardwareError,
			Hours:     uint64(t.Hours),
			Saturated: t.Hours == 0xFFFF,
			LBA:       t.LBA,
			HasLBA:    t.HasLBA,
			Page:      p.Name,
			Offset:    t.Offset,
		})
		r.TestRunning = r.TestRunning || t.Result == scsi.TestRunning
	}
	r.Capabilities.SelfTest = r.Capabilities.SelfTest || r.HasTests
	return wrong
}

func (r *Reading) background(p Page) error {
	g, err := scsi.DecodeBackground(p.Bytes)
	r.SCSI.Background = &g
	s := r.sheet(p.Name)
	if l := r.SCSI.Logs[scsi.LogBackground]; len(l.Parameters) > 0 {
		at := l.Parameters[0].Offset
		s.add("Powered on", at, 4, g.Minutes/60, "h")
		s.add("The drive's own scan", at+5, 1, g.StatusName(), "")
		s.add("Scans so far", at+6, 2, g.Scans, "")
		s.add("Progress", at+8, 2, int(g.Progress)*100/65536, "%")
	}
	for _, f := range g.Found {
		s.add(fmt.Sprintf("LBA %d", f.LBA), f.Offset, 20, fmt.Sprintf("%s; %s, at %d h", f.Sense, f.Status, f.Minutes/60), "")
	}
	return err
}

func (r *Reading) informational(p Page) error {
	i, err := scsi.DecodeInformational(p.Bytes)
	if err != nil {
		return err
	}
	r.SCSI.Informational = &i
	r.Alarm = ata.AlarmNotRaised
	if i.Predicts() {
		r.Alarm = ata.AlarmRaised
	}
	s := r.sheet(p.Name)
	if i.ASC == 0 && i.ASCQ == 0 {
		s.add("The drive's own alarm", i.Offset, 2, "not raised", "")
	} else {
		s.add("The drive's own alarm", i.Offset, 2, scsi.Sense{ASC: i.ASC, ASCQ: i.ASCQ}.String(), "")
	}
	s.celsius("Temperature", i.Offset+2, 1, int(i.Temperature), i.Temperature != 0xFF)
	return nil
}

func (r *Reading) ports(p Page) error {
	all, err := scsi.DecodePorts(p.Bytes)
	r.SCSI.Ports = all
	s := r.sheet(p.Name)
	for _, x := range all {
		name := fmt.Sprintf("Port %d, phy %d", x.Port, x.Phy)
		if rate := x.RateName(); rate != "" {
			s.add(name+", link", x.Offset+5, 1, rate, "")
			if r.Identity.LinkNow == "" {
				r.Identity.LinkNow, r.Identity.Transport = rate, "SAS"
			}
		} else {
			s.missing(name+", link", x.Offset+5, 1, "nothing is attached")
		}
		s.add(name+", address", x.Offset+8, 8, fmt.Sprintf("%016x", x.Address), "")
		s.add(name+", invalid dwords", x.Offset+32, 4, x.Invalid, "")
		s.add(name+", disparity errors", x.Offset+36, 4, x.Disparity, "")
		s.add(name+", losses of synchronisation", x.Offset+40, 4, x.LossSync, "")
		s.add(name+", phy reset problems", x.Offset+44, 4, x.PhyResets, "")
	}
	return err
}
