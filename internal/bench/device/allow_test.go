package device

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

func TestOnlyListedCommandsReachADrive(t *testing.T) {
	for _, c := range []ata.Command{
		ata.ReadIdentify(), ata.ReadAttributes(), ata.ReadThresholds(), ata.ReturnStatus(), ata.ReadLog(ata.LogSelfTest, 1),
		ata.ReadLog(ata.LogSummaryError, 1), ata.ReadLog(ata.LogDeviceStatistics, 8), ata.ExecuteSelfTest(ata.TestShort), ata.ExecuteSelfTest(ata.TestAbort),
	} {
		for _, form := range []sat.Form{sat.Form16, sat.Form12} {
			assert.NoError(t, Allow(form.CDB(c)), "%s by %s", c.Name(), form)
		}
	}
	assert.NoError(t, Allow(scsi.InquiryCDB(36)))

	key := ata.ReturnStatus().LBA
	for name, cdb := range map[string][]byte{
		"nothing":                      {},
		"WRITE(10)":                    {0x2A, 0, 0, 0, 0, 0, 0, 0, 1, 0},
		"FORMAT UNIT":                  {0x04, 0, 0, 0, 0, 0},
		"SANITIZE":                     {0x48, 1, 0, 0, 0, 0, 0, 0, 0, 0},
		"a maker's own operation":      {0xC1, 0, 0, 0, 0, 0},
		"INQUIRY of a page":            {0x12, 1, 0x80, 0, 36, 0},
		"SECURITY ERASE UNIT":          sat.Form16.CDB(ata.Command{Op: 0xF4}),
		"DOWNLOAD MICROCODE":           sat.Form16.CDB(ata.Command{Op: 0x92, Transfer: ata.PIOIn, Count: 1}),
		"SMART off":                    sat.Form16.CDB(ata.Command{Op: ata.SMART, Feature: 0xD9, LBA: key}),
		"SMART WRITE LOG":              sat.Form16.CDB(ata.Command{Op: ata.SMART, Feature: 0xD6, LBA: key | 0xE0, Count: 1}),
		"a captive self-test":          sat.Form16.CDB(ata.ExecuteSelfTest(0x81)),
		"SMART without its key":        sat.Form16.CDB(ata.Command{Op: ata.SMART, Feature: ata.SMARTReadData, Transfer: ata.PIOIn, Count: 1}),
		"more of a log than it has":    sat.Form16.CDB(ata.ReadLog(ata.LogDeviceStatistics, 9)),
		"a log nobody reads":           sat.Form16.CDB(ata.ReadLog(0xA0, 1)),
		"IDENTIFY of many blocks":      sat.Form16.CDB(ata.Command{Op: ata.IdentifyDevice, Transfer: ata.PIOIn, Count: 9}),
		"pass-through that writes":     {0x85, 0x0A, 0x06, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0x30, 0},
		"pass-through of a wrong size": {0x85, 0x08, 0x0E},
	} {
		var refused *Refused
		assert.ErrorAs(t, Allow(cdb), &refused, name)
	}
}
