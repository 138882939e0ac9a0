// Package tcg decodes and encodes Level 0 discovery, by which a drive that encrypts itself tells whether its own lock is set. ATA
// carries it in TRUSTED RECEIVE, SCSI in SECURITY PROTOCOL IN, NVMe in Security Receive; the bytes are the same. It performs no I/O.
// Start with Decode.
//
// Source: TCG Storage Architecture Core Specification 2.01, 3.3.6, and TCG Storage Opal SSC 2.02, 3.1.1. All numbers are big-endian.
package tcg

import (
	"encoding/binary"
	"fmt"
)

// What Level 0 discovery is asked with (Core 2.01, 3.3.6.1).
const (
	Protocol uint8  = 0x01   // security protocol
	Specific uint16 = 0x0001 // of that protocol: the discovery
	Size            = 512    // bytes that hold all descriptors of today's drives
)

const header = 48

var be = binary.BigEndian

// FormatError says where the answer breaks its format.
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

// Codes of features.
const (
	featureTPer    uint16 = 0x0001
	featureLocking uint16 = 0x0002
)

// subsystems are the feature codes of the security subsystem classes, by the names their specifications have.
var subsystems = map[uint16]string{
	0x0100: "Enterprise",
	0x0200: "Opal 1",
	0x0203: "Opal 2",
	0x0301: "Opalite",
	0x0302: "Pyrite 1",
	0x0303: "Pyrite 2",
	0x0304: "Ruby",
	0x0305: "Key per I/O",
}

// Locking is the locking feature's flags (Core 2.01, 3.3.6.5).
type Locking struct {
	Supported, Enabled bool
	Locked             bool // some range is locked for reading or writing now
	Encrypts           bool // the medium is encrypted always
	ShadowEnabled      bool // a shadow boot record stands before the data
	ShadowDone         bool // and has been passed
}

// Discovery is the answer.
type Discovery struct {
	HasLocking bool
	Locking    Locking
	Offset     int      // of the locking feature's flags
	Subsystems []string // by name, in the order of the page
}

// Decode reads the answer as far as it came. Descriptors of features that this package has no use for are passed over.
func Decode(b []byte) (Discovery, error) {
	const name = "Level 0 discovery"
	var d Discovery
	if len(b) < header {
		return d, &FormatError{name, len(b), fmt.Sprintf("shorter than %d bytes", header)}
	}
	length := uint64(be.Uint32(b)) + 4
	if length < header {
		return d, &FormatError{name, 0, fmt.Sprintf("a length of %d bytes does not hold its own header", length)}
	}
	end := int(min(length, uint64(len(b))))
	for at := header; at+4 <= end; {
		code, size := be.Uint16(b[at:]), int(b[at+3])
		if at+4+size > end {
			return d, &FormatError{name, at, "a feature runs over the page's end"}
		}
		if class, ok := subsystems[code]; ok {
			d.Subsystems = append(d.Subsystems, class)
		}
		if code == featureLocking && size >= 1 {
			f := b[at+4]
			d.HasLocking, d.Offset = true, at+4
			d.Locking = Locking{f&1 != 0, f&2 != 0, f&4 != 0, f&8 != 0, f&16 != 0, f&32 != 0}
		}
		at += 4 + size
	}
	return d, nil
}

// Encode writes an answer of Size bytes.
func (d Discovery) Encode() []byte {
	b := make([]byte, header, Size)
	add := func(code uint16, body ...byte) {
		body = append(body, make([]byte, 12-len(body))...)
		b = be.AppendUint16(b, code)
		b = append(b, 1<<4, uint8(len(body)))
		b = append(b, body...)
	}
	be.PutUint16(b[6:], 1)
	add(featureTPer, 1)
	if d.HasLocking {
		flags := byte(0)
		for bit, on := range []bool{
			d.Locking.Supported, d.Locking.Enabled, d.Locking.Locked, d.Locking.Encrypts, d.Locking.ShadowEnabled,
			d.Locking.ShadowDone,
		} {
			if on {
				flags |= 1 << bit
			}
		}
		add(featureLocking, flags)
	}
	for _, class := range d.Subsystems {
		for code, name := range subsystems {
			if name == class {
				add(code)
			}
		}
	}
	be.PutUint32(b, uint32(len(b)-4))
	return b[:Size]
}
