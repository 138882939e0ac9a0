package access_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/argon2"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/store"
)

// spied is a store of which one call can be told to fail, and that tells what was noted.
type spied struct {
	access.Store
	fails string
	calls map[string]int
	notes []access.Note
}

var errStore = errors.New("the disk does not answer")

func (s *spied) call(name string) error {
	s.calls[name]++
	if s.fails == name {
		return errStore
	}
	return nil
}

func (s *spied) Roster(ctx context.Context) (access.Roster, error) {
	if err := s.call("Roster"); err != nil {
		return access.Roster{}, err
	}
	return s.Store.Roster(ctx)
}

func (s *spied) EditPeople(ctx context.Context, by access.Actor, decide func(access.Roster) (access.Edit, error)) error {
	if err := s.call("EditPeople"); err != nil {
		return err
	}
	return s.Store.EditPeople(ctx, by, func(r access.Roster) (access.Edit, error) {
		e, err := decide(r)
		if err == nil {
			s.notes = append(s.notes, e.Note)
		}
		return e, err
	})
}

func (s *spied) NoteAccess(ctx context.Context, by access.Actor, n access.Note) error {
	s.notes = append(s.notes, n)
	return errors.Join(s.call("NoteAccess"), s.Store.NoteAccess(ctx, by, n))
}

func (s *spied) SeeToken(ctx context.Context, id string, at time.Time) error {
	return errors.Join(s.call("SeeToken"), s.Store.SeeToken(ctx, id, at))
}

func (s *spied) SaveSession(ctx context.Context, one access.Session) error {
	return errors.Join(s.call("SaveSession"), s.Store.SaveSession(ctx, one))
}

func (s *spied) SeeSession(ctx context.Context, hash []byte, at time.Time) error {
	return errors.Join(s.call("SeeSession"), s.Store.SeeSession(ctx, hash, at))
}

func (s *spied) ProveSession(ctx context.Context, hash []byte, at time.Time) error {
	return errors.Join(s.call("ProveSession"), s.Store.ProveSession(ctx, hash, at))
}

func (s *spied) Session(ctx context.Context, hash []byte) (access.Session, error) {
	if err := s.call("Session"); err != nil {
		return access.Session{}, err
	}
	return s.Store.Session(ctx, hash)
}

func (s *spied) Sessions(ctx context.Context) ([]access.Session, error) {
	if err := s.call("Sessions"); err != nil {
		return nil, err
	}
	return s.Store.Sessions(ctx)
}

func (s *spied) RemoveSession(ctx context.Context, id string) error {
	return errors.Join(s.call("RemoveSession"), s.Store.RemoveSession(ctx, id))
}

func (s *spied) ForgetSessions(ctx context.Context, before time.Time) error {
	return errors.Join(s.call("ForgetSessions"), s.Store.ForgetSessions(ctx, before))
}

// place is a shop with Maud, a lead, and Dov, of the desk; each has a session, and Dov a token.
type place struct {
	*access.Access
	store      *spied
	clock      *clock
	log        *bytes.Buffer
	file       string
	maud, dov  string // what their cookies carry
	token      string
	mauds, his access.Session
}

const (
	mauds = "kelp and gravel"
	dovs  = "rope and tar 1"
)

func (p *place) in(t *testing.T, name, password string) string {
	t.Helper()
	_, secret, err := p.SignIn(t.Context(), name, here, access.Proof{Password: password})
	require.NoError(t, err)
	return secret
}

func placeOf(t *testing.T) *place {
	t.Helper()
	p := &place{clock: &clock{time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)}, log: &bytes.Buffer{}}
	p.file = filepath.Join(t.TempDir(), "shop.db")
	st, err := store.Open(t.Context(), p.file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	p.store = &spied{Store: st, calls: map[string]int{}}
	p.Access = access.New(p.store, func() time.Time { return p.clock.at }, slog.New(slog.NewTextHandler(p.log, nil)))
	enter(t, p.Access, "Maud", access.Lead, mauds)
	enter(t, p.Access, "Dov", access.Desk, dovs)
	p.maud, p.dov = p.in(t, "Maud", mauds), p.in(t, "Dov", dovs)
	_, p.token, err = p.AddToken(t.Context(), dov, "Dov", "scanner", "desk", 0)
	require.NoError(t, err)
	all, err := p.Sessions(t.Context(), maud)
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, s := range all {
		if s.Person == "Maud" {
			p.mauds = s
		} else {
			p.his = s
		}
	}
	return p
}

