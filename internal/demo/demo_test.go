package demo

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/store"
)

func seeded(t *testing.T) (*Demo, *store.Store) {
	t.Helper()
	dir := t.TempDir()
	d, err := New(dir, 0)
	require.NoError(t, err)
	st, err := store.Open(t.Context(), filepath.Join(dir, "shop.db"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	require.NoError(t, d.Seed(t.Context(), st))
	return d, st
}

func TestTheStoriesEndAsTheyShould(t *testing.T) {
	d, st := seeded(t)
	for serial, want := range map[string]struct {
		grade drive.Grade
		first string
	}{
		"KVA077M4Q2": {drive.Replace, "Surface errors grow: "},
		"KVA077M4R9": {drive.Undecided, "Missing: a passed self-test, 168 h old at most"},
		"KVL023T9C1": {drive.Replace, "The drive raises its own alarm"},
		"KVA077M511": {drive.Degrading, "3 reallocated sectors, steady since "},
		"KVL023T8H6": {drive.Undecided, "Missing: a passed self-test, 168 h old at most"},
		"BWN11Q7E30": {drive.Replace, "More and more reads fail, "},
		"OSS0419Z4K": {drive.Replace, "replaced since it was made"},
		"BWN11Q7J9C": {drive.Replace, "The drive warns that its reliability is degraded"},
		"OSS041A002": {drive.Replace, "The drive raises its own alarm"},
		"OSS0419Z73": {drive.Undecided, "Missing: "},
		"BWS03C44G9": {drive.Degrading, "of its endurance used"},
		"OSS041A03H": {drive.Replace, "169 sectors replaced since it was made"},
		"BWL21S3D08": {drive.Undecided, ""},
		"KVA077M57Q": {drive.Healthy, ""},
		"KVA077M58V": {drive.Degrading, ""},
	} {
		found, err := st.DrivesBySuffix(t.Context(), serial)
		require.NoError(t, err)
		require.Len(t, found, 1, serial)
		assert.Equal(t, want.grade, found[0].Now.Grade, serial)
		assert.Contains(t, found[0].Now.First, want.first, serial)
		readings := months + weeks
		if serial == "OSS041A03H" {
			readings = 1
		}
		assert.Equal(t, readings, found[0].Now.Readings, serial)
	}
	all, err := st.Drives(t.Context(), shop.Query{})
	require.NoError(t, err)
	assert.Len(t, all, 65, "the silent one and what the shop has not read are not among them")
	grades, kinds := map[drive.Grade]int{}, map[drive.Interface]int{}
	for _, d := range all {
		grades[d.Now.Grade]++
		kinds[d.Identity.Interface]++
	}
	var contradicted []string
	for _, d := range all {
		v, err := st.LastVerdict(t.Context(), d.ID)
		require.NoError(t, err)
		for _, f := range slices.Concat(v.Findings, v.Notes) {
			if strings.Contains(f.Sentence, "contradicts itself") {
				contradicted = append(contradicted, d.Identity.Serial)
			}
		}
	}
	assert.Equal(t, []string{"KVA077M55B", "KVA077M56F"}, contradicted, "one was wiped, the other got a board")
	assert.Len(t, grades, 4, "every answer is in the shop")
	assert.Len(t, kinds, 3, "every interface is in the shop")

	old, err := st.DrivesBySuffix(t.Context(), "T5A07")
	require.NoError(t, err)
	assert.Equal(t, dialect.Minutes, old[0].Hints.Hours, "its clock's unit was concluded from its growth")
	assert.InDelta(t, old[0].Now.Hours, 20_000, 14_000)
	wiped, err := st.DrivesBySuffix(t.Context(), "7M55B")
	require.NoError(t, err)
	v, err := st.LastVerdict(t.Context(), wiped[0].ID)
	require.NoError(t, err)
	assert.True(
		t, slices.ContainsFunc(v.Notes, func(f verdict.Finding) bool { return f.Rule == "rollback" }),
		"counters set to zero are noticed",
	)

	require.NoError(t, d.Seed(t.Context(), st))
	moments, err := st.Moments(t.Context(), wiped[0].ID)
	require.NoError(t, err)
	require.Len(t, moments, months+weeks, "history is written once")
	assert.Greater(t, d.clock.Start.Sub(moments[0].At), 540*24*time.Hour, "eighteen months")
	assert.True(t, moments[len(moments)-1].At.Before(d.clock.Start))
}

func TestADemoGoesOnWhereItWas(t *testing.T) {
	dir := t.TempDir()
	one, err := New(dir, 0)
	require.NoError(t, err)
	two, err := New(dir, 0)
	require.NoError(t, err)
	assert.Equal(t, one.clock.Start.UnixNano(), two.clock.Start.UnixNano())
	assert.EqualValues(t, Factor, two.Factor())
}
