package access_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/access"
	"hylostat.example/internal/store"
)

type clock struct{ at time.Time }

func shopOf(t *testing.T) (*access.Access, *clock) {
	t.Helper()
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "shop.db"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	c := &clock{time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)}
	return access.New(st, func() time.Time { return c.at }), c
}

var maud = access.Actor{Name: "Maud", Role: access.Lead, Via: access.BySession}

func enter(t *testing.T, a *access.Access, name string, role access.Role, password string) {
	t.Helper()
	_, _, err := a.Enter(t.Context(), maud, access.Change{Name: name, Role: role, Password: password})
	require.NoError(t, err)
}

func TestTheFirstPersonIsALeadAndTheLastLeadStays(t *testing.T) {
	a, _ := shopOf(t)
	ctx := t.Context()
	open, err := a.Open(ctx)
	require.NoError(t, err)
	assert.True(t, open)
	_, _, err = a.Enter(ctx, maud, access.Change{Name: "Dov", Role: access.Desk, Password: "long enough"})
	assert.ErrorContains(t, err, "no lead")
	_, _, err = a.Enter(ctx, maud, access.Change{Name: "Maud", Role: access.Lead})
	assert.ErrorContains(t, err, "could not prove")
	enter(t, a, "Maud", access.Lead, "long enough")
	enter(t, a, "Dov", access.Desk, "long enough too")
	open, err = a.Open(ctx)
	require.NoError(t, err)
	assert.False(t, open)
	_, _, err = a.Enter(ctx, maud, access.Change{Name: "Maud", Role: access.Desk})
	assert.ErrorContains(t, err, "no lead", "she would be the last")
	assert.ErrorContains(t, a.Remove(ctx, maud, "Maud"), "only lead")
	require.NoError(t, a.Remove(ctx, maud, "Dov"))
	require.NoError(t, a.Remove(ctx, maud, "Maud"), "with nobody else here the shop opens again")
}

func TestSigningIn(t *testing.T) {
	a, c := shopOf(t)
	ctx := t.Context()
	enter(t, a, "Maud", access.Lead, "kelp and gravel")
	for _, wrong := range [][2]string{{"Maud", "kelp"}, {"Nobody", "kelp and gravel"}, {"Maud", ""}} {
		_, _, err := a.SignIn(ctx, wrong[0], wrong[1])
		require.ErrorAs(t, err, new(*access.Refused), wrong)
		assert.ErrorContains(t, err, "do not belong together", "whether the name exists is not told")
	}
	p, secret, err := a.SignIn(ctx, "Maud", "kelp and gravel")
	require.NoError(t, err)
	assert.Equal(t, access.Lead, p.Role)
	found := func() bool {
		who, err := a.BySession(ctx, secret)
		require.NoError(t, err)
		return who != nil
	}
	for range 30 { // in use it lasts
		c.at = c.at.Add(time.Hour)
		assert.True(t, found())
	}
	c.at = c.at.Add(access.Idle + time.Minute)
	assert.False(t, found(), "idle for too long")

	_, secret, err = a.SignIn(ctx, "Maud", "kelp and gravel")
	require.NoError(t, err)
	require.NoError(t, a.SignOut(ctx, secret))
	assert.False(t, found())

	_, secret, err = a.SignIn(ctx, "Maud", "kelp and gravel")
	require.NoError(t, err)
	enter(t, a, "Maud", access.Lead, "another one entirely")
	assert.False(t, found(), "a new password ends what was open by the old one")
}

func TestTokens(t *testing.T) {
	a, _ := shopOf(t)
	_, first, err := a.Enter(t.Context(), maud, access.Change{Name: "Maud", Role: access.Lead, Token: true})
	require.NoError(t, err)
	_, second, err := a.Enter(t.Context(), maud, access.Change{Name: "Maud", Role: access.Lead, Token: true})
	require.NoError(t, err)
	who, err := a.ByToken(t.Context(), second)
	require.NoError(t, err)
	require.NotNil(t, who)
	for _, wrong := range []string{first, "", "x"} {
		who, err = a.ByToken(t.Context(), wrong)
		require.NoError(t, err)
		assert.Nil(t, who)
	}
}

func TestRolesCover(t *testing.T) {
	assert.True(t, access.Lead.Covers(access.Desk))
	assert.True(t, access.Technician.Covers(access.Technician))
	assert.False(t, access.Desk.Covers(access.Technician))
	assert.False(t, access.Role("").Covers(access.Desk))
}
