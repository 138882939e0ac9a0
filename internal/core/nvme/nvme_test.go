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
		Serial: "BWN11Q7E30", Model: "Brackwater Heron", Firmware: "S3.14", IEEE: 0x5E, Version: 0x10400, SelfTest: true, ExtendedMinutes: 25, Persistent: true, Effects: true, ErrorEntries: 16, WarningK: 350,
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

	p := PersistentLog{Hours: Counter{Low: 9}, Cycles: 3, List: []PersistentEvent{{Kind: 4}, {Kind: 0xD}}}
	back, err := DecodePersistent(p.Encode())
	require.NoError(t, err)
	assert.EqualValues(t, 2, back.Events)
	assert.Equal(t, "thermal excursion", back.List[1].KindName())
	assert.Equal(t, 512+24, back.List[1].Offset)
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
	assert.Equal(t, 512, c.LogLength())
	assert.True(t, c.Retains())
	long := ReadLog(LogPersistent, 1<<20)
	assert.Equal(t, 1<<20, long.LogLength())
	assert.EqualValues(t, 3, long.CDW11)
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
	fuzz(f, PersistentLog{List: []PersistentEvent{{Kind: 4}}}.Encode(), func(b []byte) { l, _ := DecodePersistent(b); _ = len(l.List) })
}

func FuzzFixedPages(f *testing.F) {
	fuzz(f, Health{Spare: 100}.Encode(), func(b []byte) {
		h, _ := DecodeHealth(b)
		h.Encode()
		_, _ = DecodeFirmware(b)
		_, _ = DecodeEffects(b)
		_, _ = DecodeDatacenter(b)
	})
}
