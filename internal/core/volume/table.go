package volume

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
)

var le, be = binary.LittleEndian, binary.BigEndian

// The master boot record (UEFI 2.10, 5.2.1).
const (
	mbrEntries  = 446
	mbrEntry    = 16
	mbrGPT      = 0xEE
	mbrExtended = 0x05
	mbrLBA      = 0x0F
	mbrLinux    = 0x85
)

// mbrTypes are the partition types people meet.
var mbrTypes = map[byte]string{
	0x01: "FAT12",
	0x04: "FAT16",
	0x06: "FAT16",
	0x07: "NTFS or exFAT",
	0x0B: "FAT32",
	0x0C: "FAT32",
	0x0E: "FAT16",
	0x27: "recovery",
	0x82: "Linux swap",
	0x83: "Linux",
	0x8E: "Linux LVM",
	0xAF: "HFS",
	0xEF: "EFI system",
	0xFD: "Linux RAID",
}

// gptTypes are the partition types people meet (UEFI 2.10, 5.3.3, and the systems' own).
var gptTypes = map[string]string{
	"c12a7328-f81f-11d2-ba4b-00a0c93ec93b": "EFI system",
	"e3c9e316-0b5c-4db8-817d-f92df00215ae": "Windows reserved",
	"ebd0a0a2-b9e5-4433-87c0-68b6b72699c7": "Windows data",
	"de94bba4-06d1-4d40-a16a-bfd50179d6ac": "Windows recovery",
	"0fc63daf-8483-4772-8e79-3d69d8477de4": "Linux",
	"0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": "Linux swap",
	"e6d6d379-f507-44c2-a23c-238f2a3df928": "Linux LVM",
	"a19d880f-05fc-4d3b-a006-743f0f84911e": "Linux RAID",
	"4f68bce3-e8cd-4db1-96e7-fbcaf984b709": "Linux root",
	"933ac7e1-2eb4-4f13-b844-0e14e2aef915": "Linux home",
	"48465300-0000-11aa-aa11-00306543ecac": "HFS",
	"7c3457ef-0000-11aa-aa11-00306543ecac": "APFS",
}

// table reads the partition table.
func table(read Reader, bytes uint64, sector uint32) Layout {
	first, ok := bytesAt(read, 0, 512)
	if !ok {
		return Layout{Faults: []string{"the first sector cannot be read"}}
	}
	protective, used := false, false
	if first[510] == 0x55 && first[511] == 0xAA {
		for i := range 4 {
			e := first[mbrEntries+i*mbrEntry:]
			protective = protective || e[4] == mbrGPT
			used = used || e[4] != 0 && le.Uint32(e[12:]) > 0 && e[0]&0x7F == 0
		}
	}
	if l, ok := gpt(read, bytes, sector, protective); ok {
		return l
	}
	switch {
	case protective:
		return Layout{Scheme: "GPT", Faults: []string{"the first sector promises a GPT, and neither of its two headers is whole"}}
	case used:
		return mbr(read, first, sector)
	}
	return Layout{}
}

