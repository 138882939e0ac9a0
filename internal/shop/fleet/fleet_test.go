package fleet

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// going is a bench whose wire is cut while it takes orders, the first so many times.
type going struct {
	protocol.Bench
	cuts  int
	other error // what it answers afterwards; nil: it takes them
	taken []string
}

func (g *going) Describe() protocol.Description { return protocol.Description{Title: "north bench"} }

func (g *going) Order(_ context.Context, o protocol.Order) (protocol.Receipt, error) {
	g.taken = append(g.taken, o.ID)
	if len(g.taken) <= g.cuts {
		return protocol.Receipt{}, protocol.ErrGone
	}
	return protocol.Receipt{Run: &check.Run{ID: o.Run}}, g.other
}

// What becomes of an order while its bench comes and goes.
func TestAnOrderToABenchThatComesAndGoes(t *testing.T) {
	full := errors.New("no room")
	for what, row := range map[string]struct {
		absent time.Duration // before the order, since the bench left or the shop began
		cuts   int
		other  error
		back   time.Duration // after the order; 0: it does not come
		taken  int           // how often the bench hears it
		says   string        // empty: it is taken
		waits  time.Duration
	}{
		"it is there":                             {taken: 1, back: 1},
		"it comes soon":                           {back: 3 * time.Second, taken: 1, waits: 3 * time.Second},
		"it does not come":                        {says: "north bench is not connected. Start its program", waits: 10 * time.Second},
		"it has been away for long":               {absent: time.Hour, says: "north bench is not connected"},
		"the answer is lost, and it comes back":   {cuts: 1, back: 1, taken: 2, waits: 4 * time.Second},
		"the answer is lost, and it is gone":      {cuts: 9, back: 1, taken: 1, says: "Whether it has taken the order shows when"},
		"it says something else than a refusal":   {other: full, back: 1, taken: 1, says: "no room"},
		"the answer is lost, and then it is full": {cuts: 1, other: full, back: 1, taken: 2, says: "no room", waits: 4 * time.Second},
	} {
		synctest.Test(t, func(t *testing.T) {
			f, err := New(slog.New(slog.DiscardHandler), protocol.Description{Title: "north bench"})
			require.NoError(t, err)
			g := &going{cuts: row.cuts, other: row.other}
			time.Sleep(row.absent)
			if row.back == 1 {
				f.here(g)
			} else if row.back > 0 {
				time.AfterFunc(row.back, func() { f.here(g) })
			}
			if row.cuts == 1 {
				time.AfterFunc(4*time.Second, func() { f.here(g) })
			}
			began := time.Now()
			receipt, err := f.Order(t.Context(), protocol.Order{Kind: protocol.OrderCheck, Run: 7})
			if row.says == "" {
				require.NoError(t, err, what)
				assert.EqualValues(t, 7, receipt.Run.ID)
			} else {
				assert.ErrorContains(t, err, row.says, what)
			}
			assert.Len(t, g.taken, row.taken, what)
			for _, id := range g.taken {
				assert.NotEmpty(t, id)
				assert.Equal(t, g.taken[0], id, "it is known again")
			}
			if row.waits > 0 {
				assert.Equal(t, row.waits, time.Since(began), what)
			}
		})
	}
	f, err := New(slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	_, err = f.Order(t.Context(), protocol.Order{Kind: protocol.OrderRead, Bay: drive.Bay{Bench: "attic", Number: 1}})
	assert.ErrorContains(t, err, "that bench is not here")
}
