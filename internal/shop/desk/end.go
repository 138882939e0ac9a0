package desk

import (
	"context"
	"slices"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// RunEnd is what a run came to: what it found besides how it ended, and what to do now.
type RunEnd struct {
	Found []wording.Phrase
	Next  []wording.Phrase // in the order to do it; empty: something else happened to the drive since
	Check check.Kind       // that the first of them asks for; empty: it asks for none
	short wording.Phrase   // the first of them in two words; zero: as the verdict has it
}

// EndOf tells what a run that is done came to.
func (s *Desk) EndOf(ctx context.Context, r check.Run) (RunEnd, error) {
	d, err := s.store.DriveByKey(ctx, r.Key)
	if err != nil {
		if shop.IsNone(err) { // it never answered
			err = nil
		}
		return RunEnd{}, err
	}
	moved, compared, err := s.moved(ctx, d, r)
	if err != nil {
		return RunEnd{}, err
	}
	e := RunEnd{Found: foundIn(r, moved, compared)}
	verdicts, err := s.store.Verdicts(ctx, d.ID)
	if err != nil {
		return e, err
	}
	e.Found = append(e.Found, judgedBy(r, verdicts)...)
	newest, err := s.newestRun(ctx, d)
	if err != nil || newest == nil || newest.ID != r.ID {
		return e, err
	}
	i, err := s.judge.Intake(ctx, d)
	if err != nil || i != nil && i.Handover != nil {
		return e, err
	}
	if i != nil && i.AtRisk() {
		e.Next = []wording.Phrase{wording.Say(wording.DoCopy)}
		return e, nil
	}
	if e.follow(r, d.Now, moved); len(e.Next) == 0 {
		return e, s.asJudged(ctx, &e, d)
	}
	return e, nil
}

// newestRun is the last run of a drive that was asked for; nil when there is none.
func (s *Desk) newestRun(ctx context.Context, d shop.Drive) (*check.Run, error) {
	all, err := s.store.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key, Limit: 1})
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// moved lists the counters that matter and moved between a run's readings; compared is false when it has not both.
func (s *Desk) moved(ctx context.Context, d shop.Drive, r check.Run) (of []shop.Change, compared bool, err error) {
	moments, err := s.store.Moments(ctx, d.ID)
	if err != nil {
		return nil, false, err
	}
	before, after := shop.Around(r.ID, moments)
	if before == 0 || after == 0 {
		return nil, false, nil
	}
	changes, err := s.store.Changes(ctx, d.ID)
	return sum(changes, func(c shop.Change) bool { return c.Seq > before && c.Seq <= after }), true, err
}

// foundIn tells what a run found besides how it ended, which names the first step that failed.
func foundIn(r check.Run, moved []shop.Change, compared bool) (all []wording.Phrase) {
	failed := 0
	for i := range r.Steps {
		if step := &r.Steps[i]; step.State == check.StepFailed {
			if failed++; failed > 1 {
				all = append(all, wording.Say(wording.FoundAtStep, wording.Values{"step": string(step.Kind), "note": step.Note}))
			}
		}
	}
	for _, c := range moved {
		all = append(all, Moved(c))
	}
	if compared && len(moved) == 0 {
		all = append(all, wording.Say(wording.FoundSteady))
	}
	return all
}

// Moved tells of a counter that moved.
func Moved(c shop.Change) wording.Phrase {
	def, _ := signal.Lookup(c.Signal)
	return wording.Say(wording.SignalMoved, wording.Values{"signal": def.Words, "before": c.Before, "after": c.After})
}

// judgedBy tells the verdict after a run, and how it stood before. verdicts are the drive's, newest first; each is of the moment of the
// reading it was made at.
func judgedBy(r check.Run, verdicts []shop.Verdict) []wording.Phrase {
	var after, before *shop.Verdict
	for n := range verdicts {
		v := &verdicts[n]
		if after == nil && !v.At.After(r.Ended) {
			after = v
		}
		if v.At.Before(r.Asked) {
			before = v
			break
		}
	}
	if after == nil {
		return nil
	}
	values := wording.Values{"grade": after.Grade.String()}
	code := wording.FoundGrade
	switch {
	case before == nil:
	case before.Grade == after.Grade:
		code = wording.FoundSameGrade
	default:
		code, values["was"] = wording.FoundOtherGrade, before.Grade.String()
	}
	return []wording.Phrase{wording.Say(code, values)}
}

// follow finds what a run itself asks for, whatever the verdict: it did not come to its end; the link made errors meanwhile, so that
// nothing else it found can be trusted; a self-test failed, and nobody has looked for where.
func (e *RunEnd) follow(r check.Run, now shop.Now, moved []shop.Change) {
	linkErred := slices.ContainsFunc(moved, func(c shop.Change) bool {
		return (c.Signal == signal.CRCErrors || c.Signal == signal.Resets) && c.After > c.Before
	})
	tested := slices.ContainsFunc(r.Steps, func(s check.Step) bool { return s.Kind.IsTest() && s.State == check.StepFailed })
	swept := slices.ContainsFunc(r.Steps, func(s check.Step) bool { return s.Kind.ReadsAll() && s.Standing != nil && s.Standing.Share > 0 })
	switch {
	case linkErred:
		e.Next, e.Check, e.short = []wording.Phrase{wording.Say(wording.DoReseat)}, check.Quick, wording.Say(wording.NextReseat)
	case r.Outcome == check.Stopped && !r.Kind.IsRework() && now.Grade != drive.Replace:
		e.Next = []wording.Phrase{wording.Say(wording.DoAgain, wording.Values{"kind": string(r.Kind)})}
		if r.Kind.Plannable() {
			e.Check = r.Kind
		}
	case tested && !swept && now.Grade != drive.Replace && now.Signed == nil:
		e.Next, e.Check = []wording.Phrase{wording.Say(wording.DoFindPlaces)}, check.Whole
	}
	if e.Check != "" && e.short.IsZero() {
		e.short = wording.Say(wording.NextCheck, wording.Values{"kind": string(e.Check)})
	}
}

// asJudged makes what is next of a drive's verdict: the evidence it lacks, what its policy advises, the signature.
func (s *Desk) asJudged(ctx context.Context, e *RunEnd, d shop.Drive) error {
	v, err := s.judge.Verdict(ctx, d)
	if err != nil {
		return err
	}
	action, kind, _ := verdictAction(&d)
	if e.Check = kind; action == ActionCheck && len(v.Missing) > 0 {
		m := v.Missing[0]
		e.Next = append(e.Next, wording.Say(
			wording.DoCheck, wording.Values{"kind": string(kind), "missing": m.What, "left": m.Minutes * 60},
		))
	}
	for _, says := range v.Advice {
		if action == ActionSign { // there is nothing else to do
			break
		}
		e.Next = append(e.Next, wording.Literal(says))
	}
	switch {
	case action == ActionSign:
		e.Next = append(e.Next, wording.Say(wording.DoSign))
	case action == ActionReview:
		e.Next = append(e.Next, wording.Say(wording.DoReview))
	case d.Now.Signed != nil:
		e.Next = append(e.Next, wording.Say(wording.DoHandOver, wording.Values{"by": d.Now.Signed.By}))
	}
	return nil
}
