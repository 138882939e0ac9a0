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
	l, err := DecodeLogPage(b)
	require.NoError(t, err)
	p, ok := l.Parameter(CounterUncorrected)
	require.True(t, ok)
	n, _ := p.Number()
	assert.EqualValues(t, 2, n)
	assert.Equal(t, 8, p.Offset)
	assert.Equal(t, "Total uncorrected errors", ParameterName(l.Page, p.Code))
	_, err = DecodeLogPage(b[:10])
	assert.ErrorContains(t, err, "byte 4: a parameter runs over the page's end")
}

func TestTheAlarmOfAInformationalException(t *testing.T) {
	for text, want := range map[string][2]bool{"5d10": {true, false}, "5dff": {false, false}, "0b01": {false, true}, "0000": {false, false}} {
		i, err := DecodeInformational(digits(t, "2f 00 0008 0000 03 04 "+text+" 26 00"))
		require.NoError(t, err)
		assert.Equal(t, want, [2]bool{i.Predicts(), i.Warns()}, text)
		assert.EqualValues(t, 38, i.Temperature)
	}
}

func TestNamesCapacityAndShape(t *testing.T) {
	all, err := DecodeDesignators(digits(t, "00 83 0018 01 03 00 08 500005e000000001 01 13 00 08 500005e000000002"))
	require.NoError(t, err)
	assert.EqualValues(t, 0x500005E000000001, UnitName(all), "the unit's name, not the port's: the same on every path")
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

	g := Background{Minutes: 60_000, Status: 8, Scans: 7, Progress: 32768, Found: []ScanResult{{Minutes: 59_000, Status: 1, Sense: Sense{Key: MediumError, ASC: 0x11}, LBA: 77, Offset: 24}}}
	back, err := DecodeBackground(g.Encode())
	require.NoError(t, err)
	assert.Equal(t, g, back)
	assert.Equal(t, "waiting for its interval", g.StatusName())

	d, err := DecodeDefects(digits(t, "00 0d 0000 00000060"))
	require.NoError(t, err)
	assert.EqualValues(t, 12, d.Count, "96 bytes of 8-byte entries")
	for text, want := range map[string]string{"00 15 0000 00000000": "not the grown one", "00 0e 0000 00000008": "no known size", "00 0d 0000 00000009": "no whole number of entries"} {
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
	back, err := DecodePorts(EncodePorts(ports))
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

func FuzzLogPage(f *testing.F) {
	f.Add(EncodeSelfTests([]SelfTest{{Code: 1}}))
	f.Add(Background{Found: []ScanResult{{}}}.Encode())
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = DecodeLogPage(b)
		_, _ = DecodeSelfTests(b)
		_, _ = DecodeInformational(b)
		g, _ := DecodeBackground(b)
		_ = g.StatusName()
	})
}

func FuzzPorts(f *testing.F) {
	f.Add(EncodePorts([]PortPhy{{Rate: 11}}))
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
		_, _ = DecodeCharacteristics(b)
		_, _ = DecodeSerial(b)
		_, _ = DecodePageList(b)
	})
}
