//go:build vm

package vm

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
	_ "hylostat.example/internal/sqlite" // the driver
	"hylostat.example/test/browser"
	"hylostat.example/test/made"
)

// A fresh Debian: the package is installed, both services are up, the first drive has a verdict; the package is upgraded with records kept,
// removed, purged; and what a service of an earlier version left that was started by hand is taken over.
func TestInstalled(t *testing.T) {
	t.Parallel() // beside TestReworkOnARealKernel: it takes one processor, and times nothing
	dir := t.TempDir()
	port := freePort(t)
	records, earlier, taken := before(t, dir)
	m := startWith(
		t, dir, "rdinit=/init-debian systemd.unit=multi-user.target quiet",
		"-drive", "if=none,id=root,format=raw,cache=unsafe,snapshot=on,file=../../build/vm/debian.img", "-device", "virtio-blk-pci,drive=root",
		"-drive", "if=none,id=records,format=raw,readonly=on,file="+records, "-device", "virtio-blk-pci,drive=records",
		"-device", "ahci,id=ahci", "-drive", "if=none,id=sata,format=raw,cache=unsafe,file="+disk(t, dir, "sata", 64*megabyte),
		"-device", "ide-hd,drive=sata,bus=ahci.0,rotation_rate=7200,model="+sataModel+",serial="+sataSerial,
		"-netdev", fmt.Sprintf("user,id=net,restrict=on,hostfwd=tcp:127.0.0.1:%d-10.0.2.15:8347", port),
		"-device", "virtio-net-pci,netdev=net",
		"-smp", "1", // with two, this QEMU's emulation locks up now and then while systemd starts
	)
	ok := func(line string) string {
		t.Helper()
		out, code := m.sh(line)
		require.Zero(t, code, "%s: %s", line, out)
		return out
	}
	drives := func() (all []contract.Drive) {
		t.Helper()
		m.hylostat(&all, 0, "drive list")
		return all
	}
	deb := strings.TrimSpace(ok("ls /root/*.deb"))

	ok("apt-get install -y -qq " + deb) // 1
	assert.Equal(t, "active\nactive\n", ok("systemctl is-active hylostat hylostat-bench"))
	eventually(t.Context(), t, "the drive answers", func() bool {
		out, code := m.sh("hylostat --json drive list")
		return code == 0 && strings.Contains(out, sataSerial)
	})
	ok("hylostat --by Dov check extended " + sataSerial) // 2
	m.sh("hylostat run follow 1")                        // 3
	all := drives()
	require.Len(t, all, 1)
	t.Logf("the first verdict: %s", ok("hylostat drive list"))
	assert.NotEmpty(t, all[0].Grade)

	// Seen from a console beside it: the socket's proxy is systemd's own.
	ok("ip link set lo up; dev=$(ls /sys/class/net | grep -v lo); ip link set $dev up; ip addr add 10.0.2.15/24 dev $dev")
	ok("systemd-run -q systemd-socket-activate -l 10.0.2.15:8347 /lib/systemd/systemd-socket-proxyd 127.0.0.1:8347")
	if to := os.Getenv("SHOTS"); to != "" {
		shoot(t, fmt.Sprintf("http://127.0.0.1:%d/?theme=light", port), filepath.Join(to, "installed.png"))
	}

	// The web side has no privilege and no drive; the bench trusts it alone.
	service := strings.TrimSpace(ok("systemctl show -p MainPID --value hylostat"))
	assert.Equal(t, "hylostat\n", ok("stat -c %U /proc/"+service))
	assert.NotRegexp(t, `/dev/(sd|sg|nvme|vd)`, ok("ls -l /proc/"+service+"/fd"))
	exposure := regexp.MustCompile(`exposure level for hylostat.service: ([0-9.]+)`).FindStringSubmatch(
		ok("systemd-analyze security --no-pager hylostat.service | tail -1"),
	)
	require.NotNil(t, exposure)
	level, err := strconv.ParseFloat(exposure[1], 64)
	require.NoError(t, err)
	t.Logf("systemd-analyze security: %.1f", level)
	assert.Less(t, level, 3.0)
	assert.Equal(t, "600 hylostat\n", ok("stat -c '%a %U' /var/lib/hylostat/shop.db"))
	assert.Equal(t, "600 root\n", ok("stat -c '%a %U' /var/lib/hylostat-bench/bench.db"))
	log := ok("journalctl -q -o cat -u hylostat -u hylostat-bench")
	assert.NotContains(t, log, "level=ERROR")
	assert.Contains(t, log, "the service starts")
	assert.Contains(t, log, "the bench starts")
	bench := strings.TrimSpace(ok("systemctl show -p MainPID --value hylostat-bench"))
	t.Logf("memory: %s", ok("grep -h ^Pss: /proc/"+service+"/smaps_rollup /proc/"+bench+"/smaps_rollup"))
	ok("hylostat config check && man -w hylostat >/dev/null 2>&1 || test -f /usr/share/man/man1/hylostat.1.gz")

	// Upgraded while a sweep goes on: what was recorded is there, what was under way ends well.
	listed := ok("hylostat --json reading list " + sataSerial)
	var swept contract.Run
	m.hylostat(&swept, 0, "sweep whole --share 1 "+sataSerial)
	ok("mkdir /root/next && dpkg-deb -R " + deb + " /root/next && sed -i 's/^Version: .*/Version: 9.9.9/' /root/next/DEBIAN/control && " +
		"dpkg-deb -Znone -b /root/next /root/next.deb")
	ok("sed -i 's/^  # shop: Hylostat/  shop: Saltmarsh Lane/' /etc/hylostat/hylostat.yaml && apt-get install -y -qq /root/next.deb")
	eventually(t.Context(), t, "the service is back", func() bool { _, code := m.sh("hylostat --json drive list"); return code == 0 })
	var readings, known []contract.ReadingSummary
	m.hylostat(&readings, 0, "reading list "+sataSerial)
	require.NoError(t, json.Unmarshal([]byte(listed), &known))
	assert.Subset(t, readings, known, "no reading is lost")
	assert.Contains(t, ok("cat /etc/hylostat/hylostat.yaml"), "  shop: Saltmarsh Lane", "settings stay as they were made")
	m.sh(fmt.Sprintf("hylostat run follow %d", swept.Id))
	m.hylostat(&swept, 0, fmt.Sprintf("run show %d", swept.Id))
	assert.Equal(t, "passed", swept.Standing.Words)

	// Whichever is killed is there again.
	ok("systemctl kill -s KILL hylostat hylostat-bench; sleep 5")
	eventually(t.Context(), t, "both are back", func() bool {
		out, code := m.sh("hylostat bay list")
		return code == 0 && !strings.Contains(out, "not connected")
	})

	// A lead who lost their password.
	ok("printf 'a password of the lead\\n' | hylostat person add Maud --role lead --password")
	ok("systemctl stop hylostat")
	ok("printf 'another password of hers\\n' | hylostat person recover Maud")
	ok("systemctl start hylostat")
	assert.Equal(t, "hylostat\n", ok("stat -c %U /var/lib/hylostat/shop.db"))

	// Removed, records stay; purged, settings go; by hand, and taken over.
	ok("apt-get remove -y -qq hylostat")
	assert.Equal(t, "/etc/hylostat/hylostat.yaml\n/var/lib/hylostat-bench/bench.db\n/var/lib/hylostat/shop.db\n", ok(
		"ls /etc/hylostat/hylostat.yaml /var/lib/hylostat-bench/bench.db /var/lib/hylostat/shop.db",
	))
	_, code := m.sh("systemctl cat hylostat")
	assert.NotZero(t, code, "no unit is left")
	assert.Contains(t, ok("apt-get purge -y -qq hylostat"), "The shop's records stay in /var/lib/hylostat")
	assert.Equal(t, "", ok("ls -d /etc/hylostat /usr/bin/hylostat /run/hylostat 2>/dev/null; ls -d /var/lib/hylostat >/dev/null"))
	ok("rm -r /var/lib/hylostat /var/lib/hylostat-bench && userdel hylostat")
	ok("tar -xzf /root/*.tar.gz -C /root && /root/hylostat-*/usr/bin/hylostat --version")
	ok("mkdir -m 0700 /var/lib/hylostat && tar -xf /dev/vdb -C /var/lib/hylostat")
	ok("apt-get install -y -qq " + deb)
	var after []contract.ListedDrive
	eventually(t.Context(), t, "the records are taken over", func() bool {
		out, code := m.sh("hylostat --json drive list --limit 1000")
		return code == 0 && json.Unmarshal([]byte(out), &after) == nil && strings.Contains(out, sataSerial)
	})
	has := map[string]contract.ListedDrive{}
	for _, d := range after {
		has[d.Serial] = d
	}
	for _, d := range earlier {
		assert.GreaterOrEqual(t, has[d.Serial].Readings, d.Readings, "%s: no reading is lost", d.Serial)
	}
	var intakes []contract.Intake
	m.hylostat(&intakes, 0, "intake list --limit 1000")
	assert.Len(t, intakes, taken, "and no intake")
	assert.Regexp(t, `^\d+ rows, each follows from the one before`, ok("hylostat audit verify"))
	ok("ls /var/lib/hylostat-bench/bench.db && ! ls /var/lib/hylostat/bench.db")
	assert.NotContains(t, ok("journalctl -q -o cat -u hylostat -u hylostat-bench -n 20"), "level=ERROR")
	ok("systemctl poweroff --no-block")
}

