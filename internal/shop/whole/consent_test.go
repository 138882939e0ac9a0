package whole_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/runs"
)

// released is a shop in which a drive may be reworked, by a release of this scope.
func released(t *testing.T, scope check.Kind) (*place, shop.Intake) {
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
	return p, i
}

// reworked is a shop in which a drive is being reworked by a release of this scope.
func reworked(t *testing.T, scope, kind check.Kind) (*place, check.Run, shop.Intake) {
	t.Helper()
	p, i := released(t, scope)
	r, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), runs.Wish{Kind: kind, Ending: "A077M511"})
	require.NoError(t, err)
	p.Wait() // what the bay's coming had it ask
	ordered := p.bench.lastCheck()
	assert.Positive(t, ordered.Lasts, "the order carries the first word")
	p.bench.forget()
	return p, r, i
}

// Where two have to order an overwrite, the second is somebody else, within the hour, by the same release; a mend is for one.
func TestAnOverwriteByTwo(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p, _ := released(t, check.Overwrite)
		orders := func(by string, kind check.Kind) error {
			_, err := p.Rework(t.Context(), who(by), p.drive("7M511"), runs.Wish{Kind: kind, Ending: "A077M511", Second: true})
			p.Wait()
			return err
		}
		first := func(err error) {
			t.Helper()
			var c *shop.Conflict
			require.ErrorAs(t, err, &c)
			require.Contains(t, c.What, "you are the first")
			for _, o := range p.bench.ordered() {
				require.Nil(t, o.Rework, "nothing was ordered")
			}
		}
		first(orders("Dov", check.Overwrite))
		first(orders("Dov", check.Overwrite))
		p.clock.at = p.clock.at.Add(time.Hour + time.Second)
		first(orders("Maud", check.Overwrite))
		release := func() {
			_, err := p.RecordRelease(t.Context(), who("Dov"), p.drive("7M511"), &shop.Release{
				Scope: check.Overwrite, Owner: "Pellwick Spit, by phone",
			})
			require.NoError(t, err)
		}
		p.clock.at = p.clock.at.Add(time.Second)
		release()
		first(orders("Dov", check.Overwrite))
		require.NoError(t, orders("Maud", check.Overwrite))
		assert.NotNil(t, p.bench.lastCheck().Rework)
	})
	synctest.Test(t, func(t *testing.T) {
		p, _ := released(t, check.Overwrite)
		_, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), runs.Wish{Kind: check.Renew, Ending: "A077M511", Second: true})
		require.NoError(t, err)
		p.Wait()
	})
}

// Whatever ends a release takes the word back and stops what goes on by it; what does not lets it be.
func TestWhatEndsAReleaseEndsTheWriting(t *testing.T) {
	t.Parallel()
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
			another := shop.Intake{Bay: drive.Bay{Number: 2}, Customer: "Quillet Ferry office"}
			_, err := p.TakeInstead(p.t.Context(), who("Dov"), another, &desk.Instead{Ticket: "1", Customer: "Pellwick Spit"})
			return err
		}, "the new intake, which voids the release"},
		"it is released for more": {func(p *place, _ shop.Intake) error {
			r := &shop.Release{Scope: check.Overwrite, Owner: "Pellwick Spit, by phone"}
			_, err := p.RecordRelease(p.t.Context(), who("Dov"), p.drive("7M511"), r)
			return err
		}, ""},
		"nothing": {func(p *place, _ shop.Intake) error { return p.Reconsider(p.t.Context(), drive.Key{}) }, ""},
		"nothing, and the benches do not run yet": {func(p *place, _ shop.Intake) error { return p.Consent(p.t.Context(), "") }, ""},
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				p, r, i := reworked(t, check.Renew, check.Renew)
				require.NoError(t, row.does(p, i))
				p.Wait()
				var told []protocol.Order
				for _, o := range p.bench.ordered() {
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
	t.Parallel()
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
		require.GreaterOrEqual(t, len(p.bench.ordered()), 2)
		assert.Equal(t, []protocol.OrderKind{protocol.OrderConsent, protocol.OrderStop},
			[]protocol.OrderKind{p.bench.ordered()[0].Kind, p.bench.ordered()[1].Kind})
		now, err := p.RunByID(t.Context(), r.ID)
		require.NoError(t, err)
		assert.Equal(t, check.Done, now.State)
	})
}

