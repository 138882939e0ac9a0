package watch

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hylostat.example/internal/core/drive"
)

// year is a simulated year of a shop's watch: benches that carry out what the planner says, that are away at times, clocks that step,
// drives that sleep, people who come first. What is true is counted beside what the planner is told.
type year struct {
	plans   []Plan
	drives  []Drive
	planner *Planner
	now     time.Time     // truly
	pace    time.Duration // the least that passes between two questions
	step    time.Duration // of the shop's clock, beside the truth
	away    map[string]bool
	sleeps  []bool      // truly, by drive
	ends    []time.Time // truly, of what loads a drive for the watch
	reads   []time.Time // of its reading
	began   map[string]int
	woken   int
	random  *rand.Rand
}

// asTold is the shop's clock.
func (y *year) asTold() time.Time { return y.now.Add(y.step) }

// carryOut does what the planner says, and holds it to what must never be.
func (y *year) carryOut(t require.TestingT) (again time.Time) {
	orders, again := y.planner.Due(y.asTold(), y.drives)
	for _, o := range orders {
		d := &y.drives[o.Drive]
		p := y.plans[d.Plan]
		switch o.Verb {
		case Begin:
			require.False(t, y.away[d.Bench], "an order for a bench that is away")
			key := fmt.Sprint(o.Drive, o.Task, o.Slot.UnixMilli())
			y.began[key]++
			require.Equal(t, 1, y.began[key], "%s of drive %d, due at %s, twice", o.Task, o.Drive, o.Slot)
			did := d.Did[o.Task]
			did.Slot = o.Slot
			takes := d.Takes[o.Task]
			if o.Task.Loads() {
				require.False(t, d.AtRisk || d.Taken || y.sleeps[o.Drive] && d.Asleep, "%s of drive %d at the wrong time", o.Task, o.Drive)
				require.Equal(t, Reading, d.Doing)
				if len(p.Windows) > 0 {
					closes := open(p.Windows, y.asTold(), time.UTC)
					require.False(t, closes.IsZero(), "%s begins out of its windows", o.Task)
					if !o.Task.Sweeps() {
						require.False(t, y.asTold().Add(takes).After(closes), "a self-test does not end within its window")
					}
				}
			}
			if y.sleeps[o.Drive] && o.Task == Reading {
				require.Equal(t, p.WakeAfter > 0 && d.Asleep && y.asTold().Sub(d.Told) >= time.Duration(p.WakeAfter)*24*time.Hour, o.Wake)
				if o.Wake {
					y.woken++
					y.sleeps[o.Drive] = false
				}
			}
			d.Did[o.Task] = did
			if o.Task == Reading {
				d.Reads, y.reads[o.Drive] = true, y.now.Add(takes)
			} else {
				d.Doing, y.ends[o.Drive] = o.Task, y.now.Add(takes)
			}
		case Stop:
			d.Doing, d.Waits = Reading, false
		case Pause:
			d.Waits = true
		case Resume:
			d.Waits = false
			y.ends[o.Drive] = y.now.Add(time.Hour)
		}
	}
	reads, loads := map[string]int{}, map[string]int{}
	for i := range y.drives {
		d := &y.drives[i]
		if d.Reads {
			reads[d.Bench]++
		}
		if d.Doing != Reading && !d.Waits {
			loads[d.Bench]++
		}
	}
	for bench, n := range reads {
		require.LessOrEqual(t, n, 8, "readings at once at %s", bench)
	}
	for bench, n := range loads {
		require.LessOrEqual(t, n, 8, "drives loaded at once at %s", bench)
	}
	return again
}

// goOn lets the time pass until the planner wants to be asked again, something ends, or something happens to the shop.
func (y *year) goOn(again time.Time) {
	next := y.now.Add(6 * time.Hour)
	if !again.IsZero() && again.Add(-y.step).Before(next) {
		next = again.Add(-y.step)
	}
	for i := range y.drives {
		d := &y.drives[i]
		if d.Doing != Reading && !d.Waits && y.ends[i].Before(next) {
			next = y.ends[i]
		}
		if d.Reads && y.reads[i].Before(next) {
			next = y.reads[i]
		}
	}
	y.now = later(next.Truncate(time.Second).Add(time.Second), y.now.Add(y.pace))
	for i := range y.drives {
		d := &y.drives[i]
		if y.away[d.Bench] {
			continue
		}
		if d.Reads && !y.reads[i].After(y.now) {
			if d.Asleep = y.sleeps[i]; !d.Asleep {
				d.Told = y.asTold()
			}
			d.Reads = false
			y.ended(d, Reading)
		}
		if d.Doing != Reading && !d.Waits && !y.ends[i].After(y.now) {
			y.ended(d, d.Doing)
			d.Doing = Reading
		}
	}
}

