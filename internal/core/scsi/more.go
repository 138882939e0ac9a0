package scsi

import (
	"fmt"
)

// DecodeSubpageList reads log page 00h/FFh: the pages and subpages there are, each as two bytes (SPC-5 7.3.20).
func DecodeSubpageList(b []byte) ([]LogID, error) {
	const name = "list of pages and subpages"
	if len(b) < 4 {
		return nil, &FormatError{name, len(b), "shorter than 4 bytes"}
	}
	if is := (LogID{b[0] & 0x3F, b[1]}); is != LogSubpages {
		return nil, &FormatError{name, 0, "calls itself page " + is.String()}
	}
	var all []LogID
	for at, end := 4, min(len(b), 4+int(be.Uint16(b[2:]))); at+2 <= end; at += 2 {
		all = append(all, LogID{b[at] & 0x3F, b[at+1]})
	}
	return all, nil
}

// EncodeSubpageList writes the list.
func EncodeSubpageList(all []LogID) []byte {
	b := []byte{subpageFormat, LogSubpages.Subpage, 0, 0}
	for _, l := range all {
		b = append(b, l.Page, l.Subpage)
	}
	be.PutUint16(b[2:], uint16(len(b)-4))
	return b
}

// PendingDefect is a sector that waits to be reassigned.
type PendingDefect struct {
	Hours  uint32 // power-on hours when it was found
	LBA    uint64
	Offset int
}

// PendingDefects is log page 15h/01h (SBC-4 6.4.9).
type PendingDefects struct {
	Count   uint32 // as the drive says; more than were transferred is possible
	Defects []PendingDefect
}

// DecodePending reads log page 15h/01h as far as it was transferred.
func DecodePending(b []byte) (PendingDefects, error) {
	l, err := DecodeLogPage(LogPending, b)
	var d PendingDefects
	for _, p := range l.Parameters {
		switch v := p.Value; {
		case p.Code == 0 && len(v) >= 4:
			d.Count = be.Uint32(v)
		case p.Code >= 1 && p.Code <= 0xF000 && len(v) >= 12:
			d.Defects = append(d.Defects, PendingDefect{be.Uint32(v), be.Uint64(v[4:]), p.Offset})
		}
	}
	return d, err
}

// Encode writes log page 15h/01h.
func (d PendingDefects) Encode() []byte {
	parameters := []Parameter{Number(0, 4, uint64(d.Count))}
	for i, x := range d.Defects {
		parameters = append(parameters, Parameter{Code: uint16(i + 1), Value: be.AppendUint64(be.AppendUint32(nil, x.Hours), x.LBA)})
	}
	return EncodeLogPage(LogPending, parameters...)
}

// NoTemperature is how the environmental pages say that there is no value (SPC-5 7.3.7).
const NoTemperature int8 = -128

// Environment is the first temperature report of log page 0Dh/01h, in °C; NoTemperature where there is none (SPC-5 7.3.7).
type Environment struct {
	Now, LifeHighest, LifeLowest, Highest, Lowest int8 // the last two since power-on
	Offset                                        int  // of the parameter's value
}

// DecodeEnvironment reads log page 0Dh/01h.
func DecodeEnvironment(b []byte) (Environment, error) {
	l, err := DecodeLogPage(LogEnvironment, b)
	p, ok := l.Parameter(0)
	if !ok || len(p.Value) < 6 {
		if err == nil {
			err = &FormatError{"log page 0Dh/01h", 4, "holds no report of a temperature"}
		}
		return Environment{NoTemperature, NoTemperature, NoTemperature, NoTemperature, NoTemperature, 0}, err
	}
	v := p.Value
	return Environment{int8(v[1]), int8(v[2]), int8(v[3]), int8(v[4]), int8(v[5]), p.Offset}, err
}

// Encode writes log page 0Dh/01h.
func (e Environment) Encode() []byte {
	return EncodeLogPage(
		LogEnvironment,
		Parameter{
			Code:  0,
			Value: []byte{0, uint8(e.Now), uint8(e.LifeHighest), uint8(e.LifeLowest), uint8(e.Highest), uint8(e.Lowest), 0, 0},
		},
	)
}

