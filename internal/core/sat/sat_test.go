package sat

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/scsi"
)

func TestCommandsAreWrappedAsTheStandardDraws(t *testing.T) {
	// SAT-4 12.2.2 and 12.2.3: operation, protocol, flags, then the registers.
	for name, row := range map[string]struct {
		command ata.Command
		form    Form
		want    []byte
	}{
		"identify, 16 bytes": {ata.ReadIdentify(), Form16, []byte{0x85, 0x08, 0x0E, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0xEC, 0}},
		"identify, 12 bytes": {ata.ReadIdentify(), Form12, []byte{0xA1, 0x08, 0x0E, 0, 1, 0, 0, 0, 0, 0xEC, 0, 0}},
		"return status":      {ata.ReturnStatus(), Form16, []byte{0x85, 0x06, 0x20, 0, 0xDA, 0, 0, 0, 0, 0, 0x4F, 0, 0xC2, 0, 0xB0, 0}},
		"self-test log":      {ata.ReadLog(6, 1), Form16, []byte{0x85, 0x08, 0x0E, 0, 0xD5, 0, 1, 0, 6, 0, 0x4F, 0, 0xC2, 0, 0xB0, 0}},
		"start a short test": {ata.ExecuteSelfTest(ata.TestShort), Form12, []byte{0xA1, 0x06, 0, 0xD4, 0, 1, 0x4F, 0xC2, 0, 0xB0, 0, 0}},
	} {
		cdb := row.form.CDB(row.command)
		assert.Equal(t, row.want, cdb, name)
		back, form, ok := Decode(cdb)
		require.True(t, ok, name)
		assert.Equal(t, row.form, form)
		assert.Equal(t, row.command, back, name)
	}
}

func TestOtherTransfersAreNotUnderstood(t *testing.T) {
	for name, cdb := range map[string][]byte{
		"PIO out without a length": {0x85, 0x0A, 0x04, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0x30, 0},
		"DMA":                      {0x85, 0x0C, 0x0E, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0xC8, 0},
		"towards the device":       {0x85, 0x08, 0x06, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0xEC, 0},
		"cut short":                {0x85, 0x08, 0x0E},
	} {
		_, _, ok := Decode(cdb)
		assert.False(t, ok, name)
	}
}

func TestRegistersComeBackFromBothSenseFormats(t *testing.T) {
	descriptor := []byte{0x72, 1, 0, 0x1D, 0, 0, 0, 14, 9, 12, 0, 0, 0, 0, 0, 0, 0, 0xF4, 0, 0x2C, 0, 0x50}
	fixed := []byte{0x70, 0, 1, 0, 0x50, 0, 0, 10, 0, 0, 0x4F, 0xC2, 0, 0x1D, 0, 0, 0, 0}
	for name, row := range map[string]struct {
		sense []byte
		want  ata.Alarm
	}{"descriptor, raised": {descriptor, ata.AlarmRaised}, "fixed, not raised": {fixed, ata.AlarmNotRaised}, "fixed without registers": {
		[]byte{0x70, 0, 1, 0, 0, 0, 0, 10, 0, 0, 0, 0, 0, 0x1D, 0, 0, 0, 0}, ata.AlarmUnknown,
	}} {
		s, err := scsi.DecodeSense(row.sense)
		require.NoError(t, err)
		assert.Equal(t, row.want, ata.DecodeAlarm(Registers(s)), name)
	}
	for _, isFixed := range []bool{true, false} {
		s, err := scsi.DecodeSense(Sense(ata.AlarmRegisters(true), isFixed).Encode())
		require.NoError(t, err)
		assert.Equal(t, ata.AlarmRaised, ata.DecodeAlarm(Registers(s)))
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(Form16.CDB(ata.ReadIdentify()))
	f.Fuzz(func(_ *testing.T, cdb []byte) { c, _, _ := Decode(cdb); _ = c.Name() })
}
