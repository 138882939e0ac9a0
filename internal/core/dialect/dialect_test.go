package dialect

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
)

func TestEveryEntryIsWhole(t *testing.T) {
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
		"a plain count": {5, [6]byte{3}, Quantity{Number: 3, Known: true, Unit: "sectors", Confidence: Trade}},
		"something else above the count": {
			5, [6]byte{3, 0, 0, 0, 9, 1}, Quantity{Number: 3, Known: true, Unit: "sectors", Confidence: Trade},
		},
		"hours": {9, [6]byte{0x20, 0x50}, Quantity{Number: 20512, Known: true, Unit: "h", Confidence: Trade}},
		"hours with a part of one above": {
			9, [6]byte{0x20, 0x50, 0, 0xB1}, Quantity{Number: 20512, Known: true, Unit: "h", Confidence: Trade},
		},
		"hours with milliseconds above": {
			9, [6]byte{0x20, 0x50, 0, 0, 0x10, 0x27}, Quantity{Number: 20512, Known: true, Unit: "h", Confidence: Trade},
		},
		"temperature alone":      {194, [6]byte{31}, Quantity{Number: 31, Known: true, Unit: "°C", Confidence: Trade}},
		"temperature below zero": {194, [6]byte{0xFB}, Quantity{Number: -5, Known: true, Unit: "°C", Confidence: Trade}},
		"temperature, low and high above": {
			194,
			[6]byte{39, 0, 17, 0, 51, 0},
			Quantity{Number: 39, Known: true, Unit: "°C", Confidence: Trade, Lowest: 17, Highest: 51, HasRange: true},
		},
		"temperature, high and low above": {
			194,
			[6]byte{39, 0, 51, 0, 17, 0},
			Quantity{Number: 39, Known: true, Unit: "°C", Confidence: Trade, Lowest: 17, Highest: 51, HasRange: true},
		},
		"low and high as single bytes": {
			190,
			[6]byte{31, 0, 31, 31, 0, 0},
			Quantity{Number: 31, Known: true, Unit: "°C", Confidence: Trade, Lowest: 31, Highest: 31, HasRange: true},
		},
		"temperature with other bytes": {
			190, [6]byte{31, 0, 3, 2, 0, 0}, Quantity{Number: 31, Known: true, Unit: "°C", Confidence: Trade},
		},
		"packed rate, none in 148 203 114": {
			1, [6]byte{0x6A, 0x66, 0xD5, 0x08, 0, 0}, Quantity{Confidence: Inferred, Operations: 148203114},
		},
		"packed rate, two errors": {
			7, [6]byte{0x2A, 0xA5, 0xA7, 0x03, 2, 0}, Quantity{Number: 2, Confidence: Inferred, Operations: 61318442},
		},
		"a small rate may be a plain count": {1, [6]byte{12}, Quantity{Confidence: Varies}},
		"bytes of the maker's own":          {241, [6]byte{1, 2, 3}, Quantity{Confidence: Varies}},
	} {
		assert.Equal(t, row.want, Decode(Lookup(row.id), row.raw, 100), name)
	}
}

func TestEveryLineOfAFamilyPassesItsVector(t *testing.T) {
	for _, f := range Families() {
		m := Match{Family: &f, Sure: true}
		for _, id := range f.Numbers() {
			e := m.Entry(id)
			raw, err := hex.DecodeString(e.Vector.Raw)
			require.NoError(t, err, "%s, attribute %d", f.ID, id)
			require.Len(t, raw, 6, "%s, attribute %d", f.ID, id)
			assert.Equal(t, e.Vector.Out, Decode(e, [6]byte(raw), e.Vector.Value).String(), "%s, attribute %d", f.ID, id)
			assert.NotEmpty(t, e.Name, "%s, attribute %d", f.ID, id)
			assert.NotEmpty(t, e.Explain, "%s, attribute %d", f.ID, id)
		}
	}
}