var dov = access.Actor{Name: "Dov", Role: access.Desk, Via: access.BySession}

// Whatever the store fails at, whoever asked is told, and nobody is let in for it.
func TestAStoreThatFails(t *testing.T) {
	p := placeOf(t)
	ctx := t.Context()
	asks := map[string]func() error{
		"sign in": func() error {
			_, _, err := p.SignIn(ctx, "Dov", here, access.Proof{Password: dovs})
			return err
		},
		"prove": func() error {
			_, err := p.ProveAgain(ctx, p.dov, here, access.Proof{Password: dovs})
			return err
		},
		"find a session": func() error {
			c, err := p.BySession(ctx, p.dov)
			require.True(t, err == nil || c == nil)
			return err
		},
		"still find a session": func() error {
			c, err := p.StillBySession(ctx, p.dov)
			require.True(t, err == nil || c == nil)
			return err
		},
		"find a token": func() error {
			c, err := p.ByToken(ctx, p.token)
			require.True(t, err == nil || c == nil)
			return err
		},
		"open":     func() error { _, err := p.Open(ctx); return err },
		"roster":   func() error { _, err := p.Roster(ctx); return err },
		"sessions": func() error { _, err := p.Sessions(ctx, dov); return err },
		"end one":  func() error { return p.EndSession(ctx, dov, p.his.ID) },
		"end all":  func() error { return p.EndSessions(ctx) },
		"sign out": func() error { return p.SignOut(ctx, p.dov) },
		"enter": func() error {
			_, _, err := p.Enter(ctx, maud, access.Change{Name: "Imre", Role: access.Desk, Token: true})
			return err
		},
		"remove":       func() error { return p.Remove(ctx, maud, "Dov") },
		"demand":       func() error { return p.SetDemands(ctx, maud, access.Demands{SecondPerson: true}) },
		"make a token": func() error { _, _, err := p.AddToken(ctx, dov, "Dov", "tablet", "desk", 0); return err },
		"end a token":  func() error { return p.EndToken(ctx, dov, "x") },
		"password": func() error {
			return p.SetPassword(ctx, dov, here, access.Proof{Password: dovs}, "salt and slate", p.dov)
		},
		"no factor": func() error { return p.RemoveFactor(ctx, dov, "Dov") },
	}
	for fails, of := range map[string][]string{
		"Roster": {"sign in", "prove", "find a session", "still find a session", "find a token", "open", "roster", "password"},
		"EditPeople": {
			"enter", "remove", "demand", "make a token", "end a token", "password", "no factor",
		},
		"Session":        {"prove", "find a session", "still find a session", "sign out"},
		"SaveSession":    {"sign in"},
		"ForgetSessions": {"sign in", "end all"},
		"ProveSession":   {"prove"},
		"Sessions":       {"sessions", "end one"},
		"SeeSession":     {"find a session"},
		"SeeToken":       {"find a token"},
		"RemoveSession":  {"end one", "sign out"},
		"NoteAccess":     {"end one"},
	} {
		for _, what := range of {
			p.dov = p.in(t, "Dov", dovs)
			all, err := p.Sessions(ctx, dov)
			require.NoError(t, err)
			p.his = all[0]
			_ = p.SetDemands(ctx, maud, access.Demands{}) // what is known of the people is forgotten
			p.clock.at = p.clock.at.Add(2 * time.Minute)  // it is time to note that something is in use
			p.store.fails = fails
			err = asks[what]()
			p.store.fails = ""
			assert.ErrorIs(t, err, errStore, "%s when %s fails", what, fails)
		}
	}
}

