package signal

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"iter"
	"math"
)

// Values are the numbers a reading had for its signals, in the order of the registry's packed form. A million of them are gone
// through when a policy is replayed, so they are two short slices and no map. The zero Values has none.
type Values struct {
	codes   []byte // of definitions this version knows
	numbers []float64
}

// ValuesOf keeps the numbers of a set that are available.
func ValuesOf(s Set) Values {
	var v Values
	for i := range Registry {
		if x := s[Registry[i].Name]; x.Available {
			v.codes, v.numbers = append(v.codes, Registry[i].Code), append(v.numbers, x.Number)
		}
	}
	return v
}

// Get gives the number of a signal, false where it has none.
func (v Values) Get(n Name) (float64, bool) {
	d := byName[n]
	if d == nil {
		return 0, false
	}
	at := bytes.IndexByte(v.codes, d.Code)
	if at < 0 {
		return 0, false
	}
	return v.numbers[at], true
}

// Len is how many signals have a number.
func (v Values) Len() int { return len(v.codes) }

// All goes through the signals that have a number.
func (v Values) All() iter.Seq2[*Definition, float64] {
	return func(yield func(*Definition, float64) bool) {
		for i, code := range v.codes {
			if !yield(byCode[code], v.numbers[i]) {
				return
			}
		}
	}
}

// Map is the same by name, for what is written elsewhere.
func (v Values) Map() map[Name]float64 {
	all := make(map[Name]float64, v.Len())
	for d, x := range v.All() {
		all[d.Name] = x
	}
	return all
}

// Pack writes the available signals of a set into a few bytes each: the code, then the number as a zigzag varint, or, with
// the code's upper bit set, as eight bytes of IEEE 754 when it is no integer.
func Pack(s Set) []byte {
	b := []byte{} // never nil: a reading without any signal is a reading
	for i := range Registry {
		d := &Registry[i]
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

// Into makes of a set what these values tell, and nothing else: the set of a moment of which only the numbers are kept.
func (v Values) Into(s Set) {
	clear(s)
	for d, x := range v.All() {
		s[d.Name] = Value{Number: x, Available: true}
	}
}

// Unpack reads what Pack wrote. Codes this version does not know are passed over. It keeps nothing of b.
func Unpack(b []byte) (Values, error) {
	most := len(b) / 2 // a code and a byte each, at least
	v := Values{make([]byte, 0, most), make([]float64, 0, most)}
	for at := 0; at < len(b); {
		code := b[at]
		at++
		var x float64
		if code&0x80 != 0 {
			if len(b)-at < 8 {
				return v, fmt.Errorf("packed signals, byte %d: cut short", at)
			}
			x = math.Float64frombits(binary.LittleEndian.Uint64(b[at:]))
			at += 8
		} else {
			whole, n := binary.Varint(b[at:])
			if n <= 0 {
				return v, fmt.Errorf("packed signals, byte %d: no number", at)
			}
			x = float64(whole)
			at += n
		}
		if code &= 0x7F; byCode[code] != nil {
			v.codes, v.numbers = append(v.codes, code), append(v.numbers, x)
		}
	}
	return v, nil
}

var byCode = func() (m [128]*Definition) {
	for i := range Registry {
		m[Registry[i].Code] = &Registry[i]
	}
	return m
}()
