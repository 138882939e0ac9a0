package shop

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Audited is one row of the audit: what a person did. It names no customer, since it is kept for ever.
type Audited struct {
	Seq    int64
	At     time.Time
	By     string
	Role   string // of who did it; empty: not known
	Via    string // how they came in; empty: a row of before this was kept
	Kind   EventKind
	Serial string
	Text   string
	Edits  []Edit // what it changed
	Hash   []byte
}

// Chain is the hash of a row that follows one with the hash before; the first follows nil. Rows of before it was kept how people came in
// have fewer fields.
func (a Audited) Chain(before []byte) []byte {
	fields := []any{before, a.Seq, a.At.UnixMilli(), a.By, a.Kind, a.Serial, a.Text}
	if a.Via != "" {
		fields = append(fields, a.Role, a.Via, a.Edits)
	}
	row, err := json.Marshal(fields)
	if err != nil { // texts and numbers always marshal
		panic(err)
	}
	sum := sha256.Sum256(row)
	return sum[:]
}

// AuditQuery selects rows of the audit, newest first.
type AuditQuery struct {
	Serial string
	By     string
	Before int64 // seq; 0: from the newest on
	Limit  int   // 0: 100
}

// Audit lists what people did.
func (s *Shop) Audit(ctx context.Context, q AuditQuery) ([]Audited, error) {
	return s.store.Audit(ctx, q)
}

// errChanged ends a walk through the audit at the first row that does not follow from the one before.
var errChanged = errors.New("changed")

// Verified is what came of checking the audit.
type Verified struct {
	Rows int
	Bad  int64 // seq of the first row that does not follow; 0: all do
}

// VerifyAudit checks that each row of the audit follows from the one before it.
func (s *Shop) VerifyAudit(ctx context.Context) (v Verified, err error) {
	var before []byte
	err = s.store.WalkAudit(ctx, func(a Audited) error {
		v.Rows++
		if a.Seq != int64(v.Rows) || string(a.Chain(before)) != string(a.Hash) {
			v.Bad = a.Seq
			return errChanged
		}
		before = a.Hash
		return nil
	})
	if errors.Is(err, errChanged) {
		err = nil
	}
	if err != nil {
		return v, fmt.Errorf("reading the audit: %w", err)
	}
	return v, nil
}
