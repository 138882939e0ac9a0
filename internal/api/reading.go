package api

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/lowpriority"
	recordfile "hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/record"
)

func summaryOf(m shop.Moment) contract.ReadingSummary {
	out := contract.ReadingSummary{Seq: m.Seq, At: m.At, Run: optional(m.Run), Step: text(string(m.Step)), Folded: optional(m.Folded)}
	out.Hours, out.Temperature = number(m.Signals, signal.PowerOnHours), number(m.Signals, signal.Temperature)
	out.Said, out.Aside, out.Origin = when(m.Said), asideOf(m.Aside), text(m.Origin)
	return out
}

func asideOf(a shop.Aside) *contract.ReadingAside { return optional(contract.ReadingAside(a)) }

func (h *handlers) StandReading(ctx context.Context, r server.StandReadingRequestObject) (server.StandReadingResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	seq, err := strconv.Atoi(r.Reading)
	if err != nil {
		return nil, &shop.Invalid{What: "a reading is named by its number here", Advice: "List the readings of the drive."}
	}
	one, err := h.shop.StandReading(
		ctx, actor(ctx, r.Body.By), d, seq, record.Standing{Counts: r.Body.Counts, At: value(r.Body.At), Why: r.Body.Why},
	)
	out := contract.ReadingSummary{
		Seq: one.Seq, At: one.At, Said: when(one.Said), Aside: asideOf(one.Aside), Origin: text(one.Origin), Run: optional(one.Run),
		Step: text(string(one.Step)),
	}
	out.Hours, out.Temperature = number(one.Signals, signal.PowerOnHours), number(one.Signals, signal.Temperature)
	return server.StandReading200JSONResponse(out), err
}

func readingOf(drv shop.Drive, r shop.Reading, raw bool) contract.Reading {
	d := reading.Explain(r.Pages, drv.Hints)
	out := contract.Reading{
		Seq:         r.Seq,
		At:          r.At,
		Said:        when(r.Said),
		Aside:       asideOf(r.Aside),
		Origin:      text(r.Origin),
		TookMs:      int(r.Took.Milliseconds()),
		Tool:        r.Tool,
		Decoder:     reading.DecoderVersion,
		Dialect:     dialect.Version(),
		Family:      d.Dialect.ID(),
		Sheets:      each(d.Sheets, sheetOf),
		TestsKnown:  &d.HasTests,
		Bay:         optional(r.Bay),
		Run:         optional(r.Run),
		Alarm:       contract.ReadingAlarm(d.Alarm.String()),
		Attributes:  each(d.Attributes, attributeOf),
		Statistics:  each(d.Statistics, statisticOf),
		SelfTests:   each(d.Tests, testOf),
		Errors:      each(d.Errors, errorOf),
		Faults:      each(d.Faults, faultOf),
		Pages:       make([]contract.Page, len(r.Pages)),
		Hours:       number(r.Signals, signal.PowerOnHours),
		Temperature: number(r.Signals, signal.Temperature),
	}
	if d.HasErrors {
		total := int64(d.ErrorTotal)
		out.ErrorTotal = &total
	}
	for i, p := range r.Pages {
		page := contract.Page{Name: string(p.Name), Title: p.Name.Title(), How: p.How}
		if p.Fault != nil {
			f := faultOf(*p.Fault)
			page.Fault = &f
		} else {
			size := len(p.Bytes)
			page.Size = &size
		}
		if raw && p.Fault == nil {
			page.Bytes = &p.Bytes
		}
		out.Pages[i] = page
	}
	return out
}

func attributeOf(a reading.Attribute) contract.Attribute {
	raw := a.Raw
	for i, j := 0, len(raw)-1; i < j; i, j = i+1, j-1 {
		raw[i], raw[j] = raw[j], raw[i]
	}
	out := contract.Attribute{
		Id:          int(a.ID),
		Name:        a.Name,
		Explain:     a.Explain,
		Meaning:     meaning(a),
		Value:       int(a.Value),
		Worst:       int(a.Worst),
		Kind:        "advisory",
		State:       contract.AttributeState(a.State()),
		StateReason: text(a.StateReason()),
		Raw:         hex.EncodeToString(raw[:]),
		Offset:      a.Offset,
		Confidence:  string(a.Quantity.Confidence),
		From:        a.From,
	}
	if a.PreFailure() {
		out.Kind = "pre-failure"
	}
	if a.Threshold != nil {
		level := int(a.Threshold.Level)
		out.Threshold = &level
	}
	return out
}

// meaning says what the raw bytes say, as far as anyone can tell.
func meaning(a reading.Attribute) string {
	q := a.Quantity
	switch {
	case q.Operations > 0 && q.Known:
		return fmt.Sprintf("%s in %s", wording.Number(float64(q.Number)), wording.Number(float64(q.Operations)))
	case q.Operations > 0:
		return fmt.Sprintf("%s in %s, if packed", wording.Number(float64(q.Number)), wording.Number(float64(q.Operations)))
	case !q.Known:
		return fmt.Sprintf("%s, unit not known", wording.Number(float64(a.Raw48())))
	case q.HasRange:
		return fmt.Sprintf("%d °C, %d to %d °C", q.Number, q.Lowest, q.Highest)
	}
	return wording.Of(float64(q.Number), q.Unit)
}

func statisticOf(s ata.Statistic) contract.Statistic {
	out := contract.Statistic{Name: s.Name, Unit: s.Unit, Normalized: s.Normalized, Offset: int(s.Page)*ata.PageSize + int(s.Offset)}
	if s.Name == "" {
		out.Name = fmt.Sprintf("page %d, byte %d, without a name in this version", s.Page, s.Offset)
	}
	if s.Valid {
		out.Value = &s.Value
	}
	return out
}

