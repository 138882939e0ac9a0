package whole_test

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// meddling is a store in which something else happens just before the next change.
type meddling struct {
	judge.Store
	before func()
}

func (m *meddling) Write(ctx context.Context, f func(judge.Tx) error) error {
	if do := m.before; do != nil {
		m.before = nil
		do()
	}
	return m.Store.Write(ctx, f)
}

// milder is a policy that thinks nothing of a few reallocated sectors.
func milder(t *testing.T) []byte {
	t.Helper()
	const rule = "unexplained.reallocated > 0.0 && !(steady"
	text := string(policy.Default)
	require.Contains(t, text, rule)
	text = strings.Replace(text, rule, strings.Replace(rule, "> 0.0", "> 5.0", 1), 1)
	for _, example := range []string{
		"{now: {reallocated: 3}, fires: true}", "{now: {reallocated: 3, whole_sweep_age: 9}, steady: {reallocated: 400}, fires: true}",
	} {
		require.Contains(t, text, example)
		text = strings.Replace(text, example, strings.Replace(example, "reallocated: 3", "reallocated: 13", 1), 1)
	}
	return []byte(text)
}

func TestANewPolicyJudgesEveryDriveOnce(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		flawed := tested("KVA077M511", 9000)
		flawed.reallocated = 3
		p.read(0, flawed)
		flawed.hours += 80
		p.read(week, flawed)
		p.read(0, tested("KVA077M60A", 9000))
		p.read(week, tested("KVA077M60A", 9080))
		require.Equal(t, drive.Degrading, p.verdict("7M511").Grade)
		sound := p.verdict("7M60A")
		_, err := p.Sign(t.Context(), who("Imre"), p.drive("7M60A"), sound.Seq, drive.Undecided, "")
		require.NoError(t, err)
		published, err := p.Publish(t.Context(), who("Maud"), milder(t), "a few are nothing")
		require.NoError(t, err)
		n, err := p.RedecideAll(t.Context())
		require.NoError(t, err)
		assert.Equal(t, 2, n)
		v := p.verdict("7M511")
		assert.NotEqual(t, drive.Degrading, v.Grade)
		assert.Equal(t, published.Version, v.Policy)
		kept := p.verdict("7M60A")
		assert.Equal(t, sound.Seq, kept.Seq, "a policy that says the same makes no new verdict")
		assert.NotNil(t, kept.Signed, "and opens nothing that was signed")
		assert.Equal(t, published.Version, p.drive("7M60A").Now.Policy)
		n, err = p.RedecideAll(t.Context())
		require.NoError(t, err)
		assert.Zero(t, n)
	})
}

func TestADriveThatChangesWhileItIsJudgedAnewIsJudgedOnceMore(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		st, err := store.Open(t.Context(), t.TempDir()+"/shop.db")
		require.NoError(t, err)
		t.Cleanup(func() { _ = st.Close() })
		storage := st.Storage()
		between := &meddling{Store: storage.Judge}
		storage.Judge = between
		p := &place{t: t, bench: &bench{}, clock: &clock{begin}}
		p.Shop, err = whole.New(
			t.Context(), "Saltmarsh Lane", storage, benchesOf(t, st, p.bench), policy.Default, p.clock, slog.New(slog.DiscardHandler),
		)
		require.NoError(t, err)
		for i, hours := range []uint64{9000, 9080} {
			s := tested("KVA077M511", hours)
			s.pending = 12 // of the 10 that always-on use allows
			p.read(time.Duration(i)*week, s)
		}
		_, err = p.Publish(t.Context(), who("Maud"), milder(t), "a few are nothing")
		require.NoError(t, err)
		between.before = func() { // it has been judged for everyday use, and that is not stored yet
			require.NoError(t, p.SetDuty(t.Context(), who("Dov"), p.drive("7M511"), drive.Continuous))
		}
		_, err = p.RedecideAll(t.Context())
		require.NoError(t, err)
		v := p.verdict("7M511")
		assert.Equal(t, drive.Continuous, v.Duty)
		assert.Equal(t, drive.Replace, v.Grade)
		now := p.drive("7M511").Now
		assert.Equal(t, drive.Replace, now.Grade, "what was judged for another duty is not stored over it")
		assert.Equal(t, v.Seq, now.VerdictSeq)
	})
}

