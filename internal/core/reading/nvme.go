package reading

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
)

func (r *Reading) nvmePage(p Page) error {
	b := p.Bytes
	switch p.Name {
	case PageController:
		return r.controller(b)
	case PageNamespaces:
		all, err := nvme.DecodeNamespaces(b)
		r.Identity.Namespaces = len(all)
		s := r.sheet(p.Name)
		for i, id := range all {
			s.add(fmt.Sprintf("Active namespace %d", i+1), 4*i, 4, id, "")
		}
		return err
	case PageHealth:
		return r.health(b)
	case PageNVMeErrors:
		return r.nvmeErrors(b)
	case PageNVMeTests:
		return r.nvmeTests(b)
	case PageFirmware:
		return r.firmware(b)
	case PageEffects:
		all, err := nvme.DecodeEffects(b)
		s := r.sheet(p.Name)
		for _, c := range []struct {
			op   nvme.Opcode
			name string
		}{
			{nvme.GetLogPage, "Get Log Page"},
			{nvme.IdentifyOp, "Identify"},
			{nvme.DeviceSelfTest, "Device Self-test"},
			{0x80, "Format NVM"},
			{0x84, "Sanitize"},
		} {
			s.yes(c.name, 4*int(c.op), 4, slices.Contains(all, c.op), "supported", "not supported")
		}
		return err
	case PagePersistent:
		return r.persistent(b)
	case PageDatacenter:
		return r.datacenter(b)
	case PageNVMeLock:
		return r.lock(p)
	case PageSupported:
		all, err := nvme.DecodeSupported(b)
		s := r.sheet(p.Name)
		for _, id := range all {
			s.add(fmt.Sprintf("Log %02Xh", id), 4*int(id), 4, "supported", "")
		}
		return err
	case PageSanitize:
		return r.sanitize(b)
	default:
		switch name := string(p.Name); {
		case strings.HasPrefix(name, namesPrefix):
			return r.names(p)
		case strings.HasPrefix(name, endurancePrefix):
			return r.endurance(p)
		}
		if strings.HasPrefix(string(p.Name), nsPrefix) {
			return r.namespace(p)
		}
		r.unknown(p.Name)
		return nil
	}
}

func (r *Reading) controller(b []byte) error {
	c, err := nvme.DecodeController(b)
	if len(b) < nvme.IdentifySize {
		return err
	}
	r.Controller = &c
	id := &r.Identity
	id.Key = drive.Key{Model: drive.Name(c.Model), Serial: drive.Name(c.Serial)}
	id.Firmware, id.Interface, id.Medium, id.Transport = drive.Printable(c.Firmware), drive.NVMe, drive.Flash, c.VersionName()
	id.SMART = drive.Feature{Supported: true, Enabled: true}
	id.SelfTest = drive.Feature{Supported: c.SelfTest, Enabled: c.SelfTest}
	id.TRIM = drive.Feature{Supported: c.Trim, Enabled: c.Trim}
	id.Bytes = c.TotalCapacity.Low
	r.Capabilities = Capabilities{
		SelfTest:     c.SelfTest,
		ShortPoll:    2 * time.Minute,
		ExtendedPoll: time.Duration(c.ExtendedMinutes) * time.Minute,
	}
	if !r.explains {
		return err
	}
	s := r.sheet(PageController)
	s.add("Model", 24, 40, id.Model, "")
	s.add("Serial", 4, 20, id.Serial, "")
	s.add("Firmware", 64, 8, id.Firmware, "")
	s.add("Company id", 73, 3, fmt.Sprintf("%06x", c.IEEE), "")
	if v := c.VersionName(); v != "" {
		s.add("Specification", 80, 4, v, "")
	} else {
		s.missing("Specification", 80, 4, "the controller does not say")
	}
	if c.TotalCapacity != (nvme.Counter{}) {
		s.add("Total capacity", 280, 16, c.TotalCapacity, "B")
	} else {
		s.missing("Total capacity", 280, 16, "the controller does not say")
	}
	for _, t := range []struct {
		name string
		at   int
		k    uint16
	}{{"Warning temperature", 266, c.WarningK}, {"Critical temperature", 268, c.CriticalK}} {
		celsius, ok := nvme.Kelvin(t.k)
		s.celsius(t.name, t.at, 2, celsius, ok)
	}
	s.yes("Self-tests", 256, 2, c.SelfTest, "supported", "not supported")
	if c.SelfTest {
		s.add("Extended self-test takes", 316, 2, c.ExtendedMinutes, "min")
	}
	s.yes("Deallocate (TRIM)", 520, 2, c.Trim, "supported", "not supported")
	s.yes("Persistent event log", 261, 1, c.Persistent, "supported", "not supported")
	return err
}

