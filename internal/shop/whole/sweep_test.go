package whole_test

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
	"hylostat.example/internal/vector"
)

// swept lets the result of a sweep arrive.
func (p *place) swept(run int64, s state, share float64, ranges ...surface.Range) {
	p.t.Helper()
	p.clock.at = p.clock.at.Add(time.Minute)
	g, err := surface.NewGeometry(2_000_398_934_016, 512, 4096, 0, 7200, 0)
	require.NoError(p.t, err)
	w := surface.New(g, nil)
	standing := check.Standing{Geometry: g, Share: share}
	for _, r := range ranges {
		standing.Unreadable += g.CountPhysical(r.Extent)
	}
	r := check.Result{
		Key: s.key(),
		Sweep: check.Sweep{
			Run:      run,
			Step:     1,
			Kind:     check.WholeSweep,
			Began:    p.clock.at.Add(-time.Hour),
			Ended:    p.clock.at,
			Standing: standing,
		},
		Found: check.Found{Ranges: ranges, Blocks: []check.Block{{Number: 3, Cells: w.Ribbon().PackBlock(3)}}},
	}
	require.NoError(p.t, p.Take(p.t.Context(), "", protocol.Report{Sweep: &r}))
}

func scratch(lba, sectors uint64) surface.Range {
	return surface.Range{Extent: surface.Extent{LBA: lba, Sectors: sectors}, Cause: surface.Medium}
}

func TestASweepIsEvidence(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		s := tested("KVA077M4R9", 9_120)
		p.read(0, s)
		p.read(time.Hour, s)
		assert.Equal(t, drive.Healthy, p.verdict("7M4R9").Grade)
		p.swept(1, s, 1)
		for _, f := range p.verdict("7M4R9").Duties {
			assert.Equal(t, policy.Does, f.Fitness, "a clean whole sweep is what %s lacked", f.Duty)
		}
		p.swept(2, s, 1, scratch(4096, 24))
		v := p.verdict("7M4R9")
		assert.Equal(t, drive.Degrading, v.Grade)
		assert.Equal(t, "3 sectors unreadable, found by a sweep", v.Findings[0].Sentence)
		courses, _, err := p.Courses(t.Context(), p.drive("7M4R9"))
		require.NoError(t, err)
		for _, c := range courses {
			if c.Definition.Name == signal.UnreadableFound {
				assert.EqualValues(t, 3, c.Value.Number, "%s: what the verdict counts is what is shown", c.Value.Reason)
				assert.Equal(t, 1, c.Finding)
			}
		}
		p.read(24*time.Hour, s)
		moments, err := p.Readings(t.Context(), p.drive("7M4R9"))
		require.NoError(t, err)
		assert.NotContains(t, moments[0].Signals.Map(), signal.UnreadableFound, "what was found later was not known then")
		assert.EqualValues(t, 3, moments[2].Signals.Map()[signal.UnreadableFound])
		_, err = p.Redecode(t.Context(), who("Dov"))
		require.NoError(t, err)
		again, err := p.Readings(t.Context(), p.drive("7M4R9"))
		require.NoError(t, err)
		assert.Equal(t, moments, again, "reading the past anew keeps it")
	})
}

func TestASweepThatIsToldTwiceIsStoredOnce(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		s := tested("KVA077M4R9", 9_120)
		p.read(0, s)
		p.swept(1, s, 0.4, scratch(4096, 24), scratch(9000, 8))
		p.swept(1, s, 1)
		all, err := p.Sweeps(t.Context(), p.drive("7M4R9"))
		require.NoError(t, err)
		require.Len(t, all, 1)
		assert.InDelta(t, 0.4, all[0].Standing.Share, 1e-9)
		assert.InDelta(t, 9120, all[0].Hours, 1e-9)
		one, detail, err := p.SweepOf(t.Context(), 1)
		require.NoError(t, err)
		assert.False(t, one.ReadAll(), "a part is no whole sweep")
		assert.Equal(t, []surface.Range{scratch(4096, 24), scratch(9000, 8)}, detail.Ranges)
		assert.Len(t, detail.Blocks, 1)
		p.swept(2, s, 1, scratch(9000, 8), scratch(20_000, 8))
		differences, err := p.CompareSweeps(t.Context(), 1, 2)
		require.NoError(t, err)
		changes := map[uint64]surface.Change{}
		for _, d := range differences {
			changes[d.LBA] = d.Change
		}
		assert.Equal(t, map[uint64]surface.Change{4096: surface.Gone, 9000: surface.Stays, 20_000: surface.Fresh}, changes)
		_, _, err = p.SweepOf(t.Context(), 77)
		var missing *shop.NotFound
		require.ErrorAs(t, err, &missing)
	})
}