func TestHowLongASessionLasts(t *testing.T) {
	p := placeOf(t)
	began := p.clock.at
	at := func(after time.Duration, secret string) bool {
		p.clock.at = began.Add(after)
		who, err := p.BySession(t.Context(), secret)
		require.NoError(t, err)
		return who != nil
	}
	assert.True(t, at(access.Idle, p.dov))
	assert.False(t, at(access.Idle+1, p.maud), "idle for too long")
	for after := access.Idle; after < access.Longest; after += access.Idle {
		assert.True(t, at(after, p.dov))
	}
	assert.True(t, at(access.Longest, p.dov), "in use all the time")
	assert.False(t, at(access.Longest+1, p.dov), "for a week at most")
	all, err := p.Sessions(t.Context(), maud)
	require.NoError(t, err)
	assert.Empty(t, all, "what is over is not listed")

	p.clock.at = p.clock.at.Truncate(time.Hour)
	secret := p.in(t, "Dov", dovs)
	began = p.clock.at
	seen := p.store.calls["SeeSession"]
	for _, after := range []time.Duration{0, time.Minute} {
		require.True(t, at(after, secret))
	}
	assert.Equal(t, seen, p.store.calls["SeeSession"], "it is noted once a minute")
	require.True(t, at(time.Minute+time.Millisecond, secret))
	assert.Equal(t, seen+1, p.store.calls["SeeSession"])
	last := access.Idle + time.Minute + time.Millisecond
	p.clock.at = began.Add(last)
	who, err := p.StillBySession(t.Context(), secret)
	require.NoError(t, err)
	require.NotNil(t, who)
	assert.False(t, at(last+1, secret), "what goes on by a request of before makes it no longer")
	secret = p.in(t, "Dov", dovs)
	require.NoError(t, p.EndSessions(t.Context()))
	assert.False(t, at(last+2, secret))
}

func TestWhenSomebodyProvesAgain(t *testing.T) {
	p := placeOf(t)
	who, err := p.BySession(t.Context(), p.dov)
	require.NoError(t, err)
	p.clock.at = p.clock.at.Add(access.ProvedFor)
	require.NoError(t, p.Prove(*who))
	p.clock.at = p.clock.at.Add(1)
	require.Error(t, p.Prove(*who))
	who, err = p.ByToken(t.Context(), p.token)
	require.NoError(t, err)
	require.NoError(t, p.Prove(*who), "a program has no hands")
	for _, secret := range []string{"", "nobody's"} {
		_, err = p.ProveAgain(t.Context(), secret, here, access.Proof{Password: dovs})
		require.ErrorContains(t, err, "do not belong together")
	}
	require.NoError(t, p.SignOut(t.Context(), "nobody's"))
}

// An unknown name takes as long to refuse as a wrong password: whether it exists is not told by the time either.
func TestAnUnknownNameTakesAsLong(t *testing.T) {
	p := placeOf(t)
	took := func(name string) time.Duration { // the least of three: what else the machine does is not counted
		least := time.Hour
		for n := range 3 {
			began := time.Now()
			_, _, err := p.SignIn(t.Context(), name, access.From{Address: fmt.Sprint(name, n)}, access.Proof{Password: "a guess"})
			require.Error(t, err)
			least = min(least, time.Since(began))
		}
		return least
	}
	assert.Greater(t, took("Nobody"), took("Maud")/4)
}

