package linux

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"
	"unsafe"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// getDiskSeq is BLKGETDISKSEQ (include/uapi/linux/fs.h): _IOR(0x12, 128, __u64), the number the kernel gave the disk behind a
// descriptor; another disk under the same name has another.
const getDiskSeq = 0x80081280

// exclusive is a surface opened for writing. The kernel keeps everybody else who wants the disk for himself away: a file
// system, swap, md, device-mapper, btrfs, ZFS.
type exclusive struct {
	blocks
	fd int

	mu     sync.Mutex
	users  int // streams whose threads may still hold the descriptor, and the owner
	closed bool
}

// OpenExclusive implements device.Writable. It must find the disk that Look described behind the very descriptor it hands out.
func (m *Machine) OpenExclusive(_ context.Context, d drive.Attachment) (device.Exclusive, error) {
	b := m.blocks(d)
	what := "opening " + b.node + " for writing"
	fd, err := unix.Open(b.node, unix.O_RDWR|unix.O_EXCL|unix.O_DIRECT|unix.O_CLOEXEC, 0)
	switch {
	case errors.Is(err, unix.EBUSY):
		return nil, &device.Failed{
			Class: drive.FaultInUse,
			What:  what,
			Cause: "the kernel says that something on this machine holds it: " + m.heldBy(d),
		}
	case errors.Is(err, unix.EROFS), errors.Is(err, unix.EACCES):
		return nil, &device.Failed{Class: drive.FaultNotAllowed, What: what, Cause: "it is set read-only: " + err.Error()}
	case err != nil:
		return nil, b.failed(what, err)
	}
	if err := m.sameDisk(fd, d); err != nil {
		_ = unix.Close(fd)
		return nil, &device.Failed{Class: drive.FaultVanished, What: what, Cause: err.Error()}
	}
	var on int32
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), unix.BLKROGET, uintptr(unsafe.Pointer(&on))); errno == 0 && on != 0 {
		_ = unix.Close(fd)
		return nil, &device.Failed{Class: drive.FaultNotAllowed, What: what, Cause: "it is set read-only at the block layer"}
	}
	return &exclusive{blocks: b, fd: fd, users: 1}, nil
}

// heldBy is what is known of who holds a disk.
func (m *Machine) heldBy(d drive.Attachment) string {
	uses, err := m.Uses(context.Background(), d)
	if err != nil || len(uses) == 0 {
		return "a file system or an array of several disks that does not show, or another program"
	}
	return uses[0]
}

// sameDisk compares the disk behind a descriptor with a description.
func (m *Machine) sameDisk(fd int, d drive.Attachment) error {
	var stat unix.Stat_t
	if err := unix.Fstat(fd, &stat); err != nil {
		return err
	}
	if stat.Mode&unix.S_IFMT != unix.S_IFBLK {
		return errors.New("it is no block device")
	}
	if numbers := fmt.Sprintf("%d:%d", unix.Major(stat.Rdev), unix.Minor(stat.Rdev)); numbers != read(
		filepath.Join(m.sys, "block", d.Node), "dev",
	) {
		return fmt.Errorf("the device behind it is %s, which is not %s", numbers, d.Node)
	}
	var seq uint64
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), getDiskSeq, uintptr(unsafe.Pointer(&seq)))
	known, err := strconv.ParseUint(d.Instance, 10, 64)
	if errno == 0 && err == nil && seq != known {
		return errors.New("another disk has taken the place of the one that was there")
	}
	if now, ok := m.describe(d.Node, nil); !ok || now.Instance != d.Instance || now.Bytes != d.Bytes {
		return errors.New("the drive that was there is gone")
	}
	return nil
}

// Uses implements device.Writable: of every partition and namespace of the drive. A mount of several disks shows only the
// name of one; the others are told by the exclusive open.
func (m *Machine) Uses(_ context.Context, d drive.Attachment) ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(m.sys, "block"))
	if err != nil {
		return nil, fmt.Errorf("listing drives in %s/block: %w", m.sys, err)
	}
	uses := m.uses()
	var all []string
	for _, e := range entries {
		if other, ok := m.describe(e.Name(), nil); !ok || other.Address != d.Address {
			continue
		}
		if use := m.inUse(filepath.Join(m.sys, "block", e.Name()), uses); use != "" {
			all = append(all, use)
		}
	}
	return all, nil
}

// mountSources adds what mounts say by the name of their source: file systems of several disks have a number of their own.
func (m *Machine) mountSources(mounts []*mountinfo.Info, uses map[string]string) {
	for _, mount := range mounts {
		if node := filepath.Base(mount.Source); filepath.IsAbs(mount.Source) {
			if dev := read(filepath.Join(m.sys, "class/block", node), "dev"); dev != "" && uses[dev] == "" {
				uses[dev] = "mounted at " + mount.Mountpoint
			}
		}
	}
}

