package sweep

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"lukechampine.com/blake3"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/copymap"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
)

// patient is a drive to be copied: which physical sectors fail, and what the others hold.
type patient struct {
	device.Blocks
	g     surface.Geometry
	bad   map[uint64]bool // by LBA of the physical sector
	reads []surface.Extent
	kept  []surface.Extent
	full  int // reads after which the destination has no room; 0: it has
}

func (p *patient) Limits() device.Limits {
	return device.Limits{Bytes: p.g.Bytes(), Logical: p.g.Logical, Physical: p.g.Physical, Rotates: true}
}

// sector is what one holds.
func (p *patient) sector(lba uint64) []byte {
	return []byte(strings.Repeat(fmt.Sprintf("tide %010d\n", lba), 32))
}

func (p *patient) Stream(
	ctx context.Context, how device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	f, err := os.OpenFile(how.Keep, os.O_WRONLY, 0)
	if err != nil {
		return &device.Unkept{File: how.Keep, Cause: err.Error()}
	}
	defer func() { _ = f.Close() }()
	for {
		r, ok := next()
		if !ok {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		p.reads = append(p.reads, r.Extent)
		o := surface.Outcome{Took: time.Duration(r.Sectors) * time.Microsecond}
		var data []byte
		for lba := r.LBA; lba < r.End(); lba++ {
			if p.bad[p.g.PhysicalOf(lba).LBA] {
				o.Cause = surface.Medium
			}
			data = append(data, p.sector(lba)...)
		}
		if o.Cause == surface.Whole {
			if p.full--; p.full == 0 {
				return &device.Unkept{File: how.Keep, Cause: "no space left on device", Full: true}
			}
			if _, err := f.WriteAt(data, int64(r.LBA)*int64(p.g.Logical)); err != nil {
				return err
			}
			o.Sum = blake3.Sum256(data)
			p.kept = append(p.kept, r.Extent)
		}
		told(r, o)
	}
}

// A copy that is ended at random goes on from its map, copies nothing twice, and ends with an image of every sector that can be read, which
// its map tells, and which compares.
func TestACopyGoesOnFromItsMap(t *testing.T) {
	midst := 0
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 5))
		g, err := surface.NewGeometry((8<<20)+r.Uint64N(64)*512, 512, 4096, 0, 7200, 256<<10)
		require.NoError(t, err)
		p := &patient{g: g, bad: map[uint64]bool{}}
		for range r.IntN(40) {
			p.bad[g.PhysicalOf(r.Uint64N(g.Sectors)).LBA] = true
		}
		dir := t.TempDir()
		j, err := journal.Open(t.Context(), filepath.Join(dir, "bench.db"))
		require.NoError(t, err)
		key := drive.Key{Model: "Korvan K2-1000", Serial: "KVL026D2VN"}
		run := check.New(check.Copy, drive.Bay{Number: 1}, key, "Dov", time.Now(), check.Limit{})
		run.ID = 91
		for i := range run.Steps {
			if run.Steps[i].Kind.IsSweep() {
				run.Steps[i].Standing = &check.Standing{Geometry: g, HotAt: 58}
			}
		}
		host := Host{
			Journal: j, Clock: sim.NewClock(60), Log: slog.New(slog.DiscardHandler), Feeder: &Feeder{Feed: RealFeed},
			Tell: func(protocol.Progress) bool { return true }, Audience: func() int64 { return 0 }, Stored: func() {},
		}
		image := filepath.Join(dir, "2219-6D2VN.image")
		step := func(n int, leave func() bool) check.Event {
			for {
				ctx, cancel := context.WithCancel(t.Context())
				events := make(chan check.Event, 1)
				s, err := Begin(ctx, host, Order{
					Run: run, Step: n, Blocks: p, Image: image, Events: events, Full: make(chan wording.Phrase, 1),
				})
				require.NoError(t, err)
				if leave() {
					time.Sleep(time.Duration(r.IntN(4000)) * time.Microsecond)
					cancel()
					s.Wait()
					select {
					case e := <-events:
						return e
					default:
						midst++
						continue
					}
				}
				s.Wait()
				cancel()
				return <-events
			}
		}
		times := 0
		e := step(1, func() bool { times++; return times < 8 })
		swept, ok := e.(check.Swept)
		require.True(t, ok, "%#v", e)
		c := swept.Sweep.Copied
		assert.Equal(t, g.Sectors, c.Sectors+c.Missing)
		content, err := os.ReadFile(image)
		require.NoError(t, err)
		require.Len(t, content, int(g.Bytes()))
		missing := uint64(0)
		for lba := range g.Sectors {
			is := string(content[lba*512:][:512])
			if p.bad[g.PhysicalOf(lba).LBA] {
				missing++
				require.Equal(t, strings.Repeat("\x00", 512), is, "LBA %d", lba)
			} else {
				require.Equal(t, string(p.sector(lba)), is, "LBA %d", lba)
			}
		}
		assert.Equal(t, missing, c.Missing)
		again := uint64(0)
		seen := map[uint64]bool{}
		for _, e := range p.kept {
			for lba := e.LBA; lba < e.End(); lba++ {
				if seen[lba] {
					again++
				}
				seen[lba] = true
			}
		}
		assert.LessOrEqual(t, again, uint64(8*2*512), "of each end what was in flight, at most")
		e = step(2, func() bool { return false })
		swept, ok = e.(check.Swept)
		require.True(t, ok, "%#v", e)
		assert.Zero(t, swept.Sweep.Lost)
		lba := r.Uint64N(g.Sectors)
		for p.bad[g.PhysicalOf(lba).LBA] {
			lba = (lba + 8) % g.Sectors
		}
		content[lba*512] ^= 1
		require.NoError(t, os.WriteFile(image, content, 0o600))
		run.ID++
		e = step(2, func() bool { return false })
		swept, ok = e.(check.Swept)
		require.True(t, ok, "%#v", e)
		assert.NotZero(t, swept.Sweep.Lost, "a byte was changed at LBA %d", lba)
		require.NoError(t, j.Close())
	}
	assert.Positive(t, midst, "some were ended in their midst")
}

