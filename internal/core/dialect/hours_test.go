package dialect

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)

// shown makes readings of attribute 9 from hours after noon and raw numbers, in turn.
func shown(pairs ...float64) []HoursAt {
	var all []HoursAt
	for i := 0; i < len(pairs); i += 2 {
		all = append(
			all,
			HoursAt{At: noon.Add(time.Duration(pairs[i] * float64(time.Hour))), Raw: pairs[i+1], Cycles: -1, Counted: -1, Stamp: -1},
		)
	}
	return all
}

func TestTheUnitOfTimeIsConcludedWhereNoFamilyIsKnown(t *testing.T) {
	for name, row := range map[string]struct {
		pairs []float64
		want  Layout
	}{
		"hours":                        {[]float64{0, 20000, 24, 20024}, ""},
		"asleep most of the time":      {[]float64{0, 20000, 168, 20010}, ""},
		"minutes":                      {[]float64{0, 1_230_720, 24, 1_232_160}, Minutes},
		"half minutes":                 {[]float64{0, 2_461_440, 24, 2_464_320}, HalfMinutes},
		"seconds":                      {[]float64{0, 13_843_200, 24, 13_929_600}, Seconds},
		"too short to tell":            {[]float64{0, 100, 0.1, 110}, ""},
		"fallen":                       {[]float64{0, 100, 24, 10}, ""},
		"faster than any unit known":   {[]float64{0, 0, 24, 10_000_000}, ""},
		"minutes, half the time awake": {[]float64{0, 1_230_720, 24, 1_231_440}, Minutes},
		"the later of three":           {[]float64{0, 500, 200, 500, 224, 1940}, Minutes},
	} {
		assert.Equal(t, row.want, ConcludeHours(Hours, false, shown(row.pairs...)).Hours, name)
	}
}

func TestItsOwnClocksAndTheCalendarOutrankTheFamily(t *testing.T) {
	with := func(all []HoursAt, change func(*HoursAt)) []HoursAt {
		for i := range all {
			change(&all[i])
		}
		return all
	}
	later := shown(0, 20_500, 48, 20_548)
	for name, row := range map[string]struct {
		says Layout
		all  []HoursAt
		want Layout
	}{
		"a family of half minutes, and nothing against it": {HalfMinutes, later, ""},
		"a statistic that counts hours": {
			HalfMinutes, with(shown(0, 20_500), func(h *HoursAt) { h.Counted = 20_502 }), Hours,
		},
		"a statistic that agrees with the family": {
			HalfMinutes, with(shown(0, 2_460_000), func(h *HoursAt) { h.Counted = 20_502 }), "",
		},
		"powered all along, and one more for each hour": {
			HalfMinutes, with(shown(0, 20_500, 40, 20_540), func(h *HoursAt) { h.Cycles = 7 }), Hours,
		},
		"forty minutes on the bench are enough": {
			HalfMinutes, with(shown(0, 20_500, 0.67, 20_501), func(h *HoursAt) { h.Cycles = 7 }), Hours,
		},
		"powered all along, as the family says": {
			Minutes, with(shown(0, 60_000, 10, 60_600), func(h *HoursAt) { h.Cycles = 7 }), "",
		},
		"power cycles that are saved late say nothing": {
			Hours, with(shown(0, 20_000, 100, 20_045), func(h *HoursAt) { h.Cycles = 7 }), "",
		},
		"a self-test stamped at an hour the unit has not seen": {
			HalfMinutes, with(shown(0, 20_500), func(h *HoursAt) { h.Stamp = 20_480 }), Hours,
		},
		"a stamp of long ago, in the family's unit": {
			HalfMinutes, with(shown(0, 2_460_000), func(h *HoursAt) { h.Stamp = 300 }), "",
		},
		"counters set back: no unit reaches the stamp": {Hours, with(shown(0, 12), func(h *HoursAt) { h.Stamp = 20_500 }), ""},
		"one leap is a new board, not a new unit":      {Hours, shown(0, 20_000, 24, 20_024, 48, 30_000, 72, 30_024), ""},
		"twice too fast for the family, and always":    {Minutes, shown(0, 100_000, 24, 102_880, 48, 105_760), HalfMinutes},
	} {
		assert.Equal(t, row.want, ConcludeHours(row.says, true, row.all).Hours, name)
	}
	m := Match{Family: &families().Families[5], Sure: true, Hints: Hints{Hours: Hours, Why: "said"}}
	require.Equal(t, HalfMinutes, HoursLayout(m.Family))
	assert.Equal(t, "20500 h", Decode(m.Entry(9), [6]byte{0x14, 0x50}, 100).String())
	assert.Equal(t, Inferred, m.Entry(9).Confidence)
}

// Whatever unit a drive counts in and in whatever order its readings come, the hours are the same.
func TestHoursAreTheSameInAnyUnitAndOrder(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		start := rapid.Float64Range(200, 40_000).Draw(r, "hours")
		var hours []HoursAt
		elapsed, cycles := 0.0, 5.0
		for range rapid.IntRange(2, 6).Draw(r, "readings") {
			hours = append(
				hours,
				HoursAt{
					At:      noon.Add(time.Duration(elapsed * float64(time.Hour))),
					Raw:     start + elapsed,
					Cycles:  cycles,
					Counted: -1,
					Stamp:   -1,
				},
			)
			elapsed += rapid.Float64Range(5, 900).Draw(r, "elapsed") // powered all along
		}
		for _, truth := range clockUnits {
			all := make([]HoursAt, len(hours))
			for i, h := range hours {
				all[i] = h
				all[i].Raw = float64(uint64(h.Raw * truth.perHour))
			}
			if all[len(all)-1].Raw >= 1<<32 {
				continue
			}
			rand.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
			for _, says := range clockUnits {
				want := truth.layout
				if says == truth {
					want = ""
				}
				if got := ConcludeHours(says.layout, true, all).Hours; got != want {
					r.Fatalf("counts %s, the family says %s: concluded %q", truth.layout, says.layout, got)
				}
			}
		}
	})
}

