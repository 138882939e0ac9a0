package trend

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
)

// FewestSiblings is how many values a comparison needs: of fewer, none stands apart.
const FewestSiblings = 6

// apartFrom is the modified z-score from which a value stands apart (Iglewicz and Hoaglin, How to Detect and Handle Outliers,
// 1993, chapter 3).
const apartFrom = 3.5

// Sibling is how one value stands among those of drives of the same model.
type Sibling struct {
	Value  float64
	Median float64 // of all
	Score  float64 // modified z-score, negative below the median
	Of     int     // how many values were compared, its own among them
	Apart  bool
}

// Times is the value in multiples of the median; 0 when that has no meaning.
func (s Sibling) Times() float64 {
	if s.Median <= 0 {
		return 0
	}
	return s.Value / s.Median
}

// Siblings compares values of one quantity over drives of one model, one for each drive. A value stands apart when its modified
// z-score is beyond 3.5 and it differs from the median by a seventh of it and by least, which is in the values' unit: among values
// that are nearly equal the least difference would have a great score. Where more than half the values are equal the mean
// deviation takes the place of the median one.
func Siblings(values []float64, least float64) []Sibling {
	all := make([]Sibling, len(values))
	for i, v := range values {
		all[i] = Sibling{Value: v, Of: len(values)}
	}
	if len(values) == 0 {
		return all
	}
	median := middle(values)
	away := make([]float64, len(values))
	for i, v := range values {
		away[i] = math.Abs(v - median)
	}
	spread := middle(away) / 0.6745
	if spread == 0 {
		spread = stat.Mean(away, nil) * 1.253314 // of a normal distribution, the standard deviation over the mean one
	}
	for i := range all {
		s := &all[i]
		s.Median = median
		if spread > 0 {
			s.Score = (s.Value - median) / spread
		}
		s.Apart = len(values) >= FewestSiblings && math.Abs(s.Score) > apartFrom && away[i] >= max(least, math.Abs(median)/7)
	}
	return all
}

// middle is the median; that of an even number of values lies between the two in the middle.
func middle(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}
