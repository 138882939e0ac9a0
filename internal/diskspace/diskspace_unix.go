//go:build unix

// Package diskspace tells how much room a disk has.
package diskspace

import "golang.org/x/sys/unix"

// Of tells how many bytes are free for this process on the disk of a folder, and how many the disk has (statvfs(3)).
func Of(dir string) (free, size int64, err error) {
	var disk unix.Statfs_t
	if err := unix.Statfs(dir, &disk); err != nil {
		return 0, 0, err
	}
	return int64(disk.Bavail) * int64(disk.Bsize), int64(disk.Blocks) * int64(disk.Bsize), nil //nolint:unconvert // its types differ
}
