package scsi

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func digits(t testing.TB, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	require.NoError(t, err)
	return b
}

func TestLogPagesAreReadAsFarAsTheyCame(t *testing.T) {
	b := digits(t, "03 00 0014 0006 03 08 0000000000000002 0005 03 04 00000100")
	l, err := DecodeLogPage(LogReadErrors, b)
	require.NoError(t, err)
	p, ok := l.Parameter(CounterUncorrected)
	require.True(t, ok)
	n, _ := p.Number()
	assert.EqualValues(t, 2, n)
	assert.Equal(t, 8, p.Offset)
	assert.Equal(t, "Total uncorrected errors", ParameterName(l.LogID, p.Code))
	_, err = DecodeLogPage(LogReadErrors, b[:10])
	assert.ErrorContains(t, err, "byte 4: a parameter runs over the page's end")
}

func TestTheAlarmOfAInformationalException(t *testing.T) {
	for text, want := range map[string][2]bool{
		"5d10": {true, false}, "5dff": {false, false}, "0b01": {false, true}, "0000": {false, false},
	} {
		i, err := DecodeInformational(digits(t, "2f 00 0008 0000 03 04 "+text+" 26 00"))
		require.NoError(t, err)
		assert.Equal(t, want, [2]bool{i.Predicts(), i.Warns()}, text)
		assert.EqualValues(t, 38, i.Temperature)
	}
}

func TestNamesCapacityAndShape(t *testing.T) {
	all, err := DecodeDesignators(digits(t, "00 83 0018 01 03 00 08 500005e000000001 01 13 00 08 500005e000000002"))
	require.NoError(t, err)
	assert.Equal(t, digits(t, "500005e000000001"), UnitName(all), "the unit's name, not the port's: the same on every path")
	_, err = DecodeDesignators(digits(t, "00 83 0008 01 03 00 08 50000000"))
	assert.ErrorContains(t, err, "runs over the page's end")
	_, err = DecodeSerial(digits(t, "00 83 0004 41424344"))
	assert.ErrorContains(t, err, "calls itself page 83h")

	c, err := DecodeCapacity(digits(t, "00000000000f423f 00000208 03 03 8005 00000000000000000000000000000000"))
	require.NoError(t, err)
	assert.Equal(t, Capacity{Last: 999_999, Block: 520, Exponent: 3, Alignment: 5, Protection: 2, Thin: true}, c)
	again, err := DecodeCapacity(c.Encode())
	require.NoError(t, err)
	assert.Equal(t, c, again)

	shape, err := DecodeCharacteristics(digits(t, "00 b1 003c 1c20 00 02 10"))
	require.NoError(t, err)
	assert.Equal(t, Characteristics{RotationRate: 7200, FormFactor: 2, Zoned: 1}, shape)
}

func TestSelfTestsScansAndDefects(t *testing.T) {
	test := "0001 03 10 27 02 2328 0000000000001267 03 11 00 00"
	empty := "0002 03 10 00 00 0000 0000000000000000 00 00 00 00"
	all, err := DecodeSelfTests(digits(t, "10 00 0028"+test+empty))
	require.NoError(t, err)
	require.Len(t, all, 1, "a slot of zeros is unused, not a pass")
	assert.Equal(t, TestOtherSegment, all[0].Result)
	assert.Equal(t, "short", all[0].KindName())
	assert.EqualValues(t, 9000, all[0].Hours)
	assert.EqualValues(t, 4711, all[0].LBA)
	assert.Equal(t, "medium error, unrecovered read error (3/11/00)", all[0].Sense.String())

	g := Background{
		Minutes:  60_000,
		Status:   8,
		Scans:    7,
		Progress: 32768,
		Found:    []ScanResult{{Minutes: 59_000, Status: 1, Sense: Sense{Key: MediumError, ASC: 0x11}, LBA: 77, Offset: 24}},
	}
	back, err := DecodeBackground(g.Encode())
	require.NoError(t, err)
	assert.Equal(t, g, back)
	assert.Equal(t, "waiting for its interval", g.StatusName())

	d, err := DecodeDefects(digits(t, "00 0d 0000 00000060"))
	require.NoError(t, err)
	assert.EqualValues(t, 12, d.Count, "96 bytes of 8-byte entries")
	for text, want := range map[string]string{
		"00 15 0000 00000000": "not the grown one", "00 0e 0000 00000008": "no known size",
		"00 0d 0000 00000009": "no whole number of entries",
	} {
		_, err = DecodeDefects(digits(t, text))
		assert.ErrorContains(t, err, want)
	}
}

