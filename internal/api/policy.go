package api

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
)

func (h *handlers) GetPolicy(ctx context.Context, _ server.GetPolicyRequestObject) (server.GetPolicyResponseObject, error) {
	p, err := h.policy(ctx, h.shop.Policy())
	return server.GetPolicy200JSONResponse(p), err
}

func (h *handlers) GetPolicyVersion(
	ctx context.Context, r server.GetPolicyVersionRequestObject,
) (server.GetPolicyVersionResponseObject, error) {
	was, err := h.shop.PolicyVersion(ctx, r.Version)
	if err != nil {
		return nil, err
	}
	p, err := h.policy(ctx, was)
	return server.GetPolicyVersion200JSONResponse(p), err
}

// policy is a policy that is or was in force, with all that were.
func (h *handlers) policy(ctx context.Context, p *policy.Policy) (contract.Policy, error) {
	out := contract.Policy{
		Version:  p.Version,
		Name:     p.Name,
		Rules:    []contract.PolicyRule{},
		Evidence: each(p.Evidence, func(q policy.Requirement) string { return evidenceWords(p, q) }),
	}
	for i := range p.Rules {
		out.Rules = append(out.Rules, ruleOf(p, &p.Rules[i]))
	}
	out.Limits = limitsOf(p)
	all, err := h.shop.Policies(ctx)
	for _, v := range all {
		if v.Version == p.Version {
			out.Text = string(v.Text)
		}
		out.Versions = append(
			out.Versions, contract.PolicyVersion{Version: v.Version, Name: v.Name, At: v.At, By: text(v.By), Note: text(v.Note)},
		)
	}
	return out, err
}

func limitsOf(p *policy.Policy) []contract.PolicyLimit {
	all := []contract.PolicyLimit{}
	for _, name := range slices.Sorted(maps.Keys(p.Limits)) {
		l := p.Limits[name]
		one := contract.PolicyLimit{
			Name:   name,
			Words:  wording.Of(l.All, wording.Singular(l.Unit, l.All)),
			All:    l.All,
			Unit:   text(l.Unit),
			Source: p.Sources[l.Source],
		}
		if len(l.Duties) > 0 {
			duties := map[string]float64{}
			for _, duty := range drive.Duties() {
				if at, ok := l.Duties[duty]; ok {
					duties[string(duty)] = at
					one.Words += fmt.Sprintf("; for %s %s", duty, wording.Of(at, wording.Singular(l.Unit, at)))
				}
			}
			one.Duties = &duties
		}
		all = append(all, one)
	}
	return all
}

func evidenceWords(p *policy.Policy, q policy.Requirement) string {
	words := fmt.Sprintf("%s (%s)", verdict.InWords(p, q.What), q.Run) // how long that takes is each drive's own
	if len(q.Duties) > 0 {
		words += ", for " + strings.Join(each(q.Duties, func(d drive.Duty) string { return string(d) }), ", ")
	}
	return words
}

func ruleOf(p *policy.Policy, r *policy.Rule) contract.PolicyRule {
	out := contract.PolicyRule{
		Id:       r.ID,
		Title:    r.Title,
		Effect:   contract.PolicyRuleEffect(r.Effect),
		When:     r.When,
		Says:     r.Says,
		Words:    verdict.InWords(p, r.Says),
		Customer: verdict.InWords(p, r.Customer),
		Source:   p.Sources[r.Source],
		Applies:  applies(r.Applies),
		Needs:    each(r.Needs, func(n signal.Name) string { return string(n) }),
		Examples: len(r.Examples),
		Advice:   []string{},
	}
	for _, a := range p.Advice {
		for _, id := range r.Advice {
			if a.ID == id {
				out.Advice = append(out.Advice, a.Says)
			}
		}
	}
	if l := r.Limit; l != nil {
		d, _ := signal.Lookup(l.Signal)
		words := fmt.Sprintf("%s: %s", d.Words, wording.Of(l.For(drive.Everyday), d.Unit))
		if l.From != 0 {
			words += fmt.Sprintf(", counted from %s", wording.Of(l.From, d.Unit))
		}
		for _, duty := range drive.Duties() {
			if at := l.For(duty); at != l.For(drive.Everyday) {
				words += fmt.Sprintf("; for %s %s", duty, wording.Of(at, d.Unit))
			}
		}
		out.Limit = &words
	}
	if len(r.Unfit) > 0 {
		duties := each(r.Unfit, func(d drive.Duty) contract.Duty { return contract.Duty(d) })
		out.Unfit = &duties
	}
	return out
}