// busy is a store during whose questions a sweep goes on.
type busy struct {
	runs.Store
	meanwhile func()
}

func (b busy) Run(context.Context, int64) (check.Run, error) {
	b.meanwhile()
	return check.Run{ID: 1, State: check.Running}, nil
}

func TestWhoFollowsASweepNeverSeesItGoBack(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "shop.db"))
		require.NoError(t, err)
		defer st.Close()
		b := &bench{going: make(chan protocol.Progress)}
		swept := func(percent int) {
			b.going <- protocol.Progress{Run: check.Run{ID: 1, State: check.Running, Steps: []check.Step{{Percent: percent}}}}
		}
		storage := st.Storage()
		storage.Runs = busy{storage.Runs, func() {
			swept(10)
			swept(20)
			b.going <- protocol.Progress{Run: check.Run{ID: 2}} // taken when the ones before it are
		}}
		s, err := whole.New(
			t.Context(), "Saltmarsh Lane", storage, benchesOf(t, st, b), policy.Default, &clock{begin}, slog.New(slog.DiscardHandler),
		)
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		ended := attended(ctx, s, b)
		now, changes, err := s.Follow(ctx, 1)
		require.NoError(t, err)
		assert.Equal(t, 20, now.Steps[0].Percent)
		swept(30)
		assert.Equal(t, 30, (<-changes).Run.Steps[0].Percent, "10 and 20 were known")
		cancel()
		require.NoError(t, <-ended)
	})
}

func TestWhatWasSlowOnceIsAnsweredByTheReadingsAroundIt(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		for grown, says := range map[uint64]string{
			0: "the host was busy: the drive relocated nothing", 2: "the drive relocated it meanwhile: its count rose by 2",
		} {
			p := open(t)
			s := tested("KVA077M4R9", 9_120)
			take := func(step check.StepKind) {
				p.taken++
				p.clock.at = p.clock.at.Add(time.Minute)
				r := protocol.Reading{
					ID:    string(step),
					Run:   1,
					Step:  step,
					Bay:   drive.Bay{Number: 2},
					Key:   s.key(),
					At:    p.clock.at,
					Pages: s.pages(),
					Tool:  "test",
				}
				require.NoError(t, p.Take(t.Context(), "", protocol.Report{Reading: &r}))
			}
			take(check.ReadingBefore)
			p.swept(1, s, 1)
			one, _, err := p.SweepOf(t.Context(), 1)
			require.NoError(t, err)
			assert.Zero(t, one.Once, "before the second reading nobody knows")
			s.reallocated = grown
			take(check.ReadingAfter)
			one, _, err = p.SweepOf(t.Context(), 1)
			require.NoError(t, err)
			assert.Equal(t, says, one.Once.String())
			one.Standing.Slow = 1
			assert.Contains(t, wording.All(one.Standing.Says(one.Once)), "1 place was slow once: "+says+".")
		}
	})
}

func TestACheckGoesNoFurtherThanThePolicyNeeds(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		s := tested("KVA077M4R9", 9_120)
		p.read(0, s)
		p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Answering, Key: s.key()})
		for duty, limit := range map[drive.Duty]uint64{drive.Everyday: 100, drive.Continuous: 10} {
			require.NoError(t, p.SetDuty(t.Context(), who("Dov"), p.drive("7M4R9"), duty))
			_, err := p.Check(t.Context(), who("Dov"), p.drive("7M4R9"), runs.CheckOrder{Kind: check.Extended})
			require.NoError(t, err)
			assert.Equal(t, limit, p.bench.lastCheck().Limit.StopAt, duty)
		}
	})
}

