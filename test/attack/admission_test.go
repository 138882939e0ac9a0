package attack_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/demo"
)

// poured is a body of so many bytes that counts how many were taken.
type poured struct {
	left  int64
	taken *atomic.Int64
}

func (p *poured) Read(b []byte) (int, error) {
	if p.left == 0 {
		return 0, io.EOF
	}
	n := min(int64(len(b)), p.left)
	p.left -= n
	p.taken.Add(n)
	return int(n), nil
}

// Twelve bodies of 60 MiB by nobody cost 1.2 GB: they were read whole before anybody asked who sends them.
func TestNobodysBodiesAreNotRead(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, app.CreateShop(t.Context(), dir, "Maud", "kelp and gravel, twice"))
	p := begin(t, dir)
	var taken atomic.Int64
	var all sync.WaitGroup
	for path, want := range map[string]int{
		"/records": http.StatusUnauthorized, "/intakes": http.StatusUnauthorized, "/policy/replay": http.StatusUnauthorized,
		"/session": http.StatusRequestEntityTooLarge,
	} {
		for range 3 {
			all.Go(func() {
				q, err := http.NewRequestWithContext(
					t.Context(), http.MethodPost, p.address+"/api/v1"+path, &poured{60 << 20, &taken},
				)
				if !assert.NoError(t, err) {
					return
				}
				q.Header.Set("Content-Type", "application/json")
				if path == "/records" {
					q.Header.Set("Content-Type", "application/vnd.hylostat.record")
				}
				r, err := http.DefaultClient.Do(q)
				if err == nil { // else the service hung up while it was still being sent
					assert.Equal(t, want, r.StatusCode, path)
					_ = r.Body.Close()
				}
			})
		}
	}
	all.Wait()
	assert.Less(t, taken.Load(), int64(12*(6<<20)), "what the connections hold, and no more")
	_, err := p.Bays(t.Context())
	refused(t, err, http.StatusUnauthorized, "nobody is signed in")
}

// Five hundred bodies that came a byte now and then stood for ever.
func TestSlowBodiesAreHungUpOn(t *testing.T) {
	t.Parallel()
	for name, lead := range map[string]string{"in an open shop": "", "by nobody": "Maud"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			require.NoError(t, app.CreateShop(t.Context(), dir, lead, "kelp and gravel, twice"))
			hungUp(t, begin(t, dir))
		})
	}
}

func hungUp(t *testing.T, p *place) {
	const many = 250
	host := strings.TrimPrefix(p.address, "http://")
	var all sync.WaitGroup
	var gone atomic.Int64
	began := time.Now()
	for range many {
		all.Go(func() {
			c, err := (&net.Dialer{}).DialContext(t.Context(), "tcp", host)
			if !assert.NoError(t, err) {
				return
			}
			defer c.Close()
			_, _ = fmt.Fprintf(
				c, "POST /api/v1/intakes HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: 5000\r\n\r\n{", host,
			)
			ended := make(chan struct{})
			go func() { // an answer, or the end
				defer close(ended)
				_, _ = io.Copy(io.Discard, c)
			}()
			tick := time.NewTicker(500 * time.Millisecond)
			defer tick.Stop()
			for {
				select {
				case <-ended:
					gone.Add(1)
					return
				case <-tick.C:
					_, _ = c.Write([]byte(" "))
				}
				if time.Since(began) > 30*time.Second {
					return
				}
			}
		})
	}
	all.Wait()
	t.Logf("%d of %d are gone after %v", gone.Load(), many, time.Since(began).Round(time.Millisecond))
	assert.EqualValues(t, many, gone.Load())
}

// Twenty-four archives at once cost 752 MiB, and everybody else waited for them.
func TestCostlyWorkWaitsInTurn(t *testing.T) {
	t.Parallel()
	p := begin(t, t.TempDir(), demo.Build("K4", "7M511", 9_000, time.Now()))
	p.answering(1)
	var all sync.WaitGroup
	var served, told atomic.Int64
	for range 24 {
		all.Go(func() {
			q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, p.address+"/api/v1/drives/KVA077M511/archive", http.NoBody)
			if !assert.NoError(t, err) {
				return
			}
			r, err := http.DefaultClient.Do(q)
			if !assert.NoError(t, err) {
				return
			}
			defer r.Body.Close()
			_, err = io.Copy(io.Discard, r.Body)
			assert.NoError(t, err)
			switch r.StatusCode {
			case http.StatusOK:
				served.Add(1)
			case http.StatusTooManyRequests:
				told.Add(1)
				assert.NotEmpty(t, r.Header.Get("Retry-After"))
			default:
				assert.Fail(t, "neither served nor told when", "%d", r.StatusCode)
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 24, served.Load()+told.Load())
	assert.GreaterOrEqual(t, served.Load(), int64(4), "a few wait in turn")
	assert.Positive(t, told.Load(), "one caller does not fill the queue")
	gone, leave := context.WithCancel(t.Context())
	leave()
	_, err := p.Drive(gone, "7M511")
	require.True(t, errors.Is(err, context.Canceled))
	_, err = p.Archive(t.Context(), "7M511")
	require.NoError(t, err, "whoever has gone holds no place")
}
