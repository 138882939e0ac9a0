package whole_test

import (
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/reading"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/shop/watch"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// watched is a shop that keeps watch over a drive in bay 2.
type watched struct {
	*place
	state  state
	asleep bool
	mute   bool // readings bring nothing
	lost   bool // readings never come back
	unsaid bool // they come back, and do not say which order they answer
}

func watching(t *testing.T) *watched {
	return watchingOn(t, open(t))
}

func watchingOn(t *testing.T, p *place) *watched {
	w := &watched{place: p, state: tested("KVA077M511", 9000)}
	w.read(0, w.state)
	w.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Answering, Key: w.state.key()})
	w.bench.hears = func(o protocol.Order) error { w.hears(w.Shop, o); return nil }
	go func() { _ = attended(t.Context(), w.Shop, w.bench) }()
	synctest.Wait()
	w.bench.forget()
	return w
}

// hears answers an order for a reading as a bench does.
func (w *watched) hears(s *whole.Shop, o protocol.Order) {
	if o.Kind != protocol.OrderRead || w.lost {
		return
	}
	w.taken++
	report := protocol.Report{Unanswered: &protocol.Unanswered{Order: o.ID, Bay: o.Bay}}
	if !w.mute {
		r := protocol.Reading{ID: o.ID, Order: o.ID, Bay: o.Bay, Key: o.Key, At: w.clock.at, Pages: w.state.pages(), Tool: "test"}
		if w.unsaid {
			r.Order = ""
		}
		if w.asleep && o.LeaveAsleep {
			r.Pages = []reading.Page{r.Pages[0], {Name: reading.PageAttributes, Fault: &drive.Fault{Class: drive.FaultAsleep}}}
		}
		report = protocol.Report{Reading: &r}
	}
	require.NoError(w.t, s.Take(w.t.Context(), "", report))
}

// pass lets time pass for the shop, and gives what it ordered then.
func (w *watched) pass(d time.Duration) []protocol.Order {
	w.bench.forget()
	w.clock.at = w.clock.at.Add(d)
	time.Sleep(3 * time.Second)
	synctest.Wait()
	return w.bench.ordered()
}

func TestAPlanIsCarriedOut(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		own := ""
		every := func(h time.Duration) plans.Plan {
			return plans.Plan{For: plans.Scope{Bench: &own}, Read: plans.Cadence{Every: h * time.Hour}, WakeAfter: 2}
		}
		set, err := w.SetWatch(t.Context(), who("Imre"), every(6))
		require.NoError(t, err)
		require.Empty(t, w.pass(0), "nothing is due at once")
		orders := w.pass(6 * time.Hour)
		require.Len(t, orders, 1)
		assert.Equal(t, []any{protocol.OrderRead, true, "the watch"}, []any{orders[0].Kind, orders[0].LeaveAsleep, orders[0].By})
		stands, ok := w.StandingOf(w.drive("7M511").ID)
		require.True(t, ok)
		assert.Equal(t, w.clock.at, stands.Told)
		assert.Empty(t, stands.Missed)
		assert.WithinDuration(t, w.clock.at.Add(6*time.Hour), stands.Comes[0].Next, 6*time.Hour)
		require.Len(t, w.pass(26*time.Hour), 1, "what came due four times comes once")
		require.Empty(t, w.pass(0))
		w.unsaid = true
		require.Len(t, w.pass(6*time.Hour), 1)
		w.unsaid = false
		require.Len(t, w.pass(6*time.Hour), 1, "whoever missed that it was answered sees that it was")

		w.mute = true
		first := w.pass(6 * time.Hour)
		require.NotEmpty(t, first)
		require.Empty(t, w.pass(time.Minute), "it is left alone for a while")
		again := w.pass(45 * time.Minute)
		require.Len(t, again, 1)
		assert.Equal(t, first[0].ID+".1", again[0].ID, "under another name: the first was answered")
		stands, _ = w.StandingOf(w.drive("7M511").ID)
		assert.NotEmpty(t, stands.Missed)
		w.mute = false
		require.Len(t, w.pass(45*time.Minute), 1)

		w.asleep = true
		for range 7 {
			for _, o := range w.pass(6 * time.Hour) {
				assert.True(t, o.LeaveAsleep, "it slept for less than two days")
			}
		}
		stands, _ = w.StandingOf(w.drive("7M511").ID)
		assert.True(t, stands.Asleep)
		assert.Equal(t, wording.WatchAsleep, stands.Keeps.Code)
		woken := w.pass(6 * time.Hour)
		require.Len(t, woken, 1)
		assert.False(t, woken[0].LeaveAsleep, "two days without a word")
		stands, _ = w.StandingOf(w.drive("7M511").ID)
		assert.False(t, stands.Asleep)

		more := every(12)
		more.Short = plans.Cadence{Rule: "FREQ=DAILY;BYHOUR=3"}
		replaced, err := w.SetWatch(t.Context(), who("Imre"), more)
		require.NoError(t, err)
		require.Empty(t, w.pass(0), "what came due before the plan was so is not asked for")
		assert.Equal(t, set.ID, replaced.ID, "one plan for one bench")
		require.NoError(t, w.EndWatch(t.Context(), who("Imre"), set.ID))
		assert.Empty(t, w.pass(48*time.Hour))
		_, ok = w.StandingOf(w.drive("7M511").ID)
		assert.False(t, ok)
		_, err = w.SetWatch(t.Context(), who("Imre"), plans.Plan{For: plans.Scope{Lot: 99}, Read: plans.Cadence{Every: time.Hour}})
		require.ErrorContains(t, err, "lot 99")
	})
}

