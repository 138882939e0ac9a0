package scsi

import "fmt"

// More operation codes (SPC-5 table E.2, SBC-4 table 33).
const (
	RequestSense     = 0x03
	SendDiagnostic   = 0x1D
	StartStopUnit    = 0x1B
	ModeSense10      = 0x5A
	LogSense         = 0x4D
	ReadDefectData10 = 0x37
	ReadDefectData12 = 0xB7
	ServiceActionIn  = 0x9E
	ReadCapacity10   = 0x25
	SecurityIn       = 0xA2
	readCapacity16   = 0x10 // service actions
	elementStatus    = 0x17
)

// Vital product data pages (SPC-5 7.7, SBC-4 6.6).
const (
	VPDPages           uint8 = 0x00
	VPDSerial          uint8 = 0x80
	VPDIdentification  uint8 = 0x83
	VPDBlockLimits     uint8 = 0xB0
	VPDCharacteristics uint8 = 0xB1
	VPDProvisioning    uint8 = 0xB2
	VPDRanges          uint8 = 0xB9
)

// Log pages (SPC-5 7.3, SBC-4 6.4).
var (
	LogPages         = LogID{Page: 0x00}
	LogSubpages      = LogID{0x00, 0xFF} // all pages and subpages there are
	LogWriteErrors   = LogID{Page: 0x02}
	LogReadErrors    = LogID{Page: 0x03}
	LogVerifyErrors  = LogID{Page: 0x05}
	LogNonMedium     = LogID{Page: 0x06}
	LogTemperature   = LogID{Page: 0x0D}
	LogEnvironment   = LogID{0x0D, 0x01} // report of temperature and humidity
	LogEnvironLimits = LogID{0x0D, 0x02} // and their limits
	LogStartStop     = LogID{Page: 0x0E}
	LogSelfTests     = LogID{Page: 0x10}
	LogSolidState    = LogID{Page: 0x11}
	LogBackground    = LogID{Page: 0x15}
	LogPending       = LogID{0x15, 0x01} // sectors that wait to be reassigned
	LogBackgroundOps = LogID{0x15, 0x02}
	LogProtocol      = LogID{Page: 0x18}
	LogInformational = LogID{Page: 0x2F}
)

// ModeInformational is the informational exceptions control page (SPC-5 7.5.13).
const ModeInformational uint8 = 0x1C

// Self-test codes of SEND DIAGNOSTIC (SPC-5 table 214). Foreground ones are not here: they would take the drive away.
const (
	TestBackgroundShort    uint8 = 1
	TestBackgroundExtended uint8 = 2
	TestAbortBackground    uint8 = 4
)

// VPDCDB asks for a vital product data page of at most n bytes.
func VPDCDB(page uint8, n uint16) []byte { return []byte{Inquiry, 1, page, uint8(n >> 8), uint8(n), 0} }

// LogID names a log page: its code, and its subpage where it has several.
type LogID struct{ Page, Subpage uint8 }

// String is the standard's way to write it: "15h", or "15h/01h".
func (l LogID) String() string {
	if l.Subpage == 0 {
		return fmt.Sprintf("%02Xh", l.Page)
	}
	return fmt.Sprintf("%02Xh/%02Xh", l.Page, l.Subpage)
}

// LogSenseCDB asks for the cumulative values of a log page, without saving them (SPC-5 6.8: PC 01b, SP 0).
func LogSenseCDB(l LogID, n uint16) []byte {
	return []byte{LogSense, 0, 1<<6 | l.Page&0x3F, l.Subpage, 0, 0, 0, uint8(n >> 8), uint8(n), 0}
}

// ModeSenseCDB asks for the present values of a mode page, without block descriptors (SPC-5 6.14).
func ModeSenseCDB(page uint8, n uint16) []byte {
	return []byte{ModeSense10, 1 << 3, page, 0, 0, 0, 0, uint8(n >> 8), uint8(n), 0}
}

// CapacityCDB asks for READ CAPACITY(16) (SBC-4 5.18).
func CapacityCDB() []byte {
	return []byte{ServiceActionIn, readCapacity16, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, CapacitySize, 0, 0}
}

// DefectCDB10 is DefectCDB for drives older than the 12-byte form; its list has at most 65,535 bytes (SBC-4 5.19).
func DefectCDB10(format uint8, n uint16) []byte {
	return []byte{ReadDefectData10, 0, 1<<3 | format&7, 0, 0, 0, 0, uint8(n >> 8), uint8(n), 0}
}

// DefectCDB asks for the grown list in the given format (SBC-4 5.20); an allocation of 8 bytes brings its length only.
func DefectCDB(format uint8, n uint32) []byte {
	return []byte{ReadDefectData12, 1<<3 | format&7, 0, 0, 0, 0, uint8(n >> 24), uint8(n >> 16), uint8(n >> 8), uint8(n), 0, 0}
}

// SelfTestCDB starts or aborts a background self-test (SPC-5 6.42).
func SelfTestCDB(code uint8) []byte { return []byte{SendDiagnostic, code << 5, 0, 0, 0, 0} }

// StartCDB tells a drive that waits for it to start its motor (SBC-4 5.31). It is sent only when a person asks for the drive.
func StartCDB() []byte { return []byte{StartStopUnit, 0, 0, 0, 1, 0} }

// TestUnitReadyCDB asks whether the drive is ready.
func TestUnitReadyCDB() []byte { return make([]byte, 6) }

// RequestSenseCDB asks for pending sense data, the progress of a background self-test among it (SPC-5 6.39). Fixed format.
func RequestSenseCDB() []byte { return []byte{RequestSense, 0, 0, 0, 252, 0} }

// Name is the standard's name of a CDB with its page.
func Name(cdb []byte) string {
	if len(cdb) < 6 {
		return "a command cut short"
	}
	const digits = "0123456789ABCDEF"
	hex := func(b byte) string { return string([]byte{digits[b>>4], digits[b&0xF], 'h'}) }
	switch cdb[0] {
	case TestUnitReady:
		return "TEST UNIT READY"
	case Inquiry:
		if cdb[1]&1 != 0 {
			return "INQUIRY page " + hex(cdb[2])
		}
		return "INQUIRY"
	case RequestSense:
		return "REQUEST SENSE"
	case SendDiagnostic:
		return "SEND DIAGNOSTIC, self-test code " + hex(cdb[1]>>5)
	case ModeSense10:
		return "MODE SENSE page " + hex(cdb[2]&0x3F)
	case StartStopUnit:
		return "START STOP UNIT"
	case LogSense:
		return "LOG SENSE page " + LogID{cdb[2] & 0x3F, cdb[3]}.String()
	case ReadDefectData12:
		return "READ DEFECT DATA(12)"
	case ReadDefectData10:
		return "READ DEFECT DATA(10)"
	case ServiceActionIn:
		if cdb[1]&0x1F == elementStatus {
			return "GET PHYSICAL ELEMENT STATUS"
		}
		return "READ CAPACITY(16)"
	case ReadCapacity10:
		return "READ CAPACITY(10)"
	case SecurityIn:
		return "SECURITY PROTOCOL IN " + hex(cdb[1])
	}
	return "SCSI operation " + hex(cdb[0])
}
