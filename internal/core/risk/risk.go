// Package risk tells the chance that a drive fails within a year, for the technician beside the rules, as a range with the factors it is
// made of. A base rate by kind and age is multiplied by published relative risks, each decayed by the quiet time since its sign last moved,
// raised by growth, lowered by passed tests and sweeps. It is a rough number, and says so by its range; a shop's own outcomes calibrate it
// (calibrate.go). Start with Of.
//
// Sources: Failure Trends in a Large Disk Drive Population (FAST 2007): annual rates by age, figure 2; relative risks in the 60 days after
// a first error of the drive's own scan 39, a first offline reallocation 21, a first pending sector 16, a first reallocation 14, section
// 3.5. Flash Reliability in Production (FAST 2016): replacement rates, table 3; errors that follow errors, section 5.
package risk

import (
	"fmt"
	"math"
	"slices"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/wording"
)

// Evidence is what a chance rests on.
type Evidence struct {
	Medium   drive.Medium
	Now      signal.Set
	Trends   map[signal.Name]trend.Trend
	Reworked bool                    // it was reworked
	Since    map[signal.Name]float64 // and so far signals moved since

	words bool // its factors are put into words
}

// Factor is one thing that raises or lowers the chance.
type Factor struct {
	Sign   string  // "waiting: 8 sectors"
	Words  string  // "waiting: 8 sectors, moved 3 days ago"
	Ratio  float64 // by how much the hazard is multiplied
	Source string
}

// Chance is the chance of failing within a year.
type Chance struct {
	Year, Low, High float64 // 0 to 1
	Base            float64 // of a drive of its kind and age that shows nothing
	Factors         []Factor
	Calibrated      int // on how many outcomes; 0: published rates only
}

// window is how long the published risks hold after a sign, in days; they fade with it.
const window = 60.0

const year = 365.0

// A sign is a signal whose first movement is followed by failures.
type sign struct {
	name   signal.Name
	ratio  float64 // in the window after it
	source string
}

const (
	fast2007 = "FAST 2007, section 3.5"
	fast2016 = "FAST 2016, section 5"
	workshop = "the trade's working rule"
)

// signs by medium. Several of one group tell of the same flaw: the strongest of a group counts whole, the others by their square root.
var signs = map[drive.Medium][]sign{
	drive.Spinning: {
		{signal.ScanFindings, 39, fast2007},
		{signal.UncorrectableOffline, 21, fast2007},
		{signal.Pending, 16, fast2007},
		{signal.Reallocated, 14, fast2007},
		{signal.GrownDefects, 14, fast2007},
		{signal.ReportedUncorrectable, 14, fast2007},
		{signal.UnreadableFound, 16, fast2007},
	},
	drive.Flash: {
		{signal.MediaErrors, 6, fast2016},
		{signal.ReportedUncorrectable, 6, fast2016},
		{signal.Reallocated, 4, fast2016},
		{signal.GrownDefects, 4, fast2016},
		{signal.ProgramFailures, 4, fast2016},
		{signal.EraseFailures, 6, fast2016},
	},
}

// ages are the annual rates of spinning drives by power-on years, FAST 2007, figure 2.
var ages = []struct{ years, rate float64 }{{0.25, 0.03}, {0.5, 0.02}, {1, 0.02}, {2, 0.08}, {3, 0.09}, {4, 0.06}, {math.Inf(1), 0.07}}

// flashRate is the annual rate of flash drives: 4 to 10 in 100 were replaced in four years (FAST 2016, table 3).
const flashRate = 0.018

// base is the annual hazard of a drive that shows nothing.
func base(e Evidence) float64 {
	if e.Medium == drive.Flash {
		return flashRate
	}
	hours := e.Now[signal.PowerOnHours]
	if !hours.Available {
		return 0.06
	}
	for _, a := range ages {
		if hours.Number < a.years*24*year {
			return a.rate
		}
	}
	return 0.07
}

