package nvme

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheHealthLogIsReadByItsBytes(t *testing.T) {
	b := make([]byte, HealthSize)
	b[0], b[3], b[4], b[5] = 0x0C, 97, 10, 101
	binary.LittleEndian.PutUint16(b[1:], 315)
	for i := range 16 { // data units written: 2^128 - 1
		b[48+i] = 0xFF
	}
	binary.LittleEndian.PutUint64(b[128:], 9120)
	b[128+8] = 1 // hours: 2^64 + 9120
	b[160] = 3
	binary.LittleEndian.PutUint32(b[192:], 17)
	binary.LittleEndian.PutUint16(b[200:], 320)
	binary.LittleEndian.PutUint32(b[220:], 5)
	h, err := DecodeHealth(b)
	require.NoError(t, err)
	assert.Equal(t, "340282366920938463463374607431768211455", h.Written.String(), "128 bits are kept whole")
	assert.Equal(t, "18446744073709560736", h.Hours.String())
	assert.EqualValues(t, 3, h.MediaErrors.Low)
	assert.EqualValues(t, 17, h.WarningMinutes)
	assert.EqualValues(t, 5, h.Throttled[1])
	assert.Equal(t, []string{"reliability is degraded by media or internal errors", "the media is read-only"}, WarningWords(h.Warning))
	c, ok := Kelvin(h.CompositeK)
	assert.True(t, ok)
	assert.Equal(t, 42, c)
	_, ok = Kelvin(0)
	assert.False(t, ok, "0 K is no temperature")
	assert.Equal(t, b, h.Encode())
	_, err = DecodeHealth(b[:511])
	assert.ErrorContains(t, err, "ends after 511 of 512 bytes")
}

func TestIdentityIsReadByItsBytes(t *testing.T) {
	b := make([]byte, IdentifySize)
	copy(b[4:], "BWN11Q7E30          ")
	copy(b[24:], "Brackwater Heron                        ")
	copy(b[64:], "S3.14   ")
	b[73], b[74], b[75] = 0x5E, 0, 0
	b[82], b[81] = 1, 4 // 1.4
	b[256], b[261], b[262] = 1<<4, 1<<4|1<<1, 15
	binary.LittleEndian.PutUint16(b[266:], 350)
	binary.LittleEndian.PutUint16(b[316:], 25)
	c, err := DecodeController(b)
	require.NoError(t, err)
	assert.Equal(t, Controller{
		Serial:          "BWN11Q7E30",
		Model:           "Brackwater Heron",
		Firmware:        "S3.14",
		IEEE:            0x5E,
		Version:         0x10400,
		SelfTest:        true,
		ExtendedMinutes: 25,
		Persistent:      true,
		Effects:         true,
		ErrorEntries:    16,
		WarningK:        350,
	}, c)
	assert.Equal(t, "NVMe 1.4", c.VersionName())
	again, err := DecodeController(c.Encode())
	require.NoError(t, err)
	assert.Equal(t, c, again)
	_, err = DecodeController(make([]byte, IdentifySize))
	assert.ErrorContains(t, err, "no model number")

	n := Namespace{Size: 1000, Capacity: 1000, Used: 600, Block: 4096, Metadata: 8, EUI64: 0x0123456789ABCDEF}
	back, err := DecodeNamespace(n.Encode())
	require.NoError(t, err)
	assert.Equal(t, n, back)
	bad := n.Encode()
	bad[130] = 3
	_, err = DecodeNamespace(bad)
	assert.ErrorContains(t, err, "a block of 2^3 bytes is not possible")
	list, err := DecodeNamespaces(EncodeNamespaces([]uint32{1, 2, 7}))
	require.NoError(t, err)
	assert.Equal(t, []uint32{1, 2, 7}, list)
	_, err = DecodeNamespaces(EncodeNamespaces([]uint32{2, 2}))
	assert.ErrorContains(t, err, "do not rise")
}

