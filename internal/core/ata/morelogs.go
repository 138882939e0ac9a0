package ata

import (
	"errors"
	"fmt"
)

// Span is a range of logical sectors, both ends included.
type Span struct{ First, Last uint64 }

// SelectiveLog is log 09h: the spans of the last selective self-test and where it stands.
type SelectiveLog struct {
	Spans   []Span // in use
	Current uint64 // LBA under test
	Span    uint16 // number of the span under test, from 1; 0 none
	Pending uint16 // minutes until an interrupted test goes on
}

// DecodeSelective reads SMART log 09h (ACS-4 A.9).
func DecodeSelective(b []byte) (SelectiveLog, error) {
	const name = "selective self-test log"
	if err := checkLength(name, b); err != nil {
		return SelectiveLog{}, err
	}
	l := SelectiveLog{Current: le.Uint64(b[492:]), Span: le.Uint16(b[500:]), Pending: le.Uint16(b[508:])}
	for i := range 5 {
		if s := (Span{le.Uint64(b[2+16*i:]), le.Uint64(b[10+16*i:])}); s != (Span{}) {
			l.Spans = append(l.Spans, s)
		}
	}
	return l, checkSum(name, b)
}

// Encode writes the page.
func (l SelectiveLog) Encode() []byte {
	b := make([]byte, PageSize)
	le.PutUint16(b, 1)
	for i, s := range l.Spans[:min(5, len(l.Spans))] {
		le.PutUint64(b[2+16*i:], s.First)
		le.PutUint64(b[10+16*i:], s.Last)
	}
	le.PutUint64(b[492:], l.Current)
	le.PutUint16(b[500:], l.Span)
	le.PutUint16(b[508:], l.Pending)
	setSum(b)
	return b
}

// PendingDefect is a sector that waits to be reallocated.
type PendingDefect struct {
	Hours  uint32 // power-on hours when it was found; FFFFFFFFh unknown
	LBA    uint64
	Offset int
}

// PendingLog is log 0Ch.
type PendingLog struct {
	Count   uint32 // as the drive says; more than were transferred is possible
	Defects []PendingDefect
}

// DecodePending reads log 0Ch as far as it was transferred (ACS-4 A.12).
func DecodePending(b []byte) (PendingLog, error) {
	const name = "pending defects log"
	if err := checkLength(name, b); err != nil {
		return PendingLog{}, err
	}
	l := PendingLog{Count: le.Uint32(b)}
	for at := 16; at+16 <= len(b) && len(l.Defects) < int(l.Count); at += 16 {
		l.Defects = append(l.Defects, PendingDefect{le.Uint32(b[at:]), le.Uint64(b[at+8:]), at})
	}
	if len(b)%PageSize != 0 && len(l.Defects) < int(l.Count) {
		return l, &FormatError{name, len(b), "ends within a page, before the end of its list"}
	}
	return l, nil
}

// Encode writes the log in as many pages as its list takes; 31 defects fit into the first, 32 into each further one.
func (l PendingLog) Encode() []byte {
	b := make([]byte, PageSize*(1+len(l.Defects)/32))
	le.PutUint32(b, l.Count)
	for i, d := range l.Defects {
		le.PutUint32(b[16+16*i:], d.Hours)
		le.PutUint64(b[24+16*i:], d.LBA)
	}
	return b
}

// PHYCounter is one SATA PHY event counter.
type PHYCounter struct {
	ID     uint16 // without the size bits; bit 15 set for the maker's own
	Name   string // the standard's; empty for one this version does not know
	Value  uint64
	Full   bool // it stands at its largest value: the true count is higher
	Offset int
	Size   int // bytes of the value
}

// phyNames are the counters of Serial ATA 3.5, 13.7.5.
var phyNames = map[uint16]string{
	0x01: "Commands failed, interface CRC",
	0x02: "R_ERR for data FISes",
	0x03: "R_ERR for device-to-host data FISes",
	0x04: "R_ERR for host-to-device data FISes",
	0x05: "R_ERR for non-data FISes",
	0x06: "R_ERR for device-to-host non-data FISes",
	0x07: "R_ERR for host-to-device non-data FISes",
	0x08: "Device-to-host non-data FIS retries",
	0x09: "Transitions from PhyRdy to PhyNRdy",
	0x0A: "Signature FISes after COMRESET",
	0x0B: "CRC errors in host-to-device FISes",
	0x0D: "Non-CRC errors in host-to-device FISes",
	0x0F: "R_ERR for host-to-device data FISes, CRC",
	0x10: "R_ERR for host-to-device data FISes, non-CRC",
	0x12: "R_ERR for host-to-device non-data FISes, CRC",
	0x13: "R_ERR for host-to-device non-data FISes, non-CRC",
}

