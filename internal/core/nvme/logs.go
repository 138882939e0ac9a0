package nvme

import (
	"fmt"
	"slices"
)

// Lengths of the log pages, in bytes.
const (
	HealthSize     = 512
	ErrorSize      = 64 // of one entry
	FirmwareSize   = 512
	SelfTestSize   = 564
	EffectsSize    = 4096
	DatacenterSize = 512
	EnduranceSize  = 512
	SanitizeSize   = 512
	SupportedSize  = 1024
)

// Health is log 02h (Base 2.1, 5.1.12.1.3).
type Health struct {
	Warning          uint8  // bits in WarningWords
	GroupWarning     uint8  // bits of WarningWords that some endurance group raises (byte 6)
	CompositeK       uint16 // kelvin, 0 not reported
	Spare            uint8  // per cent left
	SpareThreshold   uint8
	Used             uint8   // per cent of the rated life, may pass 100; 255 is 255 or more
	Read, Written    Counter // units of 512,000 bytes
	ReadCommands     Counter
	WriteCommands    Counter
	Busy             Counter // minutes
	PowerCycles      Counter
	Hours            Counter
	UnsafeShutdowns  Counter
	MediaErrors      Counter
	ErrorEntries     Counter
	WarningMinutes   uint32
	CriticalMinutes  uint32
	SensorsK         [8]uint16 // 0 not there
	Throttled        [2]uint32 // how often the controller slowed itself for heat, lightly and heavily
	ThrottledSeconds [2]uint32
}

// UnitBytes is the unit in which Read and Written are counted.
const UnitBytes = 512_000

// Bits of the critical warning.
const (
	WarnSpare       uint8 = 1 << 0
	WarnTemperature uint8 = 1 << 1
	WarnReliability uint8 = 1 << 2
	WarnReadOnly    uint8 = 1 << 3
	WarnBackup      uint8 = 1 << 4
	WarnMemory      uint8 = 1 << 5
)

// WarningWords says in words which critical warnings are raised.
func WarningWords(w uint8) []string {
	var all []string
	for bit, words := range []string{
		"spare has fallen below its threshold", "a temperature is beyond its threshold", "reliability is degraded by media or " +
			"internal errors",
		"the media is read-only", "the backup of volatile memory failed", "persistent memory has become unreliable or read-only",
	} {
		if w&(1<<bit) != 0 {
			all = append(all, words)
		}
	}
	if w&0xC0 != 0 {
		all = append(all, fmt.Sprintf("reserved bits %02Xh", w&0xC0))
	}
	return all
}

// DecodeHealth reads log 02h.
func DecodeHealth(b []byte) (Health, error) {
	if err := checkLength("health log", b, HealthSize); err != nil {
		return Health{}, err
	}
	h := Health{
		Warning:         b[0],
		CompositeK:      le.Uint16(b[1:]),
		Spare:           b[3],
		SpareThreshold:  b[4],
		Used:            b[5],
		GroupWarning:    b[6],
		WarningMinutes:  le.Uint32(b[192:]),
		CriticalMinutes: le.Uint32(b[196:]),
	}
	for i, p := range h.counters() {
		*p = counter(b[32+16*i:])
	}
	for i := range h.SensorsK {
		h.SensorsK[i] = le.Uint16(b[200+2*i:])
	}
	for i := range 2 {
		h.Throttled[i], h.ThrottledSeconds[i] = le.Uint32(b[216+4*i:]), le.Uint32(b[224+4*i:])
	}
	return h, nil
}

// counters are the 128-bit ones, in the order of the page from byte 32.
func (h *Health) counters() []*Counter {
	return []*Counter{
		&h.Read,
		&h.Written,
		&h.ReadCommands,
		&h.WriteCommands,
		&h.Busy,
		&h.PowerCycles,
		&h.Hours,
		&h.UnsafeShutdowns,
		&h.MediaErrors,
		&h.ErrorEntries,
	}
}

// Encode writes the page.
func (h Health) Encode() []byte {
	b := make([]byte, HealthSize)
	b[0], b[3], b[4], b[5], b[6] = h.Warning, h.Spare, h.SpareThreshold, h.Used, h.GroupWarning
	le.PutUint16(b[1:], h.CompositeK)
	for i, p := range h.counters() {
		p.put(b[32+16*i:])
	}
	le.PutUint32(b[192:], h.WarningMinutes)
	le.PutUint32(b[196:], h.CriticalMinutes)
	for i, k := range h.SensorsK {
		le.PutUint16(b[200+2*i:], k)
	}
	for i := range 2 {
		le.PutUint32(b[216+4*i:], h.Throttled[i])
		le.PutUint32(b[224+4*i:], h.ThrottledSeconds[i])
	}
	return b
}

