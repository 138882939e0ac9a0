package attack_test

import (
	"bytes"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/record"
	"hylostat.example/internal/seal"
	"hylostat.example/test/made"
)

// A record file from a stranger was as good as one's own: nobody could tell who wrote it, and whether somebody had changed it since.
func TestARecordFileSaysWhoseItIs(t *testing.T) {
	from, to := begin(t, t.TempDir(), made.Disk("KVA077M511")), begin(t, t.TempDir())
	ctx := t.Context()
	from.answering(1)
	text, err := from.Record(ctx, "7M511")
	require.NoError(t, err)
	keys, err := from.Keys(ctx)
	require.NoError(t, err)
	require.Len(t, keys, 1)
	theirs := keys[0].Key
	f, err := record.Read(bytes.NewReader(text))
	require.NoError(t, err)
	assert.Equal(t, theirs, f.SignedBy)

	take := func(p *place, f record.File) contract.ImportResult {
		t.Helper()
		var b bytes.Buffer
		require.NoError(t, record.Write(&b, f))
		done, err := p.ImportRecord(ctx, &b, "Dov")
		require.NoError(t, err)
		return done
	}
	origins := func(p *place) (all []string) {
		list, err := p.Readings(ctx, "7M511")
		require.NoError(t, err)
		for _, r := range list {
			if r.Origin != nil {
				all = append(all, *r.Origin)
			} else {
				all = append(all, "own")
			}
		}
		return all
	}
	// Each byte that counts: nothing of a changed file is taken in
	for was, is := range map[string]string{
		`"serial": "KVA077M511"`: `"serial": "KVA077M512"`, `"tool": "`: `"tool": "9`, `"at": "2`: `"at": "1`, `"key": "`: `"key": "A`,
	} {
		changed := strings.Replace(string(text), was, is, 1)
		require.NotEqual(t, string(text), changed, was)
		_, err := to.ImportRecord(ctx, strings.NewReader(changed), "Dov")
		refused(t, err, http.StatusBadRequest, "Nothing of it was taken in")
	}
	_, err = to.Drive(ctx, "7M511")
	require.Error(t, err)

	assert.Equal(t, &contract.KeyName{Key: theirs}, take(to, f).Signed, "by a key that nobody here knows")
	assert.Equal(t, []string{theirs}, origins(to))
	named, err := to.NameKey(ctx, theirs, contract.KeyNaming{Called: "the shop in Ferry Road", By: "Dov"})
	require.NoError(t, err)
	require.Len(t, named, 2)
	assert.Equal(t, "the shop in Ferry Road", *take(to, f).Signed.Called)
	_, err = to.NameKey(ctx, "somebody", contract.KeyNaming{Called: "x", By: "Dov"})
	refused(t, err, http.StatusBadRequest, "no name of a key")

	unsigned := f
	unsigned.Signature = nil
	unsigned.Drives = []record.Drive{f.Drives[0]}
	unsigned.Drives[0].Readings = append([]record.Reading(nil), f.Drives[0].Readings...)
	unsigned.Drives[0].Readings[0].ID = "without"
	assert.Nil(t, take(to, unsigned).Signed)
	assert.ElementsMatch(t, []string{theirs, "unsigned"}, origins(to))

	// Somebody else's signature on it says whose that is, and through whom it came
	stranger, err := seal.New()
	require.NoError(t, err)
	again := unsigned
	again.Drives[0].Readings[0].ID, again.Drives[0].Readings[0].Origin = "through", "unsigned"
	require.NoError(t, again.Sign(stranger))
	assert.Equal(t, stranger.Name(), take(to, again).Signed.Key)
	assert.Contains(t, origins(to), "unsigned, through "+stranger.Name())

	// It goes on with the readings, and comes home as one's own
	carried, err := to.Record(ctx, "7M511")
	require.NoError(t, err)
	g, err := record.Read(bytes.NewReader(carried))
	require.NoError(t, err)
	assert.NotEqual(t, theirs, g.SignedBy)
	assert.True(t, take(to, g).Signed.Own)
	assert.ElementsMatch(t, []string{theirs, "unsigned", "unsigned, through " + stranger.Name()}, origins(to))
	back := take(from, f)
	assert.True(t, back.Signed.Own)
	assert.Equal(t, 1, back.Drives[0].Known)
}
