// Package drive holds the vocabulary every other room shares: what a drive is, how it is known, what can be wrong with
// an answer, and the words for verdicts and duties. It computes nothing and imports nothing of ours.
// Start with Identity.
package drive

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// Interface is the command set a drive itself speaks, whatever adapter stands before it. The zero value is unknown.
type Interface string

// The command sets.
const (
	InterfaceUnknown Interface = ""
	ATA              Interface = "ata"
	NVMe             Interface = "nvme"
	SCSI             Interface = "scsi"
)

// Medium is what the data lies on. The zero value is unknown.
type Medium string

// The kinds of medium: Spinning platters or Flash cells.
const (
	MediumUnknown Medium = ""
	Spinning      Medium = "spinning"
	Flash         Medium = "flash"
)

// Key names one physical drive for ever: model and serial as the drive reports them, trimmed. The zero Key names none.
type Key struct {
	Model  string `json:"model"`
	Serial string `json:"serial"`
}

// IsValid reports whether k can name a drive: both parts are known.
func (k Key) IsValid() bool { return k.Model != "" && k.Serial != "" }

// String is the key as a person reads it: model, then serial.
func (k Key) String() string { return k.Model + " " + k.Serial }

// Identity is what a drive tells of itself and what the label would say. Zero fields are unknown.
type Identity struct {
	Key
	Firmware         string
	WWN              WWN
	Interface        Interface
	Medium           Medium
	Bytes            uint64 // user-addressable capacity
	LogicalSector    uint32 // bytes
	PhysicalSector   uint32 // bytes
	AlignmentOffset  uint16 // logical sectors by which LBA 0 is shifted inside its physical sector
	RotationRate     uint16 // revolutions per minute; 0 unknown or not rotating
	FormFactor       string // "3.5 inch", "2.5 inch" ...; empty unknown
	LinkNow          string // negotiated, "6.0 Gb/s"
	LinkPossible     string // fastest the drive offers
	Transport        string // "SATA 3.3"
	SMART            Feature
	SelfTest         Feature
	ErrorLogging     Feature
	GPL              Feature
	SCT              Feature
	TRIM             Feature
	Security         Security
	Namespaces       int    // NVMe; 0 unknown or none
	Hidden           uint64 // bytes the drive has and does not show
	Shown            uint64 // bytes the adapter shows where that is another size than the drive's own; 0: the same, or not known
	HiddenBy         string // "a host protected area"
	Protection       string // extra bytes or protection type of each sector, in words; empty none
	IntegrityChecked bool   // the identity page carried a checksum and it was right
}

// WWN is a drive's World Wide Name as lower-case hex digits, whole: 16 of NAA 5 and of an EUI-64, 24 or 32 of its longer kinds, 32 of
// NAA 6 and of an NGUID. Empty is unknown.
type WWN string

// WWN64 is a name of 64 bits; 0 is none.
func WWN64(n uint64) WWN {
	if n == 0 {
		return ""
	}
	return WWN(fmt.Sprintf("%016x", n))
}

// WWNOf is a name of so many bytes; one of zeros is none.
func WWNOf(b []byte) WWN {
	if strings.Trim(string(b), "\x00") == "" {
		return ""
	}
	return WWN(hex.EncodeToString(b))
}

// Company is the IEEE company id in a name of NAA 5 or 6; 0 where there is none. The block kept for documentation says nothing of a
// drive.
func (w WWN) Company() uint32 {
	if len(w) < 7 || w[0] != '5' && w[0] != '6' {
		return 0
	}
	id, err := strconv.ParseUint(string(w[1:7]), 16, 32)
	if err != nil || id == documentation {
		return 0
	}
	return uint32(id)
}

const documentation = 0x00005E

// UnmarshalJSON reads the digits, and the number that was stored before names were kept whole.
func (w *WWN) UnmarshalJSON(b []byte) error {
	if n, err := strconv.ParseUint(string(b), 10, 64); err == nil {
		*w = WWN64(n)
		return nil
	}
	return json.Unmarshal(b, (*string)(w))
}

// Feature tells whether a drive has something and whether it is switched on.
type Feature struct {
	Supported bool `json:"supported"`
	Enabled   bool `json:"enabled"`
}

// Security is what a drive says of its locks: the password of ATA (ACS-4 7.13.6.11), and its own encryption (TCG). Supported, Enabled,
// Frozen and CountExpired are of the password.
type Security struct {
	Supported    bool `json:"supported"`
	Enabled      bool `json:"enabled"`
	Locked       bool `json:"locked"` // by whatever By says
	Frozen       bool `json:"frozen"`
	CountExpired bool `json:"count_expired"`
	By           Lock `json:"by,omitempty"`
	Encrypting   bool `json:"encrypting,omitempty"` // it encrypts what it stores, always
}

