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

// extUse reads the bitmap of each group of blocks (Linux, Documentation/filesystems/ext4, block group descriptors and bitmaps).
func extUse(read Reader, v Volume, u *use) error {
	s, ok := bytesAt(read, v.Start+1024, 1024)
	if !ok {
		return errors.New("its superblock cannot be read")
	}
	incompat, compatRO := le.Uint32(s[0x60:]), le.Uint32(s[0x64:])
	shift, clusterShift := le.Uint32(s[0x18:]), le.Uint32(s[0x1C:])
	if shift > 6 || clusterShift > 20 {
		return errNonsense
	}
	block := uint64(1024) << shift
	first, perGroup := uint64(le.Uint32(s[0x14:])), uint64(le.Uint32(s[0x20:]))
	inodes, inode := uint64(le.Uint32(s[0x28:])), uint64(max(128, le.Uint16(s[0x58:])))
	blocks, size := uint64(le.Uint32(s[4:])), uint64(32)
	if incompat&0x80 != 0 {
		blocks, size = blocks|uint64(le.Uint32(s[0x150:]))<<32, uint64(max(32, le.Uint16(s[0xFE:])))
	}
	unit, units := block, perGroup
	if compatRO&0x200 != 0 { // a bit stands for a cluster
		unit, units = 1024<<clusterShift, uint64(le.Uint32(s[0x24:]))
	}
	if perGroup == 0 || units == 0 || units > 8*block || blocks <= first || blocks > v.Bytes/block || size > block ||
		unit*units != block*perGroup || inodes*inode > 1<<32 {
		return errNonsense
	}
	groups, perBlock := (blocks-first+perGroup-1)/perGroup, block/size
	super := 1024 / block                  // the block it lies in, which may come before the first of a group, or be it
	descriptors := func(n uint64) uint64 { // the block that has the n-th lot of them
		if incompat&0x10 == 0 || n < uint64(le.Uint32(s[0x104:])) {
			return super + 1 + n
		}
		if n == 0 {
			return super + 1
		}
		group := n * perBlock
		if hasSuper(group, compatRO&1 != 0) {
			return first + group*perGroup + 1
		}
		return first + group*perGroup
	}
	u.structure(0, (super+1)*block)
	for n := uint64(0); n*perBlock < groups; n++ {
		at := descriptors(n) * block
		u.structure(at, block)
		b, ok := bytesAt(read, v.Start+at, int(block))
		for i := n * perBlock; i < min(groups, (n+1)*perBlock); i++ {
			m := bitmap{unit: unit, offset: (first + i*perGroup) * block}
			m.left = min(units, (blocks*block-m.offset+unit-1)/unit)
			if !ok {
				u.file(m.offset, m.left*unit)
				continue
			}
			extGroup(read, u, b[i%perBlock*size:][:size], m, extSizes{block, inodes, inode})
		}
	}
	return nil
}

type extSizes struct{ block, inodes, inode uint64 }

// extGroup takes the bitmap of one group, and its inodes as structures.
func extGroup(read Reader, u *use, d []byte, m bitmap, s extSizes) {
	at := func(low, high int) uint64 {
		x := uint64(le.Uint32(d[low:]))
		if len(d) >= 64 {
			x |= uint64(le.Uint32(d[high:])) << 32
		}
		return x * s.block
	}
	flags, unused := le.Uint16(d[0x12:]), uint64(le.Uint16(d[0x1C:]))
	if len(d) >= 64 {
		unused |= uint64(le.Uint16(d[0x32:])) << 16
	}
	u.structure(at(0, 0x20), s.block)
	u.structure(at(4, 0x24), s.block)
	if flags&1 == 0 { // its inodes were made
		u.structure(at(8, 0x28), (s.inodes-min(unused, s.inodes))*s.inode)
	}
	if flags&2 == 0 { // its bitmap was
		m.take(read, u, at(0, 0x20), s.block)
	}
}

