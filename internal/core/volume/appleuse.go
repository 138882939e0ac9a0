package volume

import "errors"

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
