package bench

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/bench/worker"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/vector"
)

func disk(serial string) sim.Spec {
	return sim.Spec{
		Identity: ata.Identify{
			Serial:            serial,
			Model:             "Korvan K4-2000",
			Sectors:           1_000_000,
			LogicalSector:     512,
			RotationRate:      7200,
			SMARTSupported:    true,
			SMARTEnabled:      true,
			ErrorLogSupported: true,
			SelfTestSupported: true,
			SelfTestEnabled:   true,
			Integrity:         ata.IntegrityRight,
		},
		Born:     time.Now(),
		Hours:    9000,
		Share:    1,
		Minutes:  2,
		Heat:     sim.Heat{Base: 38},
		Counters: []sim.Counter{{ID: 9, Value: 90, Kind: sim.Hours}},
	}
}

// shop stands for the other side: it takes every report and remembers the last of each kind.
type shop struct {
	bench    *Bench
	heard    <-chan protocol.Progress
	room     *room
	logs     *vector.Logs
	end      func()
	bays     map[int]protocol.Bay
	runs     map[int64]check.Run
	readings []protocol.Reading
	sweeps   []check.Result

	unanswered protocol.Unanswered
}

// room is what the journal's disk has: from a commit on there is none.
type room struct {
	left atomic.Int64  // commits until it is full; below 0: no end
	full chan struct{} // closed when it refused the first
	once sync.Once
}

func newRoom() *room {
	r := &room{full: make(chan struct{})}
	r.left.Store(-1)
	return r
}

// fillAfter leaves room for n more commits; below 0 there is room again. The channel closes when the first is refused.
func (r *room) fillAfter(n int64) <-chan struct{} {
	r.left.Store(n)
	return r.full
}

// Statement implements sqlite.Gate.
func (r *room) Statement(string) error { return nil }

// Before implements sqlite.Gate.
func (r *room) Before() error {
	for {
		left := r.left.Load()
		if left == 0 {
			r.once.Do(func() { close(r.full) })
			return errors.New("the disk keeps nothing more")
		}
		if left < 0 || r.left.CompareAndSwap(left, left-1) {
			return nil
		}
	}
}

// After implements sqlite.Gate.
func (r *room) After() {}

// start runs a bench on a journal; its reports wait for shop.take.
func start(t *testing.T, source *sim.Bench, path string) *shop {
	t.Helper()
	space, logged := newRoom(), &vector.Logs{}
	j, err := journal.Open(t.Context(), path, space)
	require.NoError(t, err)
	b, err := New(t.Context(), Options{
		Title: "bench",
		Machine: worker.Machine{
			Tool:        "test",
			Source:      source,
			Journal:     j,
			Folder:      filepath.Dir(path),
			Copies:      []string{filepath.Dir(path)},
			AllowRework: true,
			Log:         logged.Logger(),
		},
	})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); assert.NoError(t, b.Run(ctx)) }()
	heard, err := b.Progress(ctx)
	require.NoError(t, err)
	s := &shop{bench: b, heard: heard, room: space, logs: logged, bays: map[int]protocol.Bay{}, runs: map[int64]check.Run{}}
	ended := false
	s.end = func() {
		if !ended {
			ended = true
			cancel()
			<-done
			require.NoError(t, j.Close())
		}
	}
	t.Cleanup(s.end)
	return s
}

// take takes reports in until what is wanted has come.
func (s *shop) take(t *testing.T, what string, until func() bool) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second) // on a busy machine, too
	defer cancel()
	for !until() {
		all, err := s.bench.Reports(ctx)
		require.NoError(t, err, "waiting for %s", what)
		for _, r := range all {
			s.keep(r)
			require.NoError(t, s.bench.Acknowledge(ctx, r.Seq))
		}
	}
}

func (s *shop) keep(r protocol.Report) {
	switch {
	case r.Bay != nil:
		s.bays[r.Bay.ID.Number] = *r.Bay
	case r.Run != nil:
		s.runs[r.Run.ID] = *r.Run
	case r.Sweep != nil:
		s.sweeps = append(s.sweeps, *r.Sweep)
	case r.Unanswered != nil:
		s.unanswered = *r.Unanswered
	case r.Reading != nil:
		s.readings = append(s.readings, *r.Reading)
	}
}

func (s *shop) answering(bay int) func() bool {
	return func() bool { return s.bays[bay].Connection == protocol.Answering }
}

// numbers are the runs', as a shop gives them.
var numbers atomic.Int64

