package bench

import (
	"path/filepath"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// A bay is what people make of it, over restarts: its drive is found under the new number, and the bay that had it has the old one.
func TestABayHasTheNumberAndLabelPeopleGiveIt(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		source := sim.New(sim.NewClock(600), "", "one", "two", "three")
		source.Insert("one", disk("KVA077M511"))
		source.Insert("two", disk("KVA077M512"))
		path := filepath.Join(t.TempDir(), "bench.db")
		s := start(t, source, path)
		s.take(t, "the drives", func() bool { return s.answering(1)() && s.answering(2)() && len(s.bays) == 3 })
		set := func(bay int, to protocol.BaySetting) error {
			_, err := s.order(t, protocol.Order{Kind: protocol.OrderSetBay, Bay: at(bay), Setting: &to})
			return err
		}
		receipt, err := s.order(t, protocol.Order{Kind: protocol.OrderCheck, Check: check.Extended, Bay: at(2), By: "Dov"})
		require.NoError(t, err)
		refusal(t, drive.FaultInUse, set(1, protocol.BaySetting{Number: 2}))
		require.NoError(t, set(2, protocol.BaySetting{Number: 2, Label: "left dock"}), "a label may change meanwhile")
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderStop, Bay: at(2), Run: receipt.Run.ID, By: "Dov"})
		require.NoError(t, err)
		s.take(t, "the end", s.done(receipt.Run.ID))
		require.NoError(t, set(1, protocol.BaySetting{Number: 2}))
		require.NoError(t, set(3, protocol.BaySetting{Number: 30, Hidden: true}))
		_, err = s.order(t, protocol.Order{Kind: protocol.OrderArrange, Bay: at(30), Arrangement: []int{30, 2}})
		require.NoError(t, err)
		for range 2 {
			s.take(t, "the new numbers", func() bool {
				return s.bays[2].Address == "one" && s.bays[1].Address == "two" && s.bays[30].Address == "three" &&
					s.bays[30].Position == 1 &&
					s.bays[2].Position == 2 &&
					s.answering(1)() &&
					s.answering(2)()
			})
			assert.Equal(t, [2]string{"KVA077M511", "KVA077M512"}, [2]string{s.bays[2].Key.Serial, s.bays[1].Key.Serial})
			assert.Equal(t, [3]string{"left dock", "", ""}, [3]string{s.bays[1].Label, s.bays[2].Label, s.bays[30].Label})
			assert.True(t, s.bays[30].Hidden)
			_, err = s.order(t, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), Key: s.bays[1].Key})
			require.NoError(t, err, "orders find it by its number")
			synctest.Wait()
			pending, err := s.bench.Journal.Reports(t.Context())
			require.NoError(t, err)
			if n := len(pending); n > 0 { // what is told after the restart is to be of then
				require.NoError(t, s.bench.Acknowledge(t.Context(), pending[n-1].Seq))
			}
			s.end()
			s = start(t, source, path)
		}
	})
}