// LoggedError is one entry of log 01h (Base 2.1, 5.1.12.1.2).
type LoggedError struct {
	Number    uint64 // counts all errors of the controller's life
	Queue     uint16
	Status    Status
	LBA       uint64
	Namespace uint32
	Offset    int
}

// DecodeErrors reads log 01h as far as it was transferred, newest first; entries numbered 0 are unused.
func DecodeErrors(b []byte) ([]LoggedError, error) {
	if err := checkLength("error log", b, ErrorSize); err != nil {
		return nil, err
	}
	var all []LoggedError
	for at := 0; at+ErrorSize <= len(b); at += ErrorSize {
		if n := le.Uint64(b[at:]); n != 0 {
			all = append(
				all,
				LoggedError{n, le.Uint16(b[at+8:]), Status(le.Uint16(b[at+12:]) >> 1), le.Uint64(b[at+16:]), le.Uint32(b[at+24:]), at},
			)
		}
	}
	slices.SortStableFunc(all, func(a, b LoggedError) int {
		if a.Number > b.Number {
			return -1
		}
		return 1
	})
	return all, nil
}

// EncodeErrors writes entries into a log of slots entries.
func EncodeErrors(all []LoggedError, slots int) []byte {
	b := make([]byte, ErrorSize*max(1, slots))
	for i, e := range all[:min(len(all), max(1, slots))] {
		at := ErrorSize * i
		le.PutUint64(b[at:], e.Number)
		le.PutUint16(b[at+8:], e.Queue)
		le.PutUint16(b[at+12:], uint16(e.Status)<<1)
		le.PutUint64(b[at+16:], e.LBA)
		le.PutUint32(b[at+24:], e.Namespace)
	}
	return b
}

// TestResult is how a self-test ended (Base 2.1 figure 212).
type TestResult uint8

// The results.
const (
	TestPassed          TestResult = 0x0
	TestStopped         TestResult = 0x1 // by a command
	TestReset           TestResult = 0x2
	TestNamespaceGone   TestResult = 0x3
	TestFormatted       TestResult = 0x4
	TestFatal           TestResult = 0x5
	TestFailedUnknown   TestResult = 0x6
	TestFailedSegment   TestResult = 0x7
	TestEndedUnknown    TestResult = 0x8
	TestSanitized       TestResult = 0x9
	testUnused          TestResult = 0xF
	validNS, validLBA              = 1 << 0, 1 << 1
	validType, validSts            = 1 << 2, 1 << 3
)

func (r TestResult) String() string {
	names := map[TestResult]string{
		TestPassed:        "passed",
		TestStopped:       "aborted by the host",
		TestReset:         "interrupted by a reset",
		TestNamespaceGone: "ended: a namespace was removed",
		TestFormatted:     "ended by a format",
		TestFatal:         "could not finish",
		TestFailedUnknown: "failed, part not named",
		TestFailedSegment: "failed in a segment",
		TestEndedUnknown:  "ended for an unknown reason",
		TestSanitized:     "ended by a sanitize",
	}
	if name, ok := names[r]; ok {
		return name
	}
	return fmt.Sprintf("reserved result %Xh", uint8(r))
}

// Failed reports whether the result says the drive is at fault.
func (r TestResult) Failed() bool { return r >= TestFatal && r <= TestFailedSegment }

// SelfTest is one result of log 06h.
type SelfTest struct {
	Code     uint8 // TestShort, TestExtended, Eh the maker's own
	Result   TestResult
	Segment  uint8 // that failed, 0 unknown
	Hours    uint64
	NSID     uint32
	LBA      uint64
	HasLBA   bool
	Status   Status
	HasState bool
	Offset   int
}

// KindName names the test.
func (t SelfTest) KindName() string { return kindName(t.Code) }

func kindName(code uint8) string {
	switch code {
	case TestShort:
		return "short"
	case TestExtended:
		return "extended"
	case 0xE:
		return "the maker's own"
	}
	return fmt.Sprintf("kind %Xh", code)
}

// SelfTestLog is log 06h (Base 2.1, 5.1.12.1.7), newest result first.
type SelfTestLog struct {
	Running uint8 // code of the test that goes on, 0 none
	Percent uint8 // done
	Tests   []SelfTest
}

