package linux

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
)

// Machine is the device.Source of the running Linux system.
type Machine struct {
	sys, proc string // "/sys", "/proc"; tests point them elsewhere
	self      string // this program's own file, which confines the system's checkers; empty: they are not
}

// Confine has the system's checkers confined by a program that knows confine.Word.
func (m *Machine) Confine(self string) *Machine {
	m.self = self
	return m
}

// New gives the running machine.
func New() *Machine { return &Machine{sys: "/sys", proc: "/proc"} }

// Clock is the wall's.
func (m *Machine) Clock() device.Clock { return device.Wall{} }

// Look lists the block devices that stand for a physical drive.
func (m *Machine) Look(context.Context) ([]drive.Attachment, error) {
	entries, err := os.ReadDir(filepath.Join(m.sys, "block"))
	if err != nil {
		return nil, fmt.Errorf("listing drives in %s/block: %w", m.sys, err)
	}
	uses := m.uses()
	var all []drive.Attachment
	controllers := map[drive.Address]int{}
	for _, e := range entries {
		d, ok := m.describe(e.Name(), uses)
		if !ok {
			continue
		}
		if i, known := controllers[d.Address]; known { // a further namespace of the same controller: one drive
			all[i].Bytes += d.Bytes
			all[i].Written += d.Written
			if all[i].InUse == "" {
				all[i].InUse = d.InUse
			}
			continue
		}
		if d.Transport == "NVMe" {
			controllers[d.Address] = len(all)
		}
		all = append(all, d)
	}
	slices.SortFunc(all, func(a, b drive.Attachment) int { return strings.Compare(string(a.Address), string(b.Address)) })
	return all, nil
}

func (m *Machine) describe(node string, uses map[string]string) (drive.Attachment, bool) {
	block := filepath.Join(m.sys, "block", node)
	place, err := filepath.EvalSymlinks(filepath.Join(block, "device"))
	if err != nil || strings.HasPrefix(node, "sr") || strings.HasPrefix(node, "fd") {
		return drive.Attachment{}, false // loop, RAM, device-mapper and md devices have no hardware behind them
	}
	place = m.controllerOf(place)
	d := drive.Attachment{
		Node:          node,
		Vendor:        read(place, "vendor"),
		Model:         read(place, "model"),
		LogicalSector: uint32(number(block, "queue/logical_block_size")),
	}
	d.Bytes = number(block, "size") * 512
	if stat := strings.Fields(read(block, "stat")); len(stat) > 6 { // sectors written, Documentation/block/stat.rst
		sectors, _ := strconv.ParseUint(stat[6], 10, 64)
		d.Written = sectors * 512
	}
	d.Address, d.Transport = m.address(place)
	d.Serial = read(place, "serial")
	if d.Transport == "USB" {
		usb := usbDevice(place)
		d.Serial = read(usb, "serial")
		if vendor := read(usb, "idVendor"); vendor != "" {
			d.Adapter = vendor + ":" + read(usb, "idProduct") + " " + read(usb, "bcdDevice")
		}
	}
	switch {
	case d.Transport == "SCSI" && m.raid(place):
		d.Behind = "behind a RAID controller"
	case d.Transport == virtualDisk:
		d.Behind = "a virtual disk of the machine this one runs in"
	}
	if page := []byte(readRaw(place, "vpd_pg80")); len(page) > 4 {
		d.Serial = drive.Printable(string(page[4:]))
	}
	d.Instance = read(block, "diskseq")
	if d.Instance == "" {
		d.Instance = read(block, "dev") + "-" + node
	}
	d.InUse = m.inUse(block, uses)
	d.Model, d.Vendor, d.Serial = drive.Printable(d.Model), drive.Printable(d.Vendor), drive.Printable(d.Serial)
	return d, true
}

// controllerOf leads from the subsystem that joins the paths of a multi-path NVMe drive to its first controller.
func (m *Machine) controllerOf(place string) string {
	if !strings.Contains(place, "/nvme-subsystem/") {
		return place
	}
	links, err := filepath.Glob(filepath.Join(place, "nvme[0-9]*"))
	if err != nil {
		return place
	}
	for _, l := range links {
		if resolved, err := filepath.EvalSymlinks(l); err == nil && nvmePlace.MatchString(filepath.Base(resolved)) {
			return resolved
		}
	}
	return place
}

// usbDevice is the place of the USB device that a place belongs to: the adapter.
func usbDevice(place string) string {
	for ; len(place) > 1; place = filepath.Dir(place) {
		if usbPlace.MatchString(filepath.Base(place)) {
			return place
		}
	}
	return ""
}

// raid reports whether a place belongs to a controller of the PCI class for RAID: what it shows are volumes.
func (m *Machine) raid(place string) bool {
	for ; len(place) > len(m.sys); place = filepath.Dir(place) {
		if pciPlace.MatchString(filepath.Base(place)) {
			return strings.HasPrefix(read(place, "class"), "0x0104")
		}
	}
	return false
}

