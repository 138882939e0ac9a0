package sat

import (
	"fmt"
	"testing"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/vector"
)

// What goes over the wire, and what is made of it: testdata/wire.txt.
func TestTheWire(t *testing.T) {
	b := vector.Open(t, "wire.txt")
	type decoded struct {
		Command ata.Command
		Form    Form
		OK      bool
	}
	for _, c := range []ata.Command{
		ata.ReadIdentify(), ata.ReadConfiguration(), ata.ReadLogGPLFrom(4, 0x1213, 0x1415), ata.ReadElements(0x1112), ata.SCTCommand(),
		ata.ReturnStatus(), ata.NativeMax(), ata.SpinUp(),
		{Op: 0x51, Feature: 0x1213, Count: 0x1415, LBA: 0x1617_1819_1A1B, Device: 0x1C},
		{Op: 0x51, LBA: 1 << 24},
		{Op: 0x51, Feature: 1 << 8},
	} {
		for _, form := range []Form{Form16, Form12} {
			vector.Page(b, fmt.Sprintf("%s by %s", c.Name(), form), form.CDB(c), func(cdb []byte) (decoded, error) {
				c, f, ok := Decode(cdb)
				return decoded{c, f, ok}, nil
			}, nil)
		}
	}
	for _, r := range []ata.Registers{
		{Status: 0x50, Error: 0x11, Count: 0x12, LBA: 0x131415, Device: 0x16, Reported: true},
		{Status: 0x50, Error: 0x11, Count: 0x1217, LBA: 0x1314_1516_1718, Device: 0x16, Reported: true},
		{Status: 0x50, Count: 0x1200, Reported: true},
		{Status: 0x71, Reported: true},
		{Status: 0x51, Error: ata.ErrorICRC | ata.ErrorUNC, Reported: true},
		{Status: 0x51, Error: ata.ErrorUNC, Reported: true},
		{Status: 0x51, Error: 4, Reported: true},
	} {
		for _, fixed := range []bool{false, true} {
			s := Sense(r, fixed)
			vector.Page(
				b,
				fmt.Sprintf("registers %s, fixed %v, %s", vector.Say(r), fixed, s),
				s.Encode(),
				func(b []byte) (ata.Registers, error) {
					s, err := scsi.DecodeSense(b)
					return Registers(s), err
				},
				nil,
			)
		}
	}
	b.Close()
}
