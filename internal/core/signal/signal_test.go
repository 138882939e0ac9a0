package signal

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
)

func TestWhatIsNotThereHasAReasonAndIsNoZero(t *testing.T) {
	off := drive.Fault{
		Class: drive.FaultSwitchedOff,
		What:  "SMART READ DATA",
		Cause: "SMART is switched off in the drive",
		Page:  string(reading.PageAttributes),
	}
	for name, r := range map[string]*reading.Reading{
		"nothing read": {}, "switched off": {Faults: []drive.Fault{off}},
		"counters without attributes": {HasCounters: true, HasTests: true},
	} {
		for n, v := range Of(r) {
			if !v.Available {
				assert.NotEmpty(t, v.Reason, "%s, %s", name, n)
				assert.Zero(t, v.Number, "%s, %s", name, n)
			}
		}
		assert.False(t, Of(r)[Reallocated].Available, name)
		assert.False(t, Of(r)[Alarm].Available, name)
	}
	assert.Equal(t, off.Cause, Of(&reading.Reading{Faults: []drive.Fault{off}})[Pending].Reason)
}

func TestEverySignalPointsAtItsBytes(t *testing.T) {
	a := reading.Attribute{Attribute: ata.Attribute{ID: 5, Raw: [6]byte{3}, Offset: 38}, Entry: dialect.Lookup(5)}
	a.Quantity = dialect.Decode(a.Entry, a.Raw, 100)
	v := Of(&reading.Reading{HasCounters: true, Attributes: []reading.Attribute{a}})[Reallocated]
	assert.Equal(
		t,
		Value{
			Number:     3,
			Available:  true,
			Source:     "SMART data, attribute 5",
			Page:       reading.PageAttributes,
			Offset:     43,
			Length:     6,
			Confidence: dialect.Trade,
		},
		v,
	)
}

func TestSelfTestHoursWrap(t *testing.T) {
	hours := reading.Attribute{Attribute: ata.Attribute{ID: 9, Raw: [6]byte{0x0A, 0, 1}}, Entry: dialect.Lookup(9)} // 65 546 h
	hours.Quantity = dialect.Decode(hours.Entry, hours.Raw, 100)
	s := Of(&reading.Reading{HasCounters: true, Attributes: []reading.Attribute{hours}, HasTests: true, Tests: []reading.SelfTest{
		{
			Kind:   "short",
			Failed: true,
			Hours:  8,
			Wraps:  true,
			LBA:    77,
			HasLBA: true,
			Page:   reading.PageTestLog,
			Offset: 26,
		},
		{Kind: "short", Passed: true, Hours: 65530, Wraps: true},
		{Kind: "extended", Hours: 9, Wraps: true},
	}})
	assert.EqualValues(t, 16, s[ShortTestAge].Number)
	assert.EqualValues(t, 1, s[TestsFailed].Number)
	assert.EqualValues(t, 0, s[TestsPassedSince].Number)
	assert.False(t, s[ExtendedTestAge].Available, "an aborted test is no pass")
	assert.EqualValues(t, 1, s[LastShortTest].Number)
	assert.False(t, s[LastExtendedTest].Available, "an aborted test says nothing")
	assert.EqualValues(t, 77, s[FirstFailingLBA].Number)
	assert.Equal(t, 26, s[FirstFailingLBA].Offset)
}

