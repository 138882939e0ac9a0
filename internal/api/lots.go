package api

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/handover"
	"hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
)

func lotOf(l shop.Lot) contract.Lot {
	return contract.Lot{
		Id:        l.ID,
		Ticket:    text(l.Ticket),
		Customer:  text(l.Customer),
		Reference: text(l.Reference),
		Language:  languageSaid(l.Language),
		Complaint: text(l.Complaint),
		Wanted:    l.Wanted,
		Copied:    l.Copied,
		Duty:      contract.Duty(l.Duty),
		Expected:  optional(l.Expected),
		Check:     optional(contract.PlannedCheck(l.Check)),
		At:        l.At,
		By:        l.By,
		Open:      l.Open(),
		Ended:     when(l.Ended),
	}
}

func fitOf(f verdict.Fit) contract.Fit {
	fitness := contract.FitFitness(f.Fitness)
	if f.Fitness == policy.Fitness("") {
		fitness = "unjudged"
	}
	return contract.Fit{Duty: contract.Duty(f.Duty), Fitness: fitness, Words: f.Words}
}

func lotDriveOf(d desk.LotDrive) contract.LotDrive {
	out := contract.LotDrive{
		Intake:  intakeOf(d.Intake),
		Grade:   contract.Grade(d.Grade.String()),
		Duties:  each(d.Duties, fitOf),
		Apart:   append([]string{}, d.Apart...),
		Next:    said(d.Next),
		Speed:   optional(d.Speed),
		Minutes: optional(d.Minutes),
		Values:  map[string]float64{},
	}
	for def, x := range d.Values.All() {
		out.Values[string(def.Name)] = x
	}
	if d.Drive != nil {
		one := driveOf(*d.Drive)
		out.Drive = &one
		out.Intake.Serial, out.Intake.Model = &one.Serial, &one.Model
	}
	return out
}

func comparedOf(c desk.Compared) contract.Compared {
	return contract.Compared{
		Words:  c.Words,
		Unit:   c.Unit,
		Model:  c.Model,
		Median: c.Median,
		Values: each(c.Values, func(x desk.ComparedValue) contract.ComparedValue {
			return contract.ComparedValue{Serial: x.Serial, Value: x.Value, Score: x.Score, Apart: x.Apart}
		}),
	}
}

func (h *handlers) ListLots(ctx context.Context, _ server.ListLotsRequestObject) (server.ListLotsResponseObject, error) {
	all, err := h.shop.Lots(ctx)
	return server.ListLots200JSONResponse(each(all, lotOf)), err
}

func (h *handlers) OpenLot(ctx context.Context, r server.OpenLotRequestObject) (server.OpenLotResponseObject, error) {
	b := r.Body
	if who, signed := whoAsks(ctx); signed && b.Check != nil && !who.Role.Covers(access.Technician) {
		return nil, &access.Refused{
			What:   fmt.Sprintf("%s is %s; planning a check needs a technician", who.Name, who.Role),
			Advice: "Open the lot without one, or ask a technician.",
		}
	}
	l, err := h.shop.OpenLot(ctx, actor(ctx, r.Body.By), shop.Lot{
		Ticket:    value(b.Ticket),
		Customer:  value(b.Customer),
		Reference: value(b.Reference),
		Language:  languageOf(b.Language),
		Complaint: value(b.Complaint),
		Wanted:    value(b.Wanted),
		Copied:    value(b.Copied),
		Duty:      drive.Duty(value(b.Duty)),
		Expected:  value(b.Expected),
		Check:     check.Kind(value(b.Check)),
	})
	return server.OpenLot201JSONResponse(lotOf(l)), err
}

func (h *handlers) EndLot(ctx context.Context, r server.EndLotRequestObject) (server.EndLotResponseObject, error) {
	l, err := h.shop.EndLot(ctx, actor(ctx, r.Body.By), r.Lot)
	return server.EndLot200JSONResponse(lotOf(l)), err
}

