package access

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/wording"
)

// Reads is the scope of a token that changes nothing.
const Reads = "reads"

// Token is by what a program proves for whom it works. Who reads the store cannot become the person: it holds hashes.
type Token struct {
	ID      string    `db:"id"`
	Person  string    `db:"person"`
	Name    string    `db:"name"`  // what it is for
	Scope   string    `db:"scope"` // a role, the person's at most, or Reads
	Hash    []byte    `db:"hash"`
	By      string    `db:"by"` // who had it made
	Made    time.Time `db:"-"`
	Expires time.Time `db:"-"` // zero: never
	Seen    time.Time `db:"-"` // when it was used last; zero: never
}

// longestToken is how far ahead the end of a token may lie, where it has one.
const longestToken = 5 * 366 * 24 * time.Hour

func (a *Access) newToken(by Actor, person, name, scope string, expires time.Time) (t Token, secret string) {
	secret = rand.Text()
	return Token{
		ID: newID(), Person: person, Name: name, Scope: scope, Hash: digest(secret), By: by.Name, Made: a.now(), Expires: expires,
	}, secret
}

// AddToken makes a token for a person, for somebody else when a lead wants it so, and gives it this once.
func (a *Access) AddToken(
	ctx context.Context, by Actor, person, name, scope string, lasts time.Duration,
) (t Token, secret string, err error) {
	if by.Via == OpenShop {
		return t, "", &Refused{
			What: "nobody is entered, whose the token could be", Advice: "Enter a lead first: person add NAME --role lead --token.",
		}
	}
	name = strings.TrimSpace(name)
	if name == "" {
		return t, "", &Refused{What: "a token needs a name", Advice: "Say what it is for."}
	}
	if scope != Reads && !Role(scope).Valid() {
		return t, "", &Refused{What: fmt.Sprintf("%q is no scope", scope), Advice: "Choose reads, desk, technician or lead."}
	}
	if lasts < 0 || lasts > longestToken {
		return t, "", &Refused{What: "a token lasts five years at most", Advice: "Or give no end."}
	}
	err = a.edit(ctx, by, func(r Roster) (Edit, error) {
		p, known := r.Find(person)
		if !known {
			return Edit{}, &Unknown{Name: person}
		}
		if person != by.Name && !by.May(Lead) {
			return Edit{}, &Refused{What: "this token would be " + person + "'s", Advice: "Ask a lead, or " + person + "."}
		}
		if scope != Reads && !p.Role.Covers(Role(scope)) {
			return Edit{}, &Refused{
				What: person + " is " + string(p.Role) + ", which is less than " + scope, Advice: "Choose a lesser scope.",
			}
		}
		if scope != Reads && !by.May(Role(scope)) {
			return Edit{}, &Refused{
				What: "you are here as " + string(by.Role) + ", which is less than " + scope, Advice: "Choose a lesser scope.",
			}
		}
		var expires time.Time
		if lasts > 0 {
			expires = a.now().Add(lasts)
		}
		t, secret = a.newToken(by, person, name, scope, expires)
		return Edit{AddToken: &t, Note: Note{Said: wording.Say(
			wording.TokenMade, wording.Values{"name": name, "person": person, "scope": scope, "by": by.Name},
		)}}, nil
	})
	return t, secret, err
}

// EndToken ends a token: one's own, or, for a lead, anybody's.
func (a *Access) EndToken(ctx context.Context, by Actor, id string) error {
	return a.edit(ctx, by, func(r Roster) (Edit, error) {
		at := slices.IndexFunc(r.Tokens, func(t Token) bool { return t.ID == id })
		if at < 0 || r.Tokens[at].Person != by.Name && !by.May(Lead) {
			return Edit{}, &Unknown{Name: id, Kind: "tokens"}
		}
		t := r.Tokens[at]
		return Edit{EndToken: id, Note: Note{
			Said: wording.Say(wording.TokenEnded, wording.Values{"name": t.Name, "person": t.Person, "by": by.Name}),
		}}, nil
	})
}

// ByToken finds whose token it is; nil for nobody's, and for one that has expired.
func (a *Access) ByToken(ctx context.Context, secret string) (*Caller, error) {
	r, err := a.load(ctx)
	if err != nil {
		return nil, err
	}
	hash := digest(secret)
	for i, t := range r.Tokens {
		if !same(t.Hash, hash) {
			continue
		}
		now := a.now()
		p, known := r.Find(t.Person)
		if !known || !t.Expires.IsZero() && !now.Before(t.Expires) {
			return nil, nil
		}
		if now.Sub(t.Seen) > seenEvery {
			if err := a.seeToken(ctx, i, t.ID, now); err != nil {
				return nil, err
			}
		}
		c := &Caller{Actor: Actor{Name: p.Name, Role: p.Role, Via: ByToken}, Reads: t.Scope == Reads, Token: t.ID}
		if scope := Role(t.Scope); scope.Valid() && p.Role.Covers(scope) {
			c.Role = scope
		}
		return c, nil
	}
	return nil, nil
}

// seeToken notes that a token is in use.
func (a *Access) seeToken(ctx context.Context, at int, id string, now time.Time) error {
	a.mu.Lock()
	if a.roster != nil && at < len(a.roster.Tokens) && a.roster.Tokens[at].ID == id {
		tokens := slices.Clone(a.roster.Tokens) // others read the ones of before
		tokens[at].Seen = now
		a.roster.Tokens = tokens
	}
	a.mu.Unlock()
	if err := a.store.SeeToken(ctx, id, now); err != nil {
		return fmt.Errorf("noting a token: %w", err)
	}
	return nil
}
