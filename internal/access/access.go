// Package access knows the people of the shop: their roles, how they prove who they are, and what each role may do. A new shop is open
// to whoever reaches it, under the name they give; the first person entered closes it, for good. Start with Access.
package access

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"hylostat.example/internal/core/wording"
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
	Name     string
	Role     Role
	Password string // argon2id, as encode writes it; empty: none
	Since    time.Time
	Factor   Factor
}

// Roster is everybody who works here, by what they prove who they are, and what the shop demands.
type Roster struct {
	People  []Person // by name
	Tokens  []Token  // oldest first
	Demands Demands
	Closed  bool // somebody was entered once: nobody comes in any more who cannot prove who they are
}

// Demands are what a lead may demand beyond what always is.
type Demands struct {
	SecondFactor bool `json:"second_factor,omitempty"` // whoever signs in gives a code, too
	SecondPerson bool `json:"second_person,omitempty"` // what destroys everything on a drive is confirmed by somebody else
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

// Edit is a change to who works here and by what they prove it. What is not set stays.
type Edit struct {
	Save        *Person
	Remove      string // with tokens and sessions
	AddToken    *Token
	EndToken    string
	EndSessions string // of a person, but the one in Keep
	Keep        []byte
	Demands     *Demands
	Note        Note // empty: the audit gets no row
}

// Note is what the audit says of a change, or of a refusal.
type Note struct {
	Said   wording.Phrase
	What   string // of an edit: what it changed; empty: nothing
	Before string
	After  string
}

// Store keeps people, tokens and sessions.
type Store interface {
	Roster(ctx context.Context) (Roster, error)
	// EditPeople decides on a change by who works here at that moment, and makes it, with its row in the audit: nobody else changes people
	// in between. The first person saved closes the shop.
	EditPeople(ctx context.Context, by Actor, decide func(Roster) (Edit, error)) error
	NoteAccess(ctx context.Context, by Actor, n Note) error      // a row in the audit
	SeeToken(ctx context.Context, id string, at time.Time) error // that it is in use
	SaveSession(ctx context.Context, s Session) error
	SeeSession(ctx context.Context, hash []byte, at time.Time) error   // that it is in use
	ProveSession(ctx context.Context, hash []byte, at time.Time) error // that its person proved it anew
	Session(ctx context.Context, hash []byte) (Session, error)         // ErrNone when there is none
	Sessions(ctx context.Context) ([]Session, error)
	RemoveSession(ctx context.Context, id string) error
	ForgetSessions(ctx context.Context, before time.Time) error
}

// ErrNone says that there is no such session.
var ErrNone = errors.New("no such session")

// Why is what would help somebody who was refused.
type Why string

// The kinds of help.
const (
	ToSignIn    Why = "sign in"
	ToGiveCode  Why = "code"  // of the second factor
	ToProve     Why = "prove" // say again who they are
	ToSetFactor Why = "set factor"
)

// Refused says that somebody may not do something.
type Refused struct {
	What, Advice string
	Help         Why // empty: nothing would
}

func (e *Refused) Error() string { return e.What + ". " + e.Advice }

// Unknown says that nobody, or nothing, has a name.
type Unknown struct {
	Name string
	Kind string // in the plural: tokens, sessions; empty: people
}

func (e *Unknown) Error() string {
	if e.Kind != "" {
		return fmt.Sprintf("none of the %s is %q", e.Kind, e.Name)
	}
	return fmt.Sprintf("nobody here is called %q", e.Name)
}

// Access decides who is who.
type Access struct {
	store Store
	now   func() time.Time
	log   *slog.Logger
	guard *guard

	mu     sync.Mutex // guards roster
	roster *Roster    // nil: not read yet

	telling sync.Mutex    // guards changed
	changed chan struct{} // closed at the next change of people or sessions
}

// New makes it. now is real time, whatever the shop's clock does.
func New(store Store, now func() time.Time, log *slog.Logger) *Access {
	return &Access{store: store, now: now, log: log.WithGroup("access"), guard: newGuard(now), changed: make(chan struct{})}
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

// edit makes a change to who works here.
func (a *Access) edit(ctx context.Context, by Actor, decide func(Roster) (Edit, error)) error {
	a.mu.Lock() // whoever asks meanwhile waits for what comes of it
	defer a.mu.Unlock()
	a.roster = nil
	defer a.tell()
	var said wording.Phrase
	err := a.store.EditPeople(ctx, by, func(r Roster) (Edit, error) {
		e, err := decide(r)
		said = e.Note.Said
		return e, err
	})
	if err == nil && !said.IsZero() {
		a.log.Info(said.String(), "by", by.Name, "via", by.Via)
	}
	return err
}

// Open reports whether nobody was ever entered.
func (a *Access) Open(ctx context.Context) (bool, error) {
	r, err := a.load(ctx)
	return err == nil && !r.Closed && len(r.People) == 0, err
}

// Roster gives who works here.
func (a *Access) Roster(ctx context.Context) (Roster, error) { return a.load(ctx) }

// ofPerson is the name of the one token that comes with a person; a new one ends it.
const ofPerson = "command line"

// Change is what to do to a person.
type Change struct {
	Name     string
	Role     Role
	Password string // empty: as it was
	Token    bool   // make one for them, without an end
}

// Enter adds or changes a person and gives the new token, if one is wanted. A changed password ends what was open by the old one. The shop
// keeps at least one lead who can prove who they are, or nobody.
func (a *Access) Enter(ctx context.Context, by Actor, c Change) (p Person, token string, err error) {
	c.Name = strings.TrimSpace(c.Name)
	if c.Name == "" || !c.Role.Valid() {
		return p, "", &Refused{
			What:   fmt.Sprintf("%q as %q is nobody", c.Name, c.Role),
			Advice: "Give a name, and one of the roles desk, technician and lead.",
		}
	}
	hash := ""
	if c.Password != "" {
		if err := acceptable(c.Name, c.Password); err != nil {
			return p, "", err
		}
		hash = encode(c.Password) // slow: before anybody waits
	}
	err = a.edit(ctx, by, func(r Roster) (Edit, error) {
		was, known := r.Find(c.Name)
		if p = was; !known {
			p = Person{Name: c.Name, Since: a.now()}
		}
		p.Role = c.Role
		e := Edit{Save: &p, Note: Note{
			Said: wording.Say(wording.PersonIs, wording.Values{"name": p.Name, "role": string(p.Role)}),
			What: "role of " + p.Name, Before: string(was.Role), After: string(p.Role),
		}}
		if hash != "" {
			p.Password, e.EndSessions = hash, p.Name
			e.Note.Said = wording.Say(wording.PersonGotPassword, wording.Values{"name": p.Name, "role": string(p.Role), "by": by.Name})
		}
		if c.Token {
			var one Token
			one, token = a.newToken(by, p.Name, ofPerson, string(p.Role), time.Time{})
			e.AddToken = &one
			if at := slices.IndexFunc(r.Tokens, func(t Token) bool { return t.Person == p.Name && t.Name == ofPerson }); at >= 0 {
				e.EndToken = r.Tokens[at].ID
			}
			got := wording.PersonGotToken
			if hash != "" {
				got = wording.PersonGotBoth
			}
			e.Note.Said = wording.Say(got, wording.Values{"name": p.Name, "role": string(p.Role), "by": by.Name})
		}
		if p.Password == "" && !c.Token && !slices.ContainsFunc(r.Tokens, func(t Token) bool { return t.Person == p.Name }) {
			return Edit{}, &Refused{What: c.Name + " could not prove who they are", Advice: "Give a password, or have a token made."}
		}
		if p.Role != Lead && !r.leadBeside(p.Name) {
			return Edit{}, &Refused{What: "the shop would have no lead", Advice: "Enter a lead first: only a lead can enter people."}
		}
		return e, nil
	})
	if err != nil {
		return p, "", fmt.Errorf("entering %s: %w", c.Name, err)
	}
	return p, token, nil
}

// Recover gives somebody who cannot get in any more a new password, without a second factor; their sessions end. It is for whoever may read
// the records on the machine.
func (a *Access) Recover(ctx context.Context, by Actor, name, password string) error {
	if err := acceptable(name, password); err != nil {
		return err
	}
	hash := encode(password)
	err := a.edit(ctx, by, func(r Roster) (Edit, error) {
		p, known := r.Find(name)
		if !known {
			return Edit{}, &Unknown{Name: name}
		}
		p.Password, p.Factor = hash, Factor{}
		return Edit{Save: &p, EndSessions: p.Name, Note: Note{
			Said: wording.Say(wording.PersonRecovered, wording.Values{"name": p.Name, "by": by.Name}), What: "password of " + p.Name,
		}}, nil
	})
	if err != nil {
		return fmt.Errorf("recovering %s: %w", name, err)
	}
	return nil
}

// Remove removes a person. The only lead stays: a shop that is closed does not open again.
func (a *Access) Remove(ctx context.Context, by Actor, name string) error {
	err := a.edit(ctx, by, func(r Roster) (Edit, error) {
		was, known := r.Find(name)
		if !known {
			return Edit{}, &Unknown{Name: name}
		}
		if !r.leadBeside(name) {
			return Edit{}, &Refused{
				What: name + " is the only lead", Advice: "Make somebody else a lead first: nobody else could enter people.",
			}
		}
		return Edit{Remove: name, Note: Note{
			Said: wording.Say(wording.PersonGone, wording.Values{"name": name}), What: "role of " + name, Before: string(was.Role),
		}}, nil
	})
	if err != nil {
		return fmt.Errorf("removing %s: %w", name, err)
	}
	return nil
}

// SetDemands sets what the shop demands.
func (a *Access) SetDemands(ctx context.Context, by Actor, to Demands) error {
	return a.edit(ctx, by, func(r Roster) (Edit, error) {
		if to.SecondFactor && !r.Demands.SecondFactor {
			if p, known := r.Find(by.Name); known && p.Factor.Secret == "" {
				return Edit{}, &Refused{
					What: "you have no second factor yourself", Advice: "Set one up first: else this would shut you out.",
					Help: ToSetFactor,
				}
			}
		}
		return Edit{Demands: &to, Note: Note{
			Said: wording.Say(wording.DemandsSet, wording.Values{"by": by.Name}), What: "what is demanded",
			Before: r.Demands.String(), After: to.String(),
		}}, nil
	})
}

func (r Demands) String() string {
	var all []string
	if r.SecondFactor {
		all = append(all, "a second factor")
	}
	if r.SecondPerson {
		all = append(all, "a second person for an overwrite")
	}
	return strings.Join(all, ", ")
}

// Refusal notes that somebody was refused something, in the log; and in the audit, once a minute for each.
func (a *Access) Refusal(ctx context.Context, who Actor, what, address string) {
	a.log.Warn("refused", "who", who.Name, "role", who.Role, "what", what, "address", address)
	if who.Name == "" || !a.guard.once("refused "+who.Name) {
		return
	}
	if err := a.store.NoteAccess(ctx, who, Note{Said: wording.Say(wording.AccessRefused, wording.Values{"what": what})}); err != nil {
		a.log.Error("noting a refusal", "error", err)
	}
}

// same compares secrets.
func same(a, b []byte) bool { return len(a) > 0 && subtle.ConstantTimeCompare(a, b) == 1 }

// newID names a session or a token where people see it.
func newID() string { return strings.ToLower(rand.Text()[:10]) }
