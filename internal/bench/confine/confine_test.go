package confine_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/confine"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "attend" { // has what a process that attends a drive starts tell its powers
		if err := confine.Attend(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		out, _ := exec.Command("/bin/cat", "/proc/self/status").Output()
		_, _ = os.Stdout.Write(out)
		os.Exit(0)
	}
	if len(os.Args) > 1 && os.Args[1] == confine.Word {
		fmt.Fprintln(os.Stderr, confine.Become(os.Args[2:]))
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// A process that attends a drive, and what it starts, has the powers for that and no others.
func TestWhoeverAttendsADriveHasNoOtherPowers(t *testing.T) {
	self, err := os.Executable()
	require.NoError(t, err)
	out, err := exec.Command(self, "attend").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "NoNewPrivs:\t1")
	if os.Geteuid() == 0 { // CAP_DAC_OVERRIDE, CAP_SYS_RAWIO, CAP_SYS_ADMIN, CAP_SYS_NICE: bits 1, 17, 21, 23
		for _, name := range []string{"CapPrm", "CapEff", "CapBnd"} {
			assert.Contains(t, string(out), name+":\t0000000000a20002")
		}
	}
}

// A checker that a file system's maker has taken over reads its node and nothing that is somebody's, writes nothing, has no power, and
// reaches nobody.
func TestWhatIsConfinedCanReadItsNodeAndNothingElse(t *testing.T) {
	dir := t.TempDir()
	node, secret := filepath.Join(dir, "node"), filepath.Join(dir, "shop.db")
	require.NoError(t, os.WriteFile(node, []byte("a file system"), 0o600))
	require.NoError(t, os.WriteFile(secret, []byte("customers"), 0o600))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	self, err := os.Executable()
	require.NoError(t, err)
	run := func(script string) (string, bool) {
		out, err := confine.Command(t.Context(), self, node, "/bin/sh", "-c", script).CombinedOutput()
		return string(out), err == nil
	}
	out, ok := run("cat " + node)
	require.True(t, ok, out)
	require.True(t, strings.HasSuffix(out, "a file system"), out)
	if strings.Contains(out, "not confined") {
		t.Log(out) // a kernel without Landlock: the rest is held all the same
	} else {
		out, ok = run("cat " + secret)
		assert.False(t, ok, out)
		assert.NotContains(t, out, "customers")
		out, ok = run("ls " + dir)
		assert.False(t, ok, out)
		out, ok = run("echo x > " + filepath.Join(dir, "made"))
		assert.False(t, ok, out)
	}
	out, ok = run("echo changed > " + node)
	assert.False(t, ok, out)
	body, err := os.ReadFile(node)
	require.NoError(t, err)
	assert.Equal(t, "a file system", string(body))
	assert.NoFileExists(t, filepath.Join(dir, "made"))
	out, ok = run(`grep -E "^(CapEff|CapPrm|CapBnd|NoNewPrivs)" /proc/self/status`)
	require.True(t, ok, out)
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		name, value, _ := strings.Cut(line, ":")
		switch value = strings.TrimSpace(value); name {
		case "NoNewPrivs":
			assert.Equal(t, "1", value)
		case "CapEff", "CapPrm":
			assert.Equal(t, "0000000000000000", value, name)
		case "CapBnd":
			assert.True(t, os.Geteuid() != 0 || value == "0000000000000000", line)
		}
	}
	if os.Geteuid() == 0 {
		_, port, err := net.SplitHostPort(listener.Addr().String())
		require.NoError(t, err)
		out, ok = run(`exec 3<>/dev/tcp/127.0.0.1/` + port + ` || cat /proc/net/dev`)
		assert.NotContains(t, out, "eth", out)
		_ = ok
		links, ok := run("cat /proc/net/dev | grep -c :")
		require.True(t, ok, links)
		assert.Equal(t, "1", strings.TrimSpace(links), "its own loopback alone, which is down")
	}
	_, err = confine.Command(t.Context(), self, node, "/nonexistent").CombinedOutput()
	require.Error(t, err)
}