func TestProgressComesInBothSenseFormats(t *testing.T) {
	for name, text := range map[string]string{
		"fixed":      "70 00 02 00000000 0a 00000000 04 09 00 80 8000",
		"descriptor": "72 02 04 09 000000 08 02 06 0000 80 8000 00",
	} {
		s, err := DecodeSense(digits(t, text))
		require.NoError(t, err, name)
		percent, ok := Progress(s)
		assert.True(t, ok, name)
		assert.Equal(t, 50, percent, name)
		assert.Equal(t, "not ready, a self-test is in progress (2/04/09)", s.String())
	}
}

func TestPortsAndControl(t *testing.T) {
	ports := []PortPhy{{Port: 1, Phy: 2, Rate: 11, Address: 0x500005E000000002, Attached: 7, Invalid: 9, LossSync: 1, Offset: 12}}
	back, err := DecodePorts(EncodePorts(ports, true))
	require.NoError(t, err)
	assert.Equal(t, ports, back)
	assert.Equal(t, "12.0 Gb/s", back[0].RateName())
	c := Control{Disabled: true, Method: 6, Interval: 600, Count: 1, Offset: 8}
	again, err := DecodeControl(c.Encode())
	require.NoError(t, err)
	assert.Equal(t, c, again)
	_, err = DecodeControl(make([]byte, 8))
	assert.ErrorContains(t, err, "the page is not there")
}

func TestOlderPhyDescriptorsDoNotTellTheirLength(t *testing.T) {
	ports := []PortPhy{
		{Port: 1, Phy: 0, Rate: 10, Address: 7, Invalid: 9, Offset: 12},
		{Port: 2, Phy: 1, Rate: 10, Address: 8, Invalid: 4, PhyResets: 3, Offset: 68},
	}
	old, err := DecodePorts(EncodePorts(ports, false))
	require.NoError(t, err)
	assert.Equal(t, ports, old, "48 bytes, as before there was a length")
	two := digits(t, "18 00 0068 0001 03 64 06 00 00 02"+strings.Repeat("00", 96)) // two phys at one port, neither with a length
	two[12+1], two[12+48+1] = 4, 5
	two[12+35], two[12+48+35] = 1, 2
	all, err := DecodePorts(two)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.EqualValues(t, 5, all[1].Phy)
	assert.EqualValues(t, 2, all[1].Invalid)
}

func TestAPageThatIsAnotherGivesNothing(t *testing.T) {
	b := digits(t, "55 01 0008 0000 03 04 00000009") // 15h with SPF: subpage 01h
	_, err := DecodeLogPage(LogBackground, b)
	assert.ErrorContains(t, err, "log page 15h, byte 0: calls itself page 15h/01h")
	d, err := DecodePending(b)
	require.NoError(t, err)
	assert.EqualValues(t, 9, d.Count)
	b[0] = 0x15 // without SPF the second byte names no subpage
	_, err = DecodeLogPage(LogPending, b)
	assert.ErrorContains(t, err, "calls itself page 15h")
	_, err = DecodeLogPage(LogBackground, b)
	assert.NoError(t, err)
}

func TestEachPlaceOfAScanTellsWhatBecameOfIt(t *testing.T) {
	for status, failed := range map[ReassignStatus]bool{
		ReassignWaits:     true,
		Reassigned:        true,
		ReassignFailed:    true,
		Rewritten:         false,
		ReassignedByHost:  true,
		ReassignedNoData:  true,
		ReassignHostFails: true,
		0xC:               true,
	} {
		assert.Equal(t, failed, ScanResult{Status: status}.Failed(), "%s", status)
		assert.NotEmpty(t, status.String())
	}
	g, err := DecodeBackground(digits(t, "15 00 0018 0001 03 14 0000ea60 51 11 00 00 00 00 00 00 0000000000001267"))
	require.NoError(t, err)
	assert.Equal(t, Rewritten, g.Found[0].Status, "the upper half of the byte that holds the sense key")
	assert.Equal(t, RecoveredError, g.Found[0].Sense.Key)
}

