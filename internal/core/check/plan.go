package check

import "time"

// Plan is the check that every drive put into a bay gets, without being asked for each. The zero Plan is none.
type Plan struct {
	Check Kind      `json:"check,omitempty"`
	By    string    `json:"by,omitempty"`
	At    time.Time `json:"at,omitzero"`
	Lot   int64     `json:"-"` // whose drives alone it is for; 0: every drive that is on no lot with a plan of its own
}

// Plannable reports whether a plan may have this check.
func (k Kind) Plannable() bool { return k == Quick || k == Extended || k == Whole }

// Met reports whether a run is the check of the plan, done.
func (p Plan) Met(r *Run) bool {
	return r.State == Done && r.Kind == p.Check && r.Outcome != Stopped && !r.Asked.Before(p.At)
}

// Bars reports whether a run of a drive keeps the plan from starting its check: one is under way, or it was asked for since the plan was
// made.
func (p Plan) Bars(r *Run) bool {
	return r.State != Done || r.Kind == p.Check && !r.Asked.Before(p.At)
}