func TestSelfTestsErrorsAndEvents(t *testing.T) {
	b := make([]byte, SelfTestSize)
	b[0], b[1] = 2, 40
	b[4], b[5], b[6] = 0x17, 3, 1<<1 // short, failed in segment 3, LBA valid
	binary.LittleEndian.PutUint64(b[8:], 9000)
	binary.LittleEndian.PutUint64(b[20:], 4711)
	b[4+28] = 0x21 // extended, aborted
	l, err := DecodeSelfTests(b)
	require.NoError(t, err)
	assert.EqualValues(t, 40, l.Percent)
	require.Len(t, l.Tests, 2, "slots of zeros are unused, not passed")
	assert.Equal(t, SelfTest{Code: 1, Result: TestFailedSegment, Segment: 3, Hours: 9000, LBA: 4711, HasLBA: true, Offset: 4}, l.Tests[0])
	assert.True(t, l.Tests[0].Result.Failed())
	assert.False(t, l.Tests[1].Result.Failed(), "an aborted test says nothing of the drive")
	b[1] = 120
	_, err = DecodeSelfTests(b)
	assert.ErrorContains(t, err, "120 % done is not possible")
	b[0] = 0
	idle, err := DecodeSelfTests(b)
	require.NoError(t, err, "while no test runs the byte means nothing")
	assert.Zero(t, idle.Percent)
	require.Len(t, idle.Tests, 2)
	for result, failed := range map[TestResult]bool{
		TestPassed:        false,
		TestSanitized:     false,
		TestFormatted:     false,
		TestFatal:         true,
		TestFailedUnknown: true,
		TestFailedSegment: true,
		TestEndedUnknown:  false,
	} {
		assert.Equal(t, failed, result.Failed(), "%s", result)
	}

	e := make([]byte, 2*ErrorSize)
	binary.LittleEndian.PutUint64(e, 6)
	binary.LittleEndian.PutUint16(e[12:], 0x0002<<1) // the phase bit is below the status
	binary.LittleEndian.PutUint64(e[64:], 7)
	binary.LittleEndian.PutUint16(e[64+12:], 0x0281<<1|1)
	errs, err := DecodeErrors(e)
	require.NoError(t, err)
	require.Len(t, errs, 2)
	assert.EqualValues(t, 7, errs[0].Number, "newest first")
	assert.Equal(t, "unrecovered read error (type 2h, code 81h)", errs[0].Status.String())
	assert.False(t, errs[0].Status.HostCaused())
	assert.True(t, errs[1].Status.HostCaused(), "an invalid field is the host's doing")

	for status, host := range map[Status]bool{
		0x001:          true,
		0x004:          false,
		0x006:          false,
		SanitizeFailed: false,
		0x080:          true,
		0x082:          false,
		0x109:          true,
		MediaError:     false,
		AccessDenied:   true,
		0x300:          false,
	} {
		assert.Equal(t, host, status.HostCaused(), "%s", status)
	}
	assert.True(t, SanitizeGoesOn.NotReady())
	assert.False(t, SanitizeFailed.NotReady())

	p := PersistentLog{Hours: Counter{Low: 9}, Cycles: 3, List: []PersistentEvent{
		{Kind: 4, At: Timestamp{1_767_225_600_000, true}, Data: append([]byte("S3.14   "), make([]byte, 12)...)},
		{Kind: 0xD, At: Timestamp{Milliseconds: 5_400_000}, Data: []byte{4, 1}},
		{Kind: 5, Data: []byte{8, 0, 0, 0}},
		{Kind: 7, Data: []byte{255, 255, 255, 255}},
		{Kind: 2, Data: append([]byte("S3.13   S3.14   "), make([]byte, 6)...)},
		{Kind: 0xEE},
	}}
	encoded := p.Encode()
	encoded[512+13] = 0xFF // the byte above the time and its origin is reserved
	back, err := DecodePersistent(encoded)
	require.NoError(t, err)
	assert.EqualValues(t, 6, back.Events)
	assert.Equal(t, "thermal excursion", back.List[1].KindName())
	assert.Equal(t, 512+24+20, back.List[1].Offset)
	var said [][2]string
	for _, e := range back.List {
		said = append(said, [2]string{e.At.String(), e.Content()})
	}
	assert.Equal(t, [][2]string{
		{"2026-01-01 00:00:00 UTC", "firmware S3.14"},
		{"1h30m0s after a reset", "4 °C over the threshold"},
		{"0s after a reset", "unsafe shutdown"},
		{"0s after a reset", "all namespaces"},
		{"0s after a reset", "from S3.13 to S3.14"},
		{"0s after a reset", ""},
	}, said)
	short, err := DecodePersistent(encoded[:512+30])
	require.NoError(t, err)
	assert.Empty(t, short.List[0].Content(), "what was cut off says nothing")
	broken := p.Encode()
	broken[512+2] = 0
	_, err = DecodePersistent(broken)
	assert.ErrorContains(t, err, "byte 512: an event header of 0 bytes is too short")
}

func TestTheDatacenterExtensionIsKnownByItsGUIDAlone(t *testing.T) {
	d := Datacenter{Written: Counter{Low: 9, High: 1}, BadUser: 3, BadUserNormal: 99, FreeBlocks: 12, SystemUsed: 2, RefreshCount: 7}
	back, err := DecodeDatacenter(d.Encode())
	require.NoError(t, err)
	assert.Equal(t, d, back)
	_, err = DecodeDatacenter(make([]byte, DatacenterSize))
	assert.ErrorContains(t, err, "belongs to another specification")
}

func TestLogsAreReadWithPendingEventsKept(t *testing.T) {
	c := ReadLog(LogHealth, HealthSize)
	assert.Equal(t, Command{Op: GetLogPage, NSID: AllNamespaces, CDW10: 127<<16 | 1<<15 | 2, DataIn: 512}, c)
	long := ReadLog(LogPersistent, 1<<20)
	assert.EqualValues(t, 0xFFFF<<16|1<<15|0x0D, long.CDW10)
	assert.EqualValues(t, 3, long.CDW11)
}