// The watch gives way to whoever asks, and does later what it left.
func TestAPersonsCheckComesBeforeTheWatch(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		key := w.state.key()
		var now check.Run
		stands := func(r check.Run) {
			now = r
			require.NoError(t, w.Take(t.Context(), "", protocol.Report{Run: &r}))
		}
		w.bench.hears = func(o protocol.Order) error {
			switch o.Kind {
			case protocol.OrderCheck:
				r := check.New(o.Check, o.Bay, o.Key, o.By, w.clock.at, o.Limit)
				r.ID, r.Order, r.State = o.Run, o.ID, check.Running
				stands(r)
			case protocol.OrderStop:
				r := now
				r.State, r.Outcome, r.Ended = check.Done, check.Stopped, w.clock.at
				r.Reason = wording.Say(wording.StoppedBy, wording.Values{"by": o.By})
				stands(r)
			default:
				w.hears(w.Shop, o)
			}
			return nil
		}
		_, err := w.SetWatch(t.Context(), who("Imre"), plans.Plan{
			For: plans.Scope{Drive: &key}, Short: plans.Cadence{Rule: "FREQ=WEEKLY;BYDAY=SU;BYHOUR=3"}, Share: 40,
		})
		require.NoError(t, err)
		orders := w.pass(6 * 24 * time.Hour) // over a Sunday
		require.Len(t, orders, 1)
		assert.Equal(t, []any{check.Short, 40}, []any{orders[0].Check, orders[0].Limit.Share})
		own := now
		require.Empty(t, w.pass(time.Hour), "it goes on")

		w.bench.forget()
		r, err := w.Check(t.Context(), who("Dov"), w.drive("7M511"), runs.CheckOrder{Kind: check.Quick})
		require.NoError(t, err)
		assert.NotEqual(t, own.ID, r.ID)
		orders = w.bench.ordered()
		require.Len(t, orders, 2)
		assert.Equal(t, []any{protocol.OrderStop, own.ID}, []any{orders[0].Kind, orders[0].Run})
		require.Empty(t, w.pass(time.Hour), "as long as Dov's goes on")
		r = now
		r.State, r.Outcome, r.Ended = check.Done, check.Stopped, w.clock.at
		stands(r)
		orders = w.pass(time.Minute)
		require.Len(t, orders, 1)
		assert.Equal(t, own.Order, orders[0].ID, "it is the one that was left")

		w.bench.forget()
		_, err = w.StopRun(t.Context(), who("Dov"), now.ID)
		require.NoError(t, err)
		assert.Empty(t, w.pass(time.Hour), "stopped by a person, it comes next week")
		assert.Len(t, w.pass(7*24*time.Hour), 1)
	})
}

