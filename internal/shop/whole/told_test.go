package whole_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/alert"
	routes "hylostat.example/internal/core/tell"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/tell"
	"hylostat.example/internal/shop/watch"
	"hylostat.example/internal/shop/whole"
)

// post is a sender that keeps what it is given.
type post struct {
	mu   sync.Mutex
	sent []string
	ids  map[string]int
	down error
}

func (p *post) Send(_ context.Context, r routes.Route, secret string, l tell.Letter) ([]string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.down != nil {
		return nil, p.down
	}
	p.ids[r.Name+l.ID]++
	for i := range l.All {
		b := &l.All[i]
		p.sent = append(p.sent, fmt.Sprintf("%s%s: %s %s %s%s", r.Name, secret, b.Tells, b.Alert.Kind, b.Alert.State, b.Customer))
	}
	return []string{"> hello"}, nil
}

// gets gives what came since it was asked last. Nothing comes twice under one name.
func (p *post) gets(t *testing.T) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	for id, n := range p.ids {
		assert.Equal(t, 1, n, id)
	}
	out := p.sent
	p.sent = nil
	return out
}

func (p *post) is(down error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.down = down
}

// plainly keeps secrets as they are.
type plainly struct{}

func (plainly) Seal(s string) ([]byte, error)      { return []byte(s), nil }
func (plainly) Open(sealed []byte) (string, error) { return string(sealed), nil }

// The day of an alert: at once, in the digest, when nobody takes it; what fails is told by another; what somebody knows is not told.
func TestWhoIsToldWhen(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		mail, hook := &post{ids: map[string]int{}}, &post{ids: map[string]int{}}
		b := &bench{}
		p := openAs(t, b, func(s *whole.Storage) {
			s.Senders, s.Vault = map[routes.Means]tell.Sender{routes.Mail: mail, routes.Webhook: hook}, plainly{}
		})
		p.bench, b.shop = b, p.Shop
		w := watchingOn(t, p)
		key := w.state.key()
		_, err := w.SetWatch(t.Context(), who("Imre"), plans.Plan{
			For:  plans.Scope{Drive: &key},
			Read: plans.Cadence{Every: 24 * time.Hour},
		})
		require.NoError(t, err)
		at := plans.Daytime(7 * 60)
		mailTo := routes.Route{
			Name: "mail", By: routes.Mail, To: "imre@saltmarsh.example", Server: "smtp://mail.saltmarsh.example:587",
			Sender: "bench@saltmarsh.example", Least: alert.Digest, Digest: &at,
		}
		secret := ", sealed"
		_, _, err = w.SetRoute(t.Context(), who("Imre"), mailTo, &secret)
		require.NoError(t, err)
		mailTo.To += ", maud@saltmarsh.example" // its server knows the secret, not whom it writes to
		_, _, err = w.SetRoute(t.Context(), who("Imre"), mailTo, nil)
		require.NoError(t, err)
		elsewhere := mailTo
		elsewhere.Server = "smtp://mail.elsewhere.example:587"
		set, _, err := w.SetRoute(t.Context(), who("Imre"), elsewhere, nil)
		require.NoError(t, err)
		assert.Nil(t, set.Secret, "another server is not told it")
		_, _, err = w.SetRoute(t.Context(), who("Imre"), mailTo, &secret)
		require.NoError(t, err)
		late := mailTo
		late.Name, late.Least, late.Digest, late.After = "lead", alert.Now, nil, 30*time.Minute
		_, _, err = w.SetRoute(t.Context(), who("Imre"), late, nil)
		require.NoError(t, err)
		desk := routes.Route{Name: "desk", By: routes.Webhook, To: "https://desk.saltmarsh.example/", Least: alert.Now}
		_, made, err := w.SetRoute(t.Context(), who("Imre"), desk, nil)
		require.NoError(t, err)
		assert.Contains(t, made, "whsec_")

		is := func(kind alert.Kind, loud alert.Severity) {
			_, err := shop.Apply(t.Context(), w.Books, w.storage.Tell, func(tx tell.Tx) ([]shop.Event, error) {
				return w.OfService(t.Context(), tx, alert.Seen{
					Thing: alert.Thing{Kind: kind}, At: w.clock.at, Level: 1, Severity: loud, Said: wording.Phrase{Text: "x"},
				})
			})
			require.NoError(t, err)
			w.pass(time.Second)
		}
		is(alert.DiskFull, alert.Now)
		assert.Equal(t, []string{"mail, sealed: opened disk_full open"}, mail.gets(t))
		assert.Equal(t, []string{"desk" + made + ": opened disk_full open"}, hook.gets(t))
		w.pass(29 * time.Minute)
		assert.Empty(t, mail.gets(t))
		w.pass(2 * time.Minute)
		assert.Equal(t, []string{"lead: opened disk_full open"}, mail.gets(t), "nobody takes it")

		is(alert.BackupLate, alert.Now)
		mail.gets(t)
		hook.gets(t)
		list, err := w.AlertList(t.Context(), watch.AlertQuery{State: alert.Open, Limit: 9})
		require.NoError(t, err)
		_, err = w.TakeAlert(t.Context(), who("Dov"), list[0].ID)
		require.NoError(t, err)
		w.pass(time.Hour)
		assert.Empty(t, mail.gets(t), "Dov looks after it")

		is(alert.ReplicaLate, alert.Digest)
		is(alert.ClockMoved, alert.Digest)
		assert.Empty(t, mail.gets(t))
		assert.Empty(t, hook.gets(t), "too little for it")
		w.pass(24 * time.Hour)
		assert.Equal(t, []string{
			"mail, sealed: opened replica_late open", "mail, sealed: opened clock_moved open",
		}, mail.gets(t), "both in one letter")

		mail.is(errors.New("no answer"))
		is(alert.BenchPulled, alert.Now)
		hook.gets(t)
		for range 4 {
			w.pass(2 * time.Minute)
		}
		assert.Equal(t, []string{"desk" + made + ": opened route_failed open"}, hook.gets(t))
		mail.is(nil)
		for range 3 {
			w.pass(time.Hour)
		}
		assert.Equal(t, []string{
			"lead: opened bench_pulled open", "lead: opened route_failed open",
			"mail, sealed: opened bench_pulled open",
		}, slices.Sorted(slices.Values(mail.gets(t))))
		mail.is(&tell.Gone{Why: "gone"})
		is(alert.BenchSilent, alert.Wake)
		all, err := w.RouteList(t.Context())
		require.NoError(t, err)
		assert.Equal(t, "gone", all[2].Off, all[2].Name)
		mail.is(nil)
		is(alert.DiskFull, alert.Wake)
		assert.Empty(t, mail.gets(t), "it is switched off")
	})
}

