package attack_test

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
)

// place is a service under attack.
type place struct {
	*client.Client
	t       *testing.T
	dir     string
	address string
	bench   *sim.Bench
	end     func() error
}

// begin serves drives, one a bay from bay 1 on, until the test ends.
func begin(t *testing.T, dir string, drives ...sim.Spec) *place {
	t.Helper()
	return beginWith(t, dir, func(*app.Options) {}, drives...)
}

// beginWith is begin for a service that differs.
func beginWith(t *testing.T, dir string, change func(*app.Options), drives ...sim.Spec) *place {
	t.Helper()
	clock, err := sim.RecallClock(dir+"/drives.json", 600)
	require.NoError(t, err)
	places := make([]drive.Address, max(1, len(drives)))
	for i := range places {
		places[i] = drive.Address("sim-" + string(rune('1'+i)))
	}
	p := &place{t: t, dir: dir, bench: sim.New(clock, dir+"/drives.json", places...)}
	for i, d := range drives {
		p.bench.Insert(places[i], d)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ready, done := make(chan string, 1), make(chan error, 1)
	go func() {
		o := app.Options{
			Dir: dir, Create: true, Shop: "Saltmarsh Lane", Bench: "north bench", Factor: 600, Source: p.bench, Rework: true,
			Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler), Ready: func(address string) { ready <- address },
		}
		change(&o)
		done <- app.Serve(ctx, o)
	}()
	ended := false
	p.end = func() error {
		if ended {
			return nil
		}
		ended = true
		cancel()
		return <-done
	}
	t.Cleanup(func() { assert.NoError(t, p.end()) })
	select {
	case p.address = <-ready:
	case err := <-done:
		ended = true
		require.NoError(t, err)
	}
	p.Client, err = client.New(p.address, "")
	require.NoError(t, err)
	return p
}

// execute changes the shop's database beside the service.
func (p *place) execute(query string) {
	p.t.Helper()
	db, err := sqlx.Open("sqlite", p.dir+"/shop.db?_pragma=busy_timeout(5000)")
	require.NoError(p.t, err)
	_, err = db.Exec(query)
	require.NoError(p.t, err)
	require.NoError(p.t, db.Close())
}

// until waits for what is to come about.
func (p *place) until(what string, is func() bool) {
	p.t.Helper()
	require.Eventually(p.t, is, 20*time.Second, 10*time.Millisecond, what)
}

// answering waits until a drive answers in a bay.
func (p *place) answering(n int) {
	p.t.Helper()
	p.until("its drive answers", func() bool {
		b, err := p.Bay(p.t.Context(), at(n))
		return err == nil && b.Connection == contract.BayConnectionAnswering && b.Drive != nil
	})
}

func at(n int) contract.BayName { return contract.BayName{Number: n} }

// refused holds that an answer is a refusal of a kind.
func refused(t *testing.T, err error, status int, words string) {
	t.Helper()
	var wrong *client.ProblemError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, status, wrong.Status, err)
	require.ErrorContains(t, err, words)
}
