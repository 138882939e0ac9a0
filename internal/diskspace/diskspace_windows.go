// Package diskspace tells how much room a disk has.
package diskspace

import "golang.org/x/sys/windows"

// Of tells how many bytes are free for this process on the disk of a folder, and how many the disk has.
func Of(dir string) (free, size int64, err error) {
	path, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return 0, 0, err
	}
	var may, has, all uint64
	if err := windows.GetDiskFreeSpaceEx(path, &may, &has, &all); err != nil {
		return 0, 0, err
	}
	return int64(may), int64(has), nil
}