// EnvironmentLimits are the first temperature limits of log page 0Dh/02h, in °C: what triggers, and what resets the trigger.
type EnvironmentLimits struct {
	HighCritical, HighCriticalReset, LowCriticalReset, LowCritical     int8
	HighOperating, HighOperatingReset, LowOperatingReset, LowOperating int8
	Offset                                                             int
}

// DecodeEnvironmentLimits reads log page 0Dh/02h (SPC-5 7.3.6).
func DecodeEnvironmentLimits(b []byte) (EnvironmentLimits, error) {
	const none = NoTemperature
	l, err := DecodeLogPage(LogEnvironLimits, b)
	p, ok := l.Parameter(0)
	if !ok || len(p.Value) < 8 {
		if err == nil {
			err = &FormatError{"log page 0Dh/02h", 4, "holds no limits of a temperature"}
		}
		return EnvironmentLimits{none, none, none, none, none, none, none, none, 0}, err
	}
	v := p.Value
	return EnvironmentLimits{int8(v[0]), int8(v[1]), int8(v[2]), int8(v[3]), int8(v[4]), int8(v[5]), int8(v[6]), int8(v[7]), p.Offset}, err
}

// Encode writes log page 0Dh/02h.
func (e EnvironmentLimits) Encode() []byte {
	value := []byte{
		uint8(e.HighCritical), uint8(e.HighCriticalReset), uint8(e.LowCriticalReset), uint8(e.LowCritical),
		uint8(e.HighOperating), uint8(e.HighOperatingReset), uint8(e.LowOperatingReset), uint8(e.LowOperating),
	}
	return EncodeLogPage(LogEnvironLimits, Parameter{Code: 0, Value: value})
}

// ElementHealth is how a physical element, such as a head with its surface, stands (SBC-4 table 57; ACS-5 table 76 is the same).
type ElementHealth uint8

// Values with a meaning of their own.
const (
	elementUnknown     ElementHealth = 0x00
	elementAtLimit     ElementHealth = 0x64
	elementLastOutside ElementHealth = 0xCF
	elementFailing     ElementHealth = 0xFD // depopulation goes on
	elementErrors      ElementHealth = 0xFE
	elementGone        ElementHealth = 0xFF
)

// Bad reports whether the element is beyond its specification, or was given up.
func (h ElementHealth) Bad() bool {
	return h > elementAtLimit && h <= elementLastOutside || h >= elementFailing
}

func (h ElementHealth) String() string {
	switch {
	case h == elementUnknown:
		return "not reported"
	case h < elementAtLimit:
		return "within its specification"
	case h == elementAtLimit:
		return "at the limit of its specification"
	case h <= elementLastOutside:
		return "outside its specification"
	case h == elementGone:
		return "given up"
	case h == elementErrors:
		return "giving it up ended with errors"
	case h == elementFailing:
		return "being given up"
	}
	return fmt.Sprintf("reserved health %02Xh", uint8(h))
}

// Element is one physical element.
type Element struct {
	ID     uint32
	Type   uint8 // 1 storage element
	Health ElementHealth
	Blocks uint64 // capacity that hangs on it, in logical blocks; all ones not reported
	Offset int
}

// elementBytes is the length of a descriptor, and of the header before them.
const elementBytes = 32

// Elements is GET PHYSICAL ELEMENT STATUS.
type Elements struct {
	Count    uint32 // of all elements; more than were transferred is possible
	Elements []Element
}

// DecodeElements reads GET PHYSICAL ELEMENT STATUS as far as it was transferred (SBC-4 5.9). ATA's answer has the same structure with
// its numbers little-endian (ACS-5 7.12); littleEndian says which it is.
func DecodeElements(b []byte, littleEndian bool) (Elements, error) {
	const name = "GET PHYSICAL ELEMENT STATUS"
	if len(b) < elementBytes {
		return Elements{}, &FormatError{name, len(b), "shorter than 32 bytes"}
	}
	order := byteOrder(littleEndian)
	e := Elements{Count: order.Uint32(b)}
	returned := int(min(uint64(order.Uint32(b[4:])), uint64(len(b)/elementBytes)))
	for i := range returned {
		at := elementBytes * (i + 1)
		if at+elementBytes > len(b) {
			break
		}
		d := b[at:]
		e.Elements = append(e.Elements, Element{order.Uint32(d[4:]), d[14], ElementHealth(d[15]), order.Uint64(d[16:]), at})
	}
	return e, nil
}