func (h *handlers) GetLot(ctx context.Context, r server.GetLotRequestObject) (server.GetLotResponseObject, error) {
	v, err := h.shop.LotByID(ctx, r.Lot)
	if err != nil {
		return nil, err
	}
	out := server.GetLot200JSONResponse{
		Lot: lotOf(v.Lot), Drives: each(v.Drives, lotDriveOf), Compared: each(v.Compared, comparedOf), Policy: h.shop.Policy().Version,
		Usable: each(v.Usable, func(u desk.Usable) contract.Usable {
			return contract.Usable{Duty: contract.Duty(u.Duty), Does: u.Does, Care: u.Care, Of: u.Of}
		}),
	}
	for _, g := range []drive.Grade{drive.Healthy, drive.Degrading, drive.Replace, drive.Undecided} {
		out.Counts = append(out.Counts, contract.GradeCount{Grade: contract.Grade(g.String()), Drives: v.Count[g]})
	}
	return out, nil
}

func (h *handlers) PrintLot(ctx context.Context, r server.PrintLotRequestObject) (server.PrintLotResponseObject, error) {
	v, err := h.shop.LotByID(ctx, r.Lot)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if value(r.Params.Format) == "csv" {
		err = handover.LotCSV(&b, v)
		return server.PrintLot200TextcsvResponse{Body: &b, ContentLength: int64(b.Len())}, err
	}
	err = handover.LotPDF(&b, h.shop.Name, v, h.shop.Policy().Version, h.shop.Clock.Now())
	return server.PrintLot200ApplicationpdfResponse{Body: &b, ContentLength: int64(b.Len())}, err
}

func stockOf(s *contract.Stock) (handover.Stock, error) {
	stock, err := handover.StockByName(string(value(s)))
	if err != nil {
		err = &shop.Invalid{What: err.Error(), Advice: see}
	}
	return stock, err
}

func (h *handlers) PrintLabels(ctx context.Context, r server.PrintLabelsRequestObject) (server.PrintLabelsResponseObject, error) {
	v, err := h.shop.LotByID(ctx, r.Lot)
	if err != nil {
		return nil, err
	}
	stock, err := stockOf(r.Params.Stock)
	if err != nil {
		return nil, err
	}
	var drives []shop.Drive
	for _, d := range v.Drives {
		if d.Drive != nil {
			drives = append(drives, *d.Drive)
		}
	}
	if len(drives) == 0 {
		return nil, &shop.Conflict{What: fmt.Sprintf("no drive of lot %d has named itself", r.Lot), Advice: "Put one in, then print."}
	}
	b, err := h.labels(ctx, drives, stock, languageOf(r.Params.Language))
	return server.PrintLabels200ApplicationpdfResponse{Body: b, ContentLength: int64(b.Len())}, err
}

func (h *handlers) PrintDriveLabels(
	ctx context.Context, r server.PrintDriveLabelsRequestObject,
) (server.PrintDriveLabelsResponseObject, error) {
	stock, err := stockOf(r.Params.Stock)
	if err != nil {
		return nil, err
	}
	drives := make([]shop.Drive, len(r.Params.Drive))
	for i, name := range r.Params.Drive {
		if drives[i], err = h.shop.FindDrive(ctx, name); err != nil {
			return nil, err
		}
	}
	b, err := h.labels(ctx, drives, stock, languageOf(r.Params.Language))
	return server.PrintDriveLabels200ApplicationpdfResponse{Body: b, ContentLength: int64(b.Len())}, err
}

func (h *handlers) labels(
	ctx context.Context, drives []shop.Drive, stock handover.Stock, language wording.Language,
) (*bytes.Buffer, error) {
	var b bytes.Buffer
	all := make([]handover.Label, len(drives))
	for i, d := range drives {
		p, err := h.shop.Paper(ctx, d)
		if err != nil {
			return &b, err
		}
		all[i] = handover.LabelOf(p, h.link(ctx, d), language)
	}
	return &b, handover.LabelPDF(&b, stock, all, h.shop.Clock.Now())
}

