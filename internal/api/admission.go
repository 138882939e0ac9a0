package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"os"
	"strconv"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/semaphore"

	"hylostat.example/internal/access"
	"hylostat.example/internal/contract"
)

// Costly work (x-weight in the contract) waits in turn: so much of it is under way at once, so much may wait for one person or address,
// and for so long.
const (
	costlyAtOnce  = 2
	costlyForOne  = 4
	costlyPatient = 30 * time.Second
)

// How slowly a body may come: after a grace it has to come at a rate, in bytes a second.
const (
	bodyGrace = 10 * time.Second
	bodyRate  = 32 << 10
)

// strangersLimit is how large a body of somebody may be who does not say who they are, in a shop where people sign in.
const strangersLimit = 16 << 10

// turnstile lets costly work through, in turn.
type turnstile struct {
	under *semaphore.Weighted
	mu    sync.Mutex     // guards by
	by    map[string]int // how much each caller has under way or waiting
}

func newTurnstile() *turnstile {
	return &turnstile{under: semaphore.NewWeighted(costlyAtOnce), by: map[string]int{}}
}

// busy says that somebody has to wait, and for how long.
func busy(c *echo.Context, what string, after time.Duration) error {
	seconds := int(math.Ceil(after.Seconds()))
	c.Response().Header().Set("Retry-After", strconv.Itoa(seconds))
	return problem{contract.Problem{
		Status: http.StatusTooManyRequests, Title: "Too much at once", Detail: what,
		Advice: text(fmt.Sprintf("Try again in %d s.", seconds)),
	}}
}

// pass waits for the turn of work of a weight, which done ends.
func (t *turnstile) pass(c *echo.Context, caller string, weight int64) (done func(), err error) {
	t.mu.Lock()
	if t.by[caller] >= costlyForOne {
		t.mu.Unlock()
		return nil, busy(c, fmt.Sprintf("%d such requests of yours are under way or wait already", costlyForOne), costlyPatient/6)
	}
	t.by[caller]++
	t.mu.Unlock()
	leave := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.by[caller]--; t.by[caller] == 0 {
			delete(t.by, caller)
		}
	}
	patient, end := context.WithTimeout(c.Request().Context(), costlyPatient)
	defer end()
	if err := t.under.Acquire(patient, weight); err != nil {
		leave()
		if c.Request().Context().Err() != nil {
			return nil, err // whoever asked has gone
		}
		return nil, busy(c, "others' archives, papers, imports or replays go on", costlyPatient)
	}
	return func() {
		t.under.Release(weight)
		leave()
	}, nil
}

// weightOf is how much of what may be under way at once an operation takes, by its x-weight in the contract; 0: it is not costly.
func weightOf(extensions map[string]any) int64 {
	weight, _ := extensions["x-weight"].(float64)
	return min(int64(weight), costlyAtOnce)
}

// callerOf names for whom work is done: a person, or, in an open shop, an address.
func callerOf(r *http.Request, who access.Actor) string {
	if who.Name != "" {
		return "person " + who.Name
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	return "address " + host
}

// hurried is a body that has to come at a rate.
type hurried struct {
	io.ReadCloser
	connection *http.ResponseController
	deadline   time.Time // by which the next byte has to be here
	over       bool      // all of it is here
}

// hurry bounds how slowly bodies come. What nobody reads of one is thrown away by the server under the same deadline.
func hurry(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if r.Body == nil || r.Body == http.NoBody {
			return next(c)
		}
		h := &hurried{ReadCloser: r.Body, connection: http.NewResponseController(c.Response()), deadline: time.Now().Add(bodyGrace)}
		_ = h.connection.SetReadDeadline(h.deadline) // a test's recorder has none
		own := r.WithContext(r.Context())            // the server looks at its own request's body when it hangs up
		own.Body = h
		c.SetRequest(own)
		if answer, err := echo.UnwrapResponse(c.Response()); err == nil {
			answer.Before(func() {
				if !h.over { // what is left of it would be taken for the next request
					answer.Header().Set("Connection", "close")
				}
			})
		}
		return next(c)
	}
}

// Read implements io.Reader.
func (h *hurried) Read(b []byte) (int, error) {
	n, err := h.ReadCloser.Read(b)
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return n, tooSlow
	case err != nil: // it is here: the connection is watched for its end from now on, which has no deadline
		h.deadline, h.over = time.Time{}, true
	default:
		h.deadline = h.deadline.Add(time.Duration(n) * time.Second / bodyRate)
	}
	_ = h.connection.SetReadDeadline(h.deadline)
	return n, err
}

var tooSlow = problem{contract.Problem{
	Status: http.StatusRequestTimeout, Title: "Too slow", Detail: fmt.Sprintf("the body came at less than %d kB a second", bodyRate>>10),
	Advice: text("Try again over a better connection."),
}}