// A service that dies between the word and the deed orders the same again, under the same name.
func TestWhatTheWatchBeganIsOrderedAgainAfterAKill(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		own := ""
		_, err := w.SetWatch(t.Context(), who("Imre"), plans.Plan{For: plans.Scope{Bench: &own}, Read: plans.Cadence{Every: 6 * time.Hour}})
		require.NoError(t, err)
		w.lost = true
		orders := w.pass(6 * time.Hour)
		require.Len(t, orders, 1)

		st, err := store.Open(t.Context(), w.file)
		require.NoError(t, err)
		defer st.Close()
		b := &bench{}
		s, err := whole.New(
			t.Context(), "Saltmarsh Lane", st.Storage(), benchesOf(t, st, b), policy.Default, w.clock, slog.New(slog.DiscardHandler),
		)
		require.NoError(t, err)
		b.shop = s
		go func() { _ = attended(t.Context(), s, b) }()
		time.Sleep(3 * time.Second)
		synctest.Wait()
		again := b.ordered()
		require.NotEmpty(t, again)
		assert.Equal(t, orders[0].ID, again[0].ID)
		assert.True(t, strings.HasPrefix(again[0].ID, runs.WatchOrders))
	})
}

// A drive that went before a restart is still watched after it, and a run that somebody stopped is not begun again by one.
func TestARestartForgetsNothingOfTheWatch(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		own := ""
		_, err := w.SetWatch(t.Context(), who("Imre"), plans.Plan{
			For: plans.Scope{Bench: &own}, Short: plans.Cadence{Rule: "FREQ=WEEKLY;BYDAY=SU;BYHOUR=3"},
		})
		require.NoError(t, err)
		orders := w.pass(6 * 24 * time.Hour)
		require.Len(t, orders, 1)
		r := check.New(check.Short, orders[0].Bay, orders[0].Key, orders[0].By, w.clock.at, check.Limit{})
		r.ID, r.Order, r.State, r.Outcome, r.Ended = orders[0].Run, orders[0].ID, check.Done, check.Stopped, w.clock.at
		r.Reason = wording.Say(wording.StoppedBy, wording.Values{"by": "Dov"})
		require.NoError(t, w.Take(t.Context(), "", protocol.Report{Run: &r}))
		restarted := func() (*whole.Shop, *bench) {
			st, err := store.Open(t.Context(), w.file)
			require.NoError(t, err)
			t.Cleanup(func() { _ = st.Close() })
			b := &bench{}
			s, err := whole.New(
				t.Context(), "Saltmarsh Lane", st.Storage(), benchesOf(t, st, b), policy.Default, w.clock, slog.New(slog.DiscardHandler),
			)
			require.NoError(t, err)
			b.shop = s
			go func() { _ = attended(t.Context(), s, b) }()
			time.Sleep(3 * time.Second)
			synctest.Wait()
			return s, b
		}
		_, b := restarted()
		assert.Empty(t, b.ordered(), "Dov stopped it")
		w.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Empty})
		w.pass(time.Second)
		s, _ := restarted()
		stands, ok := s.StandingOf(w.drive("7M511").ID)
		require.True(t, ok)
		assert.True(t, stands.Bay.IsZero())
	})
}

// A plan that asks more of a bench than it can do is refused, with the sum.
func TestAPlanThatAsksTooMuch(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		key := w.state.key()
		_, err := w.SetWatch(t.Context(), who("Imre"), plans.Plan{
			For: plans.Scope{Drive: &key}, Read: plans.Cadence{Every: time.Hour}, Whole: plans.Cadence{Every: 6 * time.Hour}, AtOnce: 1,
			Share: 10,
		})
		var refused *shop.Invalid
		require.ErrorAs(t, err, &refused)
		assert.Regexp(t, `^at the shop's own bench \d\.\d drives would be loaded at once on average, and the plan allows 1$`, refused.What)
		all, err := w.WatchPlans(t.Context())
		require.NoError(t, err)
		assert.Empty(t, all)
	})
}

// What a plan comes to is known before it is in force, and what all of them have drives do is seen ahead.
func TestWhatPlansComeTo(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		key := w.state.key()
		p := plans.Plan{
			For: plans.Scope{Drive: &key}, Read: plans.Cadence{Every: 6 * time.Hour}, Short: plans.Cadence{Rule: "FREQ=DAILY;BYHOUR=3"},
		}
		sum, err := w.Weigh(t.Context(), p)
		require.NoError(t, err)
		assert.Equal(t, []any{1, 4.0}, []any{sum.Drives, sum.ADay})
		assert.Contains(t, sum.Says(p).String(), "1 drive, 4 readings a day; self-tests and sweeps load the bench for ")
		none, err := w.WatchPlans(t.Context())
		require.NoError(t, err)
		require.Empty(t, none, "nothing is in force")
		l, err := w.Load(t.Context())
		require.NoError(t, err)
		assert.Zero(t, slices.Max(l.Busy))

		_, err = w.SetWatch(t.Context(), who("Imre"), p)
		require.NoError(t, err)
		l, err = w.Load(t.Context())
		require.NoError(t, err)
		busy := map[int]int{} // by the hour of the day
		for h, n := range l.Busy {
			assert.True(t, n == 0 || h >= l.Now, "it has just begun")
			busy[l.From.Add(time.Duration(h)*time.Hour).Hour()] += n
		}
		assert.Equal(t, 2, busy[3], "twice in two days")
		assert.Equal(t, []int{3, 168}, []int{l.Limit, len(l.Busy)})
	})
}

