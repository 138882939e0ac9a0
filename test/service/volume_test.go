package service

import (
	"encoding/binary"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	"hylostat.example/test/made"
)

// extended is an ext4 on the whole of a drive that notes errors of its own.
func extended() []sim.Content {
	b := make([]byte, 2048)
	s := b[1024:]
	le := binary.LittleEndian
	le.PutUint32(s[0x04:], 1000)
	le.PutUint32(s[0x18:], 2)
	le.PutUint16(s[0x38:], 0xEF53)
	le.PutUint16(s[0x3A:], 2)
	le.PutUint32(s[0x60:], 0x40)
	copy(s[0x78:], "tides")
	le.PutUint32(s[0x194:], 7)
	return []sim.Content{{LBA: 0, Bytes: b}}
}

func TestIsItTheDriveOrTheFileSystem(t *testing.T) {
	spec := made.Disk("KVA077M511")
	spec.Content = extended()
	s := serve(t, t.TempDir(), spec)
	ctx := t.Context()
	s.answering(1)
	_, err := s.Volumes(ctx, "7M511")
	assert.Equal(t, http.StatusNotFound, status(t, err), "nobody has looked")

	wanted := true
	_, err = s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov", Wanted: &wanted})
	require.NoError(t, err)
	_, err = s.LookAtVolumes(ctx, "7M511", "Dov")
	assert.Equal(t, http.StatusConflict, status(t, err), "its data is wanted and not copied")
	_, err = s.RecordCopy(ctx, at(1), "Dov")
	require.NoError(t, err)

	v, err := s.LookAtVolumes(ctx, "7M511", "Dov")
	require.NoError(t, err)
	require.Len(t, v.Volumes, 1)
	assert.Equal(t, "ext4", *v.Volumes[0].Kind)
	assert.Equal(t, "tides", *v.Volumes[0].Label)
	assert.Equal(t, contract.VolumeState("damaged"), v.Volumes[0].State)
	assert.Equal(t, contract.VolumeChecked("not checked"), *v.Volumes[0].Checked)
	assert.Contains(t, v.Says.Words, "Whether the drive is at fault is not decided")

	grade, reason := contract.GradeHealthy, "checked elsewhere"
	_, err = s.Sign(ctx, "7M511", contract.SignOffRequest{By: "Maud", Grade: &grade, Reason: &reason})
	require.NoError(t, err)
	v, err = s.Volumes(ctx, "7M511")
	require.NoError(t, err)
	assert.Equal(t, "The drive is sound, the file system is damaged: ext4 “tides”.", v.Says.Words)
}
