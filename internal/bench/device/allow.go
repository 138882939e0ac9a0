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

// allowedATA lists the ATA commands that may reach a drive, with the features, counts and addresses they may carry. None
// of them changes data, a setting, or the drive's own counters beyond those that count commands.
var allowedATA = map[ata.Opcode]func(ata.Command) bool{
	ata.IdentifyDevice: func(c ata.Command) bool { return c.Transfer == ata.PIOIn && c.Count == 1 },
	ata.CheckPowerMode: func(c ata.Command) bool { return c.Transfer == ata.NonData },
	ata.SetFeatures:    func(c ata.Command) bool { return c.Transfer == ata.NonData && c.Feature == 0x07 }, // spin up, nothing else
	ata.ReadNativeMaxExt: func(c ata.Command) bool {
		return c.Transfer == ata.NonData && c.LBA == 0 && c.Count == 0
	},
	ata.AccessibleMaxConfig: func(c ata.Command) bool {
		return c.Transfer == ata.NonData && c.Feature == 0 && c.LBA == 0 && c.Count == 0 // others set it or freeze it
	},
	ata.ConfigurationSet: func(c ata.Command) bool { return c.Transfer == ata.PIOIn && c.Feature == 0xC2 }, // identify, not restore or set
	ata.ReadLogExt: func(c ata.Command) bool {
		limit, listed := allowedGPL[uint8(c.LBA)]
		first, ok := c.LogPage()
		return c.Transfer == ata.PIOIn && c.Feature == 0 && ok && listed && c.Count >= 1 &&
			int(first)+int(c.Count) <= int(limit) // feature 1 would reset PHY counters
	},
	ata.TrustedReceive: func(c ata.Command) bool { // Level 0 discovery, which opens no session
		return c.Transfer == ata.PIOIn && c == ata.ReadTrusted(tcg.Protocol, tcg.Specific)
	},
	ata.ElementStatus: func(c ata.Command) bool {
		return c.Transfer == ata.DMAIn && c.Feature == 0 && c.LBA == 0 && c.Count >= 1 && c.Count <= 8
	},
	ata.SMART: func(c ata.Command) bool {
		if c.LBA>>8 != 0xC24F {
			return false
		}
		switch c.Feature {
		case ata.SMARTReadData, ata.SMARTReadThresholds:
			return c.Transfer == ata.PIOIn && c.Count == 1
		case ata.SMARTReadLog:
			limit, listed := allowedLogs[uint8(c.LBA)]
			return c.Transfer == ata.PIOIn && listed && c.Count >= 1 && c.Count <= limit
		case ata.SMARTWriteLog:
			return c.Transfer == ata.PIOOut && (uint8(c.LBA) == ata.LogSCTStatus || uint8(c.LBA) == ata.LogSelective) && c.Count == 1
		case ata.SMARTReturnStatus:
			return c.Transfer == ata.NonData
		case ata.SMARTExecuteOffline: // in the background only: a captive test would hold the drive
			return c.Transfer == ata.NonData &&
				slices.Contains(
					[]uint8{ata.TestShort, ata.TestExtended, ata.TestConveyance, ata.TestSelective, ata.TestAbort}, uint8(c.LBA),
				)
		}
		return false
	},
}

// subpages are the log pages with a subpage that are read.
var subpages = []scsi.LogID{scsi.LogSubpages, scsi.LogPending, scsi.LogEnvironment, scsi.LogEnvironLimits}

