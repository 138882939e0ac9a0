package whole_test

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// reworked is a shop in which a drive is being reworked by a release of this scope.
func reworked(t *testing.T, scope, kind check.Kind) (*place, check.Run, shop.Intake) {
	t.Helper()
	p := open(t)
	s := tested("KVA077M511", 9000)
	p.read(0, s)
	p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Answering, Key: s.key(), Device: drive.Attachment{Node: "sdx"}})
	i, err := p.TakeIn(t.Context(), who("Dov"), shop.Intake{
		Bay: drive.Bay{Number: 2}, Customer: "Pellwick Spit", Release: &shop.Release{Scope: scope, Owner: "Pellwick Spit, by letter"},
	})
	require.NoError(t, err)
	p.swept(90, s, 1, scratch(4096, 8))
	r, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), kind, "A077M511")
	require.NoError(t, err)
	ordered := p.bench.orders[len(p.bench.orders)-1]
	assert.Positive(t, ordered.Lasts, "the order carries the first word")
	p.bench.orders = nil
	return p, r, i
}

// Whatever ends a release takes the word back and stops what goes on by it; what does not lets it be.
func TestWhatEndsAReleaseEndsTheWriting(t *testing.T) {
	for what, row := range map[string]struct {
		does func(p *place, i shop.Intake) error
		void string
	}{
		"the release is withdrawn": {func(p *place, _ shop.Intake) error {
			_, err := p.RecordRelease(p.t.Context(), who("Dov"), p.drive("7M511"), nil)
			return err
		}, "the withdrawal of the release"},
		"it is released for less": {func(p *place, _ shop.Intake) error {
			r := &shop.Release{Scope: check.Mend, Owner: "Pellwick Spit, by phone"}
			_, err := p.RecordRelease(p.t.Context(), who("Dov"), p.drive("7M511"), r)
			return err
		}, "the owner, who releases it for less"},
		"a new intake": {func(p *place, _ shop.Intake) error {
			_, err := p.TakeIn(p.t.Context(), who("Dov"), shop.Intake{Bay: drive.Bay{Number: 2}, Customer: "Quillet Ferry office"})
			return err
		}, "the new intake, which voids the release"},
		"it is released for more": {func(p *place, _ shop.Intake) error {
			r := &shop.Release{Scope: check.Overwrite, Owner: "Pellwick Spit, by phone"}
			_, err := p.RecordRelease(p.t.Context(), who("Dov"), p.drive("7M511"), r)
			return err
		}, ""},
		"nothing": {func(p *place, _ shop.Intake) error { return p.Reconsider(p.t.Context(), drive.Key{}) }, ""},
		"nothing, and the benches do not run yet": {func(p *place, _ shop.Intake) error { return p.Consent(p.t.Context()) }, ""},
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				p, r, i := reworked(t, check.Renew, check.Renew)
				require.NoError(t, row.does(p, i))
				var told []protocol.Order
				for _, o := range p.bench.orders {
					if o.Run == r.ID {
						told = append(told, o)
					}
				}
				require.NotEmpty(t, told)
				assert.Equal(t, protocol.OrderConsent, told[0].Kind, "first the word")
				assert.Equal(t, row.void == "", told[0].Lasts > 0)
				if row.void == "" {
					assert.Len(t, told, 1)
					return
				}
				require.Len(t, told, 2)
				assert.Equal(t, protocol.OrderStop, told[1].Kind)
				assert.Equal(t, row.void, told[1].By)
			})
		})
	}
}

func TestAHandoverStopsARework(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, r, i := reworked(t, check.Overwrite, check.Overwrite)
		p.bench.hears = func(o protocol.Order) error { // as a bench does, it tells of the end
			ended := r
			ended.State, ended.Outcome, ended.Ended = check.Done, check.Stopped, p.clock.at
			if o.Kind != protocol.OrderStop {
				return nil
			}
			return p.Take(t.Context(), "", protocol.Report{Run: &ended})
		}
		_, err := p.HandOver(t.Context(), who("Dov"), i.ID, shop.Handover{Goes: shop.Returned})
		require.NoError(t, err)
		require.GreaterOrEqual(t, len(p.bench.orders), 2)
		assert.Equal(t, []protocol.OrderKind{protocol.OrderConsent, protocol.OrderStop},
			[]protocol.OrderKind{p.bench.orders[0].Kind, p.bench.orders[1].Kind})
		now, err := p.RunByID(t.Context(), r.ID)
		require.NoError(t, err)
		assert.Equal(t, check.Done, now.State)
	})
}

func TestAReleaseBeginsOneOverwriteAndServesForAWeek(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, r, _ := reworked(t, check.Overwrite, check.Overwrite)
		again := func(kind check.Kind) error {
			_, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), kind, "A077M511")
			return err
		}
		ended := r
		ended.State, ended.Outcome, ended.Ended = check.Done, check.Stopped, p.clock.at
		require.NoError(t, p.Take(t.Context(), "", protocol.Report{Run: &ended}))
		require.ErrorContains(t, again(check.Overwrite), "has begun an overwrite, run 1")
		require.NoError(t, again(check.Renew), "what destroys nothing may be done again")
		release := &shop.Release{Scope: check.Overwrite, Owner: "Pellwick Spit, once more"}
		p.clock.at = p.clock.at.Add(time.Minute)
		_, err := p.RecordRelease(t.Context(), who("Dov"), p.drive("7M511"), release)
		require.NoError(t, err)
		require.NoError(t, again(check.Overwrite), "a release of its own")
		for _, days := range []int{7, 8} {
			p.clock.at = p.drive("7M511").Now.LastAt.Add(time.Duration(days) * 24 * time.Hour)
			p.read(0, tested("KVA077M511", 9000+uint64(days)))
		}
		require.ErrorContains(t, again(check.Mend), "days old, and is good for 7")
	})
}

func TestEveryMinuteTheShopGivesItsWord(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, r, _ := reworked(t, check.Renew, check.Renew)
		done := make(chan struct{})
		keeping, stop := context.WithCancel(t.Context())
		go func() { defer close(done); p.KeepConsents(keeping) }()
		time.Sleep(3*time.Minute + time.Second)
		stop()
		<-done
		told := 0
		for _, o := range p.bench.orders {
			if o.Kind == protocol.OrderConsent && o.Run == r.ID && o.Lasts > time.Minute {
				told++
			}
		}
		assert.Equal(t, 4, told)
	})
}