// spread is the uncertainty of a factor in logarithms, as a share of its own size, and of the base.
const (
	spreadOfRatio = 0.35
	spreadOfBase  = 0.4
	// normal is the quantile of the range: four in five.
	normal = 1.2816
)

// Of gives the chance by published rates. It reports false where nothing is known of the drive.
func Of(e Evidence) (Chance, bool) {
	e.words = true
	return of(e)
}

// Year is Of without words: the chance alone, and false where nothing is known.
func Year(e Evidence) (Chance, bool) { return of(e) }

func of(e Evidence) (Chance, bool) {
	if len(e.Trends) == 0 && !e.Now[signal.PowerOnHours].Available {
		return Chance{}, false
	}
	c := Chance{Base: base(e)}
	c.Factors = append(c.Factors, surface(e)...)
	c.Factors = append(c.Factors, others(e, len(c.Factors) > 0)...)
	c.Factors = append(c.Factors, proofs(e, c.Factors)...)
	hazard, variance := c.Base, spreadOfBase*spreadOfBase
	for _, f := range c.Factors {
		hazard *= f.Ratio
		variance += spreadOfRatio * spreadOfRatio * math.Log(f.Ratio) * math.Log(f.Ratio)
	}
	reach := math.Exp(normal * math.Sqrt(variance))
	c.Year, c.Low, c.High = within(hazard), within(hazard/reach), within(hazard*reach)
	return c, true
}

// within turns a year's hazard into a chance.
func within(hazard float64) float64 { return 1 - math.Exp(-hazard) }