func (s *shop) order(t *testing.T, o protocol.Order) (protocol.Receipt, error) {
	t.Helper()
	if o.Kind == protocol.OrderCheck {
		o.Run = numbers.Add(1)
	}
	return s.bench.Order(t.Context(), o)
}

// at is a bay of this bench.
func at(number int) drive.Bay { return drive.Bay{Number: number} }

func refusal(t require.TestingT, class drive.FaultClass, err error) {
	var r *protocol.Refusal
	require.ErrorAs(t, err, &r)
	assert.Equal(t, class, r.Class)
	assert.NotEmpty(t, r.Advice)
}

func TestADriveIsReadAsSoonAsItAnswers(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(600), "", "one", "two")
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "two empty bays", func() bool { return len(s.bays) == 2 })
		source.Insert("two", disk("KVA077M511"))
		s.take(t, "the drive", s.answering(2))
		require.Len(t, s.readings, 1, "the reading comes before the bay says who is in it")
		assert.Equal(t, "KVA077M511", s.readings[0].Key.Serial)
		assert.Equal(t, at(2), s.readings[0].Bay)
		source.Remove("two")
		s.take(t, "the empty bay", func() bool { return s.bays[2].Connection == protocol.Empty })
		assert.False(t, s.bays[2].Key.IsValid())
	})
}

func TestABayKeepsItsNumberOverRestarts(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "bench.db")
		s := start(t, sim.New(sim.NewClock(600), "", "b", "a"), path)
		s.take(t, "the bays", func() bool { return len(s.bays) == 2 })
		s.end()
		again := start(t, sim.New(sim.NewClock(600), "", "a", "c", "b"), path)
		again.take(t, "the bays", func() bool { return len(again.bays) == 3 })
		assert.Equal(
			t, map[int]drive.Address{1: "b", 2: "a", 3: "c"},
			map[int]drive.Address{1: again.bays[1].Address, 2: again.bays[2].Address, 3: again.bays[3].Address},
		)
	})
}

func TestOrdersThatCannotBeCarriedOutAreRefused(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(600), "", "one", "two")
		source.Insert("one", disk("KVA077M511"))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		_, err := s.order(t, protocol.Order{Kind: protocol.OrderRead, Bay: at(9)})
		refusal(t, drive.FaultNotRead, err)
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderCheck, Bay: at(2)})
		refusal(t, drive.FaultNoAnswer, err)
		_, err = s.order(
			t, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1), Key: drive.Key{Model: "Korvan K4-2000", Serial: "ANOTHER"}},
		)
		refusal(t, drive.FaultWrongDrive, err)
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderStop, Bay: at(1), Run: 77})
		refusal(t, drive.FaultInUse, err)
		assert.ErrorContains(t, err, "run 77 is not under way. Look at the run")
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1)})
		require.NoError(t, err)
		for _, kind := range []protocol.OrderKind{protocol.OrderCheck, protocol.OrderVolumes} {
			_, err = s.order(t, protocol.Order{Kind: kind, Bay: at(1)})
			refusal(t, drive.FaultInUse, err)
			assert.ErrorContains(t, err, "is under way. Wait for its end, or stop it first.")
		}
	})
}

func TestAStopIsObeyedAtOnceAndAbortsTheTestInTheDrive(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(1), "", "one")
		source.Insert("one", disk("KVA077M511"))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1), By: "Dov"})
		require.NoError(t, err)
		id := receipt.Run.ID
		s.take(t, "the self-test", func() bool { r := s.runs[id]; return len(r.Steps) > 1 && r.Steps[1].Sent })
		asked := time.Now()
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderStop, Run: id, By: "Imre"})
		require.NoError(t, err)
		s.take(t, "the end", func() bool { return s.runs[id].State == check.Done })
		assert.Less(t, time.Since(asked), time.Second)
		assert.Equal(t, check.Stopped, s.runs[id].Outcome)
		assert.Equal(t, "aborted by the host", readTests(t, source)[0].Result)
	})
}

// readTests reads the self-test log of the drive at the first place.
func readTests(t *testing.T, source *sim.Bench) []reading.SelfTest {
	t.Helper()
	found, err := source.Look(t.Context())
	require.NoError(t, err)
	d, err := source.Open(t.Context(), found[0])
	require.NoError(t, err)
	session, fault := probe.Open(d, probe.NotKnown)
	require.Nil(t, fault)
	return reading.Decode(session.Pages(t.Context(), probe.Manner{Wake: true})).Tests
}

