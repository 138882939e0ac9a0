// Package dialect knows what attribute numbers and their raw bytes mean: families.yaml for the families of drives it can tell
// apart, attributes.yaml for all others. Where families differ and none is known the entry says so, and its number is never
// judged alone. Start with Find and Decode.
package dialect

import (
	_ "embed" // the table
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"
)

// Layout is how six raw bytes are put together; attributes.yaml explains each.
type Layout string

// The layouts.
const (
	Count   Layout = "count"
	Low32   Layout = "low32"
	Low16   Layout = "low16"
	Celsius Layout = "celsius"
	Hours   Layout = "hours"
	Rate    Layout = "rate"
	Opaque  Layout = "opaque"

	Packed      Layout = "packed"
	Minutes     Layout = "minutes"
	HalfMinutes Layout = "half_minutes"
	Seconds     Layout = "seconds"
	Low8        Layout = "low8"
	Low24       Layout = "low24"
	TwoWords    Layout = "two_words"
	ThreeWords  Layout = "three_words"
	Tenths      Layout = "tenths"
)

var layouts = []Layout{
	Count,
	Low32,
	Low16,
	Low8,
	Celsius,
	Hours,
	Rate,
	Opaque,
	Packed,
	Minutes,
	HalfMinutes,
	Seconds,
	Low24,
	TwoWords,
	ThreeWords,
	Tenths,
}

// TakeValue takes the normalised value instead of the raw bytes.
const TakeValue = "value"

// Confidence tells how far a meaning can be relied on, from a standard's word down to a guess.
type Confidence string

// The confidences.
const (
	Standard Confidence = "standard" // a standard defines it
	Trade    Confidence = "trade"    // no standard, but most families agree
	Varies   Confidence = "varies"   // families differ
	Inferred Confidence = "inferred" // concluded from the bytes themselves
)

// Entry is what an attribute number means.
type Entry struct {
	Name       string     `yaml:"name"`
	Layout     Layout     `yaml:"layout"`
	Unit       string     `yaml:"unit"`
	Signal     string     `yaml:"signal"` // the signal it is a source of, if any
	Confidence Confidence `yaml:"confidence"`
	Explain    string     `yaml:"explain"`
	Take       string     `yaml:"take"`
	Invert     bool       `yaml:"invert"` // 100 minus it: what is left of a life, from 100 down
	Word       int        `yaml:"word"`   // of two_words and three_words: which of them is the number, from 0
	Scale      int64      `yaml:"scale"`  // multiplies
	Divide     int64      `yaml:"divide"` // divides, rounding down
	Vector     Vector     `yaml:"vector"`
	From       string     `yaml:"-"` // the family whose line this is, or "common"
}

type table struct {
	Version    int             `yaml:"version"`
	Source     string          `yaml:"source"`
	Attributes map[uint8]Entry `yaml:"attributes"`
}

//go:embed attributes.yaml
var file []byte

var load = sync.OnceValue(func() table {
	var t table
	if err := yaml.Unmarshal(file, &t); err != nil {
		panic("dialect: the embedded table: " + err.Error()) // a test reads it, so a release cannot get here
	}
	return t
})

// Version is the version of both tables, kept with what was decoded by them.
func Version() int { return load().Version*100 + families().Version }

// Source says where the common meanings come from.
func Source() string { return load().Source }

// Lookup gives the entry of an attribute number. A number the table does not have gets a name that says so.
func Lookup(id uint8) Entry {
	if e, ok := load().Attributes[id]; ok {
		return e
	}
	return Entry{
		Name: fmt.Sprintf("attribute %d, of the maker's own", id), Layout: Opaque, Confidence: Varies,
		Explain: "No common meaning is known for this number. It is kept and compared, never judged.",
	}
}

// Quantity is what raw bytes say under a layout.
type Quantity struct {
	Number     int64 // in Unit; meaningful only when Known
	Known      bool  // false: the bytes have no meaning that can be judged
	Unit       string
	Confidence Confidence
	Operations uint64 // Rate, packed: what the Number of errors is out of
	Lowest     int64  // Celsius: lowest and highest so far, when HasRange
	Highest    int64
	HasRange   bool
	Words      []int64 // two_words, three_words: all of them, the lowest first
}

