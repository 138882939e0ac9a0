package trend

import (
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The example of Sen's paper (1968, section 6): of its 21 slopes, sorted, the median is 4. Kendall's variance for 7 points is
// 7*6*19/18, 1.96 of its root 13.05: the 95 % interval goes from the 4th slope, (21-13.05)/2, to the 18th, (21+13.05)/2 + 1.
func TestTheLineOfSensOwnExample(t *testing.T) {
	var points []Point
	for i, xy := range [][2]float64{{1, 9}, {2, 15}, {3, 19}, {4, 20}, {10, 45}, {12, 55}, {18, 78}} {
		points = append(points, Point{Seq: i + 1, Hours: xy[0], Value: xy[1]})
	}
	l, ok := Through(points)
	require.True(t, ok)
	assert.InDelta(t, 4, l.Slope, 1e-9)
	assert.InDelta(t, 26.0/7, l.Low, 1e-9)
	assert.InDelta(t, 35.0/8, l.High, 1e-9)
	assert.InDelta(t, 6, l.Middle, 1e-9, "the median of 4 5 5 6 7 7 7")
}

func TestALongLifeIsThinnedAndKeepsItsEnds(t *testing.T) {
	values := make([]float64, 300)
	for i := range values {
		values[i] = float64(3 * i)
	}
	points := life(time.Hour, values...)
	kept := thin(points)
	assert.Len(t, kept, 128)
	assert.Equal(t, points[0], kept[0])
	assert.Equal(t, points[299], kept[127])
	assert.Equal(t, points[150].Seq, kept[64].Seq, "64 of 127 on the way")
	assert.Len(t, thin(points[:128]), 128)
	l, ok := Through(points)
	require.True(t, ok)
	assert.InDelta(t, 6, l.Slope, 1e-9, "3 in half an hour of power")
}

// Pettitt's K of n values of which each of the later half is above each of the earlier is (n/2)^2; p is 0.066 for ten and 0.031
// for twelve.
func TestATurnIsPlainFromTwelveReadingsOn(t *testing.T) {
	split := func(n int) []Point {
		values := make([]float64, n)
		for i := n / 2; i < n; i++ {
			values[i] = 9
		}
		return life(168*time.Hour, values...)
	}
	ten, _ := Through(split(10))
	assert.Nil(t, ten.Turn)
	twelve, _ := Through(split(12))
	require.NotNil(t, twelve.Turn)
	assert.Equal(t, 7, twelve.Turn.Seq)
	down := split(12)
	for i := range down {
		down[i].Value = 9 - down[i].Value
	}
	fallen, _ := Through(down)
	require.NotNil(t, fallen.Turn, "down as well")
}

func TestAForecastReachesNoFurtherThanTheReadings(t *testing.T) {
	week := 168 * time.Hour // 84 h of power
	points := life(week, 2, 4, 6, 8, 10)
	forecast := func(points []Point, limit float64) (from, to float64, ok bool) {
		l, _ := Through(points)
		return l.Forecast(points, limit)
	}
	for i := range points {
		points[i].Hours += 9_000 // it was not new
	}
	from, to, ok := forecast(points, 14)
	require.True(t, ok)
	assert.InDelta(t, 9_000+6*84, from, 1e-9)
	assert.InDelta(t, 9_000+6*84, to, 1e-9)
	_, _, ok = forecast(points, 18)
	assert.True(t, ok, "as far ahead as back")
	for name, row := range map[string]struct {
		points []Point
		limit  float64
	}{
		"further":                        {points, 18.1},
		"four readings":                  {points[:4], 10},
		"two levels":                     {life(week, 2, 2, 2, 4, 4), 6},
		"met":                            {points, 10},
		"what nobody knows the hours of": {[]Point{{Hours: -1, Value: 1}, points[0], points[1], points[2], points[3]}, 10},
	} {
		_, _, ok := forecast(row.points, row.limit)
		assert.False(t, ok, name)
	}
	wide := life(week, 0, 1, 4, 5, 9, 10, 12, 17)
	l, _ := Through(wide)
	from, to, ok = l.Forecast(wide, 20)
	require.True(t, ok)
	assert.InDelta(t, wide[7].Hours+3/l.High, from, 1e-9, "as soon as at the steepest")
	assert.InDelta(t, wide[7].Hours+3/l.Low, to, 1e-9, "as late as at the flattest")
	assert.Less(t, from, to)
}

func TestAReworkExplainsNoMoreThanWasSeen(t *testing.T) {
	points := life(48*time.Hour, 5, 8, 6, 6)
	points[1].Reworked = 10 // ten were mended, and the counter rose by three
	points[2].Reworked = 2  // what fell is explained by nothing
	tr, _ := Of(points, Counter)
	assert.EqualValues(t, 0, tr.Change, "the rework explains what is left of the rise")
	assert.EqualValues(t, 5, tr.Unexplained)
	since, _, ok := Since(points, points[0].At, Counter)
	require.True(t, ok)
	assert.EqualValues(t, 0, since)
	all, _, ok := Since(points, points[0].At.Add(-time.Second), Counter)
	assert.False(t, ok)
	assert.Zero(t, all)
	assert.Equal(t, []Delta{{points[1], points[2], -2}, {points[0], points[1], 0}}, Deltas(points, 5))
	assert.Len(t, Deltas(points, 1), 1)
}

func TestSteadinessIsCountedInPoweredHours(t *testing.T) {
	steady := func(change func([]Point)) float64 {
		points := life(48*time.Hour, 0, 3, 3)
		change(points)
		tr, _ := Of(points, Counter)
		return tr.SteadyHours
	}
	assert.EqualValues(t, 24, steady(func([]Point) {}))
	assert.EqualValues(t, 0, steady(func(p []Point) { p[2].Value = 4 }), "it moved just now")
	assert.EqualValues(t, -1, steady(func(p []Point) { p[1].Hours = -1 }), "not known since when")
	assert.EqualValues(t, -1, steady(func(p []Point) { p[2].Hours = 3 }), "its clock went back")
}

// Scores by hand: of 2 10 12 14 16 18 30 the median is 14, the median distance from it 4.
func TestTheScoreOfASibling(t *testing.T) {
	scored := Siblings([]float64{10, 30, 12, 2, 14, 16, 18}, 1)
	assert.InDelta(t, 0.6745*16/4, scored[1].Score, 1e-9)
	assert.InDelta(t, -0.6745*12/4, scored[3].Score, 1e-9)
	assert.Zero(t, scored[4].Score)
	assert.Equal(t, 7, scored[0].Of)
	same := Siblings([]float64{0, 0, 0, 0, 0, 0, 41}, 1)
	assert.InDelta(t, 41/(1.253314*41/7), same[6].Score, 1e-9, "by the mean distance")
	assert.Zero(t, same[6].Times(), "nothing is a multiple of none")

	assert.Zero(t, Siblings([]float64{7, 7, 7, 7, 7, 7}, 1)[0].Score, "nothing differs: no score, not one of 0 over 0")
	six := []float64{100, 101, 99, 100, 102, 140}
	assert.Equal(t, []int{5}, apart(six, 39.5))
	assert.Empty(t, apart(six, 39.6), "less than the least")
	assert.Empty(t, apart(six[1:], 1), "of five")
	assert.Equal(t, []int{4}, apart([]float64{69, 70, 71, 70, 80, 70, 69, 71}, 1), "a seventh away")
	assert.Empty(t, apart([]float64{69, 70, 71, 70, 79, 70, 69, 71}, 1), "not quite")
}

func TestTheNthIsThatOfTheSorted(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		xs := rapid.SliceOfN(rapid.Float64Range(-4, 4), 1, 60).Draw(t, "values")
		if rapid.Bool().Draw(t, "few levels") {
			for i := range xs {
				xs[i] = math.Round(xs[i])
			}
		}
		n := rapid.IntRange(0, len(xs)-1).Draw(t, "n")
		sorted := slices.Sorted(slices.Values(xs))
		assert.Equal(t, sorted[n], nth(xs, n))
		assert.ElementsMatch(t, sorted, xs)
	})
}
