package write

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
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
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// world is a drive that is written to, the journal of its bench, and what the shop says of its release. Each write is held, at the moment
// it is made, against what stands in the journal on the disk and against the shop's word.
type world struct {
	require.TestingT
	draw     func(what string, most int) int // chance, from 0 to most; most is what happens where nothing does
	dir      string
	kind     check.Kind
	journal  *journal.Journal
	beside   *sqlx.DB // the journal's file, read by somebody else
	disk     *bubble.Disk
	consents *Consents
	clock    time.Time
	g        surface.Geometry
	copied   surface.Extent // what the file of a renewal holds
	fails    bool           // the drive goes at the next command
	written  []surface.Extent
	told     uint64 // a sweep goes on from there
	counted  check.Written
}

// found is a world with a drive that nothing was done to.
func found(t require.TestingT, dir string, kind check.Kind, sectors uint64, draw func(string, int) int) *world {
	w := &world{
		TestingT: t, draw: draw, dir: dir, kind: kind, disk: &bubble.Disk{}, clock: now,
		g: surface.Geometry{Sectors: sectors, Logical: 512, Physical: 4096},
	}
	w.begin()
	var err error
	w.beside, err = sqlx.Open("sqlite", "file:"+filepath.Join(dir, "bench.db")+"?mode=ro")
	require.NoError(t, err)
	return w
}

// begin starts the bench with what is on its disk.
func (w *world) begin() {
	var err error
	w.journal, err = journal.Open(context.Background(), filepath.Join(w.dir, "bench.db"), w.disk)
	require.NoError(w, err)
	w.consents, err = LoadConsents(context.Background(), w.journal)
	require.NoError(w, err)
	w.consents.now = func() time.Time { return w.clock }
}

// kill ends the bench, and begins it again.
func (w *world) kill() {
	require.NoError(w, w.journal.Close())
	w.begin()
}

