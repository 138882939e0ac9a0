package api

import (
	"bytes"
	"context"
	"fmt"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/handover"
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
