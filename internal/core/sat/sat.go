// Package sat carries ATA commands inside SCSI ones and brings the drive's registers back: the ATA PASS-THROUGH commands
// of SAT-4 (INCITS 491) in their 16- and 12-byte forms, and the registers in descriptor or fixed sense. It performs no I/O.
// Start with CDB16 and Registers.
package sat

import (
	"fmt"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/scsi"
)

// Form is the shape of the pass-through command that an adapter accepts.
type Form uint8

// The forms: the 12-byte one cannot carry 48-bit commands.
const (
	Form16 Form = 16
	Form12 Form = 12
)

func (f Form) String() string { return fmt.Sprintf("ATA PASS-THROUGH(%d)", uint8(f)) }

// Protocol field values (SAT-4 table 113).
const (
	protocolNonData = 3
	protocolPIOIn   = 4
	protocolPIOOut  = 5
	protocolDMA     = 6
)

// CDB wraps an ATA command in this form (SAT-4 12.2.2 and 12.2.3). T_LENGTH is in Count and in 512-byte blocks.
func (f Form) CDB(c ata.Command) []byte {
	protocol, flags := byte(protocolNonData), byte(0)
	switch c.Transfer {
	case ata.DMAIn:
		protocol = protocolDMA
		flags = 1<<3 | 1<<2 | 2
	case ata.PIOIn:
		protocol = protocolPIOIn
		flags = 1<<3 | 1<<2 | 2 // from the device, block count, length in COUNT
		if c.Count == 0 {
			flags = 1<<3 | 3 // the command takes no count: the transport's own length holds
		}
	case ata.PIOOut:
		protocol = protocolPIOOut
		flags = 1<<2 | 2
	case ata.NonData:
	}
	if c.Status {
		flags |= 1 << 5 // CK_COND: registers wanted even when all goes well
	}
	if f == Form12 {
		return []byte{
			scsi.ATAPass12, protocol << 1, flags, uint8(c.Feature), uint8(c.Count),
			uint8(c.LBA), uint8(c.LBA >> 8), uint8(c.LBA >> 16), c.Device, uint8(c.Op), 0, 0,
		}
	}
	extend := byte(0)
	if c.Ext || c.LBA>>24 != 0 || c.Count>>8 != 0 || c.Feature>>8 != 0 {
		extend = 1
	}
	return []byte{
		scsi.ATAPass16, protocol<<1 | extend, flags, uint8(c.Feature >> 8), uint8(c.Feature), uint8(c.Count >> 8), uint8(c.Count),
		uint8(c.LBA >> 24), uint8(c.LBA), uint8(c.LBA >> 32), uint8(c.LBA >> 8), uint8(c.LBA >> 40), uint8(c.LBA >> 16),
		c.Device, uint8(c.Op), 0,
	}
}

// Decode reads the ATA command out of a pass-through CDB. ok is false when the CDB is no pass-through, is cut short, or
// asks for a transfer this product never makes (DMA to the device, packet). Whether a transfer to the drive is harmless is for
// device.Allow to say, which sees its bytes.
func Decode(cdb []byte) (c ata.Command, f Form, ok bool) {
	switch {
	case len(cdb) == 16 && cdb[0] == scsi.ATAPass16:
		f = Form16
		c = ata.Command{
			Op: ata.Opcode(cdb[14]), Device: cdb[13], Feature: uint16(cdb[4]), Count: uint16(cdb[6]),
			LBA: uint64(cdb[8]) | uint64(cdb[10])<<8 | uint64(cdb[12])<<16,
		}
		if cdb[1]&1 != 0 {
			c.Ext = true
			c.Feature |= uint16(cdb[3]) << 8
			c.Count |= uint16(cdb[5]) << 8
			c.LBA |= uint64(cdb[7])<<24 | uint64(cdb[9])<<32 | uint64(cdb[11])<<40
		}
	case len(cdb) == 12 && cdb[0] == scsi.ATAPass12:
		f = Form12
		c = ata.Command{
			Op: ata.Opcode(cdb[9]), Device: cdb[8], Feature: uint16(cdb[3]), Count: uint16(cdb[4]),
			LBA: uint64(cdb[5]) | uint64(cdb[6])<<8 | uint64(cdb[7])<<16,
		}
	default:
		return ata.Command{}, 0, false
	}
	c.Status = cdb[2]&(1<<5) != 0
	switch cdb[1] >> 1 & 0xF {
	case protocolNonData:
		return c, f, cdb[2]&3 == 0
	case protocolPIOIn:
		c.Transfer, c.Blocks = ata.PIOIn, c.Count
		if cdb[2]&0x0F == 1<<3|3 && c.Count == 0 {
			c.Blocks = 1
			return c, f, true
		}
		return c, f, cdb[2]&0x0F == 1<<3|1<<2|2
	case protocolDMA:
		c.Transfer, c.Blocks = ata.DMAIn, c.Count
		return c, f, c.Op == ata.ElementStatus && cdb[2]&0x0F == 1<<3|1<<2|2
	case protocolPIOOut:
		c.Transfer, c.Blocks = ata.PIOOut, c.Count
		return c, f, cdb[2]&0x0F == 1<<2|2
	}
	return c, f, false
}

