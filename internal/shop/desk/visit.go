package desk

import (
	"context"
	"slices"
	"time"

	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Visit is the last time a drive was here, before its present intake: what was said of it then, and what moved since.
type Visit struct {
	Until   time.Time
	Goes    shop.Goes     // where it went then
	Verdict *shop.Verdict // the last of that visit; nil: there was none
	Since   []shop.Change // counters that matter, each once
}

// LastVisit tells of the last visit of a drive that came back; nil when it did not.
func (s *Desk) LastVisit(ctx context.Context, d shop.Drive) (*Visit, error) {
	intakes, err := s.store.Intakes(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	present, last := comeback(intakes)
	if last == nil {
		return nil, nil //nolint:nilnil // it did not come back
	}
	v := &Visit{Until: last.Handover.At, Goes: last.Handover.Goes}
	verdicts, err := s.store.Verdicts(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for n := range verdicts { // newest first; what was signed is what its owner was told
		was := &verdicts[n]
		if signed := was.Signed != nil && was.Signed.At.Before(present.At); signed || v.Verdict == nil && was.At.Before(present.At) {
			if v.Verdict = was; signed {
				break
			}
		}
	}
	if v.Goes == shop.NotNoted && v.Verdict != nil { // nobody knows when it left
		v.Until = v.Verdict.At
	}
	changes, err := s.store.Changes(ctx, d.ID)
	v.Since = sum(changes, func(c shop.Change) bool { return c.At.After(v.Until) })
	return v, err
}

// comeback gives a drive's present intake and that of its visit before, of all it had, newest first; last is nil when it did not come
// back.
func comeback(intakes []shop.Intake) (present, last *shop.Intake) {
	if len(intakes) == 0 || intakes[0].Handover != nil {
		return nil, nil
	}
	n := slices.IndexFunc(intakes, func(i shop.Intake) bool { return i.Handover != nil })
	if n < 0 {
		return &intakes[0], nil
	}
	return &intakes[0], &intakes[n]
}

// sum makes one change of all of a counter's, of those that are meant. They come in the order of time.
func sum(changes []shop.Change, meant func(shop.Change) bool) (all []shop.Change) {
	for _, c := range changes {
		if !meant(c) {
			continue
		}
		n := slices.IndexFunc(all, func(o shop.Change) bool { return o.Signal == c.Signal })
		if n < 0 {
			all = append(all, c)
		} else {
			all[n].After = c.After
		}
	}
	return slices.DeleteFunc(all, func(c shop.Change) bool { return c.Before == c.After })
}

// Says tells of the visit in a line.
func (v Visit) Says() wording.Phrase {
	values := wording.Values{"at": v.Until.Format(time.RFC3339), "goes": string(v.Goes)}
	switch {
	case v.Verdict == nil:
		return wording.Say(wording.VisitUnjudged, values)
	case v.Verdict.Signed == nil:
		values["grade"] = v.Verdict.Grade.String()
		return wording.Say(wording.VisitOpen, values)
	}
	values["grade"], values["by"] = v.Verdict.Signed.Grade.String(), v.Verdict.Signed.By
	return wording.Say(wording.VisitSigned, values)
}
