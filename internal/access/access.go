// Package access knows the people of the shop: their roles, how they prove who they are, and what each role may do. A new shop is open
// to whoever reaches it, under the name they give; the first person entered closes it, for good. Start with Access.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// Role is what a person does here. Each may do what those before it may.
type Role string

// The roles.
const (
	Desk       Role = "desk"       // takes in, records what owners say, hands over
	Technician Role = "technician" // checks, reworks, signs
	Lead       Role = "lead"       // overrules, publishes policies, enters people, erases customers
)

var order = []Role{Desk, Technician, Lead}

// Covers reports whether a role may do what another one may.
func (r Role) Covers(other Role) bool { return slices.Index(order, r) >= slices.Index(order, other) }

// Valid reports whether it is a role.
func (r Role) Valid() bool { return slices.Contains(order, r) }

// Person is somebody who works here.
type Person struct {
	Name     string    `db:"name"`
	Role     Role      `db:"role"`
	Password string    `db:"password"` // argon2id, as encode writes it; empty: none
	Token    []byte    `db:"token"`    // SHA-256 of a random token; empty: none
	Since    time.Time `db:"-"`
}

// Session is a person who signed in. Who reads the store cannot become the person: it holds hashes.
type Session struct {
	Hash   []byte
	Person string
	Begun  time.Time
	Seen   time.Time
}

// Roster is everybody who works here.
type Roster struct {
	People []Person // by name
	Closed bool     // somebody was entered once: nobody comes in any more who cannot prove who they are
}

// Find gives a person by name.
func (r Roster) Find(name string) (Person, bool) {
	at := slices.IndexFunc(r.People, func(p Person) bool { return p.Name == name })
	if at < 0 {
		return Person{}, false
	}
	return r.People[at], true
}

// leadBeside reports whether there is a lead besides somebody.
func (r Roster) leadBeside(name string) bool {
	return slices.ContainsFunc(r.People, func(p Person) bool { return p.Name != name && p.Role == Lead })
}

// Edit is a change to one person: one of the two.
type Edit struct {
	Save   *Person
	Remove string
}

// Store keeps people and sessions.
type Store interface {
	Roster(ctx context.Context) (Roster, error)
	// EditPeople decides on a change by who works here at that moment, and makes it: nobody else changes people in between. The first
	// person saved closes the shop.
	EditPeople(ctx context.Context, by Actor, decide func(Roster) (Edit, error)) error
	SaveSession(ctx context.Context, s Session) error
	SeeSession(ctx context.Context, hash []byte, at time.Time) error // that it is in use
	Session(ctx context.Context, hash []byte) (Session, error)       // ErrNone when there is none
	RemoveSession(ctx context.Context, hash []byte) error
	ForgetSessions(ctx context.Context, before time.Time) error
}

// ErrNone says that there is no such session.
var ErrNone = errors.New("no such session")

// Refused says that somebody may not do something.
type Refused struct {
	What, Advice string
	SignIn       bool // it would help to sign in
}

func (e *Refused) Error() string { return e.What + ". " + e.Advice }

// Unknown says that nobody has a name.
type Unknown struct{ Name string }

func (e *Unknown) Error() string { return fmt.Sprintf("nobody here is called %q", e.Name) }

// LeastPassword is how many characters a new password has at least.
const LeastPassword = 12

// Idle is after how long without a request a session ends.
const Idle = 12 * time.Hour

// Longest is how long a session lasts, however often it is used.
const Longest = 7 * 24 * time.Hour

// seenEvery is how often it is noted that a session is in use.
const seenEvery = time.Minute

// Access decides who is who.
type Access struct {
	store Store
	now   func() time.Time

	mu     sync.Mutex    // guards roster
	roster *Roster       // nil: not read yet
	slow   chan struct{} // one password is tried at a time: guessing gets no faster by asking often

	telling sync.Mutex    // guards changed
	changed chan struct{} // closed at the next change of people or sessions
}

// New makes it. now is real time, whatever the shop's clock does.
func New(store Store, now func() time.Time) *Access {
	return &Access{store: store, now: now, slow: make(chan struct{}, 1), changed: make(chan struct{})}
}

// Changes gives a channel that closes when people, what they may, or their sessions change: whoever was let in for longer than a request
// asks again then.
func (a *Access) Changes() <-chan struct{} {
	a.telling.Lock()
	defer a.telling.Unlock()
	return a.changed
}