// hasSuper reports whether a group begins with a copy of the superblock.
func hasSuper(group uint64, sparse bool) bool {
	if !sparse || group <= 1 {
		return true
	}
	for _, base := range []uint64{3, 5, 7} {
		n := base
		for n < group {
			n *= base
		}
		if n == group {
			return true
		}
	}
	return false
}

// ntfsUse reads the file $Bitmap (the layout is as Linux, fs/ntfs3, has it).
func ntfsUse(read Reader, v Volume, u *use) error {
	b, ok := bytesAt(read, v.Start, 512)
	if !ok {
		return errors.New("its boot sector cannot be read")
	}
	sector, cluster := uint64(le.Uint16(b[11:])), uint64(b[13])
	if cluster > 0x80 {
		cluster = 1 << min(0x100-cluster, 16)
	}
	cluster *= sector
	total := le.Uint64(b[40:]) * sector
	if sector < 256 || sector > 4096 || cluster == 0 || cluster > mostUnit || total > v.Bytes {
		return errNonsense
	}
	record := uint64(1024)
	if n := int8(b[64]); n > 0 {
		record = uint64(n) * cluster
	} else if n >= -14 && n <= -9 {
		record = 1 << -n
	}
	table := le.Uint64(b[48:]) * cluster
	if record > 16384 || table > v.Bytes {
		return errNonsense
	}
	u.structure(0, 16*512)
	for n, name := range map[uint64]string{0: "$MFT", 1: "$MFTMirr", 2: "$LogFile", 6: "$Bitmap"} {
		f, ok := bytesAt(read, v.Start+table+n*record, int(record))
		if ok {
			f = fixed(append([]byte(nil), f...))
		}
		if !ok || f == nil {
			if n == 6 {
				return fmt.Errorf("its file %s cannot be read, or is torn", name)
			}
			continue
		}
		runs, resident := ntfsData(f, cluster)
		for _, r := range runs {
			u.structure(r.Start, r.Bytes)
		}
		if n != 6 {
			continue
		}
		if runs == nil && resident == nil {
			return errors.New("its file $Bitmap has no data")
		}
		m := bitmap{unit: cluster, left: total / cluster}
		m.bytes(u, resident)
		for _, r := range runs {
			m.take(read, u, r.Start, r.Bytes)
		}
		u.file(m.offset, m.left*cluster) // more than one record has: unknown
	}
	return nil
}

// ntfsData gives the runs of a record's unnamed data, in bytes of the volume, or the data itself.
func ntfsData(f []byte, cluster uint64) (runs []Span, resident []byte) {
	for at := int(le.Uint16(f[20:])); at+24 <= len(f); {
		kind, length := le.Uint32(f[at:]), int(le.Uint32(f[at+4:]))
		if kind == 0xFFFFFFFF || length < 24 || at+length > len(f) {
			return nil, nil
		}
		a := f[at : at+length]
		at += length
		switch {
		case kind != 0x80 || a[9] != 0:
			continue
		case a[8] == 0:
			from, size := int(le.Uint16(a[20:])), int(le.Uint32(a[16:]))
			if size < 0 || from+size > len(a) {
				return nil, nil
			}
			return nil, a[from : from+size]
		case len(a) < 64:
			return nil, nil
		}
		lcn := int64(0)
		for i := int(le.Uint16(a[32:])); i < len(a) && a[i] != 0; {
			sizes := a[i]
			n, o := int(sizes&15), int(sizes>>4)
			if n == 0 || n > 8 || o > 8 || i+1+n+o > len(a) {
				return runs, nil
			}
			count := uint64(signed(a[i+1 : i+1+n]))
			if i += 1 + n; o > 0 {
				lcn += signed(a[i : i+o])
				if lcn >= 0 && count < 1<<40 {
					runs = append(runs, Span{uint64(lcn) * cluster, count * cluster})
				}
			}
			i += o
		}
		return runs, nil
	}
	return nil, nil
}

