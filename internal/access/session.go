package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/wording"
)

// How long a session lasts without a request, and however often it is used; how often it is noted that one is in use; and how long it is
// enough to have proved who one is for what needs that anew.
const (
	Idle      = 12 * time.Hour
	Longest   = 7 * 24 * time.Hour
	seenEvery = time.Minute
	ProvedFor = 10 * time.Minute
)

// From is where a request comes from.
type From struct{ Address, Agent string }

// Session is a person who signed in. Who reads the store cannot become the person: it holds hashes.
type Session struct {
	ID     string
	Hash   []byte
	Person string
	From   From
	Begun  time.Time
	Seen   time.Time
	Proved time.Time // who they are
}

func (s Session) over(now time.Time) bool {
	return now.Sub(s.Seen) > Idle || now.Sub(s.Begun) > Longest
}

// Caller is who asks.
type Caller struct {
	Actor

	Reads   bool      // may change nothing
	Session string    // the ID of theirs; empty: they did not sign in
	Token   string    // the ID of theirs
	Proved  time.Time // when they proved in this session who they are
	Unset   bool      // the shop demands a second factor, and they have none: they may set one up, and nothing else
}

// Prove tells whether somebody has to say again who they are, before what is hard to undo. A token is not asked: a program has no hands.
func (a *Access) Prove(c Caller) error {
	if c.Session == "" || a.now().Sub(c.Proved) <= ProvedFor {
		return nil
	}
	return &Refused{What: "this needs you to say again who you are", Advice: "Give your password.", Help: ToProve}
}

// wrong is what every failed sign-in answers: whether the name exists is nobody's business.
var wrong = &Refused{What: "name and password do not belong together", Advice: "Try again.", Help: ToSignIn}

// Proof is by what somebody proves who they are.
type Proof struct{ Password, Code string }

// prove tries a proof of a person's, and says why it is none.
func (a *Access) prove(ctx context.Context, name string, from From, proof Proof) (p Person, err error) {
	r, err := a.load(ctx)
	if err != nil {
		return p, err
	}
	p, known := r.Find(name)
	var without error // what is lacking beside the password
	fails, err := a.guard.attempt(ctx, name, from.Address, func() (tried, error) {
		if !known || p.Password == "" {
			_ = matches(nobody, proof.Password) // as long as for somebody
			return isWrong, nil
		}
		switch {
		case !matches(p.Password, proof.Password):
			return isWrong, nil
		case p.Factor.Secret == "":
			return isRight, nil
		case proof.Code == "":
			without = &Refused{What: "the code of your second factor is wanted, too", Advice: "Read it from your device.", Help: ToGiveCode}
			return isHalf, nil
		}
		right, err := a.useCode(ctx, p, proof.Code)
		if right {
			return isRight, err
		}
		return isWrong, err
	})
	switch {
	case err != nil:
		if busy, ok := errors.AsType[*Busy](err); ok {
			a.log.Warn("sign-in refused: too many", "address", from.Address, "after", busy.After)
		}
		return p, err
	case fails > 0:
		a.failed(ctx, r, name, from, fails)
		return p, wrong
	case without != nil:
		return p, without
	}
	return p, nil
}

// failed notes a failed sign-in: in the log, and, at the third and each time they have doubled since, in the audit. A name that is nobody's
// is not noted: it may be a password in the wrong field.
func (a *Access) failed(ctx context.Context, r Roster, name string, from From, fails int) {
	if _, known := r.Find(name); !known {
		name = "somebody unknown"
	}
	a.log.Warn("sign-in failed", "as", name, "address", from.Address, "fails", fails)
	if fails < 3 || fails/3&(fails/3-1) != 0 || fails%3 != 0 {
		return
	}
	n := Note{Said: wording.Say(wording.SignInsFailed, wording.Values{"name": name, "n": fails, "address": from.Address})}
	if err := a.store.NoteAccess(context.WithoutCancel(ctx), Service, n); err != nil {
		a.log.Error("noting failed sign-ins", "error", err)
	}
}

// SignIn gives what the cookie carries.
func (a *Access) SignIn(ctx context.Context, name string, from From, proof Proof) (Caller, string, error) {
	p, err := a.prove(ctx, name, from, proof)
	if err != nil {
		return Caller{}, "", err
	}
	now := a.now()
	if err := a.store.ForgetSessions(ctx, now.Add(-Idle)); err != nil {
		return Caller{}, "", fmt.Errorf("ending old sessions: %w", err)
	}
	secret := rand.Text()
	s := Session{ID: newID(), Hash: digest(secret), Person: name, From: from, Begun: now, Seen: now, Proved: now}
	if err := a.store.SaveSession(ctx, s); err != nil {
		return Caller{}, "", fmt.Errorf("signing in: %w", err)
	}
	if old(p.Password) { // of before: it is kept as it is now
		a.keepAnew(ctx, p, proof.Password)
	}
	a.log.Info("signed in", "who", name, "address", from.Address)
	c, err := a.callerOf(ctx, s)
	if err != nil || c == nil {
		return Caller{}, "", errors.Join(err, wrong)
	}
	return *c, secret, nil
}

// ProveAgain notes that whoever signed in has proved again who they are.
func (a *Access) ProveAgain(ctx context.Context, secret string, from From, proof Proof) (Caller, error) {
	s, err := a.store.Session(ctx, digest(secret))
	if errors.Is(err, ErrNone) {
		return Caller{}, wrong
	}
	if err != nil {
		return Caller{}, fmt.Errorf("looking a session up: %w", err)
	}
	if _, err := a.prove(ctx, s.Person, from, proof); err != nil {
		return Caller{}, err
	}
	s.Proved = a.now()
	if err := a.store.ProveSession(ctx, s.Hash, s.Proved); err != nil {
		return Caller{}, fmt.Errorf("noting who it is: %w", err)
	}
	c, err := a.callerOf(ctx, s)
	if err != nil || c == nil {
		return Caller{}, errors.Join(err, wrong)
	}
	return *c, nil
}

