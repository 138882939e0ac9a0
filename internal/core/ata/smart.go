package ata

import (
	"errors"
	"fmt"
	"time"
)

// Slots is the number of attribute and threshold slots in a page.
const Slots = 30

// Flags of an attribute (ATA-3 8.41.3.1; the further bits are the trade's).
const (
	FlagPreFailure uint16 = 1 << 0 // at or below its threshold it announces failure; otherwise advisory
	FlagOnline     uint16 = 1 << 1 // kept up to date while the drive works
)

// Attribute is one occupied slot of the attribute table.
type Attribute struct {
	ID     uint8
	Flags  uint16
	Value  uint8   // normalised, 1 (worst) to 253; 0, 254 and 255 carry no judgement
	Worst  uint8   // the lowest Value so far
	Raw    [6]byte // little-endian, with a meaning per family
	Offset int     // of the slot in the page
}

// PreFailure reports whether the attribute condemns (pre-failure) or merely ages (advisory).
func (a Attribute) PreFailure() bool { return a.Flags&FlagPreFailure != 0 }

// Raw48 is the raw value as one 48-bit number.
func (a Attribute) Raw48() uint64 {
	return uint64(le.Uint32(a.Raw[:4])) | uint64(le.Uint16(a.Raw[4:]))<<32
}

// PutRaw48 writes v, of which only 48 bits fit.
func (a *Attribute) PutRaw48(v uint64) {
	le.PutUint32(a.Raw[:4], uint32(v))
	le.PutUint16(a.Raw[4:], uint16(v>>32))
}

// TestStatus is the upper half of a self-test status byte (ACS-4 table 137).
type TestStatus uint8

// The results of a self-test.
const (
	TestPassed      TestStatus = 0
	TestAborted     TestStatus = 1 // by a command of the host
	TestInterrupted TestStatus = 2 // by a reset of the host
	TestFatal       TestStatus = 3 // could not be completed
	TestUnknown     TestStatus = 4 // failed, the drive does not say at what
	TestElectrical  TestStatus = 5
	TestServo       TestStatus = 6
	TestRead        TestStatus = 7
	TestHandling    TestStatus = 8
	TestRunning     TestStatus = 15
)

func (s TestStatus) String() string {
	names := map[TestStatus]string{
		TestPassed: "passed", TestAborted: "aborted by the host", TestInterrupted: "interrupted by a reset",
		TestFatal: "could not finish", TestUnknown: "failed, part not named", TestElectrical: "electrical failure",
		TestServo: "servo failure", TestRead: "read failure", TestHandling: "handling damage suspected", TestRunning: "running",
	}
	if name, ok := names[s]; ok {
		return name
	}
	return fmt.Sprintf("reserved result %Xh", uint8(s))
}

// Failed reports whether the result says the drive is at fault. Aborted and interrupted tests say nothing.
func (s TestStatus) Failed() bool { return s >= TestFatal && s <= TestHandling }

// AttributePage is what SMART READ DATA tells (ACS-4 table 126 with the attribute slots of ATA-3 table 43).
type AttributePage struct {
	Revision   uint16
	Attributes []Attribute // occupied slots in page order

	OfflineStatus uint8
	Test          TestStatus // of the running or the last self-test
	TestRemaining uint8      // per cent, in tens
	OfflineTime   time.Duration

	CanTest, CanConveyance, CanSelective bool // off-line capability, byte 367
	CanLogErrors                         bool // byte 370
	ShortPoll                            time.Duration
	ExtendedPoll                         time.Duration
	ConveyancePoll                       time.Duration
}

