package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"hylostat.example/internal/shop"
)

// heartbeat keeps proxies and listeners from taking silence for death.
const heartbeat = 15 * time.Second

// StreamEvents serves facts as they happen. With Last-Event-ID it begins after that fact, so that nothing is missed over a
// lost connection; progress has no number and is not repeated.
func (h *handlers) StreamEvents(c *echo.Context) error {
	ctx := c.Request().Context()
	w := http.NewResponseController(c.Response())
	live := h.shop.Listen(ctx) // before the catch-up, so that nothing falls between
	var last int64
	if id := c.Request().Header.Get("Last-Event-ID"); id != "" {
		var err error
		if last, err = strconv.ParseInt(id, 10, 64); err != nil {
			return &shop.Invalid{What: fmt.Sprintf("Last-Event-ID %q is no number", id), Advice: "Send the id of the last event seen."}
		}
	} else {
		var err error
		if last, err = h.shop.LastEvent(ctx); err != nil {
			return err
		}
	}
	head := c.Response().Header()
	head.Set("Content-Type", "text/event-stream")
	head.Set("Cache-Control", "no-store")
	c.Response().WriteHeader(http.StatusOK)
	send := func(e shop.Event) error {
		body, err := json.Marshal(eventOf(e))
		if err != nil {
			return err
		}
		if e.Seq > 0 {
			last = max(last, e.Seq)
			_, err = fmt.Fprintf(c.Response(), "id: %d\nevent: fact\ndata: %s\n\n", e.Seq, body)
		} else {
			_, err = fmt.Fprintf(c.Response(), "event: progress\ndata: %s\n\n", body)
		}
		return err
	}
	if _, err := fmt.Fprintf(c.Response(), "retry: 1000\nid: %d\nevent: hello\ndata: {}\n\n", last); err != nil {
		return nil
	}
	for {
		missed, err := h.shop.Events(ctx, last, 500)
		if err != nil {
			return nil // the connection ends; the listener comes back with what it has
		}
		for _, e := range missed {
			if send(e) != nil {
				return nil
			}
		}
		if len(missed) < 500 {
			break
		}
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	people := h.access.Changes()
	for {
		_ = w.Flush() // a lost connection ends the request's context
		select {
		case <-ctx.Done():
			return nil
		case <-people: // somebody was removed, or signed out
			if people = h.access.Changes(); !h.still(c.Request()) {
				return nil
			}
		case <-tick.C:
			if !h.still(c.Request()) { // its session is over
				return nil
			}
			if _, err := fmt.Fprint(c.Response(), ": still here\n\n"); err != nil {
				return nil
			}
		case e, open := <-live:
			if !open {
				return nil // fell behind: it reconnects and catches up
			}
			if e.Seq > 0 && e.Seq <= last {
				continue
			}
			if send(e) != nil {
				return nil
			}
		}
	}
}