// TestKilledAfterAnyReportTheCheckIsFinishedOnce ends the bench after the n-th report it has made, for every n, without giving
// it the time to tidy up, and starts it again on the same journal.
func TestKilledAfterAnyReportTheCheckIsFinishedOnce(t *testing.T) {
	t.Parallel()
	for n := 1; n <= 9; n++ {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				source := sim.New(sim.NewClock(600), "", "one")
				source.Insert("one", disk("KVA077M511"))
				path := filepath.Join(t.TempDir(), "bench.db")
				s := start(t, source, path)
				s.take(t, "the drive", s.answering(1))
				receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1), By: "Dov"})
				require.NoError(t, err)
				seen := 0
				for seen < n && s.runs[receipt.Run.ID].State != check.Done {
					all, err := s.bench.Reports(t.Context())
					require.NoError(t, err)
					s.keep(all[0])
					require.NoError(t, s.bench.Acknowledge(t.Context(), all[0].Seq))
					seen++
				}
				s.end()

				again := start(t, source, path)
				again.runs, again.readings = s.runs, s.readings
				again.take(t, "the end", func() bool { return again.runs[receipt.Run.ID].State == check.Done })
				r := again.runs[receipt.Run.ID]
				assert.Equal(t, check.Passed, r.Outcome, r.Reason.String())
				tests := readTests(t, source)
				assert.Len(t, tests, 1, "the drive ran one self-test, not two")
				ids := map[string]bool{}
				for _, x := range again.readings {
					assert.False(t, ids[x.ID], "a reading was told twice")
					ids[x.ID] = true
				}
			})
		})
	}
}

func TestARunFollowsItsDriveIntoAnotherBay(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(60), "", "one", "two")
		spec := disk("KVA077M511")
		source.Insert("one", spec)
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1), By: "Dov"})
		require.NoError(t, err)
		id := receipt.Run.ID
		s.take(t, "the self-test", func() bool { r := s.runs[id]; return len(r.Steps) > 1 && r.Steps[1].Sent })
		source.Remove("one")
		s.take(t, "its absence", func() bool { return s.runs[id].State == check.Absent })
		source.Insert("two", spec)
		s.take(t, "the end", func() bool { return s.runs[id].State == check.Done })
		assert.Equal(t, at(2), s.runs[id].Bay)
		assert.Equal(t, check.Passed, s.runs[id].Outcome)
	})
}

func server(port uint64) sim.Spec {
	s := disk("OSS0419Z4K")
	s.SCSI = &sim.SCSI{Vendor: "OSPRIL", Port: port}
	return s
}

func TestADriveOnTwoPathsRunsOneCheckAndOutlivesAPath(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(60), "", "one", "two")
		source.Insert("one", server(1))
		source.Insert("two", server(2))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "both paths", func() bool { return s.answering(1)() && s.answering(2)() })
		assert.Equal(t, s.bays[1].Key, s.bays[2].Key)
		assert.Len(t, s.readings, 1, "found twice, it is read once")
		receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1), By: "Dov"})
		require.NoError(t, err)
		id := receipt.Run.ID
		s.take(t, "the self-test", func() bool { r := s.runs[id]; return len(r.Steps) > 1 && r.Steps[1].Sent })
		source.Remove("one")
		s.take(t, "the end, by the other path", func() bool { return s.runs[id].State == check.Done })
		assert.Equal(t, at(2), s.runs[id].Bay)
	})
}

func TestWhatAnAdapterPassesIsKeptInTheJournal(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(600), "", "one")
		spec := disk("KVA077M60A")
		spec.Awkward = sim.Awkward{NoPass: true, Adapter: "ff01:0a00 0207"}
		source.Insert("one", spec)
		path := filepath.Join(t.TempDir(), "bench.db")
		s := start(t, source, path)
		unread := func() bool { return s.bays[1].Connection == protocol.Unread }
		s.take(t, "the drive", unread)
		assert.Contains(t, s.bays[1].Fault.Cause, "does not pass ATA commands")
		s.end()
		again := start(t, source, path)
		again.take(t, "the drive", func() bool { return again.bays[1].Connection == protocol.Unread })
		assert.Contains(t, again.bays[1].Fault.Cause, "known to pass no ATA commands", "it is not asked again by itself")
		spec.Awkward.NoPass = false
		source.Insert("one", spec)
		again.take(t, "the new firmware of the adapter", func() bool { return again.bays[1].Device.Instance != "1" })
		_, err := again.order(t, protocol.Order{Kind: protocol.OrderAttempt, Bay: at(1)})
		require.NoError(t, err)
		again.take(t, "its answer", again.answering(1))
	})
}

