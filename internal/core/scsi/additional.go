package scsi

import "fmt"

// ac makes the key of an additional sense code and its qualifier.
func ac(asc, ascq uint8) uint16 { return uint16(asc)<<8 | uint16(ascq) }

// additional gives words, our own, for the additional sense codes a bench meets (SPC-5 annex F.2). A code that is not here has none:
// the words of another qualifier of the same code may say something else.
var additional = map[uint16]string{
	ac(0x00, 0x00): "no further information",
	ac(0x00, 0x1D): "ATA registers follow",
	ac(0x00, 0x16): "an operation goes on",
	ac(0x02, 0x00): "seek never completed",
	ac(0x03, 0x00): "write fault at the device",
	ac(0x04, 0x00): "cause not given",
	ac(0x04, 0x01): "becoming ready",
	ac(0x04, 0x02): "waits to be told to start",
	ac(0x04, 0x03): "needs a person",
	ac(0x04, 0x04): "being formatted",
	ac(0x04, 0x07): "an operation goes on",
	ac(0x04, 0x09): "a self-test is in progress",
	ac(0x04, 0x11): "waits for the host's permission to spin up",
	ac(0x04, 0x12): "offline",
	ac(0x04, 0x1A): "a start or stop goes on",
	ac(0x04, 0x1B): "being sanitized",
	ac(0x04, 0x1C): "waits for more power to be allowed",
	ac(0x04, 0x22): "needs its power switched off and on",
	ac(0x04, 0x24): "depopulation in progress",
	ac(0x08, 0x00): "link to the drive failed",
	ac(0x08, 0x01): "link to the drive timed out",
	ac(0x08, 0x03): "transfer damaged on the link",
	ac(0x09, 0x00): "lost its track",
	ac(0x0B, 0x00): "warning",
	ac(0x0B, 0x01): "specified temperature exceeded",
	ac(0x0B, 0x02): "enclosure degraded",
	ac(0x0B, 0x03): "background self-test failed",
	ac(0x0B, 0x04): "background pre-scan found a medium error",
	ac(0x0B, 0x05): "background scan found a medium error",
	ac(0x0B, 0x06): "its volatile cache no longer survives",
	ac(0x0B, 0x07): "its power-loss cache no longer survives",
	ac(0x0B, 0x14): "a physical element has changed its state",
	ac(0x0C, 0x00): "write error",
	ac(0x0C, 0x02): "write error, reallocation failed",
	ac(0x0C, 0x03): "write error, reassign it",
	ac(0x10, 0x00): "sector's check bytes wrong",
	ac(0x10, 0x01): "guard check failed",
	ac(0x10, 0x02): "application tag check failed",
	ac(0x10, 0x03): "reference tag check failed",
	ac(0x11, 0x00): "unrecovered read error",
	ac(0x11, 0x01): "unrecovered read error, retries used up",
	ac(0x11, 0x02): "unrecovered read error, too long to correct",
	ac(0x11, 0x04): "unrecovered read error, reallocation failed",
	ac(0x11, 0x0B): "unrecovered read error, reassign it",
	ac(0x11, 0x14): "marked unreadable by a command",
	ac(0x12, 0x00): "no address mark where a sector should be",
	ac(0x14, 0x00): "sector not found",
	ac(0x14, 0x01): "sector not found",
	ac(0x15, 0x00): "positioning error",
	ac(0x15, 0x01): "mechanical positioning error",
	ac(0x15, 0x02): "positioning error seen by reading",
	ac(0x16, 0x00): "synchronisation mark missing",
	ac(0x17, 0x00): "recovered without correction",
	ac(0x17, 0x01): "recovered with retries",
	ac(0x17, 0x06): "recovered and reallocated",
	ac(0x17, 0x09): "recovered and rewritten",
	ac(0x18, 0x00): "recovered with correction",
	ac(0x18, 0x02): "recovered and reallocated",
	ac(0x18, 0x07): "recovered and rewritten",
	ac(0x19, 0x00): "defect list error",
	ac(0x19, 0x01): "defect list not available",
	ac(0x19, 0x02): "error in the primary defect list",
	ac(0x19, 0x03): "error in the grown defect list",
	ac(0x1C, 0x00): "defect list not found",
	ac(0x1D, 0x00): "what was read differs",
	ac(0x1F, 0x00): "only part of the defect list was given",
	ac(0x20, 0x00): "command not known",
	ac(0x20, 0x01): "access denied until enrolled",
	ac(0x20, 0x02): "access denied, locked",
	ac(0x20, 0x03): "access denied, wrong key",
	ac(0x20, 0x08): "access denied, enrolment conflict",
	ac(0x20, 0x09): "access denied, identifier not valid",
	ac(0x20, 0x0A): "access denied, proxy token not valid",
	ac(0x20, 0x0B): "access denied, conflict of rights",
	ac(0x21, 0x00): "address out of range",
	ac(0x21, 0x04): "unaligned write in a zone",
	ac(0x21, 0x05): "write across a zone's end",
	ac(0x21, 0x06): "read beyond what a zone holds",
	ac(0x21, 0x07): "read across a zone's end",
	ac(0x24, 0x00): "field of the command not accepted",
	ac(0x24, 0x04): "security audit value frozen",
	ac(0x24, 0x05): "security working key frozen",
	ac(0x25, 0x00): "logical unit not supported",
	ac(0x26, 0x00): "parameter not accepted",
	ac(0x26, 0x10): "too many wrong decryption keys",
	ac(0x27, 0x00): "write protected",
	ac(0x27, 0x01): "write protected by a switch",
	ac(0x27, 0x02): "write protected by a setting",
	ac(0x27, 0x07): "write protected: it has no room left",
	ac(0x29, 0x00): "was reset or powered on",
	ac(0x29, 0x01): "was powered on",
	ac(0x2C, 0x00): "command out of sequence",
	ac(0x31, 0x00): "format of the medium is damaged",
	ac(0x31, 0x01): "formatting failed",
	ac(0x31, 0x03): "sanitizing failed",
	ac(0x31, 0x04): "depopulation failed",
	ac(0x32, 0x00): "no spare place is left for a bad one",
	ac(0x32, 0x01): "its defect list could not be updated",
	ac(0x3A, 0x00): "no medium",
	ac(0x3E, 0x00): "not configured yet",
	ac(0x3E, 0x01): "logical unit failed",
	ac(0x3E, 0x02): "logical unit timed out",
	ac(0x3E, 0x03): "self-test failed",
	ac(0x40, 0x80): "component failed",
	ac(0x42, 0x00): "power-on or self-test failed",
	ac(0x43, 0x00): "message error",
	ac(0x44, 0x00): "internal target failure",
	ac(0x44, 0x71): "the ATA device failed the command",
	ac(0x47, 0x00): "transfer damaged on the link",
	ac(0x47, 0x01): "data phase damaged on the link",
	ac(0x47, 0x03): "transfer damaged on the link",
	ac(0x4B, 0x00): "data phase error",
	ac(0x4C, 0x00): "could not configure itself",
	ac(0x53, 0x00): "loading or ejecting failed",
	ac(0x55, 0x00): "system resources used up",
	ac(0x5D, 0x00): "failure predicted",
	ac(0x5D, 0xFF): "failure predicted, falsely, for a trial",
	ac(0x65, 0x00): "voltage fault",
	ac(0x74, 0x00): "security error",
	ac(0x74, 0x01): "data cannot be decrypted",
	ac(0x74, 0x03): "wrong encryption key",
	ac(0x74, 0x71): "access not authorized, locked",
	ac(0x74, 0x79): "locked by its ATA password",
}