func testOf(t reading.SelfTest) contract.SelfTest {
	out := contract.SelfTest{
		Kind:   t.Kind,
		Result: t.Result,
		Failed: t.Failed,
		Hours:  int64(t.Hours),
		Page:   string(t.Page),
		Offset: t.Offset,
		Length: entrySize[t.Page],
		OrMore: optional(t.Saturated),
	}
	if t.HasLBA {
		lba := int64(t.LBA)
		out.Lba = &lba
	}
	return out
}

func errorOf(e reading.LoggedError) contract.LoggedError {
	out := contract.LoggedError{
		Command: e.Command,
		Meaning: e.Meaning,
		State:   text(e.State),
		Host:    e.Host,
		Before:  append([]string{}, e.Before...),
		Page:    string(e.Page),
		Offset:  e.Offset,
		Length:  entrySize[e.Page],
	}
	if e.Hours >= 0 {
		out.Hours = &e.Hours
	}
	if e.HasLBA {
		lba := int64(e.LBA)
		out.Lba = &lba
	}
	return out
}

func sheetOf(s reading.Sheet) contract.Sheet {
	return contract.Sheet{Page: string(s.Page), Title: s.Page.Title(), Facts: each(s.Facts, func(f reading.Fact) contract.Fact {
		return contract.Fact{
			Name:   f.Name,
			Value:  text(f.Value),
			Number: optional(f.Number),
			Unit:   f.Unit,
			Reason: text(f.Reason),
			Offset: f.Offset,
			Length: f.Length,
		}
	})}
}

func dialectOf(d shop.Drive, r reading.Reading) contract.Dialect {
	out := contract.Dialect{
		Serial:  d.Identity.Serial,
		Family:  r.Dialect.ID(),
		Title:   "no family is known",
		Sure:    r.Dialect.Sure,
		Why:     append([]string{}, r.Dialect.Why...),
		Version: dialect.Version(),
		Source:  dialect.Source(),
	}
	if f := r.Dialect.Family; f != nil {
		out.Title, out.Source = f.Title, f.Source
	}
	if h := r.Dialect.Hints; h.Hours != "" {
		out.Inferred = text(fmt.Sprintf("attribute 9 counts %s: %s", h.Hours, h.Why))
	}
	out.Entries = each(r.Attributes, func(a reading.Attribute) contract.DialectEntry {
		layout := string(a.Layout)
		if a.Take == dialect.TakeValue {
			layout = "normalised value"
		}
		return contract.DialectEntry{
			Id:         int(a.ID),
			Name:       a.Name,
			Layout:     layout,
			Unit:       a.Unit,
			Signal:     text(a.Signal),
			Confidence: string(a.Confidence),
			From:       a.From,
			Meaning:    meaning(a),
			Explain:    a.Explain,
		}
	})
	out.NotUnderstood = []string{}
	for i := range r.Attributes {
		if a := &r.Attributes[i]; a.NotUnderstood(a.Quantity) != "" {
			out.NotUnderstood = append(out.NotUnderstood, fmt.Sprintf("%d, %s: %s", a.ID, a.Name, a.NotUnderstood(a.Quantity)))
		}
	}
	if values := signal.Of(&r); r.Identity.Medium == drive.Flash && len(r.Attributes) > 0 {
		for _, n := range []signal.Name{signal.PercentageUsed, signal.AvailableSpare} {
			if v := values[n]; !v.Available {
				words, _ := signal.Lookup(n)
				out.NotUnderstood = append(out.NotUnderstood, words.Words+": "+v.Reason)
			}
		}
	}
	return out
}

// entrySize is how many bytes one entry of a drive's own log takes.
var entrySize = map[reading.PageName]int{
	reading.PageTestLog: 24, reading.PageTestLogExt: 26, reading.PageNVMeTests: 28, reading.PageLog(scsi.LogSelfTests): 16,
	reading.PageErrorLog: 90, reading.PageErrors: 90, reading.PageErrorsExt: 124, reading.PageNVMeErrors: 64,
}

func (h *handlers) CompareReadings(
	ctx context.Context, r server.CompareReadingsRequestObject,
) (server.CompareReadingsResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	c, err := h.shop.Compare(ctx, d, value(r.Params.Before), value(r.Params.Now))
	return server.CompareReadings200JSONResponse{
		Before: summaryOf(c.Then), Now: summaryOf(c.Now), Swapped: optional(c.Swapped), Rows: each(c.Rows, differenceOf),
	}, err
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
	signed := ""
	err := lowpriority.Do(func() error {
		f, err := recordfile.Read(r.Body)
		if wrong, ok := errors.AsType[*recordfile.Error](err); ok {
			return &shop.Invalid{What: wrong.Error(), Advice: "Nothing of it was taken in. Get a whole copy of the file."}
		}
		if err == nil {
			signed = f.SignedBy
			all, err = h.shop.Import(ctx, actor(ctx, value(r.Params.By)), f)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	by, err := h.signer(ctx, signed)
	return server.ImportRecord200JSONResponse{Signed: by, Drives: each(all, func(i record.Imported) contract.ImportedDrive {
		out := contract.ImportedDrive{
			Serial:   i.Key.Serial,
			Model:    i.Key.Model,
			Readings: i.Readings,
			Known:    i.Known,
			Aside:    optional(i.Aside),
			Folded:   optional(i.Folded),
		}
		if i.Left != (recordfile.Left{}) {
			out.Left = &contract.RecordLeft{Sweeps: i.Left.Sweeps, Reworks: i.Left.Reworks, Signatures: i.Left.Signatures}
		}
		return out
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
