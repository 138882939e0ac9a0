package shop

import (
	"regexp"
	"time"
)

// KnownKey is a key by which others sign record files, and whose it is, as somebody here says.
type KnownKey struct {
	Name   string // as package seal names it
	Called string // empty: it is known no more
	By     string
	At     time.Time
}

// keyForm is how keys are named.
var keyForm = regexp.MustCompile(`^([a-z2-7]{4}-){4}[a-z2-7]{4}$`)

// IsKey reports whether a text is the name of a key.
func IsKey(name string) bool { return keyForm.MatchString(name) }