// SelfTestSlots is the number of results log 06h keeps.
const SelfTestSlots = 20

// DecodeSelfTests reads log 06h.
func DecodeSelfTests(b []byte) (SelfTestLog, error) {
	const name = "self-test log"
	if err := checkLength(name, b, SelfTestSize); err != nil {
		return SelfTestLog{}, err
	}
	l := SelfTestLog{Running: b[0] & 0xF}
	if l.Running != 0 { // while none runs the byte means nothing
		if l.Percent = b[1] & 0x7F; l.Percent > 100 {
			return l, &FormatError{name, 1, fmt.Sprintf("%d %% done is not possible", l.Percent)}
		}
	}
	for i := range SelfTestSlots {
		at := 4 + 28*i
		e := b[at : at+28]
		t := SelfTest{Code: e[0] >> 4, Result: TestResult(e[0] & 0xF), Segment: e[1], Hours: le.Uint64(e[4:]), Offset: at}
		if t.Result == testUnused || t.Code == 0 { // a slot of zeros is unused, not a passed test
			continue
		}
		if e[2]&validNS != 0 {
			t.NSID = le.Uint32(e[12:])
		}
		if e[2]&validLBA != 0 && t.Result.Failed() {
			t.LBA, t.HasLBA = le.Uint64(e[16:]), true
		}
		if e[2]&validType != 0 && e[2]&validSts != 0 {
			t.Status, t.HasState = Status(uint16(e[24]&7)<<8|uint16(e[25])), true
		}
		l.Tests = append(l.Tests, t)
	}
	return l, nil
}

// Encode writes the page.
func (l SelfTestLog) Encode() []byte {
	b := make([]byte, SelfTestSize)
	b[0], b[1] = l.Running, l.Percent
	for i := range SelfTestSlots {
		b[4+28*i] = uint8(testUnused)
	}
	for i, t := range l.Tests[:min(len(l.Tests), SelfTestSlots)] {
		e := b[4+28*i:]
		e[0], e[1] = t.Code<<4|uint8(t.Result), t.Segment
		le.PutUint64(e[4:], t.Hours)
		if t.NSID != 0 {
			e[2] |= validNS
			le.PutUint32(e[12:], t.NSID)
		}
		if t.HasLBA {
			e[2] |= validLBA
			le.PutUint64(e[16:], t.LBA)
		}
		if t.HasState {
			e[2] |= validType | validSts
			e[24], e[25] = uint8(t.Status>>8)&7, uint8(t.Status)
		}
	}
	return b
}

// Firmware is log 03h (Base 2.1, 5.1.12.1.4).
type Firmware struct {
	Active, Next uint8 // slots, from 1; Next 0: no change waits
	Slots        [7]string
}

// DecodeFirmware reads log 03h.
func DecodeFirmware(b []byte) (Firmware, error) {
	if err := checkLength("firmware slots", b, FirmwareSize); err != nil {
		return Firmware{}, err
	}
	f := Firmware{Active: b[0] & 7, Next: b[0] >> 4 & 7}
	for i := range f.Slots {
		f.Slots[i] = text(b[8+8*i : 16+8*i])
	}
	return f, nil
}

// Encode writes the page.
func (f Firmware) Encode() []byte {
	b := make([]byte, FirmwareSize)
	b[0] = f.Active | f.Next<<4
	for i, s := range f.Slots {
		if s != "" {
			putText(b[8+8*i:16+8*i], s)
		}
	}
	return b
}

// DecodeEffects reads log 05h and tells which admin commands the controller supports (Base 2.1, 5.1.12.1.6).
func DecodeEffects(b []byte) (supported []Opcode, err error) {
	if err := checkLength("commands supported and effects", b, EffectsSize); err != nil {
		return nil, err
	}
	for op := range 256 {
		if b[4*op]&1 != 0 {
			supported = append(supported, Opcode(op))
		}
	}
	return supported, nil
}

// EncodeEffects writes log 05h.
func EncodeEffects(supported ...Opcode) []byte {
	b := make([]byte, EffectsSize)
	for _, op := range supported {
		b[4*int(op)] = 1
	}
	return b
}

// datacenterGUID stands in bytes 496 to 511 of log C0h when it is the datacenter extension and nothing else.
var datacenterGUID = [16]byte{0xC5, 0xAF, 0x10, 0x28, 0xEA, 0xBF, 0xF2, 0xA4, 0x9C, 0x4F, 0x6F, 0x7C, 0xC9, 0x14, 0xD5, 0xAF}