// DecodeAttributes reads the 512 bytes of SMART READ DATA.
func DecodeAttributes(b []byte) (AttributePage, error) {
	const name = "SMART data"
	if err := checkLength(name, b); err != nil {
		return AttributePage{}, err
	}
	d := AttributePage{
		Revision: le.Uint16(b), OfflineStatus: b[362], Test: TestStatus(b[363] >> 4), TestRemaining: min(b[363]&0xF, 10) * 10,
		OfflineTime: time.Duration(le.Uint16(b[364:])) * time.Second,
		CanTest:     b[367]&(1<<4) != 0, CanConveyance: b[367]&(1<<5) != 0, CanSelective: b[367]&(1<<6) != 0,
		CanLogErrors: b[370]&1 != 0, ShortPoll: minutes(uint16(b[372])), ExtendedPoll: minutes(uint16(b[373])),
		ConveyancePoll: minutes(uint16(b[374])),
	}
	if b[373] == 0xFF { // too long for a byte: the 16-bit form
		d.ExtendedPoll = minutes(le.Uint16(b[375:]))
	}
	err := checkSum(name, b)
	seen := [256]bool{}
	for slot := range Slots {
		at := 2 + 12*slot
		a := Attribute{ID: b[at], Flags: le.Uint16(b[at+1:]), Value: b[at+3], Worst: b[at+4], Raw: [6]byte(b[at+5 : at+11]), Offset: at}
		switch {
		case a.ID == 0:
		case seen[a.ID]:
			err = errors.Join(err, &FormatError{name, at, fmt.Sprintf("attribute %d appears twice; the first one counts", a.ID)})
		default:
			seen[a.ID] = true
			d.Attributes = append(d.Attributes, a)
		}
	}
	return d, err
}

func minutes(n uint16) time.Duration { return time.Duration(n) * time.Minute }

// Encode writes the page; attributes go to their Offset, or to the next slot when it is zero.
func (d AttributePage) Encode() []byte {
	b := make([]byte, PageSize)
	le.PutUint16(b, d.Revision)
	for slot, a := range d.Attributes[:min(len(d.Attributes), Slots)] {
		at := 2 + 12*slot
		if a.Offset != 0 {
			at = a.Offset
		}
		b[at], b[at+3], b[at+4] = a.ID, a.Value, a.Worst
		le.PutUint16(b[at+1:], a.Flags)
		copy(b[at+5:], a.Raw[:])
	}
	b[362], b[363] = d.OfflineStatus, uint8(d.Test)<<4|d.TestRemaining/10
	le.PutUint16(b[364:], uint16(d.OfflineTime/time.Second))
	b[367] = 1
	for bit, on := range map[int]bool{4: d.CanTest, 5: d.CanConveyance, 6: d.CanSelective} {
		if on {
			b[367] |= 1 << bit
		}
	}
	b[368] = 3
	if d.CanLogErrors {
		b[370] = 1
	}
	b[372], b[374] = uint8(d.ShortPoll/time.Minute), uint8(d.ConveyancePoll/time.Minute)
	if extended := uint16(d.ExtendedPoll / time.Minute); extended < 0xFF {
		b[373] = uint8(extended)
	} else {
		b[373] = 0xFF
		le.PutUint16(b[375:], extended)
	}
	setSum(b)
	return b
}

// Threshold is the level of one attribute. At or below it the attribute fails; a Level of 0 never does, one of FFh always does (it is
// for trials), and FEh is no threshold (ATA-3 8.41.4).
type Threshold struct {
	ID     uint8
	Level  uint8
	Offset int
}

// DecodeThresholds reads the 512 bytes of SMART READ ATTRIBUTE THRESHOLDS (ATA-3 table 45). Match them to attributes by
// ID: the slots of the two tables need not agree.
func DecodeThresholds(b []byte) ([]Threshold, error) {
	const name = "SMART thresholds"
	if err := checkLength(name, b); err != nil {
		return nil, err
	}
	var all []Threshold
	for slot := range Slots {
		if at := 2 + 12*slot; b[at] != 0 {
			all = append(all, Threshold{b[at], b[at+1], at})
		}
	}
	return all, checkSum(name, b)
}

// EncodeThresholds writes the threshold page.
func EncodeThresholds(all []Threshold) []byte {
	b := make([]byte, PageSize)
	le.PutUint16(b, 16)
	for slot, t := range all[:min(len(all), Slots)] {
		at := 2 + 12*slot
		b[at], b[at+1] = t.ID, t.Level
	}
	setSum(b)
	return b
}

// Fails reports whether an attribute with this value is at or below its threshold.
func (t Threshold) Fails(value uint8) bool { return t.Unjudged(value) == "" && value <= t.Level }

// Unjudged says in words why a value cannot be held against the threshold; empty: it can.
func (t Threshold) Unjudged(value uint8) string {
	switch {
	case t.Level == 0:
		return "a threshold of 0 never fails"
	case t.Level == 0xFE:
		return "254 is no valid threshold"
	case value == 0 || value > 253:
		return fmt.Sprintf("a value of %d carries no judgement", value)
	}
	return ""
}