// What the map does not take is kept until it does, and no read comes before that.
func TestACopyWaitsForItsMap(t *testing.T) {
	dir := t.TempDir()
	g, err := surface.NewGeometry(8<<20, 512, 4096, 0, 7200, 256<<10)
	require.NoError(t, err)
	h := copymap.Header{
		Copy: copymap.Version, Image: "a.image", From: copymap.Source{Serial: "KVL026D2VN", Bytes: g.Bytes(), Sector: 512, Physical: 4096},
	}
	image := filepath.Join(dir, "a.image")
	open := func() *keeper {
		k, err := openKeeper(image, h, g, surface.State{}, surface.NewRibbon(g), func() [][]surface.Extent { return nil })
		require.NoError(t, err)
		return k
	}
	k := open()
	one := func() {
		r, ok := k.copy.Next()
		require.True(t, ok)
		k.copy.Tell(r, surface.Outcome{Took: time.Millisecond})
		k.took(copymap.Sum{1})
	}
	one()
	require.Nil(t, k.full())
	require.NoError(t, k.lines.Close()) // it takes no more
	one()
	require.NotNil(t, k.full())
	assert.Contains(t, k.full().Cause, "writing the map")
	again := open()
	k.lines = again.lines
	require.Nil(t, k.full())
	f, err := os.Open(image + MapSuffix)
	require.NoError(t, err)
	defer f.Close()
	_, m, _, err := copymap.Read(f, "")
	require.NoError(t, err)
	assert.Equal(t, k.copy.Map().Parts(), m.Parts())
	require.NoError(t, k.close())
	require.NoError(t, again.image.Close())
}