func applies(a policy.Applies) string {
	var parts []string
	for _, i := range a.Interface {
		parts = append(parts, map[drive.Interface]string{drive.ATA: "ATA", drive.NVMe: "NVMe", drive.SCSI: "SCSI"}[i])
	}
	words := strings.Join(parts, " and ")
	for _, m := range a.Medium {
		words = strings.TrimSpace(words + " " + string(m))
	}
	if words == "" {
		return "all drives"
	}
	return words + " drives"
}

func (h *handlers) PublishPolicy(ctx context.Context, r server.PublishPolicyRequestObject) (server.PublishPolicyResponseObject, error) {
	if _, err := h.shop.Publish(ctx, actor(ctx, r.Body.By), []byte(r.Body.Text), r.Body.Note); err != nil {
		return nil, err
	}
	p, err := h.policy(ctx, h.shop.Policy())
	return server.PublishPolicy200JSONResponse(p), err
}

func (h *handlers) TestPolicy(_ context.Context, r server.TestPolicyRequestObject) (server.TestPolicyResponseObject, error) {
	trials, without, err := h.shop.TestPolicy([]byte(value(r.Body.Text)))
	if err != nil {
		return nil, err
	}
	out := contract.PolicyTrials{Without: append([]string{}, without...), Trials: each(trials, func(t policy.Trial) contract.PolicyTrial {
		return contract.PolicyTrial{
			Rule:    t.Rule,
			Example: t.Example,
			Wants:   t.Wants,
			Fires:   t.Fires,
			Passed:  t.Passed(),
			Error:   text(t.Error),
		}
	})}
	for _, t := range out.Trials {
		if !t.Passed {
			out.Failed++
		}
	}
	return server.TestPolicy200JSONResponse(out), nil
}

func (h *handlers) ReplayPolicy(ctx context.Context, r server.ReplayPolicyRequestObject) (server.ReplayPolicyResponseObject, error) {
	draft := []byte(value(r.Body.Text))
	if len(draft) == 0 {
		return nil, &shop.Invalid{
			What:   "a replay needs the text of a draft",
			Advice: "Send it: the policy in force has been what it has been.",
		}
	}
	x, err := h.shop.Replay(ctx, actor(ctx, ""), draft)
	if err != nil {
		return nil, err
	}
	return server.ReplayPolicy200JSONResponse(contract.Replay{
		Policy:   x.Policy,
		Drives:   x.Drives,
		Readings: x.Readings,
		TookS:    x.Took.Seconds(),
		Changed:  x.Changed,
		Failed:   x.Was.Failed,
		Sound:    x.Was.Sound,
		Was:      scoreOf(x.Was),
		Would:    scoreOf(x.Would),
		Shown:    each(x.Shown, replayDriveOf),
		Watched:  x.Watched,
		Alerts: each(x.Told, func(t judge.AlertsTold) contract.ReplayAlerts {
			return contract.ReplayAlerts{Week: t.Week.Format(time.DateOnly), Kind: contract.AlertKind(t.Kind), Was: t.Was, Would: t.Would}
		}),
		Moves: each(x.Moves, func(m judge.Move) contract.ReplayMove {
			return contract.ReplayMove{Was: contract.Grade(m.Was.String()), Would: contract.Grade(m.Would.String()), Drives: m.Drives}
		}),
		Risk: contract.RiskLearnt{
			Words:    x.Risk.Words,
			Outcomes: x.Risk.Outcomes,
			Shift:    x.Risk.Shift,
			Slope:    x.Risk.Slope,
			Tenths: each(x.Risk.Tenths[:], func(t risk.Tenth) contract.RiskTenth {
				return contract.RiskTenth{Said: t.Said, Drives: t.Drives, Failed: t.Failed}
			}),
		},
	}), nil
}

func scoreOf(s verdict.Score) contract.Score {
	out := contract.Score{Hits: s.Hits, FalseAlarms: s.FalseAlarms}
	if len(s.Lead) > 0 {
		middle, least := s.Quantile(0.5).Hours(), s.Lead[0].Hours()
		out.LeadMedianH, out.LeadLeastH = &middle, &least
	}
	return out
}

