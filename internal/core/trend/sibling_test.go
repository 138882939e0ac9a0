package trend

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// apart lists the places of the values that stand apart.
func apart(values []float64, least float64) []int {
	found := []int{}
	for i, s := range Siblings(values, least) {
		if s.Apart {
			found = append(found, i)
		}
	}
	return found
}

func TestSiblings(t *testing.T) {
	hours := []float64{19200, 20100, 19800, 20400, 21000, 19900, 20300, 41806}
	assert.Equal(t, []int{7}, apart(hours, 1))
	assert.InDelta(t, 20200, Siblings(hours, 1)[7].Median, 0)
	assert.InDelta(t, 2.07, Siblings(hours, 1)[7].Times(), 0.01)

	assert.Equal(t, []int{6}, apart([]float64{0, 0, 0, 0, 0, 0, 41}, 1), "more than half the same: the mean deviation counts")
	assert.Empty(t, apart([]float64{30, 30, 30, 30, 30, 30, 31}, 5), "one degree is no distance")
	assert.Empty(t, apart([]float64{7, 7, 7, 7, 7, 7}, 1))
	assert.Empty(t, apart([]float64{1, 1, 1, 1, 90}, 1), "five are too few to say what is usual")
	assert.Equal(t, []int{0}, apart([]float64{152, 190, 189, 188, 190, 191, 189}, 1), "below counts as well")
	assert.Empty(t, Siblings(nil, 1))
}

// Values drawn from one normal distribution rarely stand apart: a lot of sound siblings accuses nobody.
func TestSiblingsAreNotAccused(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	found := 0
	for range 200 {
		values := make([]float64, 30)
		for i := range values {
			values[i] = 20000 + 600*r.NormFloat64()
		}
		found += len(apart(values, 1))
	}
	assert.LessOrEqual(t, found, 6, "of 6,000")
}