// The picture of a sweep that goes on, after each of what its bench tells of it: testdata/live.txt.
func TestThePictureOfASweepThatGoesOn(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		b := &bench{going: make(chan protocol.Progress)}
		p := openWith(t, b)
		ctx, cancel := context.WithCancel(t.Context())
		ended := attended(ctx, p.Shop, b)
		warm := 41
		going := func(state check.State, step int, share float64, blocks ...int) protocol.Progress {
			r := check.Run{ID: 7, Kind: check.Extended, Bay: drive.Bay{Number: 2}, By: "Dov", State: state, Steps: []check.Step{
				{Kind: check.ReadingBefore, State: check.StepDone},
				{Kind: check.SpotSweep, State: check.Pending},
				{Kind: check.WholeSweep, State: check.Pending},
			}}
			for i := 1; i <= step; i++ {
				r.Steps[i].State, r.Steps[i].Standing = check.Begun, &check.Standing{Share: share, Celsius: &warm}
			}
			told := protocol.Progress{Run: r, Step: step}
			for _, n := range blocks {
				told.Blocks = append(told.Blocks, check.Block{Number: n, Cells: []byte{byte(n), byte(100 * share)}})
			}
			return told
		}
		whole := going(check.Running, 1, 0.5, 1, 2, 3)
		whole.Whole = true
		cold := going(check.Running, 1, 0.9, 4)
		cold.Run.Steps[1].Standing.Celsius = nil
		waits := going(check.Paused, 1, 0.52)
		waits.Run.Pause = wording.Say(wording.PausedBy, wording.Values{"by": "Imre"})
		first, heard, err := p.Follow(ctx, 7)
		require.Error(t, err, "nothing is known of it yet: %v %v", first, heard)

		book := vector.Open(t, "live.txt")
		for _, told := range []struct {
			what string
			is   protocol.Progress
		}{
			{"its first blocks", going(check.Running, 1, 0.1, 9, 0)},
			{"one more, too soon for a temperature", going(check.Running, 1, 0.1+1.0/512, 3)},
			{"and one a little later", going(check.Running, 1, 0.1+1.1/512, 9)},
			{"the whole picture", whole},
			{"without a temperature", cold},
			{"it waits", waits},
			{"the sweep's own copy of the run is older", going(check.Running, 1, 0.53, 5)},
			{"it goes on", going(check.Running, 1, 0.54)},
			{"another step", going(check.Running, 2, 0.2, 1)},
			{"the first step again", going(check.Running, 1, 1.0, 1)},
			{"its end, not reported yet", going(check.Done, 2, 1.0, 2)},
			{"its end", going(check.Done, 2, 1.0, 2)},
		} {
			p.clock.at = p.clock.at.Add(time.Minute)
			if told.what == "its end" {
				require.NoError(t, p.Take(ctx, "", protocol.Report{Run: &told.is.Run}))
			} else {
				b.going <- told.is
			}
			synctest.Wait()
			book.Head(told.what)
			now, err := p.RunByID(ctx, 7)
			if err != nil {
				book.Line("run: %s", err)
			} else {
				book.Line("run: %s", vector.Say(now.Stands()))
			}
			sweep, found, err := p.SweepOf(ctx, 7)
			if err != nil {
				book.Line("sweep: %s", err)
				continue
			}
			book.Line("step %d, %.4f", sweep.Step, sweep.Standing.Share)
			for _, block := range found.Blocks {
				book.Line("block %d: %x", block.Number, block.Cells)
			}
			for _, h := range found.Heat {
				book.Line("at %s, %.4f: %d degrees", h.At.Format("15:04"), h.Share, h.Celsius)
			}
		}
		book.Close()

		_, slow, err := p.Follow(ctx, 7)
		require.NoError(t, err)
		for range cap(slow) + 1 {
			b.going <- going(check.Running, 2, 0.4)
		}
		synctest.Wait()
		got := 0
		for range slow {
			got++
		}
		assert.Equal(t, cap(slow), got, "who does not keep up begins anew")
		listening, stop := context.WithCancel(ctx)
		_, heard, err = p.Follow(listening, 7)
		require.NoError(t, err)
		stop()
		synctest.Wait()
		_, more := <-heard
		assert.False(t, more, "who listens no more is told nothing more")
		cancel()
		require.NoError(t, <-ended)
	})
}
