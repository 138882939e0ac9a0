package nvme

import (
	"encoding/hex"
	"fmt"
)

// DecodeSupported reads log 00h: which logs there are (Base 2.1, 5.1.12.1.1).
func DecodeSupported(b []byte) (logs []uint8, err error) {
	if err := checkLength("supported log pages", b, SupportedSize); err != nil {
		return nil, err
	}
	for id := range 256 {
		if b[4*id]&1 != 0 {
			logs = append(logs, uint8(id))
		}
	}
	return logs, nil
}

// EncodeSupported writes log 00h.
func EncodeSupported(logs ...uint8) []byte {
	b := make([]byte, SupportedSize)
	for _, id := range logs {
		b[4*int(id)] = 1
	}
	return b
}

// Endurance is log 09h of one endurance group (Base 2.1, 5.1.12.1.10).
type Endurance struct {
	Warning        uint8 // bits: 0 spare, 2 reliability, 3 read-only
	Spare          uint8 // per cent left
	SpareThreshold uint8
	Used           uint8   // per cent of the rated life, may pass 100
	Estimate       Counter // data units that can be written in all, 0 not reported
	Read, Written  Counter // data units: thousands of millions of bytes
	MediaWritten   Counter
	MediaErrors    Counter
	ErrorEntries   Counter
}

// DecodeEndurance reads log 09h.
func DecodeEndurance(b []byte) (Endurance, error) {
	if err := checkLength("endurance group log", b, EnduranceSize); err != nil {
		return Endurance{}, err
	}
	return Endurance{
		b[0], b[3], b[4], b[5], counter(b[32:]), counter(b[48:]), counter(b[64:]), counter(b[80:]), counter(b[128:]), counter(b[144:]),
	}, nil
}

// Encode writes the page.
func (e Endurance) Encode() []byte {
	b := make([]byte, EnduranceSize)
	b[0], b[3], b[4], b[5] = e.Warning, e.Spare, e.SpareThreshold, e.Used
	for at, c := range map[int]Counter{
		32: e.Estimate, 48: e.Read, 64: e.Written, 80: e.MediaWritten, 128: e.MediaErrors, 144: e.ErrorEntries,
	} {
		c.put(b[at:])
	}
	return b
}

// SanitizeAction is command dword 10 of Sanitize (Base 2.1 figure 407).
type SanitizeAction uint32

func (a SanitizeAction) String() string {
	if name, ok := map[SanitizeAction]string{
		1: "leave failure mode", 2: "block erase", 3: "overwrite", 4: "crypto erase", 5: "leave media verification",
	}[a&7]; ok {
		return name
	}
	return fmt.Sprintf("action %Xh", uint32(a&7))
}

// States of a sanitize, bits 2:0 of SSTAT (Base 2.1 figure 290).
const (
	SanitizeNever     uint16 = 0
	SanitizeDone      uint16 = 1
	SanitizeRuns      uint16 = 2
	SanitizeFails     uint16 = 3
	SanitizeDoneKept  uint16 = 4 // without deallocating
	sanitizeStateMask uint16 = 7
	sanitizeErased    uint16 = 1 << 8 // nothing was written since
)

// SanitizeStatus is log 81h (Base 2.1, 5.1.12.1.33).
type SanitizeStatus struct {
	Progress uint16 // of 65,536, while one runs
	State    uint16 // SSTAT
	Action   SanitizeAction
}

// StateName says in words how the last sanitize ended, or that it goes on.
func (s SanitizeStatus) StateName() string {
	names := map[uint16]string{
		SanitizeNever:    "none was ever started",
		SanitizeDone:     "completed",
		SanitizeRuns:     "goes on",
		SanitizeFails:    "failed",
		SanitizeDoneKept: "completed, without deallocating",
		5:                "waits for its result to be verified",
	}
	words, ok := names[s.State&sanitizeStateMask]
	if !ok {
		words = fmt.Sprintf("state %Xh", s.State&sanitizeStateMask)
	}
	if s.State&sanitizeErased != 0 {
		words += "; nothing was written since"
	}
	return words
}