// Encode writes the answer.
func (e Elements) Encode(littleEndian bool) []byte {
	order := byteOrder(littleEndian)
	b := make([]byte, elementBytes*(1+len(e.Elements)))
	order.PutUint32(b, max(e.Count, uint32(len(e.Elements))))
	order.PutUint32(b[4:], uint32(len(e.Elements)))
	for i, x := range e.Elements {
		d := b[elementBytes*(i+1):]
		order.PutUint32(d[4:], x.ID)
		d[14], d[15] = x.Type, uint8(x.Health)
		order.PutUint64(d[16:], x.Blocks)
	}
	return b
}

// Range is a part of the surface that has its own heads: another range can be read at the same time.
type Range struct {
	Number, Elements uint8
	First, Count     uint64 // logical blocks
	Offset           int
}

// rangesHeader is where the first descriptor stands.
const rangesHeader = 64

// DecodeRanges reads VPD page B9h, concurrent positioning ranges (SBC-4 6.6.4).
func DecodeRanges(b []byte) ([]Range, error) {
	if _, err := DecodeVPD(VPDRanges, b); err != nil {
		return nil, err
	}
	return ranges("VPD page B9h", b[:min(len(b), 4+int(be.Uint16(b[2:])))], -1, false)
}

// DecodeATARanges reads ATA log 47h, which has the same descriptors with their numbers little-endian (ACS-5 9.13).
func DecodeATARanges(b []byte) ([]Range, error) {
	const name = "concurrent positioning ranges"
	if len(b) < rangesHeader {
		return nil, &FormatError{name, len(b), "shorter than 64 bytes"}
	}
	return ranges(name, b, int(b[0]), true)
}

// ranges reads so many descriptors, or all there are when count is negative.
func ranges(name string, b []byte, count int, littleEndian bool) ([]Range, error) {
	order := byteOrder(littleEndian)
	var all []Range
	for at := rangesHeader; count < 0 && at+elementBytes <= len(b) || len(all) < count; at += elementBytes {
		if at+elementBytes > len(b) {
			return all, &FormatError{name, at, fmt.Sprintf("ends before range %d of %d", len(all)+1, count)}
		}
		d := b[at:]
		all = append(all, Range{d[0], d[1], order.Uint64(d[8:]), order.Uint64(d[16:]), at})
	}
	return all, nil
}

// EncodeRanges writes VPD page B9h, EncodeATARanges a page of ATA log 47h.
func EncodeRanges(all []Range) []byte {
	return EncodeVPD(VPDRanges, putRanges(all, false)[4:])
}

// EncodeATARanges writes log 47h in one page of 512 bytes.
func EncodeATARanges(all []Range) []byte {
	b := make([]byte, 512)
	copy(b, putRanges(all, true))
	b[0] = uint8(len(all))
	return b
}

func putRanges(all []Range, littleEndian bool) []byte {
	order := byteOrder(littleEndian)
	b := make([]byte, rangesHeader+elementBytes*len(all))
	for i, r := range all {
		d := b[rangesHeader+elementBytes*i:]
		d[0], d[1] = r.Number, r.Elements
		order.PutUint64(d[8:], r.First)
		order.PutUint64(d[16:], r.Count)
	}
	return b
}

// SecurityInCDB asks for at most n bytes by a security protocol (SPC-5 6.43).
func SecurityInCDB(protocol uint8, specific uint16, n uint32) []byte {
	return []byte{
		SecurityIn,
		protocol,
		uint8(specific >> 8),
		uint8(specific),
		0,
		0,
		uint8(n >> 24),
		uint8(n >> 16),
		uint8(n >> 8),
		uint8(n),
		0,
		0,
	}
}

// ElementsCDB asks for the status of all physical elements (SBC-4 5.9).
func ElementsCDB(n uint32) []byte {
	return []byte{ServiceActionIn, elementStatus, 0, 0, 0, 0, 0, 0, 0, 0, uint8(n >> 24), uint8(n >> 16), uint8(n >> 8), uint8(n), 0, 0}
}

// CapacityCDB10 asks for READ CAPACITY(10), for adapters that know no other (SBC-4 5.17).
func CapacityCDB10() []byte { return []byte{ReadCapacity10, 0, 0, 0, 0, 0, 0, 0, 0, 0} }

// capacitySize10 is the length of its answer.
const capacitySize10 = 8
