package api

import (
	"context"
	"fmt"
	"strconv"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
)

func runOf(r check.Run) contract.Run {
	return contract.Run{
		Id:       r.ID,
		Kind:     contract.RunKind(r.Kind),
		Title:    r.Kind.Title(),
		Bay:      r.Bay,
		Serial:   r.Key.Serial,
		Model:    r.Key.Model,
		By:       r.By,
		State:    contract.RunState(r.State),
		Outcome:  optional(contract.RunOutcome(r.Outcome)),
		Standing: said(r.Stands()),
		Percent:  r.Percent(),
		LeftS:    int(r.Left().Seconds()),
		Asked:    r.Asked,
		Started:  when(r.Started),
		Ended:    when(r.Ended),
		Steps:    each(r.Steps, stepOf),
		Pause:    saying(r.Pause),
		Despite:  text(r.Despite),
	}
}

func stepOf(s check.Step) contract.Step {
	out := contract.Step{
		Kind:    string(s.Kind),
		Title:   s.Kind.Title(),
		State:   contract.StepState(s.State),
		Percent: s.Percent,
		Note:    saying(s.Note),
		Begun:   when(s.Begun),
		Ended:   when(s.Ended),
	}
	if s.Adopted {
		out.Adopted = &s.Adopted
	}
	if s.Standing != nil {
		standing := standingOf(*s.Standing)
		out.Sweep = &standing
	}
	if s.LBA != nil {
		lba := int64(*s.LBA)
		out.Lba = &lba
	}
	return out
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

func (h *handlers) ListRuns(ctx context.Context, r server.ListRunsRequestObject) (server.ListRunsResponseObject, error) {
	q := shop.RunQuery{Open: value(r.Params.Open), Before: value(r.Params.Before), Limit: 100}
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
	last := func(r check.Run) string { return strconv.FormatInt(r.ID, 10) }
	return server.ListRuns200JSONResponse{
		Body: each(all, runOf), Headers: server.ListRuns200ResponseHeaders{Link: next(ctx, all, q.Limit, "before", last)},
	}, err
}

func (h *handlers) GetRun(ctx context.Context, r server.GetRunRequestObject) (server.GetRunResponseObject, error) {
	one, err := h.shop.RunByID(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	out := runOf(one)
	by, err := h.shop.AwaitedBy(ctx, one.ID)
	if err != nil {
		return nil, err
	}
	out.Awaited = text(by)
	if one.State == check.Done {
		end, err := h.shop.EndOf(ctx, one)
		if err != nil {
			return nil, err
		}
		out.Found, out.Next, out.NextCheck = sayings(end.Found), sayings(end.Next), optional(contract.RunNextCheck(end.Check))
	}
	return server.GetRun200JSONResponse(out), nil
}

func (h *handlers) AwaitRun(ctx context.Context, r server.AwaitRunRequestObject) (server.AwaitRunResponseObject, error) {
	by := actor(ctx, r.Body.By)
	one, err := h.shop.Await(ctx, by, r.Run, r.Body.On)
	out := runOf(one)
	if r.Body.On {
		out.Awaited = &by.Name
	}
	return server.AwaitRun200JSONResponse(out), err
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
