package api

import (
	"context"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/record"
)

func marginOf(m *verdict.Margin) *contract.Margin {
	if m == nil {
		return nil
	}
	return &contract.Margin{Used: m.Used, Of: m.Of, Words: m.Words}
}

func signalsOf(courses []record.Course, moments []shop.Moment, intake *shop.Intake) contract.Signals {
	out := contract.Signals{Signals: each(courses, signalOf), Readings: shop.CountReadings(moments), Marks: []contract.Mark{}}
	for i, m := range moments {
		h, ok := m.Signals.Get(signal.PowerOnHours)
		if !ok {
			continue
		}
		if out.FirstHours == nil {
			out.FirstHours = &h
		}
		out.LastHours = &h
		if m.Step == check.ReadingAfter {
			out.Marks = append(out.Marks, contract.Mark{Kind: "quick", Hours: h, Reading: m.Seq})
		}
		if intake != nil && i > 0 && !m.At.Before(intake.At) && moments[i-1].At.Before(intake.At) {
			out.Marks = append(out.Marks, contract.Mark{Kind: "visit", Hours: h, Reading: m.Seq})
		}
	}
	return out
}

func signalOf(c record.Course) contract.Signal {
	d, v := c.Definition, c.Value
	out := contract.Signal{
		Name:     string(d.Name),
		Words:    d.Words,
		Unit:     d.Unit,
		Usual:    d.Usual,
		Matters:  d.Matters,
		Reason:   text(v.Reason),
		Since:    text(c.Since),
		Limit:    c.Limit,
		Margin:   marginOf(c.Margin),
		Finding:  optional(c.Finding),
		Hours:    c.Hours,
		Values:   c.Values,
		Readings: c.Seqs,
		Trend:    trendOf(c),
	}
	if out.Hours == nil {
		out.Hours, out.Values, out.Readings = []float64{}, []float64{}, []int{}
	}
	if v.Available {
		out.Value, out.Source, out.Confidence, out.Page = &v.Number, text(v.Source), text(string(v.Confidence)), text(string(v.Page))
		out.Disagrees = text(v.Disagrees)
		if v.Length > 0 {
			out.Offset, out.Length = &v.Offset, &v.Length
		}
	}
	return out
}

func differenceOf(d record.Difference) contract.Difference {
	out := contract.Difference{
		Signal:  string(d.Definition.Name),
		Words:   d.Definition.Words,
		Unit:    d.Definition.Unit,
		Before:  d.Then,
		Now:     d.Now,
		Change:  text(d.Change),
		Says:    d.Says,
		Matters: d.Matters,
	}
	if d.Now == nil {
		out.Reason = text(d.Reason)
	}
	return out
}

func number(s signal.Values, n signal.Name) *float64 {
	if x, ok := s.Get(n); ok {
		return &x
	}
	return nil
}

func (h *handlers) GetSignals(ctx context.Context, r server.GetSignalsRequestObject) (server.GetSignalsResponseObject, error) {
	d, known, err := h.known(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	out, err := h.signals(ctx, d, known)
	return server.GetSignals200JSONResponse(out), err
}

// known finds a drive, and what most of what is said of it is made of.
func (h *handlers) known(ctx context.Context, name string) (d shop.Drive, k record.Known, err error) {
	if d, err = h.shop.FindDrive(ctx, name); err == nil {
		k, err = h.shop.Know(ctx, d)
	}
	return d, k, err
}

func (h *handlers) signals(ctx context.Context, d shop.Drive, known record.Known) (contract.Signals, error) {
	courses, err := h.shop.CoursesOf(ctx, d, known)
	if err != nil {
		return contract.Signals{}, err
	}
	intake, err := h.shop.Intake(ctx, d)
	return signalsOf(courses, known.Moments, intake), err
}

// GetDrivePage answers in one what is asked of a drive at once, from its readings as they were read once.
func (h *handlers) GetDrivePage(ctx context.Context, r server.GetDrivePageRequestObject) (server.GetDrivePageResponseObject, error) {
	d, known, err := h.known(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	var out contract.DrivePage
	if out.Drive, err = h.detailed(ctx, d); err != nil {
		return nil, err
	}
	if v, err := h.shop.Verdict(ctx, d); err == nil {
		says, err := h.verdict(ctx, d, v)
		if err != nil {
			return nil, err
		}
		out.Verdict = &says
	} else if !shop.IsNone(err) {
		return nil, err
	}
	if out.Signals, err = h.signals(ctx, d, known); err != nil {
		return nil, err
	}
	if len(known.Moments) > 0 {
		latest := readingOf(d, known.Latest, false)
		out.Reading = &latest
	}
	history, err := h.shop.HistoryOf(ctx, d, known.Moments)
	out.History = each(history, entryOf)
	return server.GetDrivePage200JSONResponse(out), err
}
