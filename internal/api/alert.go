package api

import (
	"context"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/watch"
)

func (h *handlers) ListAlerts(ctx context.Context, r server.ListAlertsRequestObject) (server.ListAlertsResponseObject, error) {
	q := watch.AlertQuery{State: alert.State(value(r.Params.State)), Limit: value(r.Params.Limit)}
	if name := value(r.Params.Drive); name != "" {
		d, err := h.shop.FindDrive(ctx, name)
		if err != nil {
			return nil, err
		}
		q.Drive = d.ID
	}
	all, err := h.shop.AlertList(ctx, q)
	if err != nil {
		return nil, err
	}
	out := each(all, alertOf)
	if len(out) == 0 {
		return server.ListAlerts200JSONResponse(out), nil
	}
	told, err := h.shop.ToldOf(ctx, each(all, func(t watch.Told) int64 { return t.ID }), mostTold*len(all))
	for i := range out {
		var of []contract.Message
		for _, m := range told {
			if m.Body.Alert.ID == out[i].Id && len(of) < mostTold {
				of = append(of, messageOf(m))
			}
		}
		if of != nil {
			out[i].Told = &of
		}
	}
	return server.ListAlerts200JSONResponse(out), err
}

// mostTold is how many messages stand beside an alert in a list.
const mostTold = 8

func (h *handlers) TakeAlert(ctx context.Context, r server.TakeAlertRequestObject) (server.TakeAlertResponseObject, error) {
	a, err := h.shop.TakeAlert(ctx, actor(ctx, value(r.Params.By)), r.Alert)
	return server.TakeAlert200JSONResponse(alertOf(a)), err
}

func (h *handlers) SettleAlert(ctx context.Context, r server.SettleAlertRequestObject) (server.SettleAlertResponseObject, error) {
	a, err := h.shop.SettleAlert(ctx, actor(ctx, r.Body.By), r.Alert, value(r.Body.Note))
	return server.SettleAlert200JSONResponse(alertOf(a)), err
}

func (h *handlers) ListAccepted(ctx context.Context, r server.ListAcceptedRequestObject) (server.ListAcceptedResponseObject, error) {
	id := int64(0)
	if name := value(r.Params.Drive); name != "" {
		d, err := h.shop.FindDrive(ctx, name)
		if err != nil {
			return nil, err
		}
		id = d.ID
	}
	all, err := h.accepted(ctx, id)
	return server.ListAccepted200JSONResponse(all), err
}

func (h *handlers) AcceptLevel(ctx context.Context, r server.AcceptLevelRequestObject) (server.AcceptLevelResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	a := alert.Accepted{Signal: r.Signal, Level: r.Body.Level, Reason: r.Body.Reason, Until: value(r.Body.Until)}
	if a, err = h.shop.Accept(ctx, actor(ctx, r.Body.By), d, a); err != nil {
		return nil, err
	}
	out, err := h.acceptedOf(ctx, d, a)
	return server.AcceptLevel200JSONResponse(out), err
}

func (h *handlers) EndAccepted(ctx context.Context, r server.EndAcceptedRequestObject) (server.EndAcceptedResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	if err := h.shop.EndAccept(ctx, actor(ctx, value(r.Params.By)), d, r.Signal); err != nil {
		return nil, err
	}
	all, err := h.accepted(ctx, d.ID)
	return server.EndAccepted200JSONResponse(all), err
}

// accepted are the accepted levels of a drive, or of all (0).
func (h *handlers) accepted(ctx context.Context, id int64) ([]contract.Accepted, error) {
	levels, err := h.shop.Accepts(ctx, id)
	if err != nil {
		return nil, err
	}
	all := make([]contract.Accepted, len(levels))
	for i, a := range levels {
		d, err := h.shop.DriveByID(ctx, a.Drive)
		if err != nil {
			return nil, err
		}
		if all[i], err = h.acceptedOf(ctx, d, a); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (h *handlers) acceptedOf(ctx context.Context, d shop.Drive, a alert.Accepted) (contract.Accepted, error) {
	out := contract.Accepted{
		Serial: d.Identity.Serial, Signal: a.Signal, Words: a.Signal, Level: a.Level, Reason: a.Reason, Until: when(a.Until),
		By: a.By, At: a.At,
	}
	if def, ok := signal.Lookup(signal.Name(a.Signal)); ok {
		out.Words, out.Unit = def.Words, def.Unit
	}
	now, has, err := h.shop.LevelNow(ctx, d, a.Signal)
	if err != nil {
		return out, err
	}
	if has {
		out.Now = &now
	}
	out.Passed = !a.Quiets(now, h.shop.Clock.Now())
	return out, nil
}

func alertOf(t watch.Told) contract.Alert {
	out := contract.Alert{
		Id: t.ID, Kind: contract.AlertKind(t.Kind), State: contract.AlertState(t.State), Severity: contract.Severity(t.Severity),
		Of: said(watch.Subject(t.Thing, t.Of.Identity.Serial)), Words: said(t.Said), Before: t.Before, Level: t.Level, Count: t.Count,
		Opened: t.Opened, Moved: t.Moved, By: text(t.By), Note: text(t.Note), Ended: when(t.Ended), Bench: text(t.Bench),
		Name: text(t.Name),
	}
	if t.Reading != 0 {
		out.Reading = &t.Reading
	}
	if t.Drive != 0 {
		grade := contract.Grade(t.Of.Now.Stands().String())
		out.Serial, out.Model, out.Grade = &t.Of.Identity.Serial, &t.Of.Identity.Model, &grade
		if !t.Of.Now.Bay.IsZero() {
			out.Bay = &t.Of.Now.Bay
		}
	}
	return out
}
