package ata

import (
	"fmt"
)

// Opcode is an ATA command code (ACS-4 table 236).
type Opcode uint8

// The command codes Hylostat sends or has to name.
const (
	IdentifyDevice      Opcode = 0xEC
	SMART               Opcode = 0xB0
	ReadLogExt          Opcode = 0x2F
	CheckPowerMode      Opcode = 0xE5
	ReadNativeMaxExt    Opcode = 0x27 // host protected area (ATA8-ACS 7.32)
	AccessibleMaxConfig Opcode = 0x78 // accessible max address (ACS-4 7.1)
	SetFeatures         Opcode = 0xEF // only to tell a drive to spin up
	ConfigurationSet    Opcode = 0xB1 // device configuration overlay (ATA8-ACS 7.10)
	TrustedReceive      Opcode = 0x5C
	ElementStatus       Opcode = 0x12 // GET PHYSICAL ELEMENT STATUS
)

func (o Opcode) String() string {
	if name, ok := opcodeNames[o]; ok {
		return name
	}
	return fmt.Sprintf("command %02Xh", uint8(o))
}

// opcodeNames gives the standard's names, also of commands that only ever appear in a drive's error log.
var opcodeNames = map[Opcode]string{
	0x20:                "READ SECTORS",
	0x24:                "READ SECTORS EXT",
	0x25:                "READ DMA EXT",
	ReadLogExt:          "READ LOG EXT",
	0x30:                "WRITE SECTORS",
	0x35:                "WRITE DMA EXT",
	0x40:                "READ VERIFY SECTORS",
	0x42:                "READ VERIFY SECTORS EXT",
	0x60:                "READ FPDMA QUEUED",
	0x61:                "WRITE FPDMA QUEUED",
	0xC8:                "READ DMA",
	0xCA:                "WRITE DMA",
	0xE0:                "STANDBY IMMEDIATE",
	0xE7:                "FLUSH CACHE",
	0xEA:                "FLUSH CACHE EXT",
	SetFeatures:         "SET FEATURES",
	CheckPowerMode:      "CHECK POWER MODE",
	ReadNativeMaxExt:    "READ NATIVE MAX ADDRESS EXT",
	AccessibleMaxConfig: "GET NATIVE MAX ADDRESS EXT",
	ConfigurationSet:    "DEVICE CONFIGURATION IDENTIFY",
	0x3F:                "WRITE LOG EXT",
	0x06:                "DATA SET MANAGEMENT",
	0x39:                "WRITE MULTIPLE EXT",
	0x29:                "READ MULTIPLE EXT",
	0xC4:                "READ MULTIPLE",
	0xC5:                "WRITE MULTIPLE",
	0x45:                "WRITE UNCORRECTABLE EXT",
	0x3D:                "WRITE DMA FUA EXT",
	0x00:                "no command",
	IdentifyDevice:      "IDENTIFY DEVICE",
	SMART:               "SMART",
	TrustedReceive:      "TRUSTED RECEIVE",
	ElementStatus:       "GET PHYSICAL ELEMENT STATUS",
}

// Feature codes of the SMART command (ACS-4 table 123 and, for data and thresholds, ATA-3 8.41).
const (
	SMARTReadData       uint16 = 0xD0
	SMARTReadThresholds uint16 = 0xD1
	SMARTExecuteOffline uint16 = 0xD4
	SMARTReadLog        uint16 = 0xD5
	SMARTWriteLog       uint16 = 0xD6
	SMARTReturnStatus   uint16 = 0xDA
)

// Log addresses (ACS-4 table A.2).
const (
	LogDirectory        uint8 = 0x00
	LogSummaryError     uint8 = 0x01
	LogErrors           uint8 = 0x02 // comprehensive, 28-bit addresses
	LogErrorsExt        uint8 = 0x03 // comprehensive, 48-bit addresses
	LogDeviceStatistics uint8 = 0x04
	LogSelfTest         uint8 = 0x06
	LogSelfTestExt      uint8 = 0x07
	LogSelective        uint8 = 0x09
	LogPending          uint8 = 0x0C
	LogPHY              uint8 = 0x11
	LogInternalStatus   uint8 = 0x24 // current device internal status data: for the maker
	LogIdentifyData     uint8 = 0x30
	LogRanges           uint8 = 0x47 // concurrent positioning ranges
	LogSCTStatus        uint8 = 0xE0
	LogSCTData          uint8 = 0xE1
)

// Self-test subcommands of SMART EXECUTE OFF-LINE IMMEDIATE, in LBA 7:0 (ACS-4 table 124). Captive modes are not here:
// they would take the drive away from everybody else.
const (
	TestShort      uint8 = 0x01
	TestExtended   uint8 = 0x02
	TestConveyance uint8 = 0x03
	TestSelective  uint8 = 0x04
	TestAbort      uint8 = 0x7F
)

// smartLBA is what LBA 23:8 must hold for every SMART command (ACS-4 7.43): the key C2h 4Fh.
const smartLBA uint64 = 0xC24F00

