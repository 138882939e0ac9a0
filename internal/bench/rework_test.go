package bench

import (
	"os"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/bench/write"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
)

var victim = drive.Key{Model: "Korvan K4-2000", Serial: "KVA077M511"}

// order is a rework that nothing speaks against, of the drive scratched makes.
func order(kind check.Kind, targets ...uint64) protocol.Order {
	w := &check.Rework{
		Ending:  "A077M511",
		Pattern: surface.Pattern{Seed: 77},
		Release: check.Release{
			Intake:  1,
			Key:     victim,
			Scope:   kind,
			Owner:   "Ms Adeyemi-Holt, by phone",
			By:      "Dov",
			Expires: time.Now().Add(24 * time.Hour * 365),
			Nonce:   string(kind),
		},
	}
	for _, lba := range targets {
		w.Targets = append(w.Targets, surface.Extent{LBA: lba, Sectors: 8})
	}
	return protocol.Order{Kind: protocol.OrderCheck, Check: kind, Bay: at(1), Key: victim, By: "Dov", Rework: w, Lasts: 1000 * time.Hour}
}

// waiting counts the sectors the drive says wait, and those it has reallocated.
func waiting(t *testing.T, taken protocol.Reading) (waiting, reallocated uint64) {
	t.Helper()
	decoded := reading.Decode(taken.Pages)
	w, _ := decoded.Attribute(197)
	r5, _ := decoded.Attribute(5)
	return w.Raw48(), r5.Raw48()
}

func marred(sectors uint64) sim.Spec {
	spec := scratched("KVA077M511", sectors)
	spec.Slow = nil
	spec.Counters = append(spec.Counters, sim.Counter{ID: 5, Value: 100}, sim.Counter{ID: 197, Value: 100, Course: sim.Course{From: 9}})
	return spec
}

func TestAMendClearsWhatHealsAndSaysWhatDoesNot(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		for _, stubborn := range []bool{false, true} {
			source := sim.New(sim.NewClock(3600), "", "one")
			spec := marred(40_000_000)
			spec.Stubborn = stubborn
			source.Insert("one", spec)
			s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
			s.take(t, "the drive", s.answering(1))
			bad := source.Truth("one")
			require.Len(t, bad, 9)
			sound := bad[0] - 800 // was unreadable when it was swept, and can be read now
			receipt, err := s.order(t, order(check.Mend, append(bad, sound)...))
			require.NoError(t, err)
			s.take(t, "the mend", s.done(receipt.Run.ID))
			run, sweep := s.runs[receipt.Run.ID], s.sweepOf(receipt.Run.ID)
			require.NotNil(t, sweep)
			assert.Equal(t, check.Mending, sweep.Kind)
			pending, reallocated := waiting(t, s.readings[len(s.readings)-1])
			if stubborn {
				assert.Equal(t, "1 sector could be read after all; 9 sectors still unreadable", run.Steps[1].Note.String())
				assert.Equal(t, check.Failed, run.Outcome)
				assert.Equal(t, bad, source.Truth("one"))
				assert.EqualValues(t, 9, pending)
			} else {
				assert.Equal(t, "9 sectors cleared; 1 sector could be read after all", run.Steps[1].Note.String())
				assert.Equal(t, check.Passed, run.Outcome)
				assert.Empty(t, source.Truth("one"))
				assert.Equal(t, [2]uint64{0, 9}, [2]uint64{pending, reallocated}, "the reading after tells what became of them")
			}
			assert.EqualValues(t, 9*8, source.Wrote("one"), "nothing else is written")
			assert.Equal(
				t, []check.StepKind{check.ReadingBefore, check.ReadingAfter}, []check.StepKind{s.readings[1].Step, s.readings[2].Step},
			)
		}
	})
}

func TestARenewalWritesBackWhatCanBeReadAndNothingElse(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(3600), "", "one")
		spec := marred(1_000_000)
		spec.Unread.From = 2
		source.Insert("one", spec)
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		bad := source.Truth("one")
		receipt, err := s.order(t, order(check.Renew))
		require.NoError(t, err)
		s.take(t, "the renewal", s.done(receipt.Run.ID))
		assert.Equal(t, "2 unreadable sectors", s.runs[receipt.Run.ID].Steps[1].Note.String())
		assert.Equal(t, bad, unreadable(s.sweepOf(receipt.Run.ID)), "what cannot be read cannot be renewed")
		assert.EqualValues(t, 1_000_000-2*8, source.Wrote("one"))
		left, err := os.ReadDir(filepath.Join(s.bench.Folder, "renewal"))
		require.NoError(t, err)
		assert.Empty(t, left, "no copy of anybody's data stays behind")
	})
}

