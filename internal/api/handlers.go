package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strconv"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/handover"
	"hylostat.example/internal/lowpriority"
	"hylostat.example/internal/protocol"
	recordfile "hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/shop/whole"
)

// handlers implement the generated strict interface. Each finds what the request names, asks the shop, and maps the answer.
type handlers struct {
	shop    *whole.Shop
	access  *access.Access
	version string
}

var _ server.StrictServerInterface = (*handlers)(nil)

func (h *handlers) GetService(context.Context, server.GetServiceRequestObject) (server.GetServiceResponseObject, error) {
	p := h.shop.Policy()
	benches := h.shop.Benches()
	own := benches[0]
	return server.GetService200JSONResponse{
		Shop: h.shop.Name, Bench: own.Title, Factor: own.Factor, Version: h.version, Time: h.shop.Clock.Now(), Rework: own.Rework,
		Benches: each(benches, func(b protocol.Description) contract.Bench {
			return contract.Bench{Name: b.Name, Title: b.Title, Rework: b.Rework}
		}),
		Policy: contract.PolicySummary{Version: p.Version, Name: p.Name, Rules: len(p.Rules)},
	}, nil
}

func (h *handlers) ListBays(ctx context.Context, _ server.ListBaysRequestObject) (server.ListBaysResponseObject, error) {
	all, err := h.shop.Bays(ctx)
	return server.ListBays200JSONResponse(each(all, bayOf)), err
}

func (h *handlers) bay(ctx context.Context, id drive.Bay) (contract.Bay, error) {
	v, err := h.shop.Bay(ctx, id)
	return bayOf(v), err
}

func (h *handlers) GetBay(ctx context.Context, r server.GetBayRequestObject) (server.GetBayResponseObject, error) {
	b, err := h.bay(ctx, r.Bay)
	return server.GetBay200JSONResponse(b), err
}

func (h *handlers) SetBay(ctx context.Context, r server.SetBayRequestObject) (server.SetBayResponseObject, error) {
	v, err := h.shop.SetBay(
		ctx, actor(ctx, r.Body.By), r.Bay, desk.BaySetting{Number: r.Body.Number, Label: r.Body.Label, Hidden: r.Body.Hidden},
	)
	return server.SetBay200JSONResponse(bayOf(v)), err
}

func (h *handlers) ArrangeBays(ctx context.Context, r server.ArrangeBaysRequestObject) (server.ArrangeBaysResponseObject, error) {
	if err := h.shop.Arrange(ctx, actor(ctx, r.Body.By), r.Body.Bays); err != nil {
		return nil, err
	}
	all, err := h.shop.Bays(ctx)
	return server.ArrangeBays200JSONResponse(each(all, bayOf)), err
}

func (h *handlers) AttemptBay(ctx context.Context, r server.AttemptBayRequestObject) (server.AttemptBayResponseObject, error) {
	if err := h.shop.Attempt(ctx, actor(ctx, value(r.Params.By)), r.Bay); err != nil {
		return nil, err
	}
	b, err := h.bay(ctx, r.Bay)
	return server.AttemptBay200JSONResponse(b), err
}

func (h *handlers) VacateBay(ctx context.Context, r server.VacateBayRequestObject) (server.VacateBayResponseObject, error) {
	if err := h.shop.Vacate(ctx, actor(ctx, value(r.Params.By)), r.Bay); err != nil {
		return nil, err
	}
	b, err := h.bay(ctx, r.Bay)
	return server.VacateBay200JSONResponse(b), err
}

func (h *handlers) RecordCopy(ctx context.Context, r server.RecordCopyRequestObject) (server.RecordCopyResponseObject, error) {
	i, err := h.shop.RecordCopy(ctx, actor(ctx, r.Body.By), r.Bay)
	return server.RecordCopy200JSONResponse(intakeOf(i)), err
}

func (h *handlers) TakeIn(ctx context.Context, r server.TakeInRequestObject) (server.TakeInResponseObject, error) {
	b := r.Body
	duty, err := drive.ParseDuty(string(value(b.Duty)))
	if err != nil {
		return nil, &shop.Invalid{What: err.Error(), Advice: "Choose one of them."}
	}
	in := shop.Intake{
		Bay:       b.Bay,
		Lot:       value(b.Lot),
		Ticket:    value(b.Ticket),
		Customer:  value(b.Customer),
		Reference: value(b.Reference),
		Complaint: value(b.Complaint),
		Label:     value(b.Label),
		Language:  languageOf(b.Language),
		Made:      value(b.Made),
		Clicks:    value(b.Clicks),
		Wanted:    value(b.Wanted),
		Copied:    value(b.Copied),
		Duty:      duty,
	}
	if b.Release != nil {
		in.Release = &shop.Release{Scope: check.Kind(b.Release.Scope), Owner: b.Release.Owner}
	}
	i, err := h.shop.TakeIn(ctx, actor(ctx, b.By), in)
	return server.TakeIn201JSONResponse(intakeOf(i)), err
}