// Datacenter is the health extension of log C0h. Blocks and percentages are as the specification defines them.
type Datacenter struct {
	Written, Read        Counter // bytes to and from the medium
	BadUser, BadSystem   uint64  // blocks, 48 bits
	BadUserNormal        uint16
	ReadRetries          uint64 // recovered with more than one read
	Uncorrectable        uint64
	SoftErrors           uint64
	EndToEndDetected     uint32
	EndToEndCorrected    uint32
	SystemUsed           uint8 // per cent
	RefreshCount         uint64
	EraseMost, EraseLess uint32
	ThrottleEvents       uint8
	Throttling           uint8 // now: 0 not
	PCIeErrors           uint64
	IncompleteShutdowns  uint32
	FreeBlocks           uint8 // per cent
	CapacitorHealth      uint16
	Unaligned            uint64
	SecurityVersion      uint64
	NamespaceUse         uint64
	PowerLossStart       Counter
	EnduranceEstimate    Counter // bytes
}

// DecodeDatacenter reads log C0h; an error when its GUID is another's.
func DecodeDatacenter(b []byte) (Datacenter, error) {
	const name = "datacenter health extension"
	if err := checkLength(name, b, DatacenterSize); err != nil {
		return Datacenter{}, err
	}
	if [16]byte(b[496:512]) != datacenterGUID {
		return Datacenter{}, &FormatError{name, 496, "the page belongs to another specification"}
	}
	return Datacenter{
		Written:             counter(b),
		Read:                counter(b[16:]),
		BadUser:             le.Uint64(b[32:]) & (1<<48 - 1),
		BadUserNormal:       le.Uint16(b[38:]),
		BadSystem:           le.Uint64(b[40:]) & (1<<48 - 1),
		ReadRetries:         le.Uint64(b[48:]),
		Uncorrectable:       le.Uint64(b[56:]),
		SoftErrors:          le.Uint64(b[64:]),
		EndToEndDetected:    le.Uint32(b[72:]),
		EndToEndCorrected:   le.Uint32(b[76:]),
		SystemUsed:          b[80],
		RefreshCount:        le.Uint64(b[81:]) & (1<<56 - 1),
		EraseMost:           le.Uint32(b[88:]),
		EraseLess:           le.Uint32(b[92:]),
		ThrottleEvents:      b[96],
		Throttling:          b[97],
		PCIeErrors:          le.Uint64(b[104:]),
		IncompleteShutdowns: le.Uint32(b[112:]),
		FreeBlocks:          b[120],
		CapacitorHealth:     le.Uint16(b[128:]),
		Unaligned:           le.Uint64(b[136:]),
		SecurityVersion:     le.Uint64(b[144:]),
		NamespaceUse:        le.Uint64(b[152:]),
		PowerLossStart:      counter(b[160:]),
		EnduranceEstimate:   counter(b[176:]),
	}, nil
}

// Encode writes the page.
func (d Datacenter) Encode() []byte {
	b := make([]byte, DatacenterSize)
	d.Written.put(b)
	d.Read.put(b[16:])
	le.PutUint64(b[32:], d.BadUser&(1<<48-1)|uint64(d.BadUserNormal)<<48)
	le.PutUint64(b[40:], d.BadSystem&(1<<48-1))
	le.PutUint64(b[48:], d.ReadRetries)
	le.PutUint64(b[56:], d.Uncorrectable)
	le.PutUint64(b[64:], d.SoftErrors)
	le.PutUint32(b[72:], d.EndToEndDetected)
	le.PutUint32(b[76:], d.EndToEndCorrected)
	le.PutUint64(b[81:], d.RefreshCount&(1<<56-1))
	b[80] = d.SystemUsed
	le.PutUint32(b[88:], d.EraseMost)
	le.PutUint32(b[92:], d.EraseLess)
	b[96], b[97] = d.ThrottleEvents, d.Throttling
	le.PutUint64(b[104:], d.PCIeErrors)
	le.PutUint32(b[112:], d.IncompleteShutdowns)
	b[120] = d.FreeBlocks
	le.PutUint16(b[128:], d.CapacitorHealth)
	le.PutUint64(b[136:], d.Unaligned)
	le.PutUint64(b[144:], d.SecurityVersion)
	le.PutUint64(b[152:], d.NamespaceUse)
	d.PowerLossStart.put(b[160:])
	d.EnduranceEstimate.put(b[176:])
	copy(b[496:], datacenterGUID[:])
	return b
}
