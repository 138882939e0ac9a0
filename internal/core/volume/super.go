package volume

import (
	"fmt"
	"hash/crc32"
	"iter"
)

// head is how much of a volume's begin is read at once; btrfs keeps its superblock beyond.
const head = 8192

// look recognises what lies in a volume's place. Offsets are of the structures named beside each.
func look(read Reader, v Volume) Volume {
	v.State = Unsaid
	b, ok := bytesAt(read, v.Start, int(min(head, max(v.Bytes, 512))))
	if !ok {
		v.State, v.Why = Damaged, "its first sectors cannot be read"
		return v
	}
	b = append(b, make([]byte, head)...)[:head]
	for _, recognise := range []func(Reader, []byte, *Volume) bool{
		luks, lvm, raid, swap, bitLocker, xfs, ext, f2fs, apfs, hfs, exFAT, ntfs, fat, btrfs,
	} {
		if recognise(read, b, &v) {
			return v
		}
	}
	return v
}

func is(b []byte, at int, magic string) bool { return string(b[at:at+len(magic)]) == magic }

// ext is ext2, 3 and 4 (Linux, Documentation/filesystems/ext4, super block).
func ext(_ Reader, b []byte, v *Volume) bool {
	s := b[1024:2048]
	if le.Uint16(s[0x38:]) != 0xEF53 {
		return false
	}
	compat, incompat, state := le.Uint32(s[0x5C:]), le.Uint32(s[0x60:]), le.Uint16(s[0x3A:])
	shift := le.Uint32(s[0x18:])
	if shift > 6 {
		v.Kind, v.State, v.Why = "ext", Damaged, "its block size is nonsense"
		return true
	}
	blocks := uint64(le.Uint32(s[0x04:]))
	if incompat&0x80 != 0 {
		blocks |= uint64(le.Uint32(s[0x150:])) << 32
	}
	v.Kind = "ext2"
	switch {
	case incompat&0x2C0 != 0: // extents, 64 bit, flexible groups
		v.Kind = "ext4"
	case compat&4 != 0:
		v.Kind = "ext3"
	}
	v.Size, v.UUID, v.Label = blocks<<(10+shift), uuid(s[0x68:]), name(s[0x78:0x88])
	switch errors := le.Uint32(s[0x194:]); {
	case state&2 != 0:
		v.State, v.Why = Damaged, "it notes errors of its own"
		if errors > 0 {
			v.Why = fmt.Sprintf("it notes %d errors of its own", errors)
		}
	case incompat&4 != 0:
		v.State, v.Why = Open, "its journal waits to be replayed"
	case state&1 == 0:
		v.State, v.Why = Open, "it was not unmounted"
	default:
		v.State, v.Why = Clean, "it was unmounted"
	}
	return true
}

// xfs tells neither whether it was unmounted nor whether it is whole: that stands in its log (XFS Algorithms & Data Structures,
// 3rd edition, 13.1).
func xfs(_ Reader, b []byte, v *Volume) bool {
	if !is(b, 0, "XFSB") {
		return false
	}
	v.Kind, v.UUID, v.Label = "XFS", uuid(b[32:]), name(b[108:120])
	v.Size = uint64(be.Uint32(b[4:])) * be.Uint64(b[8:])
	if b[126] != 0 {
		v.State, v.Why = Damaged, "it was never made to its end"
	}
	return true
}

// castagnoli is the polynomial of btrfs's checksums.
var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// btrfs (btrfs documentation, On-disk format, superblock).
func btrfs(read Reader, _ []byte, v *Volume) bool {
	if v.Bytes < 69<<10 {
		return false
	}
	s, ok := bytesAt(read, v.Start+64<<10, 4096)
	if !ok || !is(s, 0x40, "_BHRfS_M") {
		return false
	}
	v.Kind, v.UUID, v.Label, v.Size = "btrfs", uuid(s[0x20:]), name(s[0x12B:0x22B]), le.Uint64(s[0x70:])
	switch {
	case le.Uint16(s[0xC4:]) == 0 && crc32.Checksum(s[0x20:0x1000], castagnoli) != le.Uint32(s):
		v.State, v.Why = Damaged, "the checksum of its superblock is wrong"
	case le.Uint64(s[0x60:]) != 0:
		v.State, v.Why = Open, "its log waits to be replayed"
	default:
		v.State, v.Why = Clean, "no log waits"
	}
	return true
}

// f2fs (Linux, include/linux/f2fs_fs.h). Its checkpoint tells the state, not its superblock.
func f2fs(_ Reader, b []byte, v *Volume) bool {
	s := b[1024:]
	if le.Uint32(s) != 0xF2F52010 {
		return false
	}
	v.Kind, v.UUID, v.Label = "F2FS", uuid(s[108:]), name16(s[124:636])
	if shift := le.Uint32(s[16:]); shift < 20 {
		v.Size = le.Uint64(s[36:]) << shift
	}
	return true
}

