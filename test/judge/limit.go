package main

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/floats"
	"gonum.org/v1/gonum/optimize"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
)

// telling are the signals that could tell of a failure to come.
var telling = []signal.Name{
	signal.Reallocated,
	signal.Pending,
	signal.UncorrectableOffline,
	signal.ReportedUncorrectable,
	signal.MediaErrors,
	signal.GrownDefects,
	signal.ScanFindings,
	signal.SpinUpRetries,
	signal.CommandTimeouts,
	signal.CRCErrors,
	signal.ProgramFailures,
	signal.EraseFailures,
	signal.PercentageUsed,
	signal.SpareMargin,
	signal.Temperature,
	signal.TimeTooHot,
	signal.UnreadableFound,
	signal.TestsFailed,
	signal.TestsFailedMechanics,
	signal.TestsPassedSince,
	signal.Alarm,
	signal.AttributesFailing,
	signal.DamagedPages,
	signal.PowerOnHours,
}

// features are what a reading says of a drive, with what went before: for each signal its value, its change, and how fast it grows.
func features(e verdict.Evidence) []float64 {
	f := verdict.Facts(e)
	x := []float64{
		1,
		truth(e.Identity.Medium == drive.Flash),
		truth(e.Identity.Interface == drive.NVMe),
		truth(e.Identity.Interface == drive.SCSI),
		float64(f.Rollback),
	}
	for _, n := range telling {
		s := string(n)
		now, has := f.Now[s]
		if !has {
			x = append(x, 0, 0, 0, 0, 0, 0, 0)
			continue
		}
		shown := truth(now > 0)
		x = append(
			x, shown, signedLog(now), signedLog(f.Change[s]), float64(f.Grew[s]), math.Log1p(60*f.Pace[s]), math.Log1p(f.Jump[s]),
			shown*math.Log1p(f.Steady[s]),
		)
	}
	return x
}

func truth(on bool) float64 {
	if on {
		return 1
	}
	return 0
}

func signedLog(x float64) float64 { return math.Copysign(math.Log1p(math.Abs(x)), x) }

// regression is a logistic regression over features.
type regression struct{ weights, middle, spread []float64 }

func (r *regression) score(x []float64) float64 {
	sum := 0.0
	for i, w := range r.weights {
		sum += w * (x[i] - r.middle[i]) / r.spread[i]
	}
	return sum
}

// ridge keeps weights that the lives say little of near zero.
const ridge = 2.0

// fit finds the weights for readings of drives that failed or lived on. Each life has the same say, however often it was read.
func fit(xs [][]float64, failed []bool, say []float64) *regression {
	n := len(xs[0])
	r := &regression{make([]float64, n), make([]float64, n), make([]float64, n)}
	for i := range n {
		mean, square := 0.0, 0.0
		for _, x := range xs {
			mean += x[i] / float64(len(xs))
			square += x[i] * x[i] / float64(len(xs))
		}
		r.middle[i], r.spread[i] = mean, math.Sqrt(max(1e-9, square-mean*mean))
	}
	r.middle[0], r.spread[0] = 0, 1
	rows := make([][]float64, len(xs))
	for k, x := range xs {
		rows[k] = make([]float64, n)
		for i := range n {
			rows[k][i] = (x[i] - r.middle[i]) / r.spread[i]
		}
	}
	problem := optimize.Problem{
		Func: func(w []float64) float64 {
			loss := ridge / 2 * floats.Dot(w[1:], w[1:])
			for k, x := range rows {
				z := floats.Dot(w, x)
				if failed[k] {
					z = -z
				}
				loss += say[k] * softplus(z)
			}
			return loss
		},
		Grad: func(grad, w []float64) {
			copy(grad, w)
			floats.Scale(ridge, grad)
			grad[0] = 0
			for k, x := range rows {
				p := 1 / (1 + math.Exp(-floats.Dot(w, x)))
				floats.AddScaled(grad, say[k]*(p-truth(failed[k])), x)
			}
		},
	}
	result, err := optimize.Minimize(problem, r.weights, &optimize.Settings{MajorIterations: 300}, &optimize.LBFGS{})
	if result != nil && (err == nil || result.X != nil) {
		r.weights = result.X
	}
	return r
}

func softplus(z float64) float64 {
	if z > 30 {
		return z
	}
	return math.Log1p(math.Exp(z))
}

// limit is how many failed drives a regression fitted on the even lives finds among the odd ones, when it calls as many drives that lived
// on as a way to judge does, and how many that way finds there.
type limit struct {
	found, way, risk    int // by the regression, by the way to judge, and by the risk alone
	failed, falseAlarms int
	sound               int
	modes               map[int][3]int // by mode: how many failed, how many the way found, how many the regression
}

func (l limit) share() float64 {
	if l.found == 0 {
		return 1
	}
	return float64(l.way) / float64(l.found)
}

// limits fits one regression, and holds the policy's two words against it.
func limits(fates []fate) (replace, degrading limit) {
	var xs [][]float64
	var failed []bool
	var say []float64
	for i := 0; i < len(fates); i += 2 {
		for _, x := range fates[i].features {
			xs, failed, say = append(xs, x), append(failed, fates[i].failed), append(say, 1/float64(len(fates[i].features)))
		}
	}
	r := fit(xs, failed, say)
	highest, risks := make([]float64, len(fates)), make([]float64, len(fates)) // of each life
	for i := range fates {
		highest[i], risks[i] = math.Inf(-1), math.Inf(-1)
		for k, x := range fates[i].features {
			highest[i], risks[i] = max(highest[i], r.score(x)), max(risks[i], fates[i].risks[k])
		}
	}
	of := func(way int) limit {
		l := limit{modes: map[int][3]int{}}
		var sound, soundRisk []float64
		for i := 1; i < len(fates); i += 2 {
			called := !fates[i].alarms[way].IsZero() && fates[i].alarms[way].Before(fates[i].end)
			if fates[i].failed {
				l.failed++
				l.way += int(truth(called))
			} else {
				l.sound++
				l.falseAlarms += int(truth(called))
				sound, soundRisk = append(sound, highest[i]), append(soundRisk, risks[i])
			}
		}
		bar, riskBar := above(sound, l.falseAlarms), above(soundRisk, l.falseAlarms)
		for i := 1; i < len(fates); i += 2 {
			if !fates[i].failed {
				continue
			}
			l.found += int(truth(highest[i] > bar))
			l.risk += int(truth(risks[i] > riskBar))
			m := l.modes[fates[i].mode]
			l.modes[fates[i].mode] = [3]int{
				m[0] + 1,
				m[1] + int(truth(!fates[i].alarms[way].IsZero())),
				m[2] + int(truth(highest[i] > bar)),
			}
		}
		return l
	}
	return of(byReplace), of(byDegrading)
}

// above is the score above which so many of them lie.
func above(scores []float64, n int) float64 {
	slices.Sort(scores)
	if n >= len(scores) {
		return math.Inf(-1)
	}
	return scores[len(scores)-1-n]
}
