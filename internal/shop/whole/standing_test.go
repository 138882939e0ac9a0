package whole_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/record"
)

// arrives takes a reading in by whatever clock, of a bay or, with 0, of elsewhere.
func (p *place) arrives(at time.Time, bay int, s state) {
	p.t.Helper()
	p.taken++
	r := protocol.Reading{ID: fmt.Sprint(p.taken), Bay: drive.Bay{Number: bay}, Key: s.key(), At: at, Pages: s.pages(), Tool: "test"}
	require.NoError(p.t, p.Take(p.t.Context(), "", protocol.Report{Reading: &r}))
}

// lived is a drive's readings in their order: their numbers, with a mark where one does not count.
func (p *place) lived() string {
	p.t.Helper()
	all, err := p.Readings(p.t.Context(), p.drive("7M511"))
	require.NoError(p.t, err)
	var said []string
	for _, m := range all {
		said = append(said, fmt.Sprintf("%d%s", m.Seq, map[shop.Aside]string{shop.Ahead: "?", shop.Retracted: "-"}[m.Aside]))
	}
	return strings.Join(said, " ")
}

// A record dated 2099 made its reading the latest, for as long as any of us lives: a drive to be replaced became undecided.
func TestTheFutureDoesNotJudge(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx, imre := t.Context(), who("Imre")
		worse := tested("KVA077M511", 9_000)
		for pending := uint64(8); pending < 200; pending *= 2 {
			worse.pending, worse.hours = pending, worse.hours+200
			p.read(200*time.Hour, worse)
		}
		before := p.drive("7M511")
		require.Equal(t, drive.Replace, before.Now.Grade)
		ahead := time.Date(2099, 1, 1, 0, 0, 0, 0, time.UTC)
		p.arrives(ahead, 0, state{serial: "KVA077M511", hours: 90_000, heat: 30})
		now := p.drive("7M511")
		assert.Equal(t, before.Now, now.Now, "nothing moved")
		assert.Equal(t, "1 2 3 4 5 6?", p.lived())
		latest, err := p.Reading(ctx, now, 0)
		require.NoError(t, err)
		assert.Equal(t, 5, latest.Seq)
		within := p.clock.at.Add(9 * time.Minute)
		p.arrives(within, 2, worse)
		assert.Equal(t, "1 2 3 4 5 7 6?", p.lived(), "clocks differ by minutes")

		_, err = p.StandReading(ctx, imre, now, 6, record.Standing{Counts: true})
		require.ErrorContains(t, err, "Say why")
		_, err = p.StandReading(ctx, imre, now, 6, record.Standing{Counts: true, At: ahead, Why: "it says so"})
		require.ErrorContains(t, err, "lies ahead")
		_, err = p.StandReading(ctx, imre, now, 60, record.Standing{Counts: true, Why: "it says so"})
		require.ErrorContains(t, err, "no reading 60")
		at := before.Now.LastAt.Add(-1000 * time.Hour)
		r, err := p.StandReading(ctx, imre, now, 6, record.Standing{Counts: true, At: at, Why: "its clock was wrong"})
		require.NoError(t, err)
		assert.Equal(t, []time.Time{at, ahead}, []time.Time{r.At, r.Said}, "what its clock said stays beside it")
		assert.Equal(t, "6 1 2 3 4 5 7", p.lived())
		_, err = p.StandReading(ctx, imre, now, 6, record.Standing{Counts: true, Why: "once more"})
		require.ErrorContains(t, err, "stands so already")
	})
}

