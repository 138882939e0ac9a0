package linux

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/confine"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/volume"
)

// TestMain lets the tests' own program confine what they run.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == confine.Word {
		fmt.Fprintln(os.Stderr, confine.Become(os.Args[2:]))
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// The system's own checker finds what is wrong with a file system that the system's own tool made, and changes nothing.
func TestTheSystemsCheckerLooksAndChangesNothing(t *testing.T) {
	maker, ok := found("mke2fs")
	if _, also := found("e2fsck"); !ok || !also {
		t.Fatal("mke2fs and e2fsck are not there: make test installs e2fsprogs, and so does apt-get install e2fsprogs")
	}
	self, err := os.Executable()
	require.NoError(t, err)
	m := New().Confine(self)
	file := filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(file, make([]byte, 8<<20), 0o600))
	out, err := exec.Command(maker, "-q", "-t", "ext4", file).CombinedOutput()
	require.NoError(t, err, string(out))
	d := drive.Attachment{Node: file}
	c := m.CheckVolume(t.Context(), d, 0, "ext4")
	assert.Equal(t, volume.FoundClean, c.Result, c.Said)
	assert.Equal(t, "e2fsck -n -f", c.Program)

	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	for i := 40 << 10; i < 120<<10; i++ { // bitmaps and inodes
		raw[i] ^= 0xA5
	}
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	c = m.CheckVolume(t.Context(), d, 0, "ext4")
	assert.Equal(t, volume.FoundDamaged, c.Result, c.Said)
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, raw, after, "not a byte is changed")

	d.InUse = "mounted on /mnt"
	assert.Equal(t, volume.NotChecked, m.CheckVolume(t.Context(), d, 0, "ext4").Result)
	assert.Equal(t, "no checker is known for APFS", m.CheckVolume(t.Context(), d, 0, "APFS").Said)
}