func (a *Access) tell() {
	a.telling.Lock()
	defer a.telling.Unlock()
	close(a.changed)
	a.changed = make(chan struct{})
}

func (a *Access) load(ctx context.Context) (Roster, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.roster == nil {
		r, err := a.store.Roster(ctx)
		if err != nil {
			return r, fmt.Errorf("reading who works here: %w", err)
		}
		a.roster = &r
	}
	return *a.roster, nil
}

// edit makes a change to a person.
func (a *Access) edit(ctx context.Context, by Actor, decide func(Roster) (Edit, error)) error {
	a.mu.Lock() // whoever asks meanwhile waits for what comes of it
	defer a.mu.Unlock()
	a.roster = nil
	defer a.tell()
	return a.store.EditPeople(ctx, by, decide)
}

// Open reports whether nobody was ever entered.
func (a *Access) Open(ctx context.Context) (bool, error) {
	r, err := a.load(ctx)
	return err == nil && !r.Closed && len(r.People) == 0, err
}

// People lists who works here, by name.
func (a *Access) People(ctx context.Context) ([]Person, error) {
	r, err := a.load(ctx)
	return r.People, err
}

// Change is what to do to a person.
type Change struct {
	Name     string
	Role     Role
	Password string // empty: as it was
	Token    bool   // make a new one
}

// Enter adds or changes a person and gives the new token, if one is wanted. A changed password or token ends what was open by the
// old one. The shop keeps at least one lead who can prove who they are, or nobody.
func (a *Access) Enter(ctx context.Context, by Actor, c Change) (p Person, token string, err error) {
	c.Name = strings.TrimSpace(c.Name)
	if c.Name == "" || !c.Role.Valid() {
		return p, "", &Refused{
			What:   fmt.Sprintf("%q as %q is nobody", c.Name, c.Role),
			Advice: "Give a name, and one of the roles desk, technician and lead.",
		}
	}
	if n := utf8.RuneCountInString(c.Password); n > 0 && n < LeastPassword {
		return p, "", &Refused{
			What: fmt.Sprintf("a password of %d characters is too short", n), Advice: fmt.Sprintf("Take %d or more.", LeastPassword),
		}
	}
	kept := ""
	if c.Password != "" {
		kept = encode(c.Password) // slow: before anybody waits
	}
	err = a.edit(ctx, by, func(r Roster) (Edit, error) {
		was, known := r.Find(c.Name)
		if p = was; !known {
			p = Person{Name: c.Name, Token: []byte{}, Since: a.now()}
		}
		p.Role = c.Role
		if kept != "" {
			p.Password = kept
		}
		if c.Token {
			token = rand.Text()
			p.Token = digest(token)
		}
		if p.Password == "" && len(p.Token) == 0 {
			return Edit{}, &Refused{What: c.Name + " could not prove who they are", Advice: "Give a password, or have a token made."}
		}
		if p.Role != Lead && !r.leadBeside(p.Name) {
			return Edit{}, &Refused{What: "the shop would have no lead", Advice: "Enter a lead first: only a lead can enter people."}
		}
		return Edit{Save: &p}, nil
	})
	if err != nil {
		return p, "", fmt.Errorf("entering %s: %w", c.Name, err)
	}
	return p, token, nil
}

// Remove removes a person. The only lead stays: a shop that is closed does not open again.
func (a *Access) Remove(ctx context.Context, by Actor, name string) error {
	err := a.edit(ctx, by, func(r Roster) (Edit, error) {
		if _, known := r.Find(name); !known {
			return Edit{}, &Unknown{name}
		}
		if !r.leadBeside(name) {
			return Edit{}, &Refused{
				What: name + " is the only lead", Advice: "Make somebody else a lead first: nobody else could enter people.",
			}
		}
		return Edit{Remove: name}, nil
	})
	if err != nil {
		return fmt.Errorf("removing %s: %w", name, err)
	}
	return nil
}

// wrong is what every failed sign-in answers: whether the name exists is nobody's business.
var wrong = &Refused{What: "name and password do not belong together", Advice: "Try again.", SignIn: true}