func TestARetractedReadingCountsNoMoreUntilItIsAccepted(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx, imre := t.Context(), who("Imre")
		p.read(time.Hour, tested("KVA077M511", 9_000))
		wrong := tested("KVA077M511", 9_100)
		wrong.pending, wrong.reallocated = 4_000, 3_000
		p.read(100*time.Hour, wrong)
		was := p.drive("7M511")
		require.Equal(t, drive.Replace, was.Now.Grade)
		_, err := p.StandReading(ctx, imre, was, 2, record.Standing{Why: "its cable mixed up two drives"})
		require.NoError(t, err)
		now := p.drive("7M511")
		assert.NotEqual(t, drive.Replace, now.Now.Grade)
		assert.Equal(t, 1, now.Now.Readings)
		assert.InDelta(t, 9_000, now.Now.Hours, 0)
		assert.Equal(t, "1 2-", p.lived())
		shown, err := p.Reading(ctx, now, 2)
		require.NoError(t, err)
		assert.Equal(t, shop.Retracted, shown.Aside)
		assert.NotEmpty(t, shown.Pages, "nothing of it is lost")

		_, err = p.StandReading(ctx, imre, now, 1, record.Standing{Why: "and this one, too"})
		require.NoError(t, err)
		none := p.drive("7M511")
		assert.Equal(t, drive.Undecided, none.Now.Grade)
		assert.Zero(t, none.Now.Readings)
		v, err := p.Verdict(ctx, none)
		require.NoError(t, err)
		assert.Empty(t, v.Findings)
		_, err = p.Reading(ctx, none, 0)
		require.ErrorContains(t, err, "has no reading")
		_, _, err = p.Courses(ctx, none)
		require.NoError(t, err)
		_, err = p.Paper(ctx, none)
		require.NoError(t, err)

		for seq, why := range []string{"", "it was right", "so was it"} {
			if seq > 0 {
				_, err = p.StandReading(ctx, imre, none, seq, record.Standing{Counts: true, Why: why})
				require.NoError(t, err)
			}
		}
		again := p.drive("7M511")
		assert.Equal(t, was.Now.Grade, again.Now.Grade)
		assert.Equal(t, was.Now.First, again.Now.First)
		history, err := p.History(ctx, again)
		require.NoError(t, err)
		assert.NotEmpty(t, history)
	})
}

// A machine with an empty battery says 2001. Its reading stands where its hours say, unless others went back before.
func TestAReadingIsPlacedByItsHoursWhereItsClockIsWrong(t *testing.T) {
	t.Parallel()
	type taken struct {
		day   int // since the beginning
		hours uint64
	}
	for name, row := range map[string]struct {
		life  []taken
		bay   int // 0: elsewhere
		order string
	}{
		"an empty battery":              {[]taken{{1, 1000}, {90, 1500}, {-9000, 1200}}, 0, "1 3 2"},
		"an empty battery, now":         {[]taken{{1, 1000}, {90, 1500}, {-9000, 1600}}, 2, "1 2 3"},
		"and elsewhere":                 {[]taken{{1, 1000}, {90, 1500}, {-9000, 1600}}, 0, "3 1 2"},
		"two of them":                   {[]taken{{1, 1000}, {90, 1500}, {-9000, 1200}, {-8999, 1220}}, 0, "1 3 4 2"},
		"a record of before":            {[]taken{{1, 1000}, {90, 1500}, {-400, 700}}, 0, "3 1 2"},
		"a count that was wiped":        {[]taken{{1, 5000}, {30, 5500}, {60, 3}, {90, 200}}, 2, "1 2 3 4"},
		"a record of before that":       {[]taken{{1, 5000}, {60, 3}, {90, 200}, {-400, 4000}}, 0, "4 1 2 3"},
		"a record between both":         {[]taken{{1, 5000}, {60, 3}, {90, 200}, {30, 5500}}, 0, "1 4 2 3"},
		"a record after which it wraps": {[]taken{{60, 3}, {90, 200}, {30, 5500}}, 0, "3 1 2"},
		"a clock that was set back":     {[]taken{{100, 2000}, {101, 2024}, {80, 2048}, {81, 2072}}, 2, "1 2 3 4"},
		"set back by a hair":            {[]taken{{100, 2000}, {101, 2001}, {100, 2001}}, 2, "1 3 2"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				p := open(t)
				p.clock.at = begin.Add(1000 * 24 * time.Hour)
				for _, x := range row.life {
					p.arrives(begin.Add(time.Duration(x.day)*24*time.Hour), row.bay, state{serial: "KVA077M511", hours: x.hours, heat: 30})
				}
				assert.Equal(t, row.order, p.lived())
			})
		})
	}
}