func TestNamesKeepTheirLengthAndAlignmentIsATAs(t *testing.T) {
	for want, text := range map[string]string{
		"6000005e000000010000000000000002": "00 83 0024 01 03 00 08 500005e000000001 01 03 00 10 6000005e000000010000000000000002",
		"00005e0000000001000000000000000f": "00 83 0014 01 02 00 10 00005e0000000001000000000000000f",
		"500005e000000001":                 "00 83 0020 01 02 00 10 00005e0000000001000000000000000f 01 03 00 08 500005e000000001",
	} {
		all, err := DecodeDesignators(digits(t, text))
		require.NoError(t, err)
		assert.Equal(t, want, hex.EncodeToString(UnitName(all)))
	}
	for _, row := range [][2]uint16{{0, 0}, {7, 1}, {1, 7}} { // lowest aligned LBA, and by how much LBA 0 lies inside its sector
		assert.Equal(t, row[1], Capacity{Exponent: 3, Alignment: row[0]}.Offset(), "lowest aligned LBA %d", row[0])
	}
	assert.Zero(t, Capacity{}.Offset())
	for rotation, want := range map[string]uint16{"0000": 0, "0001": 1, "0400": 0, "0401": 0x401, "fffe": 0xFFFE, "ffff": 0} {
		c, err := DecodeCharacteristics(digits(t, "00 b1 0008"+rotation+"00 02 00 00 00 00"))
		require.NoError(t, err)
		assert.Equal(t, want, c.RotationRate, rotation)
	}
	short, err := DecodeCapacity(digits(t, "ffffffff 00000200"))
	require.NoError(t, err)
	assert.EqualValues(t, 1<<32-1, short.Last, "the 10-byte form")
	for block, sound := range map[uint32]bool{0: false, 255: false, 256: true, 520: true, 1 << 16: true, 1<<16 + 1: false} {
		_, err := DecodeCapacity(Capacity{Block: block}.Encode())
		assert.Equal(t, sound, err == nil, "a block of %d bytes", block)
		_, err = DecodeCapacity(Capacity{Block: block}.Encode10())
		assert.Equal(t, sound, err == nil, "a block of %d bytes", block)
	}
}

func TestTheGrownListIsCountedInEveryFormat(t *testing.T) {
	for format, size := range map[uint8]uint32{0: 4, 1: 8, 2: 8, 3: 8, 4: 8, 5: 8} {
		d, err := DecodeDefects(Defects{Format: format, Count: 3}.Encode())
		require.NoError(t, err, "format %d", format)
		assert.Equal(t, Defects{format, 3 * size, 3, false}, d)
		ten, err := DecodeDefects10(Defects{Format: format, Count: 3}.Encode10())
		require.NoError(t, err, "format %d", format)
		assert.Equal(t, Defects{format, 3 * size, 3, true}, ten, "the 10-byte form has a header of four bytes")
	}
}