func TestWhatTheSecondPlanAsksIsDecoded(t *testing.T) {
	logs, err := DecodeSupported(EncodeSupported(LogErrors, LogSanitize))
	require.NoError(t, err)
	assert.Equal(t, []uint8{LogErrors, LogSanitize}, logs)
	e := Endurance{
		Warning:        4,
		Spare:          80,
		SpareThreshold: 10,
		Used:           12,
		Estimate:       Counter{Low: 1},
		Read:           Counter{Low: 2},
		Written:        Counter{Low: 3},
		MediaWritten:   Counter{Low: 4},
		MediaErrors:    Counter{Low: 5},
		ErrorEntries:   Counter{Low: 6},
	}
	back, err := DecodeEndurance(e.Encode())
	require.NoError(t, err)
	assert.Equal(t, e, back)
	s, err := DecodeSanitize(SanitizeStatus{Progress: 100, State: SanitizeFails | sanitizeErased, Action: 2}.Encode())
	require.NoError(t, err)
	assert.Equal(t, "failed; nothing was written since", s.StateName())
	assert.Equal(t, "block erase", s.Action.String())
	id := [16]byte{0: 0xA1, 15: 0x5E}
	names, err := DecodeNames(EncodeNames([]NamespaceName{EUI64(0x0123456789ABCDEF), NGUID(id), {Kind: 3, Value: id[:]}}))
	require.NoError(t, err)
	require.Len(t, names, 3)
	assert.Equal(t, "EUI-64", names[0].KindName())
	assert.Equal(t, "0123456789abcdef", names[0].String())
	assert.Equal(t, "a100000000000000000000000000005e", names[1].String())
	assert.Equal(t, "a1000000-0000-0000-0000-00000000005e", names[2].String())
	broken := EncodeNames(nil)
	broken[0], broken[1] = 1, 0xFF
	for i := range 16 {
		broken[i*259], broken[i*259+1] = 1, 0xFF
	}
	_, err = DecodeNames(broken)
	assert.ErrorContains(t, err, "a name runs over the page's end")
	n := Namespace{Size: 1, Block: 512, EUI64: 7, NGUID: id, EnduranceGroup: 2}
	again, err := DecodeNamespace(n.Encode())
	require.NoError(t, err)
	assert.Equal(t, n, again)
	assert.Equal(t, id[:], again.Name(), "the longer name is the name")
	assert.Nil(t, Namespace{}.Name())
	header := make([]byte, TelemetryHeader)
	header[0], header[8] = LogTelemetry, 3
	assert.Equal(t, 2048, TelemetryLength(header))
	assert.Zero(t, TelemetryLength(header[:100]))
}

func fuzz(f *testing.F, seed []byte, decode func([]byte)) {
	f.Add(seed)
	f.Add([]byte{})
	f.Fuzz(func(_ *testing.T, b []byte) { decode(b) })
}

func FuzzController(f *testing.F) {
	fuzz(f, Controller{Model: "M", Serial: "S"}.Encode(), func(b []byte) { c, _ := DecodeController(b); c.Encode() })
}

func FuzzNamespaces(f *testing.F) {
	fuzz(f, EncodeNamespaces([]uint32{1, 2}), func(b []byte) {
		all, _ := DecodeNamespaces(b)
		EncodeNamespaces(all)
		n, _ := DecodeNamespace(b)
		n.Encode()
	})
}

func FuzzErrors(f *testing.F) {
	fuzz(f, EncodeErrors([]LoggedError{{Number: 1}}, 4), func(b []byte) { all, _ := DecodeErrors(b); EncodeErrors(all, 4) })
}

func FuzzSelfTests(f *testing.F) {
	fuzz(f, SelfTestLog{Tests: []SelfTest{{Code: 1}}}.Encode(), func(b []byte) { l, _ := DecodeSelfTests(b); l.Encode() })
}

func FuzzPersistent(f *testing.F) {
	fuzz(f, PersistentLog{List: []PersistentEvent{{Kind: 4}}}.Encode(), func(b []byte) {
		l, _ := DecodePersistent(b)
		for _, e := range l.List {
			_ = e.Content() + e.At.String() + e.KindName()
		}
	})
}

func FuzzFixedPages(f *testing.F) {
	fuzz(f, Health{Spare: 100}.Encode(), func(b []byte) {
		h, _ := DecodeHealth(b)
		h.Encode()
		_, _ = DecodeFirmware(b)
		_, _ = DecodeEffects(b)
		_, _ = DecodeDatacenter(b)
		_, _ = DecodeSupported(b)
		_, _ = DecodeEndurance(b)
		x, _ := DecodeSanitize(b)
		_ = x.StateName() + x.Action.String()
		names, _ := DecodeNames(b)
		for _, n := range names {
			_ = n.String() + n.KindName()
		}
		TelemetryLength(b)
	})
}
