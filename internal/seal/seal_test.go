package seal_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/seal"
)

func TestAChangedByteBreaksASeal(t *testing.T) {
	k, err := seal.New()
	require.NoError(t, err)
	again, err := seal.FromSeed(k.Seed())
	require.NoError(t, err)
	assert.Equal(t, k.Name(), again.Name())
	assert.Regexp(t, `^([a-z2-7]{4}-){4}[a-z2-7]{4}$`, k.Name())
	body := []byte("a reading of a drive")
	s := again.Sign(seal.Record, body)
	name, err := s.Verify(seal.Record, body)
	require.NoError(t, err)
	assert.Equal(t, k.Name(), name)
	_, err = s.Verify(seal.Audit, body)
	require.ErrorIs(t, err, seal.ErrBroken, "what is signed as one thing is none of another")
	for i := range body {
		changed := bytes.Clone(body)
		changed[i] ^= 1
		_, err = s.Verify(seal.Record, changed)
		require.ErrorIs(t, err, seal.ErrBroken)
	}
	for _, broken := range []seal.Signature{
		{}, {Key: s.Key}, {Value: s.Value}, {Key: s.Key[:31], Value: s.Value}, {Key: s.Key, Value: s.Value[:63]},
	} {
		_, err = broken.Verify(seal.Record, body)
		require.ErrorIs(t, err, seal.ErrBroken)
	}
	_, err = seal.FromSeed([]byte("short"))
	require.Error(t, err)
}
