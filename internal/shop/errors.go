package shop

import "errors"

// IsNone reports whether an error only says that there is nothing.
func IsNone(err error) bool {
	_, none := errors.AsType[*NotFound](err)
	return none
}

// NotFound says that there is no such thing.
type NotFound struct{ What, Advice string }

func (e *NotFound) Error() string { return e.What + ". " + e.Advice }

// Invalid says what is wrong with a request.
type Invalid struct{ What, Advice string }

func (e *Invalid) Error() string { return e.What + ". " + e.Advice }

// Conflict says why a request cannot be met as things stand.
type Conflict struct{ What, Advice string }

func (e *Conflict) Error() string { return e.What + ". " + e.Advice }
