package write

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// letting is a source whose drive is held by somebody for so many openings.
type letting struct {
	device.Source
	class drive.FaultClass
	after int
	asked int
	held  held
}

func (l *letting) Uses(context.Context, drive.Attachment) ([]string, error) { return nil, nil }

func (l *letting) OpenExclusive(context.Context, drive.Attachment) (device.Exclusive, error) {
	if l.asked++; l.asked > l.after {
		return &l.held, nil
	}
	return nil, &device.Failed{Class: l.class, What: "opening", Cause: "somebody holds it"}
}

// What was killed in the middle of a write holds the drive until the kernel has finished it: that is waited for, ten seconds, and nothing
// else is.
func TestHoldingWaitsForWhatWasKilled(t *testing.T) {
	for what, c := range map[string]struct {
		class   drive.FaultClass
		after   int
		reason  Reason // empty: it is held
		waited  time.Duration
		openers int
	}{
		"at once":       {waited: 0, openers: 1},
		"in time":       {class: drive.FaultInUse, after: 20, waited: 10 * time.Second, openers: 21},
		"too late":      {class: drive.FaultInUse, after: 21, reason: Held, waited: 10 * time.Second, openers: 21},
		"for no opener": {class: drive.FaultNotAllowed, after: 1, reason: ReadOnly, openers: 1},
	} {
		synctest.Test(t, func(t *testing.T) {
			source := &letting{class: c.class, after: c.after}
			o := ordered(check.Overwrite)
			o.Source = source
			began := time.Now()
			held, err := Hold(t.Context(), o, surface.Geometry{}, nil)
			assert.Equal(t, c.waited, time.Since(began), what)
			assert.Equal(t, c.openers, source.asked, what)
			if c.reason != "" {
				var refused *Refused
				require.ErrorAs(t, err, &refused, what)
				assert.Equal(t, c.reason, refused.Reason, what)
				return
			}
			require.NoError(t, err, what)
			assert.False(t, source.held.closed)
			held.Close()
			assert.True(t, source.held.closed)
		})
	}
	ctx, end := context.WithCancel(t.Context())
	end()
	o := ordered(check.Overwrite)
	o.Source = &letting{class: drive.FaultInUse, after: 1}
	_, err := Hold(ctx, o, surface.Geometry{}, nil)
	require.ErrorIs(t, err, context.Canceled)
}

// told is an outcome of a chunk.
type told struct {
	lba uint64
	surface.Outcome
}

// chunks has a world do the chunks of an order once, and gives what it told.
func (w *world) chunks(t *testing.T, size uint64) (all []told, err error) {
	t.Helper()
	held, err := Hold(t.Context(), w.opening(), w.g, func(f func(*check.Written)) { f(&w.counted) })
	require.NoError(t, err)
	at := uint64(0)
	return all, held.Blocks.Stream(t.Context(), device.Streaming{Depth: 1}, func() (surface.Read, bool) {
		r := surface.Read{Extent: surface.Extent{LBA: at, Sectors: min(size, w.g.Sectors-at)}}
		at += r.Sectors
		return r, r.Sectors > 0
	}, func(r surface.Read, o surface.Outcome) { all = append(all, told{r.LBA, o}) })
}

// drawn has chance come as it is listed, for each thing in turn; what is not listed does not happen.
func drawn(list map[string][]int) func(string, int) int {
	return func(what string, most int) int {
		if len(list[what]) == 0 {
			return most
		}
		next := list[what][0]
		list[what] = list[what][1:]
		return next
	}
}

func worldOf(t *testing.T, kind check.Kind, sectors uint64, list map[string][]int) *world {
	t.Helper()
	w := found(t, t.TempDir(), kind, sectors, drawn(list))
	t.Cleanup(w.close)
	require.NoError(t, w.consents.Hear(t.Context(), theRun, time.Hour))
	return w
}

// What was written, cleared and found readable is counted in physical sectors, and what is told of a chunk is how it is afterwards.
func TestWhatIsCountedOfAMend(t *testing.T) {
	w := worldOf(t, check.Mend, 40, map[string][]int{
		"readable": {0, 1, 0, 0, 0}, // the second is, before anything is written
		"bad":      {9, 0, 9, 9},    // the third refuses the write
		"heals":    {1, 1, 0},       // and the last takes it, and cannot be read again
	})
	all, err := w.chunks(t, 8)
	require.NoError(t, err)
	assert.Equal(t, check.Written{Sectors: 4, Cleared: 2, Readable: 1}, w.counted)
	assert.Equal(t, []told{
		{0, surface.Outcome{}},
		{8, surface.Outcome{}},
		{16, surface.Outcome{Cause: surface.Medium}},
		{24, surface.Outcome{}},
		{32, surface.Outcome{Cause: surface.Medium}},
	}, all)
	assert.Equal(t, []surface.Extent{{Sectors: 8}, {LBA: 16, Sectors: 8}, {LBA: 24, Sectors: 8}, {LBA: 32, Sectors: 8}}, w.written)
}

// A place is written once in a go, however often the sweep comes back to it.
func TestAMendWritesAPlaceOnce(t *testing.T) {
	w := worldOf(t, check.Mend, 8, map[string][]int{"readable": {0, 0, 0}, "bad": {0}, "heals": {0, 0, 0}})
	held, err := Hold(t.Context(), w.opening(), w.g, func(f func(*check.Written)) { f(&w.counted) })
	require.NoError(t, err)
	times := 3
	require.NoError(t, held.Blocks.Stream(t.Context(), device.Streaming{}, func() (surface.Read, bool) {
		times--
		return surface.Read{Extent: surface.Extent{Sectors: 8}}, times >= 0
	}, func(surface.Read, surface.Outcome) {}))
	assert.Len(t, w.written, 1)
	assert.Equal(t, check.Written{Sectors: 1}, w.counted)
}

