package client

import (
	"context"

	"hylostat.example/internal/contract"
)

// Alerts lists what a person should know.
func (c *Client) Alerts(ctx context.Context, p contract.ListAlertsParams) ([]contract.Alert, error) {
	resp, err := c.raw.ListAlerts(ctx, &p)
	return call[[]contract.Alert](c, resp, err)
}

// TakeAlert looks after an alert.
func (c *Client) TakeAlert(ctx context.Context, id int64, by string) (contract.Alert, error) {
	resp, err := c.raw.TakeAlert(ctx, id, &contract.TakeAlertParams{By: &by})
	return call[contract.Alert](c, resp, err)
}

// SettleAlert is done with an alert.
func (c *Client) SettleAlert(ctx context.Context, id int64, r contract.SettleRequest) (contract.Alert, error) {
	resp, err := c.raw.SettleAlert(ctx, id, r)
	return call[contract.Alert](c, resp, err)
}

// Accepted lists flaws that are known, of one drive or, with no name, of all.
func (c *Client) Accepted(ctx context.Context, drive string) ([]contract.Accepted, error) {
	p := contract.ListAcceptedParams{}
	if drive != "" {
		p.Drive = &drive
	}
	resp, err := c.raw.ListAccepted(ctx, &p)
	return call[[]contract.Accepted](c, resp, err)
}

// AcceptLevel notes that a flaw is known.
func (c *Client) AcceptLevel(ctx context.Context, drive, signal string, r contract.AcceptRequest) (contract.Accepted, error) {
	resp, err := c.raw.AcceptLevel(ctx, drive, signal, r)
	return call[contract.Accepted](c, resp, err)
}

// EndAccepted lets a signal speak again, and gives the levels that are left for the drive.
func (c *Client) EndAccepted(ctx context.Context, drive, signal, by string) ([]contract.Accepted, error) {
	resp, err := c.raw.EndAccepted(ctx, drive, signal, &contract.EndAcceptedParams{By: &by})
	return call[[]contract.Accepted](c, resp, err)
}

// AwaitRun waits for the end of a run, or not any more.
func (c *Client) AwaitRun(ctx context.Context, run int64, r contract.AwaitRequest) (contract.Run, error) {
	resp, err := c.raw.AwaitRun(ctx, run, r)
	return call[contract.Run](c, resp, err)
}
