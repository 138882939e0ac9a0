package ata

import (
	"encoding/hex"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// page is 512 bytes with some set, and a right checksum when sum is true.
func page(sum bool, set map[int]string) []byte {
	b := make([]byte, PageSize)
	for at, digits := range set {
		raw, err := hex.DecodeString(strings.ReplaceAll(digits, " ", ""))
		if err != nil {
			panic(err)
		}
		copy(b[at:], raw)
	}
	if sum {
		setSum(b)
	}
	return b
}

func TestIdentifyReadsTheWordsOfTheStandard(t *testing.T) {
	// ACS-4 7.13.6, word by word, little-endian; strings with their characters swapped.
	b := page(false, map[int]string{
		20:  "564b 3041 2037" + "4d37 3135 2031" + "2020202020202020",
		46:  "3153 302e 2035 2020",
		54:  "6f4b 7672 6e61 4b20 2034",
		120: "ffffff0f",
		152: "0e00",
		154: "0600",
		164: "0100",
		166: "0044",
		168: "2341",
		170: "0100",
		174: "0341",
		200: "b088e0e800000000",
		212: "0360",
		216: "0050 5e00 9a67 bcde",
		256: "0900",
		336: "0200",
		338: "0100",
		412: "0100",
		418: "0140",
		434: "201c",
		444: "ff11",
		510: "a5",
	})
	setSum(b)
	id, err := DecodeIdentify(b)
	require.NoError(t, err)
	assert.Equal(t, "KVA07 7M511", id.Serial)
	assert.Equal(t, "Korvan K4", id.Model)
	assert.Equal(t, "S1.05", id.Firmware)
	assert.EqualValues(t, 3907029168, id.Sectors, "the 48-bit count")
	assert.EqualValues(t, 512, id.LogicalSector)
	assert.EqualValues(t, 4096, id.PhysicalSector, "2^3 logical sectors in a physical one")
	assert.EqualValues(t, 1, id.Alignment)
	assert.EqualValues(t, 7200, id.RotationRate)
	assert.Equal(t, "3.5 inch", id.FormFactorName())
	assert.EqualValues(t, uint64(0x5000005E679ADEBC), id.WWN)
	assert.Equal(t, "6.0 Gb/s", LinkSpeed(id.SATANow))
	assert.Equal(t, "6.0 Gb/s", LinkSpeed(id.LinkPossible()))
	assert.Equal(t, "SATA 3.3", id.TransportName())
	assert.Equal(t, Security{Supported: true, Frozen: true}, id.Security)
	assert.True(t, id.SMARTSupported && id.SMARTEnabled && id.ErrorLogSupported && id.SelfTestSupported && id.GPL && id.TRIM && id.SCT)
	assert.Equal(t, IntegrityRight, id.Integrity)
}

func TestABrokenPageIsAFaultAndTheRestIsDecoded(t *testing.T) {
	sound := Identify{Serial: "S1", Model: "M", Sectors: 100, Integrity: IntegrityRight, SMARTSupported: true, RotationRate: 5400}.Encode()
	flipped := append([]byte(nil), sound...)
	flipped[434] ^= 1
	id, err := DecodeIdentify(flipped)
	require.Len(t, FormatErrors(err), 1)
	assert.Equal(t, 511, FormatErrors(err)[0].Offset)
	assert.Contains(t, err.Error(), "checksum")
	assert.Equal(t, "S1", id.Serial)
	assert.Equal(t, IntegrityWrong, id.Integrity)

	_, err = DecodeIdentify(sound[:400])
	assert.ErrorContains(t, err, "ends after 400 of 512 bytes")
	_, err = DecodeAttributes(nil)
	assert.ErrorContains(t, err, "ends after 0 of 512 bytes")

	twice := AttributePage{Attributes: []Attribute{{ID: 5, Value: 100}, {ID: 5, Value: 1}}}.Encode()
	d, err := DecodeAttributes(twice)
	assert.ErrorContains(t, err, "attribute 5 appears twice")
	assert.EqualValues(t, 100, d.Attributes[0].Value)
}

func TestAttributePageReadsSlotsStatusAndPollTimes(t *testing.T) {
	b := page(true, map[int]string{
		0:   "1000",
		2:   "05 3300 64 63 030000000000 00",
		14:  "c2 2200 3d 31 27001100 3300 00",
		26:  "00 ffff ff ff ffffffffffff 00", // an empty slot is no attribute, whatever it holds
		362: "82 f3 5802 00 7b 0300 01 00 02 ff 05 f401",
	})
	d, err := DecodeAttributes(b)
	require.NoError(t, err)
	require.Len(t, d.Attributes, 2)
	assert.Equal(t, Attribute{ID: 5, Flags: 0x0033, Value: 100, Worst: 99, Raw: [6]byte{3}, Offset: 2}, d.Attributes[0])
	assert.True(t, d.Attributes[0].PreFailure())
	assert.False(t, d.Attributes[1].PreFailure())
	assert.EqualValues(t, 0x003300110027, d.Attributes[1].Raw48())
	assert.Equal(t, TestRunning, d.Test)
	assert.EqualValues(t, 30, d.TestRemaining)
	assert.True(t, d.CanTest && d.CanConveyance && d.CanSelective && d.CanLogErrors)
	assert.Equal(t, 10*time.Minute, d.OfflineTime)
	assert.Equal(t, 2*time.Minute, d.ShortPoll)
	assert.Equal(t, 500*time.Minute, d.ExtendedPoll, "FFh in the byte means: see the 16-bit form")
}

func TestThresholdsFailAtOrBelowAndNeverAtZero(t *testing.T) {
	all, err := DecodeThresholds(page(true, map[int]string{2: "05 24", 14: "c5 00", 38: "0a 61"}))
	require.NoError(t, err)
	assert.Equal(t, []Threshold{{5, 36, 2}, {197, 0, 14}, {10, 97, 38}}, all)
	for _, row := range []struct {
		level, value uint8
		fails        bool
	}{
		{36, 37, false},
		{36, 36, true},
		{36, 1, true},
		{0, 1, false},
		{97, 254, false},
		{97, 0, false},
		{0xFE, 1, false},
		{0xFF, 253, true},
		{97, 253, false},
		{253, 253, true},
	} {
		assert.Equal(t, row.fails, Threshold{Level: row.level}.Fails(row.value), "value %d at threshold %d", row.value, row.level)
	}
}

func TestSelfTestLogIsReadNewestFirstAroundItsEnd(t *testing.T) {
	// Index 2: slot 2 is the newest, slot 1 before it, slot 21 before that; the rest is empty.
	b := page(true, map[int]string{
		0: "0100", 2: "01 00 1027 00 ffffffff", 26: "02 79 d404 00 12af0830", 482: "01 20 0a00 00 00000000", 508: "02",
	})
	l, err := DecodeSelfTestLog(b)
	require.NoError(t, err)
	require.Len(t, l.Tests, 3)
	assert.Equal(
		t, SelfTest{Number: 2, Status: TestRead, Remaining: 90, Hours: 1236, LBA: 0x3008AF12, HasLBA: true, Offset: 26},
		l.Tests[0],
	)
	assert.Equal(t, "extended", l.Tests[0].KindName())
	assert.True(t, l.Tests[0].Status.Failed())
	assert.Equal(t, TestPassed, l.Tests[1].Status)
	assert.False(t, l.Tests[1].HasLBA)
	assert.Equal(t, TestInterrupted, l.Tests[2].Status)
	assert.False(t, l.Tests[2].Status.Failed(), "an interrupted test says nothing of the drive")

	// LBA 0 is a place like any other; a test that failed otherwise, or passed, names none whatever stands there.
	places, err := DecodeSelfTestLog(page(true, map[int]string{
		0:   "0100",
		2:   "01 60 0100 00 12340000",
		26:  "01 00 0200 00 12340000",
		50:  "01 70 0300 00 00000000",
		74:  "01 70 0400 00 ffffffff",
		508: "04",
	}))
	require.NoError(t, err)
	var has []bool
	for _, x := range places.Tests {
		has = append(has, x.HasLBA)
	}
	assert.Equal(t, []bool{false, true, false, false}, has)
	for status, failed := range map[TestStatus]bool{
		TestAborted:     false,
		TestInterrupted: false,
		TestFatal:       true,
		TestUnknown:     true,
		TestHandling:    true,
		9:               false,
		TestRunning:     false,
	} {
		assert.Equal(t, failed, status.Failed(), "%s", status)
	}

	empty, err := DecodeSelfTestLog(page(true, nil))
	require.NoError(t, err)
	assert.Empty(t, empty.Tests, "an unused slot is not a pass")
}

func TestErrorLogNamesCommandErrorAndPlace(t *testing.T) {
	b := page(
		true,
		map[int]string{0: "01 01", 2 + 48: "00 00 08 00 00 00 40 25", 2 + 60: "00 40 08 12 34 56 e7 51", 2 + 87: "03 1856", 452: "0700"},
	)
	l, err := DecodeErrorLog(b)
	require.NoError(t, err)
	assert.EqualValues(t, 7, l.Total)
	require.Len(t, l.Errors, 1)
	e := l.Errors[0]
	assert.Equal(t, "READ DMA EXT", e.Command.String())
	assert.Equal(t, "uncorrectable data", e.Meaning())
	assert.EqualValues(t, 0x7563412, e.LBA)
	assert.EqualValues(t, 22040, e.Hours)
}

func TestTheDrivesAlarmIsNeverFineWithoutAnAnswer(t *testing.T) {
	for name, row := range map[string]struct {
		registers Registers
		want      Alarm
	}{
		"thresholds not exceeded":          {Registers{Status: 0x50, LBA: 0xC24F00, Reported: true}, AlarmNotRaised},
		"thresholds exceeded":              {Registers{Status: 0x50, LBA: 0x2CF400, Reported: true}, AlarmRaised},
		"no registers":                     {Registers{}, AlarmUnknown},
		"registers of zeros":               {Registers{Reported: true}, AlarmUnknown},
		"the command's own, no status":     {Registers{LBA: 0xC24F00, Reported: true}, AlarmEchoed},
		"the command's own, its opcode":    {Registers{Status: 0xB0, LBA: 0xC24F00, Reported: true}, AlarmEchoed},
		"the command's own, a good status": {Registers{Status: 0x50, Error: 0xDA, LBA: 0xC24F00, Reported: true}, AlarmEchoed},
		"nonsense":                         {Registers{Status: 0x50, LBA: 0x123456, Reported: true}, AlarmUnknown},
	} {
		assert.Equal(t, row.want, DecodeAlarm(row.registers), name)
	}
}

func TestEncodingIsTheInverseOfDecoding(t *testing.T) {
	id := Identify{
		Serial:            "KVA077M511",
		Firmware:          "S1.05",
		Model:             "Korvan K4-2000",
		Sectors:           3907029168,
		LogicalSector:     4096,
		PhysicalSector:    4096,
		RotationRate:      1,
		FormFactor:        3,
		WWN:               0x500005E000000001,
		SATAGenerations:   7,
		SATANow:           2,
		Transport:         0x11FF,
		SMARTSupported:    true,
		SMARTEnabled:      true,
		ErrorLogSupported: true,
		ErrorLogEnabled:   true,
		SelfTestSupported: true,
		SelfTestEnabled:   true,
		GPL:               true,
		LBA48:             true,
		SCT:               true,
		TRIM:              true,
		Security:          Security{true, true, true, false, true},
		Integrity:         IntegrityRight,
	}
	back, err := DecodeIdentify(id.Encode())
	require.NoError(t, err)
	assert.Equal(t, id, back)
	log := SelfTestLog{
		Revision: 1,
		Tests: []SelfTest{
			{Number: 1, Status: TestRead, Remaining: 40, Hours: 9, LBA: 77, HasLBA: true, Offset: 26},
			{Number: 2, Hours: 8, Offset: 2},
		},
	}
	again, err := DecodeSelfTestLog(log.Encode())
	require.NoError(t, err)
	assert.Equal(t, log, again)
}

// fuzz feeds a decoder; what must hold is that it returns.
func fuzz(f *testing.F, seed []byte, decode func([]byte)) {
	f.Add(seed)
	f.Add([]byte{})
	f.Add(make([]byte, PageSize))
	f.Fuzz(func(_ *testing.T, b []byte) { decode(b) })
}

func FuzzIdentify(f *testing.F) {
	fuzz(
		f, Identify{Serial: "S", Model: "M", Sectors: 9}.Encode(),
		func(b []byte) { id, _ := DecodeIdentify(b); id.Encode(); _ = id.TransportName() },
	)
}

func FuzzAttributes(f *testing.F) {
	fuzz(f, AttributePage{Attributes: []Attribute{{ID: 5}}}.Encode(), func(b []byte) { d, _ := DecodeAttributes(b); d.Encode() })
}

func FuzzThresholds(f *testing.F) {
	fuzz(f, EncodeThresholds([]Threshold{{ID: 5, Level: 36}}), func(b []byte) { all, _ := DecodeThresholds(b); EncodeThresholds(all) })
}

func FuzzSelfTestLog(f *testing.F) {
	fuzz(f, SelfTestLog{Tests: []SelfTest{{Number: 1}}}.Encode(), func(b []byte) { l, _ := DecodeSelfTestLog(b); l.Encode() })
}

func FuzzErrorLog(f *testing.F) {
	fuzz(f, ErrorLog{Total: 1, Errors: []LoggedError{{Error: ErrorUNC}}}.Encode(), func(b []byte) { l, _ := DecodeErrorLog(b); l.Encode() })
}

func TestDeviceStatisticsCarryValidityAndSign(t *testing.T) {
	b := make([]byte, 8*PageSize)
	put := func(at int, digits string) {
		raw, err := hex.DecodeString(digits)
		require.NoError(t, err)
		copy(b[at:], raw)
	}
	put(PageSize, "0100010000000000")    // page 1, revision 1
	put(PageSize+16, "20500000000000c0") // power-on hours: supported, valid, 20 512
	put(PageSize+64, "0500000000000080") // pending errors: supported, no value now
	put(PageSize+24, "efcdab8967450fc0") // six bytes of value, the seventh is not part of it
	put(5*PageSize, "0100050000000000")
	put(5*PageSize+8, "fb000000000000c0")  // -5 °C
	put(5*PageSize+88, "3c000000000000e0") // normalised
	put(7*PageSize, "0100070000000000")
	put(7*PageSize+8, "09000000000000f8") // normalised, with notification, its condition met
	put(3*PageSize, "0100040000000000")   // page 3 calls itself 4
	put(3*PageSize+32, "ff000000000000c0")
	all, err := DecodeStatistics(b)
	require.ErrorContains(t, err, "page 3 calls itself 4")
	by := map[StatisticKey]Statistic{}
	for _, s := range all {
		by[s.StatisticKey] = s
	}
	assert.Equal(
		t, Statistic{StatisticKey: StatPowerOnHours, Name: "Power-on Hours", Unit: "h", Value: 20512, Valid: true},
		by[StatPowerOnHours],
	)
	assert.Equal(
		t, Statistic{StatisticKey: StatPendingErrors, Name: "Pending Error Count"}, by[StatPendingErrors],
		"a value that is not valid is no value",
	)
	assert.EqualValues(t, 0x456789ABCDEF, by[StatSectorsWritten].Value)
	assert.EqualValues(t, -5, by[StatTemperature].Value)
	assert.True(t, by[StatMaxOperating].Normalized)
	assert.NotContains(t, by, StatReallocatedSectors)
	assert.Equal(
		t,
		Statistic{
			StatisticKey: StatPercentageUsed,
			Name:         "Percentage Used Endurance Indicator",
			Unit:         "%",
			Value:        9,
			Valid:        true,
			Normalized:   true,
			Notifies:     true,
			Condition:    true,
		},
		by[StatPercentageUsed],
	)
	assert.True(t, StatPercentageUsed.IsShare(), "normalised is what the standard defines it as")
	assert.False(t, StatMaxOperating.IsShare())
	again, err := DecodeStatistics(EncodeStatistics(all))
	require.NoError(t, err)
	assert.ElementsMatch(t, all, again)
	_, err = DecodeStatistics(b[:100])
	assert.ErrorContains(t, err, "ends after 100 of 512 bytes")
}

func TestTheLogDirectoryTellsHowLongEachLogIs(t *testing.T) {
	d, err := DecodeLogDirectory(page(false, map[int]string{0: "0100", 2: "0100", 8: "0800", 12: "0100", 508: "ff00"}))
	require.NoError(t, err)
	assert.EqualValues(t, 8, d[LogDeviceStatistics])
	assert.EqualValues(t, 1, d[LogSelfTest])
	assert.Zero(t, d[0x0C])
	back, err := DecodeLogDirectory(d.Encode())
	require.NoError(t, err)
	assert.Equal(t, d, back)
	old, err := DecodeLogDirectory(page(false, map[int]string{0: "0000", 8: "0800"}))
	require.NoError(t, err)
	assert.EqualValues(t, 1, old[LogDeviceStatistics], "version 0 knows no log of several pages")
	other, err := DecodeLogDirectory(page(false, map[int]string{0: "0200", 8: "0800"}))
	assert.ErrorContains(t, err, "version 2 is neither 0 nor 1")
	assert.Zero(t, other[LogDeviceStatistics])
}

func FuzzStatistics(f *testing.F) {
	fuzz(
		f, EncodeStatistics([]Statistic{{StatisticKey: StatTemperature, Value: -5, Valid: true}}),
		func(b []byte) { all, _ := DecodeStatistics(b); EncodeStatistics(all) },
	)
}

func FuzzLogDirectory(f *testing.F) {
	fuzz(f, LogDirectoryPages{4: 8}.Encode(), func(b []byte) { d, _ := DecodeLogDirectory(b); d.Encode() })
}
