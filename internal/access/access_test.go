package access_test

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pquerna/otp/totp"
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
	return access.New(st, func() time.Time { return c.at }, slog.New(slog.NewTextHandler(t.Output(), nil))), c
}

// here is where requests come from.
var here = access.From{Address: "192.0.2.7", Agent: "a browser"}

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
		r, err := a.Roster(t.Context())
		require.NoError(t, err)
		assert.Len(t, slices.DeleteFunc(r.People, func(p access.Person) bool { return p.Role != access.Lead }), 1, name)
	}
}

// However the people went, the shop stays closed.
func TestAClosedShopDoesNotOpenAgain(t *testing.T) {
	file := filepath.Join(t.TempDir(), "shop.db")
	st, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	defer st.Close()
	a := access.New(st, time.Now, slog.New(slog.DiscardHandler))
	enter(t, a, "Maud", access.Lead, "long enough now")
	db, err := sqlx.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(t.Context(), `DELETE FROM person`)
	require.NoError(t, err)
	open, err := access.New(st, time.Now, slog.New(slog.DiscardHandler)).Open(t.Context())
	require.NoError(t, err)
	assert.False(t, open)
}

func TestSigningIn(t *testing.T) {
	a, c := shopOf(t)
	ctx := t.Context()
	enter(t, a, "Maud", access.Lead, "kelp and gravel")
	for _, wrong := range [][2]string{{"Maud", "kelp"}, {"Nobody", "kelp and gravel"}, {"Maud", ""}} {
		_, _, err := a.SignIn(ctx, wrong[0], here, access.Proof{Password: wrong[1]})
		require.ErrorAs(t, err, new(*access.Refused), wrong)
		assert.ErrorContains(t, err, "do not belong together", "whether the name exists is not told")
	}
	p, secret, err := a.SignIn(ctx, "Maud", here, access.Proof{Password: "kelp and gravel"})
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

	_, secret, err = a.SignIn(ctx, "Maud", here, access.Proof{Password: "kelp and gravel"})
	require.NoError(t, err)
	require.NoError(t, a.SignOut(ctx, secret))
	assert.False(t, found())

	_, secret, err = a.SignIn(ctx, "Maud", here, access.Proof{Password: "kelp and gravel"})
	require.NoError(t, err)
	enter(t, a, "Maud", access.Lead, "another one entirely")
	assert.False(t, found(), "a new password ends what was open by the old one")
}

