package nvme

import (
	"fmt"
	"time"
)

// Kinds of persistent events whose content is decoded (Base 2.1 figure 232).
const (
	eventHealth    uint8 = 0x01
	eventFirmware  uint8 = 0x02
	eventTime      uint8 = 0x03
	eventPower     uint8 = 0x04
	eventHardware  uint8 = 0x05
	eventNamespace uint8 = 0x06
	eventFormat    uint8 = 0x07
	eventFormatted uint8 = 0x08
	eventSanitize  uint8 = 0x09
	eventSanitized uint8 = 0x0A
	eventHeat      uint8 = 0x0D
)

// Timestamp is the standard's timestamp: 48 bits of milliseconds, and where they are counted from (Base 2.1 figure 446).
type Timestamp struct {
	Milliseconds uint64
	FromHost     bool // since 1970, as the host told; else since the controller was last reset
}

// timestampMask keeps the 48 bits; the byte above holds the origin.
const timestampMask = 1<<48 - 1

func timestamp(b []byte) Timestamp {
	return Timestamp{le.Uint64(b) & timestampMask, b[6]>>1&7 == 1}
}

func (t Timestamp) put(b []byte) {
	le.PutUint64(b, t.Milliseconds&timestampMask)
	if t.FromHost {
		b[6] |= 1 << 1
	}
}

// String says the moment, or how long after a reset it was.
func (t Timestamp) String() string {
	if t.FromHost {
		return time.UnixMilli(int64(t.Milliseconds)).UTC().Format("2006-01-02 15:04:05") + " UTC"
	}
	return (time.Duration(t.Milliseconds) * time.Millisecond).Truncate(time.Second).String() + " after a reset"
}

// PersistentEvent is one event of log 0Dh.
type PersistentEvent struct {
	Kind   uint8
	At     Timestamp
	Data   []byte // the event's own, without the maker's
	Offset int
}

// KindName says in words what happened (Base 2.1 figure 232).
func (e PersistentEvent) KindName() string {
	names := map[uint8]string{
		eventHealth:    "health snapshot",
		eventFirmware:  "firmware committed",
		eventTime:      "time changed",
		eventPower:     "power-on or reset",
		eventHardware:  "hardware error",
		eventNamespace: "namespace changed",
		eventFormat:    "format started",
		eventFormatted: "format completed",
		eventSanitize:  "sanitize started",
		eventSanitized: "sanitize completed",
		0xB:            "feature set",
		0xC:            "telemetry log created",
		eventHeat:      "thermal excursion",
		0xDE:           "maker's own",
		0xDF:           "trusted computing event",
	}
	if name, ok := names[e.Kind]; ok {
		return name
	}
	return fmt.Sprintf("event %02Xh", e.Kind)
}

// hardwareErrors says what a hardware error was (Base 2.1 figure 238).
var hardwareErrors = map[uint16]string{
	1:  "correctable PCIe error",
	2:  "uncorrectable PCIe error, not fatal",
	3:  "uncorrectable PCIe error, fatal",
	4:  "PCIe link status changed",
	5:  "PCIe link not ready",
	6:  "critical warning raised",
	7:  "endurance group's critical warning raised",
	8:  "unsafe shutdown",
	9:  "controller fatal status",
	10: "media and data integrity error",
	11: "controller ready timed out",
}

// Content says in words what the event's own data holds; empty where it is not decoded, or cut short.
func (e PersistentEvent) Content() string {
	b := e.Data
	has := func(n int) bool { return len(b) >= n }
	switch {
	case e.Kind == eventHealth && has(HealthSize):
		h, err := DecodeHealth(b)
		if err != nil {
			return ""
		}
		return fmt.Sprintf("%d %% used, %d %% spare, media errors %s, at %s h", h.Used, h.Spare, h.MediaErrors, h.Hours)
	case e.Kind == eventFirmware && has(22):
		return fmt.Sprintf("from %s to %s", text(b[:8]), text(b[8:16]))
	case e.Kind == eventTime && has(8):
		return "it was " + timestamp(b).String()
	case e.Kind == eventPower && has(8):
		return "firmware " + text(b[:8])
	case e.Kind == eventHardware && has(2):
		code := le.Uint16(b)
		if words, ok := hardwareErrors[code]; ok {
			return words
		}
		return fmt.Sprintf("code %04Xh", code)
	case (e.Kind == eventFormat || e.Kind == eventFormatted) && has(4):
		if n := le.Uint32(b); n != AllNamespaces {
			return fmt.Sprintf("namespace %d", n)
		}
		return "all namespaces"
	case e.Kind == eventSanitize && has(8):
		return SanitizeAction(le.Uint32(b[4:])).String()
	case e.Kind == eventSanitized && has(4):
		return SanitizeStatus{State: le.Uint16(b[2:])}.StateName()
	case e.Kind == eventHeat && has(2):
		return fmt.Sprintf("%d °C over the threshold", b[0])
	}
	return ""
}

// PersistentLog is log 0Dh (Base 2.1, 5.1.12.1.14).
type PersistentLog struct {
	Events uint32 // in all
	Length uint64 // bytes of the whole log
	Hours  Counter
	Cycles uint64
	List   []PersistentEvent // as far as they were transferred
}

const (
	persistentHeader = 512 // the log's header, in bytes
	eventHeader      = 21  // least length an event's header tells of itself, from its byte 3 on
)

// DecodePersistent reads log 0Dh as far as it was transferred.
func DecodePersistent(b []byte) (PersistentLog, error) {
	const name = "persistent event log"
	if err := checkLength(name, b, persistentHeader); err != nil {
		return PersistentLog{}, err
	}
	if b[0] != LogPersistent {
		return PersistentLog{}, &FormatError{name, 0, fmt.Sprintf("calls itself log %02Xh", b[0])}
	}
	l := PersistentLog{Events: le.Uint32(b[4:]), Length: le.Uint64(b[8:]), Hours: counter(b[28:]), Cycles: le.Uint64(b[44:])}
	for at := persistentHeader; at+3+eventHeader <= len(b) && len(l.List) < int(l.Events); {
		header, maker, length := int(b[at+2]), int(le.Uint16(b[at+20:])), int(le.Uint16(b[at+22:]))
		if header < eventHeader {
			return l, &FormatError{name, at, fmt.Sprintf("an event header of %d bytes is too short", header)}
		}
		e := PersistentEvent{Kind: b[at], At: timestamp(b[at+6:]), Offset: at}
		from, to := at+3+header+maker, at+3+header+length
		if maker <= length && to <= len(b) && from < to {
			e.Data = b[from:to]
		}
		l.List = append(l.List, e)
		at = to
	}
	return l, nil
}

// Encode writes the log.
func (l PersistentLog) Encode() []byte {
	b := make([]byte, persistentHeader)
	b[0] = LogPersistent
	le.PutUint32(b[4:], uint32(len(l.List)))
	l.Hours.put(b[28:])
	le.PutUint64(b[44:], l.Cycles)
	for _, e := range l.List {
		event := make([]byte, 3+eventHeader)
		event[0], event[1], event[2] = e.Kind, 1, eventHeader
		e.At.put(event[6:])
		le.PutUint16(event[22:], uint16(len(e.Data)))
		b = append(append(b, event...), e.Data...)
	}
	le.PutUint64(b[8:], uint64(len(b)))
	return b
}
