package bench

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
)

// scratched is a drive with unreadable sectors and a slow place.
func scratched(serial string, sectors uint64) sim.Spec {
	s := disk(serial)
	s.Identity.Sectors, s.Identity.PhysicalSector = sectors, 4096
	s.Unread, s.FirstLBA = sim.Course{From: 9}, uint32(sectors/2)
	s.Counters = append(s.Counters, sim.Counter{ID: 194, Kind: sim.Temperature})
	s.Slow = []sim.Stretch{{LBA: sectors / 3, Sectors: 100, Costs: 7}}
	return s
}

func (s *shop) sweepOf(run int64) *check.Result {
	for i := range s.sweeps {
		if s.sweeps[i].Run == run {
			return &s.sweeps[i]
		}
	}
	return nil
}

func (s *shop) done(run int64) func() bool {
	return func() bool { return s.runs[run].State == check.Done }
}

// unreadable lists the first LBA of each physical sector a sweep found unreadable.
func unreadable(r *check.Result) []uint64 {
	all := []uint64{}
	for _, e := range r.Ranges {
		for lba := e.LBA; e.Cause.Unreadable() && lba < e.End(); lba += 8 {
			all = append(all, lba)
		}
	}
	return all
}

func ribbonOf(t *testing.T, r *check.Result) *surface.Ribbon {
	t.Helper()
	ribbon := surface.NewRibbon(r.Standing.Geometry)
	for _, b := range r.Blocks {
		require.NoError(t, ribbon.UnpackBlock(b.Number, b.Cells))
	}
	return ribbon
}

func TestAWholeSweepFindsWhatTheDriveHides(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(3600), "", "one")
		source.Insert("one", scratched("KVA077M511", 40_000_000))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), By: "Dov"})
		require.NoError(t, err)
		s.take(t, "the sweep", s.done(receipt.Run.ID))
		run, sweep := s.runs[receipt.Run.ID], s.sweepOf(receipt.Run.ID)
		require.NotNil(t, sweep)
		assert.Equal(t, source.Truth("one"), unreadable(sweep))
		assert.EqualValues(t, 9, sweep.Standing.Unreadable)
		require.Len(t, sweep.Slow, 1)
		assert.True(t, sweep.Slow[0].Confirmed())
		assert.Equal(t, check.StepFailed, run.Steps[1].State)
		assert.Equal(t, "9 unreadable sectors; 1 slow place, confirmed", run.Steps[1].Note.String())
		assert.Equal(t, check.Failed, run.Outcome)
		var bytes uint64
		for _, c := range ribbonOf(t, sweep).Cells() {
			require.True(t, c.Swept())
			bytes += c.Bytes
		}
		assert.InEpsilon(t, 40_000_000*512, bytes, 0.001)
		assert.NotEmpty(t, sweep.Heat)
	})
}

func TestAQuickCheckTakesASampleAndSaysWhatItRulesOut(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(3600), "", "one")
		spec := disk("KVA077M511")
		spec.Identity.Sectors = 4_000_000_000
		source.Insert("one", spec)
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Quick, Bay: at(1), By: "Dov"})
		require.NoError(t, err)
		s.take(t, "the check", s.done(receipt.Run.ID))
		run, sweep := s.runs[receipt.Run.ID], s.sweepOf(receipt.Run.ID)
		assert.Equal(t, check.Passed, run.Outcome)
		assert.Equal(t, "every sample was read", run.Steps[2].Note.String())
		require.NotNil(t, sweep.Standing.Sample)
		assert.InDelta(t, 0.003, sweep.Standing.Sample.RulesOut(0.95), 0.0001)
	})
}

func TestASweepOfFlashSaysHowMuchOfItHeldData(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(3600), "", "one", "two")
		flash := scratched("BWS03M511", 40_000_000)
		flash.Identity.RotationRate, flash.InUse = 1, 0.375
		source.Insert("one", flash)
		source.Insert("two", scratched("KVA077M511", 40_000_000))
		path := filepath.Join(t.TempDir(), "bench.db")
		s := start(t, source, path)
		s.take(t, "the drives", func() bool { return s.answering(1)() && s.answering(2)() })
		var runs [2]int64
		for i := range runs {
			receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(i + 1), By: "Dov"})
			require.NoError(t, err)
			runs[i] = receipt.Run.ID
		}
		time.Sleep(100 * time.Millisecond)
		sweeps := s.sweeps
		s.end() // what was counted goes on being counted
		s = start(t, source, path)
		s.sweeps = sweeps
		s.take(t, "the sweeps", func() bool { return s.done(runs[0])() && s.done(runs[1])() })
		held := s.sweepOf(runs[0]).Standing.Held
		require.NotNil(t, held)
		assert.InDelta(t, 0.375, *held, 0.002)
		assert.Nil(t, s.sweepOf(runs[1]).Standing.Held, "a platter is read wherever it is")
	})
}