func TestAnOverwriteIsReadBack(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		holds         uint64
		write, verify string
		outcome       check.Outcome
	}{
		"a drive that keeps it": {0, "everything was written", "everything holds what was written to it", check.Passed},
		"a drive of less room than it claims": {
			1_000_000, "everything was written",
			"100\u00a0096 sectors do not hold what was written to them; 19 % swept; the drive does not keep what is written to it",
			check.Failed,
		},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				source := sim.New(sim.NewClock(7200), "", "one")
				spec := marred(4_000_000)
				spec.Holds = row.holds
				source.Insert("one", spec)
				s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
				s.take(t, "the drive", s.answering(1))
				receipt, err := s.order(t, order(check.Overwrite))
				require.NoError(t, err)
				s.take(t, "the overwrite", s.done(receipt.Run.ID))
				run := s.runs[receipt.Run.ID]
				assert.Equal(t, row.write, run.Steps[1].Note.String())
				assert.Equal(t, row.verify, run.Steps[2].Note.String())
				assert.Equal(t, row.outcome, run.Outcome)
				assert.Empty(t, source.Truth("one"), "writing has cleared what could not be read")
				if row.holds > 0 {
					found := run.Steps[2].Standing.Elsewhere
					require.NotNil(t, found)
					assert.Equal(t, surface.Elsewhere{LBA: 0, From: 3_000_000}, *found)
				}
			})
		})
	}
}

func TestAReworkIsRefusedUnlessEverythingIsInOrder(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(3600), "", "one", "two", "three")
		source.Insert("one", marred(4_000_000))
		used, docked := disk("KVA077M4R9"), disk("KVA077M60A")
		used.Awkward.InUse, docked.Awkward.NoPass, docked.Awkward.Adapter = "mounted at /srv", true, "ff01:0a00 0207"
		source.Insert("two", used)
		source.Insert("three", docked)
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drives", func() bool {
			return s.answering(1)() && s.answering(2)() && s.bays[3].Connection == protocol.Unread
		})
		try := func(change func(*protocol.Order)) error {
			o := order(check.Mend, 800)
			change(&o)
			_, err := s.order(t, o)
			return err
		}
		refusal(t, drive.FaultNotAllowed, try(func(o *protocol.Order) { o.Rework.Release.Nonce = "" }))
		refusal(t, drive.FaultWrongDrive, try(func(o *protocol.Order) { o.Rework.Ending = "A077M512" }))
		refusal(t, drive.FaultInUse, try(func(o *protocol.Order) {
			o.Bay, o.Key.Serial, o.Rework.Ending, o.Rework.Release.Key.Serial = at(2), "KVA077M4R9", "A077M4R9", "KVA077M4R9"
		}))
		// The adapter's own serial is OXD60A; the drive behind it never told its name.
		refusal(t, drive.FaultNotPassed, try(func(o *protocol.Order) {
			o.Bay, o.Key, o.Rework.Ending = at(3), drive.Key{Model: "Dock", Serial: "OXD60A"}, "OXD60A"
			o.Rework.Release.Key = o.Key
		}))
		// The serial is asked for last: what else is wrong is told to somebody who has not typed it yet.
		asking := func(change func(*protocol.Order)) error {
			return try(func(o *protocol.Order) { o.Asking, o.Rework.Ending = true, ""; change(o) })
		}
		require.NoError(t, asking(func(*protocol.Order) {}))
		assert.Empty(t, s.runs, "nothing was begun")
		refusal(t, drive.FaultInUse, asking(func(o *protocol.Order) {
			o.Bay, o.Key.Serial, o.Rework.Release.Key.Serial = at(2), "KVA077M4R9", "KVA077M4R9"
		}))
		refusal(t, drive.FaultInUse, try(func(o *protocol.Order) {
			o.Bay, o.Key.Serial, o.Rework.Release.Key.Serial = at(2), "KVA077M4R9", "KVA077M4R9"
		}))
		s.bench.AllowRework = false
		refusal(t, drive.FaultNotAllowed, try(func(*protocol.Order) {}))
		refusal(t, drive.FaultNotAllowed, asking(func(*protocol.Order) {}))
		s.bench.AllowRework = true

		receipt, err := s.order(t, order(check.Mend, 800))
		require.NoError(t, err)
		s.take(t, "the mend", s.done(receipt.Run.ID))
		refusal(t, drive.FaultNotAllowed, try(func(*protocol.Order) {}))
		assert.Zero(t, source.Wrote("one"), "that sector could be read: nothing was ever written")
		assert.Zero(t, source.Wrote("two"))
	})
}

