package fleet

import (
	"context"
	"errors"
	"fmt"

	"hylostat.example/internal/protocol"
)

// Known is what a shop keeps of a bench.
type Known struct {
	Name  string // the shop's own has none
	ID    string // by the bench's journal
	Taken int64  // the sequence of the newest report that is stored
}

// Register is what a shop keeps of itself and its benches.
type Register interface {
	// ShopID is the shop's own, made with its database and never changed.
	ShopID(ctx context.Context) (string, error)
	// Bench gives what is kept of a bench; not ok when the shop never had one of that name.
	Bench(ctx context.Context, name string) (k Known, ok bool, err error)
	// HadBays reports whether the shop has seen bays of a bench: it may have, and have no register of it, from before there was one.
	HadBays(ctx context.Context, name string) (bool, error)
	// JoinBench keeps a bench, and that no run gets a number up to this one.
	JoinBench(ctx context.Context, k Known, run int64) error
	// BroughtBack reports whether the shop's records were brought back from a copy, and what follows from that is not done yet.
	BroughtBack(ctx context.Context) (bool, error)
	SetBroughtBack(ctx context.Context, back bool) error
}

// Strangers says that the records of a shop and of a bench are not of the same past.
type Strangers struct {
	Bench  string // its title
	Copy   bool   // one of them is an older copy
	What   string
	Advice string
}

func (e *Strangers) Error() string {
	return fmt.Sprintf("the records of the shop and of %s do not belong together: %s. %s", e.Bench, e.What, e.Advice)
}

const rejoin = "Or go on with them as they are, with --rejoin."

// Join checks that the records of a bench that has come and the shop's are of the same past, and binds it to the shop when it is new. A
// shop whose records are of before, from a copy, is told again what benches still have of it, and is noted as brought back. With anew, and
// of a shop that was brought back, it binds them as they are: what one has told and the other has not got is told again or missing, and
// nothing is overwritten. The error is a *Strangers that says which copy is the older one, or one of the store or the bench. A bench that
// has joined is given orders, and has to be attended.
func (f *Fleet) Join(ctx context.Context, r Register, b protocol.Bench, anew bool) error {
	is := b.Describe()
	f.mu.Lock()
	s := f.seat(is.Name)
	taken, back := s != nil && s.bench != nil, f.back
	f.mu.Unlock()
	switch {
	case s == nil:
		return fmt.Errorf("%s calls itself %q: this shop has no such bench", is.Title, is.Name)
	case taken:
		return fmt.Errorf("two benches are called %q", is.Name)
	}
	shop, err := r.ShopID(ctx)
	if err != nil {
		return fmt.Errorf("asking the shop who it is: %w", err)
	}
	if err := join(ctx, r, b, shop, anew, back); err != nil {
		f.turned(is.Name, err)
		return err
	}
	f.here(b)
	return nil
}

// Knows reports whether a shop has worked with a bench of that name.
func Knows(ctx context.Context, r Register, name string) (bool, error) {
	_, _, had, err := of(ctx, r, name)
	return had, err
}

// of asks the shop for a bench: known is what it keeps of it, if ok; had tells that it had one of that name.
func of(ctx context.Context, r Register, name string) (known Known, ok, had bool, err error) {
	if known, ok, err = r.Bench(ctx, name); err == nil && !ok {
		had, err = r.HadBays(ctx, name)
	}
	if err != nil {
		return known, false, false, fmt.Errorf("asking the shop for the bench %q: %w", name, err)
	}
	return known, ok, ok || had, nil
}

// Lost says that the journal of a bench that a shop knows is not there.
func Lost(title, what string) error {
	return &Strangers{title, false, "its journal was lost, or another folder was given: " + what, "Bring back its bench.db. " + rejoin}
}

func join(ctx context.Context, r Register, b protocol.Bench, shop string, anew, back bool) error {
	is := b.Describe()
	bond, err := b.Bond(ctx)
	if err != nil {
		return fmt.Errorf("asking %s where it belongs: %w", is.Title, err)
	}
	known, ok, had, err := of(ctx, r, is.Name)
	if err != nil {
		return err
	}
	wrong := judge(is.Title, shop, bond, known, ok, had)
	if wrong != nil && !anew {
		now, err := r.BroughtBack(ctx)
		if err != nil {
			return fmt.Errorf("asking the shop for its past: %w", err)
		}
		another, _ := errors.AsType[*Strangers](wrong)
		older, instead := (now || back) && another.Copy, back && fresh(bond)
		if !older && !instead {
			return wrong
		}
	}
	joined := Known{Name: is.Name, ID: bond.Bench, Taken: known.Taken}
	switch {
	case !ok || known.ID != bond.Bench: // the first word between them, or a bench in the place of another
		joined.Taken = bond.Acknowledged
	case bond.Acknowledged > known.Taken:
		if err := r.SetBroughtBack(ctx, true); err != nil {
			return fmt.Errorf("noting that the shop's records are of before: %w", err)
		}
		if err := b.Resend(ctx, known.Taken); err != nil {
			return fmt.Errorf("asking %s for what it has told: %w", is.Title, err)
		}
		joined.Taken = max(known.Taken, bond.Forgotten)
	}
	if bond.Shop != shop || wrong != nil {
		if err := b.Bind(ctx, shop, joined.Taken); err != nil {
			return fmt.Errorf("binding %s to the shop: %w", is.Title, err)
		}
	}
	if err := r.JoinBench(ctx, joined, bond.Run); err != nil {
		return fmt.Errorf("keeping %s with the shop: %w", is.Title, err)
	}
	return nil
}

// fresh reports whether a bench has never worked.
func fresh(b protocol.Bond) bool { return b.Next == 1 && b.Shop == "" }

// judge tells what keeps a shop and a bench from working together; nil: they are of the same past. known holds what the shop keeps of
// a bench of that name, if ok; had tells that it had one.
func judge(title, shop string, bond protocol.Bond, known Known, ok, had bool) error {
	switch {
	case fresh(bond) && had:
		return &Strangers{
			title, false,
			"the bench's are new, and the shop knows it with runs and reports; its journal was lost, or another folder was given",
			"Bring back its bench.db. " + rejoin,
		}
	case bond.Shop != "" && bond.Shop != shop:
		return &Strangers{title, false, "the bench belongs to another shop", "Give each shop a folder of its own. " + rejoin}
	case !ok:
		return nil
	case bond.Bench != known.ID:
		return &Strangers{title, false, "the shop knows another bench by that name", "Bring back that one's bench.db. " + rejoin}
	case bond.Next <= known.Taken:
		return &Strangers{
			title, true,
			fmt.Sprintf("the bench's are an older copy: it has made %d reports, and the shop has taken in %d", bond.Next-1, known.Taken),
			"Bring back the newer bench.db. " + rejoin,
		}
	case bond.Forgotten > known.Taken:
		return &Strangers{
			title, true,
			fmt.Sprintf(
				"the shop's are an older copy: of the bench's reports it has %d, and the bench has forgotten %d that were stored",
				known.Taken, bond.Forgotten,
			),
			"Bring back the newer shop.db. " + rejoin,
		}
	}
	return nil
}
