package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/handover"
	"hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
)

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

// link is the address of a drive's page, by the name under which the service was asked.
func (h *handlers) link(ctx context.Context, d shop.Drive) string {
	return askedOf(ctx).base + "/drives/" + url.PathEscape(d.Identity.Serial)
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

// paper finds a drive and what is put on paper of it.
func (h *handlers) paper(ctx context.Context, of string) (desk.Paper, shop.Drive, error) {
	d, err := h.shop.FindDrive(ctx, of)
	if err != nil {
		return desk.Paper{}, d, err
	}
	p, err := h.shop.Paper(ctx, d)
	return p, d, err
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
	p, _, err := h.paper(ctx, r.Drive)
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
	p, d, err := h.paper(ctx, r.Drive)
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
	add("drive.json", "who the drive is, and how it stands", asJSON(func() (any, error) { return h.detailed(ctx, d) }))
	add("audit.json", "the head of the shop's audit when this was made, signed", asJSON(func() (any, error) { return h.shop.Head(ctx) }))
	add("readings.record", "every reading that counts with every byte, as a record file", func(b *bytes.Buffer) error {
		f, err := h.shop.Export(ctx, d)
		if err != nil {
			return err
		}
		return record.Write(b, f)
	})
	add("signals.csv", "every signal of every reading that counts", func(b *bytes.Buffer) error {
		moments, err := h.shop.Readings(ctx, d)
		if err != nil {
			return err
		}
		return handover.SignalsCSV(b, slices.DeleteFunc(moments, func(m shop.Moment) bool { return m.Aside != "" }))
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