// Decode reads raw, six bytes little-endian, and the normalised value by an entry's layout.
func Decode(e Entry, raw [6]byte, value uint8) Quantity {
	low16, low32 := binary.LittleEndian.Uint16(raw[:2]), binary.LittleEndian.Uint32(raw[:4])
	high16 := binary.LittleEndian.Uint16(raw[4:])
	q := Quantity{Unit: e.Unit, Confidence: e.Confidence, Known: true}
	if e.Take == TakeValue {
		q.Number = int64(value)
		q.Known = value >= 1 && value <= 253 // others carry no judgement
		// What is left of its life, from 100 down: 0 is an end that was reached, not an end that nobody knows.
		if e.Invert {
			q.Number, q.Known = 100-int64(value), value <= 100
		}
		return q
	}
	if ones(e.Layout, raw) { // that is how a count looks that was not read
		q.Known = false
		return q
	}
	switch e.Layout {
	case Count:
		q.Number = int64(low32) | int64(high16)<<32
	case Low32, Hours:
		q.Number = int64(low32)
		if e.Layout == Hours && low32>>24 != 0 {
			q.Number = int64(low32 & 0xFFFFFF) // over 1 900 years: the top byte holds part of an hour
		}
	case Minutes:
		q.Number, q.Unit = int64(low32)/60, "h"
	case HalfMinutes:
		q.Number, q.Unit = int64(low32)/120, "h"
	case Seconds:
		q.Number, q.Unit = int64(low32)/3600, "h"
	case Low16:
		q.Number = int64(low16)
	case Low8:
		q.Number = int64(raw[0])
	case Low24:
		q.Number = int64(low32 & 0xFFFFFF)
	case TwoWords, ThreeWords:
		q.Words = words(raw)[:wordsOf(e.Layout)]
		q.Number = q.Words[e.Word]
		q.Known = q.Number != math.MaxUint16
	case Tenths:
		q.Number = int64(math.Round(float64(int16(low16)) / 10))
		q.Known = q.Number >= -60 && q.Number <= 150 // of a drive that still answers
	case Celsius:
		q.Number = int64(int8(raw[0]))
		q.Lowest, q.Highest, q.HasRange = extremes(raw)
	case Packed:
		q.Number, q.Operations = int64(high16), uint64(low32)
	case Rate:
		// A plain counter of errors would have to pass four thousand million before it showed anything here, and a
		// packed one shows its operations in the lower half at once.
		q.Known = false
		if low32 > 1<<20 || high16 != 0 {
			q.Number, q.Operations, q.Confidence = int64(high16), uint64(low32), Inferred
		}
	case Opaque:
		q.Known = false
	}
	if e.Divide > 0 {
		q.Number /= e.Divide
	}
	if e.Invert && q.Known {
		q.Number, q.Known = 100-q.Number, q.Number >= 0 && q.Number <= 100
	}
	if e.Scale > 0 && q.Known {
		if q.Number > math.MaxInt64/e.Scale { // more bytes than there are: the layout is another
			q.Known = false
			return q
		}
		q.Number *= e.Scale
	}
	return q
}

// words are the three 16-bit numbers of six raw bytes.
func words(raw [6]byte) []int64 {
	return []int64{
		int64(binary.LittleEndian.Uint16(raw[:])),
		int64(binary.LittleEndian.Uint16(raw[2:])),
		int64(binary.LittleEndian.Uint16(raw[4:])),
	}
}

// wordsOf is how many words a layout has, 0 when it is not made of words.
func wordsOf(l Layout) int {
	switch l {
	case TwoWords:
		return 2
	case ThreeWords:
		return 3
	default:
		return 0
	}
}

// ones reports whether all bits of a number are ones, in the width its layout has.
func ones(l Layout, raw [6]byte) bool {
	width := 0
	switch l {
	case Count:
		width = 6
	case Low32, Hours, Minutes, HalfMinutes, Seconds:
		width = 4
	case Low24:
		width = 3
	case Low16, Tenths:
		width = 2
	case TwoWords, ThreeWords: // word by word: another may have been read
		return false
	case Low8, Celsius, Rate, Opaque, Packed:
		return false
	}
	for _, b := range raw[:width] {
		if b != 0xFF {
			return false
		}
	}
	return true
}

// NotUnderstood says why an attribute's raw bytes mean nothing that could be judged, "" when they are understood.
func (e Entry) NotUnderstood(q Quantity) string {
	switch {
	case q.Known, e.Layout == Rate && q.Operations > 0:
		return ""
	case e.Take == TakeValue:
		return "its normalised value carries no judgement"
	case e.Layout == Opaque && e.From == "common":
		return "families differ in what its bytes mean, and this drive's is not known to say it"
	case e.Layout == Opaque:
		return "a meaning of the maker's own"
	case e.Layout == Rate:
		return "a count or a rate in one number: its bytes do not tell which"
	}
	return "its bytes are not what " + string(e.Layout) + " could hold"
}

// String says the quantity in words, with plain digits.
func (q Quantity) String() string {
	switch {
	case !q.Known:
		return "not known"
	case len(q.Words) > 0:
		all := make([]string, len(q.Words))
		for i, w := range q.Words {
			all[i] = fmt.Sprint(w)
		}
		return strings.TrimSpace(fmt.Sprintf("%d %s", q.Number, q.Unit)) + ", of " + strings.Join(all, " | ")
	case q.Operations > 0:
		return fmt.Sprintf("%d in %d", q.Number, q.Operations)
	case q.Unit != "":
		return fmt.Sprintf("%d %s", q.Number, q.Unit)
	}
	return fmt.Sprint(q.Number)
}

// extremes finds the lowest and highest temperature some families keep above the present one: as two bytes, or as two
// 16-bit numbers, in either order. They count only when they enclose the present temperature.
func extremes(raw [6]byte) (lowest, highest int64, ok bool) {
	a, b := int64(int8(raw[2])), int64(int8(raw[3]))
	if raw[3] == 0 {
		if raw[2] == 0 || raw[4] == 0 || raw[5] != 0 {
			return 0, 0, false
		}
		b = int64(int8(raw[4]))
	}
	now := int64(int8(raw[0]))
	if now < min(a, b) || now > max(a, b) || max(a, b) > 125 {
		return 0, 0, false
	}
	return min(a, b), max(a, b), true
}