func TestTokens(t *testing.T) {
	a, c := shopOf(t)
	ctx := t.Context()
	_, first, err := a.Enter(ctx, maud, access.Change{Name: "Maud", Role: access.Lead, Token: true})
	require.NoError(t, err)
	_, second, err := a.Enter(ctx, maud, access.Change{Name: "Maud", Role: access.Lead, Token: true})
	require.NoError(t, err)
	by := func(secret string) *access.Caller {
		who, err := a.ByToken(ctx, secret)
		require.NoError(t, err)
		return who
	}
	require.NotNil(t, by(second))
	for _, wrong := range []string{first, "", "x"} {
		assert.Nil(t, by(wrong), "the new one is in its place")
	}

	enter(t, a, "Dov", access.Technician, "rope and tar 1")
	dov := access.Actor{Name: "Dov", Role: access.Technician, Via: access.BySession}
	for why, made := range map[string]func() error{
		"for somebody else": func() error { _, _, err := a.AddToken(ctx, dov, "Maud", "mine", "desk", 0); return err },
		"beyond the person": func() error { _, _, err := a.AddToken(ctx, dov, "Dov", "mine", "lead", 0); return err },
		"beyond who asks": func() error { // by a token for less
			_, _, err := a.AddToken(ctx, access.Actor{Name: "Dov", Role: access.Desk, Via: access.ByToken}, "Dov", "mine", "technician", 0)
			return err
		},
		"beyond who asks, a lead": func() error {
			_, _, err := a.AddToken(
				ctx, access.Actor{Name: "Maud", Role: access.Technician, Via: access.ByToken}, "Maud", "mine", "lead", 0,
			)
			return err
		},
		"without a name":  func() error { _, _, err := a.AddToken(ctx, dov, "Dov", " ", "desk", 0); return err },
		"of no scope":     func() error { _, _, err := a.AddToken(ctx, dov, "Dov", "mine", "owner", 0); return err },
		"without an end":  func() error { _, _, err := a.AddToken(ctx, dov, "Dov", "mine", "desk", 6*366*24*time.Hour); return err },
		"before its time": func() error { _, _, err := a.AddToken(ctx, dov, "Dov", "mine", "desk", -1); return err },
	} {
		require.ErrorAs(t, made(), new(*access.Refused), why)
	}
	one, secret, err := a.AddToken(ctx, dov, "Dov", "label printer", "reads", 30*24*time.Hour)
	require.NoError(t, err)
	assert.True(t, by(secret).Reads)
	assert.Equal(t, access.Technician, by(secret).Role, "it reads what Dov may read")
	two, lesser, err := a.AddToken(ctx, dov, "Dov", "intake tablet", "desk", 0)
	require.NoError(t, err)
	assert.Equal(t, access.Desk, by(lesser).Role)
	assert.False(t, by(lesser).Reads)
	r, err := a.Roster(ctx)
	require.NoError(t, err)
	require.Len(t, r.Tokens, 3)
	at := slices.IndexFunc(r.Tokens, func(t access.Token) bool { return t.ID == one.ID })
	assert.Equal(t, c.at, r.Tokens[at].Seen, "it is noted that it was used")
	c.at = c.at.Add(30*24*time.Hour - time.Second)
	assert.NotNil(t, by(secret))
	c.at = c.at.Add(time.Second)
	assert.Nil(t, by(secret), "it has expired")
	require.ErrorAs(t, a.EndToken(ctx, access.Actor{Name: "Imre", Role: access.Technician}, two.ID), new(*access.Unknown), "not theirs")
	require.NoError(t, a.EndToken(ctx, dov, two.ID))
	assert.Nil(t, by(lesser))
	_, third, err := a.AddToken(ctx, maud, "Dov", "scanner", "technician", 0)
	require.NoError(t, err)
	enter(t, a, "Dov", access.Desk, "")
	assert.Equal(t, access.Desk, by(third).Role, "a token may no more than its person")
	require.NoError(t, a.Remove(ctx, maud, "Dov"))
	assert.Nil(t, by(third))
}

func TestAPasswordThatIsTriedFirstIsNone(t *testing.T) {
	a, _ := shopOf(t)
	for _, bad := range []string{
		"password1234", "qwertyuiop123", "Maud Maud Maud", "aaaaaaaaaaaa", "123456789012", "P@ssw0rd1234", "hylostathylostat",
		"letmeinletmein",
	} {
		_, _, err := a.Enter(t.Context(), maud, access.Change{Name: "Maud", Role: access.Lead, Password: bad})
		assert.ErrorContains(t, err, "among the first", bad)
	}
	enter(t, a, "Maud", access.Lead, strings.Repeat("kelp and gravel ", 12))
}

