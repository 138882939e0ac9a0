package client

import (
	"context"

	"hylostat.example/internal/contract"
)

// WatchPlans lists the plans by which drives are watched.
func (c *Client) WatchPlans(ctx context.Context) ([]contract.WatchPlan, error) {
	resp, err := c.raw.ListWatchPlans(ctx)
	return call[[]contract.WatchPlan](c, resp, err)
}

// SetWatchPlan puts a plan in force.
func (c *Client) SetWatchPlan(ctx context.Context, r contract.WatchPlanRequest) (contract.WatchPlan, error) {
	resp, err := c.raw.SetWatchPlan(ctx, r)
	return call[contract.WatchPlan](c, resp, err)
}

// EndWatchPlan ends a plan, and gives those that are left.
func (c *Client) EndWatchPlan(ctx context.Context, id int64, by string) ([]contract.WatchPlan, error) {
	resp, err := c.raw.EndWatchPlan(ctx, id, &contract.EndWatchPlanParams{By: &by})
	return call[[]contract.WatchPlan](c, resp, err)
}

// WatchedDrives lists the drives under watch, at most so many.
func (c *Client) WatchedDrives(ctx context.Context, limit int) ([]contract.Watched, error) {
	resp, err := c.raw.ListWatched(ctx, &contract.ListWatchedParams{Limit: &limit})
	return call[[]contract.Watched](c, resp, err)
}

// Watched tells how a drive is watched.
func (c *Client) Watched(ctx context.Context, drive string) (contract.Watched, error) {
	resp, err := c.raw.GetWatched(ctx, drive)
	return call[contract.Watched](c, resp, err)
}