func replayDriveOf(d judge.ReplayedDrive) contract.ReplayDrive {
	out := contract.ReplayDrive{
		Serial: d.Drive.Identity.Serial,
		Model:  d.Drive.Identity.Model,
		Differs: each(d.Differs, func(x verdict.Differs) contract.ReplayDifference {
			one := contract.ReplayDifference{
				Reading:  x.Reading,
				At:       x.At,
				Was:      contract.Grade(x.Was.Grade.String()),
				WasWhy:   text(x.Was.Why),
				Would:    contract.Grade(x.Would.Grade.String()),
				WouldWhy: text(x.Would.Why),
				Still:    x.Still,
			}
			if x.Hours >= 0 {
				one.Hours = &x.Hours
			}
			return one
		}),
	}
	if d.Outcome != nil {
		out.Outcome = &contract.Outcome{Failed: d.Outcome.Failed, At: d.Outcome.At}
	}
	return out
}

func outcomeOf(o *shop.Outcome) contract.Outcome {
	return contract.Outcome{Failed: o.Failed, At: o.At, Note: text(o.Note), By: text(o.By), Noted: &o.Noted}
}

func (h *handlers) GetOutcome(ctx context.Context, r server.GetOutcomeRequestObject) (server.GetOutcomeResponseObject, error) {
	o, err := h.outcome(ctx, r.Drive)
	return server.GetOutcome200JSONResponse(o), err
}

func (h *handlers) outcome(ctx context.Context, name string) (contract.Outcome, error) {
	d, err := h.shop.FindDrive(ctx, name)
	if err != nil {
		return contract.Outcome{}, err
	}
	o, err := h.shop.Outcome(ctx, d)
	if err != nil {
		return contract.Outcome{}, err
	}
	if o == nil {
		return contract.Outcome{}, &shop.NotFound{
			What:   "nobody has noted what became of " + d.Identity.Serial,
			Advice: "Note it with an outcome.",
		}
	}
	return outcomeOf(o), nil
}

func (h *handlers) SetOutcome(ctx context.Context, r server.SetOutcomeRequestObject) (server.SetOutcomeResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	if err := h.shop.SetOutcome(
		ctx, actor(ctx, r.Body.By), d,
		shop.Outcome{Outcome: verdict.Outcome{Failed: r.Body.Failed, At: r.Body.At}, Note: value(r.Body.Note)},
	); err != nil {
		return nil, err
	}
	o, err := h.outcome(ctx, d.Identity.Serial)
	return server.SetOutcome200JSONResponse(o), err
}

func restOf(r verdict.Rest) contract.Rest {
	d, _ := signal.Lookup(r.Signal)
	out := contract.Rest{
		Signal: string(r.Signal),
		Words:  d.Words + ": " + d.Amount(r.Value),
		Value:  r.Value,
		Source: r.Source,
		Page:   text(r.Page),
	}
	if r.Length > 0 {
		out.Offset, out.Length = &r.Offset, &r.Length
	}
	if r.Run > 0 {
		out.Run = &r.Run
	}
	return out
}

func trendOf(c record.Course) *contract.Trend {
	t := c.Course
	if t == nil {
		return nil
	}
	out := &contract.Trend{
		Words:       t.Words(c.Definition),
		Change:      t.Change,
		SinceIntake: t.SinceIntake,
		SinceCheck:  t.SinceCheck,
		Unexplained: t.Unexplained,
		Grew:        t.Grew,
		Intervals:   t.Intervals,
		Pace:        t.Pace,
		Movements:   []contract.Movement{},
	}
	if t.Onset != nil {
		out.OnsetReading = &t.Onset.First.Seq
		if t.Onset.First.Hours >= 0 {
			out.OnsetHours = &t.Onset.First.Hours
		}
	}
	if t.SteadyHours >= 0 {
		out.SteadyHours = &t.SteadyHours
	}
	for _, d := range t.Deltas {
		out.Movements = append(
			out.Movements,
			contract.Movement{FromReading: d.From.Seq, ToReading: d.To.Seq, Before: d.From.Value, After: d.To.Value, Change: d.Change},
		)
	}
	if l := t.Line; l != nil {
		shape := contract.TrendShape(l.Shape)
		out.Slope, out.SlopeLow, out.SlopeHigh, out.Shape = &l.Slope, &l.Low, &l.High, &shape
		if l.Turn != nil {
			out.TurnReading = &l.Turn.Seq
		}
	}
	if t.Forecast != nil {
		out.ForecastFrom, out.ForecastTo = &t.Forecast.From, &t.Forecast.To
	}
	return out
}
