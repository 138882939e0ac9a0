package trend

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"
)

// Shape tells how a counter rose.
type Shape string

// The shapes. A burst fits into a tenth of the hours; what rises otherwise is steady when a line with a slope above zero goes
// through it, else uneven.
const (
	Still  Shape = "still" // it never rose
	Burst  Shape = "burst"
	Steady Shape = "steady"
	Uneven Shape = "uneven"
)

// Line is the robust line through a signal over power-on hours.
type Line struct {
	Slope     float64 // per hour, Theil-Sen: the median of all slopes between two points (Sen, JASA 63, 1968)
	Low, High float64 // its 95 % interval by Kendall's variance (same, section 4)
	Middle    float64 // the median of what lies beside Slope * Hours: Middle + Slope * Hours is the line
	Shape     Shape
	Turn      *Point // the point after which the level is another one (Pettitt, Applied Statistics 28, 1979), nil: none that is plain
}

// most is of how many points a line is made at most; more are thinned evenly, the last stays. All pairs of them are looked at.
const most = 128

// confidence is the two-sided normal quantile of the 95 % interval and of a plain turn.
const confidence = 0.95

// Through gives the line through the points that have hours. It reports false for fewer than three, or all of the same hour.
// A slope of zero does not say that a counter is still: one that has just begun to move has it, too. Grew and Onset notice that.
func Through(points []Point) (Line, bool) {
	ps := points
	if unknown := func(p Point) bool { return p.Hours < 0 }; slices.ContainsFunc(ps, unknown) {
		ps = slices.DeleteFunc(slices.Clone(ps), unknown)
	}
	ps = thin(ps)
	if len(ps) < 3 || ps[0].Hours == ps[len(ps)-1].Hours {
		return Line{}, false
	}
	if !slices.ContainsFunc(ps, func(p Point) bool { return p.Value != ps[0].Value }) { // most counters never move
		return Line{Middle: ps[0].Value, Shape: Still}, true
	}
	slopes := make([]float64, 0, len(ps)*(len(ps)-1)/2)
	for i := range ps {
		for j := range i {
			if h := ps[i].Hours - ps[j].Hours; h > 0 {
				slopes = append(slopes, (ps[i].Value-ps[j].Value)/h)
			}
		}
	}
	if len(slopes) == 0 {
		return Line{}, false
	}
	n := float64(len(ps))
	// Ties of hours and of values make the variance smaller; leaving that out makes the interval wider, never too narrow.
	reach := distuv.UnitNormal.Quantile((1+confidence)/2) * math.Sqrt(n*(n-1)*(2*n+5)/18)
	m := float64(len(slopes))
	pick := func(rank float64) float64 {
		return nth(slopes, int(min(m-1, max(0, math.Round(rank)))))
	}
	l := Line{Slope: median(slopes), Low: pick((m-reach)/2 - 1), High: pick((m + reach) / 2)}
	beside := make([]float64, len(ps))
	for i, p := range ps {
		beside[i] = p.Value - l.Slope*p.Hours
	}
	l.Middle = median(beside)
	l.Shape = shape(ps, l)
	l.Turn = turn(ps)
	return l, true
}

// thin takes at most so many points, evenly, with the last one.
func thin(ps []Point) []Point {
	if len(ps) <= most {
		return ps
	}
	out := make([]Point, most)
	for i := range out {
		out[i] = ps[i*(len(ps)-1)/(most-1)]
	}
	return out
}

// Drawn thins points to about so many for a figure, which looks the same: the ends stay, both sides of each change of a signal that mostly
// rests, and of stretches that are too long for that the lowest and the highest.
func Drawn(ps []Point, about int) []Point {
	if len(ps) <= about {
		return ps
	}
	turns := make([]Point, 0, about)
	for i, p := range ps {
		if i == 0 || i == len(ps)-1 || p.Value != ps[i-1].Value || p.Value != ps[i+1].Value {
			turns = append(turns, p)
		}
	}
	if len(turns) <= about {
		return turns
	}
	out := make([]Point, 0, about+2)
	out = append(out, turns[0])
	parts := about / 2
	for n := range parts {
		part := turns[n*len(turns)/parts : (n+1)*len(turns)/parts]
		low, high := 0, 0
		for i, p := range part {
			if p.Value < part[low].Value {
				low = i
			}
			if p.Value > part[high].Value {
				high = i
			}
		}
		out = append(out, part[min(low, high)])
		if low != high {
			out = append(out, part[max(low, high)])
		}
	}
	if last := turns[len(turns)-1]; out[len(out)-1] != last {
		out = append(out, last)
	}
	if out[1] == out[0] {
		out = out[1:]
	}
	return out
}

