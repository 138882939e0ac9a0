//go:build vm

package vm

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
)

// healing makes an image in which one sector cannot be read until anything is written (QEMU's blkdebug): a drive that exchanges
// a sector when it is written. With nothing to heal it, it stays as it is.
func healing(t *testing.T, dir, name string, sector int64, heals bool) string {
	t.Helper()
	rules := fmt.Sprintf("[inject-error]\nevent = \"read_aio\"\niotype = \"read\"\nerrno = \"61\"\nsector = \"%d\"\n", sector)
	if heals {
		rules = fmt.Sprintf("[inject-error]\nevent = \"read_aio\"\niotype = \"read\"\nerrno = \"61\"\nstate = \"1\"\nsector = \"%d\"\n\n"+
			"[set-state]\nevent = \"write_aio\"\nstate = \"1\"\nnew_state = \"2\"\n\n"+
			"[inject-error]\nevent = \"read_aio\"\niotype = \"discard\"\nstate = \"2\"\nerrno = \"61\"\nsector = \"0\"\n", sector)
	}
	config := filepath.Join(dir, name+".conf")
	require.NoError(t, os.WriteFile(config, []byte(rules), 0o600))
	return fmt.Sprintf(
		"driver=raw,node-name=%s,file.driver=blkdebug,file.config=%s,file.image.driver=file,file.image.filename=%s", name, config,
		disk(t, dir, name, 64*megabyte),
	)
}

// sound makes an image that does as it is told.
func sound(t *testing.T, dir, name string) string {
	t.Helper()
	return fmt.Sprintf("driver=raw,node-name=%s,file.driver=file,file.filename=%s", name, disk(t, dir, name, 64*megabyte))
}

