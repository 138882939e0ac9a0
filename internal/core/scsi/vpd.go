package scsi

import (
	"fmt"
	"strings"
)

// DecodeVPD checks a vital product data page and gives its body, which begins at byte 4 (SPC-5 7.7.1).
func DecodeVPD(page uint8, b []byte) ([]byte, error) {
	name := fmt.Sprintf("VPD page %02Xh", page)
	if len(b) < 4 {
		return nil, &FormatError{name, len(b), "shorter than 4 bytes"}
	}
	if b[1] != page {
		return nil, &FormatError{name, 1, fmt.Sprintf("calls itself page %02Xh", b[1])}
	}
	return b[4:min(len(b), 4+int(be.Uint16(b[2:])))], nil
}

// EncodeVPD writes a page around a body.
func EncodeVPD(page uint8, body []byte) []byte {
	return append([]byte{0, page, uint8(len(body) >> 8), uint8(len(body))}, body...)
}

// DecodeSerial reads VPD page 80h.
func DecodeSerial(b []byte) (string, error) {
	body, err := DecodeVPD(VPDSerial, b)
	return strings.Trim(string(body), " \x00"), err
}

// Designator is one name of VPD page 83h (SPC-5 7.7.3.2).
type Designator struct {
	Association uint8 // 0 the logical unit, 1 the target port, 2 the target device
	Type        uint8 // 2 EUI-64, 3 NAA ...
	Value       []byte
	Offset      int
}

// DecodeDesignators reads VPD page 83h.
func DecodeDesignators(b []byte) ([]Designator, error) {
	body, err := DecodeVPD(VPDIdentification, b)
	var all []Designator
	for at := 0; at+4 <= len(body); {
		size := int(body[at+3])
		if at+4+size > len(body) {
			return all, &FormatError{"VPD page 83h", 4 + at, "a designator runs over the page's end"}
		}
		all = append(all, Designator{body[at+1] >> 4 & 3, body[at+1] & 0xF, body[at+4 : at+4+size], 4 + at})
		at += 4 + size
	}
	return all, err
}

// UnitName is the world wide name of the logical unit among designators: the same on every path to one drive. It is given whole: NAA 6
// and an EUI-64 of the long kind have 16 bytes, an EUI-64 may have 12. Nil for none. Of several the longest is the most telling.
func UnitName(all []Designator) []byte {
	for _, kind := range []uint8{3, 2} {
		var name []byte
		for _, d := range all {
			if d.Association == 0 && d.Type == kind && len(d.Value) >= 8 && len(d.Value) > len(name) {
				name = d.Value
			}
		}
		if name != nil {
			return name
		}
	}
	return nil
}

// EncodeDesignators writes page 83h with the name of the unit and of the port it was read by.
func EncodeDesignators(unit, port uint64) []byte {
	var body []byte
	for i, name := range []uint64{unit, port} {
		body = append(body, 0x61, uint8(i)<<4|3, 0, 8)
		body = be.AppendUint64(body, name)
	}
	return EncodeVPD(VPDIdentification, body)
}

// Characteristics is VPD page B1h (SBC-4 6.6.2).
type Characteristics struct {
	RotationRate uint16 // 0 not reported, 1 does not rotate, else revolutions per minute
	FormFactor   uint8
	Zoned        uint8 // 1 host aware, 2 device managed
}

// DecodeCharacteristics reads VPD page B1h.
func DecodeCharacteristics(b []byte) (Characteristics, error) {
	body, err := DecodeVPD(VPDCharacteristics, b)
	if err == nil && len(body) < 5 {
		err = &FormatError{"VPD page B1h", 4 + len(body), "ends before the form factor"}
	}
	if err != nil {
		return Characteristics{}, err
	}
	c := Characteristics{be.Uint16(body), body[3] & 0xF, body[4] >> 4 & 3}
	if c.RotationRate > 1 && c.RotationRate < 0x0401 || c.RotationRate == 0xFFFF { // reserved
		c.RotationRate = 0
	}
	return c, nil
}

// Encode writes the page.
func (c Characteristics) Encode() []byte {
	body := make([]byte, 60)
	be.PutUint16(body, c.RotationRate)
	body[3], body[4] = c.FormFactor, c.Zoned<<4
	return EncodeVPD(VPDCharacteristics, body)
}

// FormFactorName names the nominal form factor; empty when the drive does not say.
func (c Characteristics) FormFactorName() string {
	names := [...]string{"", "5.25 inch", "3.5 inch", "2.5 inch", "1.8 inch", "under 1.8 inch"}
	if int(c.FormFactor) < len(names) {
		return names[c.FormFactor]
	}
	return ""
}

// Capacity is READ CAPACITY(16) (SBC-4 5.18.2).
type Capacity struct {
	Last       uint64 // LBA
	Block      uint32 // bytes
	Exponent   uint8  // logical blocks per physical block, as a power of 2
	Alignment  uint16 // lowest aligned LBA; Offset is what ATA tells instead
	Protection uint8  // 0 none, else its type
	Thin       bool   // unmapped blocks are managed
}

// Offset is by how many logical blocks LBA 0 lies inside its physical block. The standard names the lowest LBA that begins one
// instead: of eight to a block, 7 means 1.
func (c Capacity) Offset() uint16 {
	per := uint16(1) << c.Exponent
	return (per - c.Alignment%per) % per
}

// DecodeCapacity reads it.
func DecodeCapacity(b []byte) (Capacity, error) {
	const name = "READ CAPACITY"
	if len(b) == capacitySize10 {
		return capacity10(name, b)
	}
	if len(b) < CapacitySize {
		return Capacity{}, &FormatError{name, len(b), "ends after fewer than 32 bytes"}
	}
	c := Capacity{
		Last:      be.Uint64(b),
		Block:     be.Uint32(b[8:]),
		Exponent:  b[13] & 0xF,
		Alignment: be.Uint16(b[14:]) & 0x3FFF,
		Thin:      b[14]&0x80 != 0,
	}
	if b[12]&1 != 0 {
		c.Protection = b[12]>>1&7 + 1
	}
	if c.Block < 256 || c.Block > 1<<16 {
		return c, &FormatError{name, 8, fmt.Sprintf("a block of %d bytes is not possible", c.Block)}
	}
	return c, nil
}

// capacity10 reads the 10-byte form's answer. Its last LBA has 32 bits; all ones mean that there are more.
func capacity10(name string, b []byte) (Capacity, error) {
	c := Capacity{Last: uint64(be.Uint32(b)), Block: be.Uint32(b[4:])}
	if c.Block < 256 || c.Block > 1<<16 {
		return c, &FormatError{name, 4, fmt.Sprintf("a block of %d bytes is not possible", c.Block)}
	}
	return c, nil
}

// Encode10 writes the 10-byte form's answer.
func (c Capacity) Encode10() []byte {
	return be.AppendUint32(be.AppendUint32(nil, uint32(min(c.Last, 1<<32-1))), c.Block)
}

// Encode writes it.
func (c Capacity) Encode() []byte {
	b := make([]byte, CapacitySize)
	be.PutUint64(b, c.Last)
	be.PutUint32(b[8:], c.Block)
	b[13] = c.Exponent
	be.PutUint16(b[14:], c.Alignment)
	if c.Thin {
		b[14] |= 0x80
	}
	if c.Protection > 0 {
		b[12] = (c.Protection-1)<<1 | 1
	}
	return b
}
