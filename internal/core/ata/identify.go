package ata

import (
	"errors"
	"fmt"
)

// Identify is what IDENTIFY DEVICE tells (ACS-4 7.13.6). Word numbers stand behind the fields.
type Identify struct {
	Serial         string // 10-19
	Firmware       string // 23-26
	Model          string // 27-46
	Sectors        uint64 // user-addressable logical sectors: 230-233, 100-103 or 60-61
	LogicalSector  uint32 // bytes, 117-118; 512 unless said otherwise
	PhysicalSector uint32 // bytes, 106
	Alignment      uint16 // 209: logical sectors by which LBA 0 lies inside its physical sector
	RotationRate   uint16 // 217: 0 not reported, 1 does not rotate, else revolutions per minute
	FormFactor     uint8  // 168: 0 not reported, else a code for FormFactorName
	WWN            uint64 // 108-111

	SATAGenerations uint8  // 76: bit n-1 set when generation n is supported
	SATANow         uint8  // 77: negotiated generation, 0 not reported
	Transport       uint16 // 222

	SMARTSupported, SMARTEnabled       bool  // 82, 85
	ErrorLogSupported, ErrorLogEnabled bool  // 84, 87
	SelfTestSupported, SelfTestEnabled bool  // 84, 87
	GPL                                bool  // 84: general purpose logging
	LBA48                              bool  // 83
	SCT                                bool  // 206
	SCTRecovery, SCTTables             bool  // 206: error recovery control, data tables
	HPA                                bool  // 82: host protected area
	Overlay                            bool  // 83: device configuration overlay
	AccessibleMax                      bool  // 119: accessible max address
	SpinUpNeeded, Incomplete           bool  // 2: waits to be told to spin up; the page is incomplete until then
	Zoned                              uint8 // 69: 0 not, 1 host aware, 2 device managed
	TRIM                               bool  // 169
	Trusted                            bool  // 48: speaks the security protocols of the TCG
	Security                           Security
	Integrity                          Integrity // 255
}

// Security is word 128.
type Security struct{ Supported, Enabled, Locked, Frozen, CountExpired bool }

// Integrity tells what word 255 says of the page.
type Integrity uint8

// The states of the integrity word (ACS-4 7.13.6.41).
const (
	IntegrityAbsent Integrity = iota // the drive does not use the word
	IntegrityRight
	IntegrityWrong
)

const identifySignature = 0xA5

// compactFlash is word 0 of a CompactFlash card, which is an ATA device although the word's bit 15 says otherwise (ACS-4 7.13.6.2).
const compactFlash = 0x848A

func word(b []byte, n int) uint16 { return le.Uint16(b[2*n:]) }

// valid reports whether a word that carries its own validity in bits 15:14 says 01b.
func valid(w uint16) bool { return w>>14 == 1 }