// TestReworkOnARealKernel writes to drives, and tries to write to those that are in use.
func TestReworkOnARealKernel(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const bad = 70_001
	m := start(
		t, dir, "-device", "virtio-scsi-pci,id=scsi", "-blockdev", healing(t, dir, "heals", bad, true), "-device",
		"scsi-hd,drive=heals,bus=scsi.0,serial=HYRWHEALS1,vendor=OSPRIL,product=REWORK", "-blockdev",
		healing(t, dir, "stays", bad, false), "-device",
		"scsi-hd,drive=stays,bus=scsi.0,serial=HYRWSTAYS1,vendor=OSPRIL,product=REWORK", "-blockdev", sound(t, dir, "sound"),
		"-device", "scsi-hd,id=leaves,drive=sound,bus=scsi.0,serial=HYRWSOUND1,vendor=OSPRIL,product=REWORK", "-device",
		"ahci,id=ahci", "-blockdev", healing(t, dir, "sata", bad, true), "-device",
		"ide-hd,drive=sata,bus=ahci.0,model=KORVAN REWORK,serial=HYRWSATA01", "-blockdev", sound(t, dir, "used"), "-device",
		"scsi-hd,drive=used,bus=scsi.0,serial=HYRWUSED01,vendor=OSPRIL,product=USED", "-blockdev", sound(t, dir, "nvme"),
		"-device", "nvme,drive=nvme,serial=HYRWNVME01",
	)
	serve := "hylostat serve --data /data --allow-rework --shop 'Saltmarsh Lane' --bench vm > /tmp/serve.log 2>&1 & sleep 1"
	out, code := m.sh("hylostat shop create --data /data")
	require.Zero(t, code, out)
	m.sh(serve)
	defer func() {
		if t.Failed() {
			out, _ := m.sh("timeout 20 hylostat bay list; killall -QUIT hylostat; sleep 1; tail -c 40000 /tmp/serve.log")
			t.Log(out)
		}
	}()
	eventually(t.Context(), t, "six drives", func() bool {
		out, code := m.sh("hylostat --json bay list")
		return code == 0 && strings.Count(out, `"connection": "answering"`) == 6
	})
	bays := func() (all []contract.Bay) { m.hylostat(&all, 0, "bay list"); return all }
	bayOf := func(serial string) contract.Bay {
		for _, b := range bays() {
			if b.Drive != nil && b.Drive.Serial == serial {
				return b
			}
		}
		require.Fail(t, "no bay holds "+serial)
		return contract.Bay{}
	}
	// prepared takes a drive in, has it released, and sweeps it.
	prepared := func(serial string, scope string, code int) {
		m.hylostat(nil, 0, "intake "+itoa(bayOf(serial).Number))
		m.hylostat(nil, 0, "release "+serial+" --scope "+scope+" --owner 'Orla Fenn, by phone'")
		m.hylostat(nil, code, "sweep whole "+serial+" --follow 2>/dev/null")
	}
	// released has a drive be released for one overwrite more, and gives its newest run: the next one is another.
	released := func(serial string) (newest int64) {
		m.hylostat(nil, 0, "release "+serial+" --scope overwrite --owner 'Orla Fenn, by phone'")
		var all []contract.Run
		m.hylostat(&all, 0, "run list "+serial)
		return all[0].Id
	}
	began := func(t *testing.T, serial string, after int64) {
		t.Helper()
		var all []contract.Run
		m.hylostat(&all, 0, "run list "+serial)
		require.Greater(t, all[0].Id, after, "it was ordered")
	}
	// kept wants the last overwrite of a drive to be read back as it was written. A place that was slow once is the host's doing.
	kept := func(t *testing.T, serial string) {
		t.Helper()
		var all []contract.Run
		m.hylostat(&all, 0, "run list "+serial)
		require.Equal(t, contract.RunKindOverwrite, all[0].Kind)
		assert.Equal(t, contract.RunOutcomePassed, *all[0].Outcome, all[0].Standing)
		for _, step := range all[0].Steps[1:3] {
			require.NotNil(t, step.Sweep, step.Kind)
			assert.InDelta(t, 1, step.Sweep.Share, 1e-9, step.Kind)
			assert.Nil(t, step.Sweep.Lost, step.Kind)
			assert.Zero(t, step.Sweep.Unreadable, step.Kind)
		}
	}
	refused := func(t *testing.T, why, args string) {
		t.Helper()
		out, code := m.sh("hylostat --by Dov rework " + args + " 2>&1")
		assert.Equal(t, 4, code, out)
		assert.Contains(t, out, why)
	}

	t.Run("a sector that heals when it is written is mended, on SCSI and behind AHCI", func(t *testing.T) {
		for _, serial := range []string{"HYRWHEALS1", "HYRWSATA01"} {
			prepared(serial, "mend", 6)
			var r contract.Run
			m.hylostat(&r, 0, "rework mend "+serial+" --serial "+serial+" --follow 2>/dev/null")
			assert.Equal(t, "1 sector cleared", r.Steps[1].Note.Words, serial)
			m.hylostat(&r, 0, "sweep whole "+serial+" --follow 2>/dev/null")
			assert.Equal(t, contract.RunOutcomePassed, *r.Outcome, "the whole surface can be read")
		}
	})
	t.Run("one that stays as it is is said not to be mended", func(t *testing.T) {
		prepared("HYRWSTAYS1", "mend", 6)
		var r contract.Run
		m.hylostat(&r, 6, "rework mend HYRWSTAYS1 --serial HYRWSTAYS1 --follow 2>/dev/null")
		assert.Equal(t, "1 sector still unreadable", r.Steps[1].Note.Words)
		var done contract.Rework
		m.hylostat(&done, 0, fmt.Sprintf("rework show %d", r.Id))
		assert.Nil(t, done.Held)
		assert.Contains(t, fmt.Sprint(done.Words), "Mending: 1 sector still unreadable.")
	})
	t.Run("a renewal leaves every byte as it was", func(t *testing.T) {
		prepared("HYRWSOUND1", "overwrite", 0)
		node := "/dev/" + bayOf("HYRWSOUND1").Attached.Node
		m.sh("dd if=/dev/urandom of=" + node + " bs=1M count=64 oflag=direct 2>/dev/null")
		before, _ := m.sh("dd if=" + node + " bs=1M iflag=direct 2>/dev/null | sha256sum")
		var r contract.Run
		m.hylostat(&r, 0, "rework renew HYRWSOUND1 --serial WSOUND1 --follow 2>/dev/null")
		assert.Equal(t, "everything was written back", r.Steps[1].Note.Words)
		assert.EqualValues(t, 64*megabyte/512, r.Steps[1].Sweep.Written.Sectors)
		after, _ := m.sh("dd if=" + node + " bs=1M iflag=direct 2>/dev/null | sha256sum")
		assert.Equal(t, before, after)
	})
	t.Run("an overwrite is read back, on SCSI and NVMe", func(t *testing.T) {
		prepared("HYRWNVME01", "overwrite", 0)
		for _, serial := range []string{"HYRWSOUND1", "HYRWNVME01"} {
			m.hylostat(nil, 0, "rework overwrite "+serial+" --serial "+serial+" --follow 2>/dev/null")
			kept(t, serial)
		}
	})
	t.Run("killed in the middle of an overwrite and started again, it is finished", func(t *testing.T) {
		before := released("HYRWSOUND1")
		m.sh("hylostat --by Dov rework overwrite HYRWSOUND1 --serial HYRWSOUND1; sleep 0.4; killall -9 hylostat; sleep 1; " + serve)
		eventually(t.Context(), t, "the run is done", func() bool {
			out, code := m.sh("hylostat --json run list --open")
			return code == 0 && strings.TrimSpace(out) == "[]"
		})
		began(t, "HYRWSOUND1", before)
		kept(t, "HYRWSOUND1")
	})
	t.Run("the process that writes is killed, and the overwrite is finished", func(t *testing.T) {
		before := released("HYRWSOUND1")
		m.sh("hylostat --by Dov rework overwrite HYRWSOUND1 --serial HYRWSOUND1; sleep 0.3; kill -9 $(pgrep -f attend-drive)")
		eventually(t.Context(), t, "the run is done", func() bool {
			out, code := m.sh("hylostat --json run list --open")
			return code == 0 && strings.TrimSpace(out) == "[]"
		})
		began(t, "HYRWSOUND1", before)
		kept(t, "HYRWSOUND1")
	})

	prepared("HYRWUSED01", "overwrite", 0)
	node := bayOf("HYRWUSED01").Attached.Node
	for _, row := range []struct{ name, begin, end, why string }{
		{"swap", "mkswap /dev/$N >/dev/null && swapon /dev/$N", "swapoff /dev/$N", "swap space"},
		{
			"under device-mapper",
			"dmsetup --noudevsync create upon --table \"0 1024 linear /dev/$N 0\"",
			"dmsetup --noudevsync remove upon",
			"held by dm-",
		},
		{
			"in an md array",
			"mdadm --build /dev/md7 --level=1 --force --raid-devices=1 /dev/$N 2>/dev/null",
			"mdadm --stop /dev/md7 2>/dev/null",
			"held by md",
		},
		{"set read-only", "blockdev --setro /dev/$N", "blockdev --setrw /dev/$N", "read-only"},
		{
			"opened by another program",
			"hylostat-conform hold /dev/$N >/dev/null 2>&1 & echo $! > /tmp/hold; sleep 0.5",
			"kill $(cat /tmp/hold); sleep 0.2",
			"holds it",
		},
		{
			"mounted",
			"mke2fs /dev/$N >/dev/null && mkdir -p /mnt/a && mount -o ro -t ext2 /dev/$N /mnt/a",
			"umount /mnt/a",
			"mounted at /mnt/a",
		},
		{
			"a partition of it mounted",
			"printf 'n\\np\\n1\\n\\n\\nw\\n' | fdisk /dev/$N >/dev/null 2>&1; " +
				"mke2fs /dev/${N}1 >/dev/null && mkdir -p /mnt/b && mount -o ro -t ext2 /dev/${N}1 /mnt/b",
			"umount /mnt/b",
			"mounted at /mnt/b",
		},
		{
			"mounted where nobody here can see it",
			"mke2fs /dev/$N >/dev/null && mkdir -p /mnt/c && " +
				"{ unshare -m sh -c 'mount -o ro -t ext2 /dev/'$N' /mnt/c && touch /tmp/mounted; exec sleep 1000' >/dev/null 2>&1 & " +
				"echo $! > /tmp/world; } && until [ -e /tmp/mounted ]; do sleep 0.2; done",
			"kill $(cat /tmp/world)",
			"holds it",
		},
	} {
		t.Run("not written: "+row.name, func(t *testing.T) {
			set := "N=" + node + "; "
			released("HYRWUSED01")
			out, code := m.sh(set + row.begin + "; code=$?; sync; (exit $code)")
			require.Zero(t, code, out)
			written, _ := m.sh("awk '{print $7}' /sys/block/" + node + "/stat")
			out, code = m.sh("timeout -s QUIT 300 hylostat --by Dov rework overwrite HYRWUSED01 --serial HYRWUSED01 --follow 2>&1")
			require.Contains(t, []int{4, 6}, code, "refused, or not begun: %s", out)
			assert.Contains(t, out, row.why)
			after, _ := m.sh("sync; awk '{print $7}' /sys/block/" + node + "/stat")
			assert.Equal(t, written, after, "not a sector was written")
			out, code = m.sh(set + row.end)
			require.Zero(t, code, out)
		})
	}
	t.Run("a drive that is exchanged for another between order and write is not written", func(t *testing.T) {
		released("HYRWSOUND1")
		m.sh("hylostat --by Dov rework overwrite HYRWSOUND1 --serial HYRWSOUND1")
		m.tell("device_del leaves")
		eventually(t.Context(), t, "the drive is gone", func() bool {
			out, _ := m.sh("hylostat --json run list --open")
			return strings.Contains(out, `"absent"`)
		})
		other := disk(t, dir, "other", 64*megabyte)
		m.tell("drive_add 0 if=none,id=other,format=raw,cache=unsafe,file=" + other)
		m.tell("device_add scsi-hd,id=comes,drive=other,bus=scsi.0,scsi-id=2,serial=HYRWOTHER1,vendor=OSPRIL,product=REWORK")
		eventually(t.Context(), t, "the other drive answers", func() bool {
			out, _ := m.sh("for h in /sys/class/scsi_host/host*; do echo '- - -' > $h/scan; done; hylostat --json drive show HYRWOTHER1")
			return strings.Contains(out, `"bay"`)
		})
		refused(t, "not released by the owner", "overwrite HYRWOTHER1 --serial HYRWOTHER1")
		node := bayOf("HYRWOTHER1").Attached.Node
		written, _ := m.sh("awk '{print $7}' /sys/block/" + node + "/stat")
		assert.Equal(t, "0", strings.TrimSpace(written))
	})
	t.Run("the same drive under another name is the same drive, and the rework goes on", func(t *testing.T) {
		m.tell("device_del comes")
		m.tell("device_add scsi-hd,id=back,drive=sound,bus=scsi.0,scsi-id=9,serial=HYRWSOUND1,vendor=OSPRIL,product=REWORK")
		eventually(t.Context(), t, "the overwrite is done", func() bool {
			m.sh("for h in /sys/class/scsi_host/host*; do echo '- - -' > $h/scan; done")
			out, code := m.sh("hylostat --json run list --open")
			return code == 0 && strings.TrimSpace(out) == "[]"
		})
		kept(t, "HYRWSOUND1")
	})
	t.Run("without the bench's own permission nothing is written", func(t *testing.T) {
		now, _ := m.sh("killall -9 hylostat; sleep 1; date +%s; hylostat serve --data /data --bench vm > /tmp/serve3.log 2>&1 & sleep 3")
		began, err := strconv.ParseInt(strings.TrimSpace(now), 10, 64)
		require.NoError(t, err)
		eventually(t.Context(), t, "the drive answers to the service that is back", func() bool {
			out, code := m.sh("hylostat --json bay list")
			var all []contract.Bay
			return code == 0 && json.Unmarshal([]byte(out), &all) == nil && slices.ContainsFunc(all, func(b contract.Bay) bool {
				return b.Drive != nil && b.Drive.Serial == "HYRWNVME01" && b.Connection == contract.BayConnectionAnswering &&
					b.Since.Unix() >= began
			})
		})
		released("HYRWNVME01")
		refused(t, "not started with the permission to write", "overwrite HYRWNVME01 --serial HYRWNVME01")
	})
}
