// Package nvme decodes and encodes the structures of NVM Express: the admin commands Hylostat sends, the status of a
// completion, the identify pages and the log pages of a controller. It performs no I/O. Start with Command and Health.
//
// A decoder never panics; it gives what it could read together with a *FormatError.
//
// Sources: NVM Express Base Specification 2.1 (clauses behind the structures) and, for log C0h, the open datacenter NVMe SSD
// specification 2.0, clause 4.8.3. All numbers are little-endian.
package nvme

import (
	"encoding/binary"
	"fmt"
	"math/big"
	"slices"
	"strings"
)

var le = binary.LittleEndian

// FormatError says where a page breaks its own format.
type FormatError struct {
	Structure string
	Offset    int
	Reason    string
}

func (e *FormatError) Error() string {
	return fmt.Sprintf("%s, byte %d: %s", e.Structure, e.Offset, e.Reason)
}

// Place gives the byte and the reason, for whoever shows the page.
func (e *FormatError) Place() (structure string, offset int, reason string) {
	return e.Structure, e.Offset, e.Reason
}

func checkLength(structure string, b []byte, size int) error {
	if len(b) < size {
		return &FormatError{structure, len(b), fmt.Sprintf("ends after %d of %d bytes", len(b), size)}
	}
	return nil
}

// Opcode is an admin command's code (Base 2.1 figure 141).
type Opcode uint8

// The admin commands Hylostat sends.
const (
	GetLogPage     Opcode = 0x02
	IdentifyOp     Opcode = 0x06
	DeviceSelfTest Opcode = 0x14
	SecurityRecv   Opcode = 0x82
)

// Command is one admin command. DataIn is the length of what comes back, in bytes.
type Command struct {
	Op     Opcode
	NSID   uint32
	CDW10  uint32
	CDW11  uint32
	CDW12  uint32
	CDW13  uint32
	CDW14  uint32
	DataIn int
}

// AllNamespaces addresses the controller as a whole.
const AllNamespaces uint32 = 0xFFFFFFFF

// Log identifiers (Base 2.1 figure 202).
const (
	LogSupported  uint8 = 0x00
	LogErrors     uint8 = 0x01
	LogHealth     uint8 = 0x02
	LogFirmware   uint8 = 0x03
	LogEffects    uint8 = 0x05
	LogSelfTest   uint8 = 0x06
	LogTelemetry  uint8 = 0x08 // initiated by the controller: reading it creates nothing
	LogEndurance  uint8 = 0x09
	LogPersistent uint8 = 0x0D
	LogSanitize   uint8 = 0x81
	LogDatacenter uint8 = 0xC0
)

// Identify structures (Base 2.1 figure 310).
const (
	cnsNamespace  = 0x00
	cnsController = 0x01
	cnsNamespaces = 0x02
	cnsNames      = 0x03
)

// IdentifySize is the length of every identify structure, in bytes.
const IdentifySize = 4096

// IdentifyController asks who the controller is.
func IdentifyController() Command {
	return Command{Op: IdentifyOp, CDW10: cnsController, DataIn: IdentifySize}
}

// ListNamespaces asks for the numbers of the active namespaces.
func ListNamespaces() Command {
	return Command{Op: IdentifyOp, CDW10: cnsNamespaces, DataIn: IdentifySize}
}

// IdentifyNamespace asks what a namespace is.
func IdentifyNamespace(id uint32) Command {
	return Command{Op: IdentifyOp, NSID: id, CDW10: cnsNamespace, DataIn: IdentifySize}
}

// NameNamespace asks for all names of a namespace.
func NameNamespace(id uint32) Command {
	return Command{Op: IdentifyOp, NSID: id, CDW10: cnsNames, DataIn: IdentifySize}
}

