package write

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/bubble"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
)

// world is a drive that is written to, the journal of its bench, and what the shop says of its release. Each write is held, at the moment
// it is made, against what stands in the journal on the disk and against the shop's word.
type world struct {
	*rapid.T
	journal  *journal.Journal
	beside   *sqlx.DB // the journal's file, read by somebody else
	disk     *bubble.Disk
	consents *Consents
	clock    time.Time
	g        surface.Geometry
	plan     []surface.Extent // what may be written
	copied   surface.Extent   // what the file of a renewal holds
	fails    bool             // the drive goes at the next command
	wrote    int
	counted  check.Written
}

const theRun, theStep = 7, 1

var errGone = errors.New("the drive is gone")

// write holds one write against journal and consent.
func (w *world) write(e surface.Extent) surface.Outcome {
	intent, open, err := w.intended()
	require.NoError(w, err)
	require.True(w, open, "%v is written without an intent", e)
	require.True(w, e.LBA >= intent.LBA && e.End() <= intent.End(), "%v is written, and %v intended", e, intent)
	require.LessOrEqual(w, intent.End(), w.g.Sectors, "what is intended is on the drive")
	require.True(w, w.released(e), "%v is written, and was not released", e)
	require.True(w, w.consents.Hold(theRun, 0), "%v is written without the shop's word", e)
	w.wrote++
	w.happens()
	if rapid.IntRange(0, 9).Draw(w.T, "bad") == 0 {
		return surface.Outcome{Cause: surface.Medium}
	}
	return surface.Outcome{Cause: surface.Whole, Took: time.Millisecond}
}

// intended is the intent that is on the disk, whoever else cannot read it just then.
func (w *world) intended() (e surface.Extent, open bool, err error) {
	var rows []struct {
		LBA     uint64 `db:"lba"`
		Sectors uint64 `db:"sectors"`
	}
	err = w.beside.Select(&rows, `SELECT lba, sectors FROM intent WHERE run = ? AND step = ?`, theRun, theStep)
	if err != nil || len(rows) == 0 {
		return e, false, err
	}
	return surface.Extent{LBA: rows[0].LBA, Sectors: rows[0].Sectors}, true, nil
}

func (w *world) released(e surface.Extent) bool {
	for _, p := range w.plan {
		if e.LBA >= p.LBA && e.End() <= p.End() {
			return true
		}
	}
	return false
}

// happens is what may come between any two things: time passes, the owner takes the release back, or the drive goes.
func (w *world) happens() {
	switch rapid.IntRange(0, 60).Draw(w.T, "happens") {
	case 0:
		w.clock = w.clock.Add(6 * time.Minute)
	case 1:
		_ = w.consents.Hear(context.Background(), theRun, 0) // whether or not it is stored
	case 2:
		w.fails = true
	case 3:
		w.clock = w.clock.Add(-time.Hour)
	default:
		w.clock = w.clock.Add(time.Second)
	}
}

func (w *world) gone() error {
	if w.fails {
		w.fails = false
		return errGone
	}
	return nil
}

// Limits implements device.Blocks.
func (w *world) Limits() device.Limits { return device.Limits{} }

// Close implements device.Exclusive.
func (w *world) Close() error { return nil }

// Stream implements device.Blocks.
func (w *world) Stream(
	_ context.Context, _ device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	for r, ok := next(); ok; r, ok = next() {
		if err := w.gone(); err != nil {
			return err
		}
		o := surface.Outcome{Cause: surface.Whole}
		if rapid.Bool().Draw(w.T, "unreadable") {
			o.Cause = surface.Medium
		}
		told(r, o)
	}
	return nil
}

// Fill implements device.Exclusive, with several writes in flight.
func (w *world) Fill(
	_ context.Context, _ surface.Pattern, _ device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	type one struct {
		r surface.Read
		o surface.Outcome
	}
	depth := rapid.IntRange(1, 3).Draw(w.T, "depth")
	for {
		var flying []one
		for len(flying) < depth {
			r, ok := next()
			if !ok {
				break
			}
			if err := w.gone(); err != nil {
				return err
			}
			flying = append(flying, one{r, w.write(r.Extent)})
		}
		if len(flying) == 0 {
			return w.gone()
		}
		for _, f := range flying {
			told(f.r, f.o)
		}
	}
}

// Mend implements device.Exclusive.
func (w *world) Mend(_ context.Context, e surface.Extent) (surface.Outcome, error) {
	if err := w.gone(); err != nil {
		return surface.Outcome{}, err
	}
	return w.write(e), nil
}

// Save implements device.Exclusive.
func (w *world) Save(_ context.Context, e surface.Extent, file string) (surface.Outcome, error) {
	if err := w.gone(); err != nil {
		return surface.Outcome{}, err
	}
	_, open, err := w.intended()
	require.NoError(w, err)
	require.False(w, open, "a copy that is still needed is replaced")
	w.copied = e
	w.happens()
	if rapid.IntRange(0, 9).Draw(w.T, "unsaved") == 0 {
		w.copied = surface.Extent{}
		return surface.Outcome{Cause: surface.Medium}, os.WriteFile(file, nil, 0o600)
	}
	return surface.Outcome{Cause: surface.Whole}, os.WriteFile(file, fmt.Append(nil, e), 0o600)
}