// Sessions are listed and ended by whose they are, and by a lead; a new password of one's own ends the others.
func TestSessionsAndOnesOwnPassword(t *testing.T) {
	a, c := shopOf(t)
	ctx := t.Context()
	enter(t, a, "Maud", access.Lead, "kelp and gravel")
	enter(t, a, "Dov", access.Desk, "rope and tar 1")
	dov := access.Actor{Name: "Dov", Role: access.Desk, Via: access.BySession}
	in := func(name, password string) string {
		_, secret, err := a.SignIn(ctx, name, here, access.Proof{Password: password})
		require.NoError(t, err)
		return secret
	}
	lives := func(secret string) bool {
		who, err := a.BySession(ctx, secret)
		require.NoError(t, err)
		return who != nil
	}
	mauds, one, two := in("Maud", "kelp and gravel"), in("Dov", "rope and tar 1"), in("Dov", "rope and tar 1")
	all, err := a.Sessions(ctx, dov)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, here, all[0].From)
	everybodys, err := a.Sessions(ctx, maud)
	require.NoError(t, err)
	require.Len(t, everybodys, 3)
	for _, s := range everybodys {
		if s.Person == "Maud" {
			require.ErrorAs(t, a.EndSession(ctx, dov, s.ID), new(*access.Unknown), "not his")
		}
	}
	assert.True(t, lives(mauds))

	_, err = a.ProveAgain(ctx, one, here, access.Proof{Password: "kelp and gravel"})
	require.ErrorContains(t, err, "do not belong together")
	c.at = c.at.Add(access.ProvedFor + time.Second)
	who, err := a.BySession(ctx, one)
	require.NoError(t, err)
	var refused *access.Refused
	require.ErrorAs(t, a.Prove(*who), &refused)
	assert.Equal(t, access.ToProve, refused.Help)
	again, err := a.ProveAgain(ctx, one, here, access.Proof{Password: "rope and tar 1"})
	require.NoError(t, err)
	require.NoError(t, a.Prove(again))
	who, err = a.BySession(ctx, one)
	require.NoError(t, err)
	require.NoError(t, a.Prove(*who))

	require.ErrorContains(
		t, a.SetPassword(ctx, dov, here, access.Proof{Password: "wrong"}, "salt and slate", one), "do not belong together",
	)
	require.ErrorContains(
		t, a.SetPassword(ctx, dov, here, access.Proof{Password: "rope and tar 1"}, "password1234", one), "among the first",
	)
	assert.True(t, lives(two))
	require.NoError(t, a.SetPassword(ctx, dov, here, access.Proof{Password: "rope and tar 1"}, "salt and slate", one))
	assert.True(t, lives(one))
	assert.False(t, lives(two), "what was open by the old one ends")
	assert.True(t, lives(mauds))
	in("Dov", "salt and slate")
	all, err = a.Sessions(ctx, dov)
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, s := range all {
		require.NoError(t, a.EndSession(ctx, dov, s.ID))
	}
	assert.False(t, lives(one))
}

func TestASecondFactor(t *testing.T) {
	a, c := shopOf(t)
	ctx := t.Context()
	enter(t, a, "Maud", access.Lead, "kelp and gravel")
	require.ErrorContains(t, a.SetDemands(ctx, maud, access.Demands{SecondFactor: true}), "you have no second factor yourself")
	secret, address, err := a.OfferFactor(maud, "Saltmarsh: Lane")
	require.NoError(t, err)
	assert.Contains(t, address, "otpauth://totp/")
	code := func(at time.Time) string {
		one, err := totp.GenerateCode(secret, at)
		require.NoError(t, err)
		return one
	}
	in := func(code string) (string, error) {
		_, cookie, err := a.SignIn(ctx, "Maud", here, access.Proof{Password: "kelp and gravel", Code: code})
		return cookie, err
	}
	_, err = a.SetFactor(ctx, maud, secret, code(c.at.Add(time.Hour)))
	require.ErrorContains(t, err, "not of this secret, or not of now")
	recovery, err := a.SetFactor(ctx, maud, secret, code(c.at))
	require.NoError(t, err)
	require.Len(t, recovery, 10)
	require.NoError(t, a.SetDemands(ctx, maud, access.Demands{SecondFactor: true}))

	_, err = in("")
	var refused *access.Refused
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, access.ToGiveCode, refused.Help)
	_, _, err = a.SignIn(ctx, "Maud", here, access.Proof{Password: "wrong"})
	require.ErrorContains(t, err, "do not belong together", "without the password it is not told that there is a factor")
	_, err = in(code(c.at))
	require.Error(t, err, "the code that set it up is used")
	c.at = c.at.Add(30 * time.Second)
	once := code(c.at)
	_, err = in(once)
	require.NoError(t, err)
	_, err = in(once)
	require.Error(t, err, "no code is good twice")
	c.at = c.at.Add(90 * time.Second)
	_, err = in(code(c.at.Add(-90 * time.Second)))
	require.Error(t, err, "too old")
	_, err = in(code(c.at.Add(30 * time.Second)))
	require.NoError(t, err, "clocks differ by a step")
	_, err = in(recovery[3])
	require.NoError(t, err)
	c.at = c.at.Add(time.Hour) // wrong ones are forgotten
	_, err = in(recovery[3])
	require.Error(t, err, "each is good once")
	_, err = in(strings.ToUpper(strings.ReplaceAll(recovery[4], "-", " ")))
	require.NoError(t, err, "as people write it")

	c.at = c.at.Add(time.Hour)
	for n := range 6 { // a password without its code does not clear what wrong codes counted
		began := time.Now()
		_, err = in("000000")
		require.Error(t, err)
		if n == 3 {
			require.Greater(t, time.Since(began), 900*time.Millisecond, "the fourth wrong code is answered late")
			break
		}
		_, err = in("")
		require.ErrorContains(t, err, "is wanted, too")
	}

	enter(t, a, "Dov", access.Desk, "rope and tar 1")
	_, cookie, err := a.SignIn(ctx, "Dov", here, access.Proof{Password: "rope and tar 1"})
	require.NoError(t, err)
	who, err := a.BySession(ctx, cookie)
	require.NoError(t, err)
	assert.True(t, who.Unset, "he may set one up, and nothing else")
	dov := access.Actor{Name: "Dov", Role: access.Desk}
	require.ErrorContains(t, a.RemoveFactor(ctx, dov, "Maud"), "Ask a lead")
	require.NoError(t, a.RemoveFactor(ctx, maud, "Maud"))
	_, err = in("")
	require.NoError(t, err)
}