// kept is a drive as the records of an earlier version have it.
type kept struct {
	Serial   string `db:"serial"`
	Readings int    `db:"readings"`
}

// before makes a tar file of the records of an earlier version, as a disk, and tells what is in them: drives and the number of intakes.
func before(t *testing.T, dir string) (file string, drives []kept, intakes int) {
	t.Helper()
	folder := made.Before(t, 1)
	db := sqlx.MustOpen("sqlite", filepath.Join(folder, "shop.db"))
	require.NoError(t, db.Select(&drives, `SELECT serial, count(*) AS readings FROM reading JOIN drive ON drive.id = drive GROUP BY serial`))
	require.NoError(t, db.Get(&intakes, `SELECT count(*) FROM intake`))
	require.NoError(t, db.Close())
	require.NotEmpty(t, drives)
	file = filepath.Join(dir, "records.tar")
	out, err := exec.Command("tar", "-C", folder, "-cf", file, ".").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return file, drives, intakes
}

// shoot takes a picture of a page.
func shoot(t *testing.T, address, to string) {
	t.Helper()
	tab, quit, err := browser.Open(t.Context(), t.TempDir(), 1280, 800)
	require.NoError(t, err)
	defer quit()
	require.NoError(t, chromedp.Do(tab, chromedp.Navigate(address)))
	time.Sleep(20 * time.Second) // the machine is slow
	picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(to, picture, 0o644))
}

// freePort is a port of the host that nobody listens on.
func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}