func TestADriveThatNamesItselfAndThenHangsIsStuckAndLeavesTheOthersAlone(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(600), "", "one", "two")
		spec := disk("KVA077M61C")
		spec.Awkward = sim.Awkward{HangsOn: ata.SMART, HangsFeature: ata.SMARTReadThresholds}
		source.Insert("one", spec)
		source.Insert("two", disk("KVA077M4R9"))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "both", func() bool { return s.bays[1].Connection == protocol.StuckBay && s.answering(2)() })
		assert.Equal(t, "KVA077M61C", s.bays[1].Key.Serial, "what it said before is kept")
		_, err := s.order(t, protocol.Order{Kind: protocol.OrderRead, Bay: at(1)})
		refusal(t, drive.FaultStuck, err)
	})
}

func TestASleepingDriveIsFoundAndLeftAsleepUntilSomebodyAsks(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(600), "", "one")
		spec := disk("KVA077M4R9")
		spec.Awkward.Asleep = true
		source.Insert("one", spec)
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		asleep := reading.Decode(s.readings[0].Pages)
		assert.False(t, asleep.HasCounters)
		assert.Equal(t, drive.FaultAsleep, asleep.Faults[0].Class)
		_, err := s.order(t, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), LeaveAsleep: true})
		require.NoError(t, err)
		s.take(t, "the reading that wakes nobody", func() bool { return len(s.readings) > 1 })
		assert.False(t, reading.Decode(s.readings[1].Pages).HasCounters)
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderRead, Bay: at(1)})
		require.NoError(t, err)
		s.take(t, "the reading", func() bool { return len(s.readings) > 2 })
		woken := reading.Decode(s.readings[2].Pages)
		assert.True(t, woken.HasCounters)
	})
}

func TestAnOrderedReadingThatBringsNothingSaysWhy(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(600), "", "one")
		spec := disk("KVA077M4R9")
		spec.Awkward.VanishAfter = 9 // its first reading, and no more
		source.Insert("one", spec)
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		_, err := s.order(t, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), ID: "asked"})
		require.NoError(t, err)
		s.take(t, "the answer", func() bool { return s.unanswered.Order == "asked" })
		assert.Equal(t, drive.FaultVanished, s.unanswered.Fault.Class)
	})
}

// A journal without room loses no change of a bay: it is kept when there is room again.
func TestAFullDiskLosesNoReport(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(60), "", "one")
		source.Insert("one", scratched("KVA077M511", 400_000_000))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drive", s.answering(1))
		s.room.fillAfter(0)
		source.Remove("one")
		require.Eventually(t, func() bool {
			s.bench.unkeptMu.Lock()
			defer s.bench.unkeptMu.Unlock()
			return len(s.bench.unkept) > 0 && s.bench.unkept[len(s.bench.unkept)-1].Bay != nil &&
				s.bench.unkept[len(s.bench.unkept)-1].Bay.Connection == protocol.Empty
		}, 20*time.Second, 5*time.Millisecond)
		s.room.fillAfter(-1)
		s.take(t, "the empty bay", func() bool { return s.bays[1].Connection == protocol.Empty })
	})
}

// stopAfter gives an order to a bench whose journal keeps only so many commits from then on, and waits until it is full or the run
// is over. It is armed before the order: however slow the test, the run cannot get ahead of it. Not taken means that the order's own
// commit was the first that was refused.
func (s *shop) stopAfter(t *testing.T, commits int64, o protocol.Order) (run int64, full, taken bool) {
	t.Helper()
	stopped := s.room.fillAfter(commits)
	receipt, err := s.order(t, o)
	if err != nil {
		require.ErrorContains(t, err, "keeps nothing more")
		return 0, true, false
	}
	require.Eventually(t, func() bool {
		select {
		case <-stopped:
			full = true
		default:
		}
		open, err := s.bench.Journal.OpenRuns(t.Context())
		return full || err == nil && len(open) == 0
	}, 20*time.Second, 2*time.Millisecond)
	return receipt.Run.ID, full, true
}