// DecodePHY reads log 11h (Serial ATA 3.5, 13.7.5).
func DecodePHY(b []byte) ([]PHYCounter, error) {
	const name = "PHY event counters"
	if err := checkLength(name, b); err != nil {
		return nil, err
	}
	var all []PHYCounter
	for at := 4; at+2 < PageSize-1; {
		id := le.Uint16(b[at:])
		size := 2 * int(id>>12&7)
		if id == 0 || size == 0 {
			break
		}
		if size > 8 || at+2+size > PageSize-1 {
			return all, errors.Join(checkSum(name, b), &FormatError{name, at, fmt.Sprintf("counter %04Xh has an impossible size", id)})
		}
		c := PHYCounter{ID: id & 0x8FFF, Offset: at + 2, Size: size, Full: true}
		for i := range size {
			c.Value |= uint64(b[at+2+i]) << (8 * i)
			c.Full = c.Full && b[at+2+i] == 0xFF
		}
		c.Name = phyNames[c.ID]
		all = append(all, c)
		at += 2 + size
	}
	return all, checkSum(name, b)
}

// EncodePHY writes the page with 32-bit counters.
func EncodePHY(all []PHYCounter) []byte {
	b := make([]byte, PageSize)
	for i, c := range all {
		at := 4 + 6*i
		le.PutUint16(b[at:], c.ID|2<<12)
		le.PutUint32(b[at+2:], uint32(c.Value))
	}
	setSum(b)
	return b
}

// NoTemperature is how SCT says that there is no value.
const NoTemperature = -128

// SCTReport is log E0h (ACS-4 8.4). Temperatures are °C; NoTemperature when there is none.
type SCTReport struct {
	Format                                              uint16
	State                                               uint8
	Now, Lowest, Highest, LifeLowest, LifeHighest, Most int8
	OverLimit, UnderLimit                               uint32 // minutes
	SMARTStatus                                         uint16 // bytes 214-215: LBA 23:8 as SMART RETURN STATUS would answer; else not told
}

// Alarm is the drive's own alarm as its SCT status tells it, where an adapter drops the registers of SMART RETURN STATUS.
func (s SCTReport) Alarm() Alarm {
	switch s.SMARTStatus {
	case alarmClear:
		return AlarmNotRaised
	case alarmSet:
		return AlarmRaised
	}
	return AlarmUnknown
}

// StateName says in words what the drive is doing (ACS-4 table 170).
func (s SCTReport) StateName() string {
	names := [...]string{
		"active, waiting for a command",
		"in standby",
		"asleep",
		"in a self-test in the background",
		"collecting data off-line in the background",
		"carrying out an SCT command in the background",
	}
	if int(s.State) < len(names) {
		return names[s.State]
	}
	return fmt.Sprintf("state %d", s.State)
}

// DecodeSCTStatus reads log E0h.
func DecodeSCTStatus(b []byte) (SCTReport, error) {
	const name = "SCT status"
	if err := checkLength(name, b); err != nil {
		return SCTReport{}, err
	}
	s := SCTReport{
		Format:      le.Uint16(b),
		State:       b[10],
		Now:         int8(b[200]),
		Lowest:      int8(b[201]),
		Highest:     int8(b[202]),
		LifeLowest:  int8(b[203]),
		LifeHighest: int8(b[204]),
		Most:        NoTemperature,
		OverLimit:   le.Uint32(b[206:]),
		UnderLimit:  le.Uint32(b[210:]),
		SMARTStatus: le.Uint16(b[214:]),
	}
	if s.Format != 2 && s.Format != 3 {
		return s, &FormatError{name, 0, fmt.Sprintf("format %d is neither 2 nor 3", s.Format)}
	}
	if s.Format == 3 && b[205] != 0 {
		s.Most = int8(b[205])
	}
	return s, nil
}

// Encode writes the page in format 3.
func (s SCTReport) Encode() []byte {
	b := make([]byte, PageSize)
	le.PutUint16(b, 3)
	b[10] = s.State
	b[200], b[201], b[202], b[203], b[204], b[205] = uint8(s.Now), uint8(s.Lowest), uint8(s.Highest), uint8(
		s.LifeLowest,
	), uint8(s.LifeHighest), uint8(s.Most)
	le.PutUint32(b[206:], s.OverLimit)
	le.PutUint32(b[210:], s.UnderLimit)
	le.PutUint16(b[214:], s.SMARTStatus)
	return b
}

// TemperatureHistory is the curve a drive records by itself (ACS-4 8.3.6.3).
type TemperatureHistory struct {
	Sampling, Interval       uint16 // minutes: between samples, and between the entries of the curve
	MaxOperating, OverLimit  int8   // °C; NoTemperature when there is none
	MinOperating, UnderLimit int8
	Curve                    []int8 // oldest first; NoTemperature where there is none
	Offset                   int    // of the curve's ring in the page
}

