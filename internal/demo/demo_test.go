package demo

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
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

func TestTheStoriesOfTheSixBaysEndAsTheyShould(t *testing.T) {
	_, st := seeded(t)
	for serial, want := range map[string]struct {
		grade drive.Grade
		first string
	}{
		"KVA077M4Q2": {drive.Replace, "Surface errors grow: 6 sectors waiting, 0 sectors reallocated"},
		"KVA077M4R9": {drive.Undecided, "Missing: a passed self-test, 168 h old at most"},
		"KVL023T9C1": {drive.Replace, "The drive raises its own alarm"},
		"KVA077M511": {drive.Degrading, "3 sectors reallocated, steady since 18\u00a0403 h"},
		"KVL023T8H6": {drive.Undecided, "Missing: a passed self-test, 168 h old at most"},
	} {
		found, err := st.DrivesBySuffix(t.Context(), serial)
		require.NoError(t, err)
		require.Len(t, found, 1, serial)
		assert.Equal(t, want.grade, found[0].Now.Grade, serial)
		assert.Equal(t, want.first, found[0].Now.First, serial)
		assert.Equal(t, weeks, found[0].Now.Readings, serial)
	}
	all, err := st.Drives(t.Context(), shop.Query{})
	require.NoError(t, err)
	assert.Len(t, all, 20, "the silent one has never been seen")
	grades := map[drive.Grade]int{}
	for _, d := range all {
		grades[d.Now.Grade]++
		assert.Contains(t, []string{"Korvan K4-2000", "Korvan K2-1000", "Brackwater Eel 480"}, d.Identity.Model)
	}
	assert.Len(t, grades, 4, "every answer is in the shop")
}

func TestHistoryIsWrittenOnceAndLiesBehind(t *testing.T) {
	d, st := seeded(t)
	require.NoError(t, d.Seed(t.Context(), st))
	found, err := st.DrivesBySuffix(t.Context(), "7M4Q2")
	require.NoError(t, err)
	moments, err := st.Moments(t.Context(), found[0].ID)
	require.NoError(t, err)
	require.Len(t, moments, weeks)
	for i, m := range moments {
		assert.True(t, m.At.Before(d.clock.Start))
		if i > 0 {
			assert.Equal(t, 7*24*time.Hour, m.At.Sub(moments[i-1].At))
		}
	}
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
