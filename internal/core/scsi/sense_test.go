package scsi

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSenseIsSaidInWords(t *testing.T) {
	for name, row := range map[string]struct {
		bytes []byte
		want  string
		info  uint64
	}{
		"fixed medium error with its LBA": {
			[]byte{0xF0, 0, 3, 0, 0x12, 0x34, 0x56, 10, 0, 0, 0, 0, 0x11, 0, 0, 0, 0, 0},
			"medium error, unrecovered read error (3/11/00)", 0x123456,
		},
		"descriptor, no medium": {[]byte{0x72, 2, 0x3A, 0, 0, 0, 0, 0}, "not ready, no medium (2/3A/00)", 0},
		"a code without a name": {[]byte{0x72, 4, 0x99, 0x01, 0, 0, 0, 0}, "hardware error, cause without a name (4/99/01)", 0},
	} {
		s, err := DecodeSense(row.bytes)
		require.NoError(t, err, name)
		assert.Equal(t, row.want, s.String(), name)
		assert.Equal(t, row.info, s.Information, name)
	}
	_, err := DecodeSense([]byte{0x12, 0, 0, 0})
	assert.ErrorContains(t, err, "neither fixed nor descriptor")
}

func TestALockIsALockInEveryCode(t *testing.T) {
	for _, row := range []struct {
		key       SenseKey
		asc, ascq uint8
		locked    bool
		words     string
	}{
		{DataProtect, 0x20, 0x02, true, "data protect, access denied, locked (7/20/02)"},
		{IllegalRequest, 0x20, 0x01, true, "illegal request, access denied until enrolled (5/20/01)"},
		{IllegalRequest, 0x20, 0x00, false, "illegal request, command not known (5/20/00)"},
		{IllegalRequest, 0x20, 0x04, false, "illegal request, cause without a name (5/20/04)"},
		{IllegalRequest, 0x20, 0x07, false, "illegal request, cause without a name (5/20/07)"},
		{IllegalRequest, 0x20, 0x08, true, "illegal request, access denied, enrolment conflict (5/20/08)"},
		{IllegalRequest, 0x20, 0x0B, true, "illegal request, access denied, conflict of rights (5/20/0B)"},
		{IllegalRequest, 0x20, 0x0C, false, "illegal request, cause without a name (5/20/0C)"},
		{DataProtect, 0x74, 0x71, true, "data protect, access not authorized, locked (7/74/71)"},
		{AbortedCommand, 0x74, 0x79, true, "aborted command, locked by its ATA password (B/74/79)"},
		{DataProtect, 0x74, 0x33, true, "data protect, security error (7/74/33)"},
		{IllegalRequest, 0x24, 0x04, true, "illegal request, security audit value frozen (5/24/04)"},
		{IllegalRequest, 0x24, 0x00, false, "illegal request, field of the command not accepted (5/24/00)"},
		{IllegalRequest, 0x26, 0x10, true, "illegal request, too many wrong decryption keys (5/26/10)"},
		{DataProtect, 0x00, 0x00, true, "data protect, no further information (7/00/00)"},
		{DataProtect, 0x27, 0x00, false, "data protect, write protected (7/27/00)"},
		{MediumError, 0x31, 0x00, false, "medium error, format of the medium is damaged (3/31/00)"},
		{HardwareError, 0x32, 0x00, false, "hardware error, no spare place is left for a bad one (4/32/00)"},
		{HardwareError, 0x15, 0x01, false, "hardware error, mechanical positioning error (4/15/01)"},
		{HardwareError, 0x19, 0x00, false, "hardware error, defect list error (4/19/00)"},
		{NotReady, 0x04, 0x11, false, "not ready, waits for the host's permission to spin up (2/04/11)"},
		{HardwareError, 0x15, 0x77, false, "hardware error, cause without a name (4/15/77)"},
		{NoSense, 0x5D, 0x43, false, "no sense, failure predicted (0/5D/43)"},
	} {
		s := Sense{Key: row.key, ASC: row.asc, ASCQ: row.ascq}
		assert.Equal(t, row.words, s.String())
		assert.Equal(t, row.locked, s.Locked(), row.words)
		assert.Equal(t, row.asc == 0x27, s.WriteProtected(), row.words)
	}
	for _, code := range []byte{0x71, 0x73} {
		b := []byte{code, 0, 3, 0x11, 0, 0, 0, 10, 0, 0, 0, 0, 0x11, 0, 0, 0, 0, 0}
		s, err := DecodeSense(b)
		require.NoError(t, err)
		assert.True(t, s.Deferred)
		assert.Contains(t, s.String(), ", of an earlier command")
	}
}

func TestInquiryTellsVendorAndProduct(t *testing.T) {
	q, err := DecodeInquiry(InquiryData{Vendor: "ATA", Product: "KORVAN VM", Revision: "2.5+"}.Encode())
	require.NoError(t, err)
	assert.Equal(t, InquiryData{Vendor: "ATA", Product: "KORVAN VM", Revision: "2.5+"}, q)
	_, err = DecodeInquiry(make([]byte, 35))
	assert.Error(t, err)
}

func FuzzSense(f *testing.F) {
	f.Add([]byte{0x72, 1, 0, 0x1D, 0, 0, 0, 14, 9, 12, 0, 0, 0, 0, 0, 0, 0, 0xF4, 0, 0x2C, 0, 0x50})
	f.Add([]byte{0xF0, 0, 3, 0, 0x12, 0x34, 0x56, 10, 0, 0, 0, 0, 0x11, 0, 0, 0, 0, 0})
	f.Fuzz(func(_ *testing.T, b []byte) { s, _ := DecodeSense(b); s.Encode(); _ = s.String() })
}

func FuzzInquiry(f *testing.F) {
	f.Add(InquiryData{Vendor: "ATA"}.Encode())
	f.Fuzz(func(_ *testing.T, b []byte) { q, _ := DecodeInquiry(b); q.Encode() })
}
