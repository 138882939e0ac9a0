package check

import (
	"cmp"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/surface"
)

// How fast a drive is about which nothing is known yet, in bytes per second, and what one spot of a sample costs it.
const (
	spinningRate, spinningSpot = 130e6, 25 * time.Millisecond // over the whole surface: the inner tracks are half as fast
	flashRate, flashSpot       = 500e6, 3 * time.Millisecond
	shortTest                  = 2 * time.Minute // ACS-3, 7.53.3.2: "in two minutes or less"
	readingTakes               = 5 * time.Second
	spots                      = 1000 // of a sample: package surface draws about as many
)

// Pace is what is known of how long the steps of a check take on a drive, before it begins. Shop and bench reckon by it alone, so that
// what is told before a check, at its start and at its end is one figure. The zero Pace knows nothing.
type Pace struct {
	Tests   map[StepKind]time.Duration `json:"tests,omitempty"` // what the drive itself says that its self-tests take
	Bytes   uint64                     `json:"bytes,omitempty"`
	Rotates bool                       `json:"rotates,omitempty"`
	Sector  uint32                     `json:"sector,omitempty"` // bytes of a logical one, which spans count; 0: 512
	Rate    float64                    `json:"rate,omitempty"`   // bytes/s of its fastest whole sweep of late; 0: none
}

// PaceOf is what a reading of a drive tells of its pace.
func PaceOf(id drive.Identity, can reading.Capabilities) Pace {
	p := Pace{
		Bytes: id.Bytes, Sector: id.LogicalSector, Rotates: id.RotationRate > 0 || id.Medium == drive.Spinning,
		Tests: map[StepKind]time.Duration{},
	}
	for step, takes := range map[StepKind]time.Duration{
		ShortTest: can.ShortPoll, ExtendedTest: can.ExtendedPoll, ConveyanceTest: can.ConveyancePoll,
	} {
		if takes > 0 {
			p.Tests[step] = takes
		}
	}
	return p
}

// Takes is about how long a check takes. spans are those of a selective self-test.
func (p Pace) Takes(k Kind, spans ...ata.Span) (all time.Duration) {
	for _, step := range k.Plan() {
		all += p.step(step, spans)
	}
	return all
}

// Expect gives every step that has not begun its time.
func (r *Run) Expect(p Pace) {
	for i := range r.Steps {
		if s := &r.Steps[i]; s.State == Pending {
			s.Expect = r.takes(p, s.Kind)
		}
	}
}

// takes is about how long a step of the run takes.
func (r *Run) takes(p Pace, k StepKind) time.Duration {
	takes := p.step(k, r.Spans)
	if k == SpotSweep && r.Limit.Surface > 0 {
		takes = time.Duration(p.spots(r.Limit.Surface))*p.spot() + time.Second
	}
	if share := r.Limit.Share; k.IsSweep() && share > 0 {
		takes = takes * 100 / time.Duration(share)
	}
	return takes
}

func (p Pace) step(k StepKind, spans []ata.Span) time.Duration {
	switch k {
	case ReadingBefore, ReadingAfter:
		return readingTakes
	case ShortTest, ConveyanceTest, ExtendedTest:
		if own := p.Tests[k]; own > 0 {
			return own
		}
		if k == ExtendedTest {
			return max(shortTest, p.stream(1))
		}
		return shortTest
	case SelectiveTest:
		return p.selective(spans)
	case SpotSweep:
		return spots*p.spot() + time.Second
	case Mending:
		return time.Minute
	case Renewing: // read, and written
		return p.stream(2.5)
	case WholeSweep, Copying, Comparing, Overwriting, Verifying:
	}
	return p.stream(1)
}

// selective is the share of an extended self-test that spans make.
func (p Pace) selective(spans []ata.Span) time.Duration {
	var sectors uint64
	for _, s := range spans {
		sectors += s.Last - s.First + 1
	}
	if p.Bytes == 0 {
		return shortTest
	}
	share := min(1, float64(sectors)*float64(cmp.Or(p.Sector, 512))/float64(p.Bytes))
	return max(time.Minute, time.Duration(share*float64(p.step(ExtendedTest, nil))))
}

// stream is how long it takes to go over the surface so many times.
func (p Pace) stream(times float64) time.Duration {
	rate := p.Rate
	switch {
	case rate > 0:
	case p.Rotates:
		rate = spinningRate
	default:
		rate = flashRate
	}
	return time.Duration(times * float64(p.Bytes) / rate * float64(time.Second)).Round(time.Second)
}

// spots is about how many spots a sample of a share of the surface has, in per cent.
func (p Pace) spots(percent int) uint64 {
	const chunk = 1 << 20
	return surface.Strata(surface.Geometry{Sectors: p.Bytes / chunk, Chunk: 1, Logical: chunk}, percent)
}

func (p Pace) spot() time.Duration {
	if p.Rotates {
		return spinningSpot
	}
	return flashSpot
}