// apfs (Apple File System Reference, container superblock).
func apfs(_ Reader, b []byte, v *Volume) bool {
	if !is(b, 32, "NXSB") {
		return false
	}
	v.Kind, v.UUID, v.Size = "APFS", uuid(b[72:]), uint64(le.Uint32(b[36:]))*le.Uint64(b[40:])
	return true
}

// hfs is HFS Plus (Apple Technical Note 1150, volume header).
func hfs(_ Reader, b []byte, v *Volume) bool {
	s := b[1024:]
	if !is(s, 0, "H+") && !is(s, 0, "HX") {
		return false
	}
	v.Kind, v.Size = "HFS Plus", uint64(be.Uint32(s[40:]))*uint64(be.Uint32(s[44:]))
	switch attributes := be.Uint32(s[4:]); {
	case attributes&0x800 != 0:
		v.State, v.Why = Damaged, "it notes that it is inconsistent"
	case attributes&0x100 != 0:
		v.State, v.Why = Clean, "it was unmounted"
	default:
		v.State, v.Why = Open, "it was not unmounted"
	}
	return true
}

// exFAT (exFAT file system specification, 3.1).
func exFAT(_ Reader, b []byte, v *Volume) bool {
	if !is(b, 3, "EXFAT   ") {
		return false
	}
	v.Kind = "exFAT"
	if shift := b[108]; shift >= 9 && shift <= 12 {
		v.Size = le.Uint64(b[72:]) << shift
	}
	v.UUID = fmt.Sprintf("%04X-%04X", le.Uint16(b[102:]), le.Uint16(b[100:]))
	switch flags := le.Uint16(b[106:]); {
	case flags&4 != 0:
		v.State, v.Why = Damaged, "it notes that its drive failed it"
	case flags&2 != 0:
		v.State, v.Why = Open, "it was not unmounted"
	default:
		v.State, v.Why = Clean, "it was unmounted"
	}
	return true
}

// fat is FAT12, 16 and 32 (FAT32 File System Specification 1.03; the state is in the second entry of the table).
func fat(read Reader, b []byte, v *Volume) bool {
	sector, cluster, reserved, tables, rootEntries := uint64(le.Uint16(b[11:])), uint64(b[13]), uint64(le.Uint16(b[14:])), uint64(
		b[16],
	), uint64(le.Uint16(b[17:]))
	if b[510] != 0x55 || b[511] != 0xAA || b[0] != 0xEB && b[0] != 0xE9 || cluster == 0 || cluster&(cluster-1) != 0 || reserved == 0 ||
		tables == 0 ||
		sector != 512 && sector != 1024 && sector != 2048 && sector != 4096 {
		return false
	}
	total, size := uint64(le.Uint16(b[19:])), uint64(le.Uint16(b[22:]))
	if total == 0 {
		total = uint64(le.Uint32(b[32:]))
	}
	big := size == 0
	if big {
		size = uint64(le.Uint32(b[36:]))
	}
	used := reserved + tables*size + (rootEntries*32+sector-1)/sector
	if total <= used {
		return false
	}
	label, serial := b[43:54], b[39:]
	switch clusters := (total - used) / cluster; {
	case big:
		v.Kind, label, serial = "FAT32", b[71:82], b[67:]
	case clusters < 4085:
		v.Kind = "FAT12"
	default:
		v.Kind = "FAT16"
	}
	v.Size, v.UUID = total*sector, fmt.Sprintf("%04X-%04X", le.Uint16(serial[2:]), le.Uint16(serial))
	if v.Label = name(label); v.Label == "NO NAME" {
		v.Label = ""
	}
	entry, ok := bytesAt(read, v.Start+reserved*sector, 512)
	if !ok {
		v.State, v.Why = Damaged, "its table cannot be read"
		return true
	}
	var closed, whole bool
	switch v.Kind {
	case "FAT32":
		closed, whole = le.Uint32(entry[4:])&(1<<27) != 0, le.Uint32(entry[4:])&(1<<26) != 0
	case "FAT16":
		closed, whole = le.Uint16(entry[2:])&(1<<15) != 0, le.Uint16(entry[2:])&(1<<14) != 0
	default: // twelve bits have no room for it
		return true
	}
	switch {
	case !whole:
		v.State, v.Why = Damaged, "it notes that reading or writing failed"
	case !closed:
		v.State, v.Why = Open, "it was not unmounted"
	default:
		v.State, v.Why = Clean, "it was unmounted"
	}
	return true
}

// ntfs says in its file 3, $Volume, whether it is to be checked (the layout is as Linux, fs/ntfs3, has it).
func ntfs(read Reader, b []byte, v *Volume) bool {
	if !is(b, 3, "NTFS    ") {
		return false
	}
	v.Kind = "NTFS"
	s, ok := ntfsSizesOf(b)
	if s.cluster > 0 {
		v.Size, v.UUID = s.bytes, fmt.Sprintf("%016X", le.Uint64(b[72:]))
	}
	if !ok || s.table > v.Bytes {
		v.State, v.Why = Damaged, "its sizes are nonsense"
		return true
	}
	f, ok := bytesAt(read, v.Start+s.table+3*s.record, int(s.record))
	if !ok {
		v.State, v.Why = Damaged, "its file $Volume cannot be read"
		return true
	}
	if f = fixed(append([]byte(nil), f...)); f == nil {
		v.State, v.Why = Damaged, "its file $Volume is torn or no file"
		return true
	}
	for a := range ntfsAttributes(f) {
		value := a.resident()
		switch kind := le.Uint32(a); {
		case kind == 0x60 && value != nil:
			v.Label = name16(value)
		case kind == 0x70 && len(value) >= 12:
			if v.State, v.Why = Clean, "it was unmounted"; le.Uint16(value[10:])&1 != 0 {
				v.State, v.Why = Open, "it is marked to be checked"
			}
		}
	}
	return true
}

