package shop

import (
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/verdict"
)

// Published is a policy as it was put in force.
type Published struct {
	Version int
	Name    string
	Text    []byte
	At      time.Time
	By      string // empty: it was shipped
	Note    string
}

// Outcome is what became of a drive: what policies are judged by.
type Outcome struct {
	verdict.Outcome
	Drive int64     `json:"-"`
	Note  string    `json:"note,omitempty"`
	By    string    `json:"by"`
	Noted time.Time `json:"noted"`
}

// Verdict is a stored verdict. It is never edited; a new one follows it.
type Verdict struct {
	verdict.Verdict
	Drive   int64
	Seq     int
	At      time.Time
	Reading int // seq of the reading it was made at
	Signed  *SignOff
}

// Stands is the grade that counts: the one somebody signed, else the verdict's own.
func (v Verdict) Stands() drive.Grade {
	if v.Signed != nil {
		return v.Signed.Grade
	}
	return v.Grade
}

// SignOff is a person accepting or overruling a verdict.
type SignOff struct {
	At     time.Time   `json:"at"`
	By     string      `json:"by"`
	Grade  drive.Grade `json:"grade"` // the one signed; differs from the verdict's when overruled
	Reason string      `json:"reason,omitempty"`
}