// signed is a little-endian number of up to eight bytes.
func signed(b []byte) int64 {
	var x int64
	for i := len(b) - 1; i >= 0; i-- {
		x = x<<8 | int64(b[i])
	}
	if n := len(b); n < 8 && b[n-1]&0x80 != 0 {
		x |= -1 << (8 * n)
	}
	return x
}

// exFATUse reads the allocation bitmap that the root directory names (exFAT file system specification, 7.1).
func exFATUse(read Reader, v Volume, u *use) error {
	b, ok := bytesAt(read, v.Start, 512)
	if !ok {
		return errors.New("its boot sector cannot be read")
	}
	if b[108] < 9 || b[108] > 12 || b[109] > 25-b[108] {
		return errNonsense
	}
	sector := uint64(1) << b[108]
	f := clusters{
		size: sector << b[109], count: uint64(le.Uint32(b[92:])), heap: uint64(le.Uint32(b[88:])) * sector,
		table: uint64(le.Uint32(b[80:])) * sector,
	}
	if f.heap > v.Bytes || f.count > (v.Bytes-f.heap)/f.size {
		return errNonsense
	}
	u.structure(0, f.heap)
	for _, root := range f.chain(read, v, uint64(le.Uint32(b[96:])), 1<<16) {
		u.structure(f.at(root), f.size)
		d, ok := bytesAt(read, v.Start+f.at(root), int(min(f.size, atOnce)))
		if !ok {
			continue
		}
		for ; len(d) >= 32; d = d[32:] {
			if d[0] != 0x81 || d[1]&1 != 0 {
				continue
			}
			m := bitmap{unit: f.size, offset: f.heap, left: f.count}
			for _, n := range f.chain(read, v, uint64(le.Uint32(d[20:])), (f.count/8+f.size)/f.size) {
				u.structure(f.at(n), f.size)
				for piece := uint64(0); piece < f.size; piece += atOnce {
					m.take(read, u, f.at(n)+piece, min(atOnce, f.size-piece))
				}
			}
			m.unknown(u, m.left)
			return nil
		}
	}
	return errors.New("its root directory names no bitmap")
}

// clusters are what FAT and exFAT count in, from 2 on. Offsets are of the volume, in bytes.
type clusters struct{ size, count, heap, table uint64 }

func (c clusters) at(n uint64) uint64 { return c.heap + (n-2)*c.size }

// chain follows a chain of so many clusters at most, through entries of 32 bits.
func (c clusters) chain(read Reader, v Volume, n, most uint64) (all []uint64) {
	for n >= 2 && n < c.count+2 && uint64(len(all)) < most {
		all = append(all, n)
		b, ok := bytesAt(read, v.Start+c.table+4*n, 4)
		if !ok {
			break
		}
		n = uint64(le.Uint32(b))
	}
	return all
}

// fatUse takes clusters whose entry in the first table is not 0 (FAT32 File System Specification 1.03).
func fatUse(read Reader, v Volume, u *use) error {
	b, ok := bytesAt(read, v.Start, 512)
	if !ok {
		return errors.New("its boot sector cannot be read")
	}
	sector, reserved, tables := uint64(le.Uint16(b[11:])), uint64(le.Uint16(b[14:])), uint64(b[16])
	total, size := uint64(le.Uint16(b[19:])), uint64(le.Uint16(b[22:]))
	if total == 0 {
		total = uint64(le.Uint32(b[32:]))
	}
	if size == 0 {
		size = uint64(le.Uint32(b[36:]))
	}
	root := (uint64(le.Uint16(b[17:]))*32 + sector - 1) / max(1, sector)
	f := clusters{size: uint64(b[13]) * sector, heap: (reserved + tables*size + root) * sector, table: reserved * sector}
	if sector < 512 || f.size == 0 || total*sector > v.Bytes || f.heap > total*sector {
		return errNonsense
	}
	f.count = (total*sector - f.heap) / f.size
	width := map[string]uint64{"FAT12": 12, "FAT16": 16, "FAT32": 32}[v.Kind]
	f.count = min(f.count, size*sector*8/width)
	u.structure(0, f.heap)
	const entries = 65536 // 96, 128 or 256 KiB
	for n := uint64(0); n < f.count+2; n += entries {
		some := min(entries, f.count+2-n)
		t, ok := bytesAt(read, v.Start+f.table+n*width/8, int((some*width+7)/8))
		for i := range some {
			if n+i >= 2 && (!ok || entry(t, i, width) != 0) {
				u.file(f.at(n+i), f.size)
			}
		}
	}
	return nil
}