// statusReturn is the ATA Status Return descriptor's type (SAT-4 12.2.8).
const statusReturn = 0x09

// Registers takes the drive's registers out of a sense (SAT-4 12.2.8 for the descriptor, 12.2.7 for the fixed format,
// which loses COUNT 15:8 and LBA 47:24). Reported is false when the sense holds none.
func Registers(s scsi.Sense) ata.Registers {
	if s.Deferred { // they are an earlier command's
		return ata.Registers{}
	}
	for _, d := range s.Descriptors {
		if d.Type != statusReturn || len(d.Body) < 12 {
			continue
		}
		b := d.Body
		r := ata.Registers{
			Error:  b[1],
			Count:  uint16(b[3]),
			LBA:    uint64(b[5]) | uint64(b[7])<<8 | uint64(b[9])<<16,
			Device: b[10],
			Status: b[11],
		}
		if b[0]&1 != 0 {
			r.Count |= uint16(b[2]) << 8
			r.LBA |= uint64(b[4])<<24 | uint64(b[6])<<32 | uint64(b[8])<<40
		}
		r.Reported = r != ata.Registers{}
		return r
	}
	if s.Fixed && s.ASC == 0x00 && s.ASCQ == 0x1D {
		r := ata.Registers{
			Error: s.Raw[0], Status: s.Raw[1], Device: s.Raw[2], Count: uint16(s.Raw[3]), Narrow: true,
			LBA: uint64(s.Specific[1]) | uint64(s.Specific[2])<<8 | uint64(s.Specific[3])<<16,
		}
		r.Reported = r.Status != 0 || r.LBA != 0 || r.Error != 0
		return r
	}
	return ata.Registers{}
}

// Sense wraps registers the way a SAT layer returns them, with the sense key an ATA error translates to (SAT-4 table 180).
func Sense(r ata.Registers, fixed bool) scsi.Sense {
	s := scsi.Sense{Key: scsi.RecoveredError, ASC: 0x00, ASCQ: 0x1D, Fixed: fixed}
	if r.Failed() {
		switch {
		case r.Status&ata.StatusDF != 0:
			s.Key, s.ASC, s.ASCQ = scsi.HardwareError, 0x44, 0x00
		case r.Error&ata.ErrorICRC != 0:
			s.Key, s.ASC, s.ASCQ = scsi.AbortedCommand, 0x47, 0x03
		case r.Error&ata.ErrorUNC != 0:
			s.Key, s.ASC, s.ASCQ = scsi.MediumError, 0x11, 0x04
		default:
			s.Key, s.ASC, s.ASCQ = scsi.AbortedCommand, 0x00, 0x00
		}
	}
	if fixed {
		s.Raw = [4]byte{r.Error, r.Status, r.Device, uint8(r.Count)}
		s.Specific = [4]byte{0, uint8(r.LBA), uint8(r.LBA >> 8), uint8(r.LBA >> 16)}
		return s
	}
	extend := uint8(0)
	if r.LBA>>24 != 0 || r.Count>>8 != 0 {
		extend = 1
	}
	s.Descriptors = []scsi.Descriptor{{Type: statusReturn, Body: []byte{
		extend, r.Error, uint8(r.Count >> 8), uint8(r.Count), uint8(r.LBA >> 24), uint8(r.LBA), uint8(r.LBA >> 32), uint8(r.LBA >> 8),
		uint8(r.LBA >> 40), uint8(r.LBA >> 16), r.Device, r.Status,
	}}}
	return s
}
