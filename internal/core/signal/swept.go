package signal

import "hylostat.example/internal/core/dialect"

// Swept is what a sweep of the surface told.
type Swept struct {
	Whole      bool    // it read everything; otherwise a sample, or a part
	Unreadable float64 // physical sectors
	Slow       float64 // places, confirmed
	Hours      float64 // powered on when it ended; -1 unknown
	Source     string  // "whole sweep, run 12"
	Run        int64
}

// Sweep adds the signals that come from sweeps, which are given newest first. A sample that finds nothing takes nothing back
// of what the last whole sweep found; one that finds more counts.
func (s Set) Sweep(sweeps []Swept) {
	now := s[PowerOnHours]
	for i := range sweeps {
		w := &sweeps[i]
		for name, n := range map[Name]float64{UnreadableFound: w.Unreadable, SlowFound: w.Slow} {
			if v := s[name]; !v.Available || n > v.Number {
				s[name] = Value{Number: n, Available: true, Source: w.Source, Run: w.Run, Confidence: dialect.Standard}
			}
		}
		age := SpotSweepAge
		if w.Whole {
			age = WholeSweepAge
		}
		if !s[age].Available && now.Available && w.Hours >= 0 && w.Hours <= now.Number {
			s[age] = Value{Number: now.Number - w.Hours, Available: true, Source: w.Source, Run: w.Run, Confidence: dialect.Standard}
		}
		if w.Whole {
			return // what was before it has been read again
		}
	}
}
