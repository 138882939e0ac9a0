package judge

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
)

// Signals takes the signals of a reading, and of the sweeps that ended before it; of all sweeps when at is zero.
func (s *Judge) Signals(ctx context.Context, tx Reader, d shop.Drive, decoded *reading.Reading, at time.Time) (signal.Set, error) {
	all, err := tx.Sweeps(ctx, shop.SweepQuery{Drive: d.ID})
	if err != nil {
		return nil, err
	}
	return SignalsAt(decoded, all, at), nil
}

// SignalsAt is the same with the drive's sweeps at hand.
func SignalsAt(decoded *reading.Reading, sweeps []shop.Sweep, at time.Time) signal.Set {
	set := signal.Of(decoded)
	var told []signal.Swept
	for _, w := range sweeps {
		if !at.IsZero() && w.Ended.After(at) {
			continue
		}
		if w.Kind.Writes() && w.Standing.Written != nil { // what it cleared, or could read after all, is unreadable no more
			told = append(told, signal.Swept{Rework: true, Cleared: float64(w.Standing.Written.Cleared + w.Standing.Written.Readable)})
		}
		if !w.Kind.Writes() {
			source := fmt.Sprintf("%s, run %d", strings.ToLower(w.Kind.Title()), w.Run)
			if w.Run == 0 {
				source = strings.ToLower(w.Kind.Title()) + " on another bench"
			}
			told = append(told, signal.Swept{
				Whole: w.ReadAll(), Unreadable: float64(w.Standing.Unreadable), Slow: float64(w.Standing.Confirmed), Hours: w.Hours,
				Bytes: float64(w.Standing.Geometry.Bytes()), Source: source, Run: w.Run,
			})
		}
	}
	set.Sweep(told)
	return set
}

// Hopeless is how many unreadable sectors make a sweep of the drive end early: the policy's own limit beyond which it says
// replace, whatever else is found. 0: there is none.
func (s *Judge) Hopeless(d shop.Drive) uint64 {
	p := s.Policy()
	for i := range p.Rules {
		r := &p.Rules[i]
		if r.Limit == nil || r.Limit.Signal != signal.UnreadableFound || !r.Applies.To(d.Identity) {
			continue
		}
		at := r.Limit.For(d.Duty)
		for j := range p.Rules {
			other := &p.Rules[j]
			if other.Effect != policy.Replace || !slices.Equal(other.Needs, []signal.Name{signal.UnreadableFound}) {
				continue
			}
			facts, err := p.Bind(
				policy.Facts{
					Now:  map[string]float64{string(signal.UnreadableFound): at},
					Grew: map[string]int{string(signal.UnreadableFound): 0},
					Duty: string(d.Duty),
				},
			)
			if err != nil {
				continue
			}
			if fires, err := other.Fires(facts); err == nil && fires {
				return uint64(at)
			}
		}
	}
	return 0
}