// DecodeIdentify reads the 512 bytes of IDENTIFY DEVICE.
func DecodeIdentify(b []byte) (Identify, error) {
	const name = "IDENTIFY DEVICE"
	if err := checkLength(name, b); err != nil {
		return Identify{}, err
	}
	id := Identify{
		Serial: text(b[20:40]), Firmware: text(b[46:54]), Model: text(b[54:94]),
		LogicalSector: 512, PhysicalSector: 512,
	}
	var errs []error
	if w := word(b, 0); w&0x8000 != 0 && w != compactFlash {
		errs = append(errs, &FormatError{name, 0, "word 0 says this is not an ATA device"})
	}
	if id.Model == "" {
		errs = append(errs, &FormatError{name, 54, "no model number"})
	}
	if id.Serial == "" {
		errs = append(errs, &FormatError{name, 20, "no serial number"})
	}

	command, enabled := word(b, 83), word(b, 87)
	if valid(command) {
		id.LBA48 = command&(1<<10) != 0
		id.SMARTSupported = word(b, 82)&1 != 0
		id.HPA, id.Overlay = word(b, 82)&(1<<10) != 0, command&(1<<11) != 0
	}
	if valid(word(b, 84)) {
		id.ErrorLogSupported = word(b, 84)&1 != 0
		id.SelfTestSupported = word(b, 84)&2 != 0
		id.GPL = word(b, 84)&(1<<5) != 0
		if word(b, 84)&(1<<8) != 0 {
			id.WWN = uint64(word(b, 108))<<48 | uint64(word(b, 109))<<32 | uint64(word(b, 110))<<16 | uint64(word(b, 111))
		}
	}
	if valid(enabled) {
		id.SMARTEnabled = word(b, 85)&1 != 0
		id.ErrorLogEnabled, id.SelfTestEnabled = enabled&1 != 0, enabled&2 != 0
	}

	id.Sectors = uint64(le.Uint32(b[120:]))
	if id.LBA48 {
		id.Sectors = le.Uint64(b[200:])
	}
	if more := le.Uint64(b[460:]); word(b, 69)&(1<<3) != 0 && more > id.Sectors {
		id.Sectors = more
	}
	if id.Sectors>>48 != 0 {
		errs = append(errs, &FormatError{name, 200, fmt.Sprintf("%d sectors are more than 48 bits can address", id.Sectors)})
		id.Sectors = 0
	}
	if w := word(b, 106); valid(w) {
		if w&(1<<12) != 0 {
			size := uint64(le.Uint32(b[234:])) * 2
			if size < 512 || size > 1<<16 {
				errs = append(errs, &FormatError{name, 234, fmt.Sprintf("a logical sector of %d bytes is not possible", size)})
			} else {
				id.LogicalSector = uint32(size)
			}
		}
		id.PhysicalSector = id.LogicalSector
		if w&(1<<13) != 0 {
			id.PhysicalSector <<= w & 0xF
		}
	}
	if w := word(b, 119); valid(w) {
		id.AccessibleMax = w&(1<<8) != 0
	}
	if w := word(b, 209); valid(w) {
		id.Alignment = w & 0x3FFF
	}
	if w := word(b, 217); w == 1 || w >= 0x0401 && w <= 0xFFFE {
		id.RotationRate = w
	}
	id.FormFactor = uint8(word(b, 168) & 0xF)
	if w := word(b, 76); w != 0 && w != 0xFFFF && w&1 == 0 {
		id.SATAGenerations = uint8(w >> 1 & 7)
		id.SATANow = uint8(word(b, 77) >> 1 & 7)
	}
	if w := word(b, 222); w != 0xFFFF {
		id.Transport = w
	}
	id.TRIM = word(b, 169)&1 != 0
	if w := word(b, 48); valid(w) {
		id.Trusted = w&1 != 0
	}
	sct := word(b, 206)
	id.SCT, id.SCTRecovery, id.SCTTables = sct&1 != 0, sct&(1<<3) != 0, sct&(1<<5) != 0
	id.Zoned = uint8(word(b, 69) & 3)
	switch word(b, 2) { // ACS-4 table 47
	case 0x37C8:
		id.SpinUpNeeded, id.Incomplete = true, true
	case 0x738C:
		id.SpinUpNeeded = true
	case 0x8C73:
		id.Incomplete = true
	}
	w := word(b, 128)
	id.Security = Security{w&1 != 0, w&2 != 0, w&4 != 0, w&8 != 0, w&16 != 0}

	if b[510] == identifySignature {
		id.Integrity = IntegrityRight
		if err := checkSum(name, b); err != nil {
			id.Integrity = IntegrityWrong
			errs = append(errs, err)
		}
	}
	return id, errors.Join(errs...)
}

func setBit(b []byte, n int, bit uint, on bool) {
	if on {
		le.PutUint16(b[2*n:], word(b, n)|1<<bit)
	}
}

