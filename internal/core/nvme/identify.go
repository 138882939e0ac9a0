package nvme

import "fmt"

// Controller is Identify Controller (Base 2.1 figure 312).
type Controller struct {
	VendorID          uint16 // PCI
	Serial            string
	Model             string
	Firmware          string
	IEEE              uint32  // company id, 24 bits
	Version           uint32  // of the specification: major 31:16, minor 15:8
	SelfTest          bool    // OACS bit 4
	ExtendedMinutes   uint16  // an extended self-test takes that long
	Persistent        bool    // LPA bit 4: persistent event log
	Effects           bool    // LPA bit 1: commands supported and effects log
	ErrorEntries      int     // how many the error log holds
	WarningK          uint16  // temperatures in kelvin, 0 not reported
	CriticalK         uint16  //
	Namespaces        uint32  // most there can be
	TotalCapacity     Counter // bytes, 0 not reported
	WriteZeroes, Trim bool    // ONCS
	FirmwareSlots     uint8
	Security          bool   // OACS bit 0: Security Send and Receive
	SupportedLogs     bool   // LPA bit 5: the list of logs
	Telemetry         bool   // LPA bit 3
	EnduranceGroups   uint16 // CTRATT bit 4 with ENDGIDMAX: the highest number of one, 0 none
	Sanitize          bool   // SANICAP: some kind of sanitize
}

// DecodeController reads the 4,096 bytes of Identify Controller.
func DecodeController(b []byte) (Controller, error) {
	const name = "Identify Controller"
	if err := checkLength(name, b, IdentifySize); err != nil {
		return Controller{}, err
	}
	c := Controller{
		VendorID:        le.Uint16(b),
		Serial:          text(b[4:24]),
		Model:           text(b[24:64]),
		Firmware:        text(b[64:72]),
		IEEE:            uint32(b[73]) | uint32(b[74])<<8 | uint32(b[75])<<16,
		Version:         le.Uint32(b[80:]),
		SelfTest:        le.Uint16(b[256:])&(1<<4) != 0,
		FirmwareSlots:   b[260] >> 1 & 7,
		Effects:         b[261]&(1<<1) != 0,
		Persistent:      b[261]&(1<<4) != 0,
		ErrorEntries:    int(b[262]) + 1,
		WarningK:        le.Uint16(b[266:]),
		CriticalK:       le.Uint16(b[268:]),
		TotalCapacity:   counter(b[280:]),
		ExtendedMinutes: le.Uint16(b[316:]),
		Security:        le.Uint16(b[256:])&1 != 0,
		SupportedLogs:   b[261]&(1<<5) != 0,
		Telemetry:       b[261]&(1<<3) != 0,
		Sanitize:        le.Uint32(b[328:])&7 != 0,
		Namespaces:      le.Uint32(b[516:]),
		Trim:            le.Uint16(b[520:])&(1<<2) != 0,
		WriteZeroes:     le.Uint16(b[520:])&(1<<3) != 0,
	}
	if le.Uint32(b[96:])&(1<<4) != 0 {
		c.EnduranceGroups = le.Uint16(b[340:])
	}
	switch {
	case c.Model == "":
		return c, &FormatError{name, 24, "no model number"}
	case c.Serial == "":
		return c, &FormatError{name, 4, "no serial number"}
	}
	return c, nil
}

// VersionName is the specification's version the controller follows; empty when it does not say.
func (c Controller) VersionName() string {
	if c.Version == 0 {
		return ""
	}
	return fmt.Sprintf("NVMe %d.%d", c.Version>>16, c.Version>>8&0xFF)
}

// Encode writes the structure.
func (c Controller) Encode() []byte {
	b := make([]byte, IdentifySize)
	le.PutUint16(b, c.VendorID)
	putText(b[4:24], c.Serial)
	putText(b[24:64], c.Model)
	putText(b[64:72], c.Firmware)
	b[73], b[74], b[75] = uint8(c.IEEE), uint8(c.IEEE>>8), uint8(c.IEEE>>16)
	le.PutUint32(b[80:], c.Version)
	le.PutUint16(b[256:], uint16(bit(c.SelfTest, 4)|bit(c.Security, 0)))
	b[260] = c.FirmwareSlots << 1
	b[261] = bit(c.Effects, 1) | bit(c.Telemetry, 3) | bit(c.Persistent, 4) | bit(c.SupportedLogs, 5)
	if c.EnduranceGroups > 0 {
		le.PutUint32(b[96:], 1<<4)
		le.PutUint16(b[340:], c.EnduranceGroups)
	}
	b[328] = bit(c.Sanitize, 1)
	b[262] = uint8(max(1, c.ErrorEntries) - 1)
	le.PutUint16(b[266:], c.WarningK)
	le.PutUint16(b[268:], c.CriticalK)
	c.TotalCapacity.put(b[280:])
	le.PutUint16(b[316:], c.ExtendedMinutes)
	le.PutUint32(b[516:], c.Namespaces)
	le.PutUint16(b[520:], uint16(bit(c.Trim, 2)|bit(c.WriteZeroes, 3)))
	return b
}

