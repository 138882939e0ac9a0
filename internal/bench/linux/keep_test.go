package linux

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"lukechampine.com/blake3"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/surface"
)

// Everything that is read is in the file at its place, with its sum; zeros take no room there, and what stood in their place is gone. A
// file that takes no more ends the stream, and is told apart from the drive.
func TestWhatIsReadIsKept(t *testing.T) {
	dir := t.TempDir()
	source, keep := filepath.Join(dir, "source"), filepath.Join(dir, "keep")
	const sectors = 5*2048 + 3 // no multiple of a page
	content := bytes.Repeat([]byte("tide table, page by page\n       "), sectors*512/32)
	clear(content[1<<20 : 3<<20])
	require.NoError(t, os.WriteFile(source, content, 0o600))
	require.NoError(t, os.WriteFile(keep, bytes.Repeat([]byte{7}, len(content)), 0o600))
	b := blocks{node: source, limits: device.Limits{Bytes: sectors * 512, Logical: 512}, alive: func() bool { return true }}
	stream := func(keep string) (sums map[uint64][32]byte, err error) {
		at, number := uint64(0), uint64(0)
		sums = map[uint64][32]byte{}
		err = b.Stream(t.Context(), device.Streaming{Depth: 2, Keep: keep}, func() (surface.Read, bool) {
			r := surface.Read{Extent: surface.Extent{LBA: at, Sectors: min(2048, sectors-at)}, Number: number}
			at, number = r.End(), number+1
			return r, r.Sectors > 0
		}, func(r surface.Read, o surface.Outcome) {
			assert.Equal(t, surface.Whole, o.Cause)
			sums[r.LBA] = o.Sum
		})
		return sums, err
	}
	sums, err := stream(keep)
	require.NoError(t, err)
	kept, err := os.ReadFile(keep)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, kept))
	for lba, sum := range sums {
		assert.Equal(t, blake3.Sum256(content[lba*512:min(len(content), int(lba+2048)*512)]), sum)
	}
	assert.Len(t, sums, 6)
	var s unix.Stat_t
	require.NoError(t, unix.Stat(keep, &s))
	assert.LessOrEqual(t, s.Blocks*512, int64(len(content)-1<<20), "zeros take no room")

	_, err = stream(filepath.Join(dir, "none"))
	var unkept *device.Unkept
	require.ErrorAs(t, err, &unkept)
	assert.False(t, unkept.Full)
	if _, err = stream("/dev/full"); assert.ErrorAs(t, err, &unkept) {
		assert.True(t, unkept.Full, "%v", err)
	}
	var failed *device.Failed
	assert.NotErrorAs(t, err, &failed, "the drive has nothing to do with it")
}