// median puts the values into another order.
func median(xs []float64) float64 {
	n := len(xs)
	return (nth(xs, (n-1)/2) + nth(xs, n/2)) / 2
}

// nth is the value that would be at index n were they sorted. Smaller ones are put before it, larger ones behind it, and nothing else is
// sorted (Hoare, Algorithm 65, CACM 4, 1961).
func nth(xs []float64, n int) float64 {
	for low, high := 0, len(xs)-1; low < high; {
		a, b, c := xs[low], xs[low+(high-low)/2], xs[high]
		pivot := max(min(a, b), min(max(a, b), c))
		i, j := low, high
		for i <= j {
			for xs[i] < pivot {
				i++
			}
			for xs[j] > pivot {
				j--
			}
			if i <= j {
				xs[i], xs[j] = xs[j], xs[i]
				i, j = i+1, j-1
			}
		}
		switch {
		case n <= j:
			high = j
		case n >= i:
			low = i
		default:
			return xs[n]
		}
	}
	return xs[n]
}

// shape finds the shortest span that holds nine tenths of all that rose.
func shape(ps []Point, l Line) Shape {
	var all float64
	for i := 1; i < len(ps); i++ {
		all += rose(ps[i-1], ps[i])
	}
	if all == 0 {
		return Still
	}
	span, shortest := ps[len(ps)-1].Hours-ps[0].Hours, math.Inf(1)
	for i := 1; i < len(ps); i++ {
		var held float64
		for j := i; j < len(ps); j++ {
			if held += rose(ps[j-1], ps[j]); held >= 0.9*all {
				shortest = min(shortest, ps[j].Hours-ps[i].Hours) // from its first reading to its last: one step takes no time
				break
			}
		}
	}
	switch {
	case shortest <= span/10:
		return Burst
	case l.Low > 0:
		return Steady
	}
	return Uneven
}

// rose is what the value grew by since the point before, beyond what a rework explains. Never negative.
func rose(before, p Point) float64 { return max(0, p.Value-before.Value-p.Reworked) }

// turn is Pettitt's test: the split for which the values after it lie most clearly above or below those before it.
func turn(ps []Point) *Point {
	n := len(ps)
	if n < 8 {
		return nil
	}
	var best, u float64
	at := -1
	for k := range n - 1 {
		for _, other := range ps {
			u += sign(other.Value - ps[k].Value)
		}
		if math.Abs(u) > best {
			best, at = math.Abs(u), k
		}
	}
	p := 2 * math.Exp(-6*best*best/float64(n*n*n+n*n))
	if at < 0 || p > 1-confidence {
		return nil
	}
	return &ps[at+1]
}

func sign(x float64) float64 {
	switch {
	case x > 0:
		return 1
	case x < 0:
		return -1
	}
	return 0
}

// Forecast is the range of power-on hours in which the line meets a limit, nothing else happening. It reports false where the fit
// does not deserve one: fewer than five points or three levels, no slope that is plainly above zero, a burst,
// the limit met already, or a time further ahead than what was looked at.
func (l Line) Forecast(points []Point, limit float64) (from, to float64, ok bool) {
	var first, last Point
	levels := map[float64]bool{}
	n := 0
	for _, p := range points {
		if p.Hours < 0 {
			continue
		}
		if n == 0 {
			first = p
		}
		last = p
		levels[p.Value] = true
		n++
	}
	if n < 5 || len(levels) < 3 || l.Low <= 0 || l.Shape == Burst || last.Value >= limit {
		return 0, 0, false
	}
	from, to = last.Hours+(limit-last.Value)/l.High, last.Hours+(limit-last.Value)/l.Low
	if from-last.Hours > last.Hours-first.Hours {
		return 0, 0, false
	}
	return from, to, true
}

// Delta is how a value moved between two neighbouring readings.
type Delta struct {
	From, To Point
	Change   float64 // less what a rework explains
}

// Deltas gives the last n movements, newest first; points without a change between them are passed over.
func Deltas(points []Point, n int) []Delta {
	var all []Delta
	for i := len(points) - 1; i > 0 && len(all) < n; i-- {
		before, now := points[i-1], points[i]
		if now.Value != before.Value {
			all = append(all, Delta{before, now, now.Value - before.Value - min(now.Reworked, max(0, now.Value-before.Value))})
		}
	}
	return slices.Clip(all)
}
