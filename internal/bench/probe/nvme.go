package probe

import (
	"context"
	"fmt"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/tcg"
)

// Admin sends an NVMe admin command; the fault says why it brought nothing.
func (s *Session) Admin(ctx context.Context, c nvme.Command) ([]byte, *drive.Fault) {
	timeout := commandTimeout
	if c.Op == nvme.IdentifyOp {
		timeout = identifyTimeout
	}
	r, err := s.admin.Admin(ctx, device.AdminCommand{Command: c, Timeout: timeout})
	if err != nil {
		return nil, device.FaultOf(c.Name(), err)
	}
	if r.Status == nvme.Success {
		return r.Data, nil
	}
	fault := &drive.Fault{Class: drive.FaultNoAnswer, What: c.Name(), Cause: r.Status.String()}
	switch {
	case r.Status.Refused():
		fault.Class, fault.Cause = drive.FaultRefused, "the drive does not do this: "+r.Status.String()
	case r.Status.Code() == nvme.MediaError:
		fault.Class = drive.FaultMedium
	case r.Status.Code() == nvme.AccessDenied:
		fault.Class = drive.FaultLocked
	case r.Status.NotReady():
		fault.Class, fault.Extra = drive.FaultNotReady, "Wait until that has ended, then read it again."
	case r.Status.Code() == nvme.SanitizeFailed:
		fault.Class = drive.FaultDevice
	}
	return nil, fault
}

// Most that is taken of what can be long.
const (
	mostNamespaces = 16
	mostErrors     = 32
	mostGroups     = 4
	mostPersistent = 16 << 10 // bytes
	mostTelemetry  = 64 << 10
	namesSince     = 1<<16 | 3<<8 // NVMe 1.3 has the list of a namespace's names
)

// nvmePages reads a controller and its namespaces.
func (s *Session) nvmePages(ctx context.Context, how Manner) []reading.Page {
	var pages []reading.Page
	done := 0
	ask := func(name reading.PageName, c nvme.Command, wanted bool, otherwise string) reading.Page {
		s.tell(name, done, max(10, done+1))
		done++
		p := reading.Page{Name: name, How: c.Name() + " in NVMe admin pass-through"}
		switch f := over(pages); {
		case f != nil:
			p.How, p.Fault = "", notAsked(c.Name(), f)
		case !wanted:
			p.How, p.Fault = "", &drive.Fault{Class: drive.FaultRefused, What: c.Name(), Cause: otherwise}
		default:
			if p.Bytes, p.Fault = s.Admin(ctx, c); p.Fault != nil {
				p.How, p.Bytes = "", nil
			}
		}
		pages = append(pages, p)
		return p
	}
	// offered asks for what the drive may do without: a refusal is no fault.
	offered := func(name reading.PageName, c nvme.Command) {
		if p := ask(name, c, true, ""); p.Fault != nil && p.Fault.Class == drive.FaultRefused {
			pages = pages[:len(pages)-1]
		}
	}
	identity := ask(reading.PageController, nvme.IdentifyController(), true, "")
	if identity.Fault != nil {
		return pages
	}
	id, _ := nvme.DecodeController(identity.Bytes)
	list := ask(reading.PageNamespaces, nvme.ListNamespaces(), true, "")
	spaces, _ := nvme.DecodeNamespaces(list.Bytes)
	if list.Fault != nil { // an old controller: ask for the first namespace anyway
		spaces = []uint32{1}
	}
	for _, n := range spaces[:min(len(spaces), mostNamespaces)] {
		ask(reading.PageNamespace(n), nvme.IdentifyNamespace(n), true, "")
		if id.Version >= namesSince {
			offered(reading.PageNames(n), nvme.NameNamespace(n))
		}
	}
	ask(reading.PageHealth, nvme.ReadLog(nvme.LogHealth, nvme.HealthSize), true, "")
	ask(reading.PageNVMeErrors, nvme.ReadLog(nvme.LogErrors, nvme.ErrorSize*max(1, min(id.ErrorEntries, mostErrors))), true, "")
	ask(reading.PageFirmware, nvme.ReadLog(nvme.LogFirmware, nvme.FirmwareSize), true, "")
	ask(reading.PageNVMeTests, nvme.ReadLog(nvme.LogSelfTest, nvme.SelfTestSize), id.SelfTest, "the drive has no self-tests")
	ask(reading.PageEffects, nvme.ReadLog(nvme.LogEffects, nvme.EffectsSize), id.Effects, "the drive keeps no such log")
	if id.SupportedLogs {
		offered(reading.PageSupported, nvme.ReadLog(nvme.LogSupported, nvme.SupportedSize))
	}
	for group := range min(id.EnduranceGroups, mostGroups) {
		offered(reading.PageEndurance(group+1), nvme.ReadEndurance(group+1))
	}
	if id.Sanitize {
		offered(reading.PageSanitize, nvme.ReadLog(nvme.LogSanitize, nvme.SanitizeSize))
	}
	if id.Security {
		offered(reading.PageNVMeLock, nvme.ReadSecurity(tcg.Protocol, tcg.Specific, tcg.Size))
	}
	if how.Attachments && id.Telemetry {
		header, fault := s.Admin(ctx, nvme.ReadLog(nvme.LogTelemetry, nvme.TelemetryHeader))
		if size := min(nvme.TelemetryLength(header), mostTelemetry); fault == nil && size > 0 {
			offered(reading.PageTelemetry, nvme.ReadLog(nvme.LogTelemetry, size))
		}
	}
	s.persistent(ctx, id, &pages)
	// Nothing announces the datacenter extension but its own GUID; a log of another meaning is not kept.
	dc := ask(reading.PageDatacenter, nvme.ReadLog(nvme.LogDatacenter, nvme.DatacenterSize), true, "")
	if dc.Fault == nil {
		if _, err := nvme.DecodeDatacenter(dc.Bytes); err != nil {
			pages[len(pages)-1] = reading.Page{
				Name: reading.PageDatacenter,
				Fault: &drive.Fault{
					Class: drive.FaultRefused,
					What:  "Get Log Page C0h",
					Cause: "the log is the maker's own, not the datacenter extension",
				},
			}
		}
	}
	return pages
}

