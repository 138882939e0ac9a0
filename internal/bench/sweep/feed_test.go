package sweep

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestABenchFindsOutHowManySweepsItFeeds lets sweeps begin on a bench whose bus is shared: each drive reads at most its own
// speed, all together at most the bus's.
func TestABenchFindsOutHowManySweepsItFeeds(t *testing.T) {
	for _, row := range []struct {
		bus, drive float64
		want       int
	}{{600e6, 150e6, 4}, {100e6, 150e6, 1}, {10e9, 150e6, 12}, {520e6, 250e6, 2}} {
		t.Run(fmt.Sprintf("%.0f over %.0f MB/s", row.bus/1e6, row.drive/1e6), func(t *testing.T) {
			f := Feeder{Feed: RealFeed}
			now := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
			going := map[int64]bool{}
			var lastStart time.Time
			for range 20 * 60 * 4 {
				now = now.Add(250 * time.Millisecond)
				for run := range int64(12) {
					if !going[run] && f.Ask(run, now).IsZero() {
						assert.GreaterOrEqual(t, now.Sub(lastStart), RealFeed.Stagger, "no two drives start together")
						going[run], lastStart = true, now
					}
				}
				each := min(row.drive, row.bus/float64(max(1, len(going))))
				for run := range int64(12) {
					if going[run] && !f.Moved(run, uint64(each/4), now).IsZero() {
						delete(going, run)
					}
				}
			}
			assert.Len(t, going, row.want)
			if row.want < 12 {
				assert.Contains(t, f.Ask(11, now).String(), fmt.Sprintf("this bench feeds %d ", row.want))
				for run := range going {
					f.Left(run)
					delete(going, run)
					break
				}
				assert.Zero(t, f.Ask(11, now.Add(time.Minute)), "one that ends makes room")
			}
		})
	}
	var all Feeder
	assert.Zero(t, all.Ask(1, time.Time{}))
	assert.Zero(t, all.Ask(2, time.Time{}), "a bench that is not to find out lets all begin")
}
