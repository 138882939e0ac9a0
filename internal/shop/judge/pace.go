package judge

import (
	"context"
	"math"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/shop"
)

// paceRuns is how many of a drive's last runs are looked at for how fast it was swept.
const paceRuns = 20

// Pace is what the shop knows of how long checks of a drive take: by its last reading, and by how fast it was swept before.
func Pace(ctx context.Context, from Reader, d shop.Drive) (check.Pace, error) {
	pace := check.PaceOf(d.Identity, reading.Capabilities{})
	latest, err := from.Latest(ctx, d.ID)
	if err == nil {
		var last shop.Reading
		last, err = from.Reading(ctx, d.ID, latest.Seq)
		pace = check.PaceOf(d.Identity, reading.DecodeAs(last.Pages, d.Hints).Capabilities)
	}
	if err != nil && !shop.IsNone(err) {
		return pace, err
	}
	runs, err := from.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key, Limit: paceRuns})
	for i := range runs {
		pace.Rate = max(pace.Rate, runs[i].SweptAt())
	}
	return pace, err
}

// timed gives each piece of evidence that is missing the time this drive takes for it. A policy gives one figure for all drives.
func timed(missing []verdict.Missing, pace check.Pace) []verdict.Missing {
	all := make([]verdict.Missing, len(missing))
	for i, m := range missing {
		if kind, ok := check.Brings(m.Run); ok && pace.Bytes > 0 {
			m.Minutes = int(math.Ceil(float64(pace.Takes(kind)) / float64(time.Minute)))
		}
		all[i] = m
	}
	return all
}
