package dialect

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEveryEntryIsWhole(t *testing.T) {
	layouts := []Layout{Count, Low32, Low16, Celsius, Hours, Rate, Opaque}
	for id, e := range load().Attributes {
		assert.NotEmpty(t, e.Name, "attribute %d", id)
		assert.NotEmpty(t, e.Explain, "attribute %d", id)
		assert.Contains(t, layouts, e.Layout, "attribute %d", id)
		assert.Contains(t, []Confidence{Trade, Varies}, e.Confidence, "attribute %d", id)
		if e.Signal != "" {
			assert.NotContains(t, []Layout{Rate, Opaque}, e.Layout, "attribute %d feeds a signal from bytes without a meaning", id)
		}
	}
	assert.Equal(t, "attribute 77, of the maker's own", Lookup(77).Name)
}

func TestRawBytesAreReadByTheirLayout(t *testing.T) {
	for name, row := range map[string]struct {
		id   uint8
		raw  [6]byte
		want Quantity
	}{
		"a plain count":                     {5, [6]byte{3}, Quantity{Number: 3, Known: true, Unit: "sectors", Confidence: Trade}},
		"something else above the count":    {5, [6]byte{3, 0, 0, 0, 9, 1}, Quantity{Number: 3, Known: true, Unit: "sectors", Confidence: Trade}},
		"hours":                             {9, [6]byte{0x20, 0x50}, Quantity{Number: 20512, Known: true, Unit: "h", Confidence: Trade}},
		"hours with a part of one above":    {9, [6]byte{0x20, 0x50, 0, 0xB1}, Quantity{Number: 20512, Known: true, Unit: "h", Confidence: Trade}},
		"hours with milliseconds above":     {9, [6]byte{0x20, 0x50, 0, 0, 0x10, 0x27}, Quantity{Number: 20512, Known: true, Unit: "h", Confidence: Trade}},
		"temperature alone":                 {194, [6]byte{31}, Quantity{Number: 31, Known: true, Unit: "°C", Confidence: Trade}},
		"temperature below zero":            {194, [6]byte{0xFB}, Quantity{Number: -5, Known: true, Unit: "°C", Confidence: Trade}},
		"temperature, low and high above":   {194, [6]byte{39, 0, 17, 0, 51, 0}, Quantity{Number: 39, Known: true, Unit: "°C", Confidence: Trade, Lowest: 17, Highest: 51, HasRange: true}},
		"temperature, high and low above":   {194, [6]byte{39, 0, 51, 0, 17, 0}, Quantity{Number: 39, Known: true, Unit: "°C", Confidence: Trade, Lowest: 17, Highest: 51, HasRange: true}},
		"low and high as single bytes":      {190, [6]byte{31, 0, 31, 31, 0, 0}, Quantity{Number: 31, Known: true, Unit: "°C", Confidence: Trade, Lowest: 31, Highest: 31, HasRange: true}},
		"temperature with other bytes":      {190, [6]byte{31, 0, 3, 2, 0, 0}, Quantity{Number: 31, Known: true, Unit: "°C", Confidence: Trade}},
		"packed rate, none in 148 203 114":  {1, [6]byte{0x6A, 0x66, 0xD5, 0x08, 0, 0}, Quantity{Confidence: Inferred, Operations: 148203114}},
		"packed rate, two errors":           {7, [6]byte{0x2A, 0xA5, 0xA7, 0x03, 2, 0}, Quantity{Number: 2, Confidence: Inferred, Operations: 61318442}},
		"a small rate may be a plain count": {1, [6]byte{12}, Quantity{Confidence: Varies}},
		"bytes of the maker's own":          {241, [6]byte{1, 2, 3}, Quantity{Confidence: Varies}},
	} {
		assert.Equal(t, row.want, Decode(Lookup(row.id), row.raw), name)
	}
}