func TestWhatIsNotedOfPeople(t *testing.T) {
	p := placeOf(t)
	ctx := t.Context()
	last := func() string { return p.store.notes[len(p.store.notes)-1].Said.String() }
	_, first, err := p.Enter(ctx, maud, access.Change{Name: "Imre", Role: access.Desk, Token: true})
	require.NoError(t, err)
	assert.Contains(t, last(), "Maud", "who had a token made for whom")
	assert.Contains(t, last(), "Imre")
	assert.Contains(t, p.log.String(), "Imre")
	_, _, err = p.Enter(ctx, maud, access.Change{Name: "Imre", Role: access.Technician, Token: true, Password: "salt and slate"})
	require.NoError(t, err)
	assert.Equal(t, access.Note{
		Said: wording.Say(wording.PersonGotBoth, wording.Values{"name": "Imre", "role": "technician", "by": "Maud"}),
		What: "role of Imre", Before: "desk", After: "technician",
	}, p.store.notes[len(p.store.notes)-1])
	who, err := p.ByToken(ctx, first)
	require.NoError(t, err)
	assert.Nil(t, who, "one token comes with a person")
	r, err := p.Roster(ctx)
	require.NoError(t, err)
	assert.Len(t, r.Tokens, 2, "what else there is stays")
	require.NoError(t, p.SetDemands(ctx, maud, access.Demands{SecondPerson: true}))
	note := p.store.notes[len(p.store.notes)-1]
	assert.Equal(t, [2]string{"", "a second person for an overwrite"}, [2]string{note.Before, note.After})
	assert.Equal(t, "a second factor, a second person for an overwrite", access.Demands{SecondFactor: true, SecondPerson: true}.String())
	_, _, err = p.Enter(ctx, maud, access.Change{Name: "Imre", Role: access.Technician})
	require.NoError(t, err, "a token and a password are there already")

	before := len(p.store.notes)
	for range 3 {
		p.Refusal(ctx, dov, "publishing a policy", home)
	}
	p.Refusal(ctx, access.Actor{}, "anything", home)
	assert.Len(t, p.store.notes, before+1, "once a minute, and of nobody nothing")
	assert.Contains(t, p.log.String(), "publishing a policy")
	p.store.fails = "NoteAccess"
	p.Refusal(ctx, maud, "anything", home)
	p.store.fails = ""
	assert.Contains(t, p.log.String(), "noting a refusal", "the log says what the audit could not")
	assert.Equal(t, `nobody here is called "x"`, (&access.Unknown{Name: "x"}).Error())
	assert.Equal(t, `none of the tokens is "x"`, (&access.Unknown{Name: "x", Kind: "tokens"}).Error())
}

const home = "192.0.2.7"

// The third wrong password is noted, and each time they have doubled.
func TestWhichWrongPasswordsAreNoted(t *testing.T) {
	p := placeOf(t)
	before := len(p.store.notes)
	var at []int
	for n := 1; n <= 4; n++ {
		_, _, err := p.SignIn(t.Context(), "Dov", here, access.Proof{Password: "a guess"})
		require.Error(t, err)
		if now := len(p.store.notes); now > before {
			before = now
			at = append(at, n)
		}
	}
	assert.Equal(t, []int{3}, at)
	assert.Contains(t, p.store.notes[before-1].Said.String(), "Dov")
	assert.NotContains(t, p.log.String(), "a guess")
	_, _, err := p.SignIn(t.Context(), "a password in the wrong field", access.From{Address: "192.0.2.9"}, access.Proof{})
	require.Error(t, err)
	assert.NotContains(t, p.log.String(), "wrong field")
}

func TestWhoEndsAToken(t *testing.T) {
	p := placeOf(t)
	ctx := t.Context()
	one, _, err := p.AddToken(ctx, maud, "Dov", " tablet ", "reads", time.Hour)
	require.NoError(t, err)
	assert.Equal(t, "tablet", one.Name)
	assert.Equal(t, p.clock.at.Add(time.Hour), one.Expires)
	assert.Equal(t, "Maud", one.By)
	require.NoError(t, p.EndToken(ctx, maud, one.ID), "a lead ends anybody's")
	require.ErrorAs(t, p.EndToken(ctx, maud, one.ID), new(*access.Unknown))
	_, _, err = p.AddToken(ctx, maud, "Nobody", "tablet", "reads", 0)
	require.ErrorAs(t, err, new(*access.Unknown))
	_, _, err = p.AddToken(ctx, access.Actor{Name: "Dov", Role: access.Desk, Via: access.OpenShop}, "Dov", "tablet", "reads", 0)
	require.ErrorContains(t, err, "nobody is entered")
	endless, _, err := p.AddToken(ctx, dov, "Dov", "tablet", "desk", 0)
	require.NoError(t, err)
	assert.Zero(t, endless.Expires)
	longest, _, err := p.AddToken(ctx, dov, "Dov", "tablet", "desk", 5*366*24*time.Hour)
	require.NoError(t, err)
	assert.Equal(t, p.clock.at.Add(5*366*24*time.Hour), longest.Expires)
	_, _, err = p.AddToken(ctx, dov, "Dov", "tablet", "desk", 5*366*24*time.Hour+1)
	require.ErrorContains(t, err, "five years")

	seen := p.store.calls["SeeToken"]
	for _, after := range []time.Duration{0, time.Minute, 1} { // the first use is noted, and the next after more than a minute
		p.clock.at = p.clock.at.Add(after)
		who, err := p.ByToken(ctx, p.token)
		require.NoError(t, err)
		require.NotNil(t, who)
	}
	assert.Equal(t, seen+2, p.store.calls["SeeToken"])
}

