package ata

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheExtendedErrorLogTellsTheCommandsBeforeAndWideAddresses(t *testing.T) {
	// Entry 2 of page 1 is the newest: READ FPDMA QUEUED at LBA 0x0123456789AB after a WRITE, failed with UNC while active.
	const at = 4 + 124
	b := page(true, map[int]string{
		0: "01 00 02 00", 500: "0900",
		at + 3*18:     "00 0000 0800 10 00 00 00 00 00 40 61 00 10270000", // the fourth command structure
		at + 4*18:     "00 0000 0800 ab 45 89 23 67 01 40 60 00 1b270000", // the fifth: the failed one
		at + 90:       "00 40 0800 ab 45 89 23 67 01 40 41",
		at + 90 + 31:  "03 1856",
		4 + 90 + 32:   "0100", // the older entry, at hour 1
		4 + 4*18 + 12: "25",
		4 + 91:        "04",
	})
	l, err := DecodeErrorsExt(b)
	require.NoError(t, err)
	assert.EqualValues(t, 9, l.Total)
	require.Len(t, l.Errors, 2)
	e := l.Errors[0]
	assert.EqualValues(t, 0x0123456789AB, e.LBA)
	assert.Equal(t, "READ FPDMA QUEUED", e.Command.String())
	assert.Equal(t, "uncorrectable data", e.Meaning())
	assert.Equal(t, "active or idle", e.StateName())
	assert.EqualValues(t, 22040, e.Hours)
	require.Len(t, e.Before, 2)
	assert.Equal(t, "WRITE FPDMA QUEUED, LBA 16, count 8", e.Before[0].String())
	assert.EqualValues(t, 10000, e.Before[0].At)
	assert.Equal(t, "command aborted", l.Errors[1].Meaning())

	again, err := DecodeErrorsExt(l.EncodeExt())
	require.NoError(t, err)
	assert.Equal(t, l.Errors[0].LBA, again.Errors[0].LBA)
	assert.Equal(t, l.Errors[0].Before, again.Errors[0].Before)
}

// A ring's index may stand anywhere, beyond what was transferred and where no ring has a slot: the entries are the same, none is lost,
// and none of it is damage. Only their order hangs on it.
func TestNoPositionOfARingLosesAnEntry(t *testing.T) {
	for name, ring := range map[string]struct {
		pages, perPage, first, size, stamp, index, wide int
		hours                                           func([]byte) ([]uint16, int, error)
	}{
		"log 01h": {1, 5, 2, 90, 88, 1, 1, func(b []byte) ([]uint16, int, error) {
			l, err := DecodeErrorLog(b)
			return errorHours(l), l.Beyond, err
		}},
		"log 02h": {
			3, 5, 2, 90, 88, 1, 1,
			func(b []byte) ([]uint16, int, error) { l, err := DecodeErrors(b); return errorHours(l), l.Beyond, err },
		},
		"log 03h": {3, 4, 4, 124, 122, 2, 2, func(b []byte) ([]uint16, int, error) {
			l, err := DecodeErrorsExt(b)
			return errorHours(l), l.Beyond, err
		}},
		"log 06h": {1, 21, 2, 24, 2, 508, 1, func(b []byte) ([]uint16, int, error) {
			l, err := DecodeSelfTestLog(b)
			return testHours(l), l.Beyond, err
		}},
		"log 07h": {3, 19, 4, 26, 2, 2, 2, func(b []byte) ([]uint16, int, error) {
			l, err := DecodeSelfTestsExt(b)
			return testHours(l), l.Beyond, err
		}},
	} {
		slots := ring.pages * ring.perPage
		for _, index := range []int{0, 1, 2, slots - 1, slots, slots + 1, 200} {
			b := make([]byte, ring.pages*PageSize)
			for slot := range slots { // the newest at the index, or, where that names no slot, at the end
				age := (index - 1 - slot + slots) % slots
				if index < 1 || index > slots {
					age = slots - 1 - slot
				}
				at := slot/ring.perPage*PageSize + ring.first + slot%ring.perPage*ring.size
				le.PutUint16(b[at+ring.stamp:], uint16(1000-age))
			}
			b[ring.index] = uint8(index)
			for at := 0; at < len(b); at += PageSize {
				setSum(b[at:])
			}
			hours, beyond, err := ring.hours(b)
			require.NoError(t, err, "%s, index %d", name, index)
			require.Len(t, hours, slots, "%s, index %d", name, index)
			assert.IsDecreasing(t, hours, "%s, index %d: newest first", name, index)
			if ring.pages > 1 {
				assert.Equal(t, max(0, index-slots), beyond, "%s, index %d", name, index)
			}
		}
	}
}