// SignIn gives what the cookie carries.
func (a *Access) SignIn(ctx context.Context, name, password string) (Person, string, error) {
	r, err := a.load(ctx)
	if err != nil {
		return Person{}, "", err
	}
	select {
	case a.slow <- struct{}{}:
		defer func() { <-a.slow }()
	case <-ctx.Done():
		return Person{}, "", ctx.Err()
	}
	p, known := r.Find(name)
	if !known || p.Password == "" {
		_ = matches(nobody, password) // as long as for somebody
		return Person{}, "", wrong
	}
	if !matches(p.Password, password) {
		return Person{}, "", wrong
	}
	if err := a.store.ForgetSessions(ctx, a.now().Add(-Idle)); err != nil {
		return Person{}, "", fmt.Errorf("ending old sessions: %w", err)
	}
	secret := rand.Text()
	if err := a.store.SaveSession(ctx, Session{digest(secret), name, a.now(), a.now()}); err != nil {
		return Person{}, "", fmt.Errorf("signing in: %w", err)
	}
	return p, secret, nil
}

// SignOut ends a session.
func (a *Access) SignOut(ctx context.Context, secret string) error {
	defer a.tell()
	return a.store.RemoveSession(ctx, digest(secret))
}

// EndSessions ends all sessions.
func (a *Access) EndSessions(ctx context.Context) error {
	defer a.tell()
	if err := a.store.ForgetSessions(ctx, a.now().AddDate(1000, 0, 0)); err != nil { // however a clock stood
		return fmt.Errorf("ending the sessions: %w", err)
	}
	return nil
}

// BySession finds who signed in; nil for nobody. It is a request by which the session lasts longer.
func (a *Access) BySession(ctx context.Context, secret string) (*Person, error) {
	return a.bySession(ctx, secret, true)
}

// StillBySession is BySession for what goes on by a request of before: it makes no session last.
func (a *Access) StillBySession(ctx context.Context, secret string) (*Person, error) {
	return a.bySession(ctx, secret, false)
}

func (a *Access) bySession(ctx context.Context, secret string, asked bool) (*Person, error) {
	s, err := a.store.Session(ctx, digest(secret))
	if errors.Is(err, ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("looking a session up: %w", err)
	}
	now := a.now()
	if now.Sub(s.Seen) > Idle || now.Sub(s.Begun) > Longest {
		return nil, nil
	}
	r, err := a.load(ctx)
	if err != nil {
		return nil, err
	}
	p, known := r.Find(s.Person)
	if !known {
		return nil, nil
	}
	if asked && now.Sub(s.Seen) > seenEvery {
		if err := a.store.SeeSession(ctx, s.Hash, now); err != nil {
			return nil, fmt.Errorf("noting a session: %w", err)
		}
	}
	return &p, nil
}

// ByToken finds whose token it is; nil for nobody's.
func (a *Access) ByToken(ctx context.Context, token string) (*Person, error) {
	r, err := a.load(ctx)
	if err != nil {
		return nil, err
	}
	hash := digest(token)
	for _, p := range r.People {
		if len(p.Token) > 0 && subtle.ConstantTimeCompare(p.Token, hash) == 1 {
			return &p, nil
		}
	}
	return nil, nil
}

// digest is enough for secrets that are random already.
func digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Cost of trying a password by argon2id (RFC 9106, 4): 64 MiB, three passes, two lanes.
const (
	passes, memory, lanes = 3, 64 << 10, 2
	saltBytes, hashBytes  = 16, 32
)

// encode makes of a password what is kept: salt and hash.
func encode(password string) string {
	salt := make([]byte, saltBytes)
	_, _ = rand.Read(salt) // never fails
	hash := argon2.IDKey([]byte(password), salt, passes, memory, lanes, hashBytes)
	return base64.RawStdEncoding.EncodeToString(append(salt, hash...))
}

// nobody is kept of no password.
var nobody = base64.RawStdEncoding.EncodeToString(make([]byte, saltBytes+hashBytes))

func matches(kept, password string) bool {
	raw, err := base64.RawStdEncoding.DecodeString(kept)
	if err != nil || len(raw) != saltBytes+hashBytes {
		return false
	}
	hash := argon2.IDKey([]byte(password), raw[:saltBytes], passes, memory, lanes, hashBytes)
	return subtle.ConstantTimeCompare(hash, raw[saltBytes:]) == 1
}