// A rework that cannot begin gives its turn back: those after it do not wait for it for ever.
func TestAReworkThatCannotBeginHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(3600), "", "one")
		source.Insert("one", marred(1_000_000))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.bench.Feeder.Feed = sweep.Feed{Stagger: time.Millisecond, Trial: time.Hour}
		s.take(t, "the drive", s.answering(1))
		require.NoError(t, source.WriteProtect(t.Context(), s.bays[1].Device, true))
		for n := range 3 {
			o := order(check.Mend, 800)
			o.Rework.Release.Nonce = string(rune('a' + n))
			receipt, err := s.order(t, o)
			require.NoError(t, err)
			s.take(t, "its end", s.done(receipt.Run.ID))
			assert.Contains(t, s.runs[receipt.Run.ID].Reason.String(), "read-only")
		}
		receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), By: "Dov"})
		require.NoError(t, err)
		s.take(t, "the sweep", s.done(receipt.Run.ID))
		assert.NotNil(t, s.sweepOf(receipt.Run.ID))
	})
}

// Another drive takes the bay between the order and the first write; and again in the middle of an overwrite.
func TestADriveThatWasExchangedIsNotWritten(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(60), "", "one")
		source.Insert("one", marred(400_000_000))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(t, order(check.Overwrite))
		require.NoError(t, err)
		require.Eventually(t, func() bool { return source.Wrote("one") > 100_000 }, 30*time.Second, 10*time.Millisecond)
		source.Remove("one")
		s.take(t, "the absence", func() bool { return s.runs[receipt.Run.ID].State == check.Absent })
		other := disk("KVA077M4R9")
		source.Insert("one", other)
		s.take(t, "the other drive", func() bool { return s.bays[1].Key.Serial == "KVA077M4R9" })
		wrote := source.Wrote("one")
		time.Sleep(200 * time.Millisecond)
		assert.Equal(t, wrote, source.Wrote("one"), "the other drive is not written to")
		assert.Equal(t, check.Absent, s.runs[receipt.Run.ID].State)
	})
}

// Stopped after any commit of a rework, the bench goes on by the rules of each, and the drive ends as it should.
func TestStoppedAfterEveryCommitAReworkIsFinished(t *testing.T) {
	t.Parallel()
	for kind, note := range map[check.Kind]string{check.Mend: "", check.Renew: "", check.Overwrite: "everything was written"} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				var restored uint64
				for commits := int64(1); ; commits++ {
					dir := t.TempDir()
					clock, err := sim.RecallClock(filepath.Join(dir, "drives.json"), 7200)
					require.NoError(t, err)
					source := sim.New(clock, filepath.Join(dir, "drives.json"), "one")
					spec := marred(120_000)
					if spec.Unread.From = 2; kind == check.Renew { // looking closer takes hundreds of commits
						spec.Unread.From = 0
					}
					source.Insert("one", spec)
					bad := source.Truth("one")
					path := filepath.Join(dir, "bench.db")
					s := start(t, source, path)
					s.take(t, "the drive", s.answering(1))
					var targets []uint64
					if kind == check.Mend {
						targets = bad
					}
					id, reached, taken := s.stopAfter(t, commits, order(kind, targets...))
					if !taken {
						s.end()
						continue
					}
					known := *s
					s.end()
					s = start(t, source, path)
					s.sweeps, s.readings, s.runs = known.sweeps, known.readings, known.runs
					s.take(t, "the rework", s.done(id))
					run := s.runs[id]
					if note != "" {
						require.Equal(t, note, run.Steps[1].Note.String(), "after commit %d: %+v", commits, run)
					}
					switch kind {
					case check.Mend:
						w := run.Steps[1].Standing.Written
						require.NotNil(t, w)
						assert.EqualValues(t, 2, w.Cleared+w.Readable, "after commit %d", commits)
						assert.Empty(t, source.Truth("one"), "after commit %d", commits)
						assert.LessOrEqual(
							t, source.Wrote("one"), uint64(2*8), "after commit %d: no sector is written that can be read", commits,
						)
					case check.Renew:
						assert.Equal(t, bad, source.Truth("one"))
						assert.GreaterOrEqual(t, source.Wrote("one"), uint64(120_000), "after commit %d", commits)
						if w := run.Steps[1].Standing.Written; w != nil {
							restored += w.Restored
						}
					default:
						assert.Equal(t, "everything holds what was written to it", run.Steps[2].Note.String(), "after commit %d", commits)
					}
					s.end()
					if !reached || t.Failed() {
						assert.Greater(t, commits, int64(5), "a rework has that many commits at least")
						assert.Equal(t, kind == check.Renew, restored > 0, "what may be half written is written back and counted")
						return
					}
				}
			})
		})
	}
}

