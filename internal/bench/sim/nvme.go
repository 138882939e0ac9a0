package sim

import (
	"context"
	"encoding/binary"
	"fmt"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/nvme"
)

// NVMe is what an NVMe drive has beyond a name.
type NVMe struct {
	Spaces     int // namespaces, at least 1
	SelfTest   bool
	Spare      Course // per cent lost
	Media      Course // media errors
	Unsafe     Course // unsafe shutdowns
	ReadOnly   Course // read-only while above 0
	HostErrors int    // entries of the error log that are the host's doing
	Datacenter bool
	Persistent bool
	Refuses    []uint8 // logs it refuses
	Groups     uint16  // endurance groups
	Sanitized  uint16  // state of the last sanitize
	LongNames  bool    // its namespaces have an NGUID
}

// controller is an attached NVMe drive.
type controller struct{ attached }

// Admin answers one admin command.
func (a *controller) Admin(ctx context.Context, c device.AdminCommand) (device.Completion, error) {
	if err := device.AllowAdmin(c.Command); err != nil {
		return device.Completion{}, err
	}
	hangs := a.place.spec.Awkward.HangsOn != 0 && c.Op == nvme.GetLogPage
	return enter(ctx, &a.attached, c.Name()+" to "+a.description.Node, c.Timeout, hangs, func(now time.Time) device.Completion {
		data, status := a.obey(c.Command, now)
		if a.place.spec.Awkward.Truncated {
			data = data[:len(data)/2]
		}
		return device.Completion{Status: status, Data: cut(data, c.DataIn), Took: a.took(now)}
	})
}

// obey is the controller's firmware.
func (a *controller) obey(c nvme.Command, now time.Time) ([]byte, nvme.Status) {
	s, p, n := a.place.spec, a.place, a.place.spec.NVMe
	h := s.hoursAt(now, p.Bayed)
	a.bench.advance(p, now)
	switch c.Op {
	case nvme.IdentifyOp:
		return a.identify(c)
	case nvme.DeviceSelfTest:
		if !n.SelfTest {
			return nil, nvme.InvalidOpcode
		}
		kind := map[uint32]uint8{
			uint32(nvme.TestShort): ata.TestShort, uint32(nvme.TestExtended): ata.TestExtended, uint32(nvme.TestAbort): ata.TestAbort,
		}[c.CDW10]
		if p.Running != nil && kind != ata.TestAbort {
			return nil, nvme.SelfTestGoesOn
		}
		a.bench.startTest(p, kind, now)
		return nil, nvme.Success
	case nvme.SecurityRecv:
		if s.Lock == nil {
			return nil, nvme.InvalidOpcode
		}
		return s.Lock.Encode(), nvme.Success
	case nvme.GetLogPage:
	}
	for _, refused := range n.Refuses {
		if refused == c.LogID() {
			return nil, nvme.InvalidLog
		}
	}
	switch c.LogID() {
	case nvme.LogHealth:
		health := s.health(now, h)
		return health.Encode(), nvme.Success
	case nvme.LogErrors:
		var all []nvme.LoggedError
		for i := range n.HostErrors {
			all = append(all, nvme.LoggedError{Number: uint64(n.HostErrors - i), Status: nvme.InvalidField})
		}
		return nvme.EncodeErrors(all, 16), nvme.Success
	case nvme.LogFirmware:
		return nvme.Firmware{Active: 1, Slots: [7]string{s.Identity.Firmware}}.Encode(), nvme.Success
	case nvme.LogSelfTest:
		return a.tests(now), nvme.Success
	case nvme.LogEffects:
		return nvme.EncodeEffects(nvme.GetLogPage, nvme.IdentifyOp, nvme.DeviceSelfTest), nvme.Success
	case nvme.LogPersistent:
		if n.Persistent {
			l := nvme.PersistentLog{Hours: nvme.Counter{Low: uint64(h)}, Cycles: uint64(h / 9), List: []nvme.PersistentEvent{
				{
					Kind: 4,
					At:   nvme.Timestamp{Milliseconds: uint64(s.Born.UnixMilli()), FromHost: true},
					Data: append([]byte(fmt.Sprintf("%-8.8s", s.Identity.Firmware)), make([]byte, 12)...),
				},
				{
					Kind: 1,
					At:   nvme.Timestamp{Milliseconds: uint64(s.Born.UnixMilli()) + 60_000, FromHost: true},
					Data: s.health(s.Born, s.Hours).Encode(),
				},
				{Kind: 0xD, At: nvme.Timestamp{Milliseconds: 5_400_000}, Data: []byte{4, 0x11}},
			}}
			return l.Encode(), nvme.Success
		}
	case nvme.LogSupported:
		return nvme.EncodeSupported(
			nvme.LogSupported, nvme.LogErrors, nvme.LogHealth, nvme.LogFirmware, nvme.LogEffects, nvme.LogSelfTest,
			nvme.LogSanitize,
		), nvme.Success
	case nvme.LogSanitize:
		return nvme.SanitizeStatus{State: n.Sanitized}.Encode(), nvme.Success
	case nvme.LogEndurance:
		if n.Groups > 0 {
			health := s.health(now, h)
			return nvme.Endurance{
				Spare:          health.Spare,
				SpareThreshold: health.SpareThreshold,
				Used:           health.Used,
				Written:        nvme.Counter{Low: uint64(s.Rate * h * 512 / 1e9)},
				MediaErrors:    health.MediaErrors,
			}.Encode(), nvme.Success
		}
	case nvme.LogTelemetry:
		b := makersOwn(s.Seed, nvme.TelemetryHeader*(1+makersPages))
		clear(b[:nvme.TelemetryHeader])
		b[0], b[8] = nvme.LogTelemetry, makersPages // the last block of its first area
		return b, nvme.Success
	case nvme.LogDatacenter:
		if n.Datacenter {
			written := uint64(s.Rate * h * 512)
			return nvme.Datacenter{
				Written:           nvme.Counter{Low: written * 13 / 10},
				Read:              nvme.Counter{Low: written * 3},
				FreeBlocks:        12,
				CapacitorHealth:   100,
				EraseMost:         212,
				EraseLess:         60,
				EnduranceEstimate: nvme.Counter{Low: 1 << 50},
			}.Encode(), nvme.Success
		}
		return make([]byte, nvme.DatacenterSize), nvme.Success // a log of the maker's own
	}
	return nil, nvme.InvalidLog
}