// alerts are those of the shop, as kind, state, how often, and what is said.
func (w *watched) alerts() (all []string) {
	told, err := w.AlertList(w.t.Context(), watch.AlertQuery{Limit: 100})
	require.NoError(w.t, err)
	for _, a := range told {
		all = append(all, fmt.Sprintf("%s %s %s %d: %s", a.Kind, a.State, a.Severity, a.Count, a.Said))
	}
	return all
}

// What a watched drive shows becomes an alert, once; a level that somebody knows is quiet, and speaks beyond it.
func TestAWatchedDriveThatGetsWorse(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		own := ""
		daily := plans.Plan{For: plans.Scope{Bench: &own}, Read: plans.Cadence{Every: 24 * time.Hour}}
		_, err := w.SetWatch(t.Context(), who("Imre"), daily)
		require.NoError(t, err)
		day := func(change func(*state)) {
			change(&w.state)
			w.state.hours += 24
			w.state.tests[0].Hours, w.state.tests[1].Hours = uint16(w.state.hours)-1, uint16(w.state.hours)-9
			require.NotEmpty(t, w.pass(24*time.Hour))
		}
		day(func(*state) {})
		assert.Empty(t, w.alerts())
		day(func(s *state) { s.reallocated = 3 })
		require.Equal(t, []string{
			"verdict open wake 1: healthy to replace: Surface errors grow: 0 pending, 3 reallocated",
		}, w.alerts())
		list, err := w.AlertList(t.Context(), watch.AlertQuery{State: watch.Unsettled, Limit: 9})
		require.NoError(t, err)
		taken, err := w.TakeAlert(t.Context(), who("Dov"), list[0].ID)
		require.NoError(t, err)
		assert.Equal(t, []any{alert.Taken, "Dov", "KVA077M511"}, []any{taken.State, taken.By, taken.Of.Identity.Serial})
		day(func(*state) {})
		require.Len(t, w.alerts(), 1, "nothing new")
		known := alert.Accepted{Signal: "reallocated", Level: 4, Reason: "known since its intake"}
		_, err = w.Accept(t.Context(), who("Dov"), w.drive("7M511"), known)
		require.NoError(t, err)
		day(func(s *state) { s.reallocated = 4 })
		require.Len(t, w.alerts(), 1, "known")
		day(func(s *state) { s.reallocated = 9 })
		require.Len(t, w.alerts(), 2)
		require.Contains(t, w.alerts()[0], "signal open wake 1: Reallocated sectors 4 to 9")
		require.Contains(t, w.alerts()[1], "verdict taken wake 1")
		_, err = w.SettleAlert(t.Context(), who("Dov"), list[0].ID, "ordered another")
		require.NoError(t, err)
		require.Contains(t, w.alerts()[1], "verdict settled wake 1")
		_, err = w.SettleAlert(t.Context(), who("Dov"), list[0].ID, "")
		require.ErrorContains(t, err, "is settled")
		_, err = w.TakeAlert(t.Context(), who("Dov"), 99)
		require.ErrorContains(t, err, "there is no alert 99")
	})
}

// A drive that goes is an alert after a minute, once while it flaps, and over when it has been read for a while.
func TestAWatchedDriveThatGoes(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		key := w.state.key()
		_, err := w.SetWatch(t.Context(), who("Imre"), plans.Plan{For: plans.Scope{Drive: &key}, Read: plans.Cadence{Every: time.Hour}})
		require.NoError(t, err)
		w.pass(time.Hour)
		out := protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Empty}
		in := protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Answering, Key: key}
		w.bay(out)
		w.pass(30 * time.Second)
		require.Empty(t, w.alerts(), "it may be on its way to another bay")
		w.pass(time.Minute)
		require.Len(t, w.alerts(), 1)
		assert.Contains(t, w.alerts()[0], "vanished open now 1: Not there any more since")
		w.bay(in)
		w.pass(time.Hour)
		w.bay(out)
		w.pass(2 * time.Minute)
		w.pass(2 * time.Minute)
		require.Len(t, w.alerts(), 1)
		assert.Contains(t, w.alerts()[0], "vanished open now 2")
		w.bay(in)
		for range 3 {
			w.pass(time.Hour)
		}
		assert.Contains(t, w.alerts()[0], "vanished settled now 2")

		w.mute = true
		w.pass(time.Hour)
		w.pass(time.Hour)
		w.pass(time.Hour)
		require.Len(t, w.alerts(), 2)
		assert.Contains(t, w.alerts()[0], "unread open now 1: Not read for 2 intervals")
	})
}

