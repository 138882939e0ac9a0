package trend

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOfManyPointsAFigureHasThoseItShows(t *testing.T) {
	hourly := func(n int, at func(i int) float64) []Point {
		all := make([]Point, n)
		for i := range all {
			all[i] = Point{Seq: i + 1, Hours: float64(i), Value: at(i)}
		}
		return all
	}
	few := hourly(400, func(i int) float64 { return float64(i) })
	assert.Equal(t, few, Drawn(few, 400))
	steps := Drawn(hourly(9000, func(i int) float64 { return float64(i / 3000) }), 400)
	var seqs []int
	for _, p := range steps {
		seqs = append(seqs, p.Seq)
	}
	assert.Equal(t, []int{1, 3000, 3001, 6000, 6001, 9000}, seqs, "both sides of each step, and the ends")
	heat := hourly(9000, func(i int) float64 { return 30 + 5*math.Sin(float64(i)/4) })
	heat[4567].Value, heat[8001].Value = 61, 12
	drawn := Drawn(heat, 400)
	assert.LessOrEqual(t, len(drawn), 402)
	assert.Greater(t, len(drawn), 300)
	assert.Contains(t, drawn, heat[4567])
	assert.Contains(t, drawn, heat[8001])
	assert.Equal(t, []Point{heat[0], heat[8999]}, []Point{drawn[0], drawn[len(drawn)-1]})
	for i := 1; i < len(drawn); i++ {
		assert.Greater(t, drawn[i].Seq, drawn[i-1].Seq)
	}
}
