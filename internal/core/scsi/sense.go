// Package scsi decodes and encodes the SCSI structures every attached device answers with: sense data in both formats,
// standard INQUIRY data, and the operation codes Hylostat may send. It performs no I/O. Start with DecodeSense.
//
// Sources: SPC-5 (INCITS 502), SBC-4 (INCITS 506).
package scsi

import (
	"encoding/binary"
	"fmt"
	"strings"
)

var be = binary.BigEndian

// byteOrder is the order of structures that ATA has, too, in its own.
func byteOrder(littleEndian bool) binary.ByteOrder {
	if littleEndian {
		return binary.LittleEndian
	}
	return be
}

// Operation codes (SPC-5 table E.2).
const (
	TestUnitReady = 0x00
	Inquiry       = 0x12
	ATAPass12     = 0xA1
	ATAPass16     = 0x85
)

// Status is the SCSI status byte (SAM-6 5.3.1).
type Status uint8

// The status codes.
const (
	Good           Status = 0x00
	CheckCondition Status = 0x02
	Busy           Status = 0x08
)

func (s Status) String() string {
	switch s {
	case Good:
		return "good"
	case CheckCondition:
		return "check condition"
	case Busy:
		return "busy"
	}
	return fmt.Sprintf("status %02Xh", uint8(s))
}

// SenseKey is the broad class of a sense (SPC-5 table 52).
type SenseKey uint8

// The sense keys that decide something here.
const (
	NoSense        SenseKey = 0x0
	RecoveredError SenseKey = 0x1
	NotReady       SenseKey = 0x2
	MediumError    SenseKey = 0x3
	HardwareError  SenseKey = 0x4
	IllegalRequest SenseKey = 0x5
	UnitAttention  SenseKey = 0x6
	DataProtect    SenseKey = 0x7
	AbortedCommand SenseKey = 0xB
)

func (k SenseKey) String() string {
	names := [16]string{
		"no sense", "recovered error", "not ready", "medium error", "hardware error", "illegal request", "unit attention",
		"data protect", "blank check", "vendor specific", "copy aborted", "aborted command", "reserved", "volume overflow",
		"miscompare", "completed",
	}
	return names[k&0xF]
}

// Sense is decoded sense data.
type Sense struct {
	Key         SenseKey
	ASC, ASCQ   uint8
	Deferred    bool   // about an earlier command
	Information uint64 // an LBA, for medium errors
	HasInfo     bool
	Fixed       bool
	Descriptors []Descriptor // descriptor format only
	Specific    [4]byte      // command-specific bytes 8-11, fixed format only
	// SenseSpecific are bytes 15-17 of the fixed format, meaningful when SpecificValid.
	SenseSpecific [3]byte
	SpecificValid bool
	Raw           [4]byte // information bytes 3-6, fixed format only
}

// Descriptor is one sense data descriptor.
type Descriptor struct {
	Type uint8
	Body []byte // after the two header bytes
}

// FormatError says where sense or INQUIRY data breaks its format.
type FormatError struct {
	Structure string
	Offset    int
	Reason    string
}

func (e *FormatError) Error() string {
	return fmt.Sprintf("%s, byte %d: %s", e.Structure, e.Offset, e.Reason)
}

// Place gives the byte and the reason, for whoever shows the page.
func (e *FormatError) Place() (structure string, offset int, reason string) {
	return e.Structure, e.Offset, e.Reason
}

