package device

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
)

// allowedLogs lists the SMART logs that may be read, with the most pages of each.
var allowedLogs = map[uint8]uint16{
	ata.LogDirectory:        1,
	ata.LogSummaryError:     1,
	ata.LogErrors:           51,
	ata.LogDeviceStatistics: 8,
	ata.LogSelfTest:         1,
	ata.LogSelective:        1,
	ata.LogSCTStatus:        1,
	ata.LogSCTData:          1,
}

// allowedGPL lists the general purpose logs that may be read, with the most pages of each.
var allowedGPL = map[uint8]uint16{
	ata.LogDirectory:        1,
	ata.LogErrorsExt:        64,
	ata.LogDeviceStatistics: 8,
	ata.LogSelfTestExt:      32,
	ata.LogPending:          64,
	ata.LogPHY:              1,
	ata.LogSCTStatus:        1,
	ata.LogSCTData:          1,
	ata.LogRanges:           1,
	ata.LogInternalStatus:   64,
	ata.LogIdentifyData:     16,
}

// questions are the pages that may be written to the SCT log: they ask, and change nothing.
var questions = [][]byte{ata.SCTTemperatureQuestion(), ata.SCTRecoveryQuestion(false), ata.SCTRecoveryQuestion(true)}

// mayCarry reports whether these bytes may be written to a log: one of the questions to SCT's, spans and nothing else to
// that of the selective self-test.
func mayCarry(log uint8, data []byte) bool {
	if log == ata.LogSelective {
		l, err := ata.DecodeSelective(data)
		return err == nil && len(l.Spans) > 0 && bytes.Equal(data, ata.SelectiveLog{Spans: l.Spans}.Encode())
	}
	return slices.ContainsFunc(questions, func(q []byte) bool { return bytes.Equal(q, data) })
}

// remadeATA makes the command of this product's that a command is, by its operation and by those fields of it that may differ; not ok:
// none is. None of them changes data, a setting, or the drive's own counters beyond those that count commands.
func remadeATA(c ata.Command) (made ata.Command, ok bool) {
	switch c.Op {
	case ata.IdentifyDevice:
		return ata.ReadIdentify(), true
	case ata.CheckPowerMode:
		return ata.PowerMode(), true
	case ata.SetFeatures:
		return ata.SpinUp(), true
	case ata.ReadNativeMaxExt:
		return ata.NativeMax(), true
	case ata.AccessibleMaxConfig: // others set it or freeze it
		return ata.AccessibleMax(), true
	case ata.ConfigurationSet: // identify, not restore or set
		return ata.ReadConfiguration(), true
	case ata.ReadLogExt: // feature 1 would reset PHY counters
		limit, listed := allowedGPL[uint8(c.LBA)]
		first, _ := c.LogPage()
		return ata.ReadLogGPLFrom(uint8(c.LBA), first, c.Count), listed && c.Count >= 1 && int(first)+int(c.Count) <= int(limit)
	case ata.TrustedReceive: // Level 0 discovery, which opens no session
		return ata.ReadTrusted(tcg.Protocol, tcg.Specific), true
	case ata.ElementStatus:
		return ata.ReadElements(c.Count), c.Count >= 1 && c.Count <= 8
	case ata.SMART:
		return remadeSMART(c)
	}
	return made, false
}

func remadeSMART(c ata.Command) (made ata.Command, ok bool) {
	what := uint8(c.LBA)
	switch c.Feature {
	case ata.SMARTReadData:
		return ata.ReadAttributes(), true
	case ata.SMARTReadThresholds:
		return ata.ReadThresholds(), true
	case ata.SMARTReadLog:
		limit, listed := allowedLogs[what]
		return ata.ReadLog(what, c.Count), listed && c.Count >= 1 && c.Count <= limit
	case ata.SMARTWriteLog: // mayCarry looks at what is written
		if what == ata.LogSelective {
			return ata.WriteSelective(), true
		}
		return ata.SCTCommand(), true
	case ata.SMARTReturnStatus:
		return ata.ReturnStatus(), true
	case ata.SMARTExecuteOffline: // in the background only: a captive test would hold the drive
		tests := []uint8{ata.TestShort, ata.TestExtended, ata.TestConveyance, ata.TestSelective, ata.TestAbort}
		return ata.ExecuteSelfTest(what), slices.Contains(tests, what)
	}
	return made, false
}

// What may be read of a SCSI drive.
var (
	vpdPages = []uint8{
		scsi.VPDPages, scsi.VPDSerial, scsi.VPDIdentification, scsi.VPDBlockLimits, scsi.VPDCharacteristics, scsi.VPDProvisioning,
		scsi.VPDRanges,
	}
	subpages  = []scsi.LogID{scsi.LogSubpages, scsi.LogPending, scsi.LogEnvironment, scsi.LogEnvironLimits}
	selfTests = []uint8{scsi.TestBackgroundShort, scsi.TestBackgroundExtended, scsi.TestAbortBackground}
)

