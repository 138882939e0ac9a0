package sweep

import (
	"math"
	"slices"
	"sync"
	"time"

	"hylostat.example/internal/core/wording"
)

// Feed is how a bench finds out how many sweeps it can feed at once. The zero Feed lets all begin at once.
type Feed struct {
	Stagger time.Duration // between the starts of two sweeps, so that drives do not spin up together
	Trial   time.Duration // how long a further sweep is watched until it is plain whether it slows the others
}

// RealFeed suits real drives.
var RealFeed = Feed{Stagger: 2 * time.Second, Trial: 8 * time.Second}

// What counts as slowing each other: the others keep less than that share of their speed, while all together gain less than
// that share of what they had.
const (
	keeps = 0.85
	gains = 0.15
)

// Feeder admits sweeps one after the other and watches what each does to those before it. When one more only makes the others
// slower, the bench is full: it waits, and so do further ones, until another has ended. It measures in bytes by the clock it is
// given.
type Feeder struct {
	Feed
	mu      sync.Mutex // guards what follows
	flows   []*flow    // in the order of their starts
	limit   int        // sweeps at once, found out; 0: not known yet
	started time.Time
	trial   bool // the last of flows is being watched
	before  map[int64]float64
}

// flow is what a sweep reads.
type flow struct {
	run   int64
	since time.Time // of bytes
	bytes uint64
	speed float64 // bytes per second, over the window before
}

// Ask admits a sweep, or says why it waits. It is asked again from time to time.
func (f *Feeder) Ask(run int64, now time.Time) (why wording.Phrase) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if slices.ContainsFunc(f.flows, func(o *flow) bool { return o.run == run }) || f.Feed == (Feed{}) {
		return wording.Phrase{}
	}
	switch {
	case f.limit > 0 && len(f.flows) >= f.limit:
		return wording.Say(wording.TurnFull, wording.Values{"n": f.limit})
	case now.Sub(f.started) < f.Stagger:
		return wording.Say(wording.TurnStagger)
	case f.trial:
		return wording.Say(wording.TurnTrial)
	}
	f.before = map[int64]float64{}
	for _, o := range f.flows {
		f.before[o.run] = o.rate(now)
		o.anew(now)
	}
	f.flows = append(f.flows, &flow{run: run, since: now})
	f.started, f.trial = now, len(f.flows) > 1
	return wording.Phrase{}
}

// leastWindow is how long bytes are counted until they make a speed.
const leastWindow = time.Second

// rate is the speed of late.
func (o *flow) rate(now time.Time) float64 {
	if d := now.Sub(o.since); d >= leastWindow {
		return float64(o.bytes) / d.Seconds()
	}
	return o.speed
}

// anew begins a new window.
func (o *flow) anew(now time.Time) { o.speed, o.since, o.bytes = o.rate(now), now, 0 }

// Moved counts what a sweep has read. It tells when this sweep is to wait, since it only slows the others.
func (f *Feeder) Moved(run int64, bytes uint64, now time.Time) (why wording.Phrase) {
	f.mu.Lock()
	defer f.mu.Unlock()
	i := slices.IndexFunc(f.flows, func(o *flow) bool { return o.run == run })
	if i < 0 {
		return wording.Phrase{}
	}
	f.flows[i].bytes += bytes
	if !f.trial || now.Sub(f.started) < f.Trial {
		if !f.trial && now.Sub(f.flows[i].since) > 4*f.Trial { // the speed of late is what the next trial compares with
			f.flows[i].anew(now)
		}
		return wording.Phrase{}
	}
	last := f.flows[len(f.flows)-1]
	if last.run != run { // the one that is watched decides
		return wording.Phrase{}
	}
	f.trial = false
	var was, is float64
	var kept []float64
	for _, o := range f.flows {
		is += o.rate(now)
		if b := f.before[o.run]; b > 0 {
			was += b
			kept = append(kept, o.rate(now)/b)
		}
		o.anew(now)
	}
	if len(kept) == 0 {
		return wording.Phrase{}
	}
	slices.Sort(kept)
	if kept[len(kept)/2] >= keeps || is >= was*(1+gains) {
		f.limit = 0
		return wording.Phrase{}
	}
	f.limit = len(f.flows) - 1
	f.flows = f.flows[:f.limit]
	return wording.Say(wording.TurnSlower, wording.Values{"is": math.Round(is / 1e6), "was": math.Round(was / 1e6)})
}

// Left notes that a sweep has ended or waits.
func (f *Feeder) Left(run int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	i := slices.IndexFunc(f.flows, func(o *flow) bool { return o.run == run })
	if i < 0 {
		return
	}
	if f.trial && i == len(f.flows)-1 {
		f.trial = false
	}
	f.flows = slices.Delete(f.flows, i, i+1)
}