type addressKey struct{}

// link is the address of a drive's page, by the name under which the service was asked.
func (h *handlers) link(ctx context.Context, d shop.Drive) string {
	base, _ := ctx.Value(addressKey{}).(string)
	return base + "/drives/" + url.PathEscape(d.Identity.Serial)
}

func (h *handlers) ListIntakes(ctx context.Context, r server.ListIntakesRequestObject) (server.ListIntakesResponseObject, error) {
	q := shop.IntakeQuery{Open: value(r.Params.Open), Ticket: value(r.Params.Ticket), Limit: 200}
	if r.Params.Limit != nil {
		q.Limit = *r.Params.Limit
	}
	all, err := h.shop.Intakes(ctx, q)
	if err != nil {
		return nil, err
	}
	out := make(server.ListIntakes200JSONResponse, len(all))
	for i, one := range all {
		if out[i], err = h.intake(ctx, one); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// intake is an intake with the name of its drive.
func (h *handlers) intake(ctx context.Context, i shop.Intake) (contract.Intake, error) {
	out := intakeOf(i)
	if i.Drive == 0 {
		dead, err := h.shop.Unanswered(ctx, i)
		out.Unanswered = text(dead)
		return out, err
	}
	d, err := h.shop.DriveByID(ctx, i.Drive)
	out.Serial, out.Model = text(d.Identity.Serial), text(d.Identity.Model)
	return out, err
}

func (h *handlers) MoveIntake(ctx context.Context, r server.MoveIntakeRequestObject) (server.MoveIntakeResponseObject, error) {
	i, err := h.shop.MoveIntake(ctx, actor(ctx, r.Body.By), r.Intake, r.Body.Bay)
	if err != nil {
		return nil, err
	}
	out, err := h.intake(ctx, i)
	return server.MoveIntake200JSONResponse(out), err
}

func (h *handlers) HandOver(ctx context.Context, r server.HandOverRequestObject) (server.HandOverResponseObject, error) {
	i, err := h.shop.HandOver(
		ctx, actor(ctx, r.Body.By), r.Intake,
		shop.Handover{Goes: shop.Goes(r.Body.Goes), Data: shop.DataState(value(r.Body.Data)), Note: value(r.Body.Note)},
	)
	if err != nil {
		return nil, err
	}
	out, err := h.intake(ctx, i)
	return server.HandOver200JSONResponse(out), err
}

func (h *handlers) EraseCustomer(ctx context.Context, r server.EraseCustomerRequestObject) (server.EraseCustomerResponseObject, error) {
	e, err := h.shop.Erase(ctx, actor(ctx, r.Body.By), r.Body.Customer)
	return server.EraseCustomer200JSONResponse{Intakes: e.Intakes, Lots: e.Lots}, err
}

func (h *handlers) ListAudit(ctx context.Context, r server.ListAuditRequestObject) (server.ListAuditResponseObject, error) {
	q := shop.AuditQuery{By: value(r.Params.Who), Before: value(r.Params.Before), Limit: value(r.Params.Limit)}
	if name := value(r.Params.Drive); name != "" {
		d, err := h.shop.FindDrive(ctx, name)
		if err != nil {
			return nil, err
		}
		q.Serial = d.Identity.Serial
	}
	all, err := h.shop.Audit(ctx, q)
	return server.ListAudit200JSONResponse(each(all, func(a shop.Audited) contract.Audited {
		out := contract.Audited{
			Seq:    a.Seq,
			At:     a.At,
			By:     a.By,
			Role:   text(a.Role),
			Via:    text(a.Via),
			Kind:   string(a.Kind),
			Serial: text(a.Serial),
			Text:   said(a.Said),
			Hash:   hex.EncodeToString(a.Hash),
		}
		if len(a.Edits) > 0 {
			edits := each(a.Edits, func(e shop.Edit) contract.AuditEdit {
				return contract.AuditEdit{What: e.What, Before: text(e.Before), After: text(e.After)}
			})
			out.Edits = &edits
		}
		return out
	})), err
}

func (h *handlers) VerifyAudit(ctx context.Context, _ server.VerifyAuditRequestObject) (server.VerifyAuditResponseObject, error) {
	v, err := h.shop.VerifyAudit(ctx)
	return server.VerifyAudit200JSONResponse{Rows: v.Rows, Sound: v.Bad == 0, FirstBad: optional(v.Bad)}, err
}

func (h *handlers) GetSiblings(ctx context.Context, r server.GetSiblingsRequestObject) (server.GetSiblingsResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	v, err := h.shop.Siblings(ctx, d)
	return server.GetSiblings200JSONResponse{
		Model: v.Model,
		Of:    v.Of,
		Apart: append([]string{}, v.Apart...),
		Rows: each(v.Rows, func(x desk.SiblingRow) contract.SiblingRow {
			return contract.SiblingRow{
				Words:  x.Words,
				Unit:   x.Unit,
				Value:  x.Value,
				Median: x.Median,
				Score:  x.Score,
				Of:     x.Of,
				Apart:  x.Apart,
			}
		}),
	}, err
}

func statementOf(s handover.Statement) contract.Statement {
	list := func(all []string) []string { return append([]string{}, all...) }
	return contract.Statement{
		Language: contract.Language(s.Language.String()),
		Headings: contract.StatementHeadings{
			Title:      s.Head("title"),
			Does:       s.Head("does"),
			Care:       s.Head("care"),
			NotFor:     s.Head("not_for"),
			Why:        s.Head("why"),
			Do:         s.Head("do"),
			Checked:    s.Head("checked"),
			NotChecked: s.Head("not_checked"),
			Data:       s.Head("data"),
		},
		Shop:       s.Shop,
		Number:     s.Number,
		Date:       s.Date,
		Grade:      contract.Grade(s.Grade.String()),
		Title:      s.Title,
		Answer:     s.Answer,
		Does:       list(s.Does),
		Care:       list(s.Care),
		NotFor:     list(s.NotFor),
		Why:        list(s.Why),
		Do:         list(s.Do),
		Checked:    list(s.Checked),
		NotChecked: list(s.NotChecked),
		DataState:  contract.DataState(s.DataState),
		Data:       s.Data,
		Signature:  s.Signature,
		Foot:       s.Foot,
		Facts: each(s.Facts, func(p handover.Particular) contract.Particular {
			return contract.Particular{Name: p.Name, Value: p.Value}
		}),
	}
}

// htmlPage is a page that stands alone and runs nothing.
type htmlPage struct{ body []byte }

// VisitGetStatementResponse implements the generated interface.
func (p htmlPage) VisitGetStatementResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; sandbox")
	_, err := w.Write(p.body)
	return err
}

func (h *handlers) GetStatement(ctx context.Context, r server.GetStatementRequestObject) (server.GetStatementResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	p, err := h.shop.Paper(ctx, d)
	if err != nil {
		return nil, err
	}
	s := handover.StatementOf(p, languageOf(r.Params.Language))
	var b bytes.Buffer
	switch value(r.Params.Format) {
	case "html":
		err = handover.StatementHTML(&b, s)
		return htmlPage{b.Bytes()}, err
	case "pdf":
		err = handover.StatementPDF(&b, s, p.At)
		return server.GetStatement200ApplicationpdfResponse{Body: &b, ContentLength: int64(b.Len())}, err
	}
	return server.GetStatement200JSONResponse(statementOf(s)), nil
}

func (h *handlers) GetLabel(ctx context.Context, r server.GetLabelRequestObject) (server.GetLabelResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	p, err := h.shop.Paper(ctx, d)
	if err != nil {
		return nil, err
	}
	stock, err := stockOf(r.Params.Stock)
	if err != nil {
		return nil, err
	}
	l := handover.LabelOf(p, h.link(ctx, d), languageOf(r.Params.Language))
	var b bytes.Buffer
	switch value(r.Params.Format) {
	case "pdf":
		err = handover.LabelPDF(&b, stock, []handover.Label{l}, p.At)
		return server.GetLabel200ApplicationpdfResponse{Body: &b, ContentLength: int64(b.Len())}, err
	case "png":
		dpi := 300
		if r.Params.Dpi != nil {
			dpi = *r.Params.Dpi
		}
		err = handover.LabelPNG(&b, stock, l, dpi)
		return server.GetLabel200ImagepngResponse{Body: &b, ContentLength: int64(b.Len())}, err
	}
	return server.GetLabel200JSONResponse{
		Grade:  contract.Grade(l.Grade.String()),
		Word:   l.Word,
		Ending: l.Ending,
		Serial: l.Serial,
		Use:    l.Use,
		Lines:  l.Lines,
		Foot:   l.Foot,
		Link:   l.Link,
	}, nil
}

// GetArchive gathers everything the API says of a drive, and its bytes.
func (h *handlers) GetArchive(ctx context.Context, r server.GetArchiveRequestObject) (server.GetArchiveResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	var files []handover.File
	add := func(name, about string, write func(b *bytes.Buffer) error) {
		var b bytes.Buffer
		if err == nil {
			err = write(&b)
		}
		files = append(files, handover.File{Name: name, About: about, Body: b.Bytes()})
	}
	asJSON := func(get func() (any, error)) func(b *bytes.Buffer) error {
		return func(b *bytes.Buffer) error {
			v, err := get()
			if err != nil {
				return err
			}
			e := json.NewEncoder(b)
			e.SetIndent("", "  ")
			return e.Encode(v)
		}
	}
	p, failed := h.shop.Paper(ctx, d)
	if failed != nil {
		return nil, failed
	}
	sweeps, failed := h.shop.Sweeps(ctx, d)
	if failed != nil {
		return nil, failed
	}
	add("drive.json", "who the drive is, and how it stands", asJSON(func() (any, error) { return h.detailed(ctx, d.Identity.Serial) }))
	add("readings.record", "every reading with every byte, as a record file", func(b *bytes.Buffer) error {
		f, err := h.shop.Export(ctx, d)
		if err != nil {
			return err
		}
		return record.Write(b, f)
	})
	add("signals.csv", "every signal of every reading", func(b *bytes.Buffer) error {
		moments, err := h.shop.Readings(ctx, d)
		if err != nil {
			return err
		}
		return handover.SignalsCSV(b, moments)
	})
	add("verdicts.json", "every verdict, newest first, with findings and signatures", asJSON(func() (any, error) {
		all, err := h.shop.Verdicts(ctx, d)
		return each(all, func(v shop.Verdict) contract.Verdict { return verdictOf(d, v) }), err
	}))
	add("history.json", "everything that happened to it, newest first", asJSON(func() (any, error) {
		all, err := h.shop.History(ctx, d)
		return each(all, entryOf), err
	}))
	add("runs.json", "every check and rework", asJSON(func() (any, error) {
		all, err := h.shop.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key})
		return each(all, runOf), err
	}))
	for _, w := range sweeps {
		add(fmt.Sprintf("sweep-run-%d-%d.svg", w.Run, w.Step), "the figure of a sweep", func(b *bytes.Buffer) error {
			detail, err := h.shop.SweepDetail(ctx, w)
			if err != nil {
				return err
			}
			return handover.SweepFigure(b, handover.SVG, d.Identity.Serial, w, detail)
		})
	}
	add("statement.pdf", "the page for its owner", func(b *bytes.Buffer) error {
		return handover.StatementPDF(b, handover.StatementOf(p, wording.Language{}), p.At)
	})
	add("statement.html", "the same", func(b *bytes.Buffer) error {
		return handover.StatementHTML(b, handover.StatementOf(p, wording.Language{}))
	})
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = handover.Archive(&b, files, p.At)
	return server.GetArchive200ApplicationzipResponse{Body: &b, ContentLength: int64(b.Len())}, err
}
