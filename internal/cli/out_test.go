package cli

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func content(text string) func(w io.Writer) error {
	return func(w io.Writer) error { _, err := io.WriteString(w, text); return err }
}

func TestAFileIsWrittenWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "x.pdf")
	require.NoError(t, saveWith(nil, path, content("one")))
	require.ErrorContains(t, saveWith(nil, path, func(io.Writer) error { return errors.New("the disk is full") }), "the disk is full")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "one", string(b))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing half stays behind")
	require.ErrorContains(t, saveWith(nil, dir, content("one")), "it is a folder")

	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink("x.pdf", link))
	require.NoError(t, saveWith(nil, link, content("two")))
	b, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "two", string(b), "a link is followed")
	info, err := os.Lstat(link)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink, "and stays one")
	require.NoError(t, os.Symlink("round", filepath.Join(dir, "round")))
	require.ErrorContains(t, saveWith(nil, filepath.Join(dir, "round"), content("two")), "too many links")
}

// Nothing that is no file is replaced by one: -o /dev/usb/lp0 is a label printer, -o /dev/sdb is somebody's disk.
func TestWhatIsNoFileIsNotReplaced(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe")
	require.NoError(t, unix.Mkfifo(pipe, 0o600))
	got := make(chan string, 1)
	go func() {
		b, _ := os.ReadFile(pipe)
		got <- string(b)
	}()
	require.NoError(t, saveWith(nil, pipe, content("through the pipe")))
	assert.Equal(t, "through the pipe", <-got)

	for _, name := range []string{"printer", "disk"} {
		mode, number := uint32(unix.S_IFCHR), unix.Mkdev(1, 3) // as /dev/null
		if name == "disk" {
			mode, number = unix.S_IFBLK, unix.Mkdev(7, 250)
		}
		node := filepath.Join(dir, name)
		if err := unix.Mknod(node, mode|0o600, int(number)); err != nil {
			t.Skipf("NOT TESTED: making a node for a device needs root: %v", err)
		}
		before, err := os.Lstat(node)
		require.NoError(t, err)
		link := filepath.Join(dir, "to-"+name)
		require.NoError(t, os.Symlink(name, link))
		for _, path := range []string{node, link} {
			if err = saveWith(nil, path, content("label")); name == "disk" {
				require.ErrorContains(t, err, "it is a disk")
			}
			after, err := os.Lstat(node)
			require.NoError(t, err)
			assert.Equal(t, before.Mode(), after.Mode(), "it is what it was")
		}
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no space left on device") }

func TestAnAnswerThatCannotBeWrittenIsAFailure(t *testing.T) {
	p := &plain{Writer: full{}}
	_, _ = io.WriteString(p, "a verdict")
	require.ErrorContains(t, p.failed(), "no space left on device")
	assert.Equal(t, exitFailed, Code(p.failed()))
	assert.NoError(t, (&plain{Writer: io.Discard}).failed())
}
