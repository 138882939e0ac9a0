package shop

import (
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
)

// RunQuery selects runs, newest first.
type RunQuery struct {
	Drive   drive.Key // zero: all
	Open    bool
	Reworks bool  // those that write
	Before  int64 // 0: all
	Limit   int
}

// Sweep is a sweep of a drive the shop knows, as it stands or as it ended.
type Sweep struct {
	check.Sweep
	Drive int64
	Hours float64        // powered on, by the last reading before it ended; -1 unknown
	Once  wording.Phrase // why places were slow once, by the readings before and after; zero: not known
}

// SweepQuery selects sweeps: of a drive, or of a run.
type SweepQuery struct {
	Drive int64
	Run   int64
}
