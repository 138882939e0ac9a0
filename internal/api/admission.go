package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
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

// lanes are those of costly work (x-lane in the contract), each with how much of it is under way at once. Nobody's label waits for a
// replay of everything recorded.
var lanes = map[string]int64{"papers": 2, "long": 1}

// Costly work waits in turn in its lane: so much of it for one person or address, under way or waiting, and for so long.
const (
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
	under map[string]*semaphore.Weighted // by lane
	mu    sync.Mutex                     // guards by
	by    map[string]int                 // how much each caller has under way or waiting
}

func newTurnstile() *turnstile {
	t := &turnstile{under: map[string]*semaphore.Weighted{}, by: map[string]int{}}
	for lane, atOnce := range lanes {
		t.under[lane] = semaphore.NewWeighted(atOnce)
	}
	return t
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

// pass waits for the turn of work in a lane, which done ends.
func (t *turnstile) pass(c *echo.Context, caller, lane string) (done func(), err error) {
	caller = lane + " of " + caller
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
	if err := t.under[lane].Acquire(patient, 1); err != nil {
		leave()
		if c.Request().Context().Err() != nil {
			return nil, err // whoever asked has gone
		}
		return nil, busy(c, "others' archives, papers, imports or replays go on", costlyPatient)
	}
	return func() {
		t.under[lane].Release(1)
		leave()
	}, nil
}

// laneOf is the lane of an operation, by its x-lane in the contract; empty: it is not costly.
func laneOf(extensions map[string]any) string {
	lane, _ := extensions["x-lane"].(string)
	return lane
}

// workFor names for whom work is done: a person, or, in an open shop, an address.
func workFor(r *http.Request, who access.Caller) string {
	if who.Name != "" {
		return "person " + who.Name
	}
	return "address " + askedOf(r.Context()).from.Address
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
