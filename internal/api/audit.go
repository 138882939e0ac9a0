package api

import (
	"context"
	"encoding/hex"
	"strconv"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/shop"
)

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
	rows := each(all, func(a shop.Audited) contract.Audited {
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
	})
	last := func(a shop.Audited) string { return strconv.FormatInt(a.Seq, 10) }
	if q.Limit == 0 {
		q.Limit = 100
	}
	return server.ListAudit200JSONResponse{
		Body: rows, Headers: server.ListAudit200ResponseHeaders{Link: next(ctx, all, q.Limit, "before", last)},
	}, err
}

func (h *handlers) VerifyAudit(ctx context.Context, r server.VerifyAuditRequestObject) (server.VerifyAuditResponseObject, error) {
	v, err := h.shop.VerifyAudit(ctx)
	if err != nil {
		return nil, err
	}
	out := server.VerifyAudit200JSONResponse{Rows: v.Rows, Sound: v.Bad == 0, FirstBad: optional(v.Bad)}
	if head := value(r.Params.Head); head != "" {
		holds, err := h.shop.Holds(ctx, head)
		if err != nil {
			return nil, err
		}
		out.Holds = &holds
	}
	return out, nil
}

func headOf(a shop.AuditHead) (contract.AuditHead, error) {
	key, err := a.SignedBy()
	if err != nil {
		return contract.AuditHead{}, err
	}
	return contract.AuditHead{Rows: a.Rows, Hash: a.Hash, At: a.At, Short: a.Short(), Key: key, Signature: a.Signature.Value}, nil
}

func (h *handlers) GetAuditHead(ctx context.Context, _ server.GetAuditHeadRequestObject) (server.GetAuditHeadResponseObject, error) {
	a, err := h.shop.Head(ctx)
	if err != nil {
		return nil, err
	}
	out, err := headOf(a)
	return server.GetAuditHead200JSONResponse(out), err
}
