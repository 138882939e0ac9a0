package linux

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// blocks reads the surface of a drive through its block device, with O_DIRECT: past the page cache, so that the drive itself
// answers each time.
type blocks struct {
	node   string // "/dev/sda", or an image file
	limits device.Limits
	alive  func() bool // whether the drive that was opened is still there
}

// overdue is how long no read may end before the drive counts as stuck: the kernel tries a read several times, with 30 s
// for each.
const overdue = 5 * time.Minute

// Limits implements device.Blocks.
func (b *blocks) Limits() device.Limits { return b.limits }

// limitsOf reads the sizes of a block device from its queue (Documentation/ABI/stable/sysfs-block). How much one command may
// have is of no concern: the kernel hands a drive the parts of a read at once, and a drive behind an adapter of small commands
// would otherwise cost many times the messages.
func (m *Machine) limitsOf(node string) device.Limits {
	block := filepath.Join(m.sys, "block", node)
	l := device.Limits{
		Bytes:    number(block, "size") * 512,
		Logical:  uint32(number(block, "queue/logical_block_size")),
		Physical: uint32(number(block, "queue/physical_block_size")),
		Rotates:  read(block, "queue/rotational") == "1",
	}
	if l.Logical > 0 && l.Physical > 0 { // bytes by which the first sector lies before a physical one's border
		if shift := uint32(number(block, "alignment_offset")) % l.Physical; shift > 0 {
			l.Alignment = uint16((l.Physical - shift) / l.Logical)
		}
	}
	return l
}

// flight is one read or write on its way.
type flight struct {
	read    surface.Read
	begun   time.Time
	ended   time.Time
	errno   error
	outcome surface.Outcome // what a comparison found
	unkept  *device.Unkept
}

// task is what is done at each place: read, read and compare, or write a pattern.
type task struct {
	fill    *surface.Pattern
	compare *surface.Pattern
	look    bool // for sectors of zeros
	keep    *destination
}

// Stream implements device.Blocks.
func (b *blocks) Stream(
	ctx context.Context, how device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	fd, err := unix.Open(b.node, unix.O_RDONLY|unix.O_DIRECT|unix.O_CLOEXEC, 0)
	if err != nil {
		return b.failed("opening "+b.node, err)
	}
	do := task{compare: how.Compare, look: how.Look}
	over := func() { _ = unix.Close(fd) }
	if how.Keep != "" {
		if do.keep, err = openDestination(how.Keep); err != nil {
			over()
			return err
		}
		over = func() {
			_ = unix.Close(fd)
			do.keep.close()
		}
	}
	return b.stream(ctx, fd, over, do, how, next, told)
}

// Peek implements device.Peeker.
func (b *blocks) Peek(_ context.Context, e surface.Extent) ([]byte, error) {
	what := fmt.Sprintf("reading LBA %d of %s", e.LBA, b.node)
	if e.Sectors == 0 || e.Sectors*uint64(b.limits.Logical) > device.MostPeek {
		return nil, &device.Failed{Class: drive.FaultNotRead, What: what, Cause: fmt.Sprintf("%d sectors are more than a peek", e.Sectors)}
	}
	fd, err := unix.Open(b.node, unix.O_RDONLY|unix.O_DIRECT|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, b.failed("opening "+b.node, err)
	}
	defer func() { _ = unix.Close(fd) }()
	var buffer room
	defer buffer.leave()
	data, err := buffer.of(int(e.Sectors) * int(b.limits.Logical))
	if err == nil {
		err = b.transfer(fd, data, e.LBA, false)
	}
	if err != nil {
		return nil, &device.Failed{Class: drive.FaultBadAnswer, What: what, Cause: err.Error()}
	}
	return append([]byte(nil), data...), nil
}