func errorHours(l ErrorLog) (all []uint16) {
	for _, e := range l.Errors {
		all = append(all, e.Hours)
	}
	return all
}

func testHours(l SelfTestLog) (all []uint16) {
	for _, e := range l.Tests {
		all = append(all, e.Hours)
	}
	return all
}

func TestTheComprehensiveErrorLogGoesOnOverItsPages(t *testing.T) {
	first := page(true, map[int]string{0: "01 06", 452: "0600", 2 + 4*90 + 48 + 7: "20"})
	second := page(true, map[int]string{0: "01", 2 + 48 + 7: "25", 2 + 61: "40"})
	l, err := DecodeErrors(append(first, second...))
	require.NoError(t, err)
	require.Len(t, l.Errors, 2)
	assert.Equal(t, PageSize+2, l.Errors[0].Offset, "the sixth entry is the first of the second page")
	assert.Equal(t, 2+4*90, l.Errors[1].Offset)
	second[10] ^= 1
	_, err = DecodeErrors(append(first, second...))
	assert.ErrorContains(t, err, "byte 1023: wrong checksum")
}

func TestTheExtendedSelfTestLogHasWideAddresses(t *testing.T) {
	l, err := DecodeSelfTestsExt(
		page(true, map[int]string{0: "01 00 02 00", 4: "01 00 0a00 00 ffffffffffff", 30: "02 79 d404 00 12af08300201"}),
	)
	require.NoError(t, err)
	require.Len(t, l.Tests, 2)
	assert.EqualValues(t, 0x01023008AF12, l.Tests[0].LBA)
	assert.True(t, l.Tests[0].HasLBA)
	assert.Equal(t, TestPassed, l.Tests[1].Status)
	assert.False(t, l.Tests[1].HasLBA)
	again, err := DecodeSelfTestsExt(l.EncodeExt())
	require.NoError(t, err)
	assert.Equal(t, l.Tests, again.Tests)
}

func TestPendingDefectsSelectiveSpansAndLinkCounters(t *testing.T) {
	p, err := DecodePending(
		page(false, map[int]string{0: "02000000", 16: "18560000 00000000 12af083000000000", 32: "ffffffff 00000000 0100000000000000"}),
	)
	require.NoError(t, err)
	assert.Equal(t, []PendingDefect{{22040, 0x3008AF12, 16}, {0xFFFFFFFF, 1, 32}}, p.Defects)

	s, err := DecodeSelective(page(true, map[int]string{0: "0100", 2: "0a00000000000000 1400000000000000", 492: "0f00000000000000 0100"}))
	require.NoError(t, err)
	assert.Equal(t, SelectiveLog{Spans: []Span{{10, 20}}, Current: 15, Span: 1}, s)

	all, err := DecodePHY(page(true, map[int]string{4: "0110 0300", 8: "0b20 ffffffff", 14: "0180", 16: "0a20 07000000"}))
	require.NoError(t, err)
	require.Len(t, all, 2, "an identifier without a size ends the list")
	assert.Equal(t, PHYCounter{ID: 1, Name: "Commands failed, interface CRC", Value: 3, Offset: 6, Size: 2}, all[0])
	assert.True(t, all[1].Full, "a counter at its largest value says that many or more")
	_, err = DecodePHY(page(true, map[int]string{4: "0150 0300"}))
	assert.ErrorContains(t, err, "impossible size")
}

