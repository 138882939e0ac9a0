package api

import (
	"context"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
)

// handlers implement the generated strict interface. Each finds what the request names, asks the shop, and maps the answer.
type handlers struct {
	shop    *whole.Shop
	access  *access.Access
	version string
	warning func() string // nil: nobody looks
}

var _ server.StrictServerInterface = (*handlers)(nil)

func (h *handlers) GetService(context.Context, server.GetServiceRequestObject) (server.GetServiceResponseObject, error) {
	p := h.shop.Policy()
	benches := h.shop.Benches()
	own := benches[0]
	var warning *string
	if h.warning != nil {
		warning = text(h.warning())
	}
	return server.GetService200JSONResponse{
		Shop: h.shop.Name, Bench: own.Title, Factor: own.Factor, Version: h.version, Time: h.shop.Clock.Now(), Rework: own.Rework,
		Benches: each(benches, func(b fleet.Standing) contract.Bench {
			return contract.Bench{Name: b.Name, Title: b.Title, Rework: b.Rework, Away: b.Away, Why: text(b.Why)}
		}),
		Policy: contract.PolicySummary{Version: p.Version, Name: p.Name, Rules: len(p.Rules)}, Warning: warning,
	}, nil
}

func each[A, B any](in []A, f func(A) B) []B {
	out := make([]B, len(in))
	for i, a := range in {
		out[i] = f(a)
	}
	return out
}

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}