func TestWhoNeedsASecondFactor(t *testing.T) {
	p := placeOf(t)
	ctx := t.Context()
	secret, _, err := p.OfferFactor(maud, "Saltmarsh Lane")
	require.NoError(t, err)
	code, err := totp.GenerateCode(secret, p.clock.at)
	require.NoError(t, err)
	for _, wrong := range []string{"", code[1:], code + "0", "x" + code[1:]} {
		_, err = p.SetFactor(ctx, maud, secret, wrong)
		require.ErrorContains(t, err, "not of this secret")
	}
	_, err = p.SetFactor(ctx, maud, secret, code)
	require.NoError(t, err)
	unset := func(secret string) bool {
		who, err := p.BySession(ctx, secret)
		require.NoError(t, err)
		return who.Unset
	}
	assert.False(t, unset(p.dov), "nobody demands one")
	require.NoError(t, p.SetDemands(ctx, maud, access.Demands{SecondFactor: true}))
	assert.True(t, unset(p.dov))
	assert.False(t, unset(p.maud))
	require.ErrorAs(t, p.RemoveFactor(ctx, maud, "Nobody"), new(*access.Unknown))
	require.NoError(t, p.RemoveFactor(ctx, maud, "Maud"))
	require.NoError(t, p.SetDemands(ctx, maud, access.Demands{SecondFactor: true, SecondPerson: true}), "it is demanded already")
	_, _, err = p.SignIn(ctx, "Maud", here, access.Proof{Password: mauds, Code: code})
	require.NoError(t, err, "a code more than is wanted is no mistake")
}

func TestPasswordsOfBefore(t *testing.T) {
	p := placeOf(t)
	ctx := t.Context()
	salt := []byte("sixteen bytes so")
	of := base64.RawStdEncoding.EncodeToString(append(salt, argon2.IDKey([]byte(dovs), salt, 3, 64<<10, 2, 32)...))
	keep := func(is string) {
		require.NoError(t, p.store.EditPeople(ctx, maud, func(r access.Roster) (access.Edit, error) {
			d, _ := r.Find("Dov")
			d.Password = is
			return access.Edit{Save: &d}, nil
		}))
		require.NoError(t, p.SetDemands(ctx, maud, access.Demands{})) // read anew
	}
	is := func() string {
		r, err := p.Roster(ctx)
		require.NoError(t, err)
		d, _ := r.Find("Dov")
		return d.Password
	}
	keep(of)
	p.in(t, "Dov", dovs)
	now := is()
	assert.Contains(t, now, "$argon2id$v=19$m=47104,t=1,p=1$", "it is kept as it is now")
	p.in(t, "Dov", dovs)
	assert.Equal(t, now, is(), "once")
	for _, broken := range []string{"", "x", of[1:], now[1:], now + "$", now[:len(now)-2], "$argon2id$v=19$m=47104,t=0,p=1$AAAA$AAAA"} {
		keep(broken)
		p.clock.at = p.clock.at.Add(time.Hour) // wrong ones are forgotten
		_, _, err := p.SignIn(ctx, "Dov", here, access.Proof{Password: dovs})
		require.ErrorContains(t, err, "do not belong together", broken)
	}
}