// A run's number is the shop's: a number that was used belongs to that run for ever.
func TestANumberOfARunIsUsedOnce(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(600), "", "one", "two")
		source.Insert("one", disk("KVA077M511"))
		source.Insert("two", disk("KVA077M512"))
		s := start(t, source, filepath.Join(t.TempDir(), "bench.db"))
		s.take(t, "the drives", func() bool { return s.answering(1)() && s.answering(2)() })
		o := protocol.Order{Kind: protocol.OrderCheck, Check: check.Quick, Bay: at(1), Run: 70, By: "Dov"}
		receipt, err := s.bench.Order(t.Context(), o)
		require.NoError(t, err)
		assert.EqualValues(t, 70, receipt.Run.ID)
		o.Bay = at(2)
		_, err = s.bench.Order(t.Context(), o)
		refusal(t, drive.FaultInUse, err)
		o.Run = 71
		_, err = s.bench.Order(t.Context(), o)
		require.NoError(t, err)
	})
}

// A bench that is bound again goes on with its reports after what the shop has of it.
func TestABenchIsBoundToItsShop(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		j, err := journal.Open(t.Context(), filepath.Join(t.TempDir(), "bench.db"))
		require.NoError(t, err)
		defer func() { require.NoError(t, j.Close()) }()
		fresh, err := j.Bond(t.Context())
		require.NoError(t, err)
		assert.Len(t, fresh.Bench, 32)
		assert.Equal(t, protocol.Bond{Bench: fresh.Bench, Next: 1}, fresh)
		require.NoError(t, j.Bind(t.Context(), "ours", 0))
		report := func(run int64) {
			require.NoError(t, j.Report(t.Context(), protocol.Report{Run: &check.Run{ID: run}}))
		}
		pending := func() (all [][2]int64) {
			reports, err := j.Reports(t.Context())
			require.NoError(t, err)
			for _, r := range reports {
				all = append(all, [2]int64{r.Seq, r.Run.ID})
			}
			return all
		}
		report(1)
		report(2)
		report(3)
		require.NoError(t, j.Acknowledge(t.Context(), 1, time.Now()))
		bond, err := j.Bond(t.Context())
		require.NoError(t, err)
		assert.Equal(t, protocol.Bond{Bench: fresh.Bench, Shop: "ours", Next: 4, Acknowledged: 1}, bond)
		for after, want := range map[int64][][2]int64{0: {{2, 2}, {3, 3}}, 1: {{2, 2}, {3, 3}}} {
			require.NoError(t, j.Bind(t.Context(), "ours", after))
			assert.Equal(t, want, pending(), "after %d: the shop has none of these", after)
		}
		require.NoError(t, j.Bind(t.Context(), "ours", 40))
		report(4)
		assert.Equal(t, [][2]int64{{41, 2}, {42, 3}, {43, 4}}, pending(), "what is told under these numbers is told for the first time")
		require.NoError(t, j.Acknowledge(t.Context(), 43, time.Now()))
		bond, err = j.Bond(t.Context())
		require.NoError(t, err)
		assert.Equal(t, [2]int64{44, 43}, [2]int64{bond.Next, bond.Acknowledged})
	})
}

// What a shop took in is told again for two days, should the shop be brought back from a copy.
func TestWhatWasTakenInIsToldAgain(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		ctx := t.Context()
		j, err := journal.Open(ctx, filepath.Join(t.TempDir(), "bench.db"))
		require.NoError(t, err)
		defer func() { require.NoError(t, j.Close()) }()
		tell := func(run int64) {
			require.NoError(t, j.Report(ctx, protocol.Report{Run: &check.Run{ID: run}}))
			require.NoError(t, j.Acknowledge(ctx, run, time.Now()))
		}
		again := func(after int64) (seqs []int64) {
			require.NoError(t, j.Resend(ctx, after))
			all, err := j.Reports(ctx)
			require.NoError(t, err)
			for i, r := range all {
				seqs = append(seqs, r.Seq)
				require.Equal(t, r.Seq, r.Run.ID)
				require.Equal(t, seqs[0]+int64(i), r.Seq)
			}
			require.NoError(t, j.Acknowledge(ctx, 1000, time.Now()))
			return seqs
		}
		tell(1)
		time.Sleep(47 * time.Hour)
		tell(2)
		tell(3)
		bond, err := j.Bond(ctx)
		require.NoError(t, err)
		assert.Equal(t, [3]int64{4, 3, 0}, [3]int64{bond.Next, bond.Acknowledged, bond.Forgotten})
		assert.Empty(t, again(3))
		assert.Equal(t, []int64{2, 3}, again(1))
		time.Sleep(2 * time.Hour)
		tell(4)
		bond, err = j.Bond(ctx)
		require.NoError(t, err)
		assert.EqualValues(t, 1, bond.Forgotten)
		assert.Equal(t, []int64{2, 3, 4}, again(0))
	})
}