func TestWhatTheSecondPlanAsksIsDecoded(t *testing.T) {
	waiting := PendingDefects{Count: 2, Defects: []PendingDefect{{31_000, 77, 16}, {31_100, 1 << 40, 32}}}
	back, err := DecodePending(waiting.Encode())
	require.NoError(t, err)
	assert.Equal(t, waiting, back)
	list := []LogID{LogPages, LogSubpages, LogPending}
	again, err := DecodeSubpageList(EncodeSubpageList(list))
	require.NoError(t, err)
	assert.Equal(t, list, again)
	_, err = DecodeSubpageList(digits(t, "00 00 0002 0203"))
	assert.ErrorContains(t, err, "calls itself page 00h")
	e := Environment{38, 61, -4, 40, 21, 8}
	env, err := DecodeEnvironment(e.Encode())
	require.NoError(t, err)
	assert.Equal(t, e, env)
	l := EnvironmentLimits{70, 65, -5, -10, 60, 55, 10, 5, 8}
	limits, err := DecodeEnvironmentLimits(l.Encode())
	require.NoError(t, err)
	assert.Equal(t, l, limits)
	for _, little := range []bool{false, true} {
		x := Elements{Count: 3, Elements: []Element{{1, 1, 0x10, 1000, 32}, {2, 1, 0x65, 1000, 64}, {3, 1, 0xFF, 1000, 96}}}
		got, err := DecodeElements(x.Encode(little), little)
		require.NoError(t, err)
		assert.Equal(t, x, got)
		var bad []bool
		for _, one := range got.Elements {
			bad = append(bad, one.Health.Bad())
		}
		assert.Equal(t, []bool{false, true, true}, bad)
	}
	for health, bad := range map[ElementHealth]bool{
		0: false, 0x63: false, 0x64: false, 0x65: true, 0xCF: true, 0xD0: false, 0xFC: false, 0xFD: true, 0xFE: true,
	} {
		assert.Equal(t, bad, health.Bad(), "%s", health)
	}
	two := []Range{{0, 1, 0, 1000, 64}, {1, 1, 1000, 900, 96}}
	for name, decode := range map[string]func() ([]Range, error){
		"SCSI": func() ([]Range, error) { return DecodeRanges(EncodeRanges(two)) },
		"ATA":  func() ([]Range, error) { return DecodeATARanges(EncodeATARanges(two)) },
	} {
		got, err := decode()
		require.NoError(t, err, name)
		assert.Equal(t, two, got, name)
	}
	full := EncodeATARanges(two)
	full[0] = 200
	_, err = DecodeATARanges(full)
	assert.ErrorContains(t, err, "ends before range 15 of 200")
}

func FuzzMore(f *testing.F) {
	f.Add(PendingDefects{Defects: []PendingDefect{{}}}.Encode())
	f.Add(EncodeATARanges([]Range{{}}))
	f.Add(Environment{}.Encode())
	f.Add(EncodeSubpageList([]LogID{LogPending}))
	f.Add(EncodeRanges([]Range{{}}))
	f.Add(EnvironmentLimits{}.Encode())
	f.Add(Elements{Elements: []Element{{}}}.Encode(true))
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = DecodePending(b)
		_, _ = DecodeATARanges(b)
		_, _ = DecodeRanges(b)
		_, _ = DecodeEnvironment(b)
		_, _ = DecodeEnvironmentLimits(b)
		_, _ = DecodeSubpageList(b)
		e, _ := DecodeElements(b, true)
		e.Encode(false)
	})
}

func FuzzLogPage(f *testing.F) {
	f.Add(EncodeSelfTests([]SelfTest{{Code: 1}}))
	f.Add(Background{Found: []ScanResult{{}}}.Encode())
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = DecodeLogPage(LogSelfTests, b)
		_, _ = DecodeSelfTests(b)
		_, _ = DecodeInformational(b)
		g, _ := DecodeBackground(b)
		_ = g.StatusName()
	})
}

func FuzzPorts(f *testing.F) {
	f.Add(EncodePorts([]PortPhy{{Rate: 11}}, true))
	f.Fuzz(func(_ *testing.T, b []byte) { _, _ = DecodePorts(b) })
}

func FuzzDesignators(f *testing.F) {
	f.Add(EncodeDesignators(1, 2))
	f.Fuzz(func(_ *testing.T, b []byte) { all, _ := DecodeDesignators(b); UnitName(all) })
}

func FuzzFixedPages(f *testing.F) {
	f.Add(Control{}.Encode())
	f.Add(Capacity{Block: 512}.Encode())
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = DecodeControl(b)
		_, _ = DecodeCapacity(b)
		_, _ = DecodeDefects(b)
		_, _ = DecodeDefects10(b)
		_, _ = DecodeCharacteristics(b)
		_, _ = DecodeSerial(b)
		_, _ = DecodePageList(b)
	})
}