// ReadSecurity asks for at most size bytes of a security protocol (Base 2.1, 5.1.23).
func ReadSecurity(protocol uint8, specific uint16, size int) Command {
	return Command{Op: SecurityRecv, CDW10: uint32(protocol)<<24 | uint32(specific)<<8, CDW11: uint32(size), DataIn: size}
}

// ReadEndurance asks for the log of an endurance group, from 1.
func ReadEndurance(group uint16) Command {
	c := ReadLog(LogEndurance, EnduranceSize)
	c.CDW11 |= uint32(group) << 16
	return c
}

// LogSpecific is the log specific identifier of a GetLogPage command.
func (c Command) LogSpecific() uint16 { return uint16(c.CDW11 >> 16) }

// retainEvent keeps a pending asynchronous event in the controller for whoever waits for it (Base 2.1, 5.1.12, bit RAE).
const retainEvent = 1 << 15

// ReadLog asks for the first size bytes of a log page, with pending events kept. size is a multiple of 4.
func ReadLog(id uint8, size int) Command {
	words := uint32(size/4 - 1)
	return Command{
		Op:     GetLogPage,
		NSID:   AllNamespaces,
		CDW10:  uint32(id) | retainEvent | words&0xFFFF<<16,
		CDW11:  words >> 16,
		DataIn: size,
	}
}

// Actions on the persistent event log (Base 2.1 figure 229). Reading within an established context changes nothing else.
const (
	persistentRead      = 0
	persistentEstablish = 1
	persistentRelease   = 2
)

// PersistentHeader asks for the header of the persistent event log, and has the controller fix its content meanwhile.
func PersistentHeader() Command {
	c := ReadLog(LogPersistent, 512)
	c.CDW10 |= persistentEstablish << 8
	return c
}

// PersistentEvents asks for the log whose content PersistentHeader fixed.
func PersistentEvents(size int) Command { return ReadLog(LogPersistent, size) }

// PersistentDone lets the controller change the log again.
func PersistentDone() Command {
	c := ReadLog(LogPersistent, 16)
	c.CDW10 |= persistentRelease << 8
	return c
}

// Self-test codes of Device Self-test (Base 2.1 figure 173).
const (
	TestShort    uint8 = 0x1
	TestExtended uint8 = 0x2
	TestAbort    uint8 = 0xF
)

// StartSelfTest starts or aborts a self-test of the controller and all its namespaces.
func StartSelfTest(code uint8) Command {
	return Command{Op: DeviceSelfTest, NSID: AllNamespaces, CDW10: uint32(code)}
}

// LogID is the log a GetLogPage command asks for.
func (c Command) LogID() uint8 { return uint8(c.CDW10) }

// Name is the specification's name of the command.
func (c Command) Name() string {
	switch c.Op {
	case GetLogPage:
		return fmt.Sprintf("Get Log Page %02Xh", c.LogID())
	case IdentifyOp:
		switch c.CDW10 {
		case cnsController:
			return "Identify Controller"
		case cnsNamespaces:
			return "Identify active namespaces"
		case cnsNames:
			return fmt.Sprintf("Identify names of namespace %d", c.NSID)
		}
		return fmt.Sprintf("Identify Namespace %d", c.NSID)
	case SecurityRecv:
		return fmt.Sprintf("Security Receive %02Xh", c.CDW10>>24)
	case DeviceSelfTest:
		return fmt.Sprintf("Device Self-test %Xh", c.CDW10)
	}
	return fmt.Sprintf("admin command %02Xh", uint8(c.Op))
}

// Status is the status field of a completion without the phase bit: status code in 7:0, code type in 10:8 (Base 2.1, 4.2.3).
type Status uint16

// The status codes that decide something here.
const (
	Success        Status = 0x000
	InvalidOpcode  Status = 0x001
	InvalidField   Status = 0x002
	InvalidLog     Status = 0x109
	InvalidNS      Status = 0x00B
	SelfTestGoesOn Status = 0x11D
	MediaError     Status = 0x281
	AccessDenied   Status = 0x286
	internalError  Status = 0x006
	transferError  Status = 0x004
	SanitizeFailed Status = 0x01C
	SanitizeGoesOn Status = 0x01D
	notReady       Status = 0x082
	FormatGoesOn   Status = 0x084
)