func (r *Reading) namespace(p Page) error {
	n, err := nvme.DecodeNamespace(p.Bytes)
	if err != nil {
		return err
	}
	id := &r.Identity
	if id.LogicalSector == 0 {
		id.LogicalSector, id.PhysicalSector, id.WWN = n.Block, n.Block, drive.WWNOf(n.Name())
		if n.Metadata > 0 {
			id.Protection = fmt.Sprintf("%d bytes of metadata beside each block", n.Metadata)
		}
	}
	if r.Controller == nil || r.Controller.TotalCapacity == (nvme.Counter{}) {
		id.Bytes += n.Size * uint64(n.Block)
	}
	s := r.sheet(p.Name)
	s.add("Size", 0, 8, n.Size, "blocks")
	s.add("Capacity", 8, 8, n.Capacity, "blocks")
	if n.NGUID != [16]byte{} {
		s.add("NGUID", 104, 16, fmt.Sprintf("%x", n.NGUID), "")
	} else {
		s.missing("NGUID", 104, 16, "the namespace has none")
	}
	if n.EUI64 != 0 {
		s.add("EUI-64", 120, 8, fmt.Sprintf("%016x", n.EUI64), "")
	} else {
		s.missing("EUI-64", 120, 8, "the namespace has none")
	}
	s.add("In use", 16, 8, n.Used, "blocks")
	s.add("Block", 26, 1, n.Block, "B")
	s.add("Metadata beside each block", 128, 2, n.Metadata, "B")
	return nil
}

func (r *Reading) health(b []byte) error {
	h, err := nvme.DecodeHealth(b)
	if err != nil {
		return err
	}
	r.Health, r.HasCounters = &h, true
	r.Alarm = ata.AlarmNotRaised
	if h.Warning|h.GroupWarning != 0 {
		r.Alarm = ata.AlarmRaised
	}
	if !r.explains {
		return nil
	}
	s := r.sheet(PageHealth)
	if words := nvme.WarningWords(h.Warning); len(words) > 0 {
		s.add("Critical warning", 0, 1, strings.Join(words, "; "), "")
	} else {
		s.add("Critical warning", 0, 1, "none", "")
	}
	if words := nvme.WarningWords(h.GroupWarning); len(words) > 0 {
		s.add("Critical warning of an endurance group", 6, 1, strings.Join(words, "; "), "")
	}
	c, ok := nvme.Kelvin(h.CompositeK)
	s.celsius("Temperature, composite", 1, 2, c, ok)
	s.add("Available spare", 3, 1, h.Spare, "%")
	s.add("Available spare threshold", 4, 1, h.SpareThreshold, "%")
	s.add("Percentage used", 5, 1, h.Used, "%")
	for i, x := range []struct {
		name, unit string
		value      nvme.Counter
	}{
		{"Data units read", "x 512 000 B", h.Read},
		{"Data units written", "x 512 000 B", h.Written},
		{"Host read commands", "", h.ReadCommands},
		{"Host write commands", "", h.WriteCommands},
		{"Controller busy time", "min", h.Busy},
		{"Power cycles", "", h.PowerCycles},
		{"Power on hours", "h", h.Hours},
		{"Unsafe shutdowns", "", h.UnsafeShutdowns},
		{"Media and data integrity errors", "", h.MediaErrors},
		{"Error information log entries", "", h.ErrorEntries},
	} {
		s.add(x.name, 32+16*i, 16, x.value, x.unit)
	}
	s.add("Time above the warning temperature", 192, 4, h.WarningMinutes, "min")
	s.add("Time above the critical temperature", 196, 4, h.CriticalMinutes, "min")
	for i, k := range h.SensorsK {
		if c, ok := nvme.Kelvin(k); ok {
			s.add(fmt.Sprintf("Temperature, sensor %d", i+1), 200+2*i, 2, c, "°C")
		}
	}
	for i, how := range []string{"lightly", "heavily"} {
		s.add("Slowed itself for heat, "+how, 216+4*i, 4, h.Throttled[i], "times")
		s.add("Slowed itself for heat, "+how+", in all", 224+4*i, 4, h.ThrottledSeconds[i], "s")
	}
	return nil
}