func TestADriveIsNotHandedOverWhileItsBenchCannotStopTheWriting(t *testing.T) {
	t.Parallel()
	for _, order := range []protocol.OrderKind{protocol.OrderConsent, protocol.OrderStop} {
		synctest.Test(t, func(t *testing.T) {
			p, _, i := reworked(t, check.Overwrite, check.Overwrite)
			p.bench.hears = func(o protocol.Order) error {
				if o.Kind == order {
					return errors.New("its disk has no room")
				}
				return nil
			}
			asked := time.Now()
			_, err := p.HandOver(t.Context(), who("Dov"), i.ID, shop.Handover{Goes: shop.Returned})
			require.ErrorContains(t, err, "its disk has no room")
			assert.Zero(t, time.Since(asked), "nobody waits for what does not come")
			open, err := p.Intakes(t.Context(), shop.IntakeQuery{Open: true})
			require.NoError(t, err)
			assert.Len(t, open, 1, "intake %d", i.ID)
		})
	}
}

func TestAReleaseBeginsOneOverwriteAndServesForAWeek(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p, r, _ := reworked(t, check.Overwrite, check.Overwrite)
		again := func(kind check.Kind) error {
			_, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), runs.Wish{Kind: kind, Ending: "A077M511"})
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
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p, r, _ := reworked(t, check.Renew, check.Renew)
		done := make(chan struct{})
		keeping, stop := context.WithCancel(t.Context())
		go func() { defer close(done); p.KeepConsents(keeping) }()
		time.Sleep(3*time.Minute + time.Second)
		stop()
		<-done
		told := 0
		for _, o := range p.bench.ordered() {
			if o.Kind == protocol.OrderConsent && o.Run == r.ID && o.Lasts > time.Minute {
				told++
			}
		}
		assert.Equal(t, 4, told)
	})
}

// Whose release a rework rests on is told to that owner's people alone, and stands in the order where the records have forgotten it.
func TestWhoReleasedARework(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p, r, i := reworked(t, check.Renew, check.Renew)
		by := func(r check.Run) string {
			words, err := p.ReleasedBy(t.Context(), r)
			require.NoError(t, err)
			return words
		}
		assert.Equal(t, "Pellwick Spit, by letter", by(r))
		assert.Empty(t, by(check.Run{ID: 9}), "a check rests on nobody's")
		unknown := r
		told := *r.Rework
		told.Release.Intake = 99
		unknown.Rework = &told
		assert.Equal(t, "the owner, by intake 1", by(unknown))
		_, err := p.RecordRelease(t.Context(), who("Dov"), p.drive("7M511"), nil)
		require.NoError(t, err)
		assert.Equal(t, "the owner, by intake 1", by(r), "taken back since")
		_, err = p.RecordRelease(t.Context(), who("Dov"), p.drive("7M511"), i.Release)
		require.NoError(t, err)
		for _, row := range []struct{ owner, want string }{
			{"pellwick spit", "Pellwick Spit, by letter"}, {"Quillet Ferry office", "an earlier owner"},
		} {
			another := shop.Intake{Bay: drive.Bay{Number: 2}, Customer: row.owner}
			i, err = p.TakeInstead(t.Context(), who("Dov"), another, &desk.Instead{Ticket: fmt.Sprint(i.ID), Customer: i.Customer})
			require.NoError(t, err)
			assert.Equal(t, row.want, by(r), row.owner)
		}
	})
}

// A bench sees its own bays alone: that a serial answers at another one, too, the shop has to say.
func TestADriveThatAnswersAtTwoBenchesIsNotWritten(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p, r, _ := reworked(t, check.Renew, check.Renew)
		r.State, r.Outcome = check.Done, check.Stopped
		require.NoError(t, p.Take(t.Context(), "", protocol.Report{Run: &r}))
		again := func() error {
			_, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), runs.Wish{Kind: check.Renew, Ending: "A077M511"})
			return err
		}
		other := protocol.Bay{ID: drive.Bay{Number: 4}, Connection: protocol.Answering, Key: r.Key}
		require.NoError(t, p.Take(t.Context(), "", protocol.Report{Bay: &other}))
		require.NoError(t, again(), "by two paths at one bench: that one judges it")
		other.ID = drive.Bay{Bench: "field", Number: 1}
		require.NoError(t, p.Take(t.Context(), "field", protocol.Report{Bay: &other}))
		require.ErrorContains(t, again(), "the serial answers in bay field/1, too")
	})
}