func TestPackingKeepsEveryNumberAndLeavesOutWhatIsNotThere(t *testing.T) {
	s := Set{
		Reallocated: {Number: 0, Available: true},
		Temperature: {Number: -5, Available: true},
		LoadCycles:  {Number: 612345.5, Available: true},
		Pending:     {Reason: "none"},
	}
	back, err := Unpack(Pack(s))
	require.NoError(t, err)
	assert.Equal(t, map[Name]float64{Reallocated: 0, Temperature: -5, LoadCycles: 612345.5}, back.Map())
	assert.Equal(t, back, ValuesOf(s))
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
	five.Quantity = dialect.Decode(five.Entry, five.Raw, 100)
	r := &reading.Reading{
		HasCounters: true,
		Attributes:  []reading.Attribute{five},
		Statistics: []ata.Statistic{
			{StatisticKey: ata.StatReallocatedSectors, Name: "Number of Reallocated Logical Sectors", Value: 24, Valid: true},
		},
	}
	v := Of(r)[Reallocated]
	assert.EqualValues(t, 24, v.Number)
	assert.Equal(t, dialect.Standard, v.Confidence)
	assert.Equal(t, 3*ata.PageSize+32, v.Offset)
	assert.Equal(t, "SMART data, attribute 5 says 3", v.Disagrees)
	r.Identity.LogicalSector, r.Identity.PhysicalSector = 512, 4096
	v = Of(r)[Reallocated]
	assert.EqualValues(t, 3, v.Number, "24 logical sectors are 3 physical ones")
	assert.Empty(t, v.Disagrees)
	r.Statistics[0].Valid = false
	v = Of(r)[Reallocated]
	assert.EqualValues(t, 3, v.Number, "a statistic without a value gives way")
	assert.Empty(t, v.Disagrees)
}

func TestEveryInterfaceFeedsTheSameSignals(t *testing.T) {
	h := nvme.Health{
		Warning:        nvme.WarnSpare,
		CompositeK:     315,
		Spare:          4,
		SpareThreshold: 10,
		Used:           81,
		Hours:          nvme.Counter{Low: 9120},
		MediaErrors:    nvme.Counter{Low: 3},
		Written:        nvme.Counter{Low: 1000},
	}
	r := reading.Decode(
		[]reading.Page{
			{Name: reading.PageController, Bytes: nvme.Controller{Model: "Brackwater Heron", Serial: "BWN11"}.Encode()},
			{Name: reading.PageHealth, Bytes: h.Encode()},
		},
	)
	s := Of(&r)
	for name, want := range map[Name]float64{
		SpareLow:       1,
		ReadOnly:       0,
		Temperature:    42,
		AvailableSpare: 4,
		SpareMargin:    -6,
		PercentageUsed: 81,
		PowerOnHours:   9120,
		MediaErrors:    3,
		BytesWritten:   512_000_000,
		Alarm:          1,
	} {
		assert.True(t, s[name].Available, name)
		assert.EqualValues(t, want, s[name].Number, name)
		assert.Equal(t, reading.PageHealth, s[name].Page, name)
	}
	assert.Equal(t, "an NVMe drive does not count it", s[Pending].Reason)

	pages := []reading.Page{
		{Name: reading.PageInquiry, Bytes: scsi.InquiryData{Vendor: "OSPRIL", Product: "O12"}.Encode()},
		{Name: reading.PageVPD(scsi.VPDSerial), Bytes: scsi.EncodeVPD(scsi.VPDSerial, []byte("OSS0419Z"))},
		{
			Name:  reading.PageLog(scsi.LogReadErrors),
			Bytes: scsi.EncodeLogPage(scsi.LogReadErrors, scsi.Number(scsi.CounterUncorrected, 8, 2)),
		},
		{
			Name:  reading.PageLog(scsi.LogVerifyErrors),
			Bytes: scsi.EncodeLogPage(scsi.LogVerifyErrors, scsi.Number(scsi.CounterUncorrected, 4, 1)),
		},
		{Name: reading.PageLog(scsi.LogTemperature), Bytes: scsi.EncodeLogPage(scsi.LogTemperature, scsi.Parameter{Value: []byte{0, 38}})},
		{
			Name:  reading.PageLog(scsi.LogInformational),
			Bytes: scsi.EncodeLogPage(scsi.LogInformational, scsi.Parameter{Value: []byte{0x5D, 0xFF, 38, 0}}),
		},
		{Name: reading.PageDefects, Bytes: scsi.Defects{Format: 5, Count: 12}.Encode()},
		{Name: reading.PageLog(scsi.LogBackground), Bytes: scsi.Background{Minutes: 60_000}.Encode()},
	}
	r = reading.Decode(pages)
	assert.Equal(t, drive.Key{Model: "OSPRIL O12", Serial: "OSS0419Z"}, r.Identity.Key)
	s = Of(&r)
	for name, want := range map[Name]float64{ReportedUncorrectable: 3, Temperature: 38, GrownDefects: 12, PowerOnHours: 1000, Alarm: 0} {
		assert.True(t, s[name].Available, name)
		assert.EqualValues(t, want, s[name].Number, name)
	}
}

