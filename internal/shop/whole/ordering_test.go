package whole_test

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/runs"
)

// A rework that nothing speaks against is ordered; with exactly one thing changed it is refused, for that.
func TestWhatTheShopRefusesOfARework(t *testing.T) {
	t.Parallel()
	s := tested("KVA077M511", 9000)
	bay := func(c protocol.Connection) protocol.Bay {
		b := protocol.Bay{ID: drive.Bay{Number: 2}, Connection: c}
		if c == protocol.Answering {
			b.Key, b.Device = s.key(), drive.Attachment{Node: "sdx"}
		}
		return b
	}
	for what, row := range map[string]struct {
		change func(p *place, i shop.Intake) error
		says   string // empty: it is ordered
	}{
		"nothing":         {func(*place, shop.Intake) error { return nil }, ""},
		"it is in no bay": {func(p *place, _ shop.Intake) error { p.bay(bay(protocol.Empty)); return nil }, "is in no bay"},
		"no release": {func(p *place, _ shop.Intake) error {
			_, err := p.RecordRelease(p.t.Context(), who("Dov"), p.drive("7M511"), nil)
			return err
		}, "not released by the owner"},
		"its data is wanted": {func(p *place, i shop.Intake) error {
			wanted := true
			_, err := p.ChangeIntake(p.t.Context(), who("Dov"), i.ID, desk.Correction{Wanted: &wanted})
			return err
		}, "wanted and not copied"},
		"it was swept at an earlier visit": {func(p *place, i shop.Intake) error {
			p.clock.at = p.clock.at.Add(time.Minute)
			_, err := p.TakeInstead(p.t.Context(), who("Dov"), shop.Intake{
				Bay: i.Bay, Customer: "Pellwick Spit", Release: &shop.Release{Scope: check.Overwrite, Owner: "Pellwick Spit, by letter"},
			}, &desk.Instead{Ticket: "1", Customer: "Pellwick Spit"})
			return err
		}, "it was not swept since it was taken in"},
		"a reading as old as it may be": {func(p *place, _ shop.Intake) error {
			p.clock.at = p.drive("7M511").Now.LastAt.Add(24 * time.Hour)
			return nil
		}, ""},
		"an older reading": {func(p *place, _ shop.Intake) error {
			p.clock.at = p.drive("7M511").Now.LastAt.Add(24*time.Hour + time.Second)
			return nil
		}, "its last reading is 24 h old"},
	} {
		synctest.Test(t, func(t *testing.T) {
			p, i := released(t, check.Overwrite)
			require.NoError(t, row.change(p, i))
			p.bench.forget()
			_, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), runs.Wish{Kind: check.Overwrite, Ending: " A077M511 "})
			p.Wait()
			if row.says == "" {
				require.NoError(t, err, what)
				o := p.bench.lastCheck()
				assert.Equal(t, "A077M511", o.Rework.Ending)
				assert.NotZero(t, o.Rework.Pattern.Seed)
				assert.NotEmpty(t, o.Rework.Release.Nonce)
				assert.Equal(t, i.ID, o.Rework.Release.Intake)
				assert.Equal(t, s.key(), o.Rework.Release.Key)
				assert.Equal(t, p.clock.at.Add(10*time.Minute), o.Rework.Release.Expires)
				assert.Equal(t, 5*time.Minute, o.Lasts)
				return
			}
			require.ErrorContains(t, err, row.says, what)
		})
	}
}

