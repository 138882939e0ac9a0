// Package service tests the whole service on loopback, through its client and through raw HTTP, with simulated drives.
package service

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
)

// service is a running one.
type service struct {
	*client.Client
	t       *testing.T
	address string
	bench   *sim.Bench
	end     func()
}

// factor makes a self-test of two minutes last a fifth of a second.
const factor = 600

// serve starts a service over simulated drives, one a bay; it keeps its records in dir.
func serve(t *testing.T, dir string, specs ...sim.Spec) *service {
	t.Helper()
	places := make([]drive.Address, len(specs))
	for i := range specs {
		places[i] = drive.Address("sim-" + string(rune('1'+i)))
	}
	clock, err := sim.RecallClock(dir+"/drives.json", factor)
	require.NoError(t, err)
	source := sim.New(clock, dir+"/drives.json", places...)
	for i, spec := range specs {
		if spec.Identity.Model != "" {
			source.Insert(places[i], spec)
		}
	}
	s := begin(t, optionsOf(dir, source))
	s.bench = source
	return s
}

// optionsOf serves simulated drives from a folder.
func optionsOf(dir string, source *sim.Bench) app.Options {
	return app.Options{
		Dir: dir, Create: true, Shop: "Saltmarsh Lane", Bench: "north bench", Factor: factor, Source: source, Rework: true,
	}
}

// begin starts a service on loopback; it ends with the test at the latest.
func begin(t *testing.T, o app.Options) *service {
	t.Helper()
	s := &service{t: t}
	ctx, cancel := context.WithCancel(context.Background())
	ready, done := make(chan string, 1), make(chan error, 1)
	o.Listen, o.Log, o.Ready = "127.0.0.1:0", slog.New(slog.NewTextHandler(t.Output(), nil)), func(address string) { ready <- address }
	go func() { done <- app.Serve(ctx, o) }()
	var ended bool
	s.end = func() {
		if !ended {
			ended = true
			cancel()
			assert.NoError(t, <-done)
		}
	}
	t.Cleanup(s.end)
	select {
	case s.address = <-ready:
	case err := <-done:
		ended = true
		require.NoError(t, err)
	}
	var err error
	s.Client, err = client.New(s.address, "")
	require.NoError(t, err)
	return s
}

// until waits for something the service needs a moment for.
func (s *service) until(what string, f func() bool) {
	s.t.Helper()
	require.Eventually(s.t, f, 10*time.Second, 10*time.Millisecond, what)
}

// at is a bay of the shop's own bench.
func at(number int) contract.BayName { return contract.BayName{Number: number} }

// answering waits for a bay's drive and gives the bay.
func (s *service) answering(number int) contract.Bay {
	s.t.Helper()
	var b contract.Bay
	s.until("the drive answers", func() (ok bool) {
		var err error
		b, err = s.Bay(s.t.Context(), at(number))
		return err == nil && b.Connection == contract.BayConnectionAnswering && b.Drive != nil
	})
	return b
}

// raw sends a request as it is and gives status and body.
func (s *service) raw(method, path, body string, head ...string) (int, string) {
	s.t.Helper()
	req, err := http.NewRequestWithContext(s.t.Context(), method, s.address+path, strings.NewReader(body))
	require.NoError(s.t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(head); i += 2 {
		req.Header.Set(head[i], head[i+1])
		if head[i] == "Host" {
			req.Host = head[i+1]
		}
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(s.t, err)
	defer func() { _ = resp.Body.Close() }()
	b, err := io.ReadAll(resp.Body)
	require.NoError(s.t, err)
	return resp.StatusCode, string(b)
}
