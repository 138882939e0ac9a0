package client

import (
	"context"

	"hylostat.example/internal/contract"
)

// Routes lists who is told of alerts.
func (c *Client) Routes(ctx context.Context) ([]contract.Route, error) {
	resp, err := c.raw.ListRoutes(ctx)
	return call[[]contract.Route](c, resp, err)
}

// SetRoute makes a route, or puts another in the place of the one of that name.
func (c *Client) SetRoute(ctx context.Context, r contract.RouteRequest) (contract.Route, error) {
	resp, err := c.raw.SetRoute(ctx, r)
	return call[contract.Route](c, resp, err)
}

// EndRoute ends a route, and gives those that are left.
func (c *Client) EndRoute(ctx context.Context, name, by string) ([]contract.Route, error) {
	resp, err := c.raw.EndRoute(ctx, name, &contract.EndRouteParams{By: &by})
	return call[[]contract.Route](c, resp, err)
}

// TryRoute sends a letter that says it is a trial.
func (c *Client) TryRoute(ctx context.Context, name, by string) (contract.RouteTrial, error) {
	resp, err := c.raw.TryRoute(ctx, name, &contract.TryRouteParams{By: &by})
	return call[contract.RouteTrial](c, resp, err)
}

// Messages lists what was told, of one alert or, with none, of all.
func (c *Client) Messages(ctx context.Context, alert int64, limit int) ([]contract.Message, error) {
	p := contract.ListMessagesParams{Limit: &limit}
	if alert != 0 {
		p.Alert = &alert
	}
	resp, err := c.raw.ListMessages(ctx, &p)
	return call[[]contract.Message](c, resp, err)
}