// sweeping is a bench that has been ordered to sweep a whole drive of a hundred gigabytes.
func sweeping(t *testing.T) (s *shop, source *sim.Bench, path string, run int64) {
	t.Helper()
	source = sim.New(sim.NewClock(900), "", "one")
	source.Insert("one", scratched("KVA077M511", 200_000_000))
	path = filepath.Join(t.TempDir(), "bench.db")
	s = start(t, source, path)
	s.take(t, "the drive", s.answering(1))
	receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), By: "Dov"})
	require.NoError(t, err)
	return s, source, path, receipt.Run.ID
}

// The bench is ended again and again, as a crash would end it; what was swept is not swept again, and nothing is lost.
func TestASweepGoesOnWhereItWasAfterEveryEnd(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s, source, path, id := sweeping(t)
		r := rand.New(rand.NewPCG(5, 5))
		for range 4 {
			time.Sleep(time.Duration(50+r.IntN(150)) * time.Millisecond)
			sweeps := s.sweeps
			s.end()
			s = start(t, source, path)
			s.sweeps = sweeps
		}
		s.take(t, "the sweep", s.done(id))
		sweep := s.sweepOf(id)
		require.NotNil(t, sweep)
		assert.Equal(t, source.Truth("one"), unreadable(sweep))
		var bytes uint64
		for _, c := range ribbonOf(t, sweep).Cells() {
			bytes += c.Bytes
		}
		assert.InEpsilon(t, 200_000_000*512, bytes, 0.001, "nothing is swept twice")
	})
}

func TestASweepWaitsGoesOnAndStops(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(60), "", "one")
		source.Insert("one", scratched("KVA077M511", 4_000_000_000))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), By: "Dov"})
		require.NoError(t, err)
		id := receipt.Run.ID
		sweeping := func() bool { return len(s.runs[id].Steps) > 1 && s.runs[id].Steps[1].State == check.Begun }
		s.take(t, "the sweep's begin", sweeping)
		var last protocol.Progress
		for last.Blocks == nil {
			last = <-s.heard
		}
		assert.True(t, last.Whole)
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderPause, Run: id, By: "Imre"})
		require.NoError(t, err)
		s.take(t, "the pause", func() bool { return s.runs[id].State == check.Paused })
		assert.Equal(t, "paused by Imre", s.runs[id].Pause.String())
		share := s.runs[id].Steps[1].Standing.Share
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderRead, Bay: at(1)})
		require.NoError(t, err, "a reading is taken meanwhile")
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderResume, Run: id, By: "Imre"})
		require.NoError(t, err)
		s.take(t, "going on", func() bool { return s.runs[id].State == check.Running })
		assert.InDelta(t, share, s.runs[id].Steps[1].Standing.Share, 0.001, "nothing was read while it waited")
		begun := time.Now()
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderStop, Run: id, By: "Imre"})
		require.NoError(t, err)
		s.take(t, "the stop", s.done(id))
		assert.Less(t, time.Since(begun), time.Second)
		assert.Equal(t, check.Stopped, s.runs[id].Outcome)
		require.NotNil(t, s.sweepOf(id), "what it found so far is kept")
		assert.Less(t, s.sweepOf(id).Standing.Share, 0.5)
	})
}

func TestAHotDriveIsLetCoolAndGoesOnByItself(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(60_000), "", "one")
		spec := scratched("KVA077M511", 4_000_000_000)
		spec.Heat = sim.Heat{Base: 54, Wave: 8} // warm by day, cool by night
		source.Insert("one", spec)
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(
			t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), By: "Dov", Limit: check.Limit{Share: 5}},
		)
		require.NoError(t, err)
		hot := false
		s.take(t, "heat, and its end", func() bool {
			r := s.runs[receipt.Run.ID]
			if r.State == check.Paused {
				hot = true
				assert.Contains(t, r.Pause.String(), "goes on when it has cooled to 50 °C")
			}
			return hot && r.State == check.Running
		})
	})
}

func TestASweepStopsWhenNothingCanChangeTheVerdict(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(3600), "", "one")
		source.Insert("one", scratched("KVA077M511", 400_000_000))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(
			t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), By: "Dov", Limit: check.Limit{StopAt: 2}},
		)
		require.NoError(t, err)
		s.take(t, "the run", s.done(receipt.Run.ID))
		sweep := s.sweepOf(receipt.Run.ID)
		assert.EqualValues(t, 2, sweep.Standing.Unreadable)
		assert.Less(t, sweep.Standing.Share, 0.9)
		assert.Contains(t, s.runs[receipt.Run.ID].Steps[1].Note.String(), "nothing more can change the verdict")
	})
}