func bit(on bool, n uint) uint8 {
	if on {
		return 1 << n
	}
	return 0
}

// DecodeNamespaces reads the list of active namespaces (Base 2.1 figure 316): ascending numbers up to the first 0.
func DecodeNamespaces(b []byte) ([]uint32, error) {
	if err := checkLength("namespace list", b, IdentifySize); err != nil {
		return nil, err
	}
	var all []uint32
	for at := 0; at < IdentifySize; at += 4 {
		id := le.Uint32(b[at:])
		if id == 0 {
			break
		}
		if len(all) > 0 && id <= all[len(all)-1] {
			return all, &FormatError{"namespace list", at, "numbers do not rise"}
		}
		all = append(all, id)
	}
	return all, nil
}

// EncodeNamespaces writes the list.
func EncodeNamespaces(all []uint32) []byte {
	b := make([]byte, IdentifySize)
	for i, id := range all[:min(len(all), IdentifySize/4)] {
		le.PutUint32(b[4*i:], id)
	}
	return b
}

// Namespace is Identify Namespace of the NVM command set (NVM Command Set 1.1 figure 114). Sizes are logical blocks.
type Namespace struct {
	Size, Capacity, Used uint64
	Block                uint32 // bytes of a logical block
	Metadata             uint16 // bytes beside each block
	Protection           uint8  // type of end-to-end protection, 0 none
	EUI64                uint64
	NGUID                [16]byte // zeros: none
	EnduranceGroup       uint16   // 0: not told
}

// Name is the namespace's name, whole: its NGUID, else its EUI-64; nil where it has neither.
func (n Namespace) Name() []byte {
	if n.NGUID != [16]byte{} {
		return n.NGUID[:]
	}
	if n.EUI64 != 0 {
		return EUI64(n.EUI64).Value
	}
	return nil
}

// DecodeNamespace reads the 4,096 bytes of Identify Namespace.
func DecodeNamespace(b []byte) (Namespace, error) {
	const name = "Identify Namespace"
	if err := checkLength(name, b, IdentifySize); err != nil {
		return Namespace{}, err
	}
	n := Namespace{
		Size:           le.Uint64(b),
		Capacity:       le.Uint64(b[8:]),
		Used:           le.Uint64(b[16:]),
		Protection:     b[29] & 7,
		NGUID:          [16]byte(b[104:120]),
		EnduranceGroup: le.Uint16(b[102:]),
	}
	for _, x := range b[120:128] {
		n.EUI64 = n.EUI64<<8 | uint64(x)
	}
	index := int(b[26]&0xF) | int(b[26]>>5&3)<<4
	format := le.Uint32(b[128+4*index:])
	shift := format >> 16 & 0xFF
	n.Metadata = uint16(format)
	if shift < 9 || shift > 20 {
		return n, &FormatError{name, 128 + 4*index, fmt.Sprintf("a block of 2^%d bytes is not possible", shift)}
	}
	n.Block = 1 << shift
	return n, nil
}

// Encode writes the structure with one format.
func (n Namespace) Encode() []byte {
	b := make([]byte, IdentifySize)
	le.PutUint64(b, n.Size)
	le.PutUint64(b[8:], n.Capacity)
	le.PutUint64(b[16:], n.Used)
	b[29] = n.Protection
	le.PutUint16(b[102:], n.EnduranceGroup)
	copy(b[104:], n.NGUID[:])
	for i := range 8 {
		b[120+i] = uint8(n.EUI64 >> (56 - 8*i))
	}
	shift := uint32(9)
	for 1<<shift < n.Block {
		shift++
	}
	le.PutUint32(b[128:], shift<<16|uint32(n.Metadata))
	return b
}
