//go:build vm

package vm

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
)

// swept is how big the swept disks are: so big that what the kernel takes for each failed read, some tenths of a second and on AHCI a
// reset of the port, does not outweigh the sweep, as it does not on a real drive.
var swept = map[string]int64{"SATA": 2 << 30, "NVME": 4 << 30, "SCSI": 4 << 30}

// planted makes an image whose reads fail at these sectors, by QEMU's blkdebug.
func planted(t *testing.T, dir, name string, size int64, sectors []int64) string {
	t.Helper()
	var rules strings.Builder
	for _, s := range sectors {
		fmt.Fprintf(&rules, "[inject-error]\nevent = \"read_aio\"\niotype = \"read\"\nerrno = \"61\"\nsector = \"%d\"\n\n", s)
	}
	config := filepath.Join(dir, name+".conf")
	require.NoError(t, os.WriteFile(config, []byte(rules.String()), 0o600))
	return fmt.Sprintf(
		"driver=raw,node-name=%s,file.driver=blkdebug,file.config=%s,file.image.driver=file,file.image.filename=%s", name, config,
		disk(t, dir, name, size),
	)
}

// scattered draws sectors at random, some of them neighbours.
func scattered(seed uint64, size int64) []int64 {
	r := rand.New(rand.NewPCG(seed, 61))
	all := []int64{0, size/512 - 1}
	for range 4 {
		at := r.Int64N(size/512 - 8)
		all = append(all, at)
		for n := range int64(r.IntN(3)) {
			all = append(all, at+1+n)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// TestSweepsOnARealKernel plants unreadable sectors where the kernel meets them, and wants each of them found, and no other.
func TestSweepsOnARealKernel(t *testing.T) {
	dir := t.TempDir()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	bad := map[string][]int64{
		"HYSWSATA1": scattered(seed, swept["SATA"]),
		"HYSWNVME1": scattered(seed+1, swept["NVME"]),
		"HYSWSCSI1": scattered(seed+2, swept["SCSI"]),
	}
	m := start(
		t, dir, "-device", "ahci,id=ahci", "-blockdev", planted(t, dir, "sata1", swept["SATA"], bad["HYSWSATA1"]), "-device",
		"ide-hd,drive=sata1,bus=ahci.0,model=KORVAN SWEEP,serial=HYSWSATA1", "-blockdev",
		planted(t, dir, "sata2", swept["SATA"], nil), "-device",
		"ide-hd,drive=sata2,bus=ahci.1,model=KORVAN SWEEP,serial=HYSWSATA2", "-blockdev",
		planted(t, dir, "nvme1", swept["NVME"], bad["HYSWNVME1"]), "-device", "nvme,drive=nvme1,serial=HYSWNVME1", "-blockdev",
		planted(t, dir, "nvme2", swept["NVME"], nil), "-device", "nvme,drive=nvme2,serial=HYSWNVME2", "-device",
		"virtio-scsi-pci,id=scsi", "-blockdev", planted(t, dir, "scsi1", swept["SCSI"], bad["HYSWSCSI1"]), "-device",
		"scsi-hd,drive=scsi1,bus=scsi.0,serial=HYSWSCSI1,vendor=OSPRIL,product=SWEEP", "-blockdev",
		planted(t, dir, "scsi2", swept["SCSI"], nil), "-device",
		"scsi-hd,drive=scsi2,bus=scsi.0,serial=HYSWSCSI2,vendor=OSPRIL,product=SWEEP",
	)
	m.sh("hylostat serve --create --data /data --shop 'Saltmarsh Lane' --bench vm > /tmp/serve.log 2>&1 & sleep 1")
	eventually(t.Context(), t, "six drives", func() bool {
		out, code := m.sh("hylostat --json bay list")
		return code == 0 && strings.Count(out, `"connection": "answering"`) == 6
	})
	took := map[string]time.Duration{}
	sweep := func(t *testing.T, serial string, code int) contract.Sweep {
		t.Helper()
		var r contract.Run
		m.hylostat(&r, code, "sweep whole "+serial+" --follow 2>/dev/null")
		var s contract.Sweep
		m.hylostat(&s, 0, fmt.Sprintf("sweep show %d", r.Id))
		took[serial] = s.Ended.Sub(s.Began)
		t.Logf("%s: %s, %.0f MB/s", serial, took[serial], float64(swept[serial[4:8]])/1e6/took[serial].Seconds())
		return s
	}
	for _, row := range []struct{ kind, cause string }{
		{"SATA", "unreadable, cause not given"}, {"NVME", "unreadable"}, {"SCSI", "unreadable"},
	} {
		t.Run(row.kind, func(t *testing.T) {
			clean := sweep(t, "HYSW"+row.kind+"2", 0)
			assert.Empty(t, clean.Ranges)
			assert.InDelta(t, 1, clean.Standing.Share, 1e-9)
			serial := "HYSW" + row.kind + "1"
			s := sweep(t, serial, 6)
			var found []int64
			for _, r := range s.Ranges {
				assert.Equal(t, row.cause, r.Cause)
				for n := range r.Sectors {
					found = append(found, r.Lba+n)
				}
			}
			assert.Equal(t, bad[serial], found, "exactly the planted sectors")
			assert.EqualValues(t, len(bad[serial]), s.Standing.Unreadable)
			assert.Zero(t, s.Standing.Confirmed, "nothing is slow")
			t.Logf(
				"%d sectors found in %.2f of the time of a clean sweep", len(found),
				took[serial].Seconds()/took["HYSW"+row.kind+"2"].Seconds(),
			)
		})
	}
}

// TestSlowPlacesOnARealKernel lays device-mapper's delay over regions of a disk and wants each found, and none on a disk
// without, swept again and again while the machine is busy.
func TestSlowPlacesOnARealKernel(t *testing.T) {
	dir := t.TempDir()
	plain := func(name string, size int64) string {
		return fmt.Sprintf("driver=raw,node-name=%s,file.driver=file,file.filename=%s", name, disk(t, dir, name, size))
	}
	m := start(
		t, dir, "-device", "virtio-scsi-pci,id=scsi", "-blockdev", plain("slow", 512<<20), "-device",
		"scsi-hd,drive=slow,bus=scsi.0,serial=HYSLOW01,vendor=OSPRIL,product=SLOW", "-blockdev", plain("clean", 512<<20),
		"-device", "scsi-hd,drive=clean,bus=scsi.0,serial=HYCLEAN01,vendor=OSPRIL,product=CLEAN", "-blockdev",
		plain("fast", 1<<30), "-device", "nvme,drive=fast,serial=HYFAST01",
	)
	const sectors = int64(512<<20) / 512
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 7))
	var slow []int64 // first LBAs of regions of 2 MiB, each in a stretch of its own
	for n := range int64(3) {
		slow = append(slow, (n*sectors/3+r.Int64N(sectors/3-8192))/8*8)
	}
	node := func(serial string) string {
		out, _ := m.sh("for d in /sys/block/sd*; do grep -q " + serial + " $d/device/vpd_pg80 && basename $d; done")
		return strings.TrimSpace(out)
	}
	table, at := "", int64(0)
	for _, s := range slow {
		table += fmt.Sprintf("%d %d linear /dev/%[3]s %[1]d\\n%[4]d 4096 delay /dev/%[3]s %[4]d 400\\n", at, s-at, node("HYSLOW01"), s)
		at = s + 4096
	}
	table += fmt.Sprintf("%d %d linear /dev/%s %[1]d\\n", at, sectors-at, node("HYSLOW01"))
	out, code := m.sh("printf '" + table + "' | dmsetup --noudevsync create slow; ls -l /dev/mapper /dev/dm-0")
	require.Zero(t, code, out)
	m.sh("hylostat serve --create --data /data --shop 'Saltmarsh Lane' --bench vm --bay-image /dev/dm-0 > /tmp/serve.log 2>&1 & sleep 1")
	eventually(t.Context(), t, "four drives", func() bool {
		out, code := m.sh("hylostat --json bay list")
		return code == 0 && strings.Count(out, `"connection": "answering"`) == 4
	})
	sweep := func(t *testing.T, serial string) (s contract.Sweep) {
		t.Helper()
		_, code := m.sh("hylostat --by Dov --json sweep whole " + serial + " --follow > /tmp/run.json 2>/dev/null")
		require.Contains(t, []int{0, 6}, code)
		var all []contract.SweepSummary
		m.hylostat(&all, 0, "sweep list "+serial)
		m.hylostat(&s, 0, fmt.Sprintf("sweep show %d", all[0].Run))
		return s
	}
	t.Run("every planted slow region is found, and nothing else", func(t *testing.T) {
		s := sweep(t, "dm-0")
		var found []int64
		for _, p := range s.Slow {
			if p.Again == nil || *p.Again < 3 {
				continue
			}
			hit := int64(-1)
			for _, want := range slow {
				if p.Lba < want+4096 && want < p.Lba+p.Sectors {
					hit = want
				}
			}
			assert.NotEqual(t, int64(-1), hit, "slow at LBA %d, where nothing was planted", p.Lba)
			found = append(found, hit)
		}
		assert.Equal(t, slow, slices.Compact(found))
	})
	t.Run("ten clean sweeps on a busy machine invent none", func(t *testing.T) {
		m.sh(
			"for n in 1 2 3; do (while [ ! -e /tmp/enough ]; do dd if=/dev/nvme0n1 of=/dev/null bs=64k count=2000 2>/dev/null; " +
				"done) >/dev/null 2>&1 & done",
		)
		for range 5 {
			for _, serial := range []string{"HYCLEAN01", "HYFAST01"} {
				s := sweep(t, serial)
				assert.Zero(t, s.Standing.Confirmed, "%s: %+v", serial, s.Slow)
				assert.Zero(t, s.Standing.Unreadable)
			}
		}
		m.sh("touch /tmp/enough")
	})
	t.Run("the NVMe disk is swept as fast as it can be read", func(t *testing.T) {
		m.sh("sleep 2")
		var ratios []float64
		for range 5 {
			out, _ := m.sh(
				"t=$(cut -d' ' -f1 /proc/uptime); dd if=/dev/nvme0n1 of=/dev/null bs=1M iflag=direct 2>/dev/null; " +
					"echo $t $(cut -d' ' -f1 /proc/uptime)",
			)
			var from, to float64
			_, err := fmt.Sscan(out, &from, &to)
			require.NoError(t, err, out)
			// Nobody follows it: on emulated processors whoever looks on takes part of the time.
			var started contract.Run
			m.hylostat(&started, 0, "sweep whole HYFAST01")
			var s contract.Sweep
			for s.Ended == nil {
				m.sh("sleep 2")
				m.hylostat(&s, 0, fmt.Sprintf("sweep show %d", started.Id))
			}
			ours := s.Ended.Sub(s.Began).Seconds()
			t.Logf("dd %.2f s, sweep %.2f s", to-from, ours)
			ratios = append(ratios, (to-from)/ours)
		}
		slices.Sort(ratios)
		t.Logf("checks.vm_nvme_sweep_to_dd %.2f (median of 5: %.2f)", ratios[2], ratios)
	})
	t.Run("the sectors scsi_debug cannot read are found exactly", func(t *testing.T) {
		_, code := m.sh("insmod /lib/scsi_debug.ko dev_size_mb=64 opts=2 medium_error_start=70001 medium_error_count=5")
		require.Zero(t, code)
		var serial string
		eventually(t.Context(), t, "the disk of scsi_debug", func() bool {
			var all []contract.Bay
			m.hylostat(&all, 0, "bay list")
			for _, b := range all {
				if b.Drive != nil && strings.Contains(b.Drive.Model, "scsi_debug") {
					serial = b.Drive.Serial
				}
			}
			return serial != ""
		})
		s := sweep(t, serial)
		var found []int64
		for _, r := range s.Ranges {
			assert.Equal(t, "unreadable", r.Cause)
			for n := range r.Sectors {
				found = append(found, r.Lba+n)
			}
		}
		assert.Equal(t, []int64{70_001, 70_002, 70_003, 70_004, 70_005}, found)
	})
}