// late is a storage that takes a while to say what is due: what was on its way when it was asked may have arrived by then.
type late struct{ tell.Store }

func (l late) DueMessages(ctx context.Context, now time.Time, limit int) ([]tell.Message, error) {
	all, err := l.Store.DueMessages(ctx, now, limit)
	time.Sleep(5 * time.Second)
	return all, err
}

// slow is a sender that takes its time.
type slow struct{ *post }

func (s slow) Send(ctx context.Context, r routes.Route, secret string, l tell.Letter) ([]string, error) {
	time.Sleep(7 * time.Second)
	return s.post.Send(ctx, r, secret, l)
}

// Whoever looks at the outbox while a letter arrives does not send it again.
func TestWhatArrivesMeanwhileIsNotSentAgain(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		hook := &post{ids: map[string]int{}}
		b := &bench{}
		p := openAs(t, b, func(s *whole.Storage) {
			s.Tell, s.Vault = late{s.Tell}, plainly{}
			s.Senders = map[routes.Means]tell.Sender{routes.Webhook: slow{hook}}
		})
		p.bench, b.shop = b, p.Shop
		w := watchingOn(t, p)
		desk := routes.Route{Name: "desk", By: routes.Webhook, To: "https://desk.saltmarsh.example/", Least: alert.Now}
		_, _, err := w.SetRoute(t.Context(), who("Imre"), desk, nil)
		require.NoError(t, err)
		require.NoError(t, w.ClockMoved(t.Context(), time.Hour))
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		assert.Len(t, hook.gets(t), 1)
	})
}

// full is a storage that at times keeps nothing.
type full struct {
	tell.Store
	is *atomic.Bool
}

func (f full) Write(ctx context.Context, do func(tx tell.Tx) error) error {
	if f.is.Load() {
		return errors.New("no room")
	}
	return f.Store.Write(ctx, do)
}

// What was told and cannot be noted is not told again as long as the service runs.
func TestAFullDiskTellsNobodyTwice(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		hook, b, is := &post{ids: map[string]int{}}, &bench{}, &atomic.Bool{}
		p := openAs(t, b, func(s *whole.Storage) {
			s.Tell, s.Vault = full{s.Tell, is}, plainly{}
			s.Senders = map[routes.Means]tell.Sender{routes.Webhook: hook}
		})
		p.bench, b.shop = b, p.Shop
		w := watchingOn(t, p)
		desk := routes.Route{Name: "desk", By: routes.Webhook, To: "https://desk.saltmarsh.example/", Least: alert.Now}
		_, _, err := w.SetRoute(t.Context(), who("Imre"), desk, nil)
		require.NoError(t, err)
		is.Store(true)
		require.NoError(t, w.ClockMoved(t.Context(), time.Hour))
		time.Sleep(time.Minute)
		synctest.Wait()
		assert.Len(t, hook.gets(t), 1)
		is.Store(false)
		time.Sleep(time.Minute)
		synctest.Wait()
		assert.Empty(t, hook.gets(t))
		all, err := w.ToldOf(t.Context(), nil, 10)
		require.NoError(t, err)
		for _, m := range all {
			assert.Equal(t, tell.Sent, m.State, m.Route)
		}
	})
}
