package api

import (
	"context"
	"strconv"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
)

func (h *handlers) ListIntakes(ctx context.Context, r server.ListIntakesRequestObject) (server.ListIntakesResponseObject, error) {
	q := shop.IntakeQuery{Open: value(r.Params.Open), Ticket: value(r.Params.Ticket), Before: value(r.Params.Before), Limit: 200}
	if r.Params.Limit != nil {
		q.Limit = *r.Params.Limit
	}
	all, err := h.shop.Intakes(ctx, q)
	if err != nil {
		return nil, err
	}
	out := make([]contract.Intake, len(all))
	for i, one := range all {
		if out[i], err = h.intake(ctx, one); err != nil {
			return nil, err
		}
	}
	last := func(i shop.Intake) string { return strconv.FormatInt(i.ID, 10) }
	return server.ListIntakes200JSONResponse{
		Body: out, Headers: server.ListIntakes200ResponseHeaders{Link: next(ctx, all, q.Limit, "before", last)},
	}, nil
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
	var instead *desk.Instead
	if b.Instead != nil {
		instead = &desk.Instead{Ticket: b.Instead.Ticket, Customer: b.Instead.Customer}
	}
	i, err := h.shop.TakeInstead(ctx, actor(ctx, b.By), in, instead)
	return server.TakeIn201JSONResponse(intakeOf(i)), err
}

func (h *handlers) ChangeIntake(ctx context.Context, r server.ChangeIntakeRequestObject) (server.ChangeIntakeResponseObject, error) {
	b := r.Body
	c := desk.Correction{
		Ticket: b.Ticket, Customer: b.Customer, Reference: b.Reference, Complaint: b.Complaint, Label: b.Label, Made: b.Made,
		Clicks: b.Clicks, Wanted: b.Wanted, Copied: b.Copied, Why: value(b.Why),
	}
	if b.Language != nil {
		l := languageOf(b.Language)
		c.Language = &l
	}
	if b.Duty != nil {
		duty, err := drive.ParseDuty(string(*b.Duty))
		if err != nil {
			return nil, &shop.Invalid{What: err.Error(), Advice: "Choose one of them."}
		}
		c.Duty = &duty
	}
	i, err := h.shop.ChangeIntake(ctx, actor(ctx, b.By), r.Intake, c)
	if err != nil {
		return nil, err
	}
	out, err := h.intake(ctx, i)
	return server.ChangeIntake200JSONResponse(out), err
}