func TestAFamilyIsToldByCompanyShapeMediumAndNumbers(t *testing.T) {
	packed := []uint8{1, 3, 4, 5, 7, 9, 10, 12, 187, 188, 190, 194, 197, 198, 199}
	for name, row := range map[string]struct {
		subject Subject
		family  string
		sure    bool
	}{
		"company and numbers": {
			Subject{drive.WWN64(0x5000C50012345678), "XY2000ZZ007", drive.Spinning, packed}, "spinning-1", true,
		},
		"numbers alone are a guess": {
			Subject{drive.WWN64(0x500005E000000001), "Korvan K4-2000", drive.Spinning, packed}, "spinning-1", false,
		},
		"shape without a company": {Subject{"", "KV2000DK007", drive.Spinning, packed}, "spinning-1", true},
		"another company is another": {
			Subject{drive.WWN64(0x50014EE012345678), "KV2000DK007", drive.Spinning, packed}, "unknown", false,
		},
		"flash with the same numbers": {Subject{"", "KV2000DK007", drive.Flash, packed}, "unknown", false},
		"too few numbers": {
			Subject{drive.WWN64(0x5000C50012345678), "KV2000DK007", drive.Spinning, []uint8{1, 5, 9}}, "unknown", false,
		},
		"a name that is no NAA 5": {Subject{drive.WWN64(0x2000C50012345678), "K", drive.Spinning, packed}, "spinning-1", false},
		"a number it must not have": {
			Subject{"", "AB1234CDEF", drive.Spinning, []uint8{1, 3, 4, 5, 7, 9, 10, 11, 12, 22, 192, 193, 194, 196, 197, 198, 199, 200}},
			"unknown", false,
		},
		"plain counts, told by a shape": {
			Subject{"", "AB10CDEF-08G4H0", drive.Spinning, []uint8{1, 3, 4, 5, 7, 9, 10, 11, 12, 192, 193, 194, 196, 197, 198, 199, 200}},
			"spinning-2", true,
		},
	} {
		m := Find(row.subject)
		assert.Equal(t, row.family, m.ID(), name)
		assert.Equal(t, row.sure, m.Sure, name)
		assert.NotEmpty(t, m.Why, name)
	}
	guess := Find(Subject{"", "Korvan K4-2000", drive.Spinning, packed})
	assert.Equal(t, Inferred, guess.Entry(1).Confidence, "a guess lowers the confidence of what it says")
	assert.Equal(t, "spinning-1", guess.Entry(1).From)
	assert.Equal(t, Trade, guess.Entry(5).Confidence, "the common line is not the family's guess")
}

func TestABrokenTableIsRefusedWithThePlace(t *testing.T) {
	sound := "{id: a, title: t, source: s, match: {medium: flash, has: [1, 2, 3, 4]}}"
	_, err := parseFamilies([]byte("families: [" + sound + "]"))
	require.NoError(t, err)
	for want, text := range map[string]string{
		"an id is missing or stands twice": "families: [" + sound + ", " + sound + "]",
		`family "": an id is missing`:      "families: [" + strings.Replace(sound, "id: a, ", "", 1) + "]",
		"title and source are needed":      "families: [" + strings.Replace(sound, "title: t, ", "", 1) + "]",
		`family "a": title and source`:     "families: [" + strings.Replace(sound, "source: s, ", "", 1) + "]",
		`medium "paper"`:                   "families: [" + strings.Replace(sound, "flash", "paper", 1) + "]",
		"field wrong not found":            "families: [{id: a, wrong: 1}]",
		"fewer than four numbers":          "families: [{id: a, title: t, source: s, match: {medium: flash, has: [1]}}]",
		"layout \"nine\" is not known": "families: [{id: a, title: t, source: s, match: {medium: flash, has: [1, 2, 3, 4]}, " +
			"attributes: {5: {layout: nine, confidence: trade}}}]",
		"needs a test vector": "families: [{id: a, title: t, source: s, match: {medium: flash, has: [1, 2, 3, 4]}, " +
			"attributes: {5: {layout: count, confidence: trade}}}]",
	} {
		_, err := parseFamilies([]byte(text))
		assert.ErrorContains(t, err, want)
	}
}

