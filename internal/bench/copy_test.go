package bench

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/copymap"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/protocol"
)

// filled is scratched, and holds something.
func filled(serial string) sim.Spec {
	s := scratched(serial, 400_000)
	for lba := uint64(0); lba < 400_000; lba += 4000 {
		s.Content = append(s.Content, sim.Content{LBA: lba, Bytes: []byte(strings.Repeat("tide", 4000))})
	}
	return s
}

func copyTo(image string) protocol.Order {
	return protocol.Order{Kind: protocol.OrderCheck, Check: check.Copy, Bay: at(1), By: "Dov", Copy: &check.Destination{Image: image}}
}

// A copy finds what a sweep finds, keeps all that can be read, says what is missing, protects the drive, and compares. The bench may end
// in its midst.
func TestACopyIsASweepThatKeepsWhatItReads(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		source := sim.New(sim.NewClock(4), "", "one")
		spec := filled("KVA077M511")
		source.Insert("one", spec)
		s := start(t, source, filepath.Join(dir, "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(t, copyTo("2219.image"))
		require.NoError(t, err)
		time.Sleep(4 * time.Second) // a part of it, and the first places that fail
		s.end()
		s = start(t, source, filepath.Join(dir, "bench.db"))
		s.take(t, "the copy", s.done(receipt.Run.ID))
		run, sweep := s.runs[receipt.Run.ID], s.sweepOf(receipt.Run.ID)
		require.NotNil(t, sweep)
		assert.True(t, s.bays[1].WriteProtected)
		assert.Equal(t, check.Failed, run.Outcome)
		assert.Equal(t, "72 sectors missing; 9 unreadable sectors; 1 place slow once", run.Steps[1].Note.String())
		assert.Equal(t, "everything is there as it was read", run.Steps[2].Note.String())
		var copied check.Result
		for _, r := range s.sweeps {
			if r.Kind == check.Copying {
				copied = r
			}
		}
		bad := source.Truth("one")
		assert.Equal(t, bad, unreadable(&copied))
		image, err := os.ReadFile(filepath.Join(dir, "2219.image"))
		require.NoError(t, err)
		want := make([]byte, len(image))
		for _, c := range spec.Content {
			copy(want[c.LBA*512:], c.Bytes)
		}
		for _, lba := range bad {
			clear(want[lba*512 : (lba+8)*512])
		}
		assert.True(t, string(want) == string(image))
		f, err := os.Open(filepath.Join(dir, "2219.image.map.jsonl"))
		require.NoError(t, err)
		defer f.Close()
		h, m, _, err := copymap.Read(f, "")
		require.NoError(t, err)
		assert.Equal(t, "KVA077M511", h.From.Serial)
		assert.EqualValues(t, 72, m.Sum(3))
	})
}

func TestWhereACopyMayNotGo(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(60), "", "one")
		source.Insert("one", filled("KVA077M511"))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		for _, name := range []string{"", "a", ".image", "../a.image", "/etc/a.image", "a/b.image", "a\x1b.image"} {
			_, err := s.order(t, copyTo(name))
			assert.ErrorContains(t, err, "is no name of an image", "%q", name)
		}
		o := copyTo("a.image")
		o.Copy.Folder = "/etc"
		_, err := s.order(t, o)
		assert.ErrorContains(t, err, `"/etc" is no folder in which this bench keeps copies`)
	})
}