// ntfsSizes are those of a boot sector, in bytes; the table of files begins at an offset of the volume.
type ntfsSizes struct{ bytes, cluster, record, table uint64 }

// ntfsSizesOf reports false where they are nonsense.
func ntfsSizesOf(b []byte) (s ntfsSizes, ok bool) {
	sector, cluster := uint64(le.Uint16(b[11:])), uint64(b[13])
	if cluster > 0x80 {
		cluster = 1 << min(0x100-cluster, 16)
	}
	if sector < 256 || sector > 4096 || cluster == 0 {
		return s, false
	}
	s = ntfsSizes{bytes: le.Uint64(b[40:]) * sector, cluster: cluster * sector, record: 1024}
	if n := int8(b[64]); n > 0 {
		s.record = uint64(n) * s.cluster
	} else if n >= -14 && n <= -9 {
		s.record = 1 << -n
	}
	s.table = le.Uint64(b[48:]) * s.cluster
	return s, s.record <= 16384
}

// ntfsAttribute is one of a record of the table of files.
type ntfsAttribute []byte

// ntfsAttributes are those of a record.
func ntfsAttributes(f []byte) iter.Seq[ntfsAttribute] {
	return func(yield func(ntfsAttribute) bool) {
		for at := int(le.Uint16(f[20:])); at+24 <= len(f); {
			kind, length := le.Uint32(f[at:]), int(le.Uint32(f[at+4:]))
			if kind == 0xFFFFFFFF || length < 24 || at+length > len(f) || !yield(f[at:at+length]) {
				return
			}
			at += length
		}
	}
}

// resident is its value, where that stands in the record itself; nil: it does not.
func (a ntfsAttribute) resident() []byte {
	from, size := int(le.Uint16(a[20:])), int(le.Uint32(a[16:]))
	if a[8] != 0 || size < 0 || from+size > len(a) {
		return nil
	}
	return a[from : from+size : from+size]
}

// fixed puts back what NTFS keeps aside of each 512 bytes of a record, to know a torn write; nil when one is torn.
func fixed(f []byte) []byte {
	if len(f) < 48 || !is(f, 0, "FILE") {
		return nil
	}
	at, count := int(le.Uint16(f[4:])), int(le.Uint16(f[6:]))
	if count == 0 || at+2*count > len(f) || (count-1)*512 > len(f) {
		return nil
	}
	for i := 1; i < count; i++ {
		end := i*512 - 2
		if f[end] != f[at] || f[end+1] != f[at+1] {
			return nil
		}
		copy(f[end:], f[at+2*i:at+2*i+2])
	}
	return f
}

// luks is an encrypted volume (LUKS1 specification 1.2.3; LUKS2 on-disk format 1.1.3). What is inside nobody can tell.
func luks(_ Reader, b []byte, v *Volume) bool {
	if !is(b, 0, "LUKS\xba\xbe") {
		return false
	}
	version := be.Uint16(b[6:])
	v.Kind, v.UUID = fmt.Sprintf("LUKS %d, encrypted", version), name(b[168:208])
	if version == 2 {
		v.Label = name(b[24:72])
	}
	return true
}

func bitLocker(_ Reader, b []byte, v *Volume) bool {
	if !is(b, 3, "-FVE-FS-") {
		return false
	}
	v.Kind = "BitLocker, encrypted"
	return true
}

// lvm is a physical volume of LVM2: its label lies in one of the first four sectors.
func lvm(_ Reader, b []byte, v *Volume) bool {
	for sector := range 4 {
		if s := b[sector*512:]; is(s, 0, "LABELONE") && is(s, 24, "LVM2 001") {
			v.Kind = "LVM2 physical volume"
			return true
		}
	}
	return false
}

// raid is a member of a Linux array with metadata 1.1 or 1.2.
func raid(_ Reader, b []byte, v *Volume) bool {
	for _, at := range []int{0, 4096} {
		if s := b[at:]; le.Uint32(s) == 0xA92B4EFC && le.Uint32(s[4:]) == 1 {
			v.Kind, v.UUID, v.Label = "Linux RAID member", uuid(s[16:]), name(s[32:64])
			return true
		}
	}
	return false
}

func swap(_ Reader, b []byte, v *Volume) bool {
	if !is(b, 4086, "SWAPSPACE2") {
		return false
	}
	v.Kind, v.UUID, v.Label = "swap", uuid(b[1036:]), name(b[1052:1068])
	return true
}