func (y *year) ended(d *Drive, t Task) {
	did := d.Did[t]
	did.At = y.asTold()
	d.Did[t] = did
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func newYear(seed uint64, drives int) *year {
	benches := []string{"", "field", "spit", "loft"}
	plans := []Plan{
		{Read: Cadence{Every: 12 * time.Hour}, Short: Cadence{Rule: "FREQ=WEEKLY;BYDAY=SU;BYHOUR=3"}, AtOnce: 8},
		{
			Read: Cadence{Rule: "FREQ=DAILY;BYHOUR=5;BYMINUTE=30"}, Spot: Cadence{Rule: "FREQ=MONTHLY;BYMONTHDAY=1"},
			WakeAfter: 7, AtOnce: 8, Windows: []Window{{From: 60, Until: 360}},
		},
		{
			Read: Cadence{Every: 24 * time.Hour}, Extended: Cadence{Rule: "FREQ=MONTHLY;BYDAY=1SA;BYHOUR=1"},
			Whole: Cadence{Rule: "FREQ=YEARLY;BYMONTH=3,9"}, AtOnce: 8,
			Windows: []Window{{From: 1200, Until: 360}, {From: 300, Until: 600, Days: []Weekday{"SU"}}},
		},
	}
	y := &year{
		plans: plans, now: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), away: map[string]bool{}, began: map[string]int{},
		random: rand.New(rand.NewPCG(seed, 16)),
	}
	for i := range plans {
		plans[i].ID = int64(i)
	}
	y.planner, _ = New(plans)
	for i := range drives {
		y.drives = append(y.drives, Drive{
			ID: int64(i), Key: drive.Key{Model: "M", Serial: fmt.Sprintf("S%04d", i)}, Bench: benches[y.random.IntN(len(benches))],
			Plan: int64(y.random.IntN(len(plans))), Since: y.now, Attached: true, Told: y.now,
			Takes: [tasks]time.Duration{
				Reading: 4 * time.Second, ShortTest: 2 * time.Minute, ExtendedTest: 3 * time.Hour, SpotSweep: 10 * time.Minute,
				WholeSweep: 7 * time.Hour,
			},
		})
	}
	y.sleeps, y.ends, y.reads = make([]bool, drives), make([]time.Time, drives), make([]time.Time, drives)
	return y
}

// befall is what happens to a shop: benches go and come back, drives fall asleep, are pulled, hold data at risk, people use them.
func (y *year) befall(steps bool) {
	if b := y.drives[y.random.IntN(len(y.drives))].Bench; y.random.IntN(400) == 0 || y.away[b] && y.random.IntN(20) == 0 {
		y.away[b] = !y.away[b]
		for i := range y.drives {
			if d := &y.drives[i]; d.Bench == b {
				d.Attached = !y.away[b]
			}
		}
	}
	for range 3 {
		i := y.random.IntN(len(y.drives))
		switch d := &y.drives[i]; y.random.IntN(12) {
		case 0:
			y.sleeps[i] = !y.sleeps[i]
		case 1:
			d.AtRisk = y.random.IntN(4) == 0
		case 2:
			d.Taken = y.random.IntN(3) == 0
		}
	}
	if steps && y.random.IntN(3000) == 0 {
		day := 24 * time.Hour
		y.step = []time.Duration{0, time.Hour, -time.Hour, 40 * day, -40 * day, 365 * day}[y.random.IntN(6)]
	}
}

// quiet ends all that befalls, and lets days pass in which everything due can be done.
func (y *year) quiet(t require.TestingT) {
	y.away = map[string]bool{}
	for i := range y.drives {
		d := &y.drives[i]
		d.Attached, d.AtRisk, d.Taken, y.sleeps[i] = true, false, false, false
	}
	for until := y.now.Add(30 * 24 * time.Hour); y.now.Before(until); {
		y.goOn(y.carryOut(t))
	}
}

// A year of 500 drives at four benches: nothing that came due is lost, nothing runs twice, bounds hold, nothing sleeping is woken unless
// its plan says so.
func TestAYearOfWatching(t *testing.T) {
	y := newYear(16, 500)
	y.pace = 30 * time.Minute
	for end := y.now.AddDate(1, 0, 0); y.now.Before(end); {
		y.befall(false)
		y.goOn(y.carryOut(t))
	}
	y.quiet(t)
	behind := 0
	for i := range y.drives {
		d := &y.drives[i]
		for _, task := range Tasks() {
			c := y.planner.plans[d.Plan]
			if c.Of(task).IsZero() {
				continue
			}
			slot, is, _ := c.due(task, d, y.asTold())
			if is && y.now.Sub(slot) > 26*time.Hour && d.Doing != task { // the next window has been
				behind++
				t.Logf("drive %d of plan %d: its %s of %s has not begun by %s", i, d.Plan, task, slot, y.now)
			}
		}
	}
	assert.Zero(t, behind)
	assert.Greater(t, len(y.began), 200_000)
	assert.Positive(t, y.woken)
}

// Whatever befalls a few drives, clocks that step included: no rule of the watch is broken, and a while later everybody was read.
func TestWatchingThroughAnything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		y := newYear(rapid.Uint64().Draw(t, "seed"), rapid.IntRange(1, 12).Draw(t, "drives"))
		y.began = map[string]int{}
		for range rapid.IntRange(1, 600).Draw(t, "steps") {
			y.befall(true)
			if y.random.IntN(50) == 0 {
				y.step = time.Duration(y.random.Int64N(int64(1000*24*time.Hour))) - 500*24*time.Hour
				y.began = map[string]int{} // times come again
			}
			y.goOn(y.carryOut(t))
		}
		from := y.asTold()
		y.quiet(t)
		for i := range y.drives {
			require.True(t, y.drives[i].Told.After(from), "drive %d was read last at %s, and now it is %s", i, y.drives[i].Told, y.asTold())
		}
	})
}
