package volume

import (
	"cmp"
	"errors"
	"fmt"
	"math/bits"
	"slices"
)

// Span is a run of bytes of a drive.
type Span struct{ Start, Bytes uint64 }

// End is the byte after its last.
func (s Span) End() uint64 { return s.Start + s.Bytes }

// Use is what a file system uses, by its own word: runs of bytes of the drive, sorted, none beside another. Small gaps are left out.
type Use struct {
	Structures []Span // that say where everything lies
	All        []Span // these, and what lies in files
}

// InUse reads which bytes a file system uses that Look has recognised. Where a part of what tells it cannot be read, all that it would
// tell of is taken for used. It errs where nothing tells: the whole volume may be used then.
func InUse(read Reader, v Volume) (Use, error) { return inUse(read, v, leastGap) }

// inUse leaves out gaps up to so many bytes.
func inUse(read Reader, v Volume, gap uint64) (Use, error) {
	of, ok := map[string]func(Reader, Volume, *use) error{
		"ext2": extUse, "ext3": extUse, "ext4": extUse, "NTFS": ntfsUse, "exFAT": exFATUse, "FAT12": fatUse, "FAT16": fatUse,
		"FAT32": fatUse, "HFS Plus": hfsUse, "APFS": apfsUse,
	}[v.Kind]
	if !ok {
		return Use{}, fmt.Errorf("it is not known how %s says what is in use", cmp.Or(v.Kind, "what was not recognised"))
	}
	u := &use{volume: v, structures: spans{gap: gap}, all: spans{gap: gap}}
	if err := of(read, v, u); err != nil {
		return Use{}, fmt.Errorf("what %s uses: %w", v.Kind, err)
	}
	structures := u.structures.sorted()
	for _, s := range structures {
		u.all.add(s)
	}
	return Use{structures, u.all.sorted()}, nil
}

// use collects what is in use. Offsets are of the volume.
type use struct {
	volume          Volume
	structures, all spans
}

func (u *use) structure(offset, bytes uint64) { u.structures.add(u.within(offset, bytes)) }

func (u *use) file(offset, bytes uint64) { u.all.add(u.within(offset, bytes)) }

// within cuts what a file system says to its volume.
func (u *use) within(offset, bytes uint64) Span {
	offset = min(offset, u.volume.Bytes)
	return Span{u.volume.Start + offset, min(bytes, u.volume.Bytes-offset)}
}

// spans are joined where the gap between them is small; how small that is grows with how many there are.
type spans struct {
	all []Span
	gap uint64
}

// What is kept: a gap of this many bytes takes no longer to read than to pass over.
const (
	leastGap  = 256 << 10
	mostSpans = 1 << 18
)

func (s *spans) add(x Span) {
	if x.Bytes == 0 {
		return
	}
	if n := len(s.all); n > 0 && x.Start >= s.all[n-1].Start && x.Start <= s.all[n-1].End()+s.gap {
		s.all[n-1].Bytes = max(s.all[n-1].End(), x.End()) - s.all[n-1].Start
		return
	}
	if s.all = append(s.all, x); len(s.all) > mostSpans {
		s.all = s.sorted()
		for len(s.all) > mostSpans/2 {
			s.gap = max(2*s.gap, 4096)
			s.all = s.sorted()
		}
	}
}

func (s *spans) sorted() []Span {
	slices.SortFunc(s.all, func(a, b Span) int { return cmp.Compare(a.Start, b.Start) })
	joined := s.all[:0]
	for _, x := range s.all {
		if n := len(joined); n > 0 && x.Start <= joined[n-1].End()+s.gap {
			joined[n-1].Bytes = max(joined[n-1].End(), x.End()) - joined[n-1].Start
			continue
		}
		joined = append(joined, x)
	}
	return joined
}

// Sizes of what is read at once, and of what is believed.
const (
	atOnce    = 256 << 10
	mostTells = 2 << 30 // bytes of bitmaps and tables
	mostUnit  = 64 << 20
)

var errNonsense = errors.New("its sizes are nonsense")

// bitmap takes units as used whose bit is set; the first bit is that of the unit at an offset of the volume. The lowest bit of a byte
// comes first, or with high the highest.
type bitmap struct {
	unit   uint64 // bytes
	high   bool
	offset uint64 // of the unit of the next bit
	left   uint64 // units
}

// take reads the next bits, which lie in a run of bytes of the volume.
func (m *bitmap) take(read Reader, u *use, at, length uint64) {
	for length > 0 && m.left > 0 {
		n := min(length, atOnce)
		b, ok := bytesAt(read, u.volume.Start+at, int(n))
		if !ok || at+n > u.volume.Bytes {
			m.unknown(u, n)
		} else {
			m.bytes(u, b[:n])
		}
		at, length = at+n, length-n
	}
}

// unknown takes the units of so many bytes as used.
func (m *bitmap) unknown(u *use, n uint64) {
	units := min(8*n, m.left)
	u.file(m.offset, units*m.unit)
	m.offset, m.left = m.offset+units*m.unit, m.left-units
}

func (m *bitmap) bytes(u *use, b []byte) {
	for _, x := range b {
		if m.left == 0 {
			return
		}
		if m.high {
			x = bits.Reverse8(x)
		}
		units := min(8, m.left)
		switch x {
		case 0:
		case 0xFF:
			u.file(m.offset, units*m.unit)
		default:
			for i := range units {
				if x&(1<<i) != 0 {
					u.file(m.offset+i*m.unit, m.unit)
				}
			}
		}
		m.offset, m.left = m.offset+units*m.unit, m.left-units
	}
}
