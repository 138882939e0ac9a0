package device

import (
	"fmt"
	"slices"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

// allowedLogs lists the SMART logs that may be read, with the most pages of each.
var allowedLogs = map[uint8]uint16{ata.LogDirectory: 1, ata.LogSummaryError: 1, ata.LogDeviceStatistics: 8, ata.LogSelfTest: 1}

// allowedATA lists the ATA commands that may reach a drive, with the features and low LBA bytes they may carry. None of
// them changes data, a setting, or the drive's own counters beyond those that count commands.
var allowedATA = map[ata.Opcode]func(ata.Command) bool{
	ata.IdentifyDevice: func(c ata.Command) bool { return c.Transfer == ata.PIOIn && c.Count == 1 },
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
		case ata.SMARTReturnStatus:
			return c.Transfer == ata.NonData
		case ata.SMARTExecuteOffline: // in the background only: a captive test would hold the drive
			return c.Transfer == ata.NonData && slices.Contains([]uint8{ata.TestShort, ata.TestExtended, ata.TestConveyance, ata.TestAbort}, uint8(c.LBA))
		}
		return false
	},
}

// Allow reports, as a *Refused, whether a CDB is not on the list of commands this product sends. Everything else is
// denied: there is no other way down to a drive.
func Allow(cdb []byte) error {
	if len(cdb) == 0 {
		return &Refused{cdb, "empty command"}
	}
	switch cdb[0] {
	case scsi.TestUnitReady:
		if len(cdb) == 6 {
			return nil
		}
	case scsi.Inquiry:
		if len(cdb) == 6 && cdb[1] == 0 && cdb[2] == 0 {
			return nil
		}
		return &Refused{cdb, "only standard INQUIRY data is read"}
	case scsi.ATAPass12, scsi.ATAPass16:
		c, _, ok := sat.Decode(cdb)
		if !ok {
			return &Refused{cdb, "an ATA pass-through that does not only read"}
		}
		allowed, known := allowedATA[c.Op]
		if known && allowed(c) {
			return nil
		}
		return &Refused{cdb, fmt.Sprintf("ATA %s is not on the allowlist", c.Name())}
	}
	return &Refused{cdb, fmt.Sprintf("SCSI operation %02Xh is not on the allowlist", cdb[0])}
}
