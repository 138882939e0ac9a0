package signal

import (
	"regexp"
	"strconv"
	"strings"

	"hylostat.example/internal/core/dialect"
)

// Swept is what a sweep of the surface told.
type Swept struct {
	Whole      bool    // it read everything; otherwise a sample, or a part
	Unreadable float64 // physical sectors
	Slow       float64 // places, confirmed
	Hours      float64 // powered on when it ended; -1 unknown
	Bytes      float64 // of the surface it was made of; 0 unknown
	Rework     bool    // it is no sweep: a rework cleared so many sectors of what earlier ones found, and could read so many after all
	Cleared    float64 // physical sectors, of a rework
	Source     string  // "whole sweep, run 12"
	Run        int64
}

// Sweep adds the signals that come from sweeps, which are given newest first. A sample that finds nothing takes nothing back
// of what the last whole sweep found; one that finds more counts.
func (s Set) Sweep(sweeps []Swept) {
	now := s[PowerOnHours]
	cleared := 0.0
	for i := range sweeps {
		w := &sweeps[i]
		if w.Rework {
			cleared += w.Cleared
			continue
		}
		whole := w.Whole && !s.larger(w.Bytes)
		for name, n := range map[Name]float64{UnreadableFound: max(0, w.Unreadable-cleared), SlowFound: w.Slow} {
			if v := s[name]; !v.Available || n > v.Number {
				s[name] = Value{Number: n, Available: true, Source: w.Source, Run: w.Run, Confidence: dialect.Standard}
			}
		}
		age := SpotSweepAge
		if whole {
			age = WholeSweepAge
		}
		if !s[age].Available && now.Available && w.Hours >= 0 && w.Hours <= now.Number {
			s[age] = Value{Number: now.Number - w.Hours, Available: true, Source: w.Source, Run: w.Run, Confidence: dialect.Standard}
		}
		if whole {
			return // what was before it has been read again
		}
	}
}

// larger reports whether the drive, or its label, is plainly larger than a surface that was swept: a label rounds.
func (s Set) larger(swept float64) bool {
	plainly := func(n Name, share float64) bool { return s[n].Available && s[n].Number*share > swept }
	return swept > 0 && (plainly(Capacity, 1) && s[CapacityShown].Available || plainly(CapacityLabel, 0.95))
}

// labelled finds a capacity in what somebody noted of a label: "4 TB", "500GB".
var labelled = regexp.MustCompile(`(?i)(\d+(?:[.,]\d+)?)\s*([MGT])B\b`)

// Label adds what the label says of the capacity; text without one adds nothing.
func (s Set) Label(text string) {
	m := labelled.FindStringSubmatch(text)
	if m == nil {
		return
	}
	n, err := strconv.ParseFloat(strings.Replace(m[1], ",", ".", 1), 64)
	if err != nil {
		return
	}
	n *= map[string]float64{"M": 1e6, "G": 1e9, "T": 1e12}[strings.ToUpper(m[2])]
	s[CapacityLabel] = Value{Number: n, Available: true, Source: "the label", Confidence: dialect.Standard}
}