// DecodeSense reads sense data in fixed (70h, 71h) or descriptor (72h, 73h) format (SPC-5 4.4). Truncated data gives what
// is there.
func DecodeSense(b []byte) (Sense, error) {
	if len(b) < 4 {
		return Sense{}, &FormatError{"sense data", len(b), "shorter than 4 bytes"}
	}
	code := b[0] & 0x7F
	switch code {
	case 0x70, 0x71:
		if len(b) < 8 {
			return Sense{}, &FormatError{"sense data", len(b), "fixed format shorter than 8 bytes"}
		}
		s := Sense{Fixed: true, Deferred: code == 0x71, Key: SenseKey(b[2] & 0xF), Raw: [4]byte(b[3:7])}
		if s.HasInfo = b[0]&0x80 != 0; s.HasInfo {
			s.Information = uint64(be.Uint32(b[3:]))
		}
		if end := min(len(b), 8+int(b[7])); end >= 14 {
			s.Specific = [4]byte(b[8:12])
			s.ASC, s.ASCQ = b[12], b[13]
			if end >= 18 && b[15]&0x80 != 0 {
				s.SenseSpecific, s.SpecificValid = [3]byte(b[15:18]), true
			}
		}
		return s, nil
	case 0x72, 0x73:
		s := Sense{Deferred: code == 0x73, Key: SenseKey(b[1] & 0xF), ASC: b[2], ASCQ: b[3]}
		if len(b) < 8 {
			return s, nil
		}
		rest := b[8:min(len(b), 8+int(b[7]))]
		for len(rest) >= 2 && len(rest) >= 2+int(rest[1]) {
			d := Descriptor{rest[0], rest[2 : 2+int(rest[1])]}
			if d.Type == 0 && len(d.Body) >= 10 && d.Body[0]&0x80 != 0 {
				s.HasInfo, s.Information = true, be.Uint64(d.Body[2:])
			}
			s.Descriptors = append(s.Descriptors, d)
			rest = rest[2+int(rest[1]):]
		}
		return s, nil
	}
	return Sense{}, &FormatError{"sense data", 0, fmt.Sprintf("response code %02Xh is neither fixed nor descriptor format", code)}
}

// Encode writes the sense in its format.
func (s Sense) Encode() []byte {
	deferred := uint8(0)
	if s.Deferred {
		deferred = 1
	}
	if s.Fixed {
		b := make([]byte, 18)
		b[0], b[2], b[7], b[12], b[13] = 0x70|deferred, uint8(s.Key), 10, s.ASC, s.ASCQ
		copy(b[3:], s.Raw[:])
		if s.HasInfo {
			b[0] |= 0x80
			be.PutUint32(b[3:], uint32(s.Information))
		}
		copy(b[8:], s.Specific[:])
		if s.SpecificValid {
			copy(b[15:], s.SenseSpecific[:])
			b[15] |= 0x80
		}
		return b
	}
	b := []byte{0x72 | deferred, uint8(s.Key), s.ASC, s.ASCQ, 0, 0, 0, 0}
	for _, d := range s.Descriptors {
		b = append(b, d.Type, uint8(len(d.Body)))
		b = append(b, d.Body...)
	}
	b[7] = uint8(len(b) - 8)
	return b
}

// InquiryData is standard INQUIRY data (SPC-5 6.7.2).
type InquiryData struct {
	DeviceType uint8 // 00h direct access, 1Fh none
	Qualifier  uint8 // 0 a device is connected
	Removable  bool
	Vendor     string // "ATA" behind a SAT layer
	Product    string
	Revision   string
}

// InquiryCDB asks for standard INQUIRY data of n bytes.
func InquiryCDB(n uint16) []byte { return []byte{Inquiry, 0, 0, uint8(n >> 8), uint8(n), 0} }

// DecodeInquiry reads standard INQUIRY data of at least 36 bytes.
func DecodeInquiry(b []byte) (InquiryData, error) {
	if len(b) < 36 {
		return InquiryData{}, &FormatError{"INQUIRY data", len(b), "shorter than 36 bytes"}
	}
	field := func(from, to int) string { return strings.Trim(string(b[from:to]), " \x00") }
	return InquiryData{
		DeviceType: b[0] & 0x1F, Qualifier: b[0] >> 5, Removable: b[1]&0x80 != 0,
		Vendor: field(8, 16), Product: field(16, 32), Revision: field(32, 36),
	}, nil
}

// Encode writes 36 bytes of standard INQUIRY data.
func (d InquiryData) Encode() []byte {
	b := []byte(fmt.Sprintf("\x00\x00\x06\x02\x1f\x00\x00\x02%-8.8s%-16.16s%-4.4s", d.Vendor, d.Product, d.Revision))
	b[0] = d.Qualifier<<5 | d.DeviceType&0x1F
	if d.Removable {
		b[1] = 0x80
	}
	return b
}

// Progress is how far a background operation has come, from a sense's specific bytes (SPC-5 4.4.2.4 and 4.4.3): per cent.
func Progress(s Sense) (percent int, ok bool) {
	if s.Fixed {
		if s.SpecificValid {
			return int(be.Uint16(s.SenseSpecific[1:])) * 100 / 65536, true
		}
		return 0, false
	}
	for _, d := range s.Descriptors {
		if d.Type == 2 && len(d.Body) >= 5 && d.Body[2]&0x80 != 0 {
			return int(be.Uint16(d.Body[3:])) * 100 / 65536, true
		}
	}
	return 0, false
}
