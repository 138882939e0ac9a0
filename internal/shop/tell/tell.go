// Package tell tells people and programs of alerts: it keeps the routes, puts what is to be told into the outbox in the change of the
// storage that makes the alert, and has it sent, again and again until it is told or a day has passed. Who is told when is decided by
// core/tell; how, by whoever sends. Start with Announce and Keep.
package tell

import (
	"context"
	"sync"
	"time"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/drive"
	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Route is a route with what is kept of it.
type Route struct {
	routes.Route
	Secret       []byte // sealed; nil: it has none
	SetBy        string
	At           time.Time
	Sent, Failed time.Time // when it told something last, and when it failed to; zero: never
	Why          string    // that
}

// Standing tells how a route does.
func (r Route) Standing() wording.Phrase {
	v := wording.Values{"why": r.Why, "sent": r.Sent.UTC().Format(time.RFC3339), "failed": r.Failed.UTC().Format(time.RFC3339)}
	switch {
	case r.Off != "":
		return wording.Say(wording.RouteOff, wording.Values{"why": r.Off})
	case r.By == routes.Console:
		return wording.Say(wording.RouteNear, nil)
	case r.Sent.IsZero() && r.Failed.IsZero():
		return wording.Say(wording.RouteUnused, nil)
	case r.Failed.After(r.Sent):
		return wording.Say(wording.RouteFailing, v)
	case r.Failed.IsZero():
		return wording.Say(wording.RouteWell, v)
	}
	return wording.Say(wording.RouteRecovered, v)
}

// State is how a message stands.
type State string

// The states of a message.
const (
	Waiting State = "waiting"
	Sent    State = "sent"
	Dropped State = "dropped" // somebody had taken or settled the alert by then
	Failed  State = "failed"  // for good
)

// Message is something that one route is to tell.
type Message struct {
	ID    int64
	Route string
	State State
	Due   time.Time
	Next  time.Time // when it is tried, or tried again
	Tries int
	routes.When
	Ended time.Time // when it was sent, dropped or given up
	Why   string
	Body  Body
}

// Body is what is told, as it was when it happened.
type Body struct {
	Alert    alert.Alert    `json:"alert"`
	Tells    alert.Tells    `json:"tells"`
	Of       wording.Phrase `json:"of"`
	Serial   string         `json:"serial,omitempty"` // empty: it is about no drive
	Model    string         `json:"model,omitempty"`
	Grade    string         `json:"grade,omitempty"`
	Bay      drive.Bay      `json:"bay,omitzero"`
	Advice   string         `json:"advice,omitempty"` // the one thing to do
	Ticket   string         `json:"ticket,omitempty"`
	Customer string         `json:"customer,omitempty"`
}

// Letter is what a sender sends at once.
type Letter struct {
	ID    string // the same whenever the same is sent: who receives it knows repeats by it
	Shop  string
	Key   string // by which the shop signs: it names the shop where names are alike
	At    time.Time
	Trial bool
	All   []Body // one, but of a digest or a trial
}

// Sender sends by one means. The words are what was said between the two sides, as far as it went.
type Sender interface {
	Send(ctx context.Context, r routes.Route, secret string, l Letter) (words []string, err error)
}

// Gone is a receiver that wants nothing any more.
type Gone struct{ Why string }

func (e *Gone) Error() string { return e.Why }

// Refused is a receiver that will not take this message, however often it is tried.
type Refused struct{ Why string }

func (e *Refused) Error() string { return e.Why }

// Vault keeps secrets.
type Vault interface {
	Seal(secret string) ([]byte, error)
	Open(sealed []byte) (string, error)
}

// Reader is what it reads.
type Reader interface {
	Routes(ctx context.Context) ([]Route, error)                                  // by name
	DueMessages(ctx context.Context, now time.Time, limit int) ([]Message, error) // that wait, those due first
	MessagesOf(ctx context.Context, alerts []int64, limit int) ([]Message, error) // newest first; no alert: of all
	AlertByID(ctx context.Context, id int64) (alert.Alert, error)                 // the zero one: there is none
	AlertOf(ctx context.Context, t alert.Thing) (alert.Alert, error)              // the zero one: there is none
	Drive(ctx context.Context, id int64) (shop.Drive, error)
	Intakes(ctx context.Context, driveID int64) ([]shop.Intake, error) // newest first
	LastVerdict(ctx context.Context, driveID int64) (shop.Verdict, error)
}

// Tx is one change of the storage: all of it, or nothing.
type Tx interface {
	Reader
	shop.Ledger
	SaveRoute(ctx context.Context, r Route) error
	DropRoute(ctx context.Context, name string) error
	AddMessage(ctx context.Context, m *Message) error    // it gets its number
	SaveAlert(ctx context.Context, a *alert.Alert) error // a new one gets its number
	SaveMessage(ctx context.Context, m Message) error
	Rest(ctx context.Context, route string, until time.Time) error // what waits for it is not tried before
	Forget(ctx context.Context, before time.Time) error            // messages that ended before
}

// Store is the storage it needs.
type Store interface {
	Reader
	Write(ctx context.Context, f func(tx Tx) error) error
}

// Teller is the use case.
type Teller struct {
	books   *shop.Books
	store   Store
	senders map[routes.Means]Sender
	vault   Vault

	wake    chan struct{}
	mu      sync.Mutex      // guards what follows
	sending map[string]bool // routes at which a letter is on its way
	arrived map[int64]bool  // messages that were told, and could not be noted as told yet
}

// New makes a teller. Without senders it tells the console alone.
func New(books *shop.Books, store Store, senders map[routes.Means]Sender, vault Vault) *Teller {
	return &Teller{
		books: books, store: store, senders: senders, vault: vault,
		wake: make(chan struct{}, 1), sending: map[string]bool{}, arrived: map[int64]bool{},
	}
}

// console is the route by which every shop is told that has set none for the console.
var console = routes.Route{Name: "the console", By: routes.Console, Least: alert.Now}

// all are the routes, with the console's if nobody has set one.
func all(ctx context.Context, r Reader) ([]Route, error) {
	set, err := r.Routes(ctx)
	if err != nil {
		return nil, err
	}
	for i := range set {
		if set[i].By == routes.Console {
			return set, nil
		}
	}
	return append(set, Route{Route: console}), nil
}

// Announce puts an alert that has just changed into the outbox, for each route that is to tell it.
func (t *Teller) Announce(ctx context.Context, tx Tx, a *alert.Alert, tells alert.Tells, of wording.Phrase, bay drive.Bay) error {
	now := t.books.Clock.Now()
	known, err := all(ctx, tx)
	if err != nil {
		return err
	}
	var body *Body
	for i := range known {
		r := &known[i]
		if body == nil {
			if body, err = bodyOf(ctx, tx, a, tells, of, bay); err != nil {
				return err
			}
		}
		bench := a.Bench
		if a.Drive != 0 {
			bench = bay.Bench
		}
		when, ok := r.When(a, tells, routes.Of{Serial: body.Serial, Bench: bench}, now)
		if !ok {
			continue
		}
		m := Message{Route: r.Name, State: Waiting, Due: when.At, Next: when.At, When: when, Body: *body}
		if !r.Names {
			m.Body.Customer = ""
		}
		if err := tx.AddMessage(ctx, &m); err != nil {
			return err
		}
	}
	return nil
}

// bodyOf is what is to be told of an alert, as things stand.
func bodyOf(ctx context.Context, r Reader, a *alert.Alert, tells alert.Tells, of wording.Phrase, bay drive.Bay) (*Body, error) {
	b := &Body{Alert: *a, Tells: tells, Of: of, Bay: bay}
	if a.Drive == 0 {
		return b, nil
	}
	d, err := r.Drive(ctx, a.Drive)
	if err != nil {
		return nil, err
	}
	b.Serial, b.Model, b.Grade = d.Identity.Serial, d.Identity.Model, d.Now.Stands().String()
	intakes, err := r.Intakes(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	if len(intakes) > 0 && intakes[0].Handover == nil {
		b.Ticket, b.Customer = intakes[0].Ticket, intakes[0].Customer
	}
	v, err := r.LastVerdict(ctx, d.ID)
	if err != nil && !shop.IsNone(err) {
		return nil, err
	}
	if err == nil && len(v.Advice) > 0 {
		b.Advice = v.Advice[0]
	}
	return b, nil
}
