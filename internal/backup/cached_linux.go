package backup

import (
	"os"

	"golang.org/x/sys/unix"
)

// forgetCached has what is read of a file come from the disk, if the kernel can.
func forgetCached(f *os.File) { _ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) }
