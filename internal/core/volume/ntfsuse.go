package volume

import (
	"errors"
	"fmt"
)

// ntfsUse reads the file $Bitmap (the layout is as Linux, fs/ntfs3, has it).
func ntfsUse(read Reader, v Volume, u *use) error {
	b, ok := bytesAt(read, v.Start, 512)
	if !ok {
		return errors.New("its boot sector cannot be read")
	}
	sizes, ok := ntfsSizesOf(b)
	if !ok || sizes.cluster > mostUnit || sizes.bytes > v.Bytes || sizes.table > v.Bytes {
		return errNonsense
	}
	cluster, record, table, total := sizes.cluster, sizes.record, sizes.table, sizes.bytes
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
	for a := range ntfsAttributes(f) {
		switch {
		case le.Uint32(a) != 0x80 || a[9] != 0:
			continue
		case a[8] == 0:
			return nil, a.resident()
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