// Stopped after any commit of an extended check, the bench goes on: nothing that was finished is lost or done twice.
func TestStoppedAfterEveryCommitAnExtendedCheckIsFinishedOnce(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		for commits := int64(1); ; commits++ {
			dir := t.TempDir()
			clock, err := sim.RecallClock(filepath.Join(dir, "drives.json"), 7200)
			require.NoError(t, err)
			source := sim.New(clock, filepath.Join(dir, "drives.json"), "one")
			spec := scratched("KVA077M511", 60_000_000)
			spec.Slow = nil
			source.Insert("one", spec)
			path := filepath.Join(dir, "bench.db")
			s := start(t, source, path)
			s.take(t, "the drive", s.answering(1))
			id, reached, taken := s.stopAfter(
				t, commits, protocol.Order{Kind: protocol.OrderCheck, Check: check.Extended, Bay: at(1), By: "Dov"},
			)
			if !taken {
				s.end()
				continue
			}
			known := *s
			s.end()
			s = start(t, source, path)
			s.sweeps, s.readings = known.sweeps, known.readings
			s.take(t, "the check", s.done(id))

			run, sweep := s.runs[id], s.sweepOf(id)
			require.Equal(
				t, []check.StepState{check.StepDone, check.StepFailed, check.StepFailed, check.StepDone}, states(run),
				"after commit %d: %+v", commits, run,
			)
			require.NotNil(t, sweep, "after commit %d", commits)
			assert.Equal(t, source.Truth("one"), unreadable(sweep), "after commit %d", commits)
			var bytes uint64
			for _, c := range ribbonOf(t, &s.sweeps[0]).Cells() {
				bytes += c.Bytes
			}
			assert.InEpsilon(t, 60_000_000*512, bytes, 0.001, "after commit %d: all is swept, nothing twice", commits)
			extended := 0
			for _, test := range readTests(t, source) {
				if test.Kind == "extended" {
					extended++
				}
			}
			assert.Equal(t, 1, extended, "after commit %d: the drive tested itself once", commits)
			s.end()
			if !reached || t.Failed() {
				assert.Greater(t, commits, int64(6), "the check has that many commits at least")
				return
			}
		}
	})
}

func states(r check.Run) []check.StepState {
	var all []check.StepState
	for _, s := range r.Steps {
		all = append(all, s.State)
	}
	return all
}

func TestTwentyFourDrivesAtOnceAndThreeOfThemInTrouble(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		const drives, hung, pulled, garbled = 24, 4, 9, 15
		source := sim.New(sim.NewClock(1800), "")
		for n := range drives {
			spec := scratched(fmt.Sprintf("KVA07%05d", n), 40_000_000+uint64(n)*8)
			switch n {
			case hung:
				spec.Awkward.HangsOn, spec.Awkward.HangsFeature = ata.SMART, ata.SMARTReadThresholds
			case garbled:
				spec.Awkward.Garbage = true
			case pulled:
				spec.Identity.Sectors *= 1000 // it is at it still, however late this test comes to pull it
			}
			source.Insert(drive.Address(fmt.Sprintf("place-%02d", n)), spec)
		}
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		settled := func() bool {
			n := 0
			for _, b := range s.bays {
				if b.Connection == protocol.Answering || b.Connection == protocol.StuckBay {
					n++
				}
			}
			return n == drives
		}
		s.take(t, "all drives", settled)
		runs := map[int]int64{}
		for bay, b := range s.bays {
			receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(bay), By: "Dov"})
			if b.Connection == protocol.StuckBay {
				refusal(t, drive.FaultStuck, err)
				continue
			}
			require.NoError(t, err)
			n, err := strconv.Atoi(string(b.Address)[len("place-"):])
			require.NoError(t, err)
			runs[n] = receipt.Run.ID
		}
		require.Len(t, runs, drives-1)
		s.take(t, "the sweep of the one that is pulled", func() bool {
			r := s.runs[runs[pulled]]
			return len(r.Steps) > 1 && r.Steps[1].State == check.Begun
		})
		source.Remove(drive.Address(fmt.Sprintf("place-%02d", pulled)))
		s.take(t, "all that can finish", func() bool {
			done := 0
			for n, id := range runs {
				if n != pulled && s.runs[id].State == check.Done {
					done++
				}
			}
			return done == drives-2 && s.runs[runs[pulled]].State == check.Absent
		})
		for n, id := range runs {
			if n == pulled {
				continue
			}
			sweep := s.sweepOf(id)
			require.NotNil(t, sweep, "drive %d", n)
			assert.Equal(t, source.Truth(drive.Address(fmt.Sprintf("place-%02d", n))), unreadable(sweep), "drive %d", n)
			assert.InDelta(t, 1, sweep.Standing.Share, 1e-9)
		}
	})
}

