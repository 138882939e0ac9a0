package surface

import (
	"math"
	"time"

	"gonum.org/v1/gonum/stat"
)

// innerShare is how much of the square of the outer speed a usual drive has lost at its inner edge: half the radius, half
// the speed.
const innerShare = 0.75

// Left estimates how long the rest takes, from what was read so far. On a spinning drive the speed falls with the radius:
// at constant density, after a share x of the capacity, v(x) = v(0)·sqrt(1-k·x). Both are fitted to the ribbon, v² being a
// straight line over x; while little is read, k leans on that of a usual drive. Not ok before there is something to go by.
func (s *Sweep) Left() (left time.Duration, ok bool) {
	if s.Finished() {
		return 0, true
	}
	if s.Spots != nil || s.geometry.RPM == 0 {
		return s.leftEven()
	}
	v0, k, ok := s.ribbon.profile()
	if !ok {
		return 0, false
	}
	total := float64(s.geometry.Bytes())
	behind := uint64(0) // sectors that are still to be read beside the pass
	for _, p := range s.Passed {
		behind += p.Sectors
	}
	for _, t := range s.Tasks {
		if t.Stage == stageLater || t.Stage == stageFlush {
			behind += t.Sectors
		}
	}
	left = s.rest(v0, k, total) + time.Duration(float64(behind)*float64(s.geometry.Logical)/v0*1e9)
	return left + s.leftTasks(), true
}

// rest is the time from where the pass stands to the end of the surface.
func (s *Sweep) rest(v0, k, total float64) time.Duration {
	if s.Last {
		return 0
	}
	x := min(1, float64(s.At)/float64(max(1, s.total())))
	seconds := total / v0 * (1 - x)
	if k > 1e-6 {
		seconds = total / v0 * 2 / k * (math.Sqrt(1-k*x) - math.Sqrt(1-k))
	}
	return time.Duration(seconds * 1e9)
}

// leftTasks is the time second tries take.
func (s *Sweep) leftTasks() time.Duration {
	n := 0
	for _, t := range s.Tasks {
		if t.Stage == stageConfirm || t.Stage == stageRetry {
			n++
		}
	}
	for i := range s.Slow {
		if !s.Last {
			n += int(min(mostAgain, s.Slow[i].Sectors/uint64(s.geometry.Chunk)+1))
		}
	}
	return time.Duration(n) * 50 * time.Millisecond
}

// leftEven takes the speed so far for the speed to come.
func (s *Sweep) leftEven() (time.Duration, bool) {
	var bytes uint64
	var took time.Duration
	for i := range s.ribbon.cells {
		bytes += s.ribbon.cells[i].Bytes
		took += s.ribbon.cells[i].Took
	}
	if bytes == 0 || took <= 0 {
		return 0, false
	}
	rest := float64(s.Sectors()-min(s.Done, s.Sectors())) * float64(s.geometry.Logical)
	return time.Duration(rest/float64(bytes)*float64(took)) + s.leftTasks(), true
}

// profile fits v² = v0²·(1-k·x) to the cells by least squares, cells with slow reads left out. The prior of k has the weight
// of a tenth of the surface.
func (r *Ribbon) profile() (v0, k float64, ok bool) {
	n := float64(len(r.cells))
	var x, y []float64
	for i := range r.cells {
		if v := r.cells[i].Speed(); v > 0 && r.cells[i].Worst < 2 {
			x, y = append(x, (float64(i)+0.5)/n), append(y, v*v)
		}
	}
	if len(x) == 0 {
		return 0, 0, false
	}
	k = innerShare
	mx, my := stat.Mean(x, nil), stat.Mean(y, nil)
	if len(x) > 2 {
		const prior = 0.1 * 0.1 * 0.1 / 12 // the spread of a tenth of the surface
		spread := stat.Variance(x, nil) * float64(len(x)-1) / n
		if square, slope := stat.LinearRegression(x, y, nil, false); square > 0 {
			k = (math.Min(math.Max(-slope/square, -0.2), 0.9)*spread + innerShare*prior) / (spread + prior)
		}
	}
	return math.Sqrt(my / (1 - k*mx)), k, true
}
