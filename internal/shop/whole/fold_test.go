package whole_test

import (
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
)

func TestOldReadingsThatChangedNothingAreFolded(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		const all = 42 * 12 // one every two hours
		of := tested("KVA077M511", 9000)
		heat := map[int]byte{40: 51, 70: 22}
		for i := range all {
			s := of
			s.hours += uint64(2 * i)
			s.heat = 36 + byte(i%3)
			if h, ok := heat[i]; ok {
				s.heat = h
			}
			if i > 100 {
				s.reallocated = 2
			}
			p.read(2*time.Hour, s)
			if i == 50 {
				_, _, err := p.SignTogether(t.Context(), who("Imre"), nil)
				require.NoError(t, err)
			}
		}
		d := p.drive("7M511")
		everything := func() []any {
			h, err := p.History(t.Context(), p.drive("7M511"))
			require.NoError(t, err)
			return []any{p.verdict("7M511"), h, p.drive("7M511")}
		}
		was := everything()
		whole, err := p.Export(t.Context(), d)
		require.NoError(t, err)

		done, err := p.Fold(t.Context())
		require.NoError(t, err)
		assert.Greater(t, done.Readings, 90, "of the 144 that are old enough")
		again, err := p.Fold(t.Context())
		require.NoError(t, err)
		assert.Zero(t, again)
		assert.Equal(t, was, everything(), "nothing that follows from them is another")

		moments, err := p.Readings(t.Context(), d)
		require.NoError(t, err)
		n, hottest, coldest := 0, 0.0, 100.0
		for _, m := range moments {
			n += 1 + m.Folded
			x, _ := m.Signals.Get(signal.Temperature)
			hottest, coldest = max(hottest, x), min(coldest, x)
		}
		assert.Equal(t, all, n)
		assert.Len(t, moments, all-done.Readings)
		assert.Equal(t, []float64{51, 22}, []float64{hottest, coldest})
		first := moments[slices.IndexFunc(moments, func(m shop.Moment) bool { return m.Folded > 0 })]
		_, err = p.Reading(t.Context(), d, first.Seq-1)
		assert.ErrorContains(t, err, "is folded")

		out, err := p.Export(t.Context(), d)
		require.NoError(t, err)
		times := map[time.Time]bool{}
		for _, r := range out.Drives[0].Readings {
			times[r.At] = true
			for _, at := range r.Folded {
				times[at] = true
			}
		}
		for _, r := range whole.Drives[0].Readings {
			require.True(t, times[r.At], "what was read when is told")
		}
		back, err := p.Import(t.Context(), who("Dov"), whole)
		require.NoError(t, err)
		assert.Equal(t, []int{0, all}, []int{back[0].Readings, back[0].Known})
		other := open(t)
		other.clock.at = p.clock.at
		taken, err := other.Import(t.Context(), who("Dov"), out)
		require.NoError(t, err)
		assert.Equal(t, done.Readings, taken[0].Folded)
		assert.Equal(t, p.verdict("7M511").Grade, other.verdict("7M511").Grade)
	})
}
