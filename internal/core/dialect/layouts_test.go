package dialect

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What six raw bytes are in each layout.
func TestWhatEachLayoutMakesOfItsBytes(t *testing.T) {
	raw := [6]byte{0x30, 0x0E, 0x0C, 0x00, 0x07, 0x01} // 000C0E30h is 790,064; 0107h above it
	for layout, want := range map[Layout]int64{
		Hours: 790_064, Minutes: 790_064 / 60, HalfMinutes: 790_064 / 120, Seconds: 790_064 / 3600, Low16: 0x0E30, Low8: 0x30,
		Low24: 0x0C0E30, TwoWords: 0x0E30, Packed: 0x0107, Celsius: 0x30,
	} {
		q := Decode(Entry{Layout: layout, Confidence: Trade}, raw, 100)
		assert.Equal(t, want, q.Number, layout)
	}
	tenths := func(low, high byte) (int64, bool) {
		q := Decode(Entry{Layout: Tenths, Confidence: Trade}, [6]byte{low, high}, 100)
		return q.Number, q.Known
	}
	for _, row := range []struct {
		low, high byte
		want      int64
		known     bool
	}{
		{0x7C, 0x01, 38, true}, {0xA8, 0xFD, -60, true}, {0x9E, 0xFD, -61, false}, {0xDC, 0x05, 150, true}, {0xE6, 0x05, 151, false},
	} {
		n, known := tenths(row.low, row.high)
		assert.Equal(t, row.want, n)
		assert.Equal(t, row.known, known, row.want)
	}
	words := Decode(Entry{Layout: TwoWords, Confidence: Trade}, [6]byte{0xFF, 0xFF}, 100)
	assert.False(t, words.Known, "all ones is no number")
	for _, row := range []struct {
		raw    [6]byte
		number int64
		ops    uint64
	}{
		{[6]byte{0, 0, 0x10}, 0, 0}, {[6]byte{1, 0, 0x10}, 0, 1<<20 + 1}, {[6]byte{0, 0, 0, 0, 1}, 1, 0}, {[6]byte{9, 0, 0, 0, 2}, 2, 9},
	} {
		q := Decode(Entry{Layout: Rate, Confidence: Trade}, row.raw, 100)
		assert.Equal(t, [2]any{row.number, row.ops}, [2]any{q.Number, q.Operations}, row.raw)
		assert.False(t, q.Known)
	}
	assert.EqualValues(t, 395_032, Decode(Entry{Layout: Hours, Divide: 2, Confidence: Trade}, raw, 100).Number)
}