// Restore implements device.Exclusive.
func (w *world) Restore(_ context.Context, e surface.Extent, _ string) (surface.Outcome, error) {
	require.Equal(w, w.copied, e, "what is written back is what was copied")
	if err := w.gone(); err != nil {
		return surface.Outcome{}, err
	}
	return w.write(e), nil
}

// blocks is a rework of a kind over the drive, begun, or gone on with after an end in the middle.
func (w *world) blocks(kind check.Kind, copied string) (device.Blocks, error) {
	base := &writing{
		Exclusive: w, journal: w.journal, consents: w.consents, run: theRun, step: theStep, g: w.g,
		count: func(f func(*check.Written)) { f(&w.counted) },
	}
	switch kind {
	case check.Mend:
		return &mending{base, map[uint64]bool{}}, nil
	case check.Renew:
		n := &renewing{base, copied}
		return n, n.recover(context.Background())
	default:
		return &overwriting{base, surface.Pattern{Seed: 1}}, nil
	}
}

// Whatever is ordered, fails, is killed, expires and is taken back, and in whichever order: what is written was intended, on the disk and
// before; what is intended was released; and the shop's word stands when it is written.
func TestWhatIsWrittenWasIntendedAndReleased(t *testing.T) {
	wrote, kinds := 0, map[check.Kind]int{}
	rapid.Check(t, func(r *rapid.T) {
		dir, err := os.MkdirTemp("", "door-")
		require.NoError(r, err)
		defer func() { _ = os.RemoveAll(dir) }()
		w := &world{T: r, disk: &bubble.Disk{}, clock: time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC)}
		w.g = surface.Geometry{Sectors: uint64(rapid.IntRange(1, 2_500_000).Draw(r, "sectors")), Logical: 512, Physical: 512}
		kind := rapid.SampledFrom([]check.Kind{check.Mend, check.Renew, check.Overwrite}).Draw(r, "kind")
		w.plan = []surface.Extent{{Sectors: w.g.Sectors}}
		begin := func() { // the bench starts, with what is on its disk
			w.journal, err = journal.Open(context.Background(), filepath.Join(dir, "bench.db"), w.disk)
			require.NoError(r, err)
			w.consents, err = LoadConsents(context.Background(), w.journal)
			require.NoError(r, err)
			w.consents.now = func() time.Time { return w.clock }
		}
		begin()
		defer func() { require.NoError(r, w.journal.Close()) }()
		w.beside = sqlx.MustOpen("sqlite", "file:"+filepath.Join(dir, "bench.db")+"?mode=ro")
		defer func() { _ = w.beside.Close() }()
		told := uint64(0) // a sweep goes on from there
		for range rapid.IntRange(1, 6).Draw(r, "goes") {
			if rapid.IntRange(0, 4).Draw(r, "the shop says it holds") > 0 {
				_ = w.consents.Hear(context.Background(), theRun, 5*time.Minute)
			}
			if rapid.IntRange(0, 2).Draw(r, "disk breaks") == 2 {
				w.disk.BreakAt(int64(rapid.IntRange(0, 24).Draw(r, "at")))
			}
			at, before := told, w.wrote
			b, err := w.blocks(kind, filepath.Join(dir, "copy"))
			if err == nil {
				left := rapid.IntRange(1, 24).Draw(r, "chunks")
				err = b.Stream(context.Background(), device.Streaming{Depth: 2}, func() (surface.Read, bool) {
					if left--; left < 0 || at >= w.g.Sectors {
						return surface.Read{}, false
					}
					at += uint64(rapid.SampledFrom([]int{0, 0, 0, 1000, 700_000}).Draw(r, "passed over"))
					if at >= w.g.Sectors {
						return surface.Read{}, false
					}
					e := surface.Extent{LBA: at, Sectors: min(uint64(rapid.IntRange(1, 400_000).Draw(r, "sectors of it")), w.g.Sectors-at)}
					at = e.End()
					return surface.Read{Extent: e}, true
				}, func(r surface.Read, _ surface.Outcome) { told = max(told, r.End()) })
			}
			if err == nil && w.wrote > before {
				_, open, wrong := w.intended()
				require.NoError(r, wrong)
				require.False(r, open, "what came to its end leaves nothing open")
			}
			if _, withdrawn := errors.AsType[*sweep.WithdrawnError](err); withdrawn {
				require.False(r, w.consents.Hold(theRun, 0), "it ends for want of a word only when there is none")
			}
			w.disk.Mend()
			w.fails = false
			if rapid.Bool().Draw(r, "killed") {
				require.NoError(r, w.journal.Close())
				begin()
			}
		}
		wrote += w.wrote
		kinds[kind] += w.wrote
	})
	for _, kind := range []check.Kind{check.Mend, check.Renew, check.Overwrite} {
		require.Positive(t, kinds[kind], "%s wrote something", kind)
	}
	t.Log(wrote, "writes", kinds)
}
