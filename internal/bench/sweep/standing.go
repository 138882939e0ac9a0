package sweep

import (
	"slices"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
)

// How a sweep stands, and what it found.

// Now is how the sweep stands.
func (s *Sweeper) Now() check.Standing {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.standing()
}

// standing sums the sweep up.
func (s *Sweeper) standing() check.Standing {
	w := s.sweep
	now := check.Standing{
		Geometry:   w.Geometry(),
		Sample:     s.sample,
		Share:      s.course.Share(),
		Unreadable: w.Unread,
		Slow:       w.SlowPlaces,
		Speed:      s.speed,
		HotAt:      s.hotAt,
		Closer:     s.course.Closer(),
		LBA:        s.course.LBA(),
		Lost:       w.Lost,
		Elsewhere:  w.Elsewhere,
	}
	if s.writes {
		written := s.written
		now.Written = &written
	}
	if held, ok := w.Held(); ok {
		now.Held = &held
	}
	for _, r := range w.Ranges {
		if !r.Cause.Unreadable() && !r.Cause.Lost() {
			now.Other++
		}
	}
	for _, p := range w.Slow {
		if p.Confirmed() {
			now.Confirmed++
		}
	}
	if s.keeper != nil {
		now.Copied = s.keeper.stands()
	}
	if left, ok := s.course.Left(); ok {
		now.Left = left * 100 / time.Duration(100-s.rest)
	}
	if n := len(s.heat); n > 0 {
		hottest := s.heat[0].Celsius
		for _, h := range s.heat {
			hottest = max(hottest, h.Celsius)
		}
		now.Celsius, now.Hottest = &s.heat[n-1].Celsius, &hottest
	}
	if !s.early.IsZero() {
		now.Early, now.Left = s.early, 0
	}
	return now
}

// result is the whole of what was found.
func (s *Sweeper) result() check.Result {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := check.Result{
		Key: s.current.Key,
		Sweep: check.Sweep{
			Run:      s.current.ID,
			Step:     s.step,
			Kind:     s.current.Steps[s.step].Kind,
			Began:    s.began,
			Ended:    s.host.Clock.Now(),
			Standing: s.standing(),
			Missed:   s.sweep.Missed,
		},
		Found: check.Found{Ranges: s.sweep.Ranges, Slow: s.sweep.Slow, Heat: s.heat},
	}
	ribbon := s.sweep.Ribbon()
	for n := range ribbon.Blocks() {
		if slices.ContainsFunc(ribbon.Block(n), surface.Cell.Swept) {
			r.Blocks = append(r.Blocks, check.Block{Number: n, Cells: ribbon.PackBlock(n)})
		}
	}
	return r
}
