package api

import (
	"context"
	"net/url"
)

// next is the link to where a list goes on behind the last one of a page that is full (RFC 8288); nil: it does not.
func next[T any](ctx context.Context, page []T, limit int, cursor string, of func(T) string) *string {
	if len(page) < limit || len(page) == 0 {
		return nil
	}
	asked := askedOf(ctx).url
	query := asked.Query()
	to := url.URL{Path: asked.Path}
	query.Set(cursor, of(page[len(page)-1]))
	to.RawQuery = query.Encode()
	link := "<" + to.String() + `>; rel="next"`
	return &link
}
