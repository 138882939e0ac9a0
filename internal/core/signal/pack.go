package signal

import (
	"encoding/binary"
	"fmt"
	"math"
)

// Pack writes the available signals of a set into a few bytes each: the code, then the number as a zigzag varint, or, with
// the code's upper bit set, as eight bytes of IEEE 754 when it is no integer.
func Pack(s Set) []byte {
	b := []byte{} // never nil: a reading without any signal is a reading
	for _, d := range Registry {
		v := s[d.Name]
		if !v.Available {
			continue
		}
		if whole := math.Trunc(v.Number); whole == v.Number && math.Abs(whole) < 1<<53 {
			b = binary.AppendVarint(append(b, d.Code), int64(whole))
			continue
		}
		b = binary.LittleEndian.AppendUint64(append(b, d.Code|0x80), math.Float64bits(v.Number))
	}
	return b
}

// Unpack reads what Pack wrote. Codes this version does not know are passed over.
func Unpack(b []byte) (map[Name]float64, error) {
	all := map[Name]float64{}
	for at := 0; at < len(b); {
		code := b[at]
		at++
		var x float64
		if code&0x80 != 0 {
			if len(b)-at < 8 {
				return all, fmt.Errorf("packed signals, byte %d: cut short", at)
			}
			x = math.Float64frombits(binary.LittleEndian.Uint64(b[at:]))
			at += 8
		} else {
			v, n := binary.Varint(b[at:])
			if n <= 0 {
				return all, fmt.Errorf("packed signals, byte %d: no number", at)
			}
			x = float64(v)
			at += n
		}
		if d := byCode[code&0x7F]; d != nil {
			all[d.Name] = x
		}
	}
	return all, nil
}

var byCode = func() (m [128]*Definition) {
	for i := range Registry {
		m[Registry[i].Code] = &Registry[i]
	}
	return m
}()