// Sets of attribute numbers as flash drives and older spinning drives give them, without a company id or a shape that tells.
func TestTypicalSetsOfNumbersFindTheirFamilyAndItsWear(t *testing.T) {
	for name, row := range map[string]struct {
		medium  drive.Medium
		numbers []uint8
		family  string
		of      uint8 // the number asked about
		raw     [6]byte
		value   uint8
		says    string
		signal  string
	}{
		"low-cost, one-bit cells": {
			drive.Flash,
			[]uint8{
				1, 5, 9, 12, 148, 149, 150, 151, 160, 161, 163, 164, 165, 166, 167, 168, 169, 177, 178, 181, 182, 192, 194, 195, 196,
				199, 232, 241, 242, 245,
			},
			"flash-8", 169,
			[6]byte{88},
			100, "12 %", "percentage_used",
		},
		"low-cost, fewer numbers": {
			drive.Flash,
			[]uint8{1, 5, 9, 12, 160, 161, 163, 164, 165, 166, 167, 168, 169, 175, 176, 177, 178, 181, 182, 192, 194, 241, 242},
			"flash-8", 169,
			[6]byte{0},
			1, "100 %", "percentage_used",
		},
		"unusable blocks by origin": {
			drive.Flash,
			[]uint8{1, 9, 12, 167, 168, 169, 170, 173, 175, 192, 194, 231, 241},
			"flash-9", 231,
			[6]byte{60},
			60, "40 %",
			"percentage_used",
		},
		"workload timer": {
			drive.Flash,
			[]uint8{3, 4, 5, 9, 12, 170, 184, 192, 225, 226, 227, 228, 232, 233},
			"flash-10", 233,
			[6]byte{},
			97, "3 %",
			"percentage_used",
		},
		"reserve by chip": {
			drive.Flash,
			[]uint8{9, 12, 175, 176, 177, 178, 179, 180, 181, 182, 183, 187, 190, 195, 198, 199, 241},
			"flash-11", 177,
			[6]byte{9, 1},
			70, "30 %", "percentage_used",
		},
		"write errors beside 202": {
			drive.Flash,
			[]uint8{1, 5, 9, 12, 171, 172, 173, 174, 180, 183, 184, 187, 194, 196, 202, 206, 210, 246, 247, 248},
			"flash-12", 202,
			[6]byte{41},
			59, "41 %", "percentage_used",
		},
		"erase counts in 244 to 246": {
			drive.Flash,
			[]uint8{1, 5, 9, 12, 168, 170, 173, 192, 194, 231, 233, 235, 241, 242, 244, 245, 246, 250},
			"flash-13", 231,
			[6]byte{},
			80, "20 %", "percentage_used",
		},
		"wear by 230": {
			drive.Flash,
			[]uint8{5, 9, 12, 194, 218, 230, 234, 235, 241, 242, 249},
			"flash-14", 230,
			[6]byte{},
			93, "7 %",
			"percentage_used",
		},
		"link counter beside it": {
			drive.Flash,
			[]uint8{1, 5, 9, 12, 168, 170, 173, 192, 194, 196, 218, 231, 241, 244, 245, 246},
			"flash-4", 245,
			[6]byte{1, 2, 0, 9},
			100, "513", "",
		},
		"head loadings in 225": {
			drive.Spinning,
			[]uint8{1, 2, 3, 4, 5, 7, 8, 9, 10, 11, 12, 191, 194, 195, 196, 197, 198, 199, 200, 201, 222, 224, 225, 226},
			"spinning-8",
			225,
			[6]byte{0x40, 0x9C, 0, 7},
			60, "40000", "load_cycles",
		},
	} {
		m := Find(Subject{Medium: row.medium, Model: "Pellwick", Numbers: row.numbers})
		assert.Equal(t, row.family, m.ID(), name)
		assert.False(t, m.Sure, "%s: numbers alone are a guess", name)
		e := m.Entry(row.of)
		assert.Equal(t, row.says, Decode(e, row.raw, row.value).String(), name)
		assert.Equal(t, row.signal, e.Signal, name)
		assert.Equal(t, Inferred, e.Confidence, name)
	}
}

