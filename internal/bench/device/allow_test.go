package device

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
)

func TestOnlyListedCommandsReachADrive(t *testing.T) {
	for _, c := range []ata.Command{
		ata.ReadIdentify(), ata.ReadAttributes(), ata.ReadThresholds(), ata.ReturnStatus(), ata.ReadLog(ata.LogSelfTest, 1),
		ata.ReadLog(ata.LogSummaryError, 1), ata.ReadLog(ata.LogDeviceStatistics, 8), ata.ExecuteSelfTest(ata.TestShort),
		ata.ExecuteSelfTest(ata.TestAbort),
		ata.PowerMode(), ata.SpinUp(), ata.ReadConfiguration(),
	} {
		for _, form := range []sat.Form{sat.Form16, sat.Form12} {
			assert.NoError(t, Allow(Command{CDB: form.CDB(c)}), "%s by %s", c.Name(), form)
		}
	}
	for _, c := range []ata.Command{
		ata.ReadLogGPL(ata.LogPHY, 1), ata.ReadLogGPL(ata.LogErrorsExt, 64), ata.ReadLogGPLFrom(ata.LogErrorsExt, 48, 16),
		ata.NativeMax(), ata.AccessibleMax(), ata.ReadLogGPL(ata.LogRanges, 1),
		ata.ReadTrusted(tcg.Protocol, tcg.Specific), ata.ReadElements(4), ata.ReadLogGPL(ata.LogInternalStatus, 64),
		ata.ReadLogGPL(ata.LogIdentifyData, 16),
	} {
		assert.NoError(t, Allow(Command{CDB: sat.Form16.CDB(c)}), c.Name())
	}
	for _, cdb := range [][]byte{
		scsi.InquiryCDB(36), scsi.VPDCDB(scsi.VPDSerial, 252), scsi.LogSenseCDB(scsi.LogTemperature, 512),
		scsi.ModeSenseCDB(scsi.ModeInformational, 64), scsi.CapacityCDB(),
		scsi.DefectCDB(5, 8), scsi.SelfTestCDB(scsi.TestBackgroundShort), scsi.SelfTestCDB(scsi.TestAbortBackground),
		scsi.RequestSenseCDB(), scsi.StartCDB(),
		scsi.DefectCDB10(5, 4), scsi.CapacityCDB10(), scsi.LogSenseCDB(scsi.LogSubpages, 8192),
		scsi.LogSenseCDB(scsi.LogPending, 8192), scsi.LogSenseCDB(scsi.LogEnvironment, 512),
		scsi.LogSenseCDB(scsi.LogEnvironLimits, 512), scsi.VPDCDB(scsi.VPDRanges, 252), scsi.ElementsCDB(2048),
		scsi.SecurityInCDB(tcg.Protocol, tcg.Specific, tcg.Size),
	} {
		assert.NoError(t, Allow(Command{CDB: cdb}), scsi.Name(cdb))
	}
	question := sat.Form16.CDB(ata.SCTCommand())
	assert.NoError(t, Allow(Command{CDB: question, DataOut: ata.SCTTemperatureQuestion()}))

	key := ata.ReturnStatus().LBA
	for name, cdb := range map[string][]byte{
		"nothing":                               {},
		"WRITE(10)":                             {0x2A, 0, 0, 0, 0, 0, 0, 0, 1, 0},
		"FORMAT UNIT":                           {0x04, 0, 0, 0, 0, 0},
		"SANITIZE":                              {0x48, 1, 0, 0, 0, 0, 0, 0, 0, 0},
		"a maker's own operation":               {0xC1, 0, 0, 0, 0, 0},
		"INQUIRY of a maker's page":             {0x12, 1, 0xC0, 0, 36, 0},
		"a foreground self-test":                {0x1D, 5 << 5, 0, 0, 0, 0},
		"SEND DIAGNOSTIC with a page":           {0x1D, 1 << 5, 0, 0, 8, 0},
		"START STOP UNIT that stops":            {0x1B, 0, 0, 0, 0, 0},
		"START STOP UNIT that ejects":           {0x1B, 0, 0, 0, 2, 0},
		"LOG SENSE that saves":                  {0x4D, 1, 0x42, 0, 0, 0, 0, 2, 0, 0},
		"LOG SENSE of a maker's subpage":        {0x4D, 0, 0x4D, 0x80, 0, 0, 0, 2, 0, 0},
		"SECURITY PROTOCOL OUT":                 {0xB5, 1, 0, 1, 0, 0, 0, 0, 2, 0, 0, 0},
		"SECURITY PROTOCOL IN of a session":     scsi.SecurityInCDB(1, 0x07FE, 512),
		"SECURITY PROTOCOL IN of ATA passwords": scsi.SecurityInCDB(0xEF, 0, 512),
		"REMOVE ELEMENT AND TRUNCATE":           {0x9E, 0x18, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0},
		"physical elements of one kind":         {0x9E, 0x17, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 2, 0, 0x41, 0},
		"the primary defect list, 10 bytes":     {0x37, 0, 0x10 | 5, 0, 0, 0, 0, 0, 4, 0},
		"READ CAPACITY(10) with an address":     {0x25, 0, 0, 0, 0, 9, 0, 0, 1, 0},
		"TRUSTED SEND": sat.Form16.CDB(ata.Command{
			Op:       0x5E,
			Feature:  1,
			Count:    1,
			LBA:      0x100,
			Transfer: ata.PIOOut,
		}),
		"TRUSTED RECEIVE of a session":        sat.Form16.CDB(ata.ReadTrusted(1, 0x07FE)),
		"TRUSTED RECEIVE of another protocol": sat.Form16.CDB(ata.ReadTrusted(2, 1)),
		"REMOVE ELEMENT AND TRUNCATE, ATA":    sat.Form16.CDB(ata.Command{Op: 0x7C, Ext: true}),
		"elements from another on": sat.Form16.CDB(ata.Command{
			Op:       ata.ElementStatus,
			LBA:      1,
			Count:    1,
			Transfer: ata.DMAIn,
			Ext:      true,
		}),
		"READ DMA":                      sat.Form16.CDB(ata.Command{Op: 0xC8, Count: 1, Transfer: ata.DMAIn}),
		"a log's page beyond its bound": sat.Form16.CDB(ata.ReadLogGPLFrom(ata.LogErrorsExt, 60, 8)),
		"a log with a reserved address": sat.Form16.CDB(ata.Command{
			Op:       ata.ReadLogExt,
			LBA:      1<<16 | 3,
			Count:    1,
			Transfer: ata.PIOIn,
			Ext:      true,
		}),
		"MODE SENSE of another page": {0x5A, 8, 0x08, 0, 0, 0, 0, 0, 64, 0},
		"MODE SELECT":                {0x55, 0x10, 0, 0, 0, 0, 0, 0, 12, 0},
		"LOG SELECT":                 {0x4C, 2, 0, 0, 0, 0, 0, 0, 0, 0},
		"SET MAX ADDRESS EXT":        sat.Form16.CDB(ata.Command{Op: 0x37, Ext: true}),
		"SET ACCESSIBLE MAX":         sat.Form16.CDB(ata.Command{Op: ata.AccessibleMaxConfig, Feature: 1, Ext: true}),
		"DCO SET": sat.Form16.CDB(ata.Command{
			Op:       ata.ConfigurationSet,
			Feature:  0xC3,
			Transfer: ata.PIOOut,
			Count:    1,
		}),
		"PHY counters with a reset": sat.Form16.CDB(ata.Command{
			Op:       ata.ReadLogExt,
			Feature:  1,
			LBA:      0x11,
			Count:    1,
			Transfer: ata.PIOIn,
			Ext:      true,
		}),
		"SET FEATURES of another kind": sat.Form16.CDB(ata.Command{Op: ata.SetFeatures, Feature: 0x02}),
		"SCT without its question":     question,
		"SECURITY ERASE UNIT":          sat.Form16.CDB(ata.Command{Op: 0xF4}),
		"DOWNLOAD MICROCODE":           sat.Form16.CDB(ata.Command{Op: 0x92, Transfer: ata.PIOIn, Count: 1}),
		"SMART off":                    sat.Form16.CDB(ata.Command{Op: ata.SMART, Feature: 0xD9, LBA: key}),
		"SMART WRITE LOG":              sat.Form16.CDB(ata.Command{Op: ata.SMART, Feature: 0xD6, LBA: key | 0xE0, Count: 1}),
		"a captive self-test":          sat.Form16.CDB(ata.ExecuteSelfTest(0x81)),
		"SMART without its key": sat.Form16.CDB(ata.Command{
			Op:       ata.SMART,
			Feature:  ata.SMARTReadData,
			Transfer: ata.PIOIn,
			Count:    1,
		}),
		"more of a log than it has":    sat.Form16.CDB(ata.ReadLog(ata.LogDeviceStatistics, 9)),
		"a log nobody reads":           sat.Form16.CDB(ata.ReadLog(0xA0, 1)),
		"IDENTIFY of many blocks":      sat.Form16.CDB(ata.Command{Op: ata.IdentifyDevice, Transfer: ata.PIOIn, Count: 9}),
		"pass-through that writes":     {0x85, 0x0A, 0x06, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0x30, 0},
		"pass-through of a wrong size": {0x85, 0x08, 0x0E},
	} {
		var refused *Refused
		assert.ErrorAs(t, Allow(Command{CDB: cdb}), &refused, name)
	}

	spans := sat.Form16.CDB(ata.WriteSelective())
	assert.NoError(t, Allow(Command{CDB: spans, DataOut: ata.SelectiveLog{Spans: []ata.Span{{First: 10, Last: 20}}}.Encode()}))
	for name, data := range map[string][]byte{
		"no spans": ata.SelectiveLog{}.Encode(), "a running test's state": ata.SelectiveLog{
			Spans: []ata.Span{{First: 1, Last: 2}}, Current: 7,
		}.Encode(), "something else": make([]byte, 512), "too little": {1},
	} {
		assert.Error(t, Allow(Command{CDB: spans, DataOut: data}), name)
	}
	feature := ata.SCTTemperatureQuestion()
	feature[0] = 4 // SCT FEATURE CONTROL would change a setting
	var refused *Refused
	assert.ErrorAs(t, Allow(Command{CDB: question, DataOut: feature}), &refused)
	assert.ErrorAs(t, Allow(Command{CDB: scsi.InquiryCDB(36), DataOut: []byte{1}}), &refused, "a question with data in its hands")
}

