package judge

import (
	"context"
	"slices"

	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Verdicts lists every verdict on a drive, newest first.
func (s *Judge) Verdicts(ctx context.Context, d shop.Drive) ([]shop.Verdict, error) {
	all, err := s.store.Verdicts(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	pace, err := Pace(ctx, s.store, d)
	for i := range all {
		all[i].Missing = timed(all[i].Missing, pace)
	}
	return all, err
}

// Verdict gives the present verdict of a drive, with the advice as things stand with its data now, and the time this drive takes for what
// is missing.
func (s *Judge) Verdict(ctx context.Context, d shop.Drive) (shop.Verdict, error) {
	v, err := s.store.LastVerdict(ctx, d.ID)
	if err != nil {
		return v, err
	}
	if len(v.Missing) > 0 {
		pace, err := Pace(ctx, s.store, d)
		if err != nil {
			return v, err
		}
		v.Missing = timed(v.Missing, pace)
	}
	i, err := s.Intake(ctx, d)
	if err != nil || i == nil || i.AtRisk() {
		return v, err
	}
	v.Advice = slices.DeleteFunc(slices.Clone(v.Advice), func(says string) bool { // the data is not wanted, or it is copied
		return slices.ContainsFunc(s.Policy().Advice, func(a policy.Advice) bool { return a.ID == policy.CopyAdvice && a.Says == says })
	})
	return v, nil
}

// Intake gives the drive's present intake, nil when it has none.
func (s *Judge) Intake(ctx context.Context, d shop.Drive) (*shop.Intake, error) {
	all, err := s.store.Intakes(ctx, d.ID)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// Moved says how a value changed: "+3", "steady".
func Moved(before, after float64, unit string) string {
	if before == after {
		return "steady"
	}
	sign := "+"
	if after < before {
		sign = "\u2212"
	}
	return sign + wording.Of(max(after-before, before-after), unit)
}
