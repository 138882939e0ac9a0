package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func serving(t *testing.T, f http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(f)
	t.Cleanup(s.Close)
	c, err := New(s.URL+"/", "")
	require.NoError(t, err)
	return c
}

func TestAnAnswerThatIsNoneIsSaidToBe(t *testing.T) {
	for name, row := range map[string]struct {
		status int
		body   string
		says   string
	}{
		"a problem": {
			409, `{"title": "x", "status": 409, "detail": "bay 3 is stuck", "advice": "Leave it."}`, "bay 3 is stuck. Leave it.",
		},
		"another program":     {502, "<html>Bad gateway", "which is no answer of this service. Check --service"},
		"an unknown language": {200, "<html>", "is not understood"},
	} {
		c := serving(t, func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(row.status)
			_, _ = fmt.Fprint(w, row.body)
		})
		_, err := c.Bays(t.Context())
		assert.ErrorContains(t, err, row.says, name)
	}
	c, err := New("http://127.0.0.1:1", "")
	require.NoError(t, err)
	_, err = c.Bays(t.Context())
	var nobody *Unreachable
	require.ErrorAs(t, err, &nobody)
	assert.Contains(t, err.Error(), `Start one with "hylostat serve"`)
}

func TestEventsGoOnOverALostConnection(t *testing.T) {
	asked := make(chan string, 4)
	c := serving(t, func(w http.ResponseWriter, r *http.Request) {
		last := r.Header.Get("Last-Event-ID")
		asked <- last
		w.Header().Set("Content-Type", "text/event-stream")
		n := 5
		if last == "5" {
			n = 6
		}
		_, _ = fmt.Fprintf(
			w, "retry: 1\n: a comment\nid: %d\nevent: fact\ndata: {\"seq\":%d,\"kind\":\"bay.changed\"}\n\ndata: not JSON\n\n", n,
			n,
		)
	})
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	events := c.Events(ctx, 4).Next
	assert.EqualValues(t, 5, (<-events).Seq)
	assert.EqualValues(t, 6, (<-events).Seq)
	assert.Equal(t, "4", <-asked)
	assert.Equal(t, "5", <-asked)
	cancel()
	for range events {
		continue
	}
}

// Who may not hear is told so, with the token's own words; nobody waits for ever.
func TestARefusedStreamSaysSo(t *testing.T) {
	c := serving(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusUnauthorized)
		_, _ = io.WriteString(w, `{"status":401,"title":"Not signed in","detail":"nobody is signed in","advice":"Sign in."}`)
	})
	facts := c.Events(t.Context(), -1)
	_, open := <-facts.Next
	assert.False(t, open)
	assert.EqualError(t, facts.Err(), "nobody is signed in. Sign in.")
}
