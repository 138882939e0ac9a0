//go:build vm

// Package vm boots Debian's kernel in QEMU and drives the program inside it through its own command line, against drives
// whose firmware nobody here wrote. Run it with `make vm-test`.
package vm

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// machine is a running virtual machine with a shell on its second serial port.
type machine struct {
	t       *testing.T
	shell   net.Conn
	lines   *bufio.Reader
	monitor net.Conn
	log     string
}

// What QEMU is told of the drives.
const (
	sataModel, sataSerial = "KORVAN VM DISK", "HYVM7K4Q2"
	nvmeEUI, nvmeUUID     = "0x00005e0000000a01", "5a17a25e-0000-4000-8000-00005e000001"
	megabyte              = 1 << 20
)

// disk makes an empty image for a drive.
func disk(t *testing.T, dir, name string, size int64) string {
	t.Helper()
	path := filepath.Join(dir, name)
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(size))
	require.NoError(t, f.Close())
	return path
}

// boot starts the machine with a drive of every kind.
func boot(t *testing.T) *machine {
	t.Helper()
	dir := t.TempDir()
	drive := func(id string, size int64) string {
		return fmt.Sprintf("if=none,id=%s,format=raw,cache=unsafe,file=%s", id, disk(t, dir, id, size))
	}
	return start(
		t, dir, "-device", "ahci,id=ahci", "-drive", drive("sata", 64*megabyte), "-device",
		"ide-hd,drive=sata,bus=ahci.0,rotation_rate=7200,model="+sataModel+",serial="+sataSerial, "-drive",
		drive("nvme", 32*megabyte), "-device", "nvme,id=heron,serial=HYNV0001", "-device",
		"nvme-ns,drive=nvme,bus=heron,nsid=1,eui64="+nvmeEUI+",uuid="+nvmeUUID, "-drive", drive("virtual", 24*megabyte),
		"-device", "virtio-blk-pci,drive=virtual,serial=HYVD0001", "-device", "virtio-scsi-pci,id=scsi", "-drive",
		drive("scsi", 48*megabyte), "-device", "scsi-hd,drive=scsi,bus=scsi.0,serial=HYSC0001,vendor=OSPRIL,product=VMSAS",
		"-blockdev",
		"driver=raw,node-name=dual,file.driver=file,file.locking=off,file.filename="+disk(t, dir, "dual", 40*megabyte), "-device",
		"scsi-hd,id=patha,drive=dual,share-rw=on,bus=scsi.0,serial=HYDP0001,wwn=0x500005e000000001,vendor=OSPRIL,"+
			"product=TWOPORT,rotation_rate=7200",
		"-device",
		"scsi-hd,id=pathb,drive=dual,share-rw=on,bus=scsi.0,serial=HYDP0001,wwn=0x500005e000000001,vendor=OSPRIL,"+
			"product=TWOPORT,rotation_rate=7200",
		"-device", "qemu-xhci,id=xhci", "-blockdev",
		"driver=raw,node-name=usb,file.driver=file,file.filename="+disk(t, dir, "usb", 16*megabyte), "-device",
		"usb-storage,id=stick,bus=xhci.0,port=1,drive=usb,serial=HYUS0001",
	)
}

// start boots the machine with these devices and waits for its shell.
func start(t *testing.T, dir string, devices ...string) *machine {
	t.Helper()
	return startWith(t, dir, "", devices...)
}

// startWith is start with more on the kernel's command line.
func startWith(t *testing.T, dir, more string, devices ...string) *machine {
	t.Helper()
	built, err := filepath.Abs("../../build/vm")
	require.NoError(t, err)
	m := &machine{t: t, log: filepath.Join(dir, "kernel.log")}
	shell, monitor := filepath.Join(dir, "shell"), filepath.Join(dir, "monitor")
	cmd := exec.CommandContext(t.Context(), "qemu-system-x86_64", append([]string{
		"-accel",
		"tcg,thread=multi",
		"-smp",
		"2",
		"-m",
		"768", // its files lie in it, and two services with a process for each drive run at once
		"-display",
		"none",
		"-no-reboot",
		"-nodefaults",
		"-kernel",
		filepath.Join(built, "vmlinuz"),
		"-initrd",
		filepath.Join(built, "initramfs.gz"),
		"-append",
		"console=ttyS0 panic=-1 loglevel=6 " + more,
		"-serial",
		"file:" + m.log,
		"-serial",
		"unix:" + shell + ",server=on,wait=on",
		"-monitor",
		"unix:" + monitor + ",server=on,wait=off",
	}, devices...)...)
	cmd.Stderr = os.Stderr
	cmd.Cancel = func() error { return cmd.Process.Kill() }
	require.NoError(t, cmd.Start(), "QEMU is installed by test/vm/prepare.sh")
	t.Cleanup(func() {
		if t.Failed() {
			kernel, _ := os.ReadFile(m.log)
			t.Logf("the kernel said:\n%s", kernel[max(0, len(kernel)-6000):])
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	m.shell, m.monitor = dial(t, shell), dial(t, monitor)
	m.lines = bufio.NewReaderSize(m.shell, 1<<20)
	require.NoError(t, m.shell.SetReadDeadline(time.Now().Add(5*time.Minute)))
	for {
		line, err := m.lines.ReadString('\n')
		require.NoError(t, err, "the virtual machine did not boot")
		if strings.HasPrefix(line, "@@ ready") {
			return m
		}
	}
}

func dial(t *testing.T, path string) net.Conn {
	t.Helper()
	var d net.Dialer
	var last error
	for range 100 {
		c, err := d.DialContext(t.Context(), "unix", path)
		if err == nil {
			t.Cleanup(func() { _ = c.Close() })
			return c
		}
		last = err
		time.Sleep(100 * time.Millisecond) // another process makes the socket
	}
	require.NoError(t, last)
	return nil
}

// sh carries out a line in the machine's shell and gives its output and exit status.
func (m *machine) sh(line string) (string, int) {
	m.t.Helper()
	_, err := fmt.Fprintln(m.shell, line)
	require.NoError(m.t, err)
	require.NoError(m.t, m.shell.SetReadDeadline(time.Now().Add(10*time.Minute))) // the host may be busy with others
	var out strings.Builder
	for {
		got, err := m.lines.ReadString('\n')
		require.NoError(m.t, err, "no answer to %q; so far: %s", line, out.String())
		if status, ok := strings.CutPrefix(strings.TrimRight(got, "\r\n"), "@@ "); ok {
			code, err := strconv.Atoi(status)
			require.NoError(m.t, err)
			return out.String(), code
		}
		out.WriteString(got)
	}
}

// hylostat runs the command line inside and reads its JSON; the exit code must be the one given.
func (m *machine) hylostat(into any, code int, args string) string {
	m.t.Helper()
	out, got := m.sh("hylostat --by Dov --json " + args)
	require.Equal(m.t, code, got, "hylostat %s: %s", args, out)
	if into != nil {
		require.NoError(m.t, json.Unmarshal([]byte(out), into), "hylostat %s: %s", args, out)
	}
	return out
}

// tell gives QEMU's monitor a command.
func (m *machine) tell(command string) {
	m.t.Helper()
	_, err := fmt.Fprintln(m.monitor, command)
	require.NoError(m.t, err)
}

// eventually waits for something the machine needs a moment for.
func eventually(ctx context.Context, t *testing.T, what string, f func() bool) {
	t.Helper()
	limit, cancel := context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	for !f() {
		select {
		case <-limit.Done():
			require.Fail(t, "did not happen within 3 min: "+what)
		case <-time.After(300 * time.Millisecond):
		}
	}
}