// Transfer is the direction in which a command moves data.
type Transfer uint8

// The directions.
const (
	NonData Transfer = iota
	PIOIn
	PIOOut
	DMAIn // only of ElementStatus, which has no other form
)

// Command is one ATA command as its registers.
type Command struct {
	Op       Opcode
	Feature  uint16
	Count    uint16
	LBA      uint64
	Device   uint8
	Transfer Transfer
	Blocks   uint16 // 512-byte blocks that come back, 0 for NonData
	Ext      bool   // a 48-bit command; the 12-byte pass-through cannot carry it
	Status   bool   // the returned registers are the answer
}

// Name is the standard's name of the command, with its feature and log.
func (c Command) Name() string {
	if c.Op == ReadLogExt {
		return fmt.Sprintf("READ LOG EXT %02Xh", uint8(c.LBA))
	}
	if c.Op != SMART {
		return c.Op.String()
	}
	switch c.Feature {
	case SMARTReadData:
		return "SMART READ DATA"
	case SMARTReadThresholds:
		return "SMART READ ATTRIBUTE THRESHOLDS"
	case SMARTReadLog:
		return fmt.Sprintf("SMART READ LOG %02Xh", uint8(c.LBA))
	case SMARTWriteLog:
		return fmt.Sprintf("SMART WRITE LOG %02Xh", uint8(c.LBA))
	case SMARTReturnStatus:
		return "SMART RETURN STATUS"
	case SMARTExecuteOffline:
		return fmt.Sprintf("SMART EXECUTE OFF-LINE IMMEDIATE %02Xh", uint8(c.LBA))
	}
	return fmt.Sprintf("SMART %02Xh", c.Feature)
}

// ReadIdentify asks for IDENTIFY DEVICE (ACS-4 7.13).
func ReadIdentify() Command { return Command{Op: IdentifyDevice, Count: 1, Transfer: PIOIn, Blocks: 1} }

// ReadAttributes asks for the attribute table (ACS-4 7.43.5).
func ReadAttributes() Command {
	return Command{Op: SMART, Feature: SMARTReadData, Count: 1, LBA: smartLBA, Transfer: PIOIn, Blocks: 1}
}

// ReadThresholds asks for the threshold table (ATA-3 8.41.4).
func ReadThresholds() Command {
	return Command{Op: SMART, Feature: SMARTReadThresholds, Count: 1, LBA: smartLBA, Transfer: PIOIn, Blocks: 1}
}

// ReadLog asks for the first pages of a SMART log (ACS-4 7.43.6).
func ReadLog(address uint8, pages uint16) Command {
	return Command{Op: SMART, Feature: SMARTReadLog, Count: pages, LBA: smartLBA | uint64(address), Transfer: PIOIn, Blocks: pages}
}

// ReadLogGPL asks for the first pages of a general purpose log (ACS-4 7.30). Feature 0 reads the PHY counters without resetting them.
func ReadLogGPL(address uint8, pages uint16) Command { return ReadLogGPLFrom(address, 0, pages) }

// ReadLogGPLFrom asks for pages of a general purpose log from one on: its number stands in LBA 15:8 and 39:32 (ACS-4 table 95).
func ReadLogGPLFrom(address uint8, first, pages uint16) Command {
	lba := uint64(address) | uint64(first&0xFF)<<8 | uint64(first>>8)<<32
	return Command{Op: ReadLogExt, Count: pages, LBA: lba, Transfer: PIOIn, Blocks: pages, Ext: true}
}

// LogPage is the first page a command of ReadLogGPLFrom asks for; ok is false when its address holds anything else.
func (c Command) LogPage() (first uint16, ok bool) {
	first = uint16(c.LBA>>8&0xFF | c.LBA>>32&0xFF<<8)
	return first, c.LBA&^0xFF_0000_FFFF == 0
}

// ReadTrusted asks for the bytes of a security protocol: its number is the feature, the length stands in COUNT and LBA 7:0, in 512-byte
// blocks, what is asked of the protocol in LBA 23:8 (ACS-4 7.54).
func ReadTrusted(protocol uint8, specific uint16) Command {
	return Command{Op: TrustedReceive, Feature: uint16(protocol), Count: 1, LBA: uint64(specific) << 8, Transfer: PIOIn, Blocks: 1}
}

// ReadElements asks for the status of all physical elements, as far as so many pages hold it (ACS-5 7.12).
func ReadElements(pages uint16) Command {
	return Command{Op: ElementStatus, Count: pages, Transfer: DMAIn, Blocks: pages, Ext: true}
}

// PowerMode asks whether the drive sleeps, without waking it; the answer is in the count register (ACS-4 7.4).
func PowerMode() Command { return Command{Op: CheckPowerMode, Status: true} }

// SpinUp tells a drive that waits for it to start its motor (ACS-4 7.45.8). It is sent only when a person asks for the drive.
func SpinUp() Command { return Command{Op: SetFeatures, Feature: 0x07} }