// entry is the i-th of a table of FAT.
func entry(t []byte, i, width uint64) uint32 {
	switch width {
	case 12:
		x := uint32(t[i*3/2]) | uint32(t[i*3/2+1])<<8
		return x >> (4 * (i & 1)) & 0xFFF
	case 16:
		return uint32(le.Uint16(t[2*i:]))
	}
	return le.Uint32(t[4*i:]) & 0x0FFFFFFF
}

// hfsUse reads the allocation file (Apple Technical Note 1150).
func hfsUse(read Reader, v Volume, u *use) error {
	h, ok := bytesAt(read, v.Start+1024, 512)
	if !ok {
		return errors.New("its volume header cannot be read")
	}
	block, blocks := uint64(be.Uint32(h[40:])), uint64(be.Uint32(h[44:]))
	if block < 512 || block > mostUnit || block&(block-1) != 0 || blocks > v.Bytes/block {
		return errNonsense
	}
	u.structure(0, 2048)
	u.structure(blocks*block-1024, 1024) // the other header
	m := bitmap{unit: block, high: true, left: blocks}
	for _, fork := range []int{112, 192, 272, 352} { // of the bitmap, extents, catalogue and attributes
		for e := fork + 16; e < fork+80; e += 8 {
			start, count := uint64(be.Uint32(h[e:]))*block, uint64(be.Uint32(h[e+4:]))*block
			u.structure(start, count)
			if fork == 112 {
				m.take(read, u, start, count)
			}
		}
	}
	u.file(m.offset, m.left*block) // told by extents that lie elsewhere
	return nil
}

// apfsUse reads the bitmaps of the space manager of the latest checkpoint (Apple File System Reference: Objects, Container, Space
// Manager).
func apfsUse(read Reader, v Volume, u *use) error {
	first, ok := bytesAt(read, v.Start, 4096)
	if !ok {
		return errors.New("its superblock cannot be read")
	}
	a := apfsReader{read: read, v: v, block: uint64(le.Uint32(first[36:]))}
	if a.block < 4096 || a.block > 1<<16 || le.Uint64(first[40:]) > v.Bytes/a.block {
		return errNonsense
	}
	super, manager, err := a.spaceManager(first)
	if err != nil {
		return err
	}
	u.structure(0, a.block)
	for _, area := range [][2]int{{112, 104}, {120, 108}} { // checkpoint descriptors and data
		u.structure(le.Uint64(super[area[0]:])*a.block, uint64(le.Uint32(super[area[1]:])&0x7FFFFFFF)*a.block)
	}
	dev := manager[48:]
	infos, lists, at := uint64(le.Uint32(dev[16:])), uint64(le.Uint32(dev[20:])), int(le.Uint32(dev[32:]))
	if lists > 0 {
		infos = lists
	}
	addresses, err := a.addresses(manager, at, infos)
	if err != nil {
		return err
	}
	if lists > 0 { // each of them lists chunk infos
		all := addresses
		addresses = nil
		for _, address := range all {
			b, ok := a.at(address)
			if !ok {
				return errors.New("its space manager cannot be read")
			}
			u.structure(address*a.block, a.block)
			some, err := a.addresses(b, 40, uint64(le.Uint32(b[36:])))
			if err != nil {
				return err
			}
			addresses = append(addresses, some...)
		}
	}
	perInfo := uint64(le.Uint32(manager[40:])) * uint64(le.Uint32(manager[36:]))
	for n, address := range addresses {
		u.structure(address*a.block, a.block)
		b, ok := a.at(address)
		if !ok {
			u.file(uint64(n)*perInfo*a.block, perInfo*a.block)
			continue
		}
		for i := range min(int(le.Uint32(b[36:])), (len(b)-40)/32) {
			c := b[40+32*i:]
			m := bitmap{unit: a.block, offset: le.Uint64(c[8:]) * a.block, left: uint64(le.Uint32(c[16:]))}
			if bits := le.Uint64(c[24:]); bits != 0 {
				u.structure(bits*a.block, a.block)
				m.take(read, u, bits*a.block, a.block)
			}
		}
	}
	return nil
}

