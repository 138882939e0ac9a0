package signal

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"iter"
	"math"
	"slices"
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

// Of gives the number of a signal by its definition, false where it has none.
func (v Values) Of(d *Definition) (float64, bool) {
	at := bytes.IndexByte(v.codes, d.Code)
	if at < 0 {
		return 0, false
	}
	return v.numbers[at], true
}

// Alike reports whether the same signals have numbers in both.
func (v Values) Alike(other Values) bool {
	return len(v.codes) == len(other.codes) && (len(v.codes) == 0 || &v.codes[0] == &other.codes[0] || bytes.Equal(v.codes, other.codes))
}

// Numbers are the numbers alone, in the order of All. They are not to be changed.
func (v Values) Numbers() []float64 { return v.numbers }

// Definition is that of the i-th number.
func (v Values) Definition(i int) *Definition { return byCode[v.codes[i]] }

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
		if isWhole(v.Number) {
			b = binary.AppendVarint(append(b, d.Code), int64(v.Number))
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
		x, n, err := unpackNumber(code, b, at)
		if err != nil {
			return v, err
		}
		at += n
		if code &= 0x7F; byCode[code] != nil {
			v.codes, v.numbers = append(v.codes, code), append(v.numbers, x)
		}
	}
	return v, nil
}

// PackAfter writes how values differ from those before them: of each signal that moved its code and by how much, as Pack does; of one that
// has no number any more a zero and its code.
func PackAfter(before, now Values) []byte {
	var b []byte
	for i, code := range now.codes {
		x, was := now.numbers[i], 0.0
		if at := bytes.IndexByte(before.codes, code); at >= 0 {
			if was = before.numbers[at]; was == x {
				continue
			}
		}
		if isWhole(x) && isWhole(was) {
			b = binary.AppendVarint(append(b, code), int64(x)-int64(was))
			continue
		}
		b = binary.LittleEndian.AppendUint64(append(b, code|0x80), math.Float64bits(x))
	}
	for _, code := range before.codes {
		if bytes.IndexByte(now.codes, code) < 0 {
			b = append(b, 0, code)
		}
	}
	return b
}

// Defined gives a signal's definition, which is not to be changed; nil: there is no such signal.
func Defined(n Name) *Definition { return byName[n] }

func isWhole(x float64) bool { return math.Trunc(x) == x && math.Abs(x) < 1<<53 }

// UnpackAfter reads what PackAfter wrote, given the same values before. Codes this version does not know are passed over. It keeps nothing
// of b.
func UnpackAfter(before Values, b []byte) (Values, error) {
	now := Values{before.codes, append(make([]float64, 0, len(before.numbers)+2), before.numbers...)}
	own := false // codes are shared with those before until they differ
	part := func() {
		if !own {
			now.codes, own = bytes.Clone(now.codes), true
		}
	}
	for at := 0; at < len(b); {
		code := b[at]
		at++
		if code == 0 {
			if at == len(b) {
				return now, fmt.Errorf("packed signals, byte %d: cut short", at)
			}
			if i := bytes.IndexByte(now.codes, b[at]); i >= 0 {
				part()
				now.codes, now.numbers = slices.Delete(now.codes, i, i+1), slices.Delete(now.numbers, i, i+1)
			}
			at++
			continue
		}
		i := bytes.IndexByte(now.codes, code&0x7F)
		x, n, err := unpackNumber(code, b, at)
		if err != nil {
			return now, err
		}
		if at += n; code&0x80 == 0 && i >= 0 { // by how much it moved
			x += now.numbers[i]
		}
		switch code &= 0x7F; {
		case i >= 0:
			now.numbers[i] = x
		case byCode[code] != nil:
			part()
			i = 0
			for i < len(now.codes) && place[now.codes[i]] < place[code] {
				i++
			}
			now.codes, now.numbers = slices.Insert(now.codes, i, code), slices.Insert(now.numbers, i, x)
		}
	}
	return now, nil
}

// unpackNumber reads the number that stands at a place behind a code, and gives how many bytes it takes.
func unpackNumber(code byte, b []byte, at int) (x float64, n int, err error) {
	if code&0x80 != 0 {
		if len(b)-at < 8 {
			return 0, 0, fmt.Errorf("packed signals, byte %d: cut short", at)
		}
		return math.Float64frombits(binary.LittleEndian.Uint64(b[at:])), 8, nil
	}
	whole, n := binary.Varint(b[at:])
	if n <= 0 {
		return 0, 0, fmt.Errorf("packed signals, byte %d: no number", at)
	}
	return float64(whole), n, nil
}

// place is where a signal stands in the registry, by its code.
var place = func() (m [128]int) {
	for i := range Registry {
		m[Registry[i].Code] = i
	}
	return m
}()

var byCode = func() (m [128]*Definition) {
	for i := range Registry {
		m[Registry[i].Code] = &Registry[i]
	}
	return m
}()
