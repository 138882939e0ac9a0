package desk

import (
	"context"
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Entry is one line of a drive's life.
type Entry struct {
	At      time.Time
	Hours   float64 // -1 unknown
	Kind    string  // verdict, change, run, intake, handover, reading
	Says    wording.Phrase
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
	return s.HistoryOf(ctx, d, moments)
}

// HistoryOf is History, where the moments of its readings are known.
func (s *Desk) HistoryOf(ctx context.Context, d shop.Drive, moments []shop.Moment) ([]Entry, error) {
	hoursAt := func(seq int) float64 {
		for i := range moments {
			if moments[i].Seq == seq {
				if h, ok := moments[i].Signals.Get(signal.PowerOnHours); ok {
					return h
				}
			}
		}
		return -1
	}
	near := func(at time.Time) float64 {
		h := -1.0
		for i := range moments {
			if m := &moments[i]; h < 0 || !m.At.After(at) {
				if x, ok := m.Signals.Get(signal.PowerOnHours); ok {
					h = x
				}
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
		all = append(
			all,
			Entry{
				At:      c.At,
				Hours:   c.Hours,
				Kind:    "change",
				Reading: c.Seq,
				Says:    Moved(c),
			},
		)
	}
	verdicts, err := s.store.Verdicts(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for n, v := range verdicts {
		all = append(
			all,
			Entry{
				At:      v.At,
				Hours:   hoursAt(v.Reading),
				Kind:    "verdict",
				Says:    judged(v, n == 0),
				Grade:   &v.Grade,
				Verdict: v.Seq,
				Reading: v.Reading,
			},
		)
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
		all = append(
			all,
			Entry{
				At:    at,
				Hours: near(at),
				Kind:  "run",
				Run:   r.ID,
				Says: wording.Say(
					wording.RunInHistory, wording.Values{"kind": string(r.Kind), "bay": r.Bay.String(), "standing": r.Stands()},
				),
			},
		)
	}
	intakes, err := s.store.Intakes(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, i := range intakes { // the present one first
		owned := shop.SameOwner(i, intakes[0])
		all = append(all, Entry{At: i.At, Hours: near(i.At), Kind: "intake", Says: takenIn(i, owned)})
		if h := i.Handover; h != nil && h.Goes != shop.NotNoted {
			all = append(all, Entry{At: h.At, Hours: near(h.At), Kind: "handover", Says: wentAway(*h, owned)})
		}
	}
	if len(moments) > 0 {
		all = append(
			all,
			Entry{
				At:      moments[0].At,
				Hours:   hoursAt(moments[0].Seq),
				Kind:    "reading",
				Reading: moments[0].Seq,
				Says:    wording.Say(wording.FirstReading),
			},
		)
	}
	slices.SortStableFunc(all, func(a, b Entry) int { return b.At.Compare(a.At) })
	return all, nil
}

// judged says what came of a verdict; the present one may wait for its signature.
func judged(v shop.Verdict, present bool) wording.Phrase {
	values, code := wording.Values{"duty": string(v.Duty), "policy": v.Policy}, wording.JudgedEarlier
	switch {
	case v.Signed != nil && v.Signed.Grade != v.Grade:
		code, values["grade"] = wording.JudgedOverruled, v.Signed.Grade.String()
		values["by"], values["why"] = v.Signed.By, v.Signed.Reason
	case v.Signed != nil:
		code, values["by"] = wording.JudgedSigned, v.Signed.By
	case present:
		code = wording.JudgedOpen
	}
	return wording.Say(code, values)
}

// wentAway says where a drive went; its note is for those of the same owner.
func wentAway(h shop.Handover, owned bool) wording.Phrase {
	note := wording.Phrase{}
	if h.Note != "" && owned {
		note = wording.Say(wording.WithNote, wording.Values{"text": h.Note})
	}
	return wording.Say(wording.HandedOverAs, wording.Values{"by": h.By, "goes": string(h.Goes), "data": string(h.Data), "note": note})
}

// takenIn tells of an intake; what an earlier owner said is not told.
func takenIn(i shop.Intake, same bool) wording.Phrase {
	lot, ticket, complaint := wording.Phrase{}, wording.Phrase{}, wording.Phrase{}
	if i.Lot != 0 {
		lot = wording.Say(wording.OnLot, wording.Values{"lot": i.Lot})
	}
	switch {
	case !same:
		ticket = wording.Say(wording.OfEarlierOwner)
	default:
		if i.Ticket != "" {
			ticket = wording.Say(wording.OnTicket, wording.Values{"ticket": i.Ticket})
		}
		if i.Complaint != "" {
			complaint = wording.Say(wording.Complained, wording.Values{"text": i.Complaint})
		}
	}
	return wording.Say(wording.TakenIn, wording.Values{"intake": i.ID, "lot": lot, "ticket": ticket, "complaint": complaint})
}
