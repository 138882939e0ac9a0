package audit

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"hylostat.example/internal/seal"
	"hylostat.example/internal/shop"
)

// Head gives the head of the audit, signed by the shop.
func (s *Auditor) Head(ctx context.Context) (shop.AuditHead, error) {
	return HeadOf(ctx, s.store, s.books.Key, s.books.Clock)
}

// HeadOf is Head of a storage.
func HeadOf(ctx context.Context, store Store, key seal.Key, clock shop.Clock) (h shop.AuditHead, err error) {
	last, err := store.Audit(ctx, shop.AuditQuery{Limit: 1})
	if err != nil {
		return h, fmt.Errorf("reading the audit: %w", err)
	}
	if len(last) > 0 {
		h.Rows, h.Hash = last[0].Seq, hex.EncodeToString(last[0].Hash)
	}
	h.At = clock.Now().UTC()
	if key.IsZero() { // a shop that no version which signs has opened
		return h, nil
	}
	return h, h.Sign(key)
}

// Holds reports whether the audit still has a head that was given out: the row is there, with its hash. It is given as papers have it, the
// number of the row and the beginning of its hash: 131:7bd35aa35d02662d.
func (s *Auditor) Holds(ctx context.Context, head string) (bool, error) {
	number, hash, ok := strings.Cut(strings.TrimSpace(head), ":")
	rows, err := strconv.ParseInt(number, 10, 64)
	hash = strings.ToLower(hash)
	if !ok || err != nil || rows < 0 || len(hash) < shop.ShortHash || strings.Trim(hash, "0123456789abcdef") != "" {
		return false, &shop.Invalid{
			What: fmt.Sprintf("%q is no head of an audit", head), Advice: "Give it as papers have it, 131:7bd35aa35d02662d.",
		}
	}
	holds, found := false, errors.New("found")
	err = s.store.WalkAudit(ctx, func(a shop.Audited) error {
		if a.Seq < rows {
			return nil
		}
		holds = a.Seq == rows && strings.HasPrefix(hex.EncodeToString(a.Hash), hash)
		return found
	})
	if errors.Is(err, found) {
		err = nil
	}
	return holds, err
}
