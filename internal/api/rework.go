package api

import (
	"context"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
)

func (h *handlers) release(ctx context.Context, name, by string, r *shop.Release) (contract.Intake, error) {
	d, err := h.shop.FindDrive(ctx, name)
	if err != nil {
		return contract.Intake{}, err
	}
	i, err := h.shop.RecordRelease(ctx, actor(ctx, by), d, r)
	return intakeOf(i), err
}

func (h *handlers) RecordRelease(ctx context.Context, r server.RecordReleaseRequestObject) (server.RecordReleaseResponseObject, error) {
	i, err := h.release(ctx, r.Drive, r.Body.By, &shop.Release{Scope: check.Kind(r.Body.Scope), Owner: r.Body.Owner})
	return server.RecordRelease200JSONResponse(i), err
}

func (h *handlers) WithdrawRelease(
	ctx context.Context, r server.WithdrawReleaseRequestObject,
) (server.WithdrawReleaseResponseObject, error) {
	i, err := h.release(ctx, r.Drive, r.Params.By, nil)
	return server.WithdrawRelease200JSONResponse(i), err
}

func (h *handlers) StartRework(ctx context.Context, r server.StartReworkRequestObject) (server.StartReworkResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	wish := runs.Wish{Kind: check.Kind(r.Body.Kind), Ending: r.Body.Ending}
	if err := h.mayDestroy(ctx, wish.Kind); err != nil {
		return nil, err
	}
	if wish.Kind == check.Overwrite {
		everybody, err := h.access.Roster(ctx)
		if err != nil {
			return nil, err
		}
		wish.Second = everybody.Demands.SecondPerson
	}
	started, err := h.shop.Rework(ctx, actor(ctx, r.Body.By), d, wish)
	return server.StartRework201JSONResponse(runOf(started)), err
}

// mayDestroy wants a fresh proof of who asks before what destroys everything.
func (h *handlers) mayDestroy(ctx context.Context, k check.Kind) error {
	if k != check.Overwrite {
		return nil
	}
	return h.access.Prove(callerOf(ctx))
}

func (h *handlers) AskRework(ctx context.Context, r server.AskReworkRequestObject) (server.AskReworkResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	kind := check.Kind(r.Params.Kind)
	if err := h.mayDestroy(ctx, kind); err != nil {
		return nil, err
	}
	ready, err := h.shop.AskRework(ctx, d, kind)
	return server.AskRework200JSONResponse{TakesS: int(ready.Takes.Seconds()), Sectors: int64(ready.Sectors)}, err
}

func (h *handlers) GetRework(ctx context.Context, r server.GetReworkRequestObject) (server.GetReworkResponseObject, error) {
	v, err := h.shop.ReworkOf(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	release := v.Run.Rework.Release
	owner, err := h.shop.ReleasedBy(ctx, v.Run)
	if err != nil {
		return nil, err
	}
	out := contract.Rework{
		Run: runOf(v.Run), Held: v.Held, Words: each(v.Says, said), Rows: []contract.Difference{},
		Release: contract.Release{Scope: contract.ReworkKind(release.Scope), Owner: owner, By: release.By, At: release.At},
	}
	if v.Compared != nil {
		before, after := summaryOf(v.Compared.Then), summaryOf(v.Compared.Now)
		out.Before, out.After, out.Rows = &before, &after, each(v.Compared.Rows, differenceOf)
	}
	return server.GetRework200JSONResponse(out), nil
}

func queueOf(q runs.Queue) contract.Queue {
	return contract.Queue{
		Bench:   q.Bench,
		Check:   text(string(q.Plan.Check)),
		By:      text(q.Plan.By),
		At:      when(q.Plan.At),
		Lot:     optional(q.Plan.Lot),
		Going:   q.Going,
		Waiting: q.Waiting,
		Done:    q.Done,
		Words:   each(q.Says, said),
	}
}

func (h *handlers) GetQueue(ctx context.Context, r server.GetQueueRequestObject) (server.GetQueueResponseObject, error) {
	q, err := h.shop.Queue(ctx, value(r.Params.Bench))
	return server.GetQueue200JSONResponse(queueOf(q)), err
}

func (h *handlers) SetPlan(ctx context.Context, r server.SetPlanRequestObject) (server.SetPlanResponseObject, error) {
	kind := check.Kind(r.Body.Check)
	if r.Body.Check == contract.PlanRequestCheckNone {
		kind = ""
	}
	q, err := h.shop.SetPlan(ctx, actor(ctx, r.Body.By), value(r.Params.Bench), kind)
	return server.SetPlan200JSONResponse(queueOf(q)), err
}