var statusWords = map[Status]string{
	Success:        "success",
	InvalidOpcode:  "command not known",
	InvalidField:   "invalid field",
	0x004:          "data transfer error",
	0x005:          "aborted, power loss",
	0x006:          "internal error",
	0x007:          "aborted on request",
	InvalidNS:      "no such namespace",
	0x013:          "sequence error",
	SanitizeFailed: "sanitize failed",
	SanitizeGoesOn: "sanitize in progress",
	0x020:          "namespace write protected",
	0x080:          "address out of range",
	0x081:          "capacity exceeded",
	0x082:          "namespace not ready",
	0x083:          "reserved by another host",
	FormatGoesOn:   "a format goes on",
	InvalidLog:     "no such log page",
	SelfTestGoesOn: "a self-test goes on",
	0x280:          "write fault",
	MediaError:     "unrecovered read error",
	0x282:          "end-to-end guard check error",
	0x283:          "end-to-end application tag error",
	0x284:          "end-to-end reference tag error",
	0x285:          "compare failed",
	AccessDenied:   "access denied, locked",
	0x287:          "deallocated or unwritten block",
}

// Code is the status without its retry and more bits.
func (s Status) Code() Status { return s & 0x7FF }

// String says the status in words, with its numbers.
func (s Status) String() string {
	words, ok := statusWords[s.Code()]
	if !ok {
		words = "status without a name"
	}
	return fmt.Sprintf("%s (type %Xh, code %02Xh)", words, uint8(s>>8)&7, uint8(s))
}

// Refused reports whether the controller said that it does not do this.
func (s Status) Refused() bool {
	return slices.Contains([]Status{InvalidOpcode, InvalidField, InvalidLog, InvalidNS}, s.Code())
}

// NotReady reports whether the controller cannot do it now and may later.
func (s Status) NotReady() bool {
	return slices.Contains([]Status{SanitizeGoesOn, notReady, FormatGoesOn}, s.Code())
}

// HostCaused reports whether an error of the error log is the host's doing, as a command the controller does not know is. Of the
// generic statuses those are the drive's that tell of a transfer, of the controller itself, of a sanitize that failed, or of a
// namespace that is not ready; an address out of range is the host's like every other (Base 2.1 figure 102).
func (s Status) HostCaused() bool {
	code := s.Code()
	switch code >> 8 {
	case 0:
		return !slices.Contains([]Status{transferError, internalError, SanitizeFailed, notReady}, code)
	case 1:
		return true
	default:
		return code == AccessDenied
	}
}

// Counter is a 128-bit number, low half first.
type Counter struct{ Low, High uint64 }

func counter(b []byte) Counter { return Counter{le.Uint64(b), le.Uint64(b[8:])} }

func (c Counter) put(b []byte) {
	le.PutUint64(b, c.Low)
	le.PutUint64(b[8:], c.High)
}

// String is the exact number in decimal digits.
func (c Counter) String() string { return c.big().String() }

func (c Counter) big() *big.Int {
	x := new(big.Int).Lsh(new(big.Int).SetUint64(c.High), 64)
	return x.Or(x, new(big.Int).SetUint64(c.Low))
}

// Float is the number as nearly as 53 bits can hold it.
func (c Counter) Float() float64 { return float64(c.High)*(1<<64) + float64(c.Low) }

func text(b []byte) string { return strings.Trim(string(b), " \x00") }

func putText(b []byte, s string) { copy(b, (s + strings.Repeat(" ", len(b)))[:len(b)]) }

// Kelvin turns a temperature in kelvin into °C. 0 K means that there is none.
func Kelvin(k uint16) (celsius int, ok bool) { return int(k) - 273, k != 0 }