// words are the words for a pair of codes; false when it has none. The qualifiers of a predicted failure name the counter in their low
// half, which differs by maker; all of them but FFh predict.
func words(asc, ascq uint8) (string, bool) {
	if w, ok := additional[ac(asc, ascq)]; ok {
		return w, true
	}
	switch asc {
	case 0x5D:
		return "failure predicted", true
	case 0x74:
		return "security error", true
	case 0x40:
		return fmt.Sprintf("component %02Xh failed", ascq), true
	}
	return "cause without a name", false
}

// String says the sense in words, with its numbers for the record.
func (s Sense) String() string {
	w, _ := words(s.ASC, s.ASCQ)
	if s.Deferred {
		w += ", of an earlier command"
	}
	return fmt.Sprintf("%s, %s (%X/%02X/%02X)", s.Key, w, uint8(s.Key), s.ASC, s.ASCQ)
}

// WriteProtected reports whether the drive refuses writing and nothing else (SPC-5 annex F.2, 27h).
func (s Sense) WriteProtected() bool { return s.ASC == 0x27 }

// Locked reports whether the command was refused by a lock or for want of a key: access denied (20h with a qualifier), the security
// codes (74h, 79h among them behind a SAT layer: SAT-4 table 180), frozen security values, too many wrong keys, and every other
// data-protect that is no mere write protection.
func (s Sense) Locked() bool {
	switch {
	case s.WriteProtected():
		return false
	case s.ASC == 0x74:
		return true
	case s.ASC == 0x20 && s.ASCQ != 0:
		return s.ASCQ <= 0x03 || s.ASCQ >= 0x08 && s.ASCQ <= 0x0B
	case s.ASC == 0x24 && (s.ASCQ == 0x04 || s.ASCQ == 0x05), s.ASC == 0x26 && s.ASCQ == 0x10:
		return true
	}
	return s.Key == DataProtect
}