type apfsReader struct {
	read  Reader
	v     Volume
	block uint64
}

// at reads the block of an address.
func (a apfsReader) at(address uint64) ([]byte, bool) {
	if address >= a.v.Bytes/a.block {
		return nil, false
	}
	return bytesAt(a.read, a.v.Start+address*a.block, int(a.block))
}

// addresses are so many of a block, from a place in it on.
func (a apfsReader) addresses(b []byte, at int, n uint64) ([]uint64, error) {
	if at < 0 || at > len(b) || n > uint64(len(b)-at)/8 {
		return nil, errNonsense
	}
	all := make([]uint64, n)
	for i := range all {
		all[i] = le.Uint64(b[at+8*i:])
	}
	return all, nil
}

// Kinds of objects.
const (
	apfsMap     = 0x0C // of a checkpoint
	apfsManager = 0x05 // of space
)

// spaceManager finds that of the latest checkpoint, and the superblock it belongs to.
func (a apfsReader) spaceManager(super []byte) (latest, manager []byte, err error) {
	base, count := le.Uint64(super[112:]), uint64(le.Uint32(super[104:]))
	if count == 0 || count > 1<<16 { // also where the area is not in one piece
		return nil, nil, errNonsense
	}
	latest = super
	for n := range count {
		if b, ok := a.at(base + n); ok && is(b, 32, "NXSB") && apfsSum(b) && le.Uint64(b[16:]) > le.Uint64(latest[16:]) {
			latest = b
		}
	}
	wanted, index, length := le.Uint64(latest[152:]), uint64(le.Uint32(latest[136:])), uint64(le.Uint32(latest[140:]))
	for n := range min(length, count) {
		b, ok := a.at(base + (index+n)%count)
		if !ok || le.Uint16(b[24:]) != apfsMap || !apfsSum(b) {
			continue
		}
		for i := range min(int(le.Uint32(b[36:])), (len(b)-40)/40) {
			if e := b[40+40*i:]; le.Uint64(e[24:]) == wanted {
				size := max(uint64(le.Uint32(e[8:])), a.block)
				address := le.Uint64(e[32:])
				if size > 1<<20 || address >= a.v.Bytes/a.block {
					return nil, nil, errNonsense
				}
				manager, ok := bytesAt(a.read, a.v.Start+address*a.block, int(size))
				if !ok || le.Uint16(manager[24:]) != apfsManager || !apfsSum(manager) {
					return nil, nil, errors.New("its space manager cannot be read, or is torn")
				}
				return latest, manager, nil
			}
		}
	}
	return nil, nil, errors.New("its latest checkpoint names no space manager")
}

// apfsSum checks the sum of an object: Fletcher's, of 64 bits, over all but the sum itself.
func apfsSum(b []byte) bool {
	const most = 1<<32 - 1
	var low, high uint64
	for i := 8; i+4 <= len(b); i += 4 {
		low = (low + uint64(le.Uint32(b[i:]))) % most
		high = (high + low) % most
	}
	first := most - (low+high)%most
	second := most - (low+first)%most
	return le.Uint64(b) == second<<32|first
}