// remadeSCSI is remadeATA for SCSI commands, of which any byte may be missing: nil when it is none of this product's.
func remadeSCSI(cdb []byte) []byte {
	var b [16]byte
	copy(b[:], cdb)
	half, word := binary.BigEndian.Uint16, binary.BigEndian.Uint32
	switch b[0] {
	case scsi.TestUnitReady:
		return scsi.TestUnitReadyCDB()
	case scsi.RequestSense:
		return scsi.RequestSenseCDB()
	case scsi.Inquiry:
		if b[1] == 0 {
			return scsi.InquiryCDB(half(b[3:]))
		} else if slices.Contains(vpdPages, b[2]) {
			return scsi.VPDCDB(b[2], half(b[3:]))
		}
	case scsi.StartStopUnit: // start, nothing else
		return scsi.StartCDB()
	case scsi.SendDiagnostic: // a background self-test or its end; no pages, no foreground
		if code := b[1] >> 5; slices.Contains(selfTests, code) {
			return scsi.SelfTestCDB(code)
		}
	case scsi.ModeSense10:
		return scsi.ModeSenseCDB(scsi.ModeInformational, half(b[7:]))
	case scsi.LogSense: // nothing is saved; of subpages those that are decoded
		if l := (scsi.LogID{Page: b[2] & 0x3F, Subpage: b[3]}); l.Subpage == 0 || slices.Contains(subpages, l) {
			return scsi.LogSenseCDB(l, half(b[7:]))
		}
	case scsi.ReadDefectData12: // the grown list
		return scsi.DefectCDB(b[1]&7, word(b[6:]))
	case scsi.ReadDefectData10:
		return scsi.DefectCDB10(b[2]&7, half(b[7:]))
	case scsi.ReadCapacity10:
		return scsi.CapacityCDB10()
	case scsi.ServiceActionIn:
		if made := scsi.CapacityCDB(); b[1] == made[1] {
			return made
		}
		return scsi.ElementsCDB(word(b[10:]))
	case scsi.SecurityIn: // Level 0 discovery, which opens no session
		return scsi.SecurityInCDB(tcg.Protocol, tcg.Specific, tcg.Size)
	}
	return nil
}

// Allow reports, as a *Refused, whether a command is not on the list of those this product sends. It is when making it again from what
// may differ gives the same bytes: nothing is let through that differs anywhere else. There is no other way down to a drive.
func Allow(c Command) error {
	cdb := c.CDB
	refuse := func(reason string) error { return &Refused{fmt.Sprintf("command % X", cdb), reason} }
	if len(cdb) == 0 {
		return refuse("empty command")
	}
	if cdb[0] == scsi.ATAPass12 || cdb[0] == scsi.ATAPass16 {
		command, form, ok := sat.Decode(cdb)
		if !ok {
			return refuse("an ATA pass-through of a kind this product never makes")
		}
		made, known := remadeATA(command)
		switch {
		case !known || form == sat.Form12 && made.Ext || !bytes.Equal(form.CDB(made), cdb):
			return refuse(fmt.Sprintf("ATA %s is not on the allowlist", command.Name()))
		case command.Transfer == ata.PIOOut && !mayCarry(uint8(command.LBA), c.DataOut):
			return refuse("what it carries is neither a question of SCT nor the spans of a self-test")
		case command.Transfer != ata.PIOOut && len(c.DataOut) > 0:
			return refuse("it carries data to the drive")
		}
		return nil
	}
	if len(c.DataOut) > 0 {
		return refuse("it carries data to the drive")
	}
	if made := remadeSCSI(cdb); made != nil && bytes.Equal(made, cdb) {
		return nil
	}
	return refuse(fmt.Sprintf("SCSI operation %02Xh in this form is not on the allowlist", cdb[0]))
}

// allowedNVMeLogs lists the NVMe logs that may be read, with the most bytes of each.
var allowedNVMeLogs = map[uint8]int{
	nvme.LogErrors:     256 * nvme.ErrorSize,
	nvme.LogHealth:     nvme.HealthSize,
	nvme.LogFirmware:   nvme.FirmwareSize,
	nvme.LogEffects:    nvme.EffectsSize,
	nvme.LogSelfTest:   nvme.SelfTestSize,
	nvme.LogPersistent: 64 << 10,
	nvme.LogDatacenter: nvme.DatacenterSize,
	nvme.LogSupported:  nvme.SupportedSize,
	nvme.LogTelemetry:  64 << 10,
	nvme.LogEndurance:  nvme.EnduranceSize,
	nvme.LogSanitize:   nvme.SanitizeSize,
}

// remadeAdmin is remadeATA for NVMe admin commands.
func remadeAdmin(c nvme.Command) (made nvme.Command, ok bool) {
	switch c.Op {
	case nvme.IdentifyOp:
		for _, made := range []nvme.Command{
			nvme.IdentifyController(), nvme.ListNamespaces(), nvme.IdentifyNamespace(c.NSID), nvme.NameNamespace(c.NSID),
		} {
			if made == c {
				return made, true
			}
		}
	case nvme.GetLogPage: // pending events are kept
		limit, listed := allowedNVMeLogs[c.LogID()]
		ok := listed && c.DataIn >= 4 && c.DataIn%4 == 0 && c.DataIn <= limit
		switch {
		case c.LogID() == nvme.LogEndurance:
			return nvme.ReadEndurance(c.LogSpecific()), ok
		case c == nvme.PersistentHeader() || c == nvme.PersistentDone():
			return c, true
		}
		return nvme.ReadLog(c.LogID(), c.DataIn), ok
	case nvme.SecurityRecv: // Level 0 discovery, which opens no session
		return nvme.ReadSecurity(tcg.Protocol, tcg.Specific, tcg.Size), true
	case nvme.DeviceSelfTest:
		code := uint8(c.CDW10)
		return nvme.StartSelfTest(code), slices.Contains([]uint8{nvme.TestShort, nvme.TestExtended, nvme.TestAbort}, code)
	}
	return made, false
}

// AllowAdmin is Allow for NVMe admin commands.
func AllowAdmin(c nvme.Command) error {
	if made, ok := remadeAdmin(c); !ok || made != c {
		return &Refused{fmt.Sprintf("NVMe %s", c.Name()), "it is not on the allowlist in this form"}
	}
	return nil
}