func TestSCTTellsTemperaturesAndTheirCurve(t *testing.T) {
	s, err := DecodeSCTStatus(page(false, map[int]string{0: "0300", 10: "01", 200: "26 fb 2a 80 33 3c", 206: "02000000"}))
	require.NoError(t, err)
	assert.Equal(
		t,
		SCTReport{
			Format:      3,
			State:       1,
			Now:         38,
			Lowest:      -5,
			Highest:     42,
			LifeLowest:  NoTemperature,
			LifeHighest: 51,
			Most:        60,
			OverLimit:   2,
		},
		s,
	)
	assert.Equal(t, "in standby", s.StateName())

	h, err := DecodeTemperatureHistory(page(false, map[int]string{0: "0200 0100 0a00 3c 41 00 ec", 30: "0400 0100", 34: "26 27 80 25"}))
	require.NoError(t, err)
	assert.Equal(t, []int8{NoTemperature, 37, 38, 39}, h.Curve, "the ring's newest entry, number 1, comes last")
	assert.EqualValues(t, 10, h.Interval)
	assert.EqualValues(t, -20, h.UnderLimit)
	for want, text := range map[string]string{"does not fit": "0000 0000", "points past entry 3": "0400 0400"} {
		_, err = DecodeTemperatureHistory(page(false, map[int]string{0: "0200", 30: text}))
		assert.ErrorContains(t, err, want)
	}
	tenths, ok := DecodeRecoveryLimit(Registers{Status: 0x50, Count: 70, Reported: true})
	assert.True(t, ok)
	assert.EqualValues(t, 70, tenths)
	_, ok = DecodeRecoveryLimit(Registers{Status: 0x51, Reported: true})
	assert.False(t, ok)
}

func TestOnlyAnAnswerTellsWhetherADriveSleeps(t *testing.T) {
	for count, want := range map[uint16]Power{0x00: PowerStandby, 0x80: PowerIdle, 0xFF: PowerActive, 0x77: PowerUnknown} {
		assert.Equal(t, want, DecodePower(Registers{Status: 0x50, Count: count, Reported: true}))
	}
	assert.Equal(t, PowerUnknown, DecodePower(Registers{}), "no registers are no standby")
	assert.Equal(t, PowerUnknown, DecodePower(Registers{Reported: true, LBA: 1}), "nor is an echo of the command")
}

func FuzzErrors(f *testing.F) {
	fuzz(f, ErrorLog{Total: 1, Errors: []LoggedError{{Error: ErrorUNC}}}.Encode(), func(b []byte) { l, _ := DecodeErrors(b); l.Encode() })
}

func FuzzErrorsExt(f *testing.F) {
	fuzz(
		f, ErrorLog{Total: 1, Errors: []LoggedError{{Error: ErrorUNC}}}.EncodeExt(),
		func(b []byte) { l, _ := DecodeErrorsExt(b); l.EncodeExt() },
	)
}

func FuzzSelfTestsExt(f *testing.F) {
	fuzz(f, SelfTestLog{Tests: []SelfTest{{Number: 1}}}.EncodeExt(), func(b []byte) { l, _ := DecodeSelfTestsExt(b); l.EncodeExt() })
}

func FuzzPending(f *testing.F) {
	fuzz(f, PendingLog{Count: 1, Defects: []PendingDefect{{1, 2, 16}}}.Encode(), func(b []byte) { l, _ := DecodePending(b); l.Encode() })
}

func FuzzPHY(f *testing.F) {
	fuzz(f, EncodePHY([]PHYCounter{{ID: 1, Value: 3}}), func(b []byte) { _, _ = DecodePHY(b) })
}

func FuzzTemperatureHistory(f *testing.F) {
	fuzz(f, TemperatureHistory{Curve: []int8{38, 39}}.Encode(), func(b []byte) { h, _ := DecodeTemperatureHistory(b); _ = len(h.Curve) })
}

func FuzzFixedPages(f *testing.F) {
	fuzz(f, SCTReport{Now: 38}.Encode(), func(b []byte) {
		s, _ := DecodeSCTStatus(b)
		_ = s.StateName()
		_, _ = DecodeSelective(b)
		_, _ = DecodeConfiguration(b)
	})
}