// What nobody reads off a drive's counters: a run that somebody waits for, a sweep of the watch, a bay that hangs, the service itself.
func TestWhatElseAnAlertIsAbout(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		w := watching(t)
		full := false
		w.Around(func(now time.Time) []alert.Seen {
			s := alert.Seen{Thing: alert.Thing{Kind: alert.DiskFull}, At: now, Over: !full, Level: 1, Severity: alert.Wake}
			s.Said = wording.Say(wording.AlertDisk, wording.Values{"mb": 12})
			return []alert.Seen{s}
		})
		w.bench.hears = func(protocol.Order) error { return nil }
		key := w.state.key()
		_, err := w.SetWatch(t.Context(), who("Imre"), plans.Plan{
			For:   plans.Scope{Drive: &key},
			Whole: plans.Cadence{Every: 7 * 24 * time.Hour},
		})
		require.NoError(t, err)
		ended := func(kind check.Kind, id int64, order string, found uint64) check.Run {
			r := check.New(kind, drive.Bay{Number: 2}, key, "Dov", w.clock.at, check.Limit{})
			r.ID, r.Order, r.State, r.Outcome, r.Ended = id, order, check.Done, check.Passed, w.clock.at
			for i := range r.Steps {
				if r.Steps[i].State = check.StepDone; r.Steps[i].Kind.IsSweep() {
					r.Steps[i].Standing = &check.Standing{Share: 1, Unreadable: found}
				}
			}
			return r
		}
		done := func(r check.Run) { require.NoError(t, w.Take(t.Context(), "", protocol.Report{Run: &r})) }

		open := ended(check.Quick, 71, "", 0)
		open.State, open.Outcome = check.Running, ""
		done(open)
		_, err = w.Await(t.Context(), who("Dov"), 71, true)
		require.NoError(t, err)
		done(ended(check.Quick, 71, "", 0))
		require.Equal(t, []string{"run_ended open now 1: Quick check: passed"}, w.alerts())
		_, err = w.Await(t.Context(), who("Dov"), 71, true)
		require.ErrorContains(t, err, "has ended")
		done(ended(check.Quick, 72, "", 0))
		require.Len(t, w.alerts(), 1, "nobody waits for this one")

		name := func(n int) string { return fmt.Sprintf("%s1-whole_sweep-%d", runs.WatchOrders, n) }
		done(ended(check.Whole, 73, name(1), 0))
		require.Len(t, w.alerts(), 1)
		done(ended(check.Whole, 74, name(2), 3))
		require.Contains(t, w.alerts()[0], "sweep open now 1: The whole sweep found 3 sectors that cannot be read")
		done(ended(check.Whole, 75, name(3), 4))
		require.Contains(t, w.alerts()[0], "sweep open now 2")
		other := ended(check.Whole, 76, name(4), 400)
		other.Outcome = check.Stopped
		done(other)
		require.Contains(t, w.alerts()[0], "sweep open now 2", "somebody stopped it: it says nothing")

		stuck := protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.StuckBay, Key: key}
		w.bay(stuck)
		w.pass(30 * time.Second)
		require.Len(t, w.alerts(), 2)
		w.pass(time.Minute)
		require.Contains(t, w.alerts()[0], "hangs open now 1: It holds a command since")

		full = true
		w.pass(time.Minute)
		require.Contains(t, w.alerts()[0], "disk_full open wake 1: The disk of the records is nearly full: 12 MB are left")
		full = false
		for range 4 {
			w.pass(time.Hour)
		}
		require.Contains(t, w.alerts()[0], "disk_full settled wake 1")
		require.NoError(t, w.ClockMoved(t.Context(), -time.Hour))
		require.Contains(t, w.alerts()[0], "clock_moved open now 1")
	})
}