// stream carries out tasks at the places next gives. Each in flight has a thread and a buffer of its own; a thread that the
// kernel does not let go keeps both. over is called when no thread needs the descriptor any more.
func (b *blocks) stream(
	ctx context.Context, fd int, over func(), do task, how device.Streaming, next func() (surface.Read, bool),
	told func(surface.Read, surface.Outcome),
) error {
	depth := max(1, how.Depth)
	asked, ended := make(chan flight, depth), make(chan flight, depth)
	for range depth {
		go b.carry(fd, do, asked, ended)
	}
	away := 0
	defer func() { // the descriptor goes when the last thread comes back
		close(asked)
		go func() {
			for ; away > 0; away-- {
				<-ended
			}
			over()
		}()
	}()
	last, deadline, cold := time.Now(), time.NewTimer(overdue), true
	defer deadline.Stop()
	for {
		for away < depth && ctx.Err() == nil {
			r, ok := next()
			if !ok {
				break
			}
			asked <- flight{read: r, begun: time.Now()}
			away++
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if away == 0 {
			return nil
		}
		deadline.Reset(overdue)
		select {
		case f := <-ended:
			away--
			if f.unkept != nil {
				return f.unkept
			}
			o := f.outcome
			o.Took, o.Cold = f.ended.Sub(f.begun), cold
			cold = false
			if o.Spent = min(o.Took, f.ended.Sub(last)); !how.Alone {
				o.Took = o.Spent
			}
			last = f.ended
			if f.errno != nil {
				if o.Cause = causeOf(f.errno); o.Cause == surface.Whole || !b.alive() {
					return b.failed(fmt.Sprintf("%s LBA %d of %s", do.verb(), f.read.LBA, b.node), f.errno)
				}
			}
			told(f.read, o)
		case <-ctx.Done():
			return ctx.Err()
		case <-deadline.C:
			return &device.Failed{Class: drive.FaultStuck, What: do.verb() + " " + b.node, Cause: fmt.Sprintf("no answer for %s", overdue)}
		}
	}
}

func (t task) verb() string {
	if t.fill != nil {
		return "writing"
	}
	return "reading"
}

// carry does what is to be done at each place until there are no more.
func (b *blocks) carry(fd int, do task, asked <-chan flight, ended chan<- flight) {
	var buffer room
	defer buffer.leave()
	for f := range asked {
		var data []byte
		if data, f.errno = buffer.of(int(f.read.Sectors) * int(b.limits.Logical)); f.errno == nil {
			if do.fill != nil {
				do.fill.Fill(data, f.read.LBA, b.limits.Logical)
			}
			f.begun = time.Now()
			f.errno = b.transfer(fd, data, f.read.LBA, do.fill != nil)
		}
		f.ended = time.Now()
		if do.compare != nil && f.errno == nil {
			m := do.compare.Check(data, f.read.LBA, b.limits.Logical, b.limits.Bytes/uint64(b.limits.Logical))
			f.outcome.Cause, f.outcome.All, f.outcome.From = m.Cause, m.All, m.From
		}
		if do.look && f.errno == nil {
			f.outcome.Looked, f.outcome.Empty = true, surface.Zeros(data, b.limits.Logical)
		}
		if do.keep != nil && f.errno == nil {
			f.outcome.Sum, f.unkept = do.keep.take(data, int64(f.read.LBA)*int64(b.limits.Logical))
		}
		ended <- f
	}
}

// room is memory of whole pages, as O_DIRECT wants it.
type room []byte

// of gives so many bytes of it.
func (r *room) of(size int) ([]byte, error) {
	if size > len(*r) {
		r.leave()
		b, err := unix.Mmap(-1, 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|unix.MAP_ANONYMOUS|unix.MAP_POPULATE)
		if err != nil {
			return nil, err
		}
		*r = b
	}
	return (*r)[:size], nil
}

func (r *room) leave() {
	if *r != nil {
		_ = unix.Munmap(*r)
		*r = nil
	}
}

// transfer reads or writes all of data at an LBA.
func (b *blocks) transfer(fd int, data []byte, lba uint64, write bool) error {
	move := unix.Pread
	if write {
		move = unix.Pwrite
	}
	for done := 0; done < len(data); {
		n, err := move(fd, data[done:], int64(lba)*int64(b.limits.Logical)+int64(done))
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil:
			return err
		case n == 0:
			return unix.EIO // the end, where there should be more
		default:
			done += n
		}
	}
	return nil
}

// causeOf says what an error of the block layer means for the place that was read (block/blk-core.c, blk_errors). Whole
// stands for an error that is not about the place.
func causeOf(err error) surface.Cause {
	switch {
	case errors.Is(err, unix.ENODATA): // BLK_STS_MEDIUM
		return surface.Medium
	case errors.Is(err, unix.EIO): // BLK_STS_IOERR: nobody says more
		return surface.NotGiven
	case errors.Is(err, unix.EREMOTEIO): // BLK_STS_TARGET: the drive refuses, as for a sector it does not have
		return surface.NotFound
	case errors.Is(err, unix.ETIMEDOUT):
		return surface.TimedOut
	case errors.Is(err, unix.ENOLINK): // BLK_STS_TRANSPORT
		return surface.Damaged
	case errors.Is(err, unix.EILSEQ), errors.Is(err, unix.EBADE), errors.Is(err, unix.EPERM): // BLK_STS_PROTECTION, BLK_STS_RESV_CONFLICT
		return surface.Protected
	case errors.Is(err, unix.EOVERFLOW), errors.Is(err, unix.ETOOMANYREFS): // BLK_STS_ZONE_*
		return surface.OverZone
	}
	return surface.Whole
}

func (b *blocks) failed(what string, err error) error {
	class := drive.FaultNoAnswer
	switch {
	case errors.Is(err, unix.ENODEV), errors.Is(err, unix.ENXIO), errors.Is(err, unix.ENOENT), errors.Is(err, unix.EIO) && !b.alive():
		class = drive.FaultVanished
	case errors.Is(err, unix.ENOMEDIUM):
		class = drive.FaultNoMedium
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM):
		class = drive.FaultNotRead
	}
	return &device.Failed{Class: class, What: what, Cause: err.Error()}
}
