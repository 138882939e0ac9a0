package client

import (
	"context"

	"hylostat.example/internal/contract"
)

// SetPassword changes one's own password.
func (c *Client) SetPassword(ctx context.Context, r contract.PasswordRequest) (contract.Session, error) {
	a, err := c.raw.SetPassword(ctx, r)
	return call[contract.Session](c, a, err)
}

// Sessions lists who is signed in from where.
func (c *Client) Sessions(ctx context.Context) ([]contract.SignedIn, error) {
	a, err := c.raw.ListSessions(ctx)
	return call[[]contract.SignedIn](c, a, err)
}

// EndSession ends a session, and lists the others.
func (c *Client) EndSession(ctx context.Context, id string) ([]contract.SignedIn, error) {
	a, err := c.raw.EndSession(ctx, id)
	return call[[]contract.SignedIn](c, a, err)
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]contract.Token, error) {
	a, err := c.raw.ListTokens(ctx)
	return call[[]contract.Token](c, a, err)
}

// AddToken makes a token; its secret is in this answer alone.
func (c *Client) AddToken(ctx context.Context, r contract.TokenRequest) (contract.Token, error) {
	a, err := c.raw.AddToken(ctx, r)
	return call[contract.Token](c, a, err)
}

// EndToken ends a token, and lists the others.
func (c *Client) EndToken(ctx context.Context, id string) ([]contract.Token, error) {
	a, err := c.raw.EndToken(ctx, id)
	return call[[]contract.Token](c, a, err)
}

// Demands tells what the shop demands beyond what always is.
func (c *Client) Demands(ctx context.Context) (contract.Demands, error) {
	a, err := c.raw.GetDemands(ctx)
	return call[contract.Demands](c, a, err)
}

// SetDemands sets what the shop demands.
func (c *Client) SetDemands(ctx context.Context, r contract.DemandsRequest) (contract.Demands, error) {
	a, err := c.raw.SetDemands(ctx, r)
	return call[contract.Demands](c, a, err)
}

// Keys lists the keys by which record files are signed.
func (c *Client) Keys(ctx context.Context) ([]contract.KeyName, error) {
	a, err := c.raw.ListKeys(ctx)
	return call[[]contract.KeyName](c, a, err)
}

// NameKey says whose a key is.
func (c *Client) NameKey(ctx context.Context, key string, n contract.KeyNaming) ([]contract.KeyName, error) {
	a, err := c.raw.NameKey(ctx, key, n)
	return call[[]contract.KeyName](c, a, err)
}