func TestAPageThatCouldNotBeReadMakesNoSmallerSum(t *testing.T) {
	count := func(page scsi.LogID, n uint64) reading.Page {
		return reading.Page{Name: reading.PageLog(page), Bytes: scsi.EncodeLogPage(page, scsi.Number(scsi.CounterUncorrected, 8, n))}
	}
	pages := []reading.Page{
		{Name: reading.PageInquiry, Bytes: scsi.InquiryData{Vendor: "OSPRIL", Product: "O12"}.Encode()},
		{Name: reading.PageVPD(scsi.VPDSerial), Bytes: scsi.EncodeVPD(scsi.VPDSerial, []byte("OSS0419Z"))},
		count(scsi.LogWriteErrors, 5), count(scsi.LogReadErrors, 2),
	}
	r := reading.Decode(pages)
	assert.EqualValues(t, 7, Of(&r)[ReportedUncorrectable].Number, "a page the drive does not offer is not missing")
	pages[2] = reading.Page{
		Name:  reading.PageLog(scsi.LogWriteErrors),
		Fault: &drive.Fault{Class: drive.FaultNoAnswer, What: "LOG SENSE", Cause: "no answer for 15s"},
	}
	r = reading.Decode(pages)
	v := Of(&r)[ReportedUncorrectable]
	assert.False(t, v.Available, "2 after 7 would be a counter that fell")
	assert.Equal(t, "no answer for 15s", v.Reason)
}

func TestTheReasonIsThePagesOwn(t *testing.T) {
	five := reading.Attribute{Attribute: ata.Attribute{ID: 5}, Entry: dialect.Lookup(5)}
	r := &reading.Reading{
		HasCounters: true,
		Attributes:  []reading.Attribute{five},
		Identity:    drive.Identity{Interface: drive.ATA, Medium: drive.Spinning},
	}
	assert.Equal(
		t, "the drive has no attribute for it, as 199 usually is", Of(r)[CRCErrors].Reason,
		"counters were read; link counters since power-on are no count of a life",
	)
	assert.Equal(t, "the drive's statistics do not hold it", Of(r)[StartFailures].Reason)
	r.Faults = []drive.Fault{{Page: string(reading.PageStatistics), Cause: "the drive's log directory lists no device statistics"}}
	assert.Equal(t, "the drive's log directory lists no device statistics", Of(r)[StartFailures].Reason)
}

func TestAnEmptiedErrorLogIsNoFallOfItsCounter(t *testing.T) {
	h := nvme.Health{CompositeK: 315, ErrorEntries: nvme.Counter{Low: 12}}
	r := reading.Decode(
		[]reading.Page{
			{Name: reading.PageController, Bytes: nvme.Controller{Model: "Brackwater Heron", Serial: "BWN11"}.Encode()},
			{Name: reading.PageHealth, Bytes: h.Encode()},
			{Name: reading.PageNVMeErrors, Bytes: make([]byte, nvme.ErrorSize)},
		},
	)
	assert.EqualValues(t, 12, Of(&r)[LoggedErrors].Number)
}

func TestASampleThatFindsNothingTakesNothingBack(t *testing.T) {
	s := Set{PowerOnHours: {Number: 1000, Available: true}}
	whole := Swept{Whole: true, Unreadable: 9, Slow: 2, Hours: 900, Source: "whole sweep, run 4"}
	s.Sweep([]Swept{{Unreadable: 0, Hours: 990}, whole, {Unreadable: 30, Hours: 500}})
	assert.EqualValues(t, 9, s[UnreadableFound].Number, "what was before the last whole sweep has been read again")
	assert.EqualValues(t, 2, s[SlowFound].Number)
	assert.EqualValues(t, 100, s[WholeSweepAge].Number)
	assert.EqualValues(t, 10, s[SpotSweepAge].Number)
	s = Set{PowerOnHours: {Number: 1000, Available: true}}
	s.Sweep([]Swept{{Unreadable: 12, Hours: 990}, whole})
	assert.EqualValues(t, 12, s[UnreadableFound].Number, "more than before counts")
	s = Set{}
	s.Sweep(nil)
	assert.False(t, s[UnreadableFound].Available)
}
