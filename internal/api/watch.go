package api

import (
	"context"
	"errors"
	"time"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/watch"
)

func (h *handlers) ListWatchPlans(
	ctx context.Context, _ server.ListWatchPlansRequestObject,
) (server.ListWatchPlansResponseObject, error) {
	all, err := h.shop.WatchPlans(ctx)
	return server.ListWatchPlans200JSONResponse(each(all, watchPlanOf)), err
}

func (h *handlers) DraftWatchPlan(ctx context.Context, r server.DraftWatchPlanRequestObject) (server.DraftWatchPlanResponseObject, error) {
	p, err := h.planIn(ctx, *r.Body)
	if err != nil {
		return nil, err
	}
	sum, err := h.shop.Weigh(ctx, p)
	return server.DraftWatchPlan200JSONResponse{
		Words: said(p.Says()), ComesTo: said(sum.Says(p)), Drives: sum.Drives, ReadingsADay: sum.ADay, Reads: sum.Reads, Loads: sum.Loads,
		Never: each(sum.Never, func(t plans.Task) contract.WatchTask { return contract.WatchTask(t.String()) }),
	}, err
}

// planIn reads a plan, and finds the drive it names.
func (h *handlers) planIn(ctx context.Context, s contract.WatchSetting) (plans.Plan, error) {
	p, err := planOf(s)
	if name := value(s.For.Drive); err == nil && name != "" {
		d, err := h.shop.FindDrive(ctx, name)
		if err != nil {
			return p, err
		}
		p.For.Drive = &d.Identity.Key
	}
	return p, err
}

func (h *handlers) SetWatchPlan(ctx context.Context, r server.SetWatchPlanRequestObject) (server.SetWatchPlanResponseObject, error) {
	p, err := h.planIn(ctx, r.Body.Plan)
	if err != nil {
		return nil, err
	}
	set, err := h.shop.SetWatch(ctx, actor(ctx, r.Body.By), p)
	return server.SetWatchPlan200JSONResponse(watchPlanOf(set)), err
}

func (h *handlers) EndWatchPlan(ctx context.Context, r server.EndWatchPlanRequestObject) (server.EndWatchPlanResponseObject, error) {
	if err := h.shop.EndWatch(ctx, actor(ctx, value(r.Params.By)), r.Plan); err != nil {
		return nil, err
	}
	all, err := h.shop.WatchPlans(ctx)
	return server.EndWatchPlan200JSONResponse(each(all, watchPlanOf)), err
}

func (h *handlers) ListWatched(_ context.Context, r server.ListWatchedRequestObject) (server.ListWatchedResponseObject, error) {
	all := h.shop.Standings()
	if limit := value(r.Params.Limit); limit > 0 && limit < len(all) {
		all = all[:limit]
	}
	return server.ListWatched200JSONResponse(each(all, watchedOf)), nil
}

func (h *handlers) GetWatchLoad(ctx context.Context, _ server.GetWatchLoadRequestObject) (server.GetWatchLoadResponseObject, error) {
	l, err := h.shop.Load(ctx)
	return server.GetWatchLoad200JSONResponse{From: l.From, Now: l.Now, Busy: l.Busy, Limit: l.Limit}, err
}

func (h *handlers) GetWatched(ctx context.Context, r server.GetWatchedRequestObject) (server.GetWatchedResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	s, ok := h.shop.StandingOf(d.ID)
	if !ok {
		return nil, &shop.NotFound{What: d.Identity.Serial + " is not watched", Advice: "Make a plan for it."}
	}
	out := watchedOf(s)
	course, err := h.shop.CourseOf(ctx, s)
	if err != nil {
		return nil, err
	}
	ahead := each(course.Ahead, func(a watch.Ahead) contract.WatchAhead {
		return contract.WatchAhead{Task: contract.WatchTask(a.Task.String()), At: a.At}
	})
	read := append([]time.Time{}, course.Read...)
	out.Read, out.Ahead = &read, &ahead
	return server.GetWatched200JSONResponse(out), nil
}