// Wrong passwords are answered later and later; the right one at once, whoever guesses beside.
func TestGuessingGetsSlow(t *testing.T) {
	file := filepath.Join(t.TempDir(), "shop.db")
	synctest.Test(t, func(t *testing.T) {
		st, err := store.Open(t.Context(), file)
		require.NoError(t, err)
		defer st.Close()
		a := access.New(st, time.Now, slog.New(slog.DiscardHandler))
		enter(t, a, "Maud", access.Lead, "kelp and gravel")
		try := func(name, address, password string) (time.Duration, error) {
			began := time.Now()
			_, _, err := a.SignIn(t.Context(), name, access.From{Address: address}, access.Proof{Password: password})
			return time.Since(began).Round(time.Second), err
		}
		var took []int
		for range 10 {
			late, err := try("Maud", "192.0.2.66", "a guess")
			require.ErrorAs(t, err, new(*access.Refused))
			took = append(took, int(late.Seconds()))
		}
		assert.Equal(t, []int{0, 0, 0, 1, 2, 4, 8, 16, 30, 30}, took)
		late, err := try("Dov", "192.0.2.66", "a guess")
		require.Error(t, err)
		assert.Equal(t, 30*time.Second, late, "the address is slow, whichever name it tries")
		late, err = try("Maud", "192.0.2.67", "a guess")
		require.Error(t, err)
		assert.Equal(t, 30*time.Second, late, "and the name, wherever from")
		late, err = try("Maud", "192.0.2.7", "kelp and gravel")
		require.NoError(t, err)
		assert.Zero(t, late)

		for n := range 4 {
			_, err = try("Maud", fmt.Sprintf("203.0.113.%d", n), "a guess")
			require.Error(t, err)
		}
		refused := make(chan error, 100)
		for n := range 80 {
			go func() {
				_, err := try("Maud", fmt.Sprintf("198.51.100.%d", n), "a guess")
				refused <- err
			}()
		}
		synctest.Wait()
		assert.Len(t, refused, 16, "64 answers are held back for a name; the others are refused at once")
		for range 16 {
			require.ErrorAs(t, <-refused, new(*access.Busy))
		}
		late, err = try("Maud", "192.0.2.7", "kelp and gravel")
		require.NoError(t, err, "who has signed in from there before is not shut out by others")
		assert.Zero(t, late)
		time.Sleep(time.Hour)
		late, err = try("Maud", "192.0.2.66", "a guess")
		require.Error(t, err)
		assert.Zero(t, late, "it is forgotten in time")
	})
}

func TestRolesCover(t *testing.T) {
	assert.True(t, access.Lead.Covers(access.Desk))
	assert.True(t, access.Technician.Covers(access.Technician))
	assert.False(t, access.Desk.Covers(access.Technician))
	assert.False(t, access.Role("").Covers(access.Desk))
}