// NativeMax asks for the last sector a host protected area may hide (ATA8-ACS 7.32); the answer is in the LBA registers.
func NativeMax() Command {
	return Command{Op: ReadNativeMaxExt, Device: 0x40, Status: true, Ext: true}
}

// AccessibleMax asks for the last sector the drive could give access to (ACS-4 7.1.2); the answer is in the LBA registers.
func AccessibleMax() Command {
	return Command{Op: AccessibleMaxConfig, Device: 0x40, Status: true, Ext: true}
}

// ReadConfiguration asks what a device configuration overlay may have taken away (ATA8-ACS 7.10.3).
func ReadConfiguration() Command {
	return Command{Op: ConfigurationSet, Feature: 0xC2, Transfer: PIOIn, Blocks: 1}
}

// SCTCommand sends one of the questions of SCTTemperatureQuestion and SCTRecoveryQuestion (ACS-4 8.2): it is written to a
// log, changes nothing, and is the only thing ever written during a reading.
func SCTCommand() Command {
	return Command{
		Op:       SMART,
		Feature:  SMARTWriteLog,
		Count:    1,
		LBA:      smartLBA | uint64(LogSCTStatus),
		Transfer: PIOOut,
		Blocks:   1,
		Status:   true,
	}
}

// WriteSelective writes the spans of a selective self-test to its log (ACS-4 A.9).
func WriteSelective() Command {
	return Command{Op: SMART, Feature: SMARTWriteLog, Count: 1, LBA: smartLBA | uint64(LogSelective), Transfer: PIOOut, Blocks: 1}
}

// ReturnStatus asks the drive for its own alarm; the answer is in the returned LBA (ACS-4 7.43.8).
func ReturnStatus() Command {
	return Command{Op: SMART, Feature: SMARTReturnStatus, LBA: smartLBA, Status: true}
}

// ExecuteSelfTest starts or aborts a self-test in the background (ACS-4 7.43.4).
func ExecuteSelfTest(subcommand uint8) Command {
	return Command{Op: SMART, Feature: SMARTExecuteOffline, LBA: smartLBA | uint64(subcommand)}
}

// Registers are the output registers of a finished command.
type Registers struct {
	Status   uint8
	Error    uint8
	Count    uint16
	LBA      uint64
	Device   uint8
	Narrow   bool // only the low 8 bits of Count and 24 bits of LBA came back
	Reported bool // false: the adapter returned no registers, all others are meaningless
}

// Bits of the status and error registers (ACS-4 6.2 and 6.3).
const (
	StatusERR  uint8 = 1 << 0
	StatusDF   uint8 = 1 << 5
	statusDRDY uint8 = 1 << 6
	ErrorABRT  uint8 = 1 << 2
	ErrorIDNF  uint8 = 1 << 4
	ErrorUNC   uint8 = 1 << 6
	ErrorICRC  uint8 = 1 << 7
)

// Failed reports whether the drive itself ended the command with an error.
func (r Registers) Failed() bool { return r.Reported && r.Status&(StatusERR|StatusDF) != 0 }

// Alarm is what a drive says of itself.
type Alarm uint8

// The alarm's states. AlarmUnknown is never "fine".
const (
	AlarmUnknown   Alarm = iota
	AlarmNotRaised       // thresholds not exceeded
	AlarmEchoed          // the adapter handed back the command's own registers: weak "not raised"
	AlarmRaised          // thresholds exceeded
)

func (a Alarm) String() string {
	return [...]string{"unknown", "not raised", "not raised (weak)", "raised"}[min(a, AlarmRaised)]
}

// LBA 23:8 as SMART RETURN STATUS gives it back (ACS-4 table 136).
const (
	alarmClear = 0xC24F
	alarmSet   = 0x2CF4
)

// DecodeAlarm reads the answer to ReturnStatus (ACS-4 table 136): LBA 23:8 is C24Fh when all is well and 2CF4h when a
// threshold is exceeded; zero registers and anything else are unknown.
func DecodeAlarm(r Registers) Alarm {
	if !r.Reported {
		return AlarmUnknown
	}
	switch r.LBA >> 8 & 0xFFFF {
	case alarmSet:
		return AlarmRaised
	case alarmClear:
		if r.echoes(ReturnStatus()) {
			return AlarmEchoed
		}
		return AlarmNotRaised
	}
	return AlarmUnknown
}

// echoes reports whether an adapter has handed back a command's own registers instead of the drive's: the error register still holds
// the feature, or the status is one that no drive ends a command with (the opcode, zero, or any without DRDY).
func (r Registers) echoes(c Command) bool {
	return r.Error == uint8(c.Feature) || r.Status == uint8(c.Op) || r.Status&statusDRDY == 0
}

// AlarmRegisters are the registers a drive answers ReturnStatus with.
func AlarmRegisters(raised bool) Registers {
	r := Registers{Status: 0x50, LBA: smartLBA, Reported: true}
	if raised {
		r.LBA = 0x2CF400
	}
	return r
}