func TestOnlyListedAdminCommandsReachADrive(t *testing.T) {
	for _, c := range []nvme.Command{
		nvme.IdentifyController(), nvme.ListNamespaces(), nvme.IdentifyNamespace(1), nvme.ReadLog(nvme.LogHealth, nvme.HealthSize),
		nvme.ReadLog(nvme.LogDatacenter, 512),
		nvme.PersistentHeader(), nvme.PersistentEvents(64 << 10), nvme.PersistentDone(), nvme.StartSelfTest(nvme.TestShort),
		nvme.StartSelfTest(nvme.TestAbort),
		nvme.NameNamespace(1), nvme.ReadLog(nvme.LogSupported, nvme.SupportedSize), nvme.ReadLog(nvme.LogTelemetry, 64<<10),
		nvme.ReadEndurance(2), nvme.ReadLog(nvme.LogSanitize, nvme.SanitizeSize),
		nvme.ReadSecurity(tcg.Protocol, tcg.Specific, tcg.Size),
	} {
		assert.NoError(t, AllowAdmin(c), c.Name())
	}
	forgetful := nvme.ReadLog(nvme.LogErrors, 64)
	forgetful.CDW10 &^= 1 << 15
	creates := nvme.ReadLog(nvme.LogTelemetry, 512)
	creates.CDW10 |= 1 << 8
	specific := nvme.ReadLog(nvme.LogHealth, 512)
	specific.CDW11 |= 1 << 16
	longer := nvme.ReadLog(nvme.LogHealth, 512)
	longer.DataIn = 4096
	for name, c := range map[string]nvme.Command{
		"Format NVM": {Op: 0x80}, "Sanitize": {Op: 0x84}, "Firmware Commit": {Op: 0x10}, "Set Features": {Op: 0x09},
		"Namespace Management": {Op: 0x0D}, "a maker's own": {Op: 0xC1},
		"Security Send": {Op: 0x81, CDW10: 1<<24 | 1<<8}, "Security Receive of a session": nvme.ReadSecurity(1, 0x07FE, 512),
		"telemetry that is created": creates, "a log of another identifier": specific,
		"host telemetry": nvme.ReadLog(0x07, 512), "Identify of another kind": {Op: nvme.IdentifyOp, CDW10: 4, DataIn: nvme.IdentifySize},
		"a log that drops pending events": forgetful, "a log nobody reads": nvme.ReadLog(0xCA, 512), "more than was asked for": longer,
		"a self-test of the maker's": nvme.StartSelfTest(0xE),
	} {
		var refused *Refused
		assert.ErrorAs(t, AllowAdmin(c), &refused, name)
	}
}