func TestWhatIsCountedOfARenewal(t *testing.T) {
	w := worldOf(t, check.Renew, 24, map[string][]int{"unsaved": {9, 0, 9}})
	all, err := w.chunks(t, 8)
	require.NoError(t, err)
	assert.Equal(t, check.Written{Sectors: 2}, w.counted)
	renewed := surface.Outcome{Took: 5 * time.Millisecond, Spent: 8 * time.Millisecond}
	assert.Equal(t, []told{{0, renewed}, {8, surface.Outcome{Cause: surface.Medium}}, {16, renewed}}, all, "the pace is that of reading")

	w = worldOf(t, check.Renew, 24, map[string][]int{"bad": {9, 0, 0}})
	all, err = w.chunks(t, 8)
	var failed *device.Failed
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, drive.FaultMedium, failed.Class)
	assert.Contains(t, failed.Cause, filepath.Join(w.dir, "renewal", "copy"), "where what stood there is")
	assert.Len(t, all, 1)
	assert.Equal(t, check.Written{Sectors: 1}, w.counted, "what the drive refused is not written")
	assert.FileExists(t, filepath.Join(w.dir, "renewal", "copy"))
	require.ErrorAs(t, w.rework(func(uint64) (surface.Extent, bool) { return surface.Extent{}, false }), &failed, "nor does it go on later")
}

// The copy is kept while it may be needed, in a folder nobody else reads, and removed at the end.
func TestTheCopyOfARenewal(t *testing.T) {
	w := worldOf(t, check.Renew, 8, nil)
	o := w.opening()
	held, err := Hold(t.Context(), o, w.g, nil)
	require.NoError(t, err)
	at, err := os.Stat(filepath.Dir(o.Copy))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), at.Mode().Perm())
	require.NoError(t, os.WriteFile(o.Copy, nil, 0o600))
	held.Done()
	assert.NoFileExists(t, o.Copy)
	o.Copy = filepath.Join(w.dir, "bench.db", "copy")
	held, err = Hold(t.Context(), o, w.g, nil)
	require.ErrorContains(t, err, "making the folder for the copy")
	assert.NotNil(t, held.Close, "whoever asked lets go of the drive")
}

func TestWhatIsCountedOfAnOverwrite(t *testing.T) {
	const stretch = 256 << 20 / 512
	w := worldOf(t, check.Overwrite, 2*stretch+8, map[string][]int{"bad": {9, 0}})
	var intents []surface.Extent
	draw := w.draw
	w.draw = func(what string, most int) int {
		if what == "bad" { // a write: what is intended at that moment
			e, _, err := w.intended()
			require.NoError(t, err)
			intents = append(intents, e)
		}
		return draw(what, most)
	}
	all, err := w.chunks(t, stretch/2)
	require.NoError(t, err)
	one, two := surface.Extent{Sectors: stretch}, surface.Extent{LBA: stretch, Sectors: stretch}
	three := surface.Extent{LBA: 2 * stretch, Sectors: 8}
	assert.Equal(t, []surface.Extent{one, one, two, two, three}, intents, "256 MiB at a time, and to the end of the drive")
	assert.Len(t, all, 5)
	assert.Equal(t, check.Written{Sectors: (3*stretch/2 + 8) / 8}, w.counted)
	assert.Equal(t, surface.Medium, all[1].Cause)
}

// A word holds from when it was given until it ends, to the nanosecond, and for no other run.
func TestAWordHoldsForItsTime(t *testing.T) {
	w := worldOf(t, check.Mend, 8, nil)
	given := w.clock
	require.NoError(t, w.consents.Hear(t.Context(), theRun, time.Minute))
	for after, holds := range map[time.Duration]bool{
		-1: false, 0: true, time.Minute - 1: true, time.Minute: false, time.Hour: false,
	} {
		w.clock = given.Add(after)
		assert.Equal(t, holds, w.consents.Hold(theRun, 0), after)
		assert.False(t, w.consents.Hold(theRun+1, 0))
	}
	w.clock = given
	assert.True(t, w.consents.Hold(theRun, time.Minute-1))
	assert.False(t, w.consents.Hold(theRun, time.Minute), "it must hold for longer than that")
	require.NoError(t, w.consents.Hear(t.Context(), theRun, 0))
	assert.False(t, w.consents.Hold(theRun, 0))
	w.kill()
	assert.False(t, w.consents.Hold(theRun, 0), "withdrawn, whoever begins again")
}

// A word that cannot be stored does not count; that it is withdrawn does.
func TestAWordThatCannotBeStored(t *testing.T) {
	w := worldOf(t, check.Mend, 8, nil)
	w.disk.BreakAt(0)
	require.ErrorContains(t, w.consents.Hear(t.Context(), theRun+1, 1), "keeping the consent to run 8")
	w.disk.Mend()
	assert.False(t, w.consents.Hold(theRun+1, 0))
	w.disk.BreakAt(0)
	require.Error(t, w.consents.Hear(t.Context(), theRun, 0))
	w.disk.Mend()
	assert.False(t, w.consents.Hold(theRun, 0))
}
