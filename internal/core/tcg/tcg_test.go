package tcg

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestALockIsFoundAmongTheFeatures(t *testing.T) {
	// A TPer feature, the locking feature (supported, enabled, locked, encrypting), then Opal 2.
	b := make([]byte, header)
	b = append(b, 0x00, 0x01, 0x10, 0x0C, 0x11, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	b = append(b, 0x00, 0x02, 0x10, 0x0C, 0x0F, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	b = append(b, 0x02, 0x03, 0x10, 0x10, 0x10, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	binary.BigEndian.PutUint32(b, uint32(len(b)-4))
	want := Discovery{
		HasLocking: true,
		Locking:    Locking{Supported: true, Enabled: true, Locked: true, Encrypts: true},
		Offset:     48 + 16 + 4,
		Subsystems: []string{"Opal 2"},
	}
	d, err := Decode(append(b, make([]byte, 100)...))
	require.NoError(t, err)
	assert.Equal(t, want, d, "what follows the length is padding")
	again, err := Decode(want.Encode())
	require.NoError(t, err)
	assert.Equal(t, want, again)
	for n := range len(b) { // cut short anywhere: what came whole still counts, and nothing else
		short, _ := Decode(b[:n])
		assert.Equal(t, n >= 80, short.Locking.Locked, "%d bytes", n)
	}
	_, err = Decode(b[:70])
	assert.ErrorContains(t, err, "byte 64: a feature runs over the page's end")
	binary.BigEndian.PutUint32(b, 12)
	_, err = Decode(b)
	assert.ErrorContains(t, err, "does not hold its own header")
}

func FuzzDiscovery(f *testing.F) {
	f.Add(Discovery{HasLocking: true, Subsystems: []string{"Opal 2"}}.Encode())
	f.Fuzz(func(_ *testing.T, b []byte) { d, _ := Decode(b); d.Encode() })
}
