package api

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// line is the connection of somebody who listens.
type line struct {
	mu     sync.Mutex
	header http.Header
	heard  bytes.Buffer
	lost   error // what comes of writing to it
}

func (l *line) Header() http.Header { return l.header }

func (l *line) WriteHeader(int) {}

func (l *line) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lost != nil {
		return 0, l.lost
	}
	return l.heard.Write(b)
}

func (l *line) Flush() {}

func (l *line) breaks() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lost = errors.New("the connection is lost")
}

func (l *line) has(words string) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return strings.Count(l.heard.String(), words)
}

type clock struct{}

func (clock) Now() time.Time { return time.Now() }

// A stream that is silent says that it is there; one that nobody hears any more ends; and the run's ends with its run.
func TestAStreamIsKeptWhileSomebodyListens(t *testing.T) {
	for _, path := range []string{"/events", "/runs/1/live"} {
		for name, breaks := range map[string]bool{"until they leave": false, "until it breaks": true} {
			t.Run(path+", "+name, func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					ctx, leave := context.WithCancel(t.Context())
					defer leave()
					log := slog.New(slog.DiscardHandler)
					st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "shop.db"))
					require.NoError(t, err)
					defer st.Close()
					benches, err := fleet.New(log)
					require.NoError(t, err)
					s, err := whole.New(t.Context(), "Saltmarsh Lane", st.Storage(), benches, policy.Default, clock{}, log)
					require.NoError(t, err)
					run := check.Run{
						ID: 1, Kind: check.Quick, Bay: drive.Bay{Number: 2}, Key: drive.Key{Model: "Korvan K4", Serial: "KVA077M511"},
						State: check.Running, Asked: time.Now(), By: "Dov",
					}
					require.NoError(t, s.Take(t.Context(), "", protocol.Report{Run: &run}))
					h, e, l, ended := &handlers{
						shop:   s,
						access: access.New(st, time.Now, slog.New(slog.DiscardHandler)),
					}, echo.New(), &line{header: http.Header{}}, make(chan struct{})
					e.GET("/events", h.StreamEvents)
					e.GET("/runs/:run/live", h.FollowRun)
					go func() {
						defer close(ended)
						e.ServeHTTP(l, httptest.NewRequestWithContext(ctx, http.MethodGet, path, http.NoBody))
					}()
					over := func() bool {
						synctest.Wait()
						select {
						case <-ended:
							return true
						default:
							return false
						}
					}
					time.Sleep(2*heartbeat + time.Second)
					require.False(t, over())
					assert.Equal(t, 2, l.has(": still here\n\n"))
					assert.Equal(t, 1, l.has("event: hello")+l.has("event: snapshot"))
					if breaks {
						l.breaks()
						time.Sleep(heartbeat)
						assert.True(t, over())
						return
					}
					run.State, run.Outcome, run.Ended = check.Done, check.Passed, time.Now()
					require.NoError(t, s.Take(t.Context(), "", protocol.Report{Run: &run}))
					assert.Equal(t, path != "/events", over(), "%s", l.heard.String())
					leave()
					assert.True(t, over())
				})
			})
		}
	}
}
