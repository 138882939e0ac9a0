package api

import (
	"context"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/shop/record"
)

func volumesOf(v record.VolumesView) contract.Volumes {
	out := contract.Volumes{
		At:      v.At,
		By:      text(v.By),
		Scheme:  text(v.Layout.Scheme),
		Faults:  append([]string{}, v.Layout.Faults...),
		Volumes: []contract.Volume{},
		Says:    said(v.Says),
	}
	for _, one := range v.Layout.Volumes {
		c := contract.Volume{
			Partition: one.Partition,
			Start:     int64(one.Start),
			Bytes:     int64(one.Bytes),
			Type:      text(one.Type),
			Kind:      text(one.Kind),
			Label:     text(one.Label),
			Uuid:      text(one.UUID),
			Size:      optional(int64(one.Size)),
			State:     contract.VolumeState(one.State),
			Why:       text(one.Why),
		}
		if check, ok := v.Checks[one.Partition]; ok {
			c.Checked, c.Checker, c.Said = new(contract.VolumeChecked(check.Result)), text(check.Program), text(check.Said)
		}
		out.Volumes = append(out.Volumes, c)
	}
	return out
}

func (h *handlers) GetVolumes(ctx context.Context, r server.GetVolumesRequestObject) (server.GetVolumesResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	v, err := h.shop.Volumes(ctx, d)
	return server.GetVolumes200JSONResponse(volumesOf(v)), err
}

func (h *handlers) LookAtVolumes(ctx context.Context, r server.LookAtVolumesRequestObject) (server.LookAtVolumesResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	v, err := h.shop.LookAtVolumes(ctx, actor(ctx, r.Body.By), d)
	return server.LookAtVolumes200JSONResponse(volumesOf(v)), err
}
