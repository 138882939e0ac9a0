//go:build vm

package vm

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
)

func byTransport(all []contract.Bay, transport string) *contract.Bay {
	for i := range all {
		if a := all[i].Attached; a != nil && a.Transport == transport {
			return &all[i]
		}
	}
	return nil
}

// TestRealKernel is one life of a bench on a real kernel: its steps build on one another.
func TestRealKernel(t *testing.T) {
	m := boot(t)
	out, _ := m.sh("hylostat serve --create --data /data --shop 'Saltmarsh Lane' --bench vm > /tmp/serve.log 2>&1 & " +
		"sleep 1; hylostat --version")
	t.Log(strings.TrimSpace(out))
	bays := func() (all []contract.Bay) { m.hylostat(&all, 0, "bay list"); return all }
	seen := ""
	defer func() {
		if t.Failed() {
			t.Logf("the bench at last:\n%s", seen)
		}
	}()
	eventually(t.Context(), t, "seven devices found", func() bool {
		out, code := m.sh("hylostat --json bay list")
		seen, _ = m.sh("hylostat bay list; tail -5 /tmp/serve.log; ls /sys/block /sys/class/nvme")
		return code == 0 && strings.Count(out, `"node"`) == 7 && strings.Contains(out, sataSerial) && strings.Contains(out, "HYNV0001")
	})
	sata := byTransport(bays(), "SATA")
	require.NotNil(t, sata)
	bay := sata.Number

	t.Run("the AHCI disk is identified as QEMU was told", func(t *testing.T) {
		var d contract.Drive
		m.hylostat(&d, 0, "drive show "+sataSerial[4:])
		assert.Equal(t, sataSerial, d.Serial)
		assert.Equal(t, sataModel, d.Model)
		assert.EqualValues(t, 64*megabyte, *d.Bytes)
		assert.Equal(t, 7200, *d.RotationRate)
		assert.Equal(t, contract.BayName{Number: bay}, *d.Bay)
		assert.True(t, d.Smart.Enabled)
	})
	t.Run("its temperature is what its attribute 190 says", func(t *testing.T) {
		var r contract.Reading
		m.hylostat(&r, 0, "reading take bay-"+itoa(bay))
		require.NotNil(t, r.Temperature)
		assert.EqualValues(t, 31, *r.Temperature)
		assert.Equal(t, contract.ReadingAlarmNotRaised, r.Alarm)
		for _, f := range r.Faults { // this disk has no log directory, so no statistics; all else is whole
			assert.Contains(t, []string{"ata/log-00", "ata/log-04"}, *f.Page, f.Back)
		}
	})
	t.Run("a quick check finds its short self-test in the drive's log", func(t *testing.T) {
		var run contract.Run
		m.hylostat(&run, 0, "check quick "+sataSerial+" --follow")
		require.NotNil(t, run.Outcome)
		assert.Equal(t, contract.RunOutcomePassed, *run.Outcome)
		assert.Equal(t, "passed", run.Steps[1].Note.Words)
		var r contract.Reading
		m.hylostat(&r, 0, "reading show "+sataSerial)
		require.NotEmpty(t, r.SelfTests)
		assert.Equal(t, "short", r.SelfTests[0].Kind)
		assert.Equal(t, "passed", r.SelfTests[0].Result)
	})
	t.Run("a self-test the bench watched is evidence, whatever hour the drive stamps it with", func(t *testing.T) {
		var r contract.Reading
		m.hylostat(&r, 0, "reading show "+sataSerial)
		require.NotNil(t, r.Hours)
		require.NotEmpty(t, r.SelfTests)
		t.Logf("stamped at hour %d, in hour %v of its life", r.SelfTests[0].Hours, *r.Hours)
		assert.Greater(t, float64(r.SelfTests[0].Hours), *r.Hours+1000, "QEMU's disk stamps an hour of its own making")
		var v contract.Verdict
		m.hylostat(&v, 0, "verdict show "+sataSerial)
		for _, missing := range v.Missing {
			assert.NotContains(t, missing.Id, "short-test")
		}
		said := false
		for _, f := range append(v.Findings, v.Notes...) {
			assert.NotContains(t, f.Sentence, "tampered", "a habit of its firmware comes before a suspicion")
			said = said || f.Rule == "stamp-habit"
		}
		assert.True(t, said, "and it is told")
	})
	t.Run("a virtio disk is told as what it is", func(t *testing.T) {
		b := byTransport(bays(), "virtual")
		require.NotNil(t, b)
		require.NotNil(t, b.Fault)
		assert.Contains(t, b.Doing.Words+b.Fault.Back, "virtual")
		assert.NotContains(t, b.Doing.Words+b.Fault.Back+b.Fault.Advice, "root")
	})
	t.Run("it gets a verdict and a signature", func(t *testing.T) {
		var v contract.Verdict
		m.hylostat(&v, 0, "verdict show "+sataSerial)
		assert.Equal(t, contract.GradeUndecided, v.Grade, "no extended self-test is in its log")
		assert.NotEmpty(t, v.Missing)
		m.hylostat(&v, 0, "verdict sign "+sataSerial+" --overrule degrading --reason 'a disk for trials'")
		require.NotNil(t, v.Signed)
		assert.True(t, v.Signed.Overruled)
	})
	t.Run("the NVMe disk is read: identity, health log, and the temperature the kernel sees", func(t *testing.T) {
		var d contract.Drive
		m.hylostat(&d, 0, "drive show HYNV0001")
		assert.Equal(t, contract.DriveInterfaceNvme, d.Interface)
		assert.EqualValues(t, 32*megabyte, *d.Bytes)
		var r contract.Reading
		m.hylostat(&r, 0, "reading take HYNV0001")
		kernel, code := m.sh("cat /sys/class/hwmon/hwmon*/temp1_input | head -1")
		require.Zero(t, code, kernel)
		milli, err := strconv.Atoi(strings.TrimSpace(kernel))
		require.NoError(t, err, kernel)
		require.NotNil(t, r.Temperature)
		assert.EqualValues(
			t, (milli+273_150)/1000-273, *r.Temperature, "the kernel's own reading of the same sensor, whose 0 °C are 273.15 K",
		)
		assert.Equal(t, "none", fact(t, r, "nvme/log-02", "Critical warning"))
		assert.NotEmpty(t, fact(t, r, "nvme/namespace-1", "Size"))
		assert.Contains(t, fact(t, r, "nvme/namespace-1", "EUI-64"), "00005e0000000a01")
		assert.Contains(t, fact(t, r, "nvme/names-1", "UUID"), nvmeUUID)
		for _, f := range r.Faults { // the emulated controller refuses these logs, and says so
			assert.Equal(t, "refused", f.Class, "%s: %s", f.What, f.Back)
		}
	})
	t.Run("what the monitor sets in its health log arrives, and decides", func(t *testing.T) {
		m.tell("qom-set /machine/peripheral/heron smart_critical_warning 4")
		var r contract.Reading
		eventually(t.Context(), t, "the warning", func() bool {
			m.hylostat(&r, 0, "reading take HYNV0001")
			return strings.Contains(fact(t, r, "nvme/log-02", "Critical warning"), "reliability is degraded")
		})
		var v contract.Verdict
		m.hylostat(&v, 0, "verdict show HYNV0001")
		assert.Equal(t, contract.GradeReplace, v.Grade)
		m.tell("qom-set /machine/peripheral/heron smart_critical_warning 0")
	})
	t.Run("the SCSI disk is identified, and what it does not count is said", func(t *testing.T) {
		var d contract.Drive
		m.hylostat(&d, 0, "drive show HYSC0001")
		assert.Equal(t, "OSPRIL VMSAS", d.Model)
		assert.Equal(t, contract.DriveInterfaceScsi, d.Interface)
		assert.EqualValues(t, 48*megabyte, *d.Bytes)
		var r contract.Reading
		m.hylostat(&r, 0, "reading show HYSC0001")
		assert.Nil(t, r.Temperature)
		assert.NotEmpty(t, r.Faults, "no log pages: each is a fact with its reason")
		for _, f := range r.Faults {
			assert.NotEmpty(t, f.Advice)
		}
	})
	t.Run("the USB disk is a fact about its adapter", func(t *testing.T) {
		b := byTransport(bays(), "USB")
		require.NotNil(t, b)
		assert.Equal(t, contract.BayConnectionUnread, b.Connection)
		assert.Equal(t, "Counters not read: the adapter passes none.", b.Doing.Words)
		assert.Contains(t, b.Fault.Back, "does not pass ATA commands")
		assert.Equal(t, "not_passed", b.Fault.Class)
		assert.Contains(t, b.Fault.Advice, "Try a direct port")
	})
	t.Run("a drive on two paths is one drive", func(t *testing.T) {
		var d contract.Drive
		m.hylostat(&d, 0, "drive show HYDP0001")
		require.NotNil(t, d.OtherBays)
		assert.Len(t, *d.OtherBays, 1)
		assert.Equal(t, "500005e000000001", *d.Wwn)
		var all []contract.Drive
		m.hylostat(&all, 0, "drive list HYDP0001")
		assert.Len(t, all, 1)
		assert.Contains(t, bays()[(*d.OtherBays)[0].Number-1].Doing.Words, "by another path")
	})
	t.Run("scsi_debug's temperature and informational exceptions are read", func(t *testing.T) {
		_, code := m.sh("insmod /lib/scsi_debug.ko dev_size_mb=8")
		require.Zero(t, code)
		var found contract.Bay
		eventually(t.Context(), t, "the disk of scsi_debug", func() bool {
			for _, b := range bays() {
				if b.Drive != nil && strings.Contains(b.Drive.Model, "scsi_debug") {
					found = b
					return true
				}
			}
			return false
		})
		var r contract.Reading
		m.hylostat(&r, 0, "reading take bay-"+itoa(found.Number))
		require.NotNil(t, r.Temperature)
		assert.EqualValues(t, 38, *r.Temperature)
		assert.Equal(t, "not raised", fact(t, r, "scsi/log-2f", "The drive's own alarm"))
		m.sh("rmmod scsi_debug")
	})
	t.Run("reading harms nothing: no write reaches a disk and no partition table is read again", func(t *testing.T) {
		node := byTransport(bays(), "SATA").Attached.Node
		out, _ := m.sh(
			"printf 'n\\np\\n1\\n\\n\\nw\\n' | fdisk /dev/" + node + " >/dev/null 2>&1; ls /sys/block/" + node + " | grep -c " + node + "1",
		)
		require.Equal(t, "1", strings.TrimSpace(out), "the disk has a partition, so that reading its table again would show")
		m.sh("sleep 1")
		writes := func() string { // writes completed and sectors written, discards, flushes of every disk
			out, _ := m.sh(
				"for d in /sys/block/sd* /sys/block/nvme*; do awk -v d=$d '{print d, $5, $7, $12, $16}' $d/stat; done; " +
					"cat /sys/kernel/uevent_seqnum; dmesg | grep -c 'p1\\| " + node + "1'",
			)
			return out
		}
		before := writes()
		for _, name := range []string{sataSerial, "HYNV0001", "HYSC0001", "HYDP0001"} {
			m.hylostat(nil, 0, "reading take "+name)
		}
		m.sh("hylostat record capture -o /tmp/all.json")
		assert.Equal(t, before, writes())
	})
	t.Run("a drive whose data is at risk refuses writing until the copy is recorded", func(t *testing.T) {
		node := byTransport(bays(), "SATA").Attached.Node
		m.hylostat(nil, 0, "intake "+itoa(bay)+" --wanted --complaint 'not found'")
		out, _ := m.sh("cat /sys/block/" + node + "/ro; dd if=/dev/zero of=/dev/" + node + " bs=512 count=1 2>&1")
		assert.True(t, strings.HasPrefix(out, "1"), out)
		assert.Contains(t, out, "not permitted")
		assert.True(t, *bays()[bay-1].WriteProtected)
		m.hylostat(nil, 0, "bay copied "+itoa(bay))
		out, _ = m.sh("cat /sys/block/" + node + "/ro")
		assert.Equal(t, "0", strings.TrimSpace(out))
	})
	t.Run("a record file from the same drives, taken in, is the same drives", func(t *testing.T) {
		out, code := m.sh(
			"hylostat record capture " + byTransport(bays(), "SATA").Attached.Node + " /dev/" + byTransport(
				bays(), "NVMe",
			).Attached.Node + " -o /tmp/two.json",
		)
		require.Zero(t, code, out)
		assert.Contains(t, out, "2 of 2 drives written to /tmp/two.json")
		var done contract.ImportResult
		m.hylostat(&done, 0, "record import /tmp/two.json")
		require.Len(t, done.Drives, 2)
		assert.Equal(t, 1, done.Drives[0].Readings)
		m.hylostat(&done, 0, "record import /tmp/two.json")
		assert.Equal(t, 1, done.Drives[0].Known)
		assert.Zero(t, done.Drives[0].Readings)
	})
	t.Run("the devices conform", func(t *testing.T) {
		for _, transport := range []string{"SATA", "NVMe", "SCSI"} {
			out, code := m.sh("hylostat-conform " + byTransport(bays(), transport).Attached.Node)
			assert.Zero(t, code, "%s: %s", transport, out)
		}
	})
	t.Run("a pulled AHCI disk leaves its bay and comes back as the same drive", func(t *testing.T) {
		_, code := m.sh("echo 1 > /sys/block/" + sata.Attached.Node + "/device/delete")
		require.Zero(t, code)
		eventually(t.Context(), t, "the bay is empty", func() bool { return bays()[bay-1].Connection == contract.BayConnectionEmpty })
		m.hylostat(nil, 4, "reading take "+sataSerial)
		m.hylostat(nil, 0, "bay try "+itoa(bay)) // rescans the host
		eventually(
			t.Context(), t, "the drive is back",
			func() bool { b := bays()[bay-1]; return b.Drive != nil && b.Drive.Serial == sataSerial },
		)
		var d contract.Drive
		m.hylostat(&d, 0, "drive show "+sataSerial)
		assert.Greater(t, d.Readings, 3, "its history goes on")
		assert.Equal(t, contract.BayName{Number: bay}, *d.Bay)
	})
	t.Run("a pulled USB disk leaves its bay and comes back into the same one", func(t *testing.T) {
		number := byTransport(bays(), "USB").Number
		m.tell("device_del stick")
		eventually(t.Context(), t, "the bay is empty", func() bool { return bays()[number-1].Connection == contract.BayConnectionEmpty })
		m.tell("device_add usb-storage,id=stick,bus=xhci.0,port=1,drive=usb,serial=HYUS0001")
		eventually(t.Context(), t, "the disk is back", func() bool {
			b := bays()[number-1]
			return b.Attached != nil && strings.Contains(*b.Attached.Serial, "HYUS0001")
		})
	})
	t.Run("a disk used as swap space is said to be in use", func(t *testing.T) {
		node := byTransport(bays(), "SCSI").Attached.Node
		_, code := m.sh("mkswap /dev/" + node + " >/dev/null && swapon /dev/" + node)
		require.Zero(t, code)
		m.hylostat(nil, 0, "bay try "+itoa(byTransport(bays(), "SCSI").Number))
		eventually(t.Context(), t, "in use", func() bool {
			a := byTransport(bays(), "SCSI").Attached
			return a.InUse != nil && *a.InUse == "swap space"
		})
	})
	t.Run("a full disk is said, loses nothing, and is over when there is room", func(t *testing.T) {
		out, code := m.sh("du -k /data/*.db*; mkdir /small && mount -t tmpfs -o size=24m tmpfs /small && cp /data/*.db* /small/")
		require.Zero(t, code, out)
		m.sh("hylostat serve --data /small --bench vm --listen 127.0.0.1:9000 > /tmp/small.log 2>&1 & sleep 3")
		var before, after contract.Drive
		m.hylostat(&before, 0, "--service http://127.0.0.1:9000 drive show "+sataSerial)
		m.sh("dd if=/dev/zero of=/small/fill bs=4k 2>/dev/null; sync")
		for n := range 40 { // what is left in the databases' own pages is used up first
			if out, code = m.sh(
				"hylostat --by Dov --service http://127.0.0.1:9000 intake change 1 --complaint " + strings.Repeat(string(rune('A'+n)), 400),
			); code != 0 {
				break
			}
		}
		assert.Contains(t, out, "no room left on its disk")
		m.hylostat(nil, 0, "--service http://127.0.0.1:9000 drive show "+sataSerial)
		m.sh("rm /small/fill")
		t.Cleanup(func() {
			if t.Failed() {
				said, _ := m.sh("df -k /small; ls -l /small; tail -n 20 /tmp/small.log")
				t.Logf("%s\n%s", out, said)
			}
		})
		eventually(t.Context(), t, "there is room again", func() bool {
			out, code = m.sh("hylostat --by Dov --service http://127.0.0.1:9000 reading take bay-" + itoa(bay) + " 2>&1")
			return code == 0
		})
		m.hylostat(&after, 0, "--service http://127.0.0.1:9000 drive show "+sataSerial)
		assert.Greater(t, after.Readings, before.Readings)
	})
	t.Run("killed and restarted, the service has lost nothing", func(t *testing.T) {
		var before, after contract.Drive
		m.hylostat(&before, 0, "drive show "+sataSerial)
		m.sh("killall -9 hylostat; sleep 1; hylostat serve --data /data --bench vm > /tmp/serve2.log 2>&1 & sleep 2")
		eventually(
			t.Context(), t, "the service is back",
			func() bool { _, code := m.sh("hylostat --json drive show " + sataSerial); return code == 0 },
		)
		m.hylostat(&after, 0, "drive show "+sataSerial)
		assert.GreaterOrEqual(t, after.Readings, before.Readings)
	})
}

// fact is what a page of a reading says under a name; empty when it says nothing.
func fact(t *testing.T, r contract.Reading, page, name string) string {
	t.Helper()
	for _, s := range r.Sheets {
		for _, f := range s.Facts {
			if s.Page == page && f.Name == name && f.Value != nil {
				return *f.Value
			}
		}
	}
	return ""
}

func itoa(n int) string { return strconv.Itoa(n) }
