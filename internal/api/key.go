package api

import (
	"context"
	"slices"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/shop"
)

// keys lists the keys that are known, the shop's own first.
func (h *handlers) keys(ctx context.Context) ([]contract.KeyName, error) {
	all, err := h.shop.Keys(ctx)
	own := contract.KeyName{Key: h.shop.KeyName(), Called: text(h.shop.Name), Own: true}
	return append([]contract.KeyName{own}, each(all, func(k shop.KnownKey) contract.KeyName {
		return contract.KeyName{Key: k.Name, Called: text(k.Called)}
	})...), err
}

// signer is who signed a file, as far as it is known; nil: nobody did.
func (h *handlers) signer(ctx context.Context, key string) (*contract.KeyName, error) {
	if key == "" {
		return nil, nil
	}
	all, err := h.keys(ctx)
	if i := slices.IndexFunc(all, func(k contract.KeyName) bool { return k.Key == key }); i >= 0 {
		return &all[i], err
	}
	return &contract.KeyName{Key: key}, err
}

func (h *handlers) ListKeys(ctx context.Context, _ server.ListKeysRequestObject) (server.ListKeysResponseObject, error) {
	all, err := h.keys(ctx)
	return server.ListKeys200JSONResponse(all), err
}

func (h *handlers) NameKey(ctx context.Context, r server.NameKeyRequestObject) (server.NameKeyResponseObject, error) {
	if err := h.shop.NameKey(ctx, actor(ctx, r.Body.By), r.Key, r.Body.Called); err != nil {
		return nil, err
	}
	all, err := h.keys(ctx)
	return server.NameKey200JSONResponse(all), err
}
