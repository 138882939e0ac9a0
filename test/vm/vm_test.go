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
	out, _ := m.sh("hylostat serve --data /data --shop 'Saltmarsh Lane' --bench vm > /tmp/serve.log 2>&1 & sleep 1; hylostat --version")
	t.Log(strings.TrimSpace(out))
	bays := func() (all []contract.Bay) { m.hylostat(&all, 0, "bay list"); return all }
	eventually(t.Context(), t, "four drives found", func() bool {
		out, code := m.sh("hylostat --json bay list")
		return code == 0 && strings.Count(out, `"node"`) == 4 && strings.Contains(out, sataSerial)
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
		assert.Equal(t, bay, *d.Bay)
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
		assert.Equal(t, "passed", *run.Steps[1].Note)
		var r contract.Reading
		m.hylostat(&r, 0, "reading show "+sataSerial)
		require.NotEmpty(t, r.SelfTests)
		assert.Equal(t, "short", r.SelfTests[0].Kind)
		assert.Equal(t, "passed", r.SelfTests[0].Result)
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
	t.Run("the others are listed as what they are, with why their counters are not read", func(t *testing.T) {
		all := bays()
		for transport, want := range map[string]struct{ serial, why string }{
			"NVMe": {"HYNV0001", "does not read NVMe drives yet"}, "SCSI": {"HYSC0001", "does not read SCSI drives yet"}, "USB": {"HYUS0001", "does not pass ATA commands"},
		} {
			b := byTransport(all, transport)
			if assert.NotNil(t, b, transport) {
				assert.Equal(t, contract.BayConnectionUnread, b.Connection, transport)
				assert.Contains(t, b.Doing, "Counters not read yet", transport)
				assert.Contains(t, b.Doing, want.why, transport)
				assert.Contains(t, *b.Attached.Serial, want.serial, transport)
			}
		}
	})
	t.Run("the device conforms", func(t *testing.T) {
		out, code := m.sh("hylostat-conform " + sata.Attached.Node)
		assert.Zero(t, code, out)
	})
	t.Run("a pulled AHCI disk leaves its bay and comes back as the same drive", func(t *testing.T) {
		_, code := m.sh("echo 1 > /sys/block/" + sata.Attached.Node + "/device/delete")
		require.Zero(t, code)
		eventually(t.Context(), t, "the bay is empty", func() bool { return bays()[bay-1].Connection == contract.BayConnectionEmpty })
		m.hylostat(nil, 4, "reading take "+sataSerial)
		m.hylostat(nil, 0, "bay try "+itoa(bay)) // rescans the host
		eventually(t.Context(), t, "the drive is back", func() bool { b := bays()[bay-1]; return b.Drive != nil && b.Drive.Serial == sataSerial })
		var d contract.Drive
		m.hylostat(&d, 0, "drive show "+sataSerial)
		assert.Greater(t, d.Readings, 3, "its history goes on")
		assert.Equal(t, bay, *d.Bay)
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
		_, code := m.sh("mkdir /small && mount -t tmpfs -o size=4m tmpfs /small && cp /data/*.db* /small/ && cp -r /data /small/none 2>/dev/null; rm -rf /small/none; mount | grep -q /small")
		require.Zero(t, code)
		m.sh("hylostat serve --data /small --bench vm --listen 127.0.0.1:9000 > /tmp/small.log 2>&1 & sleep 3")
		var before, after contract.Drive
		m.hylostat(&before, 0, "--service http://127.0.0.1:9000 drive show "+sataSerial)
		m.sh("dd if=/dev/zero of=/small/fill bs=4k 2>/dev/null; sync")
		out := ""
		for range 40 { // what is left in the databases' own pages is used up first
			var code int
			if out, code = m.sh("hylostat --by Dov --service http://127.0.0.1:9000 intake " + itoa(bay) + " --complaint " + strings.Repeat("x", 400)); code != 0 {
				break
			}
		}
		assert.Contains(t, out, "no room left on its disk")
		m.hylostat(nil, 0, "--service http://127.0.0.1:9000 drive show "+sataSerial)
		m.sh("rm /small/fill")
		eventually(t.Context(), t, "there is room again", func() bool {
			_, code := m.sh("hylostat --by Dov --service http://127.0.0.1:9000 reading take bay-" + itoa(bay))
			return code == 0
		})
		m.hylostat(&after, 0, "--service http://127.0.0.1:9000 drive show "+sataSerial)
		assert.Greater(t, after.Readings, before.Readings)
	})
	t.Run("killed and restarted, the service has lost nothing", func(t *testing.T) {
		var before, after contract.Drive
		m.hylostat(&before, 0, "drive show "+sataSerial)
		m.sh("killall -9 hylostat; sleep 1; hylostat serve --data /data --bench vm > /tmp/serve2.log 2>&1 & sleep 2")
		eventually(t.Context(), t, "the service is back", func() bool { _, code := m.sh("hylostat --json drive show " + sataSerial); return code == 0 })
		m.hylostat(&after, 0, "drive show "+sataSerial)
		assert.GreaterOrEqual(t, after.Readings, before.Readings)
	})
}

func itoa(n int) string { return strconv.Itoa(n) }