var (
	pciPlace  = regexp.MustCompile(`^[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-9a-f]$`)
	usbPlace  = regexp.MustCompile(`^[0-9]+-[0-9.]+$`)
	ataPlace  = regexp.MustCompile(`^ata([0-9]+)$`)
	nvmePlace = regexp.MustCompile(`^nvme[0-9]+$`)
	scsiPlace = regexp.MustCompile(`^[0-9]+:([0-9]+:[0-9]+:[0-9]+)$`)

	virtualPlace = regexp.MustCompile(`^virtio[0-9]+$`)
)

// virtualDisk is the transport of a disk that a machine is given by the one it runs in. It knows no pass-through. One with a SCSI host of
// its own (virtio-scsi) is no such disk: what is behind it answers commands.
const virtualDisk = "virtual"

// address makes a bay's address out of the path of a device in sysfs. Numbers that depend on the order of discovery (host,
// ataN) are replaced by the place they stand for.
func (m *Machine) address(place string) (drive.Address, string) {
	parts := strings.Split(strings.TrimPrefix(place, m.sys+"/devices/"), "/")
	name, transport := "pseudo", "SCSI"
	scsi, virtual := "", false
	for i, p := range parts {
		switch {
		case pciPlace.MatchString(p):
			name = "pci-" + p
		case usbPlace.MatchString(p):
			name, transport = "usb-"+p, "USB"
		case ataPlace.MatchString(p):
			port := filepath.Join(m.sys, "devices", filepath.Join(parts[:i+1]...))
			name, transport = fmt.Sprintf("%s-ata-%d", name, portIndex(port)), "SATA"
		case strings.HasPrefix(p, "nvme"):
			transport = "NVMe"
		case virtualPlace.MatchString(p):
			virtual = true
		case scsiPlace.MatchString(p):
			scsi = scsiPlace.FindStringSubmatch(p)[1]
		}
	}
	switch {
	case virtual && scsi == "":
		transport = virtualDisk
	case transport == "NVMe":
		name += "-nvme"
	case transport == "SCSI" && scsi != "":
		name += "-scsi-" + scsi
	case transport == "USB" && !strings.HasSuffix(scsi, ":0"):
		name += "-unit-" + scsi[strings.LastIndexByte(scsi, ':')+1:]
	}
	return drive.Address(name), transport
}

// portIndex counts a controller's ATA ports from 1: the kernel numbers them over all controllers.
func portIndex(port string) int {
	return 1 + slices.Index(ataPorts(filepath.Dir(port)), filepath.Base(port))
}

func ataPorts(controller string) []string {
	entries, err := os.ReadDir(controller)
	if err != nil {
		return nil
	}
	var ports []string
	for _, e := range entries {
		if ataPlace.MatchString(e.Name()) {
			ports = append(ports, e.Name())
		}
	}
	slices.SortFunc(ports, func(a, b string) int { return len(a)*1000 - len(b)*1000 + strings.Compare(a, b) })
	return ports
}

// Places lists the ATA ports of the machine, with a drive or without.
func (m *Machine) Places() []drive.Address {
	var all []drive.Address
	ports, err := filepath.Glob(filepath.Join(m.sys, "class/ata_port/ata*"))
	if err != nil {
		return nil
	}
	for _, p := range ports {
		if resolved, err := filepath.EvalSymlinks(p); err == nil { // .../ataN/ata_port/ataN
			a, _ := m.address(filepath.Dir(filepath.Dir(resolved)))
			all = append(all, a)
		}
	}
	slices.Sort(all)
	return all
}

// Rescan asks the kernel to look again at the host that holds an address: a drive that came up late is found then.
func (m *Machine) Rescan(_ context.Context, address drive.Address) error {
	hosts, err := filepath.Glob(filepath.Join(m.sys, "class/scsi_host/host*"))
	if err != nil {
		return err
	}
	for _, h := range hosts {
		resolved, err := filepath.EvalSymlinks(h)
		if err != nil {
			continue
		}
		a, _ := m.address(resolved)
		if !strings.HasPrefix(string(address), string(a)) {
			continue
		}
		if err := os.WriteFile(filepath.Join(h, "scan"), []byte("- - -"), 0o200); err != nil {
			return fmt.Errorf("looking again at %s: %w", address, err)
		}
	}
	return nil
}

// Open opens a drive that Look described, if it is still the same one.
func (m *Machine) Open(_ context.Context, d drive.Attachment) (device.Device, error) {
	now, ok := m.describe(d.Node, nil)
	if !ok || now.Instance != d.Instance {
		return nil, &device.Failed{Class: drive.FaultVanished, What: "opening /dev/" + d.Node, Cause: "the drive that was there is gone"}
	}
	if d.Transport == "NVMe" {
		place, err := filepath.EvalSymlinks(filepath.Join(m.sys, "block", d.Node, "device"))
		if err != nil {
			return nil, &device.Failed{
				Class: drive.FaultVanished,
				What:  "opening /dev/" + d.Node,
				Cause: "the drive that was there is gone",
			}
		}
		fd, err := openNode(filepath.Base(m.controllerOf(place)))
		if err != nil {
			return nil, err
		}
		return &controller{handle{description: d, fd: fd, attached: m.has(d)}, m.blocks(d)}, nil
	}
	fd, err := openNode(d.Node)
	if err != nil {
		return nil, err
	}
	return &disk{handle{description: d, fd: fd, attached: m.has(d)}, m.blocks(d)}, nil
}