func mbr(read Reader, first []byte, sector uint32) Layout {
	l := Layout{Scheme: "MBR"}
	add := func(number int, e []byte, base uint64) {
		kind := mbrTypes[e[4]]
		if kind == "" {
			kind = fmt.Sprintf("type %02x", e[4])
		}
		l.Volumes = append(
			l.Volumes,
			Volume{
				Partition: number,
				Type:      kind,
				Start:     (base + uint64(le.Uint32(e[8:]))) * uint64(sector),
				Bytes:     uint64(le.Uint32(e[12:])) * uint64(sector),
			},
		)
	}
	extended := func(t byte) bool { return t == mbrExtended || t == mbrLBA || t == mbrLinux }
	for i := range 4 {
		e := first[mbrEntries+i*mbrEntry:]
		switch base := uint64(le.Uint32(e[8:])); {
		case e[4] == 0 || le.Uint32(e[12:]) == 0:
		case extended(e[4]):
			at := base
			for n := 5; n < most; n++ { // a chain of boot records: the logical partition, then the next record
				b, ok := bytesAt(read, at*uint64(sector), 512)
				if !ok || b[510] != 0x55 || b[511] != 0xAA {
					l.Faults = append(l.Faults, fmt.Sprintf("the chain of logical partitions breaks at sector %d", at))
					break
				}
				if logical := b[mbrEntries:]; logical[4] != 0 {
					add(n, logical, at)
				}
				next := b[mbrEntries+mbrEntry:]
				if next[4] == 0 || le.Uint32(next[8:]) == 0 {
					break
				}
				if later := base + uint64(le.Uint32(next[8:])); later > at {
					at = later
				} else {
					l.Faults = append(l.Faults, "the chain of logical partitions runs backwards")
					break
				}
			}
		default:
			add(i+1, e, 0)
		}
	}
	return l
}

// gpt reads the GUID partition table (UEFI 2.10, 5.3), from its backup where the first is damaged.
func gpt(read Reader, bytes uint64, sector uint32, promised bool) (Layout, bool) {
	l := Layout{Scheme: "GPT"}
	entries, why := gptAt(read, 1, bytes, sector)
	if why != "" {
		backup, also := gptAt(read, bytes/uint64(sector)-1, bytes, sector)
		if also != "" {
			return l, false
		}
		if !promised && why == "there is none" { // an old table's rest behind another one
			return l, false
		}
		entries = backup
		l.Faults = append(l.Faults, "the first header of the GPT is damaged ("+why+"); its backup at the end of the drive is whole")
	}
	for i, e := range entries {
		kind := guid(e[:16])
		if kind == "00000000-0000-0000-0000-000000000000" {
			continue
		}
		first, last := le.Uint64(e[32:]), le.Uint64(e[40:])
		if last < first || last >= bytes/uint64(sector) {
			l.Faults = append(l.Faults, fmt.Sprintf("partition %d ends before it begins, or beyond the drive", i+1))
			continue
		}
		words := gptTypes[kind]
		if words == "" {
			words = "type " + kind
		}
		l.Volumes = append(
			l.Volumes,
			Volume{
				Partition: i + 1,
				Type:      words,
				Label:     name16(e[56:128]),
				Start:     first * uint64(sector),
				Bytes:     (last - first + 1) * uint64(sector),
			},
		)
	}
	return l, true
}

// gptAt reads a header and its entries; a text says what is wrong with it.
func gptAt(read Reader, lba, bytes uint64, sector uint32) ([][]byte, string) {
	h, ok := bytesAt(read, lba*uint64(sector), 512)
	switch {
	case !ok:
		return nil, "it cannot be read"
	case string(h[:8]) != "EFI PART":
		return nil, "there is none"
	}
	size := le.Uint32(h[12:])
	if size < 92 || size > 512 {
		return nil, "its size is nonsense"
	}
	whole := append([]byte(nil), h[:size]...)
	le.PutUint32(whole[16:], 0)
	if crc32.ChecksumIEEE(whole) != le.Uint32(h[16:]) {
		return nil, "its checksum is wrong"
	}
	at, count, each := le.Uint64(h[72:]), le.Uint32(h[80:]), le.Uint32(h[84:])
	if each < 128 || each > 4096 || count == 0 || count > 4*most || at >= bytes/uint64(sector) {
		return nil, "its entries are nonsense"
	}
	raw, ok := bytesAt(read, at*uint64(sector), int(count*each))
	if !ok {
		return nil, "its entries cannot be read"
	}
	if crc32.ChecksumIEEE(raw[:count*each]) != le.Uint32(h[88:]) {
		return nil, "the checksum of its entries is wrong"
	}
	var all [][]byte
	for i := range min(count, most) {
		all = append(all, raw[i*each:(i+1)*each])
	}
	return all, ""
}
