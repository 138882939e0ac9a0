package client

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"hylostat.example/internal/contract"
)

// Facts are what the service tells as it happens.
type Facts struct {
	Next <-chan contract.Event // closes with the context, or when the service refuses to tell any
	err  error                 // read once Next is closed
}

// Err is why the service refuses to tell, once Next is closed; nil when the context ended.
func (f *Facts) Err() error { return f.err }

// Events delivers facts and progress until the context ends, over lost connections: what was missed comes later. It begins
// after the fact with number after, or with what happens from now on when after is negative: the service listens when Events
// comes back, unless it could not be reached at once.
func (c *Client) Events(ctx context.Context, after int64) *Facts {
	out, begun := make(chan contract.Event, 64), make(chan struct{})
	begin := sync.OnceFunc(func() { close(begun) })
	f := &Facts{Next: out}
	go func() {
		defer close(out)
		defer begin()
		for ctx.Err() == nil {
			if err := c.stream(ctx, &after, begin, out); err != nil {
				f.err = err
				return
			}
			begin()
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}()
	<-begun
	return f
}

// stream reads one connection until it ends. The error is the service's refusal; a connection that is lost is none.
func (c *Client) stream(ctx context.Context, last *int64, begun func(), out chan<- contract.Event) error {
	params := &contract.StreamEventsParams{}
	if *last >= 0 {
		id := strconv.FormatInt(*last, 10)
		params.LastEventID = &id
	}
	resp, err := c.raw.StreamEvents(ctx, params)
	if err != nil {
		return nil //nolint:nilerr // it is asked again
	}
	if resp.StatusCode >= http.StatusInternalServerError {
		return resp.Body.Close()
	}
	if resp.StatusCode != http.StatusOK {
		_, err := c.answer(resp, nil)
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		begun()
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "id":
			if n, err := strconv.ParseInt(value, 10, 64); err == nil {
				*last = n
			}
		case "data":
			var e contract.Event
			if json.Unmarshal([]byte(value), &e) != nil || e.Kind == "" {
				continue
			}
			select {
			case out <- e:
			case <-ctx.Done():
				return nil
			}
		}
	}
	return nil
}
