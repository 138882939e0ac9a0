package linux

import (
	"bytes"
	"cmp"
	"errors"
	"sync"

	"golang.org/x/sys/unix"
	"lukechampine.com/blake3"

	"hylostat.example/internal/bench/device"
)

// destination takes what is read of a drive, each sector at its place.
type destination struct {
	file   string
	fd     int
	plain  func() (int, error) // through the page cache: what is no multiple of its blocks
	sparse bool                // what is nothing but zeros takes no room in it
}

// openDestination opens a file or another drive for writing, past the page cache where its file system can do that.
func openDestination(file string) (*destination, error) {
	plain := sync.OnceValues(func() (int, error) { return unix.Open(file, unix.O_WRONLY|unix.O_CLOEXEC, 0) })
	fd, err := unix.Open(file, unix.O_WRONLY|unix.O_DIRECT|unix.O_CLOEXEC, 0)
	if errors.Is(err, unix.EINVAL) {
		fd, err = plain()
	}
	if err != nil {
		return nil, unkept(file, err)
	}
	var stat unix.Stat_t
	if err := unix.Fstat(fd, &stat); err != nil {
		_ = unix.Close(fd)
		return nil, unkept(file, err)
	}
	return &destination{file: file, fd: fd, plain: plain, sparse: stat.Mode&unix.S_IFMT == unix.S_IFREG}, nil
}

func (d *destination) close() {
	_ = unix.Close(d.fd)
	if fd, err := d.plain(); err == nil && fd != d.fd {
		_ = unix.Close(fd)
	}
}

func unkept(file string, err error) *device.Unkept {
	return &device.Unkept{
		File: file, Cause: err.Error(),
		Full: errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) || errors.Is(err, unix.EFBIG),
	}
}

// take writes data at an offset, and gives its sum.
func (d *destination) take(data []byte, offset int64) (sum [32]byte, failed *device.Unkept) {
	sum = blake3.Sum256(data)
	if d.sparse && zeros(data) {
		hole := unix.Fallocate(d.fd, unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, offset, int64(len(data)))
		if hole == nil {
			return sum, nil
		}
	}
	fd := d.fd
	for len(data) > 0 {
		n, err := unix.Pwrite(fd, data, offset)
		switch {
		case errors.Is(err, unix.EINTR):
		case errors.Is(err, unix.EINVAL) && fd == d.fd:
			if fd, err = d.plain(); err != nil || fd == d.fd {
				return sum, unkept(d.file, cmp.Or(err, error(unix.EINVAL)))
			}
		case err != nil:
			return sum, unkept(d.file, err)
		case n == 0:
			return sum, unkept(d.file, unix.ENOSPC)
		default:
			data, offset = data[n:], offset+int64(n)
		}
	}
	return sum, nil
}

// zeroPage are compared with.
var zeroPage [4096]byte

func zeros(data []byte) bool {
	for len(data) > 0 {
		n := min(len(data), len(zeroPage))
		if !bytes.Equal(data[:n], zeroPage[:n]) {
			return false
		}
		data = data[n:]
	}
	return true
}
