package signal

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
)

func TestWhatIsNotThereHasAReasonAndIsNoZero(t *testing.T) {
	off := drive.Fault{Class: drive.FaultSwitchedOff, What: "SMART READ DATA", Back: "SMART is switched off in the drive", Page: string(reading.PageAttributes)}
	for name, r := range map[string]*reading.Reading{"nothing read": {}, "switched off": {Faults: []drive.Fault{off}}, "counters without attributes": {HasCounters: true, HasTests: true}} {
		for n, v := range Of(r) {
			if !v.Available {
				assert.NotEmpty(t, v.Reason, "%s, %s", name, n)
				assert.Zero(t, v.Number, "%s, %s", name, n)
			}
		}
		assert.False(t, Of(r)[Reallocated].Available, name)
		assert.False(t, Of(r)[Alarm].Available, name)
	}
	assert.Equal(t, off.Back, Of(&reading.Reading{Faults: []drive.Fault{off}})[Pending].Reason)
}

func TestEverySignalPointsAtItsBytes(t *testing.T) {
	a := reading.Attribute{Attribute: ata.Attribute{ID: 5, Raw: [6]byte{3}, Offset: 38}, Entry: dialect.Lookup(5)}
	a.Quantity = dialect.Decode(a.Entry, a.Raw)
	v := Of(&reading.Reading{HasCounters: true, Attributes: []reading.Attribute{a}})[Reallocated]
	assert.Equal(t, Value{Number: 3, Available: true, Source: "SMART data, attribute 5", Page: reading.PageAttributes, Offset: 43, Length: 6, Confidence: dialect.Trade}, v)
}

func TestSelfTestHoursWrap(t *testing.T) {
	hours := reading.Attribute{Attribute: ata.Attribute{ID: 9, Raw: [6]byte{0x0A, 0, 1}}, Entry: dialect.Lookup(9)} // 65 546 h
	hours.Quantity = dialect.Decode(hours.Entry, hours.Raw)
	s := Of(&reading.Reading{HasCounters: true, Attributes: []reading.Attribute{hours}, HasTests: true, Tests: []ata.SelfTest{
		{Number: ata.TestShort, Status: ata.TestRead, Hours: 8}, {Number: ata.TestShort, Hours: 65530}, {Number: ata.TestExtended, Status: ata.TestAborted, Hours: 9},
	}})
	assert.EqualValues(t, 16, s[ShortTestAge].Number)
	assert.EqualValues(t, 1, s[TestsFailed].Number)
	assert.EqualValues(t, 0, s[TestsPassedSince].Number)
	assert.False(t, s[ExtendedTestAge].Available, "an aborted test is no pass")
}

func TestPackingKeepsEveryNumberAndLeavesOutWhatIsNotThere(t *testing.T) {
	s := Set{Reallocated: {Number: 0, Available: true}, Temperature: {Number: -5, Available: true}, LoadCycles: {Number: 612345.5, Available: true}, Pending: {Reason: "none"}}
	back, err := Unpack(Pack(s))
	require.NoError(t, err)
	assert.Equal(t, map[Name]float64{Reallocated: 0, Temperature: -5, LoadCycles: 612345.5}, back)
	codes := map[uint8]bool{}
	for _, d := range Registry {
		assert.False(t, codes[d.Code], "code %d stands for two signals", d.Code)
		codes[d.Code] = true
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(Pack(Set{Reallocated: {Number: 3, Available: true}}))
	f.Fuzz(func(_ *testing.T, b []byte) { _, _ = Unpack(b) })
}

func TestTheStandardsWordIsPreferredAndADisagreementIsTold(t *testing.T) {
	five := reading.Attribute{Attribute: ata.Attribute{ID: 5, Raw: [6]byte{3}}, Entry: dialect.Lookup(5)}
	five.Quantity = dialect.Decode(five.Entry, five.Raw)
	r := &reading.Reading{HasCounters: true, Attributes: []reading.Attribute{five}, Statistics: []ata.Statistic{{StatisticKey: ata.StatReallocatedSectors, Name: "Number of Reallocated Logical Sectors", Value: 24, Valid: true}}}
	v := Of(r)[Reallocated]
	assert.EqualValues(t, 24, v.Number)
	assert.Equal(t, dialect.Standard, v.Confidence)
	assert.Equal(t, 3*ata.PageSize+32, v.Offset)
	assert.Equal(t, "SMART data, attribute 5 says 3", v.Disagrees)
	r.Statistics[0].Valid = false
	v = Of(r)[Reallocated]
	assert.EqualValues(t, 3, v.Number, "a statistic without a value gives way")
	assert.Empty(t, v.Disagrees)
}
