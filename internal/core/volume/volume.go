// Package volume recognises partition tables and file systems by their own structures, as they lie on a drive: kind, label, size,
// and whether they say of themselves that they are clean. It mounts nothing, trusts nothing and writes nothing. What it needs it
// asks for by place; the same answers give the same findings, so that a bench may read and a service decide. Start with Look;
// table.go has the partition tables, super.go the file systems. InUse tells what one uses: inuse.go, and a
// file for each kind.
package volume

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
)

// Reader gives length bytes at an offset of the drive, in bytes. An error, or fewer bytes, is a place that could not be read.
type Reader func(offset uint64, length int) ([]byte, error)

// State is what a volume says of itself.
type State string

// The states. Only Damaged is a fault: a volume that was not closed is usual after a crash, and is put right when it is mounted.
const (
	Clean   State = "clean"
	Open    State = "not closed" // not unmounted, or a journal waits to be replayed
	Damaged State = "damaged"    // by its own word, or its own structures contradict each other
	Unsaid  State = "not said"   // its structures do not tell
)

// Volume is one file system, or another use of a stretch of a drive.
type Volume struct {
	Partition int    // its number; 0: it takes the whole drive
	Start     uint64 // bytes
	Bytes     uint64 // of the partition
	Type      string // by the partition table; empty: none
	Kind      string // "ext4", "NTFS", "LUKS 2" ...; empty: not recognised
	Label     string
	UUID      string
	Size      uint64 // by its own word, bytes; 0: not told
	State     State
	Why       string // what tells the state
}

// Layout is what a drive holds.
type Layout struct {
	Scheme  string   // "GPT", "MBR", or empty
	Faults  []string // of the partition table
	Volumes []Volume // in the order of the table
}

// Damaged reports whether a volume, or the table itself, is damaged.
func (l Layout) Damaged() bool {
	for _, v := range l.Volumes {
		if v.State == Damaged {
			return true
		}
	}
	return len(l.Faults) > 0
}

// most is how many partitions are looked at: more is no table but noise.
const most = 128

// Look finds out what a drive of so many bytes, in sectors of that size, holds. A drive without a partition table may be one
// volume as a whole.
func Look(read Reader, bytes uint64, sector uint32) Layout {
	if sector < 512 || sector > 1<<16 || bytes < uint64(sector)*4 {
		return Layout{Faults: []string{fmt.Sprintf("%d bytes in sectors of %d are no drive", bytes, sector)}}
	}
	whole := look(read, Volume{Bytes: bytes})
	l := table(read, bytes, sector)
	// A boot sector of a file system ends as a partition table does: the file system is the better explanation.
	if whole.Kind != "" && (l.Scheme == "" || l.Scheme == "MBR" && !l.plausible(bytes)) {
		return Layout{Volumes: []Volume{whole}}
	}
	for i, v := range l.Volumes {
		l.Volumes[i] = look(read, v)
		if v := &l.Volumes[i]; v.Size > v.Bytes && v.State != Damaged && v.Bytes > 0 {
			v.State, v.Why = Damaged, fmt.Sprintf("it claims %d bytes in a partition of %d", v.Size, v.Bytes)
		}
	}
	return l
}

// plausible reports whether a table's partitions lie within the drive.
func (l Layout) plausible(bytes uint64) bool {
	for _, v := range l.Volumes {
		if v.Start+v.Bytes > bytes {
			return false
		}
	}
	return len(l.Volumes) > 0
}

// bytesAt reads, and reports whether all came.
func bytesAt(read Reader, offset uint64, length int) ([]byte, bool) {
	b, err := read(offset, length)
	return b, err == nil && len(b) >= length
}

// name makes a label fit to be shown: it comes from a stranger's drive.
func name(raw []byte) string {
	s, _, _ := strings.Cut(string(raw), "\x00")
	return shown(s)
}

func name16(raw []byte) string {
	units := make([]uint16, 0, len(raw)/2)
	for i := 0; i+1 < len(raw); i += 2 {
		u := uint16(raw[i]) | uint16(raw[i+1])<<8
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return shown(string(utf16.Decode(units)))
}

func shown(s string) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if r == unicode.ReplacementChar || !unicode.IsPrint(r) {
			return '?'
		}
		return r
	}, s))
}

// uuid writes 16 bytes as RFC 9562 does; zeros are none.
func uuid(b []byte) string {
	if len(b) < 16 || strings.Trim(string(b[:16]), "\x00") == "" {
		return ""
	}
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[0:4], b[4:6], b[6:8], b[8:10], b[10:16])
}

// guid writes the mixed order of GPT (UEFI 2.10, appendix A).
func guid(b []byte) string {
	return fmt.Sprintf("%02x%02x%02x%02x-%02x%02x-%02x%02x-%x-%x", b[3], b[2], b[1], b[0], b[5], b[4], b[7], b[6], b[8:10], b[10:16])
}