// Lock is what keeps a drive locked. Empty, on a locked drive, is its password: older records know no other.
type Lock string

// The locks.
const (
	LockPassword   Lock = "password"   // of ATA
	LockEncryption Lock = "encryption" // the drive's own, by the TCG's specifications
	LockRefuses    Lock = "refuses"    // it refuses access and does not say more
)

// Words says what the drive is locked by, to follow "locked by".
func (l Lock) Words() string {
	switch l {
	case LockEncryption:
		return "its own encryption"
	case LockRefuses:
		return "something it does not name"
	case LockPassword:
	}
	return "a password"
}

// FaultClass sorts what can go wrong between asking a drive and knowing its answer. Each class has one advice.
type FaultClass string

// The classes of fault.
const (
	FaultNoAnswer    FaultClass = "no_answer"      // the drive did not take or finish the command
	FaultStuck       FaultClass = "stuck"          // a command outlived its deadline and has not come back
	FaultVanished    FaultClass = "vanished"       // the device went away during the command
	FaultNoMedium    FaultClass = "no_medium"      // an adapter answers, without a drive behind it
	FaultRefused     FaultClass = "refused"        // the drive answered: it does not do this
	FaultNotPassed   FaultClass = "not_passed"     // the adapter does not pass the command to the drive
	FaultBadAnswer   FaultClass = "bad_answer"     // the answer breaks its own checksum, length or structure
	FaultSwitchedOff FaultClass = "switched_off"   // the drive has the function, switched off
	FaultNotRead     FaultClass = "not_read"       // nothing was asked, with the reason
	FaultMedium      FaultClass = "medium"         // uncorrectable error of the surface
	FaultLink        FaultClass = "link"           // the transfer itself failed
	FaultLocked      FaultClass = "locked"         // password or other protection
	FaultWrongDrive  FaultClass = "wrong_drive"    // another drive answered than the one expected
	FaultInUse       FaultClass = "in_use"         // the running system uses the drive
	FaultNotAllowed  FaultClass = "not_allowed"    // our own allowlist refused the command
	FaultOutOfRange  FaultClass = "not_understood" // a value no decoder of ours understands
	FaultAsleep      FaultClass = "asleep"         // not asked, so that the drive sleeps on
	FaultBehind      FaultClass = "behind"         // a controller stands between and shows no drives
	FaultVirtual     FaultClass = "virtual"        // a disk that the machine's host makes of a part of another
	FaultNotReady    FaultClass = "not_ready"      // the drive says that it is becoming ready or waits to be started
	FaultDevice      FaultClass = "device_fault"   // the drive says that it is itself at fault
	FaultCapacity    FaultClass = "capacity"       // two say different sizes of it
)

var advice = map[FaultClass]string{
	FaultNoAnswer:    "Check its power and cable, then try again.",
	FaultStuck:       "Leave it in the bay; the other drives go on. Set it aside when they are done.",
	FaultVanished:    "Reseat it, try another port, then try again.",
	FaultNoMedium:    "Put a drive in, or check that the adapter powers it.",
	FaultRefused:     "The drive does not offer this. Nothing to do.",
	FaultNotPassed:   "Counters are not passed by this adapter. Try a direct port.",
	FaultBadAnswer:   "Change the cable, then read again.",
	FaultSwitchedOff: "The function is switched off in the drive. Switching it on is an action of its own.",
	FaultNotRead:     "Nothing was asked of the drive.",
	FaultMedium:      "Copy the data first.",
	FaultLink:        "Change the cable or the port, then read again.",
	FaultLocked:      "Ask the owner to unlock it.",
	FaultWrongDrive:  "Compare the serial with the label; put the right drive in.",
	FaultInUse:       "Use a bay that holds no disk of the running system.",
	FaultNotAllowed:  "Hylostat never sends this command.",
	FaultOutOfRange:  "The bytes are kept; a later version may read them.",
	FaultAsleep:      "Read it by hand: that wakes it.",
	FaultBehind:      "Attach the drive to a plain port.",
	FaultVirtual:     "Look at the machine that has the drive it lies on.",
	FaultNotReady:    "Wait until it has spun up, then read it again.",
	FaultDevice:      "Copy the data first; then switch its power off and on, and read it again.",
	FaultCapacity:    "Compare its size with the label, at a direct port.",
}

// Advice is the one action that fits the class, as a sentence.
func (c FaultClass) Advice() string { return advice[c] }