// has tells whether the machine still has a described drive.
func (m *Machine) has(d drive.Attachment) func() bool {
	return func() bool {
		now, ok := m.describe(d.Node, nil)
		return ok && now.Instance == d.Instance
	}
}

// blocks is the surface of a described drive; of an NVMe drive, its first namespace.
func (m *Machine) blocks(d drive.Attachment) blocks {
	return blocks{"/dev/" + d.Node, m.limitsOf(d.Node), func() bool {
		now, ok := m.describe(d.Node, nil)
		return ok && now.Instance == d.Instance && now.Bytes > 0 &&
			read(filepath.Join(m.sys, "block", d.Node, "device"), "state") != "offline"
	}}
}

// WriteProtect sets a drive read-only at the block layer, all its namespaces and partitions with it, or lifts that again.
func (m *Machine) WriteProtect(ctx context.Context, d drive.Attachment, on bool) error {
	what := "protecting /dev/" + d.Node
	now, ok := m.describe(d.Node, nil)
	if !ok || now.Instance != d.Instance {
		return &device.Failed{Class: drive.FaultVanished, What: what, Cause: "the drive that was there is gone"}
	}
	entries, err := os.ReadDir(filepath.Join(m.sys, "block"))
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	for _, e := range entries {
		if other, ok := m.describe(e.Name(), nil); !ok || other.Address != d.Address || ctx.Err() != nil {
			continue
		}
		fd, err := openNode(e.Name())
		if err != nil {
			return err
		}
		err = unix.IoctlSetPointerInt(fd, unix.BLKROSET, map[bool]int{true: 1}[on])
		_ = unix.Close(fd)
		if err != nil {
			return &device.Failed{Class: drive.FaultNotRead, What: what, Cause: err.Error()}
		}
	}
	return ctx.Err()
}

// Changed delivers a value after every uevent of the block or SCSI subsystem, and every 30 s in case one was lost.
func (m *Machine) Changed(ctx context.Context) <-chan struct{} {
	out := make(chan struct{}, 1)
	signal := func() {
		select {
		case out <- struct{}{}:
		default:
		}
	}
	go func() {
		fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_KOBJECT_UEVENT)
		if err == nil {
			defer func() { _ = unix.Close(fd) }()
			err = unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: 1})
		}
		if err != nil {
			poll(ctx, 2*time.Second, signal)
			return
		}
		_ = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1})
		buffer, last := make([]byte, 8192), time.Now()
		for ctx.Err() == nil {
			n, err := unix.Read(fd, buffer)
			event := ""
			if err == nil {
				event = string(buffer[:n])
			}
			if strings.Contains(event, "SUBSYSTEM=block") || strings.Contains(event, "SUBSYSTEM=scsi") ||
				strings.Contains(event, "SUBSYSTEM=nvme") ||
				time.Since(last) > 30*time.Second {
				last = time.Now()
				signal()
			}
		}
	}()
	return out
}

func poll(ctx context.Context, every time.Duration, signal func()) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			signal()
		}
	}
}

// uses maps "major:minor" to what the running system does with it.
func (m *Machine) uses() map[string]string {
	all := map[string]string{}
	if f, err := os.Open(filepath.Join(m.proc, "self/mountinfo")); err == nil {
		mounts, _ := mountinfo.GetMountsFromReader(f, nil)
		_ = f.Close()
		for _, mount := range mounts {
			all[fmt.Sprintf("%d:%d", mount.Major, mount.Minor)] = "mounted at " + mount.Mountpoint
		}
		m.mountSources(mounts, all)
	}
	swaps, _ := os.ReadFile(filepath.Join(m.proc, "swaps"))
	for line := range strings.Lines(string(swaps)) {
		if node, ok := strings.CutPrefix(strings.SplitN(line, " ", 2)[0], "/dev/"); ok {
			if dev := read(filepath.Join(m.sys, "class/block", node), "dev"); dev != "" {
				all[dev] = "swap space"
			}
		}
	}
	return all
}

func (m *Machine) inUse(block string, uses map[string]string) string {
	candidates := []string{block}
	if parts, err := filepath.Glob(filepath.Join(block, filepath.Base(block)+"*")); err == nil {
		candidates = append(candidates, parts...)
	}
	for _, c := range candidates {
		if use := uses[read(c, "dev")]; use != "" {
			return use
		}
		if holders, err := os.ReadDir(filepath.Join(c, "holders")); err == nil && len(holders) > 0 {
			return "held by " + holders[0].Name()
		}
	}
	return ""
}

func readRaw(dir, name string) string {
	b, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return ""
	}
	return string(b)
}

func read(dir, name string) string { return strings.TrimSpace(readRaw(dir, name)) }

func number(dir, name string) uint64 {
	n, err := strconv.ParseUint(read(dir, name), 10, 64)
	if err != nil {
		return 0
	}
	return n
}
