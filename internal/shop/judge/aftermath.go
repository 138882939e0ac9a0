package judge

import (
	"context"
	"slices"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/shop"
)

// Aftermath is what sweeps found since a rework.
type Aftermath struct {
	Held  *bool     // by the first whole sweep on a later day; nil: not known yet
	When  time.Time // of that sweep
	Again uint64    // physical sectors of the rework it could not read
	Swept []verdict.SweptThen
}

// SinceRework tells what sweeps found since a rework had written.
func SinceRework(ctx context.Context, r Reader, driveID int64, run *check.Run) (Aftermath, error) {
	var a Aftermath
	all, err := r.Sweeps(ctx, shop.SweepQuery{Drive: driveID})
	if err != nil {
		return a, err
	}
	ended := run.WroteUntil()
	day := ended.UTC().Format(time.DateOnly)
	for _, one := range slices.Backward(all) {
		if one.Run == run.ID || one.Kind.Writes() || one.Began.Before(ended) {
			continue
		}
		a.Swept = append(a.Swept, verdict.SweptThen{At: one.Ended, Found: float64(one.Standing.Unreadable)})
		if a.Held != nil || !one.ReadAll() || one.Began.UTC().Format(time.DateOnly) <= day {
			continue
		}
		detail, err := r.SweepDetail(ctx, one.Run, one.Step)
		if err != nil {
			return a, err
		}
		for _, r := range detail.Ranges {
			if r.Cause.Unreadable() &&
				(run.Kind != check.Mend || slices.ContainsFunc(
					run.Rework.Targets, func(t surface.Extent) bool { return t.LBA < r.End() && r.LBA < t.End() },
				)) {
				a.Again += one.Standing.Geometry.CountPhysical(r.Extent)
			}
		}
		held := a.Again == 0
		a.Held, a.When = &held, one.Ended
	}
	return a, nil
}
