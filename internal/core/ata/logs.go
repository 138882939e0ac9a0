package ata

import "fmt"

// SelfTestSlots is the number of results log 06h keeps.
const SelfTestSlots = 21

// SelfTest is one result of the self-test log.
type SelfTest struct {
	Number    uint8 // what was started: a subcommand such as TestShort
	Status    TestStatus
	Remaining uint8  // per cent not done when it ended or, while running, now
	Hours     uint16 // power-on hours when it ended; wraps after 65 535
	LBA       uint64 // first failing LBA; meaningful only when HasLBA
	HasLBA    bool
	Offset    int
}

// KindName names the test that was started (ACS-4 table 124).
func (t SelfTest) KindName() string {
	switch t.Number &^ 0x80 {
	case TestShort:
		return "short"
	case TestExtended:
		return "extended"
	case TestConveyance:
		return "conveyance"
	case TestSelective:
		return "selective"
	case 0:
		return "offline"
	}
	return fmt.Sprintf("vendor %02Xh", t.Number)
}

// SelfTestLog is log 06h or 07h, newest result first.
type SelfTestLog struct {
	Revision uint16
	Tests    []SelfTest
	Beyond   int // results newer than all of Tests, in pages that were not transferred
}

// DecodeSelfTestLog reads SMART log 06h (ACS-4 A.15). A slot of zeros is unused, not a passed test.
func DecodeSelfTestLog(b []byte) (SelfTestLog, error) {
	const name = "self-test log"
	if err := checkLength(name, b); err != nil {
		return SelfTestLog{}, err
	}
	l := SelfTestLog{Revision: le.Uint16(b)}
	err := checkSum(name, b)
	slot := func(n int) (entry []byte, at int) { return b[2+24*n : 26+24*n], 2 + 24*n }
	for _, n := range rotation(int(b[508]), SelfTestSlots, func(n int) int {
		if entry, _ := slot(n); !allZero(entry) {
			return int(le.Uint16(entry[2:]))
		}
		return -1
	}) {
		entry, at := slot(n)
		if allZero(entry) {
			continue
		}
		t := decodeSelfTest(entry, at)
		if lba := le.Uint32(entry[5:]); t.Status == TestRead && lba != 0xFFFFFFFF {
			t.LBA, t.HasLBA = uint64(lba), true
		}
		l.Tests = append(l.Tests, t)
	}
	return l, err
}

// decodeSelfTest reads what an entry has in both logs: all but the address.
func decodeSelfTest(entry []byte, at int) SelfTest {
	return SelfTest{
		Number:    entry[0],
		Status:    TestStatus(entry[1] >> 4),
		Remaining: min(entry[1]&0xF, 10) * 10,
		Hours:     le.Uint16(entry[2:]),
		Offset:    at,
	}
}

// Encode writes the page; Tests are newest first and only SelfTestSlots of them fit.
func (l SelfTestLog) Encode() []byte {
	b := make([]byte, PageSize)
	le.PutUint16(b, max(l.Revision, 1))
	count := min(len(l.Tests), SelfTestSlots)
	for i, t := range l.Tests[:count] {
		entry := b[2+24*(count-1-i):]
		entry[0], entry[1] = t.Number, uint8(t.Status)<<4|t.Remaining/10
		le.PutUint16(entry[2:], t.Hours)
		le.PutUint32(entry[5:], 0xFFFFFFFF)
		if t.HasLBA {
			le.PutUint32(entry[5:], uint32(min(t.LBA, 0xFFFFFFFE)))
		}
	}
	b[508] = uint8(count)
	setSum(b)
	return b
}

func allZero(b []byte) bool {
	for _, x := range b {
		if x != 0 {
			return false
		}
	}
	return true
}

// ErrorSlots is the number of errors the summary log keeps.
const ErrorSlots = 5

// LoggedError is one error a drive remembers.
type LoggedError struct {
	Command Opcode // the command that failed
	Error   uint8  // error register: ErrorUNC, ErrorICRC ...
	Status  uint8
	LBA     uint64
	Count   uint16
	State   uint8            // what the drive was doing, ACS-4 table A.10
	Hours   uint16           // power-on hours, life timestamp
	Before  []EarlierCommand // oldest first; the failed one is the last
	Offset  int
}

// DeviceFault reports whether the drive ended the command because it is itself at fault (ACS-4 6.2.5).
func (e LoggedError) DeviceFault() bool { return e.Status&StatusDF != 0 }

// Meaning says in words how the command ended, the most telling bit first.
func (e LoggedError) Meaning() string {
	if e.DeviceFault() {
		return "device fault"
	}
	for _, m := range []struct {
		bit  uint8
		text string
	}{
		{ErrorUNC, "uncorrectable data"},
		{ErrorICRC, "transfer damaged on the link"},
		{ErrorIDNF, "address not found"},
		{ErrorABRT, "command aborted"},
	} {
		if e.Error&m.bit != 0 {
			return m.text
		}
	}
	return fmt.Sprintf("error register %02Xh", e.Error)
}

// ErrorLog is the summary error log, newest first.
type ErrorLog struct {
	Version uint8
	Total   uint16 // all errors the drive has ever counted
	Errors  []LoggedError
	Beyond  int // errors newer than all of Errors, in pages that were not transferred
}

// DecodeErrorLog reads SMART log 01h (ACS-4 A.16).
func DecodeErrorLog(b []byte) (ErrorLog, error) {
	const name = "summary error log"
	if err := checkLength(name, b); err != nil {
		return ErrorLog{}, err
	}
	l := ErrorLog{Version: b[0], Total: le.Uint16(b[452:])}
	err := checkSum(name, b)
	slot := func(n int) (entry []byte, at int) { return b[2+entrySize*n : 2+entrySize*(n+1)], 2 + entrySize*n }
	for _, n := range rotation(int(b[1]), ErrorSlots, func(n int) int {
		if entry, _ := slot(n); !allZero(entry) {
			return int(le.Uint16(entry[errorPages.stamp:]))
		}
		return -1
	}) {
		if entry, at := slot(n); !allZero(entry) {
			l.Errors = append(l.Errors, decodeEntry(entry, at))
		}
	}
	return l, err
}

// Encode writes the page; Errors are newest first.
func (l ErrorLog) Encode() []byte {
	b := make([]byte, PageSize)
	b[0] = max(l.Version, 1)
	count := min(len(l.Errors), ErrorSlots)
	for i, e := range l.Errors[:count] {
		entry := b[2+entrySize*(count-1-i):]
		commands := before(e)
		for n, c := range commands {
			d := entry[commandSize*(5-len(commands)+n):]
			d[1], d[2], d[6], d[7] = uint8(c.Feature), uint8(c.Count), uint8(c.LBA>>24)&0xF|0xE0, uint8(c.Op)
			d[3], d[4], d[5] = uint8(c.LBA), uint8(c.LBA>>8), uint8(c.LBA>>16)
			le.PutUint32(d[8:], c.At)
		}
		d := entry[5*commandSize:]
		d[1], d[2], d[7], d[27] = e.Error, uint8(e.Count), e.Status, e.State
		d[3], d[4], d[5], d[6] = uint8(e.LBA), uint8(e.LBA>>8), uint8(e.LBA>>16), uint8(e.LBA>>24)&0xF|0xE0
		le.PutUint16(d[28:], e.Hours)
	}
	b[1] = uint8(count)
	le.PutUint16(b[452:], l.Total)
	setSum(b)
	return b
}
