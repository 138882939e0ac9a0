package audit

import (
	"context"
	"errors"
	"fmt"

	"hylostat.example/internal/shop"
)

// Audit lists what people did.
func (s *Auditor) Audit(ctx context.Context, q shop.AuditQuery) ([]shop.Audited, error) {
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
func (s *Auditor) VerifyAudit(ctx context.Context) (v Verified, err error) {
	var before []byte
	err = s.store.WalkAudit(ctx, func(a shop.Audited) error {
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
