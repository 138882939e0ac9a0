package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/judge"
)

func signOf(s *shop.SignOff, given drive.Grade) *contract.SignOff {
	if s == nil {
		return nil
	}
	return &contract.SignOff{
		At:        s.At,
		By:        s.By,
		Grade:     contract.Grade(s.Grade.String()),
		Reason:    text(s.Reason),
		Overruled: s.Grade != given,
	}
}

func findingOf(f verdict.Finding) contract.Finding {
	return contract.Finding{
		Rule:     f.Rule,
		Effect:   contract.FindingEffect(f.Effect),
		Sentence: f.Sentence,
		Detail:   f.Detail,
		Customer: f.Customer,
		Signals:  each(f.Signals, func(n signal.Name) string { return string(n) }),
		Reading:  f.Reading,
		Rests:    each(f.Rests, restOf),
		Margin:   marginOf(f.Margin),
		Source:   f.Source,
	}
}

func verdictOf(d shop.Drive, v shop.Verdict) contract.Verdict {
	return contract.Verdict{
		Serial:   d.Identity.Serial,
		Seq:      v.Seq,
		At:       v.At,
		Grade:    contract.Grade(v.Grade.String()),
		Duty:     contract.Duty(v.Duty),
		Policy:   v.Policy,
		Reading:  v.Reading,
		Findings: each(v.Findings, findingOf),
		Notes:    each(v.Notes, findingOf),
		Quiet:    v.Quiet,
		Unjudged: each(v.Unjudged, func(u verdict.Unjudged) contract.Unjudged {
			return contract.Unjudged{Rule: u.Rule, Title: u.Title, Reason: u.Reason}
		}),
		Missing: each(v.Missing, func(m verdict.Missing) contract.Missing {
			return contract.Missing{Id: m.ID, What: m.What, Run: m.Run, Minutes: m.Minutes}
		}),
		Advice: append([]string{}, v.Advice...),
		Signed: signOf(v.Signed, v.Grade),
		Duties: each(v.Duties, fitOf),
		Risk:   riskOf(v.Risk),
	}
}

func riskOf(r *verdict.Risk) *contract.Risk {
	if r == nil {
		return nil
	}
	return &contract.Risk{
		Words:      r.Words,
		Year:       r.Year,
		Low:        r.Low,
		High:       r.High,
		Base:       r.Base,
		Calibrated: r.Calibrated,
		Factors: each(r.Factors, func(f verdict.RiskFactor) contract.RiskFactor {
			return contract.RiskFactor{Words: f.Words, Ratio: f.Ratio, Source: f.Source}
		}),
	}
}

// verdict is a verdict beside what is known of the drive's flaws.
func (h *handlers) verdict(ctx context.Context, d shop.Drive, v shop.Verdict) (contract.Verdict, error) {
	out := verdictOf(d, v)
	levels, err := h.shop.Accepts(ctx, d.ID)
	if err != nil || len(levels) == 0 {
		return out, err
	}
	now := h.shop.Clock.Now()
	for i := range v.Findings {
		out.Findings[i].Known = known(v.Findings[i], levels, now)
	}
	for i := range v.Notes {
		out.Notes[i].Known = known(v.Notes[i], levels, now)
	}
	return out, nil
}

// known tells by whose word a finding is known; nil: it is not.
func known(f verdict.Finding, levels []alert.Accepted, now time.Time) *string {
	var all []string
	for _, a := range alert.KnownBy(f, levels, now) {
		unit := ""
		if def, ok := signal.Lookup(signal.Name(a.Signal)); ok && len(f.Rests) == 1 {
			unit = def.Unit
		}
		says := wording.Say(wording.FindingKnown, wording.Values{"level": wording.Of(a.Level, unit), "by": a.By, "reason": a.Reason})
		all = append(all, says.String())
	}
	return text(strings.Join(slices.Compact(all), "; "))
}

func (h *handlers) GetVerdict(ctx context.Context, r server.GetVerdictRequestObject) (server.GetVerdictResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	v, err := h.shop.Verdict(ctx, d)
	if err != nil {
		return nil, err
	}
	out, err := h.verdict(ctx, d, v)
	return server.GetVerdict200JSONResponse(out), err
}

func (h *handlers) SignTogether(ctx context.Context, r server.SignTogetherRequestObject) (server.SignTogetherResponseObject, error) {
	var drives []shop.Drive
	for _, name := range value(r.Body.Drives) {
		d, err := h.shop.FindDrive(ctx, name)
		if err != nil {
			return nil, err
		}
		drives = append(drives, d)
	}
	signed, left, err := h.shop.SignTogether(ctx, actor(ctx, r.Body.By), drives)
	if err != nil {
		return nil, err
	}
	out := server.SignTogether200JSONResponse{Signed: append([]string{}, signed...)}
	out.Left = each(left, func(l judge.LeftUnsigned) struct {
		Serial string `json:"serial"`
		Why    string `json:"why"`
	} {
		return struct {
			Serial string `json:"serial"`
			Why    string `json:"why"`
		}{l.Serial, l.Why}
	})
	return out, nil
}

func (h *handlers) SignVerdict(ctx context.Context, r server.SignVerdictRequestObject) (server.SignVerdictResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	grade := drive.Undecided // none given: accept
	if r.Body.Grade != nil {
		if grade, err = drive.ParseGrade(string(*r.Body.Grade)); err != nil {
			return nil, &shop.Invalid{What: err.Error(), Advice: "Choose one of them."}
		}
	}
	if who, signed := whoAsks(ctx); signed && grade != drive.Undecided && !who.Role.Covers(access.Lead) {
		if now, err := h.shop.Verdict(ctx, d); err != nil {
			return nil, err
		} else if now.Grade != grade {
			return nil, &access.Refused{
				What:   fmt.Sprintf("%s is %s; overruling %s with %s needs a lead", who.Name, who.Role, now.Grade, grade),
				Advice: "Ask a lead, or sign what the verdict says.",
			}
		}
	}
	if _, err := h.shop.Sign(ctx, actor(ctx, r.Body.By), d, value(r.Body.Verdict), grade, value(r.Body.Reason)); err != nil {
		return nil, err
	}
	v, err := h.shop.Verdict(ctx, d)
	if err != nil {
		return nil, err
	}
	out, err := h.verdict(ctx, d, v)
	return server.SignVerdict201JSONResponse(out), err
}
