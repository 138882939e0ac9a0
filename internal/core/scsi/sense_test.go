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
		"fixed medium error with its LBA": {[]byte{0xF0, 0, 3, 0, 0x12, 0x34, 0x56, 10, 0, 0, 0, 0, 0x11, 0, 0, 0, 0, 0}, "medium error, unrecovered read error (3/11/00)", 0x123456},
		"descriptor, no medium":           {[]byte{0x72, 2, 0x3A, 0, 0, 0, 0, 0}, "not ready, no medium (2/3A/00)", 0},
		"a code without a name":           {[]byte{0x72, 4, 0x99, 0x01, 0, 0, 0, 0}, "hardware error, cause without a name (4/99/01)", 0},
	} {
		s, err := DecodeSense(row.bytes)
		require.NoError(t, err, name)
		assert.Equal(t, row.want, s.String(), name)
		assert.Equal(t, row.info, s.Information, name)
	}
	_, err := DecodeSense([]byte{0x12, 0, 0, 0})
	assert.ErrorContains(t, err, "neither fixed nor descriptor")
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
