// Package seal signs what leaves a shop or a machine, so that whoever gets it can tell by whom it was made and that nobody changed it
// since:
// Ed25519 (RFC 8032), a key for each shop and for each machine that captures. Start with Key.Sign.
package seal

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"strings"
)

// Key is a private key.
type Key struct{ private ed25519.PrivateKey }

// SeedBytes is the length of what is kept of a key.
const SeedBytes = ed25519.SeedSize

// New makes a key.
func New() (Key, error) {
	_, private, err := ed25519.GenerateKey(nil)
	return Key{private}, err
}

// FromSeed gives the key of a seed.
func FromSeed(seed []byte) (Key, error) {
	if len(seed) != SeedBytes {
		return Key{}, fmt.Errorf("a key of %d bytes, and it has %d", len(seed), SeedBytes)
	}
	return Key{ed25519.NewKeyFromSeed(seed)}, nil
}

// Seed is what is kept of a key, and kept secret.
func (k Key) Seed() []byte { return k.private.Seed() }

// IsZero reports whether there is no key.
func (k Key) IsZero() bool { return k.private == nil }

// Name is what people call a key: 100 bits of the SHA-256 of its public half, in five groups.
func (k Key) Name() string { return nameOf(k.private.Public().(ed25519.PublicKey)) } //nolint:errcheck // it is one

func nameOf(public ed25519.PublicKey) string {
	sum := sha256.Sum256(public)
	text := strings.ToLower(base32.StdEncoding.EncodeToString(sum[:]))
	var groups []string
	for i := range 5 {
		groups = append(groups, text[4*i:4*i+4])
	}
	return strings.Join(groups, "-")
}

// Kind is what is signed: a signature of one kind says nothing of another.
type Kind string

// The kinds.
const (
	Record Kind = "record file"
	Audit  Kind = "head of an audit"
)

// message is what is signed of a body.
func message(kind Kind, body []byte) []byte {
	return append([]byte("hylostat "+string(kind)+"\x00"), body...)
}

// Signature is a signature with the public key it is by.
type Signature struct {
	Key   []byte `json:"key"`   // 32 bytes
	Value []byte `json:"value"` // 64 bytes
}

// Sign signs a body.
func (k Key) Sign(kind Kind, body []byte) Signature {
	public := k.private.Public().(ed25519.PublicKey) //nolint:errcheck // it is one
	return Signature{Key: public, Value: ed25519.Sign(k.private, message(kind, body))}
}

// ErrBroken says that a signature is not of what it is given with: that was changed, or the signature is another's.
var ErrBroken = errors.New("the signature is not of this: it was changed after it was signed")

// Verify gives the name of the key that signed a body, or ErrBroken.
func (s Signature) Verify(kind Kind, body []byte) (name string, err error) {
	if len(s.Key) != ed25519.PublicKeySize || !ed25519.Verify(s.Key, message(kind, body), s.Value) {
		return "", ErrBroken
	}
	return nameOf(s.Key), nil
}
