package api

import (
	"context"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/shop/desk"
)

func bayOf(v desk.BayView) contract.Bay {
	b := contract.Bay{
		Name:       v.Bay.ID,
		Bench:      v.Bay.ID.Bench,
		Number:     v.Bay.ID.Number,
		Address:    string(v.Bay.Address),
		Connection: contract.BayConnection(v.Bay.Connection),
		Attempts:   v.Bay.Attempts,
		Since:      v.Bay.Since,
		Label:      text(v.Bay.Label),
		Hidden:     optional(v.Bay.Hidden),
		Doing:      said(v.Doing),
		Note:       saying(v.Note),
		Action:     contract.BayAction(v.Action),
		Check:      optional(contract.BayCheck(v.Check)),
		Next:       said(v.Next),
	}
	if a := v.Bay.Device; a.Node != "" {
		b.Attached = &contract.Attached{
			Node:      a.Node,
			Transport: a.Transport,
			Vendor:    text(a.Vendor),
			Model:     text(a.Model),
			Serial:    text(a.Serial),
			Bytes:     int64(a.Bytes),
			InUse:     text(a.InUse),
			Written:   optional(int64(a.Written)),
		}
		b.WriteProtected = &v.Bay.WriteProtected
	}
	if v.Drive != nil {
		d := driveOf(*v.Drive)
		b.Drive = &d
	}
	if v.Run != nil {
		r := runOf(*v.Run)
		b.Run = &r
	}
	if v.Intake != nil {
		i := intakeOf(*v.Intake)
		b.Intake = &i
	}
	if v.Bay.Fault != nil {
		f := faultOf(*v.Bay.Fault)
		b.Fault = &f
	}
	return b
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