func TestAUnitAgreesWithinAShareAndFromADayOn(t *testing.T) {
	for name, row := range map[string]struct {
		raw, counted float64
		want         Layout
		ok           bool
	}{
		"hours":                  {102, 100, Hours, true},
		"two off":                {22, 20, Hours, true},
		"more than two off":      {22.1, 20, "", false},
		"a share of many":        {20_000 * (1 + clockShare), 20_000, Hours, true},
		"more than that share":   {20_001 * (1 + clockShare), 20_000, "", false},
		"minutes":                {6_120, 100, Minutes, true},
		"half minutes":           {12_240, 100, HalfMinutes, true},
		"seconds":                {367_200, 100, Seconds, true},
		"under a day":            {19, 19, "", false},
		"a day, as clocks round": {20, 20, Hours, true},
		"nothing":                {0, 100, "", false},
		"hours below other bits": {1<<24 + 100, 100, Hours, true},
	} {
		u, ok := unitOf(row.raw, row.counted)
		assert.Equal(t, row.ok, ok, name)
		assert.Equal(t, row.want, u.layout, name)
	}
	u, ok := vote(make([]HoursAt, 4), func(i int) (clockUnit, bool) { return clockUnits[i%2+1], true })
	assert.True(t, ok)
	assert.Equal(t, Minutes, u.layout, "of equals the larger unit")
	_, ok = vote(make([]HoursAt, 4), func(int) (clockUnit, bool) { return clockUnit{}, false })
	assert.False(t, ok)
}

func TestOneReadingAgainstThoseAroundItIsLeftOut(t *testing.T) {
	for name, row := range map[string]struct{ shown, kept []float64 }{
		"on course":                     {[]float64{10, 20, 30}, []float64{10, 20, 30}},
		"a leap that was taken back":    {[]float64{10, 900, 30}, []float64{10, 30}},
		"a fall that was taken back":    {[]float64{10, 2, 30}, []float64{10, 30}},
		"a leap that stays":             {[]float64{10, 900, 910}, []float64{10, 900, 910}},
		"a fall that stays":             {[]float64{10, 2, 3}, []float64{10, 2, 3}},
		"the last is not judged":        {[]float64{10, 20, 2}, []float64{10, 20, 2}},
		"nothing at first":              {[]float64{0, 20, 30}, []float64{20, 30}},
		"nothing at all":                {[]float64{0}, []float64{0}},
		"as before, and as after it":    {[]float64{10, 10, 10}, []float64{10, 10, 10}},
		"nothing twice, then it counts": {[]float64{0, 0, 5}, []float64{5}},
	} {
		var all []HoursAt
		for _, raw := range row.shown {
			all = append(all, HoursAt{Raw: raw})
		}
		var kept []float64
		for _, h := range onCourse(all) {
			kept = append(kept, h.Raw)
		}
		assert.Equal(t, row.kept, kept, name)
	}
}

func TestStampsThatCameBetweenReadingsTellTheUnit(t *testing.T) {
	stamped := func(rows ...[3]float64) []HoursAt { // hours after noon, raw, stamp
		var all []HoursAt
		for _, r := range rows {
			h := shown(r[0], r[1])[0]
			h.Stamp = r[2]
			all = append(all, h)
		}
		return all
	}
	for name, row := range map[string]struct {
		all  []HoursAt
		want Layout
		why  string
	}{
		"two of them, in minutes": {
			stamped([3]float64{0, 600_000, 9_000}, [3]float64{200, 606_000, 10_050}, [3]float64{400, 612_000, 10_150}), Minutes,
			"its logs were stamped at hour 10150 while it went from 606000 to 612000",
		},
		"one is not enough; the pace tells": {
			stamped([3]float64{0, 600_000, 9_000}, [3]float64{24, 601_440, 10_010}), Minutes, "it grew by 1440 in 24.0 h by the clock",
		},
		"one of them by another clock: no unit holds, the pace tells": {
			stamped([3]float64{0, 600_000, 9_000}, [3]float64{24, 601_440, 10_010}, [3]float64{48, 602_880, 11_500}), Minutes,
			"it grew by 1440 in 24.0 h by the clock",
		},
		"a stamp that stays is not fresh": {
			stamped([3]float64{0, 20_000, 19_000}, [3]float64{24, 20_024, 19_000}, [3]float64{48, 20_048, 19_000}), "", "",
		},
	} {
		h := ConcludeHours(Hours, false, row.all)
		assert.Equal(t, row.want, h.Hours, name)
		assert.Equal(t, row.why, h.Why, name)
	}
	h, ok := CompareHours(7<<32|1_230_720, 20_512)
	assert.True(t, ok)
	assert.Equal(t, Hints{Minutes, "the drive's own statistics count 20512 h"}, h)
	_, ok = CompareHours(5_000_000, 20_512)
	assert.False(t, ok)
	assert.Equal(t, Hours, HoursLayout(nil))
}
