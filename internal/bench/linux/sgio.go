// Package linux reaches the drives of a Linux machine: SCSI commands through SG_IO, discovery and removal through sysfs and
// the kernel's uevents. It decodes nothing and opens everything read-only. Start with Machine.
package linux

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/scsi"
)

const (
	sgIO            = 0x2285 // include/scsi/sg.h
	sgNoData        = -1
	sgFromDevice    = -3
	sgToDevice      = -2
	senseRoom       = 64
	hostNoConnect   = 0x01 // include/scsi/scsi_status.h, DID_*
	hostTimeOut     = 0x03
	hostBadTarget   = 0x04
	hostTransport   = 0x0E
	hostNoConnectFF = 0x0F
)

// sgHeader is struct sg_io_hdr (include/scsi/sg.h) on a 64-bit machine.
type sgHeader struct {
	interfaceID    int32
	direction      int32
	cdbLength      uint8
	senseLength    uint8
	vectors        uint16
	dataLength     uint32
	data           unsafe.Pointer
	cdb            unsafe.Pointer
	sense          unsafe.Pointer
	timeout        uint32 // ms
	flags          uint32
	packID         int32
	_              int32
	user           unsafe.Pointer
	status         uint8
	maskedStatus   uint8
	messageStatus  uint8
	senseWritten   uint8
	hostStatus     uint16
	driverStatus   uint16
	residue        int32
	duration, info uint32
}

// disk is a /dev/sd* node opened read-only.
type disk struct {
	handle
	blocks
}

// Exchange sends one command through SG_IO.
func (d *disk) Exchange(ctx context.Context, c device.Command) (r device.Result, err error) {
	if err := device.Allow(c); err != nil {
		return device.Result{}, err
	}
	what := fmt.Sprintf("command % X to %s", c.CDB, d.description.Node)
	return do(ctx, &d.handle, what, c.Timeout, func(fd int) (device.Result, error) { return sgExchange(fd, what, c) })
}

func sgExchange(fd int, what string, c device.Command) (device.Result, error) {
	var pin runtime.Pinner
	defer pin.Unpin()
	sense, cdb := make([]byte, senseRoom), append([]byte(nil), c.CDB...)
	h := &sgHeader{
		interfaceID: 'S', direction: sgNoData, cdbLength: uint8(len(cdb)), senseLength: senseRoom,
		cdb: unsafe.Pointer(&cdb[0]), sense: unsafe.Pointer(&sense[0]), timeout: uint32(c.Timeout / time.Millisecond),
	}
	pin.Pin(h.cdb)
	pin.Pin(h.sense)
	var data []byte
	switch {
	case c.DataIn > 0:
		data = make([]byte, c.DataIn)
		h.direction, h.dataLength, h.data = sgFromDevice, uint32(c.DataIn), unsafe.Pointer(&data[0])
		pin.Pin(h.data)
	case len(c.DataOut) > 0:
		data = append([]byte(nil), c.DataOut...)
		h.direction, h.dataLength, h.data = sgToDevice, uint32(len(data)), unsafe.Pointer(&data[0])
		pin.Pin(h.data)
	}
	start := time.Now()
	var errno syscall.Errno
	for {
		_, _, errno = unix.Syscall(unix.SYS_IOCTL, uintptr(fd), sgIO, uintptr(unsafe.Pointer(h)))
		if errno != unix.EINTR {
			break
		}
	}
	r := device.Result{Took: time.Since(start), Status: scsi.Status(h.status)}
	switch {
	case errno == unix.ENODEV || errno == unix.ENXIO:
		return r, &device.Failed{Class: drive.FaultVanished, What: what, Cause: "the device is gone"}
	case errno == unix.EPERM || errno == unix.EACCES:
		return r, refusedPass(what, effectiveRawIO())
	case errno == unix.ENOTTY || errno == unix.EINVAL:
		return r, &device.Failed{Class: drive.FaultNotPassed, What: what, Cause: "the kernel's driver takes no SCSI pass-through"}
	case errno != 0:
		return r, &device.Failed{Class: drive.FaultNoAnswer, What: what, Cause: errno.Error()}
	}
	switch h.hostStatus {
	case 0:
	case hostNoConnect, hostBadTarget, hostNoConnectFF:
		return r, &device.Failed{
			Class: drive.FaultVanished,
			What:  what,
			Cause: fmt.Sprintf("the host adapter found no drive (host status %02Xh)", h.hostStatus),
		}
	case hostTimeOut:
		return r, &device.Failed{Class: drive.FaultNoAnswer, What: what, Cause: fmt.Sprintf("no answer within %s", c.Timeout)}
	case hostTransport:
		return r, &device.Failed{Class: drive.FaultLink, What: what, Cause: "the link was disrupted"}
	default:
		return r, &device.Failed{Class: drive.FaultLink, What: what, Cause: fmt.Sprintf("host status %02Xh", h.hostStatus)}
	}
	r.Sense = sense[:h.senseWritten]
	if c.DataIn > 0 {
		r.Data = data[:max(0, c.DataIn-int(max(0, h.residue)))]
	}
	return r, nil
}

// refusedPass says why the kernel refused pass-through. A process that may do raw I/O and is refused all the same stands before a device
// that has none.
func refusedPass(what string, rawIO bool) *device.Failed {
	if rawIO {
		return &device.Failed{Class: drive.FaultNotPassed, What: what, Cause: "the kernel has no pass-through for this kind of device"}
	}
	return &device.Failed{
		Class: drive.FaultNotRead,
		What:  what,
		Cause: "the kernel refuses pass-through: run as root or with CAP_SYS_RAWIO",
	}
}

// effectiveRawIO reports whether this process may do raw I/O.
func effectiveRawIO() bool {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if err := unix.Capget(&header, &data[0]); err != nil {
		return unix.Geteuid() == 0
	}
	return data[0].Effective&(1<<unix.CAP_SYS_RAWIO) != 0
}

// openNode opens a node read-only; that triggers no partition rescan.
func openNode(node string) (int, error) {
	fd, err := unix.Open("/dev/"+node, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		class := drive.FaultNoAnswer
		back := err.Error()
		switch {
		case errors.Is(err, unix.ENXIO), errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENODEV):
			class = drive.FaultVanished
		case errors.Is(err, unix.ENOMEDIUM):
			class = drive.FaultNoMedium
		case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM):
			class, back = drive.FaultNotRead, "not permitted: run as root"
		}
		return 0, &device.Failed{Class: class, What: "opening /dev/" + node, Cause: back}
	}
	return fd, nil
}