// Encode writes the page a drive with these properties answers, with the integrity word unless Integrity is absent.
func (id Identify) Encode() []byte {
	b := make([]byte, PageSize)
	put := func(n int, w uint16) { le.PutUint16(b[2*n:], w) }
	putText(b[20:40], id.Serial)
	putText(b[46:54], id.Firmware)
	putText(b[54:94], id.Model)
	put(0, 0x0040)
	put(49, 1<<9|1<<8)
	put(80, 0x0FF0)
	for _, n := range []int{83, 84, 87} {
		put(n, 1<<14)
	}
	setBit(b, 82, 0, id.SMARTSupported)
	setBit(b, 85, 0, id.SMARTEnabled)
	setBit(b, 83, 10, id.LBA48)
	setBit(b, 86, 10, id.LBA48)
	for _, f := range []struct {
		bit                uint
		supported, enabled bool
	}{
		{0, id.ErrorLogSupported, id.ErrorLogEnabled},
		{1, id.SelfTestSupported, id.SelfTestEnabled},
		{5, id.GPL, id.GPL},
		{8, id.WWN != 0, id.WWN != 0},
	} {
		setBit(b, 84, f.bit, f.supported)
		setBit(b, 87, f.bit, f.enabled)
	}
	for i := range 4 {
		put(108+i, uint16(id.WWN>>(48-16*i)))
	}
	le.PutUint32(b[120:], uint32(min(id.Sectors, 0x0FFFFFFF)))
	if id.LBA48 {
		le.PutUint64(b[200:], id.Sectors)
	}
	w := uint16(1 << 14)
	if id.LogicalSector > 512 {
		w |= 1 << 12
		le.PutUint32(b[234:], id.LogicalSector/2)
	}
	if id.LogicalSector > 0 && id.PhysicalSector > id.LogicalSector {
		w |= 1 << 13
		for size := id.LogicalSector; size < id.PhysicalSector; size *= 2 {
			w++
		}
	}
	put(106, w)
	put(209, 1<<14|id.Alignment)
	put(217, id.RotationRate)
	put(168, uint16(id.FormFactor))
	put(76, uint16(id.SATAGenerations)<<1)
	put(77, uint16(id.SATANow)<<1)
	put(222, id.Transport)
	setBit(b, 169, 0, id.TRIM)
	put(48, 1<<14)
	setBit(b, 48, 0, id.Trusted)
	setBit(b, 206, 0, id.SCT)
	setBit(b, 206, 3, id.SCTRecovery)
	setBit(b, 206, 5, id.SCTTables)
	setBit(b, 82, 10, id.HPA)
	setBit(b, 83, 11, id.Overlay)
	put(119, 1<<14)
	setBit(b, 119, 8, id.AccessibleMax)
	put(69, uint16(id.Zoned))
	switch {
	case id.SpinUpNeeded && id.Incomplete:
		put(2, 0x37C8)
	case id.SpinUpNeeded:
		put(2, 0x738C)
	case id.Incomplete:
		put(2, 0x8C73)
	default:
		put(2, 0xC837)
	}
	for bit, on := range []bool{
		id.Security.Supported, id.Security.Enabled, id.Security.Locked, id.Security.Frozen, id.Security.CountExpired,
	} {
		setBit(b, 128, uint(bit), on)
	}
	setBit(b, 82, 1, id.Security.Supported)
	setBit(b, 85, 1, id.Security.Enabled)
	if id.Integrity != IntegrityAbsent {
		b[510] = identifySignature
		setSum(b)
	}
	return b
}

// LinkSpeed names a SATA generation's signalling speed (Serial ATA 3.5, 4.2.2); empty for generations it does not know.
func LinkSpeed(generation uint8) string {
	return map[uint8]string{1: "1.5 Gb/s", 2: "3.0 Gb/s", 3: "6.0 Gb/s"}[generation]
}

// LinkPossible is the fastest generation the drive offers, 0 when it does not say.
func (id Identify) LinkPossible() uint8 {
	for generation := uint8(3); generation > 0; generation-- {
		if id.SATAGenerations&(1<<(generation-1)) != 0 {
			return generation
		}
	}
	return 0
}

// FormFactorName names the nominal form factor (ACS-4 table 61); empty when the drive does not say.
func (id Identify) FormFactorName() string {
	names := [...]string{"", "5.25 inch", "3.5 inch", "2.5 inch", "1.8 inch", "under 1.8 inch", "mSATA", "M.2", "MicroSSD", "CFast"}
	if int(id.FormFactor) < len(names) {
		return names[id.FormFactor]
	}
	return ""
}

// TransportName names the newest Serial ATA revision in word 222 (ACS-4 7.13.6.37); empty when the drive does not say.
func (id Identify) TransportName() string {
	if id.Transport>>12 == 0 {
		if id.Transport == 0 {
			return ""
		}
		return "parallel"
	}
	names := [...]string{
		"",
		"SATA 1.0",
		"SATA II",
		"SATA 2.5",
		"SATA 2.6",
		"SATA 3.0",
		"SATA 3.1",
		"SATA 3.2",
		"SATA 3.3",
		"SATA 3.4",
		"SATA 3.5",
	}
	for bit := len(names) - 1; bit > 0; bit-- {
		if id.Transport&(1<<bit) != 0 {
			return names[bit]
		}
	}
	return "SATA"
}