// A bench that lets sweeps begin one after the other finishes all of them, and one that waits for its turn survives a restart.
func TestSweepsWaitForTheirTurn(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(3600), "", "one", "two", "three")
		path := filepath.Join(t.TempDir(), "bench.db")
		for n, at := range []drive.Address{"one", "two", "three"} {
			source.Insert(at, scratched(fmt.Sprintf("KVA07%05d", n), 400_000_000))
		}
		s := start(t, source, path)
		s.bench.Feeder.Feed = sweep.Feed{Stagger: 500 * time.Millisecond, Trial: 100 * time.Millisecond}
		all := func() bool { return s.answering(1)() && s.answering(2)() && s.answering(3)() }
		s.take(t, "the drives", all)
		waited := false
		var ordered []int64
		for bay := 1; bay <= 3; bay++ {
			receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(bay), By: "Dov"})
			require.NoError(t, err)
			ordered = append(ordered, receipt.Run.ID)
		}
		s.take(t, "one that waits", func() bool {
			for _, r := range s.runs {
				waited = waited || r.State == check.Paused && r.Turn
			}
			return waited
		})
		s.end()
		s = start(t, source, path)
		s.take(t, "all sweeps", func() bool {
			return !slices.ContainsFunc(ordered, func(id int64) bool { return !s.done(id)() })
		})
	})
}

// A stop is stored with what the sweep found so far, or not at all: then the sweep goes on from where it is, and loses nothing.
func TestAStopThatCannotBeStoredIsRefusedAndTheSweepLosesNothing(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s, source, _, id := sweeping(t)
		for _, commits := range []int64{0, 1} { // the mark may be kept, or not even that
			time.Sleep(120 * time.Millisecond)
			s.room.fillAfter(commits)
			_, err := s.order(t, protocol.Order{Kind: protocol.OrderStop, Run: id, By: "Imre"})
			require.ErrorContains(t, err, "keeps nothing more")
			s.room.fillAfter(-1)
		}
		s.take(t, "the sweep", s.done(id))
		assert.Equal(t, check.Failed, s.runs[id].Outcome, "it went on to its end")
		require.Len(t, s.sweeps, 1, "and is told once")
		assert.Equal(t, source.Truth("one"), unreadable(&s.sweeps[0]))
		var bytes uint64
		for _, c := range ribbonOf(t, &s.sweeps[0]).Cells() {
			require.True(t, c.Swept(), "no stretch of its ribbon is missing")
			bytes += c.Bytes
		}
		assert.GreaterOrEqual(t, bytes, uint64(200_000_000*512-9*4096), "all but what cannot be read")
	})
}

// What a sweep had read is damaged in the journal: it is told, and not taken for a surface nobody has swept.
func TestASweepDoesNotGoOnFromADamagedMark(t *testing.T) {
	t.Parallel()
	for table, damage := range map[string]string{"sweep_block": "cells = x'01'", "sweep_mark": "body = '{'"} {
		t.Run(table, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				s, source, path, id := sweeping(t)
				time.Sleep(120 * time.Millisecond)
				s.end()
				db, err := sqlx.Open("sqlite", path)
				require.NoError(t, err)
				defer db.Close()
				_, err = db.ExecContext(t.Context(), `UPDATE `+table+` SET `+damage)
				require.NoError(t, err)
				s = start(t, source, path)
				s.take(t, "its end", s.done(id))
				r := s.runs[id]
				assert.Equal(t, check.Failed, r.Outcome)
				assert.Contains(t, r.Stands().String(), "Stop the run and begin anew")
				assert.Empty(t, s.sweeps)
			})
		})
	}
}

// The end of a sweep waits for room in the journal, and that is logged.
func TestTheEndOfASweepWaitsForRoom(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s, source, _, id := sweeping(t)
		s.take(t, "the sweep's begin", func() bool {
			r := s.runs[id]
			return len(r.Steps) > 1 && r.Steps[1].State == check.Begun
		})
		s.room.fillAfter(0)
		time.Sleep(time.Minute)
		synctest.Wait()
		assert.Contains(t, strings.Join(s.logs.Take(), "\n"), "storing a sweep")
		s.room.fillAfter(-1)
		s.take(t, "the sweep", s.done(id))
		require.Len(t, s.sweeps, 1)
		assert.Equal(t, source.Truth("one"), unreadable(&s.sweeps[0]))
	})
}