// What there is to mend is what the sweeps of this intake could not read, down to the last that read everything; a link that damaged the
// last sweep's transfers is told.
func TestWhatAReworkIsTold(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p, _ := released(t, check.Mend)
		s := tested("KVA077M511", 9000)
		ordered := func(kind check.Kind) check.Rework {
			p.bench.forget()
			r, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), runs.Wish{Kind: kind, Ending: "A077M511"})
			require.NoError(t, err)
			p.Wait()
			r.State, r.Outcome = check.Done, check.Stopped
			told := *p.bench.lastCheck().Rework
			require.NoError(t, p.Take(t.Context(), "", protocol.Report{Run: &r}))
			return told
		}
		extents := func(lbas ...uint64) (all []surface.Extent) {
			for _, lba := range lbas {
				all = append(all, surface.Extent{LBA: lba, Sectors: 8})
			}
			return all
		}
		assert.Equal(t, extents(4096), ordered(check.Mend).Targets)
		p.swept(91, s, 0.4, scratch(9000, 8), scratch(800, 8))
		p.swept(92, s, 0.2, scratch(20_000, 8))
		assert.Equal(t, extents(800, 4096, 9000, 20_000), ordered(check.Mend).Targets, "of all that do not read everything, in order")
		p.swept(93, s, 1, scratch(512, 8))
		mend := ordered(check.Mend)
		assert.Equal(t, extents(512), mend.Targets, "what was before has been read again")
		assert.False(t, mend.LinkFails)
		assert.Zero(t, mend.Pattern.Seed)
		p.swept(94, s, 0.1, surface.Range{Extent: surface.Extent{LBA: 64, Sectors: 8}, Cause: surface.Damaged})
		mend = ordered(check.Mend)
		assert.True(t, mend.LinkFails)
		assert.Equal(t, extents(512), mend.Targets, "what was damaged on the way is not the surface's")
		p.swept(95, s, 0.1)
		assert.False(t, ordered(check.Mend).LinkFails, "the last one was not")
	})
	synctest.Test(t, func(t *testing.T) {
		p, _ := released(t, check.Renew)
		p.bench.forget()
		_, err := p.Rework(t.Context(), who("Dov"), p.drive("7M511"), runs.Wish{Kind: check.Renew, Ending: "A077M511"})
		require.NoError(t, err)
		p.Wait()
		assert.Empty(t, p.bench.lastCheck().Rework.Targets, "all is renewed")
	})
}

// A release is recorded with the intake the drive is on, and with none that has ended.
func TestWhereAReleaseIsRecorded(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p, i := released(t, check.Mend)
		_, err := p.HandOver(t.Context(), who("Dov"), i.ID, shop.Handover{Goes: shop.Returned})
		require.NoError(t, err)
		p.read(0, tested("KVA077M4R9", 9000))
		for _, name := range []string{"7M511", "7M4R9"} {
			release := &shop.Release{Scope: check.Overwrite, Owner: "Pellwick Spit, by phone"}
			_, err = p.RecordRelease(t.Context(), who("Dov"), p.drive(name), release)
			require.ErrorContains(t, err, "is on no open intake", name)
		}
	})
}

// That a bench has stopped a rework already is no trouble; that it cannot is, and the log says so.
func TestABenchThatDoesNotStop(t *testing.T) {
	t.Parallel()
	for what, row := range map[string]struct {
		answers error
		logged  bool
	}{
		"it has ended":     {&protocol.Refusal{Cause: "run 1 has ended"}, false},
		"it has no room":   {errors.New("its disk has no room"), true},
		"it stops in time": {nil, false},
	} {
		synctest.Test(t, func(t *testing.T) {
			p, r, _ := reworked(t, check.Renew, check.Renew)
			p.bench.hears = func(o protocol.Order) error {
				if o.Kind == protocol.OrderStop {
					return row.answers
				}
				return nil
			}
			_, err := p.RecordRelease(t.Context(), who("Dov"), p.drive("7M511"), nil)
			require.NoError(t, err, "%s: the release is taken back, whatever the bench says", what)
			p.Wait()
			p.logs.Take()
			keeping, stop := context.WithCancel(t.Context())
			done := make(chan struct{})
			go func() { defer close(done); p.KeepConsents(keeping) }()
			time.Sleep(time.Second)
			stop()
			<-done
			assert.Equal(t, row.logged, len(p.logs.Take()) > 0, what)
			told := p.bench.ordered()
			assert.Equal(t, protocol.OrderStop, told[len(told)-1].Kind)
			assert.Equal(t, r.ID, told[len(told)-1].Run)
		})
	}
}
