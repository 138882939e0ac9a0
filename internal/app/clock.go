package app

import (
	"context"
	"time"

	"hylostat.example/internal/shop/whole"
)

// How often the machine's clock is looked at, and by how much it may drift meanwhile: what keeps clocks right moves them by less at a time.
const (
	clockEvery = 10 * time.Second
	clockDrift = 2 * time.Second
)

// machine reads what a machine's clock says, and how long the machine has counted since some moment.
type machine func() (wall time.Time, counted time.Duration)

// thisMachine counts by the monotonic clock, which nobody sets. It stands while a machine sleeps.
func thisMachine() machine {
	began := time.Now()
	return func() (time.Time, time.Duration) {
		now := time.Now()
		return now.Round(0), now.Sub(began)
	}
}

// watchClock tells by how much the machine's clock moved beside the time that passed, ahead or back, until the context ends.
func watchClock(ctx context.Context, read machine, tell func(by time.Duration)) {
	tick := time.NewTicker(clockEvery)
	defer tick.Stop()
	wall, counted := read()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		nowWall, nowCounted := read()
		if by := nowWall.Sub(wall) - (nowCounted - counted); by.Abs() > clockDrift {
			tell(by)
		}
		wall, counted = nowWall, nowCounted
	}
}

// standsBack notes that the clock stands before what the shop recorded last: it was set back while the service did not run.
func standsBack(ctx context.Context, s *whole.Shop, now time.Time) error {
	last, err := s.LastTime(ctx)
	if err != nil || !last.After(now.Add(clockDrift)) {
		return err
	}
	return s.ClockMoved(ctx, now.Sub(last))
}