// overwriting is a bench that overwrites a large drive, by a word that lasts five minutes.
func overwriting(t *testing.T) (s *shop, source *sim.Bench, path string, run int64) {
	t.Helper()
	source = sim.New(sim.NewClock(1), "", "one")
	spec := disk("KVA077M511")
	spec.Identity.Sectors = 40_000_000_000
	source.Insert("one", spec)
	path = filepath.Join(t.TempDir(), "bench.db")
	s = start(t, source, path)
	s.take(t, "the drive", s.answering(1))
	o := order(check.Overwrite)
	o.Lasts = 5 * time.Minute
	receipt, err := s.order(t, o)
	require.NoError(t, err)
	run = receipt.Run.ID
	s.take(t, "its begin", func() bool { return s.runs[run].State == check.Running && s.runs[run].Steps[1].State == check.Begun })
	time.Sleep(2 * time.Second)
	require.Positive(t, source.Wrote("one"))
	return s, source, path, run
}

// A rework goes on while the shop says from time to time that the release holds. Nobody says so: it waits. It does not hold any more:
// the next chunk is not written, whatever becomes of the order to stop.
func TestConsentStaysLive(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s, source, _, id := overwriting(t)
		says := func(lasts time.Duration) {
			_, err := s.bench.Order(t.Context(), protocol.Order{Kind: protocol.OrderConsent, Run: id, Lasts: lasts})
			require.NoError(t, err)
		}
		stands := func(want check.State) func() bool { return func() bool { return s.runs[id].State == want } }
		begun := time.Now()
		for range 8 {
			time.Sleep(time.Minute)
			says(5 * time.Minute)
		}
		require.Equal(t, check.Running, s.runs[id].State)
		time.Sleep(3*time.Minute + 55*time.Second)
		wrote := source.Wrote("one")
		s.take(t, "nobody says anything: it waits", stands(check.Paused))
		assert.WithinRange(t, time.Now(), begun.Add(12*time.Minute), begun.Add(12*time.Minute+30*time.Second))
		assert.Greater(t, source.Wrote("one"), wrote, "it did not wait before")
		assert.Contains(t, s.runs[id].Stands().String(), "nobody has said for a while that the release still holds")
		wrote = source.Wrote("one")
		time.Sleep(time.Hour)
		assert.Equal(t, wrote, source.Wrote("one"))
		says(5 * time.Minute)
		s.take(t, "it goes on by itself", stands(check.Running))
		time.Sleep(10 * time.Second)
		require.Greater(t, source.Wrote("one"), wrote)

		says(0)
		wrote = source.Wrote("one")
		s.take(t, "it ends", s.done(id))
		assert.Equal(t, check.Stopped, s.runs[id].Outcome)
		assert.Equal(t, "stopped by the end of its release", s.runs[id].Reason.String())
		run := s.runs[id]
		assert.True(t, run.Wrote(), "and it is known to be written to")
		assert.LessOrEqual(t, source.Wrote("one")-wrote, uint64(2048*32), "what was under way at that moment")
	})
}

// The bench is ended while the release holds, and begins anew when it does not.
func TestARestartedBenchAsksForTheRelease(t *testing.T) {
	t.Parallel()
	for what, row := range map[string]struct {
		says time.Duration
		away time.Duration
		want check.State
	}{
		"it holds":                   {5 * time.Minute, time.Minute, check.Running},
		"nobody has said so since":   {5 * time.Minute, 6 * time.Minute, check.Paused},
		"it was withdrawn meanwhile": {0, time.Second, check.Paused},
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s, source, path, id := overwriting(t)
				s.end()
				j, err := journal.Open(t.Context(), path)
				require.NoError(t, err)
				consents, err := write.LoadConsents(t.Context(), j)
				require.NoError(t, err)
				require.NoError(t, consents.Hear(t.Context(), id, row.says))
				require.NoError(t, j.Close())
				time.Sleep(row.away)
				wrote := source.Wrote("one")
				s = start(t, source, path)
				s.take(t, "how it stands", func() bool { return s.runs[id].State == row.want })
				time.Sleep(10 * time.Second)
				assert.Equal(t, row.want == check.Running, source.Wrote("one") > wrote)
			})
		})
	}
}
