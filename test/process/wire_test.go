package process

import (
	"bufio"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// installed is a service and its bench, each a process of its own, as packages start them. Two files stand for drives.
type installed struct {
	demo   // the service, as it is asked
	dir    string
	images []string
	bench  *exec.Cmd
}

func (i *installed) in(name string) string { return filepath.Join(i.dir, name) }

func (i *installed) startService() {
	i.t.Helper()
	i.cmd = exec.Command(program, "serve", "--data", i.in("shop"), "--listen", "127.0.0.1:0", "--bench-socket", i.in("socket"))
	i.cmd.Stderr = i.t.Output()
	out, err := i.cmd.StdoutPipe()
	require.NoError(i.t, err)
	require.NoError(i.t, i.cmd.Start())
	lines := bufio.NewScanner(out)
	require.True(i.t, lines.Scan(), "the service says where it is")
	i.address = at.FindString(lines.Text())
	go func() {
		for lines.Scan() {
		}
	}()
}

func (i *installed) startBench() {
	i.t.Helper()
	args := []string{"bench", "serve", "--data", i.in("bench"), "--socket", i.in("socket"), "--bench", "north bench"}
	for _, file := range i.images {
		args = append(args, "--bay-image", file)
	}
	i.bench = exec.Command(program, args...)
	i.bench.Stderr = i.t.Output()
	require.NoError(i.t, i.bench.Start())
}

// service tells what the service says of itself.
func (i *installed) service() contract.Service {
	i.t.Helper()
	c, err := client.New(i.address, "")
	require.NoError(i.t, err)
	s, err := c.Service(i.t.Context())
	require.NoError(i.t, err)
	return s
}

func kill(cmd *exec.Cmd) {
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
}

func install(t *testing.T) *installed {
	t.Helper()
	dir, err := os.MkdirTemp("", "wire-") // a socket's path is short
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	i := &installed{demo: demo{t: t}, dir: dir}
	for _, name := range []string{"left.img", "right.img"} {
		i.images = append(i.images, i.in(name))
		require.NoError(t, os.WriteFile(i.in(name), nil, 0o600))
		require.NoError(t, os.Truncate(i.in(name), 3<<30))
	}
	for _, args := range [][]string{{"shop", "create", "--data", i.in("shop")}, {"bench", "create", "--data", i.in("bench")}} {
		out, err := exec.Command(program, args...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	i.startService()
	i.startBench()
	t.Cleanup(func() { kill(i.cmd); kill(i.bench) })
	return i
}

// Whichever of the two is killed, at whatever moment: what was ordered is carried out, once, and told, once.
func TestEitherSideOfTheWireMayBeKilled(t *testing.T) {
	i := install(t)
	ordered := map[int64]bool{}
	order := func(drive string) {
		out, _, code := i.run("--json", "sweep", "whole", drive)
		if code != 0 { // one is under way, or nobody is there
			return
		}
		var r contract.Run
		require.NoError(t, json.Unmarshal([]byte(out), &r), out)
		assert.False(t, ordered[r.Id], "no number is given twice")
		ordered[r.Id] = true
	}
	chance := rand.New(rand.NewPCG(15, uint64(time.Now().UnixNano())))
	for n := range 12 {
		i.until("the drives answer", func() bool {
			out, _, code := i.run("drive", "show", "left.img")
			return code == 0 && out != ""
		})
		order("left.img")
		order("right.img")
		time.Sleep(time.Duration(chance.IntN(1200)) * time.Millisecond) //nolint:forbidigo // any moment is meant
		if n%2 == 0 {
			kill(i.cmd)
			i.startService()
		} else {
			kill(i.bench)
			i.startBench()
		}
	}
	require.NotEmpty(t, ordered)
	var runs []contract.Run
	require.Eventually(t, func() bool {
		runs = ask[[]contract.Run](&i.demo, "run", "list")
		for _, r := range runs {
			if r.State != contract.RunStateDone {
				return false
			}
		}
		return true
	}, time.Minute, 100*time.Millisecond)
	for _, r := range runs {
		assert.Equal(t, "passed", r.Standing.Words, "run %d", r.Id)
		delete(ordered, r.Id)
	}
	assert.Empty(t, ordered, "what was taken is carried out")

	i.until("everything is told", func() bool {
		var waiting int
		db := sqlx.MustOpen("sqlite", "file:"+i.in("bench/bench.db")+"?mode=ro")
		defer db.Close()
		return db.Get(&waiting, `SELECT COUNT(*) FROM outbox WHERE acknowledged IS NULL`) == nil && waiting == 0
	})
	db := sqlx.MustOpen("sqlite", "file:"+i.in("shop/shop.db")+"?mode=ro")
	defer db.Close()
	var sweeps []int
	require.NoError(t, db.Select(&sweeps, `SELECT COUNT(*) FROM sweep GROUP BY run`))
	assert.Len(t, sweeps, len(runs), "each has its sweep")
	for _, n := range sweeps {
		assert.Equal(t, 1, n, "once")
	}
}

// A bench that is away is told to everybody; its drives are, and what they are asked for is refused in words.
func TestABenchThatIsAway(t *testing.T) {
	i := install(t)
	i.until("the drives answer", func() bool { _, _, code := i.run("drive", "show", "left.img"); return code == 0 })
	kill(i.bench)
	i.until("it is told", func() bool {
		s := i.service()
		return s.Benches[0].Away && s.Warning != nil && *s.Warning == "Not connected: north bench. Its bays stand here as they stood"
	})
	out, _, _ := i.run("bay", "list")
	assert.Contains(t, out, "north bench: not connected; its bays as they stood\n")
	_, wrong, code := i.run("check", "quick", "left.img")
	assert.Equal(t, 4, code)
	assert.Contains(t, wrong, "north bench is not connected. Start its program, or look into its log.")
	i.startBench()
	i.until("it is back", func() bool { return !i.service().Benches[0].Away })
}
