package linux

import (
	"context"
	"fmt"
	"runtime"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
)

// nvmeAdmin is NVME_IOCTL_ADMIN_CMD (include/uapi/linux/nvme_ioctl.h): _IOWR('N', 0x41, struct nvme_passthru_cmd).
const nvmeAdmin = 0xC0484E41

// passthru is struct nvme_passthru_cmd.
type passthru struct {
	opcode, flags  uint8
	_              uint16
	nsid           uint32
	cdw2, cdw3     uint32
	metadata       uint64
	address        uint64
	metadataLength uint32
	dataLength     uint32
	cdw10, cdw11   uint32
	cdw12, cdw13   uint32
	cdw14, cdw15   uint32
	timeout        uint32 // ms
	result         uint32
}

// controller is a /dev/nvme* character node: it belongs to no namespace, so opening it touches none.
type controller struct {
	handle
	blocks
}

// Admin sends one command through the kernel's pass-through.
func (d *controller) Admin(ctx context.Context, c device.AdminCommand) (device.Completion, error) {
	if err := device.AllowAdmin(c.Command); err != nil {
		return device.Completion{}, err
	}
	what := fmt.Sprintf("%s to %s", c.Name(), d.description.Node)
	return do(ctx, &d.handle, what, c.Timeout, func(fd int) (device.Completion, error) { return adminExchange(fd, what, c) })
}

func adminExchange(fd int, what string, c device.AdminCommand) (device.Completion, error) {
	var pin runtime.Pinner
	defer pin.Unpin()
	p := &passthru{
		opcode:  uint8(c.Op),
		nsid:    c.NSID,
		cdw10:   c.CDW10,
		cdw11:   c.CDW11,
		cdw12:   c.CDW12,
		cdw13:   c.CDW13,
		cdw14:   c.CDW14,
		timeout: uint32(c.Timeout / time.Millisecond),
	}
	var data []byte
	if c.DataIn > 0 {
		data = make([]byte, c.DataIn)
		pin.Pin(&data[0])
		p.address, p.dataLength = uint64(uintptr(unsafe.Pointer(&data[0]))), uint32(len(data))
	}
	start := time.Now()
	var errno syscall.Errno
	var status uintptr
	for {
		status, _, errno = unix.Syscall(unix.SYS_IOCTL, uintptr(fd), nvmeAdmin, uintptr(unsafe.Pointer(p)))
		if errno != unix.EINTR {
			break
		}
	}
	r := device.Completion{
		Status: nvme.Status(status),
		Result: p.result,
		Took:   time.Since(start),
	} // the kernel has shifted the phase bit out
	failed := func(class drive.FaultClass, back string) (device.Completion, error) {
		return r, &device.Failed{Class: class, What: what, Cause: back}
	}
	switch {
	case errno == unix.ENODEV || errno == unix.ENXIO || errno == unix.EIO && p.result == 0:
		return failed(drive.FaultVanished, "the device is gone")
	case errno == unix.EPERM || errno == unix.EACCES:
		return failed(drive.FaultNotRead, "the kernel refuses pass-through: run as root or with CAP_SYS_ADMIN")
	case errno != 0:
		return failed(drive.FaultNoAnswer, errno.Error())
	}
	if r.Status == nvme.Success {
		r.Data = data
	}
	return r, nil
}
