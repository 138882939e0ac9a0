package api

import (
	"time"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
)

// optional is nil for a zero value: what is not known is left out, never written as 0.
func optional[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

func when(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func faultOf(f drive.Fault) contract.Fault {
	return contract.Fault{Class: string(f.Class), What: f.What, Back: f.Cause, Advice: f.Advice(), Page: text(f.Page), At: optional(f.At)}
}