// persistent reads the persistent event log: its content is fixed, read as far as is worth it, and let go again.
func (s *Session) persistent(ctx context.Context, id nvme.Controller, pages *[]reading.Page) {
	p := reading.Page{Name: reading.PagePersistent}
	name := nvme.PersistentHeader().Name()
	switch f := over(*pages); {
	case f != nil:
		p.Fault = notAsked(name, f)
	case !id.Persistent:
		p.Fault = &drive.Fault{Class: drive.FaultRefused, What: name, Cause: "the drive keeps no persistent events"}
	default:
		var header []byte
		if header, p.Fault = s.Admin(ctx, nvme.PersistentHeader()); p.Fault == nil {
			l, err := nvme.DecodePersistent(header)
			p.Bytes = header
			if size := int(min(l.Length, mostPersistent)) &^ 3; err == nil && size > len(header) {
				p.Bytes, p.Fault = s.Admin(ctx, nvme.PersistentEvents(size))
			}
			p.How = name + " in NVMe admin pass-through"
			_, _ = s.Admin(ctx, nvme.PersistentDone()) // the context ends with the next reset in any case
		}
	}
	if p.Fault != nil {
		p.Bytes, p.How = nil, ""
	}
	*pages = append(*pages, p)
}

// nvmeTest starts or aborts a self-test.
func (s *Session) nvmeTest(ctx context.Context, code uint8) *drive.Fault {
	_, fault := s.Admin(ctx, nvme.StartSelfTest(code))
	return fault
}

// nvmeLook asks how a self-test stands.
func (s *Session) nvmeLook(ctx context.Context) (Look, *drive.Fault) {
	b, fault := s.Admin(ctx, nvme.ReadLog(nvme.LogSelfTest, nvme.SelfTestSize))
	if fault != nil {
		return Look{}, fault
	}
	l, err := nvme.DecodeSelfTests(b)
	if err != nil {
		return Look{}, &drive.Fault{Class: drive.FaultBadAnswer, What: "following the self-test", Cause: err.Error()}
	}
	return Look{
		Running: l.Running != 0,
		Left:    100 - min(100, l.Percent),
		Page:    reading.PageNVMeTests,
		Log:     b,
		Words:   fmt.Sprintf("%d %% done", l.Percent),
	}, nil
}