func (r *Reading) nvmeErrors(b []byte) error {
	all, err := nvme.DecodeErrors(b)
	r.HasErrors = err == nil
	for _, e := range all {
		if e.Number > r.ErrorTotal {
			r.ErrorTotal = e.Number
		}
		r.Errors = append(r.Errors, LoggedError{
			Command: fmt.Sprintf("error %d, queue %d", e.Number, e.Queue),
			Meaning: e.Status.String(),
			Hours:   -1,
			LBA:     e.LBA,
			HasLBA:  e.Status.Code()>>8 == 2,
			Host:    e.Status.HostCaused(),
			Page:    PageNVMeErrors,
			Offset:  e.Offset,
		})
	}
	return err
}

func (r *Reading) nvmeTests(b []byte) error {
	l, err := nvme.DecodeSelfTests(b)
	r.HasTests = err == nil
	r.TestRunning = l.Running != 0
	if r.TestRunning {
		r.TestRemaining = 100 - min(100, l.Percent)
	}
	for _, t := range l.Tests {
		r.Tests = append(r.Tests, SelfTest{
			Kind:   t.KindName(),
			Result: t.Result.String(),
			Passed: t.Result == nvme.TestPassed,
			Failed: t.Result.Failed(),
			Hours:  t.Hours,
			LBA:    t.LBA,
			HasLBA: t.HasLBA,
			Page:   PageNVMeTests,
			Offset: t.Offset,
		})
	}
	return err
}

func (r *Reading) firmware(b []byte) error {
	f, err := nvme.DecodeFirmware(b)
	if err != nil {
		return err
	}
	s := r.sheet(PageFirmware)
	s.add("Slot in use", 0, 1, f.Active, "")
	if f.Next != 0 {
		s.add("Slot after the next reset", 0, 1, f.Next, "")
	}
	for i, revision := range f.Slots {
		if revision != "" {
			s.add(fmt.Sprintf("Slot %d", i+1), 8+8*i, 8, drive.Printable(revision), "")
		}
	}
	return nil
}

// shownEvents is how many persistent events are listed as facts; the page holds them all.
const shownEvents = 40

func (r *Reading) persistent(b []byte) error {
	l, err := nvme.DecodePersistent(b)
	if len(b) < 512 {
		return err
	}
	if !r.explains {
		return err
	}
	s := r.sheet(PagePersistent)
	s.add("Events in all", 4, 4, l.Events, "")
	s.add("Power on hours", 28, 16, l.Hours, "h")
	s.add("Power cycles", 44, 8, l.Cycles, "")
	for i, e := range l.List[:min(len(l.List), shownEvents)] {
		words := e.KindName()
		if content := e.Content(); content != "" {
			words += ": " + drive.Printable(content)
		}
		s.add(fmt.Sprintf("Event %d, %s", i+1, e.At), e.Offset, 24+len(e.Data), words, "")
	}
	return err
}

func (r *Reading) datacenter(b []byte) error {
	d, err := nvme.DecodeDatacenter(b)
	if err != nil {
		return err
	}
	r.Datacenter = &d
	if !r.explains {
		return nil
	}
	s := r.sheet(PageDatacenter)
	s.add("Written to the medium", 0, 16, d.Written, "B")
	s.add("Read from the medium", 16, 16, d.Read, "B")
	s.add("Blocks lost, for data", 32, 6, d.BadUser, "")
	s.add("Blocks lost, of the system", 40, 6, d.BadSystem, "")
	s.add("Read retries", 48, 8, d.ReadRetries, "")
	s.add("Uncorrectable reads", 56, 8, d.Uncorrectable, "")
	s.add("Soft errors corrected", 64, 8, d.SoftErrors, "")
	s.add("End-to-end errors detected", 72, 4, d.EndToEndDetected, "")
	s.add("End-to-end errors corrected", 76, 4, d.EndToEndCorrected, "")
	s.add("System data, percentage used", 80, 1, d.SystemUsed, "%")
	s.add("Refreshes", 81, 7, d.RefreshCount, "")
	s.add("Erase cycles, most", 88, 4, d.EraseMost, "")
	s.add("Erase cycles, least", 92, 4, d.EraseLess, "")
	s.add("Slowed itself for heat", 96, 1, d.ThrottleEvents, "times")
	s.add("PCIe errors corrected", 104, 8, d.PCIeErrors, "")
	s.add("Incomplete shutdowns", 112, 4, d.IncompleteShutdowns, "")
	s.add("Free blocks", 120, 1, d.FreeBlocks, "%")
	s.add("Reserve power", 128, 2, d.CapacitorHealth, "%")
	s.add("Unaligned accesses", 136, 8, d.Unaligned, "")
	s.add("Endurance estimate", 176, 16, d.EnduranceEstimate, "B")
	return nil
}
