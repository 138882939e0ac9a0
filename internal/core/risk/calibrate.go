package risk

import (
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"
	"gonum.org/v1/gonum/optimize"

	"hylostat.example/internal/core/wording"
)

// Outcome is what was said of a drive at one time, and what became of it within the year that followed.
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
	varianceShift = 0.25
	varianceSlope = 0.0625
)

// Fate are the outcomes of one drive, over its life. A drive counts as one, however often it was asked about.
type Fate []Outcome

// Failed reports whether the drive failed within the year of one of them.
func (f Fate) Failed() bool { return slices.ContainsFunc(f, func(o Outcome) bool { return o.Failed }) }

// Calibrate fits a logistic regression on what was said, shrunk towards the published rates (ridge regression: le Cessie and van
// Houwelingen, Applied Statistics 41, 1992). It reports false for too few outcomes: published rates only.
func Calibrate(drives []Fate) (Calibration, bool) {
	known, failed := count(drives)
	if known < FewestOutcomes || failed < FewestFailed || known-failed < FewestFailed {
		return Calibration{}, false
	}
	k, err := fit(drives)
	k.Outcomes = known
	return k, err == nil
}

func count(drives []Fate) (known, failed int) {
	for _, f := range drives {
		if len(f) > 0 {
			known++
			if f.Failed() {
				failed++
			}
		}
	}
	return known, failed
}

func fit(drives []Fate) (Calibration, error) {
	each := func(x []float64, f func(o Outcome, p, l, weight float64)) {
		for _, fate := range drives {
			for _, o := range fate {
				l := logit(o.Said)
				f(o, 1/(1+math.Exp(-(x[0]+(1+x[1])*l))), l, 1/float64(len(fate)))
			}
		}
	}
	problem := optimize.Problem{
		Func: func(x []float64) float64 {
			loss := x[0]*x[0]/(2*varianceShift) + x[1]*x[1]/(2*varianceSlope)
			each(x, func(o Outcome, p, _, weight float64) {
				if !o.Failed {
					p = 1 - p
				}
				loss -= weight * math.Log(math.Max(p, math.SmallestNonzeroFloat64))
			})
			return loss
		},
		Grad: func(grad, x []float64) {
			grad[0], grad[1] = x[0]/varianceShift, x[1]/varianceSlope
			each(x, func(o Outcome, p, l, weight float64) {
				if o.Failed {
					p--
				}
				grad[0] += weight * p
				grad[1] += weight * p * l
			})
		},
		Hess: func(hess *mat.SymDense, x []float64) {
			a, b, c := 1/varianceShift, 0.0, 1/varianceSlope
			each(x, func(_ Outcome, p, l, weight float64) {
				w := weight * p * (1 - p)
				a, b, c = a+w, b+w*l, c+w*l*l
			})
			hess.SetSym(0, 0, a)
			hess.SetSym(0, 1, b)
			hess.SetSym(1, 1, c)
		},
	}
	// Both parameters are logits: four digits are more than any shop's outcomes tell.
	settings := &optimize.Settings{GradientThreshold: 1e-4}
	result, err := optimize.Minimize(problem, []float64{0, 0}, settings, &optimize.Newton{})
	if err != nil {
		return Calibration{}, fmt.Errorf("fitting the shop's outcomes: %w", err)
	}
	return Calibration{Shift: result.X[0], Slope: result.X[1]}, nil
}

// Words says what a shop's outcomes do, or that they are too few.
func Words(k Calibration, drives []Fate) string {
	known, failed := count(drives)
	if k.Outcomes == 0 {
		return fmt.Sprintf(
			"too few outcomes: published rates only. Known for a year or to their end: %d %s, %d failed; it takes %d, %d of each",
			known, wording.Singular("drives", float64(known)), failed, FewestOutcomes, FewestFailed,
		)
	}
	return fmt.Sprintf(
		"by %d outcomes, %d of them failures: what published rates call %s is %s here", known, failed, oneIn(0.1),
		oneIn(k.move(0.1)),
	)
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
	c.Year, c.Low, c.High, c.Calibrated = k.move(c.Year), k.move(c.Low), k.move(c.High), k.Outcomes
	return c
}

func (k Calibration) move(p float64) float64 {
	return 1 / (1 + math.Exp(-(k.Shift + (1+k.Slope)*logit(p))))
}

// Tenth is how what was said did, for one tenth of what can be said.
type Tenth struct {
	Said   float64 // on average; 0 when nothing was
	Drives float64 // how many drives were told so; a drive is shared out over what it was told in its life
	Failed float64 // of them, within the year
}

// folds is in how many parts the drives are set aside in turn, so that no drive is told what its own fate taught.
const folds = 5

// Reliability tells what is said against what was seen, by tenths of the chance: calibrated on the other drives where there are enough
// outcomes, by published rates otherwise.
func Reliability(drives []Fate) [10]Tenth {
	var tenths [10]Tenth
	_, enough := Calibrate(drives)
	for fold := range folds {
		var k Calibration
		if enough {
			var others []Fate
			for i, f := range drives {
				if i%folds != fold {
					others = append(others, f)
				}
			}
			k, _ = fit(others)
			k.Outcomes = len(others)
		}
		for i := fold; i < len(drives); i += folds {
			for _, o := range drives[i] {
				said := k.Apply(Chance{Year: o.Said}).Year
				t, share := &tenths[min(9, max(0, int(said*10)))], 1/float64(len(drives[i]))
				t.Drives += share
				t.Said += (said - t.Said) * share / t.Drives
				if o.Failed {
					t.Failed += share
				}
			}
		}
	}
	return tenths
}