func TestWithoutAFamilyNobodyGuessesWear(t *testing.T) {
	for id := range 256 {
		e := Match{}.Entry(uint8(id))
		assert.NotContains(t, []string{"percentage_used", "available_spare", "bytes_written"}, e.Signal, "attribute %d", id)
		if e.Layout == Opaque {
			assert.NotEmpty(t, e.NotUnderstood(Decode(e, [6]byte{9}, 90)), "attribute %d", id)
		}
	}
	assert.Empty(t, Lookup(5).NotUnderstood(Decode(Lookup(5), [6]byte{9}, 90)))
	used := Entry{Take: TakeValue, Invert: true}
	assert.NotEmpty(t, used.NotUnderstood(Decode(used, [6]byte{}, 101)), "a life cannot be left by more than all of it")
}

func TestNumbersSideBySideAndPartsOfAUnitAreTakenApart(t *testing.T) {
	ones := [6]byte{0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF}
	for name, row := range map[string]struct {
		e    Entry
		raw  [6]byte
		want string
	}{
		"the middle of three":           {Entry{Layout: ThreeWords, Word: 1}, [6]byte{1, 0, 2, 1, 3, 0}, "258, of 1 | 258 | 3"},
		"a word nobody read":            {Entry{Layout: ThreeWords, Word: 1}, [6]byte{1, 0, 0xFF, 0xFF, 3, 0}, "not known"},
		"a neighbour nobody read":       {Entry{Layout: TwoWords}, [6]byte{1, 0, 0xFF, 0xFF, 3, 0}, "1, of 1 | 65535"},
		"24 bits under something else":  {Entry{Layout: Low24}, [6]byte{1, 0, 1, 9}, "65537"},
		"24 bits nobody read":           {Entry{Layout: Low24}, ones, "not known"},
		"tenths, rounded":               {Entry{Layout: Tenths, Unit: "°C"}, [6]byte{0x3B, 1}, "32 °C"},
		"tenths below zero":             {Entry{Layout: Tenths, Unit: "°C"}, [6]byte{0xCE, 0xFF}, "-5 °C"},
		"tenths no drive reaches":       {Entry{Layout: Tenths, Unit: "°C"}, [6]byte{0, 9}, "not known"},
		"life left, nothing":            {Entry{Layout: Low32, Invert: true, Unit: "%"}, [6]byte{}, "100 %"},
		"life left, all":                {Entry{Layout: Low32, Invert: true, Unit: "%"}, [6]byte{100}, "0 %"},
		"life left, more than there is": {Entry{Layout: Low32, Invert: true, Unit: "%"}, [6]byte{101}, "not known"},
		"hundredths of a per cent":      {Entry{Layout: Low16, Divide: 100, Unit: "%"}, [6]byte{0xC8, 0x32}, "130 %"},
	} {
		assert.Equal(t, row.want, Decode(row.e, row.raw, 100).String(), name)
	}
}

func TestTheShapeOfAModelNumber(t *testing.T) {
	assert.Equal(t, "aaAA99/:@[`{ -", Subject{Model: "azAZ09/:@[`{ -"}.Shape())
}

func TestAnEntryIsCheckedInEveryPart(t *testing.T) {
	whole := Entry{Layout: "low32", Confidence: Trade, Vector: Vector{Raw: "000000000000", Out: "0"}}
	require.NoError(t, whole.check())
	for what, change := range map[string]func(*Entry){
		"neither":    func(e *Entry) { e.Layout = "" },
		"layout":     func(e *Entry) { e.Layout = "loose" },
		"take":       func(e *Entry) { e.Take = "all" },
		"confidence": func(e *Entry) { e.Confidence = "sure" },
		"word -1":    func(e *Entry) { e.Word = -1 },
		"word 1":     func(e *Entry) { e.Word = 1 },
		"vector":     func(e *Entry) { e.Vector.Raw = "" },
		"a test":     func(e *Entry) { e.Vector.Out = "" },
	} {
		e := whole
		change(&e)
		assert.ErrorContains(t, e.check(), what)
	}
	for _, layout := range layouts {
		e := whole
		e.Layout, e.Word = layout, max(0, wordsOf(layout)-1)
		assert.NoError(t, e.check(), layout)
		e.Word = max(1, wordsOf(layout))
		assert.Error(t, e.check(), layout)
	}
}