// allowedSCSI lists the SCSI commands that may reach a drive, by operation code.
var allowedSCSI = map[byte]func(cdb []byte) bool{
	scsi.TestUnitReady: func(cdb []byte) bool { return len(cdb) == 6 },
	scsi.RequestSense:  func(cdb []byte) bool { return len(cdb) == 6 },
	scsi.Inquiry: func(cdb []byte) bool {
		return len(cdb) == 6 && (cdb[1] == 0 && cdb[2] == 0 || cdb[1] == 1 && slices.Contains([]uint8{
			scsi.VPDPages, scsi.VPDSerial, scsi.VPDIdentification, scsi.VPDBlockLimits, scsi.VPDCharacteristics, scsi.VPDProvisioning,
			scsi.VPDRanges,
		}, cdb[2]))
	},
	scsi.StartStopUnit: func(cdb []byte) bool { return len(cdb) == 6 && cdb[4] == 1 && cdb[3] == 0 }, // start, nothing else
	scsi.SendDiagnostic: func(cdb []byte) bool { // a background self-test or its end; no pages, no foreground
		return len(cdb) == 6 && cdb[1]&0x1F == 0 && cdb[3] == 0 && cdb[4] == 0 &&
			slices.Contains([]uint8{scsi.TestBackgroundShort, scsi.TestBackgroundExtended, scsi.TestAbortBackground}, cdb[1]>>5)
	},
	scsi.ModeSense10: func(cdb []byte) bool { return len(cdb) == 10 && cdb[2] == scsi.ModeInformational },
	scsi.LogSense: func(cdb []byte) bool { // SP clear: nothing is saved; of subpages those that are decoded
		return len(cdb) == 10 && cdb[1] == 0 && cdb[2]>>6 == 1 &&
			(cdb[3] == 0 || slices.Contains(subpages, scsi.LogID{Page: cdb[2] & 0x3F, Subpage: cdb[3]}))
	},
	scsi.ReadDefectData12: func(cdb []byte) bool { return len(cdb) == 12 && cdb[1]&0x18 == 0x08 },
	scsi.ReadDefectData10: func(cdb []byte) bool { return len(cdb) == 10 && cdb[1] == 0 && cdb[2]&0x18 == 0x08 },
	scsi.ReadCapacity10:   func(cdb []byte) bool { return bytes.Equal(cdb, scsi.CapacityCDB10()) },
	scsi.ServiceActionIn: func(cdb []byte) bool {
		return len(cdb) == 16 && (cdb[1] == 0x10 || bytes.Equal(cdb, scsi.ElementsCDB(binary.BigEndian.Uint32(cdb[10:14]))))
	},
	scsi.SecurityIn: func(cdb []byte) bool { // Level 0 discovery, which opens no session
		return bytes.Equal(cdb, scsi.SecurityInCDB(tcg.Protocol, tcg.Specific, tcg.Size))
	},
}

// Allow reports, as a *Refused, whether a command is not on the list of those this product sends. Everything else is
// denied: there is no other way down to a drive.
func Allow(c Command) error {
	cdb := c.CDB
	refuse := func(reason string) error { return &Refused{fmt.Sprintf("command % X", cdb), reason} }
	if len(cdb) == 0 {
		return refuse("empty command")
	}
	if cdb[0] == scsi.ATAPass12 || cdb[0] == scsi.ATAPass16 {
		command, _, ok := sat.Decode(cdb)
		if !ok {
			return refuse("an ATA pass-through of a kind this product never makes")
		}
		allowed, known := allowedATA[command.Op]
		switch {
		case !known || !allowed(command):
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
	if allowed, known := allowedSCSI[cdb[0]]; known && allowed(cdb) {
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

// AllowAdmin is Allow for NVMe admin commands.
func AllowAdmin(c nvme.Command) error {
	ok := false
	switch c.Op {
	case nvme.IdentifyOp:
		ok = c.DataIn == nvme.IdentifySize && c.CDW10 <= 3 && c.CDW11 == 0
	case nvme.GetLogPage:
		limit, listed := allowedNVMeLogs[c.LogID()]
		ok = listed && (c.LogSpecific() == 0 || c.LogID() == nvme.LogEndurance) && c.CDW10>>10&0x1F == 0 &&
			(c.LogAction() == 0 || c.LogID() == nvme.LogPersistent) &&
			c.Retains() &&
			c.LogLength() <= limit &&
			c.LogLength() == c.DataIn &&
			c.CDW12 == 0 &&
			c.CDW13 == 0 &&
			c.CDW14 == 0
	case nvme.SecurityRecv: // Level 0 discovery, which opens no session
		ok = c == nvme.ReadSecurity(tcg.Protocol, tcg.Specific, tcg.Size)
	case nvme.DeviceSelfTest:
		ok = c.DataIn == 0 && slices.Contains([]uint32{uint32(nvme.TestShort), uint32(nvme.TestExtended), uint32(nvme.TestAbort)}, c.CDW10)
	}
	if !ok {
		return &Refused{fmt.Sprintf("NVMe %s", c.Name()), "it is not on the allowlist in this form"}
	}
	return nil
}