// DecodeSanitize reads log 81h.
func DecodeSanitize(b []byte) (SanitizeStatus, error) {
	if err := checkLength("sanitize status", b, SanitizeSize); err != nil {
		return SanitizeStatus{}, err
	}
	return SanitizeStatus{le.Uint16(b), le.Uint16(b[2:]), SanitizeAction(le.Uint32(b[4:]))}, nil
}

// Encode writes the page.
func (s SanitizeStatus) Encode() []byte {
	b := make([]byte, SanitizeSize)
	le.PutUint16(b, s.Progress)
	le.PutUint16(b[2:], s.State)
	le.PutUint32(b[4:], uint32(s.Action))
	return b
}

// Kinds of a namespace's names (Base 2.1 figure 315).
const (
	nameEUI64 uint8 = 1
	nameNGUID uint8 = 2
	nameUUID  uint8 = 3
)

// NamespaceName is one name of a namespace, CNS 03h.
type NamespaceName struct {
	Kind   uint8
	Value  []byte
	Offset int
}

// KindName is the specification's name of the kind.
func (n NamespaceName) KindName() string {
	if name, ok := map[uint8]string{nameEUI64: "EUI-64", nameNGUID: "NGUID", nameUUID: "UUID", 4: "command set"}[n.Kind]; ok {
		return name
	}
	return fmt.Sprintf("kind %02Xh", n.Kind)
}

// String is the name in digits, a UUID grouped as usual.
func (n NamespaceName) String() string {
	if n.Kind == nameUUID && len(n.Value) == 16 {
		v := n.Value
		return fmt.Sprintf("%x-%x-%x-%x-%x", v[:4], v[4:6], v[6:8], v[8:10], v[10:])
	}
	return hex.EncodeToString(n.Value)
}

// DecodeNames reads the list of CNS 03h: descriptors up to one of length 0.
func DecodeNames(b []byte) ([]NamespaceName, error) {
	const name = "namespace names"
	if err := checkLength(name, b, IdentifySize); err != nil {
		return nil, err
	}
	var all []NamespaceName
	for at := 0; at+4 <= IdentifySize && b[at+1] != 0; {
		size := int(b[at+1])
		if at+4+size > IdentifySize {
			return all, &FormatError{name, at, "a name runs over the page's end"}
		}
		all = append(all, NamespaceName{b[at], b[at+4 : at+4+size], at})
		at += 4 + size
	}
	return all, nil
}

// EncodeNames writes the list.
func EncodeNames(all []NamespaceName) []byte {
	var b []byte
	for _, n := range all {
		b = append(append(b, n.Kind, uint8(len(n.Value)), 0, 0), n.Value...)
	}
	return append(b, make([]byte, max(0, IdentifySize-len(b)))...)[:IdentifySize]
}

// NGUID makes the name of that kind, EUI64 one of the other.
func NGUID(v [16]byte) NamespaceName { return NamespaceName{Kind: nameNGUID, Value: v[:]} }

// EUI64 makes the 8-byte name.
func EUI64(v uint64) NamespaceName {
	b := make([]byte, 8)
	for i := range b {
		b[i] = uint8(v >> (56 - 8*i))
	}
	return NamespaceName{Kind: nameEUI64, Value: b}
}

// TelemetryHeader is the length of the header of logs 07h and 08h.
const TelemetryHeader = 512

// TelemetryLength is how many bytes of the log its first data area ends at, by its header: blocks of 512 bytes are counted from 1 after
// the header (Base 2.1, 5.1.12.1.9). 0 for a header that is none.
func TelemetryLength(header []byte) int {
	if len(header) < TelemetryHeader || header[0] != LogTelemetry {
		return 0
	}
	return TelemetryHeader + TelemetryHeader*int(le.Uint16(header[8:]))
}