func (h *handlers) ListDrives(ctx context.Context, r server.ListDrivesRequestObject) (server.ListDrivesResponseObject, error) {
	p := r.Params
	q, err := queryOf(p.Q, p.Grade, string(value(p.Medium)), p.Lot, p.FromHours, p.ToHours)
	if err != nil {
		return nil, err
	}
	if q.After, q.Limit = value(p.After), 200; p.Limit != nil {
		q.Limit = *p.Limit
	}
	all, err := h.shop.List(ctx, q)
	return server.ListDrives200JSONResponse(each(all, listedOf)), err
}

// queryOf is what a list and a table of drives are asked for.
func queryOf(text *string, grade *contract.Grade, medium string, lot *int64, from, to *int) (shop.Query, error) {
	q := shop.Query{Text: value(text), Medium: drive.Medium(medium), Lot: value(lot), From: value(from), To: value(to)}
	if grade != nil {
		g, err := drive.ParseGrade(string(*grade))
		if err != nil {
			return q, &shop.Invalid{What: err.Error(), Advice: "Choose one of them."}
		}
		q.Grade = &g
	}
	return q, nil
}

func (h *handlers) TableOfDrives(ctx context.Context, r server.TableOfDrivesRequestObject) (server.TableOfDrivesResponseObject, error) {
	p := r.Params
	q, err := queryOf(p.Q, p.Grade, string(value(p.Medium)), p.Lot, p.FromHours, p.ToHours)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	table := handover.NewDrivesCSV(&b)
	for more := true; more; {
		q.Limit = 500
		some, err := h.shop.Drives(ctx, q)
		if err != nil {
			return nil, err
		}
		for _, d := range some {
			if err := table.Add(d); err != nil {
				return nil, err
			}
			q.After = d.Identity.Serial
		}
		more = len(some) >= q.Limit
	}
	if err := table.End(); err != nil {
		return nil, err
	}
	return server.TableOfDrives200TextcsvResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

// detailed is a drive with its present intake.
func (h *handlers) detailed(ctx context.Context, name string) (contract.Drive, error) {
	d, err := h.shop.FindDrive(ctx, name)
	if err != nil {
		return contract.Drive{}, err
	}
	out := driveOf(d)
	i, err := h.shop.Intake(ctx, d)
	if i != nil {
		intake := intakeOf(*i)
		out.Intake = &intake
	}
	return out, err
}

func (h *handlers) GetDrive(ctx context.Context, r server.GetDriveRequestObject) (server.GetDriveResponseObject, error) {
	d, err := h.detailed(ctx, r.Drive)
	return server.GetDrive200JSONResponse(d), err
}

func (h *handlers) ChangeDrive(ctx context.Context, r server.ChangeDriveRequestObject) (server.ChangeDriveResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	if err := h.shop.SetDuty(ctx, actor(ctx, value(r.Body.By)), d, drive.Duty(r.Body.Duty)); err != nil {
		return nil, err
	}
	out, err := h.detailed(ctx, d.Identity.Serial)
	return server.ChangeDrive200JSONResponse(out), err
}

func (h *handlers) GetHistory(ctx context.Context, r server.GetHistoryRequestObject) (server.GetHistoryResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	all, err := h.shop.History(ctx, d)
	return server.GetHistory200JSONResponse(each(all, entryOf)), err
}

func (h *handlers) GetSignals(ctx context.Context, r server.GetSignalsRequestObject) (server.GetSignalsResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	courses, moments, err := h.shop.Courses(ctx, d)
	if err != nil {
		return nil, err
	}
	intake, err := h.shop.Intake(ctx, d)
	return server.GetSignals200JSONResponse(signalsOf(courses, moments, intake)), err
}

func (h *handlers) CompareReadings(
	ctx context.Context, r server.CompareReadingsRequestObject,
) (server.CompareReadingsResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	c, err := h.shop.Compare(ctx, d, value(r.Params.Before), value(r.Params.Now))
	return server.CompareReadings200JSONResponse{Before: summaryOf(c.Then), Now: summaryOf(c.Now), Rows: each(c.Rows, differenceOf)}, err
}

func (h *handlers) ListReadings(ctx context.Context, r server.ListReadingsRequestObject) (server.ListReadingsResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	moments, err := h.shop.Readings(ctx, d)
	all := make([]contract.ReadingSummary, len(moments))
	for i, m := range moments {
		all[len(moments)-1-i] = summaryOf(m)
	}
	return server.ListReadings200JSONResponse(all), err
}

func (h *handlers) TakeReading(ctx context.Context, r server.TakeReadingRequestObject) (server.TakeReadingResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	taken, err := h.shop.TakeReading(ctx, actor(ctx, r.Body.By), d, value(r.Body.Attachments))
	if err != nil {
		return nil, err
	}
	return server.TakeReading201JSONResponse(readingOf(d, taken, false)), nil
}

func (h *handlers) GetReading(ctx context.Context, r server.GetReadingRequestObject) (server.GetReadingResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	seq, _ := strconv.Atoi(r.Reading) // "latest" is 0; the contract lets nothing else through
	one, err := h.shop.Reading(ctx, d, seq)
	if err != nil {
		return nil, err
	}
	return server.GetReading200JSONResponse(readingOf(d, one, value(r.Params.Raw))), nil
}

func (h *handlers) ExplainDialect(ctx context.Context, r server.ExplainDialectRequestObject) (server.ExplainDialectResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	one, err := h.shop.Reading(ctx, d, 0)
	if err != nil {
		return nil, err
	}
	return server.ExplainDialect200JSONResponse(dialectOf(d, reading.DecodeAs(one.Pages, d.Hints))), nil
}

func (h *handlers) ExportRecord(ctx context.Context, r server.ExportRecordRequestObject) (server.ExportRecordResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	f, err := h.shop.Export(ctx, d)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := recordfile.Write(&b, f); err != nil {
		return nil, err
	}
	return server.ExportRecord200ApplicationvndHylostatRecordResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

func (h *handlers) ImportRecord(ctx context.Context, r server.ImportRecordRequestObject) (server.ImportRecordResponseObject, error) {
	var all []record.Imported
	err := lowpriority.Do(func() error {
		f, err := recordfile.Read(r.Body)
		if wrong, ok := errors.AsType[*recordfile.Error](err); ok {
			return &shop.Invalid{What: wrong.Error(), Advice: "Nothing of it was taken in. Get a whole copy of the file."}
		}
		if err == nil {
			all, err = h.shop.Import(ctx, actor(ctx, value(r.Params.By)), f)
		}
		return err
	})
	return server.ImportRecord200JSONResponse{Drives: each(all, func(i record.Imported) contract.ImportedDrive {
		return contract.ImportedDrive{Serial: i.Key.Serial, Model: i.Key.Model, Readings: i.Readings, Known: i.Known}
	})}, err
}

func (h *handlers) Redecode(ctx context.Context, r server.RedecodeRequestObject) (server.RedecodeResponseObject, error) {
	var done record.Redecoding
	err := lowpriority.Do(func() (err error) {
		done, err = h.shop.Redecode(ctx, actor(ctx, value(r.Params.By)))
		return err
	})
	return server.Redecode200JSONResponse{
		Readings: done.Readings, Changed: done.Changed, Decoder: reading.DecoderVersion,
		Changes: each(done.Changes, func(c record.RedecodedSignal) contract.Redecoded {
			return contract.Redecoded{Serial: c.Serial, Reading: c.Reading, Signal: string(c.Signal), Before: c.Before, Now: c.Now}
		}),
	}, err
}

func (h *handlers) StartCheck(ctx context.Context, r server.StartCheckRequestObject) (server.StartCheckResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	if who, signed := whoAsks(ctx); signed && value(r.Body.Despite) != "" && !who.Role.Covers(access.Lead) {
		return nil, &access.Refused{
			What:   fmt.Sprintf("%s is %s; loading the surface of a drive whose data is at risk needs a lead", who.Name, who.Role),
			Advice: "Ask a lead, or have the data copied first.",
		}
	}
	started, err := h.shop.Check(ctx, actor(ctx, r.Body.By), d, runs.CheckOrder{
		Kind:    check.Kind(r.Body.Kind),
		Despite: value(r.Body.Despite),
		Limit:   check.Limit{Share: value(r.Body.Share)},
		Spans: each(
			value(r.Body.Spans), func(s contract.Span) ata.Span { return ata.Span{First: uint64(s.First), Last: uint64(s.Last)} },
		),
	})
	return server.StartCheck201JSONResponse(runOf(started)), err
}

// verdict gives the present verdict as the contract has it.
func (h *handlers) GetVerdict(ctx context.Context, r server.GetVerdictRequestObject) (server.GetVerdictResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	v, err := h.shop.Verdict(ctx, d)
	return server.GetVerdict200JSONResponse(verdictOf(d, v)), err
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
	v, err := h.shop.Sign(ctx, actor(ctx, r.Body.By), d, value(r.Body.Verdict), grade, value(r.Body.Reason))
	return server.SignVerdict201JSONResponse(verdictOf(d, v)), err
}

func (h *handlers) ListRuns(ctx context.Context, r server.ListRunsRequestObject) (server.ListRunsResponseObject, error) {
	q := shop.RunQuery{Open: value(r.Params.Open), Limit: 100}
	if r.Params.Limit != nil {
		q.Limit = *r.Params.Limit
	}
	if r.Params.Drive != nil {
		d, err := h.shop.FindDrive(ctx, *r.Params.Drive)
		if err != nil {
			return nil, err
		}
		q.Drive = d.Identity.Key
	}
	all, err := h.shop.Runs(ctx, q)
	return server.ListRuns200JSONResponse(each(all, runOf)), err
}

func (h *handlers) GetRun(ctx context.Context, r server.GetRunRequestObject) (server.GetRunResponseObject, error) {
	one, err := h.shop.RunByID(ctx, r.Run)
	return server.GetRun200JSONResponse(runOf(one)), err
}

func (h *handlers) StopRun(ctx context.Context, r server.StopRunRequestObject) (server.StopRunResponseObject, error) {
	one, err := h.shop.StopRun(ctx, actor(ctx, r.Body.By), r.Run)
	return server.StopRun200JSONResponse(runOf(one)), err
}

func (h *handlers) PauseRun(ctx context.Context, r server.PauseRunRequestObject) (server.PauseRunResponseObject, error) {
	one, err := h.shop.Pause(ctx, actor(ctx, r.Body.By), r.Run, true)
	return server.PauseRun200JSONResponse(runOf(one)), err
}

func (h *handlers) ResumeRun(ctx context.Context, r server.ResumeRunRequestObject) (server.ResumeRunResponseObject, error) {
	one, err := h.shop.Pause(ctx, actor(ctx, r.Body.By), r.Run, false)
	return server.ResumeRun200JSONResponse(runOf(one)), err
}

func (h *handlers) GetSweep(ctx context.Context, r server.GetSweepRequestObject) (server.GetSweepResponseObject, error) {
	run, err := h.shop.RunByID(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	one, detail, err := h.shop.SweepOf(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	out, err := sweepOf(run.Key.Serial, one, detail)
	return server.GetSweep200JSONResponse(out), err
}

func (h *handlers) DrawSweep(ctx context.Context, r server.DrawSweepRequestObject) (server.DrawSweepResponseObject, error) {
	run, err := h.shop.RunByID(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	one, detail, err := h.shop.SweepOf(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	format := handover.SVG
	if r.Params.Format != nil {
		format = handover.Format(*r.Params.Format)
	}
	var b bytes.Buffer
	if err := handover.SweepFigure(&b, format, run.Key.Serial, one, detail); err != nil {
		return nil, err
	}
	if format == handover.PNG {
		return server.DrawSweep200ImagepngResponse{Body: &b, ContentLength: int64(b.Len())}, nil
	}
	return server.DrawSweep200ImagesvgXmlResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

func (h *handlers) CompareSweeps(ctx context.Context, r server.CompareSweepsRequestObject) (server.CompareSweepsResponseObject, error) {
	all, err := h.shop.CompareSweeps(ctx, r.Params.Earlier, r.Run)
	return server.CompareSweeps200JSONResponse(each(all, sweepDifferenceOf)), err
}

func (h *handlers) ListSweeps(ctx context.Context, r server.ListSweepsRequestObject) (server.ListSweepsResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	all, err := h.shop.Sweeps(ctx, d)
	return server.ListSweeps200JSONResponse(each(all, sweepSummaryOf)), err
}

func each[A, B any](in []A, f func(A) B) []B {
	out := make([]B, len(in))
	for i, a := range in {
		out[i] = f(a)
	}
	return out
}

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}