func TestAVerdictFromBeforeItsDigestWasKeptIsStillTheSame(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		s := tested("KVA077M511", 9000)
		p.read(0, s)
		s.hours, s.tests[0].Hours = 9080, 9079
		p.read(week, s)
		before := p.verdict("7M511")
		_, err := p.Sign(t.Context(), who("Imre"), p.drive("7M511"), before.Seq, drive.Degrading, "it hums")
		require.NoError(t, err)
		db, err := sqlx.Open("sqlite", p.file)
		require.NoError(t, err)
		_, err = db.ExecContext(t.Context(), `UPDATE drive_now SET said = NULL`)
		require.NoError(t, err)
		require.NoError(t, db.Close())
		s.hours = 9081
		p.read(week/100, s)
		after := p.verdict("7M511")
		assert.Equal(t, before.Seq, after.Seq)
		assert.NotNil(t, after.Signed)
		assert.NotNil(t, p.drive("7M511").Now.VerdictDigest, "from now on it is kept")
	})
}

func TestAReplayCalibratesTheChanceOnWhatBecameOfDrives(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		serial := func(i int) string { return fmt.Sprintf("KVA077M%03d", 100+i) }
		const drives, failed = 44, 14
		for i := range drives {
			p.read(0, tested(serial(i), 9000))
		}
		was := p.verdict(serial(0))
		require.NotNil(t, was.Risk)
		assert.Zero(t, was.Risk.Calibrated)
		began := p.clock.at
		p.clock.at = began.Add(400 * 24 * time.Hour)
		for i := range drives {
			o := shop.Outcome{By: "Imre"}
			o.Failed, o.At = i < failed, began.Add(390*24*time.Hour)
			if o.Failed {
				o.At = began.Add(100 * 24 * time.Hour)
			}
			require.NoError(t, p.SetOutcome(t.Context(), who("Dov"), p.drive(serial(i)), o))
		}
		x, err := p.Replay(t.Context(), who("Dov"), policy.Default)
		require.NoError(t, err)
		assert.Equal(t, drives, x.Risk.Outcomes)
		assert.Contains(t, x.Risk.Words, "by 44 outcomes, 14 of them failures")
		assert.Equal(t, verdict.Score{Failed: failed, Sound: drives - failed}, x.Was, "no drive was an alarm")
		assert.Equal(t, x.Was, x.Would)
		told, seen := 0.0, 0.0
		for _, tenth := range x.Risk.Tenths {
			told, seen = told+tenth.Drives, seen+tenth.Failed
		}
		assert.InDelta(t, drives, told, 1e-9)
		assert.InDelta(t, failed, seen, 1e-9)
		assert.Equal(t, was.Risk, p.verdict(serial(0)).Risk, "what was said stays as it was said")

		st, err := store.Open(t.Context(), p.file) // and it is in force where the shop begins anew
		require.NoError(t, err)
		t.Cleanup(func() { _ = st.Close() })
		again, err := whole.New(
			t.Context(), "Saltmarsh Lane", st.Storage(), benchesOf(t, st, p.bench), policy.Default, p.clock,
			slog.New(slog.DiscardHandler),
		)
		require.NoError(t, err)
		p.Shop = again
		p.read(0, tested("KVA077M999", 9000))
		now := p.verdict("KVA077M999")
		assert.Equal(t, drives, now.Risk.Calibrated)
		assert.Greater(t, now.Risk.Year, was.Risk.Year, "a third of them failed, where published rates say fewer")
	})
}
