package shop

import (
	"fmt"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
)

// Actor is who does something, and how they came in. Every use case that changes something takes one.
type Actor = access.Actor

// Edit is one thing that a deed changed. It names no customer.
type Edit struct {
	What   string `json:"what"`
	Before string `json:"before,omitempty"` // empty: there was nothing
	After  string `json:"after,omitempty"`  // empty: there is nothing any more
}

// Deed is what somebody did, as the audit keeps it for ever: it names no customer.
type Deed struct {
	Kind   EventKind
	Serial string    // of the drive it is about
	Bay    drive.Bay // where that was
	Run    int64
	Said   wording.Phrase
	Edits  []Edit
}

// Edited notes what a deed changed, where it did.
func (d *Deed) Edited(what string, before, after any) {
	m := Edit{What: what, Before: said(before), After: said(after)}
	if m.Before != m.After {
		d.Edits = append(d.Edits, m)
	}
}

// said is a value of an Edit; nothing for a zero one.
func said(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		if !v {
			return "no"
		}
		return "yes"
	}
	return fmt.Sprint(v)
}
