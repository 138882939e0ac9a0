package volume

import "errors"

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