// surface are the signs that it cannot keep what it stores. Several of them tell of the same flaw: the strongest counts whole, of the
// others each a quarter, in logarithms; and of what grows, what grows fastest.
func surface(e Evidence) []Factor {
	var all []Factor
	growth := Factor{Ratio: 1}
	for _, s := range signs[e.Medium] {
		v, t := e.Now[s.name], e.Trends[s.name]
		d, _ := signal.Lookup(s.name)
		count := v.Number
		if t.Held > count {
			count = t.Held
		}
		if !v.Available || count <= 0 && t.Events == 0 {
			continue
		}
		quiet, seen := t.SteadyDays, "not moved since it was first seen"
		if t.Events > 0 {
			if e.words {
				seen = "moved " + ago(quiet)
			}
		} else if d.Direction == signal.Grows {
			quiet += window // it came at some time before
		}
		f := Factor{Ratio: yearly(s.ratio*amount(count), quiet), Source: s.source}
		if e.words {
			f.Sign = fmt.Sprintf("%s: %s", d.Words, d.Amount(count))
			f.Words = f.Sign + ", " + seen
		}
		dealt := e.Reworked && e.Since[s.name] <= 0
		if dealt { // what it was written for may be over, or come again: nobody knows yet
			f.Ratio = math.Sqrt(f.Ratio)
			if e.words {
				f.Words += "; reworked since"
			}
		}
		if f.Ratio > 1.01 {
			all = append(all, f)
		}
		if t.Pace > 0 && t.Grew > 1 { // the published risks are those of a first rise
			grows := math.Min(math.Sqrt(1+window*t.Pace), 6)
			if dealt {
				grows = math.Sqrt(grows)
			}
			if grows > max(1.05, growth.Ratio) {
				growth = Factor{Ratio: grows, Source: "SIGMETRICS 2007, section 4"}
				if e.words {
					growth.Sign = "growth of " + d.Words
					growth.Words = d.Words + ": " + wording.Pace(t.Pace)
				}
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Factor) int {
		switch {
		case a.Ratio > b.Ratio:
			return -1
		case a.Ratio < b.Ratio:
			return 1
		}
		return 0
	})
	for i := range all {
		if i > 0 {
			all[i].Ratio = math.Pow(all[i].Ratio, 0.25)
		}
	}
	if growth.Ratio > 1 {
		all = append(all, growth)
	}
	return all
}

// amount raises a risk with the count: the published ones are of a first sector, and of ten times as many failures are two and a half times
// as frequent (RAIDShield, FAST 2015, section 4.2, from its detection and false-alarm rates by threshold).
func amount(count float64) float64 { return math.Pow(math.Max(1, count), 0.4) }

// yearly is a relative risk in the window after a sign as one of a year: it fades while the drive is quiet.
func yearly(ratio, quiet float64) float64 {
	return 1 + (ratio-1)*math.Exp(-quiet/year*2)*(window/year)*(1-math.Exp(-year/window))
}

func ago(x float64) string {
	if x < 1 {
		return "within a day"
	}
	return wording.Of(math.Floor(x), wording.Singular("days", math.Floor(x))) + " ago"
}

// others are signs of the rest of the drive.
func others(e Evidence, flawed bool) []Factor {
	var all []Factor
	has := func(n signal.Name) float64 { return e.Now[n].Number }
	add := func(on bool, ratio float64, source, words string) {
		if on {
			all = append(all, Factor{words, words, ratio, source})
		}
	}
	passed := has(signal.TestsPassedSince)
	fails := 2.5 // beside a flaw of the surface, which it has found, it says little more
	if flawed {
		fails = 1.3
	}
	add(has(signal.TestsFailed) > 0 && passed == 0 && !e.Reworked, fails, workshop, "its last self-test failed")
	add(has(signal.TestsFailedMechanics) > 0 && passed == 0, 4, workshop, "it failed on mechanics or electronics")
	add(has(signal.Alarm) > 0, 10, workshop, "it raises its own alarm")
	add(has(signal.AttributesFailing) > 0, 6, workshop, "it has reached a limit of its own")
	if t := e.Trends[signal.SpinUpRetries]; t.Events > 0 {
		add(true, 1+2*math.Min(t.Events, 4), workshop, "it starts at the second try more often")
	} else {
		add(has(signal.SpinUpRetries) > 0, 2, workshop, "it has started at the second try")
	}
	if t := e.Trends[signal.DamagedPages]; t.Change > 0 && t.HasBefore && t.Before > 0 {
		add(true, 4, workshop, "pages of its own come damaged")
	}
	add(has(signal.PercentageUsed) >= 100, 2.5, fast2016, "its rated endurance is used up")
	add(has(signal.SpareLow) > 0 || has(signal.ReliabilityDegraded) > 0 || has(signal.ReadOnly) > 0, 10, workshop, "it warns of itself")
	return all
}

// freshHours is how new a proof has to be.
const freshHours = 720

// proofs lower the chance of a drive that shows nothing.
func proofs(e Evidence, signs []Factor) []Factor {
	var all []Factor
	if len(signs) > 0 || e.Reworked {
		return nil
	}
	if v := e.Now[signal.WholeSweepAge]; v.Available && v.Number <= freshHours && e.Now[signal.UnreadableFound].Number == 0 {
		all = append(all, Factor{Words: "a whole sweep found nothing", Ratio: 0.7, Source: workshop})
	}
	if v := e.Now[signal.ExtendedTestAge]; v.Available && v.Number <= freshHours {
		all = append(all, Factor{Words: "an extended self-test passed", Ratio: 0.8, Source: workshop})
	}
	return all
}

// Words says the chance in plain words: "about 1 in 6, between 1 in 9 and 1 in 4".
func (c Chance) Words() string {
	if c.Year >= certain {
		return fmt.Sprintf("nearly certain, at least %s", oneIn(c.Low))
	}
	return fmt.Sprintf("about %s, between %s and %s", oneIn(c.Year), oneIn(c.Low), oneIn(c.High))
}

// certain is the chance from which on nobody would bet.
const certain = 0.95

// oneIn writes a chance as people say it; from one in two on, of ten.
func oneIn(p float64) string {
	switch {
	case p >= certain:
		return "nearly certain"
	case p > 0.45:
		return fmt.Sprintf("%.0f in 10", math.Round(p*10))
	case p <= 0.001:
		return "under 1 in 1\u00a0000"
	}
	n := 1 / p
	if n > 20 {
		n = math.Round(n/5) * 5
	}
	return "1 in " + wording.Number(math.Round(n))
}
