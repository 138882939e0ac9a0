package attack_test

import (
	"bytes"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/demo"
	"hylostat.example/internal/record"
)

// A record file dated 2099 made its reading the latest for good: what the drive was judged by was what a stranger had written, and no
// later reading changed it.
func TestARecordFromTheFutureIsNotTheLatest(t *testing.T) {
	t.Parallel()
	p, ctx := begin(t, t.TempDir(), demo.Build("K4", "7M511", 9_000, time.Now())), t.Context()
	p.answering(1)
	exported, err := p.Record(ctx, "7M511")
	require.NoError(t, err)
	f, err := record.Read(bytes.NewReader(exported))
	require.NoError(t, err)
	one := &f.Drives[0].Readings[0]
	one.ID, one.At, one.Tool, one.Place = "stranger", time.Date(2099, 1, 1, 0, 0, 0, 0, time.UTC), "a stranger's", ""
	f.Drives[0].Readings, f.Signature = f.Drives[0].Readings[:1], nil
	var file bytes.Buffer
	require.NoError(t, record.Write(&file, f))
	before, err := p.Drive(ctx, "7M511")
	require.NoError(t, err)
	done, err := p.ImportRecord(ctx, &file, "Dov")
	require.NoError(t, err)
	require.Len(t, done.Drives, 1)
	assert.Equal(t, []int{1, 1}, []int{done.Drives[0].Readings, *done.Drives[0].Aside}, "it is taken in, and set aside")
	after, err := p.Drive(ctx, "7M511")
	require.NoError(t, err)
	assert.Equal(t, before.LastRead, after.LastRead)
	assert.Equal(t, before.Grade, after.Grade)
	all, err := p.Readings(ctx, "7M511")
	require.NoError(t, err)
	aside := 0
	for i, r := range all {
		if r.Aside != nil && *r.Aside == contract.ReadingAhead {
			aside = r.Seq
			assert.Zero(t, i, "it is shown where its clock says")
		}
	}
	require.NotZero(t, aside)
	latest, err := p.Reading(ctx, "7M511", "latest", false)
	require.NoError(t, err)
	assert.NotEqual(t, aside, latest.Seq)

	_, err = p.StandReading(ctx, "7M511", aside, contract.ReadingStanding{By: "Dov", Counts: true, Why: " "})
	refused(t, err, http.StatusBadRequest, "Say why")
	ahead := time.Now().Add(time.Hour)
	_, err = p.StandReading(ctx, "7M511", aside, contract.ReadingStanding{By: "Dov", Counts: true, At: &ahead, Why: "so be it"})
	refused(t, err, http.StatusBadRequest, "lies ahead")
	past := time.Now().Add(-1000 * time.Hour)
	r, err := p.StandReading(ctx, "7M511", aside, contract.ReadingStanding{By: "Dov", Counts: true, At: &past, Why: "its clock was wrong"})
	require.NoError(t, err)
	assert.Nil(t, r.Aside)
	assert.Equal(t, 2099, r.Said.Year(), "what its clock said stays beside it")
	r, err = p.StandReading(ctx, "7M511", aside, contract.ReadingStanding{By: "Dov", Why: "it is a stranger's"})
	require.NoError(t, err)
	assert.Equal(t, contract.ReadingRetracted, *r.Aside)
}
