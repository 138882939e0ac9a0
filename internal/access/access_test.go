package access_test

import (
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
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
	_, _, err = a.Enter(ctx, maud, access.Change{Name: "Dov", Role: access.Desk, Password: "long enough now"})
	assert.ErrorContains(t, err, "no lead")
	_, _, err = a.Enter(ctx, maud, access.Change{Name: "Maud", Role: access.Lead, Password: "elf letters"})
	assert.ErrorContains(t, err, "11 characters is too short")
	_, _, err = a.Enter(ctx, maud, access.Change{Name: "Maud", Role: access.Lead})
	assert.ErrorContains(t, err, "could not prove")
	enter(t, a, "Maud", access.Lead, "long enough now")
	enter(t, a, "Dov", access.Desk, "long enough too")
	open, err = a.Open(ctx)
	require.NoError(t, err)
	assert.False(t, open)
	_, _, err = a.Enter(ctx, maud, access.Change{Name: "Maud", Role: access.Desk})
	assert.ErrorContains(t, err, "no lead", "she would be the last")
	assert.ErrorContains(t, a.Remove(ctx, maud, "Maud"), "only lead")
	require.NoError(t, a.Remove(ctx, maud, "Dov"))
	assert.ErrorContains(t, a.Remove(ctx, maud, "Maud"), "only lead", "a closed shop does not open again")
	assert.ErrorAs(t, a.Remove(ctx, maud, "Imre"), new(*access.Unknown))
}

// Two leads who remove each other, or step down, in the same moment: one of them is late.
func TestTheLastLeadStaysHoweverManyGoAtOnce(t *testing.T) {
	for name, goes := range map[string]func(a *access.Access, name string) error{
		"removed": func(a *access.Access, name string) error { return a.Remove(t.Context(), maud, name) },
		"made desk": func(a *access.Access, name string) error {
			_, _, err := a.Enter(t.Context(), maud, access.Change{Name: name, Role: access.Desk})
			return err
		},
	} {
		a, _ := shopOf(t)
		leads := []string{"Maud", "Dov", "Imre", "Tilde"}
		for _, lead := range leads {
			_, _, err := a.Enter(t.Context(), maud, access.Change{Name: lead, Role: access.Lead, Token: true})
			require.NoError(t, err)
		}
		var all sync.WaitGroup
		var refused atomic.Int64
		for _, lead := range leads {
			all.Go(func() {
				if goes(a, lead) != nil {
					refused.Add(1)
				}
			})
		}
		all.Wait()
		assert.EqualValues(t, 1, refused.Load(), name)
		people, err := a.People(t.Context())
		require.NoError(t, err)
		assert.Len(t, slices.DeleteFunc(people, func(p access.Person) bool { return p.Role != access.Lead }), 1, name)
	}
}

// However the people went, the shop stays closed.
func TestAClosedShopDoesNotOpenAgain(t *testing.T) {
	file := filepath.Join(t.TempDir(), "shop.db")
	st, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	defer st.Close()
	a := access.New(st, time.Now)
	enter(t, a, "Maud", access.Lead, "long enough now")
	db, err := sqlx.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(t.Context(), `DELETE FROM person`)
	require.NoError(t, err)
	open, err := access.New(st, time.Now).Open(t.Context())
	require.NoError(t, err)
	assert.False(t, open)
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
