package risk

import (
	"math"

	"gonum.org/v1/gonum/optimize"
)

// Outcome is what was said of a drive and what became of it within the year.
type Outcome struct {
	Said   float64 // by published rates
	Failed bool
}

// Calibration moves what is said by published rates to what a shop has seen: logit(p) = Shift + Slope logit(said). The zero Calibration
// leaves it as it is.
type Calibration struct {
	Shift    float64 `json:"shift"`
	Slope    float64 `json:"slope"` // less 1
	Outcomes int     `json:"outcomes"`
}

// FewestOutcomes is how many drives with a known fate, and how many failed ones among them, a calibration takes.
const (
	FewestOutcomes = 40
	FewestFailed   = 10
)

// shrinkage is how strongly a calibration is held to the published rates: the variances of shift and slope, in logits.
const (
	varianceShift = 1.0
	varianceSlope = 0.25
)

// Calibrate fits a logistic regression on what was said, shrunk towards the published rates (ridge regression: le Cessie and van
// Houwelingen, Applied Statistics 41, 1992). It reports false for too few outcomes: published rates only.
func Calibrate(all []Outcome) (Calibration, bool) {
	failed := 0
	for _, o := range all {
		if o.Failed {
			failed++
		}
	}
	if len(all) < FewestOutcomes || failed < FewestFailed || failed == len(all) {
		return Calibration{}, false
	}
	problem := optimize.Problem{
		Func: func(x []float64) float64 {
			loss := x[0]*x[0]/(2*varianceShift) + x[1]*x[1]/(2*varianceSlope)
			for _, o := range all {
				z := x[0] + (1+x[1])*logit(o.Said)
				if o.Failed {
					z = -z
				}
				loss += math.Log1p(math.Exp(-math.Abs(z))) + math.Max(0, z)
			}
			return loss
		},
		Grad: func(grad, x []float64) {
			grad[0], grad[1] = x[0]/varianceShift, x[1]/varianceSlope
			for _, o := range all {
				l := logit(o.Said)
				p := 1 / (1 + math.Exp(-(x[0] + (1+x[1])*l)))
				if o.Failed {
					p--
				}
				grad[0] += p
				grad[1] += p * l
			}
		},
	}
	result, err := optimize.Minimize(problem, []float64{0, 0}, nil, &optimize.BFGS{})
	if err != nil || result == nil || math.IsNaN(result.X[0]+result.X[1]) {
		return Calibration{}, false
	}
	return Calibration{result.X[0], result.X[1], len(all)}, true
}

func logit(p float64) float64 {
	p = math.Min(0.999, math.Max(0.001, p))
	return math.Log(p / (1 - p))
}

// Apply moves a chance.
func (k Calibration) Apply(c Chance) Chance {
	if k.Outcomes == 0 {
		return c
	}
	move := func(p float64) float64 { return 1 / (1 + math.Exp(-(k.Shift + (1+k.Slope)*logit(p)))) }
	c.Year, c.Low, c.High, c.Calibrated = move(c.Year), move(c.Low), move(c.High), k.Outcomes
	return c
}

// Tenth is how a tenth of what can be said did: how many drives were told such a chance, what was said of them on average, and how many of
// them failed.
type Tenth struct {
	Drives, Failed int
	Said           float64
}

// Reliability tells what was said against what was seen, by tenths of the chance.
func Reliability(all []Outcome) [10]Tenth {
	var tenths [10]Tenth
	for _, o := range all {
		t := &tenths[min(9, max(0, int(o.Said*10)))]
		t.Said = (t.Said*float64(t.Drives) + o.Said) / float64(t.Drives+1)
		t.Drives++
		if o.Failed {
			t.Failed++
		}
	}
	return tenths
}