// Fault is one thing that could not be learned, with its reason. It is a fact about the reading, not a guess about the
// drive's health.
type Fault struct {
	Class FaultClass `json:"class"`
	What  string     `json:"what"`            // what was tried: "SMART READ DATA"
	Cause string     `json:"back"`            // what came back, in words
	Page  string     `json:"page,omitempty"`  // the page it concerns, when it has one
	At    int        `json:"at,omitempty"`    // byte offset inside the page
	Extra string     `json:"extra,omitempty"` // an advice that replaces the class's own
}

// Error makes a Fault usable as an error: what was tried, what came back, what to do.
func (f *Fault) Error() string { return f.What + ": " + f.Cause + ". " + f.Advice() }

// Advice is what to do about the fault.
func (f *Fault) Advice() string {
	if f.Extra != "" {
		return f.Extra
	}
	return f.Class.Advice()
}

// Grade is the answer a verdict gives. The zero value is Undecided.
type Grade uint8

// The four grades, from "not known" to worst.
const (
	Undecided Grade = iota
	Healthy
	Degrading
	Replace
)

var grades = [...]string{"undecided", "healthy", "degrading", "replace"}

func (g Grade) String() string {
	if int(g) < len(grades) {
		return grades[g]
	}
	return fmt.Sprintf("grade(%d)", uint8(g))
}

// ParseGrade reads the word String writes.
func ParseGrade(s string) (Grade, error) {
	for i, word := range grades {
		if s == word {
			return Grade(i), nil
		}
	}
	return Undecided, fmt.Errorf("grade %q: not one of %s", s, strings.Join(grades[:], ", "))
}

// MarshalText writes the grade as its word.
func (g Grade) MarshalText() ([]byte, error) { return []byte(g.String()), nil }

// UnmarshalText reads the grade's word.
func (g *Grade) UnmarshalText(b []byte) (err error) { *g, err = ParseGrade(string(b)); return err }

// Duty is what a drive is meant for.
type Duty string

// The duties, from the most demanding to the least.
const (
	Continuous Duty = "continuous" // powered day and night under load
	Archive    Duty = "archive"    // written once, kept unpowered, must come back
	Everyday   Duty = "everyday"   // the disk of a computer in daily use
	Carry      Duty = "carry"      // files carried about, a copy exists elsewhere
)

// Duties lists all duties, most demanding first.
func Duties() []Duty { return []Duty{Continuous, Archive, Everyday, Carry} }

// ParseDuty reads a duty's word. An empty word is Everyday, the duty nobody has to ask for.
func ParseDuty(s string) (Duty, error) {
	if s == "" {
		return Everyday, nil
	}
	for _, d := range Duties() {
		if s == string(d) {
			return d, nil
		}
	}
	return "", fmt.Errorf("duty %q: not one of continuous, archive, everyday, carry", s)
}

// Printable makes a text that came from a drive safe to show: control and non-ASCII bytes become U+FFFD, blanks at the
// ends go. Terminals, pages and files get no escape sequence a drive invented.
func Printable(s string) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7E {
			return '\uFFFD'
		}
		return r
	}, strings.TrimRight(s, "\x00 ")))
}

// Name makes a name of a text that came from a drive: printable, and never of dots alone, by which no address could lead to the drive.
func Name(s string) string {
	if s = Printable(s); s == "." || s == ".." {
		return "(" + s + ")"
	}
	return s
}

// Address names a place where a drive can be attached, as stable as the hardware allows: "pci-0000:00:04.0-ata-1".
type Address string

// Attachment is what the machine says of an attached drive before anything is asked of the drive itself.
type Attachment struct {
	Address       Address `json:"address"`
	Node          string  `json:"node"`      // "sda"
	Transport     string  `json:"transport"` // "SATA", "USB", "NVMe", "SCSI", "virtual", "image"
	Vendor        string  `json:"vendor,omitempty"`
	Model         string  `json:"model,omitempty"`
	Serial        string  `json:"serial,omitempty"` // as the machine has it; may be an adapter's own
	Bytes         uint64  `json:"bytes"`
	LogicalSector uint32  `json:"logical_sector"`
	InUse         string  `json:"in_use,omitempty"`  // why the running system needs it: "mounted at /"; empty when it does not
	Adapter       string  `json:"adapter,omitempty"` // a bridge's vendor, product and version id: "1f2e:0a01 0100"
	Written       uint64  `json:"written,omitempty"` // bytes this machine has written to it since it found it
	Behind        string  `json:"behind,omitempty"`  // what hides the drives: "behind a RAID controller"
	Instance      string  `json:"instance"`          // changes whenever the machine finds the drive anew
}