// SetPassword changes somebody's own password, which they prove by the old one. Their other sessions end; the one with the secret stays.
func (a *Access) SetPassword(ctx context.Context, by Actor, from From, proof Proof, to, secret string) error {
	if _, err := a.prove(ctx, by.Name, from, proof); err != nil {
		return err
	}
	if err := acceptable(by.Name, to); err != nil {
		return err
	}
	hash := encode(to)
	return a.edit(ctx, by, func(r Roster) (Edit, error) {
		p, known := r.Find(by.Name)
		if !known {
			return Edit{}, &Unknown{Name: by.Name}
		}
		p.Password = hash
		return Edit{
			Save: &p, EndSessions: p.Name, Keep: digest(secret),
			Note: Note{Said: wording.Say(wording.PasswordChanged, wording.Values{"name": p.Name})},
		}, nil
	})
}

// keepAnew keeps a password that is right as new ones are. That it does not, harms nobody.
func (a *Access) keepAnew(ctx context.Context, p Person, password string) {
	hash := encode(password)
	err := a.edit(ctx, Service, func(r Roster) (Edit, error) {
		now, known := r.Find(p.Name)
		if !known || now.Password != p.Password {
			return Edit{}, &Unknown{Name: p.Name}
		}
		now.Password = hash
		return Edit{Save: &now, Note: Note{Said: wording.Say(wording.PasswordKeptAnew, wording.Values{"name": p.Name})}}, nil
	})
	if err != nil {
		a.log.Warn("keeping a password anew", "who", p.Name, "error", err)
	}
}

// SignOut ends a session.
func (a *Access) SignOut(ctx context.Context, secret string) error {
	s, err := a.store.Session(ctx, digest(secret))
	if errors.Is(err, ErrNone) {
		return nil
	}
	if err != nil {
		return err
	}
	defer a.tell()
	a.log.Info("signed out", "who", s.Person)
	return a.store.RemoveSession(ctx, s.ID)
}

// EndSessions ends all sessions.
func (a *Access) EndSessions(ctx context.Context) error {
	defer a.tell()
	if err := a.store.ForgetSessions(ctx, a.now().AddDate(1000, 0, 0)); err != nil { // however a clock stood
		return fmt.Errorf("ending the sessions: %w", err)
	}
	return nil
}

// Sessions lists those that are not over: one's own, or, for a lead, everybody's. The newest is first.
func (a *Access) Sessions(ctx context.Context, by Actor) ([]Session, error) {
	all, err := a.store.Sessions(ctx)
	if err != nil {
		return nil, fmt.Errorf("listing the sessions: %w", err)
	}
	now := a.now()
	all = slices.DeleteFunc(all, func(s Session) bool { return s.over(now) || s.Person != by.Name && !by.May(Lead) })
	slices.SortStableFunc(all, func(x, y Session) int { return y.Seen.Compare(x.Seen) })
	return all, nil
}

// EndSession ends one's own session, or, for a lead, anybody's.
func (a *Access) EndSession(ctx context.Context, by Actor, id string) error {
	all, err := a.Sessions(ctx, by)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(s Session) bool { return s.ID == id })
	if at < 0 {
		return &Unknown{Name: id, Kind: "sessions"}
	}
	defer a.tell()
	if err := a.store.RemoveSession(ctx, id); err != nil {
		return fmt.Errorf("ending a session: %w", err)
	}
	a.log.Info("session ended", "of", all[at].Person, "by", by.Name)
	return a.store.NoteAccess(ctx, by, Note{
		Said: wording.Say(wording.SessionEnded, wording.Values{"name": all[at].Person, "by": by.Name}),
	})
}

// BySession finds who signed in; nil for nobody. It is a request by which the session lasts longer.
func (a *Access) BySession(ctx context.Context, secret string) (*Caller, error) {
	return a.bySession(ctx, secret, true)
}

// StillBySession is BySession for what goes on by a request of before: it makes no session last.
func (a *Access) StillBySession(ctx context.Context, secret string) (*Caller, error) {
	return a.bySession(ctx, secret, false)
}

func (a *Access) bySession(ctx context.Context, secret string, asked bool) (*Caller, error) {
	s, err := a.store.Session(ctx, digest(secret))
	if errors.Is(err, ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("looking a session up: %w", err)
	}
	now := a.now()
	if s.over(now) {
		return nil, nil
	}
	c, err := a.callerOf(ctx, s)
	if err != nil || c == nil {
		return nil, err
	}
	if asked && now.Sub(s.Seen) > seenEvery {
		if err := a.store.SeeSession(ctx, s.Hash, now); err != nil {
			return nil, fmt.Errorf("noting a session: %w", err)
		}
	}
	return c, nil
}

// callerOf is who signed in; nil when they do not work here any more.
func (a *Access) callerOf(ctx context.Context, s Session) (*Caller, error) {
	r, err := a.load(ctx)
	if err != nil {
		return nil, err
	}
	p, known := r.Find(s.Person)
	if !known {
		return nil, nil
	}
	return &Caller{
		Actor: Actor{Name: p.Name, Role: p.Role, Via: BySession}, Session: s.ID, Proved: s.Proved,
		Unset: r.Demands.SecondFactor && p.Factor.Secret == "",
	}, nil
}
