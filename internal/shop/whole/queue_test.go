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
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// field is a second bench.
type field struct{ *bench }

func (field) Describe() protocol.Description {
	return protocol.Description{Name: "field", Title: "field bench", Factor: 1}
}

func (field) Bond(context.Context) (protocol.Bond, error) {
	return protocol.Bond{Bench: "field", Next: 1}, nil
}

// Order takes an order as a bench does: it knows its own bays alone.
func (f field) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	o.Bay.Bench = ""
	return f.bench.Order(ctx, o)
}

func TestTheQueueOfEachBench(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "shop.db"))
		require.NoError(t, err)
		defer st.Close()
		p := &place{t: t, clock: &clock{begin}}
		p.Shop, err = whole.New(
			t.Context(), "Saltmarsh Lane", st.Storage(), benchesOf(t, st, &bench{}, field{&bench{}}), policy.Default, p.clock,
			slog.New(slog.DiscardHandler),
		)
		require.NoError(t, err)
		at := func(bench string, n int) drive.Bay { return drive.Bay{Bench: bench, Number: n} }
		sees := func(b protocol.Bay) { require.NoError(t, p.Take(t.Context(), b.ID.Bench, protocol.Report{Bay: &b})) }
		id := int64(0)
		stands := func(serial string, bay drive.Bay, state check.State, changed func(*check.Run)) {
			id++
			r := check.Run{
				ID: id, Kind: check.Quick, Bay: bay, Key: named(serial), State: state, Asked: p.clock.at, By: "Dov",
				Steps: []check.Step{{Kind: check.ReadingBefore, State: check.Begun}},
			}
			if changed != nil {
				changed(&r)
			}
			require.NoError(t, p.Take(t.Context(), bay.Bench, protocol.Report{Run: &r}))
		}
		// Each drive that comes takes one bay.
		for n, serial := range []string{"KVA077M511", "KVA077M512", "KVA077M513"} {
			p.read(0, tested(serial, 9000))
			sees(protocol.Bay{ID: at("", n+1), Connection: protocol.Answering, Key: named(serial)})
		}
		sees(protocol.Bay{ID: at("", 4), Connection: protocol.Empty})
		sees(protocol.Bay{ID: at("", 5), Connection: protocol.Silent})
		sees(protocol.Bay{ID: at("", 6), Connection: protocol.Answering, Key: named("KVA077M599")}) // its reading is on the way
		sees(protocol.Bay{ID: at("field", 1), Connection: protocol.Empty})

		stands("KVA077M511", at("", 1), check.Done, func(r *check.Run) { r.Outcome = check.Passed }) // before there is a plan
		p.clock.at = p.clock.at.Add(time.Hour)
		for _, bench := range []string{"", "field"} {
			_, err = p.SetPlan(t.Context(), who("Dov"), bench, check.Quick)
			require.NoError(t, err)
		}
		own, err := p.Queue(t.Context(), "")
		require.NoError(t, err)
		assert.Zero(t, own.Done, "what was done before the plan is not of it")
		passed := func(r *check.Run) { r.Outcome = check.Passed }
		stands("KVA077M511", at("", 1), check.Done, passed)
		stands("KVA077M512", at("", 2), check.Done, func(r *check.Run) { r.Outcome = check.Stopped })
		stands("KVA077M512", at("", 2), check.Done, func(r *check.Run) { r.Outcome, r.Kind = check.Passed, check.Whole })
		for _, s := range []check.State{check.Running, check.Stopping, check.Paused, check.Absent, check.Stuck, check.Queued} {
			stands("KVA077M512", at("", 2), s, nil)
		}
		stands("KVA077M513", at("", 3), check.Running, func(r *check.Run) { r.Turn = true })
		stands("KVA077M599", at("field", 1), check.Running, nil)

		own, err = p.Queue(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, []int{3, 2, 1}, []int{own.Going, own.Waiting, own.Done})
		assert.Equal(t, []wording.Phrase{
			wording.Say(wording.BayDone, wording.Values{"bay": "bay-1"}), wording.Say(wording.BayFree, wording.Values{"bay": "bay-4"}),
		}, own.Says)
		other, err := p.Queue(t.Context(), "field")
		require.NoError(t, err)
		assert.Equal(t, []int{1, 0, 0}, []int{other.Going, other.Waiting, other.Done})
		assert.Equal(t, []wording.Phrase{wording.Say(wording.BayFree, wording.Values{"bay": "field/1"})}, other.Says)

		p.read(0, tested("KVA077M777", 9000))
		sees(protocol.Bay{ID: at("field", 2), Connection: protocol.Answering, Key: named("KVA077M777")})
		r, err := p.Check(t.Context(), who("Dov"), p.drive("7M777"), runs.CheckOrder{Kind: check.Spot})
		require.NoError(t, err)
		assert.Equal(t, at("field", 2), r.Bay, "who ordered it hears the bay by the shop's name")

		// The field bench has lost its journal: it knows one run still, and this shop's own bench is none of its business.
		stands("KVA077M777", at("field", 2), check.Queued, nil)
		going := protocol.Progress{Run: check.Run{ID: 12, Bay: at("field", 1), Key: named("KVA077M599"), State: check.Running}}
		p.Progressed("field", going)
		_, heard, err := p.Follow(t.Context(), 12)
		require.NoError(t, err)
		require.NoError(t, p.Take(t.Context(), "field", protocol.Report{Started: &protocol.Started{Open: []int64{13}}}))
		for id, want := range map[int64]check.State{12: check.Done, 13: check.Queued, 5: check.Running} {
			now, err := p.RunByID(t.Context(), id)
			require.NoError(t, err)
			assert.Equal(t, want, now.State, "run %d", id)
			if want == check.Done {
				assert.Equal(t, check.Stopped, now.Outcome)
				assert.Equal(t, wording.Say(wording.RunLost), now.Reason)
				assert.Equal(t, p.clock.at, now.Ended)
			}
		}
		assert.Equal(t, check.Done, (<-heard).Run.State, "who follows it hears of it")

		plain, err := p.OpenLot(t.Context(), who("Dov"), shop.Lot{}) // without a check of its own
		require.NoError(t, err)
		own, err = p.Queue(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, check.Quick, own.Plan.Check)
		assert.Zero(t, own.Plan.Lot)
		_, err = p.EndLot(t.Context(), who("Dov"), plain.ID)
		require.NoError(t, err)
		l, err := p.OpenLot(t.Context(), who("Dov"), shop.Lot{Check: check.Quick}) // its plan goes before the bench's
		require.NoError(t, err)
		own, err = p.Queue(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, l.ID, own.Plan.Lot)
		assert.Zero(t, own.Done, "no drive of the lot")
	})
}

func named(serial string) drive.Key { return state{serial: serial}.key() }