func (a *controller) identify(c nvme.Command) ([]byte, nvme.Status) {
	s, n := a.place.spec, a.place.spec.NVMe
	id := s.Identity
	switch c.CDW10 {
	case 1:
		return nvme.Controller{
			Model:           id.Model,
			Serial:          id.Serial,
			Firmware:        id.Firmware,
			IEEE:            0x00005E,
			Version:         1<<16 | 4<<8,
			SelfTest:        n.SelfTest,
			ExtendedMinutes: 25,
			Persistent:      n.Persistent,
			Effects:         true,
			ErrorEntries:    16,
			WarningK:        273 + 77,
			CriticalK:       273 + 85,
			Namespaces:      16,
			TotalCapacity:   nvme.Counter{Low: id.Sectors * uint64(id.LogicalSector)},
			Trim:            true,
			FirmwareSlots:   2,
			Security:        s.Lock != nil,
			SupportedLogs:   true,
			Telemetry:       true,
			EnduranceGroups: n.Groups,
			Sanitize:        true,
		}.Encode(), nvme.Success
	case 2:
		var all []uint32
		for i := range max(1, n.Spaces) {
			all = append(all, uint32(i+1))
		}
		return nvme.EncodeNamespaces(all), nvme.Success
	}
	if c.NSID == 0 || int(c.NSID) > max(1, n.Spaces) {
		return nil, nvme.InvalidNS
	}
	size := id.Sectors / uint64(max(1, n.Spaces))
	space := nvme.Namespace{Size: size, Capacity: size, Used: size * 6 / 10, Block: id.LogicalSector, EUI64: id.WWN + uint64(c.NSID) - 1}
	if n.LongNames {
		binary.BigEndian.PutUint64(space.NGUID[:], id.WWN)
		binary.BigEndian.PutUint64(space.NGUID[8:], uint64(c.NSID))
	}
	if c.CDW10 == 3 {
		names := []nvme.NamespaceName{nvme.EUI64(space.EUI64)}
		if n.LongNames {
			names = append(names, nvme.NGUID(space.NGUID))
		}
		return nvme.EncodeNames(names), nvme.Success
	}
	return space.Encode(), nvme.Success
}

// health is the health log at a moment.
func (s *Spec) health(now time.Time, h float64) nvme.Health {
	n := s.NVMe
	t, _, high := s.Heat.at(now, s.Seed)
	units := s.Rate * h * 512 / nvme.UnitBytes
	x := nvme.Health{
		CompositeK:      uint16(t + 273),
		Spare:           uint8(max(0, 100-n.Spare.At(h, s.seedOf("spare")))),
		SpareThreshold:  10,
		Used:            uint8(min(255, s.Used.At(h, s.seedOf("used")))),
		Read:            nvme.Counter{Low: uint64(3 * units)},
		Written:         nvme.Counter{Low: uint64(units)},
		ReadCommands:    nvme.Counter{Low: uint64(40 * units)},
		WriteCommands:   nvme.Counter{Low: uint64(18 * units)},
		Busy:            nvme.Counter{Low: uint64(h / 4)},
		PowerCycles:     nvme.Counter{Low: uint64(h / 9)},
		Hours:           nvme.Counter{Low: uint64(h)},
		UnsafeShutdowns: nvme.Counter{Low: uint64(n.Unsafe.At(h, s.seedOf("unsafe")))},
		MediaErrors:     nvme.Counter{Low: uint64(n.Media.At(h, s.seedOf("media")))},
		ErrorEntries:    nvme.Counter{Low: uint64(n.HostErrors)},
		SensorsK:        [8]uint16{uint16(t + 273), uint16(t + 281)},
	}
	if x.Spare < x.SpareThreshold {
		x.Warning |= nvme.WarnSpare
	}
	if n.ReadOnly.At(h, s.seedOf("readonly")) > 0 {
		x.Warning |= nvme.WarnReadOnly | nvme.WarnReliability
	}
	if t >= 77 {
		x.Warning |= nvme.WarnTemperature
	}
	if high >= 77 {
		x.WarningMinutes = uint32(h / 50)
	}
	return x
}

// tests is log 06h, made of the same memory as an ATA drive's.
func (a *controller) tests(now time.Time) []byte {
	var l nvme.SelfTestLog
	if r := a.place.Running; r != nil {
		l.Running = r.Kind
		l.Percent = uint8(min(99, 100*now.Sub(r.Started)/r.Length))
	}
	for _, t := range a.place.Log {
		x := nvme.SelfTest{
			Code:  t.Number,
			Hours: uint64(t.Hours),
			Result: map[ata.TestStatus]nvme.TestResult{
				ata.TestAborted: nvme.TestStopped, ata.TestInterrupted: nvme.TestReset, ata.TestRead: nvme.TestFailedSegment,
			}[t.Status],
			LBA:    t.LBA,
			HasLBA: t.HasLBA,
		}
		l.Tests = append(l.Tests, x)
	}
	return l.Encode()
}