// take counts a user of the descriptor; the function it gives lets go of it again.
func (x *exclusive) take() func() {
	x.mu.Lock()
	x.users++
	x.mu.Unlock()
	return sync.OnceFunc(func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		if x.users--; x.users == 0 {
			_ = unix.Close(x.fd)
		}
	})
}

// Close implements device.Exclusive. The descriptor goes with the last thread that uses it.
func (x *exclusive) Close() error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.closed {
		return nil
	}
	x.closed = true
	if x.users--; x.users == 0 {
		return unix.Close(x.fd)
	}
	return nil
}

// Stream reads through the descriptor that is held.
func (x *exclusive) Stream(
	ctx context.Context, how device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	return x.stream(ctx, x.fd, x.take(), task{compare: how.Compare}, how, next, told)
}

// Fill implements device.Exclusive.
func (x *exclusive) Fill(
	ctx context.Context, p surface.Pattern, how device.Streaming, next func() (surface.Read, bool),
	told func(surface.Read, surface.Outcome),
) error {
	if err := x.stream(ctx, x.fd, x.take(), task{fill: &p}, how, next, told); err != nil {
		return err
	}
	return x.keep("having " + x.node + " keep what was written")
}

// keep has the drive put what it holds in its cache onto the medium.
func (x *exclusive) keep(what string) error {
	if err := unix.Fsync(x.fd); err != nil {
		return x.failed(what, err)
	}
	return nil
}

// one carries out a single access on a thread of its own, so that one that does not come back is told as stuck.
func (x *exclusive) one(ctx context.Context, what string, f func() error) (o surface.Outcome, err error) {
	if err := ctx.Err(); err != nil {
		return o, err
	}
	done, begun := make(chan error, 1), time.Now()
	over := x.take()
	go func() {
		defer over()
		done <- f()
	}()
	deadline := time.NewTimer(overdue)
	defer deadline.Stop()
	select {
	case err = <-done:
	case <-deadline.C:
		return o, &device.Failed{Class: drive.FaultStuck, What: what, Cause: fmt.Sprintf("no answer for %s", overdue)}
	}
	o.Took = time.Since(begun)
	if err != nil {
		if _, file := errors.AsType[*os.PathError](err); file { // the machine's own disk
			return o, &device.Failed{Class: drive.FaultNotRead, What: what, Cause: err.Error()}
		}
		if o.Cause = causeOf(err); o.Cause == surface.Whole || !x.alive() {
			return o, x.failed(what, err)
		}
	}
	return o, nil
}

// Mend implements device.Exclusive.
func (x *exclusive) Mend(ctx context.Context, e surface.Extent) (surface.Outcome, error) {
	return x.one(ctx, fmt.Sprintf("writing LBA %d of %s", e.LBA, x.node), func() error {
		var buffer room
		defer buffer.leave()
		data, err := buffer.of(int(e.Sectors) * int(x.limits.Logical))
		if err == nil {
			err = x.transfer(x.fd, data, e.LBA, true)
		}
		if err == nil {
			err = unix.Fsync(x.fd)
		}
		return err
	})
}

// Save implements device.Exclusive.
func (x *exclusive) Save(ctx context.Context, e surface.Extent, file string) (surface.Outcome, error) {
	return x.one(ctx, fmt.Sprintf("reading LBA %d of %s", e.LBA, x.node), func() error {
		var buffer room
		defer buffer.leave()
		data, err := buffer.of(int(e.Sectors) * int(x.limits.Logical))
		if err == nil {
			err = x.transfer(x.fd, data, e.LBA, false)
		}
		if err != nil {
			return err
		}
		f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		if err != nil {
			return err
		}
		_, err = f.Write(data)
		return errors.Join(err, f.Sync(), f.Close())
	})
}

// Restore implements device.Exclusive.
func (x *exclusive) Restore(_ context.Context, e surface.Extent, file string) (surface.Outcome, error) {
	return x.one(context.Background(), fmt.Sprintf("writing LBA %d of %s", e.LBA, x.node), func() error {
		kept, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		var buffer room
		defer buffer.leave()
		data, err := buffer.of(int(e.Sectors) * int(x.limits.Logical))
		if err != nil {
			return err
		}
		if len(kept) != len(data) {
			return &os.PathError{Op: "reading", Path: file, Err: fmt.Errorf("it holds %d bytes, not %d", len(kept), len(data))}
		}
		copy(data, kept)
		if err := x.transfer(x.fd, data, e.LBA, true); err != nil {
			return err
		}
		return unix.Fsync(x.fd)
	})
}
