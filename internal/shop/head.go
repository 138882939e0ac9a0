package shop

import (
	"encoding/json"
	"fmt"
	"time"

	"hylostat.example/internal/seal"
)

// AuditHead is the last row of an audit at a moment, which stands for all before it. Whoever has one outside of the shop can tell later
// whether the audit's end was cut off.
type AuditHead struct {
	Rows      int64           `json:"rows"`
	Hash      string          `json:"hash"` // SHA-256, hexadecimal; empty: there is no row
	At        time.Time       `json:"at"`
	Signature *seal.Signature `json:"signature,omitempty"`
}

// ShortHash is how many digits of a hash papers have.
const ShortHash = 16

// Short is the head as papers have it.
func (h AuditHead) Short() string { return fmt.Sprintf("%d:%.*s", h.Rows, ShortHash, h.Hash) }

// Sign signs a head.
func (h *AuditHead) Sign(k seal.Key) error {
	h.Signature = nil
	body, err := json.Marshal(h)
	if err != nil {
		return err
	}
	s := k.Sign(seal.Audit, body)
	h.Signature = &s
	return nil
}

// SignedBy names the key that signed a head, or gives seal.ErrBroken.
func (h AuditHead) SignedBy() (string, error) {
	s := h.Signature
	if s == nil {
		return "", seal.ErrBroken
	}
	h.Signature = nil
	body, err := json.Marshal(h)
	if err != nil {
		return "", err
	}
	return s.Verify(seal.Audit, body)
}