// DecodeTemperatureHistory reads the table that SCTTemperatureQuestion asks for.
func DecodeTemperatureHistory(b []byte) (TemperatureHistory, error) {
	const name, at = "temperature history", 34
	if err := checkLength(name, b); err != nil {
		return TemperatureHistory{}, err
	}
	h := TemperatureHistory{
		Sampling:     le.Uint16(b[2:]),
		Interval:     le.Uint16(b[4:]),
		MaxOperating: int8(b[6]),
		OverLimit:    int8(b[7]),
		MinOperating: int8(b[8]),
		UnderLimit:   int8(b[9]),
		Offset:       at,
	}
	size, newest := int(le.Uint16(b[30:])), int(le.Uint16(b[32:]))
	switch {
	case le.Uint16(b) != 2:
		return h, &FormatError{name, 0, fmt.Sprintf("format %d is not 2", le.Uint16(b))}
	case size == 0 || at+size > PageSize:
		return h, &FormatError{name, 30, fmt.Sprintf("a curve of %d entries does not fit", size)}
	case newest >= size:
		return h, &FormatError{name, 32, fmt.Sprintf("index %d points past entry %d", newest, size-1)}
	}
	for i := range size {
		h.Curve = append(h.Curve, int8(b[at+(newest+1+i)%size]))
	}
	return h, nil
}

// Encode writes the table; the curve's newest entry goes last.
func (h TemperatureHistory) Encode() []byte {
	b := make([]byte, PageSize)
	le.PutUint16(b, 2)
	le.PutUint16(b[2:], h.Sampling)
	le.PutUint16(b[4:], h.Interval)
	b[6], b[7], b[8], b[9] = uint8(h.MaxOperating), uint8(h.OverLimit), uint8(h.MinOperating), uint8(h.UnderLimit)
	le.PutUint16(b[30:], uint16(len(h.Curve)))
	le.PutUint16(b[32:], uint16(max(0, len(h.Curve)-1)))
	ring := b[34:34]
	for _, t := range h.Curve[:min(len(h.Curve), PageSize-34)] {
		ring = append(ring, uint8(t))
	}
	return b
}

// SCTTemperatureQuestion is the page that asks for the temperature history: action 5 (data table), function 1 (read), table 2.
func SCTTemperatureQuestion() []byte { return sctQuestion(5, 1, 2) }

// SCTRecoveryQuestion asks for the drive's time limit of error recovery: action 3, function 2 (return the present value),
// 1 for reading and 2 for writing. The answer comes in the registers.
func SCTRecoveryQuestion(write bool) []byte {
	if write {
		return sctQuestion(3, 2, 2)
	}
	return sctQuestion(3, 2, 1)
}

func sctQuestion(words ...uint16) []byte {
	b := make([]byte, PageSize)
	for i, w := range words {
		le.PutUint16(b[2*i:], w)
	}
	return b
}

// DecodeRecoveryLimit reads the answer to SCTRecoveryQuestion, in units of 100 ms; 0 is no limit (ACS-4 8.3.4).
func DecodeRecoveryLimit(r Registers) (tenths uint16, ok bool) {
	return r.Count&0xFF | uint16(r.LBA&0xFF)<<8, r.Reported && !r.Failed()
}

// Power is what a drive says to CHECK POWER MODE (ACS-4 table 33).
type Power uint8

// The power modes.
const (
	PowerUnknown Power = iota
	PowerActive
	PowerIdle
	PowerStandby
)

func (p Power) String() string {
	return [...]string{"unknown", "active", "idle", "standby"}[min(p, PowerStandby)]
}

// DecodePower reads the answer to PowerMode.
func DecodePower(r Registers) Power {
	if !r.Reported || r.Status == 0 { // no registers, or the command's own handed back
		return PowerUnknown
	}
	switch c := uint8(r.Count); {
	case c <= 0x01:
		return PowerStandby
	case c == 0x40 || c == 0x41 || c == 0xFF:
		return PowerActive
	case c >= 0x80 && c <= 0x83:
		return PowerIdle
	}
	return PowerUnknown
}

// Configuration is DEVICE CONFIGURATION IDENTIFY: what the drive could do without its overlay (ATA8-ACS 7.10.3).
type Configuration struct{ MaxLBA uint64 }

// DecodeConfiguration reads its 512 bytes.
func DecodeConfiguration(b []byte) (Configuration, error) {
	const name = "device configuration"
	if err := checkLength(name, b); err != nil {
		return Configuration{}, err
	}
	c := Configuration{le.Uint64(b[6:])}
	if b[510] == identifySignature {
		return c, checkSum(name, b)
	}
	return c, nil
}

// Encode writes the page.
func (c Configuration) Encode() []byte {
	b := make([]byte, PageSize)
	le.PutUint16(b, 2)
	le.PutUint64(b[6:], c.MaxLBA)
	b[510] = identifySignature
	setSum(b)
	return b
}