// planOf reads a plan, but for the drive it names.
func planOf(s contract.WatchSetting) (p plans.Plan, err error) {
	p.For = plans.Scope{Lot: value(s.For.Lot), Bench: s.For.Bench, Duty: drive.Duty(value(s.For.Duty))}
	for _, c := range []struct {
		into *plans.Cadence
		text *string
		what string
	}{
		{&p.Read, s.Read, "read"},
		{&p.Short, s.Short, "short"},
		{&p.Extended, s.Extended, "extended"},
		{&p.Spot, s.Spot, "spot"},
		{&p.Whole, s.Whole, "whole"},
	} {
		if *c.into, err = plans.ParseCadence(value(c.text)); err != nil {
			return p, &shop.Invalid{What: c.what + ": " + err.Error(), Advice: "Say how often, or leave it out."}
		}
	}
	if p.Windows, err = windowsIn(value(s.Windows)); err != nil {
		return p, err
	}
	p.Share, p.Surface, p.WakeAfter, p.AtOnce = value(s.Share), value(s.Surface), value(s.WakeAfter), value(s.AtOnce)
	p.Zone = value(s.Zone)
	return p, nil
}

// windowsIn reads stretches of a day.
func windowsIn(all []contract.WatchWindow) (out []plans.Window, err error) {
	for _, w := range all {
		one := plans.Window{}
		var wrong [2]error
		one.From, wrong[0] = plans.ParseDaytime(w.From)
		one.Until, wrong[1] = plans.ParseDaytime(w.Until)
		if err := errors.Join(wrong[:]...); err != nil {
			return nil, &shop.Invalid{What: err.Error(), Advice: "Write it as 03:00."}
		}
		for _, d := range value(w.Days) {
			one.Days = append(one.Days, plans.Weekday(d))
		}
		out = append(out, one)
	}
	return out, nil
}

func windowOf(w plans.Window) contract.WatchWindow {
	out := contract.WatchWindow{From: w.From.String(), Until: w.Until.String()}
	if len(w.Days) > 0 {
		days := each(w.Days, func(d plans.Weekday) contract.WatchWindowDays { return contract.WatchWindowDays(d) })
		out.Days = &days
	}
	return out
}

func watchPlanOf(p watch.Plan) contract.WatchPlan {
	return contract.WatchPlan{
		Id: p.ID, Plan: settingOf(p.Plan), Name: said(p.For.Says()), Words: said(p.Says()), By: p.By, At: p.At,
	}
}

func settingOf(p plans.Plan) contract.WatchSetting {
	some := func(n int) *int {
		if n == 0 {
			return nil
		}
		return &n
	}
	s := contract.WatchSetting{
		Read: text(p.Read.String()), Short: text(p.Short.String()), Extended: text(p.Extended.String()), Spot: text(p.Spot.String()),
		Whole: text(p.Whole.String()), Share: some(p.Share), Surface: some(p.Surface), WakeAfter: some(p.WakeAfter), AtOnce: some(p.AtOnce),
		Zone: text(p.Zone),
	}
	switch f := p.For; {
	case f.Drive != nil:
		s.For.Drive, s.For.Model = &f.Drive.Serial, text(f.Drive.Model)
	case f.Lot != 0:
		s.For.Lot = &f.Lot
	case f.Bench != nil:
		s.For.Bench = f.Bench
	default:
		duty := contract.Duty(f.Duty)
		s.For.Duty = &duty
	}
	if len(p.Windows) > 0 {
		all := each(p.Windows, windowOf)
		s.Windows = &all
	}
	return s
}

func watchedOf(s watch.Standing) contract.Watched {
	task := func(t plans.Task) contract.WatchTask { return contract.WatchTask(t.String()) }
	d := s.Drive
	out := contract.Watched{
		Serial: d.Identity.Serial, Model: d.Identity.Model, Grade: contract.Grade(d.Now.Stands().String()), Attached: !s.Bay.IsZero(),
		Plan: s.Plan.ID, Name: said(s.Plan.For.Says()), Words: said(s.Plan.Says()), Since: s.Since, Told: when(s.Told), Asleep: s.Asleep,
		Keeps: saying(s.Keeps), Never: each(s.Never, task), Missed: append([]time.Time{}, s.Missed...),
		Comes: each(s.Comes, func(c watch.Comes) contract.WatchComes {
			return contract.WatchComes{Task: task(c.Task), Title: c.Task.Title(), Done: when(c.Done), Next: when(c.Next)}
		}),
	}
	if d.Now.HasTemp {
		out.Temperature = &d.Now.Temperature
	}
	if !s.Bay.IsZero() {
		out.Bay = &s.Bay
	}
	if s.Run != 0 {
		doing := task(s.Doing)
		out.Run, out.Doing, out.Waits = &s.Run, &doing, &s.Waits
	}
	return out
}
