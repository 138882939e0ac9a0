package volume

import "errors"

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