func (w *world) close() {
	require.NoError(w, w.beside.Close())
	require.NoError(w, w.journal.Close())
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
	require.True(w, w.consents.Hold(theRun, 0), "%v is written without the shop's word", e)
	w.written = append(w.written, e)
	w.happens()
	if w.draw("bad", 9) == 0 {
		return surface.Outcome{Cause: surface.Medium}
	}
	return surface.Outcome{Cause: surface.Whole, Took: 3 * time.Millisecond}
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

// happens is what may come between any two things: time passes, the owner takes the release back, or the drive goes.
func (w *world) happens() {
	switch w.draw("happens", 60) {
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
		what := "readable"
		if slices.Contains(w.written, r.Extent) {
			what = "heals"
		}
		if w.draw(what, 1) == 0 {
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
	depth := 1 + w.draw("depth", 2)
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
	if w.draw("unsaved", 9) == 0 {
		w.copied = surface.Extent{}
		return surface.Outcome{Cause: surface.Medium}, os.WriteFile(file, nil, 0o600)
	}
	return surface.Outcome{Cause: surface.Whole, Took: 5 * time.Millisecond}, os.WriteFile(file, fmt.Append(nil, e), 0o600)
}

// Restore implements device.Exclusive.
func (w *world) Restore(_ context.Context, e surface.Extent, _ string) (surface.Outcome, error) {
	require.Equal(w, w.copied, e, "what is written back is what was copied")
	if err := w.gone(); err != nil {
		return surface.Outcome{}, err
	}
	return w.write(e), nil
}

// Uses implements device.Writable.
func (w *world) Uses(context.Context, drive.Attachment) ([]string, error) { return nil, nil }

// OpenExclusive implements device.Writable.
func (w *world) OpenExclusive(context.Context, drive.Attachment) (device.Exclusive, error) {
	return w, nil
}

// source is the machine of a world.
type source struct {
	device.Source
	*world
}

// ordered is a rework of a kind that nothing speaks against.
func ordered(kind check.Kind) Opening {
	a := sound()
	a.Kind, a.Rework.Release.Scope, a.Rework.Pattern = kind, kind, surface.Pattern{Seed: 1}
	steps := []check.Step{{Kind: check.ReadingBefore}, {Kind: map[check.Kind]check.StepKind{
		check.Mend: check.Mending, check.Renew: check.Renewing, check.Overwrite: check.Overwriting,
	}[kind]}}
	return Opening{
		Asked:    a,
		Run:      check.Run{ID: theRun, Kind: kind, Steps: steps, Rework: a.Rework},
		Step:     theStep,
		Identify: func(context.Context) (drive.Key, *drive.Fault) { return key, nil },
	}
}

// opening is its order, of this world.
func (w *world) opening() Opening {
	o := ordered(w.kind)
	o.Source, o.Journal, o.Consents = source{world: w}, w.journal, w.consents
	o.Copy = filepath.Join(w.dir, "renewal", "copy")
	return o
}

// rework has the bench work through its order from where it was, chunk by chunk as next gives them.
func (w *world) rework(next func(at uint64) (surface.Extent, bool)) error {
	held, err := Hold(context.Background(), w.opening(), w.g, func(f func(*check.Written)) { f(&w.counted) })
	if err != nil {
		return err
	}
	at := w.told
	return held.Blocks.Stream(context.Background(), device.Streaming{Depth: 2}, func() (surface.Read, bool) {
		e, ok := next(at)
		at = e.End()
		return surface.Read{Extent: e}, ok
	}, func(r surface.Read, _ surface.Outcome) { w.told = max(w.told, r.End()) })
}

// Whatever is ordered, fails, is killed, expires and is taken back, and in whichever order: what is written was intended, on the disk and
// before; what is intended was released; and the shop's word stands when it is written.
func TestWhatIsWrittenWasIntendedAndReleased(t *testing.T) {
	wrote := map[check.Kind]int{}
	rapid.Check(t, func(r *rapid.T) {
		dir, err := os.MkdirTemp("", "door-")
		require.NoError(r, err)
		defer func() { _ = os.RemoveAll(dir) }()
		draw := func(what string, most int) int { return rapid.IntRange(0, most).Draw(r, what) }
		kind := rapid.SampledFrom([]check.Kind{check.Mend, check.Renew, check.Overwrite}).Draw(r, "kind")
		w := found(r, dir, kind, uint64(1+draw("sectors", 2_500_000)), draw)
		defer w.close()
		for range 1 + draw("goes", 5) {
			if draw("the shop says it holds", 4) > 0 {
				_ = w.consents.Hear(context.Background(), theRun, 5*time.Minute)
			}
			if draw("disk is whole", 2) == 0 {
				w.disk.BreakAt(int64(draw("breaks at", 24)))
			}
			before, left := len(w.written), 1+draw("chunks", 23)
			err := w.rework(func(at uint64) (e surface.Extent, ok bool) {
				at += uint64(rapid.SampledFrom([]int{0, 0, 0, 1000, 700_000}).Draw(r, "passed over"))
				if left--; left < 0 || at >= w.g.Sectors {
					return e, false
				}
				return surface.Extent{LBA: at, Sectors: min(uint64(1+draw("sectors of it", 400_000)), w.g.Sectors-at)}, true
			})
			if err == nil && len(w.written) > before {
				_, open, wrong := w.intended()
				require.NoError(r, wrong)
				require.False(r, open, "what came to its end leaves nothing open")
			}
			if _, withdrawn := errors.AsType[*sweep.WithdrawnError](err); withdrawn {
				require.False(r, w.consents.Hold(theRun, 0), "it ends for want of a word only when there is none")
			}
			w.disk.Mend()
			w.fails = false
			if draw("lives on", 1) == 0 {
				w.kill()
			}
		}
		wrote[kind] += len(w.written)
	})
	for _, kind := range []check.Kind{check.Mend, check.Renew, check.Overwrite} {
		require.Positive(t, wrote[kind], "%s wrote something", kind)
	}
	t.Log(wrote, "writes")
}

// Every access of a rework to its journal fails once, each in its turn: it stops there, and once the disk answers again it comes to its end
// with everything written and counted, nothing open, and never a write that has no intent.
func TestAJournalThatFailsAtAnyMoment(t *testing.T) {
	const sectors, chunk = 600_000, 200_000
	next := func(at uint64) (surface.Extent, bool) { return surface.Extent{LBA: at, Sectors: chunk}, at < sectors }
	quiet := func(what string, most int) int {
		if what == "readable" {
			return 0
		}
		return most
	}
	again := map[check.Kind]uint64{check.Renew: 2} // from its copy, and in its turn
	for _, kind := range []check.Kind{check.Mend, check.Renew, check.Overwrite} {
		for _, killed := range []bool{false, true} {
			failed := 0
			for at, fired := 0, true; fired; at++ {
				w := found(t, t.TempDir(), kind, sectors, quiet)
				require.NoError(t, w.consents.Hear(t.Context(), theRun, time.Hour))
				w.disk.BreakAt(int64(at))
				err := w.rework(next)
				var query string
				if query, fired = w.disk.Mend(); fired {
					failed++
					require.Error(t, err, "%s: %s", kind, query)
					if killed {
						w.kill()
					}
					require.NoError(t, w.rework(next), "%s: %s", kind, query)
				} else {
					require.NoError(t, err)
					require.Len(t, w.written, sectors/chunk, "nothing is written twice")
				}
				for lba := uint64(0); lba < sectors; lba += chunk {
					require.Contains(t, w.written, surface.Extent{LBA: lba, Sectors: chunk})
				}
				twice := uint64(len(w.written)-sectors/chunk) * chunk / 8
				require.LessOrEqual(t, twice, again[kind]*chunk/8, "%s: no more is written again than was under way", query)
				require.Equal(t, uint64(sectors/8)+twice, w.counted.Sectors+w.counted.Restored, "%s: %s", kind, query)
				require.Equal(t, uint64(sectors), w.told)
				w.close()
			}
			require.GreaterOrEqual(t, failed, 6, "accesses of %s", kind)
		}
	}
}
