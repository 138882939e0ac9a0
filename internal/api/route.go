package api

import (
	"context"
	"time"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/alert"
	routes "hylostat.example/internal/core/tell"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/tell"
)

func (h *handlers) ListRoutes(ctx context.Context, _ server.ListRoutesRequestObject) (server.ListRoutesResponseObject, error) {
	all, err := h.shop.RouteList(ctx)
	return server.ListRoutes200JSONResponse(each(all, routeOf)), err
}

func (h *handlers) SetRoute(ctx context.Context, r server.SetRouteRequestObject) (server.SetRouteResponseObject, error) {
	in, err := routeIn(r.Body.Route)
	if err != nil {
		return nil, err
	}
	if in.Page == "" && in.By != routes.Console {
		in.Page = askedOf(ctx).base
	}
	set, made, err := h.shop.SetRoute(ctx, actor(ctx, r.Body.By), in, r.Body.Secret)
	if err != nil {
		return nil, err
	}
	out := routeOf(set)
	out.Made = text(made)
	return server.SetRoute200JSONResponse(out), nil
}

func (h *handlers) EndRoute(ctx context.Context, r server.EndRouteRequestObject) (server.EndRouteResponseObject, error) {
	if err := h.shop.EndRoute(ctx, actor(ctx, value(r.Params.By)), r.Route); err != nil {
		return nil, err
	}
	all, err := h.shop.RouteList(ctx)
	return server.EndRoute200JSONResponse(each(all, routeOf)), err
}

func (h *handlers) TryRoute(ctx context.Context, r server.TryRouteRequestObject) (server.TryRouteResponseObject, error) {
	t, err := h.shop.TryRoute(ctx, actor(ctx, value(r.Params.By)), r.Route)
	return server.TryRoute200JSONResponse{
		Arrived: t.Wrong == "", Wrong: text(t.Wrong), Words: append([]string{}, t.Words...),
	}, err
}

func (h *handlers) ListMessages(ctx context.Context, r server.ListMessagesRequestObject) (server.ListMessagesResponseObject, error) {
	var of []int64
	if r.Params.Alert != nil {
		of = []int64{*r.Params.Alert}
	}
	all, err := h.shop.ToldOf(ctx, of, value(r.Params.Limit))
	return server.ListMessages200JSONResponse(each(all, messageOf)), err
}

// routeIn reads a route that somebody sets.
func routeIn(s contract.RouteSetting) (r routes.Route, err error) {
	r = routes.Route{
		Name: s.Name, By: routes.Means(s.By), To: value(s.To), Server: value(s.Server), User: value(s.User), Sender: value(s.Sender),
		Trust: value(s.Trust), Least: alert.Severity(s.Least), Drives: value(s.Drives), Bench: s.Bench, Zone: value(s.Zone),
		Breaks: alert.Severity(value(s.Breaks)), After: time.Duration(value(s.AfterMin)) * time.Minute, Names: value(s.Names),
		Repeat: value(s.Repeat), Page: value(s.Page), Off: value(s.Off),
	}
	if r.Quiet, err = windowsIn(value(s.Quiet)); err != nil {
		return r, err
	}
	if at := value(s.Digest); at != "" {
		d, err := plans.ParseDaytime(at)
		if err != nil {
			return r, &shop.Invalid{What: "digest: " + err.Error(), Advice: "Write it as 07:30."}
		}
		r.Digest = &d
	}
	return r, nil
}

func routeOf(r tell.Route) contract.Route {
	s := contract.RouteSetting{
		Name: r.Name, By: contract.RouteSettingBy(r.By), To: text(r.To), Server: text(r.Server), User: text(r.User), Sender: text(r.Sender),
		Trust: text(r.Trust), Least: contract.Severity(r.Least), Bench: r.Bench, Zone: text(r.Zone),
		Breaks: optional(contract.RouteSettingBreaks(r.Breaks)), AfterMin: optional(int(r.After.Minutes())), Names: optional(r.Names),
		Repeat: optional(r.Repeat), Page: text(r.Page), Off: text(r.Off),
	}
	if len(r.Drives) > 0 {
		s.Drives = &r.Drives
	}
	if len(r.Quiet) > 0 {
		all := each(r.Quiet, windowOf)
		s.Quiet = &all
	}
	if r.Digest != nil {
		at := r.Digest.String()
		s.Digest = &at
	}
	return contract.Route{
		Route: s, Sealed: len(r.Secret) > 0, Standing: r.Standing().String(), Sent: when(r.Sent), Failed: when(r.Failed), Why: text(r.Why),
		SetBy: text(r.SetBy), At: when(r.At),
	}
}

func messageOf(m tell.Message) contract.Message {
	out := contract.Message{
		Id: m.ID, Route: m.Route, State: contract.MessageState(m.State), Due: m.Due, Tries: optional(m.Tries), Ended: when(m.Ended),
		Why: text(m.Why), Words: said(m.Body.Alert.Said), Alert: optional(m.Body.Alert.ID),
		What: optional(contract.MessageWhat(m.Body.Tells)),
	}
	if m.State == tell.Waiting {
		out.Next = &m.Next
	}
	return out
}
