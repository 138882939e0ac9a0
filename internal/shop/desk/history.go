package desk

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/quantity"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
)

// Entry is one line of a drive's life.
type Entry struct {
	At      time.Time
	Hours   float64 // -1 unknown
	Kind    string  // verdict, change, run, intake, handover, reading
	Text    string
	Grade   *drive.Grade
	Run     int64
	Reading int
	Verdict int
}

// History is everything that happened to a drive, newest first.
func (s *Desk) History(ctx context.Context, d shop.Drive) ([]Entry, error) {
	moments, err := s.store.Moments(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	hoursAt := func(seq int) float64 {
		for _, m := range moments {
			if h, ok := m.Signals.Get(signal.PowerOnHours); ok && m.Seq == seq {
				return h
			}
		}
		return -1
	}
	near := func(at time.Time) float64 {
		h := -1.0
		for _, m := range moments {
			if x, ok := m.Signals.Get(signal.PowerOnHours); ok && (h < 0 || !m.At.After(at)) {
				h = x
			}
		}
		return h
	}
	var all []Entry
	changes, err := s.store.Changes(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		def, _ := signal.Lookup(c.Signal)
		all = append(all, Entry{At: c.At, Hours: c.Hours, Kind: "change", Reading: c.Seq, Text: fmt.Sprintf("%s %s to %s", shop.Capital(def.Words), quantity.Number(c.Before), quantity.Number(c.After))})
	}
	verdicts, err := s.store.Verdicts(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for n, v := range verdicts {
		text := fmt.Sprintf("for %s, policy %d.", v.Duty, v.Policy)
		switch {
		case v.Signed != nil && v.Signed.Grade != v.Grade:
			text += fmt.Sprintf(" Overruled with %s by %s: “%s”", v.Signed.Grade, v.Signed.By, v.Signed.Reason)
		case v.Signed != nil:
			text += " Signed by " + v.Signed.By + "."
		case n == 0:
			text += " Not signed."
		}
		all = append(all, Entry{At: v.At, Hours: hoursAt(v.Reading), Kind: "verdict", Text: text, Grade: &v.Grade, Verdict: v.Seq, Reading: v.Reading})
	}
	ran, err := s.runs.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key, Limit: 200})
	if err != nil {
		return nil, err
	}
	for _, r := range ran {
		at := r.Ended
		if at.IsZero() {
			at = r.Asked
		}
		all = append(all, Entry{At: at, Hours: near(at), Kind: "run", Run: r.ID, Text: fmt.Sprintf("%s, %s: %s", r.Kind.Title(), r.Bay.Words(), runs.Standing(r))})
	}
	intakes, err := s.store.Intakes(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, i := range intakes { // newest first
		text := fmt.Sprintf("Taken in, intake %d", i.ID)
		if i.Lot != 0 {
			text += fmt.Sprintf(", lot %d", i.Lot)
		}
		switch {
		case !shop.SameOwner(i, intakes[0]):
			text += ", from an earlier owner"
		default:
			if i.Ticket != "" {
				text += ", ticket " + i.Ticket
			}
			if i.Complaint != "" {
				text += ": “" + i.Complaint + "”"
			}
		}
		all = append(all, Entry{At: i.At, Hours: near(i.At), Kind: "intake", Text: text})
		if h := i.Handover; h != nil && h.Goes != shop.NotNoted {
			text := fmt.Sprintf("Handed over by %s: %s, data %s", h.By, h.Goes, h.Data)
			if h.Note != "" && shop.SameOwner(i, intakes[0]) {
				text += ". “" + h.Note + "”"
			}
			all = append(all, Entry{At: h.At, Hours: near(h.At), Kind: "handover", Text: text})
		}
	}
	if len(moments) > 0 {
		all = append(all, Entry{At: moments[0].At, Hours: hoursAt(moments[0].Seq), Kind: "reading", Reading: moments[0].Seq, Text: "First reading here"})
	}
	slices.SortStableFunc(all, func(a, b Entry) int { return b.At.Compare(a.At) })
	return all, nil
}
