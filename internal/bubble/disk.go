package bubble

import (
	"errors"
	"sync/atomic"
)

// Disk is a database's disk of which one access fails when it is told to: the gate of a store or journal. The zero Disk never fails.
type Disk struct {
	armed atomic.Bool
	left  atomic.Int64
	fired atomic.Pointer[string] // what failed
}

// ErrBroken is what an access to a broken disk ends with.
var ErrBroken = errors.New("the disk does not answer")

// BreakAt lets the n-th access from now on fail, from 0.
func (d *Disk) BreakAt(n int64) {
	d.left.Store(n)
	d.fired.Store(nil)
	d.armed.Store(true)
}

// Mend has everything succeed again, and tells which access failed, if one did.
func (d *Disk) Mend() (query string, fired bool) {
	d.armed.Store(false)
	if q := d.fired.Load(); q != nil {
		return *q, true
	}
	return "", false
}

// Statement implements sqlite.Gate.
func (d *Disk) Statement(query string) error {
	if d.armed.Load() && d.left.Add(-1) == -1 {
		d.fired.Store(&query)
		return ErrBroken
	}
	return nil
}

// Before implements sqlite.Gate.
func (d *Disk) Before() error { return d.Statement("COMMIT") }

// After implements sqlite.Gate.
func (d *Disk) After() {}
