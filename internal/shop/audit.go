package shop

import (
	"crypto/sha256"
	"encoding/json"
	"time"

	"hylostat.example/internal/core/wording"
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
	Said   wording.Phrase
	Edits  []Edit // what it changed
	Hash   []byte
}

// Chain is the hash of a row that follows one with the hash before; the first follows nil. Rows of before it was kept how people came in
// have fewer fields.
func (a Audited) Chain(before []byte) []byte {
	fields := []any{before, a.Seq, a.At.UnixMilli(), a.By, a.Kind, a.Serial, a.Said.Column()}
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
