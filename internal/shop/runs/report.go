package runs

import (
	"context"
	"slices"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// Progressed implements fleet.Taker: how a run stands is passed on. The end is a fact: it comes as a report, after all that led to it.
func (s *Conductor) Progressed(_ string, p protocol.Progress) {
	if r := p.Run; r.State != check.Done {
		s.progress(p)
		s.books.Tell(
			shop.Event{At: s.books.Clock.Now(), Kind: shop.RunProgress, Serial: r.Key.Serial, Bay: r.Bay, Run: r.ID, Percent: r.Percent()},
		)
	}
}

// BenchStarted ends the runs a bench knows nothing of any more: its journal was lost, or is an older copy.
func (s *Conductor) BenchStarted(ctx context.Context, tx Tx, bench string, started protocol.Started) ([]shop.Event, error) {
	open, err := tx.Runs(ctx, shop.RunQuery{Open: true})
	if err != nil {
		return nil, err
	}
	var events []shop.Event
	for _, r := range open {
		if r.Bay.Bench != bench || slices.Contains(started.Open, r.ID) {
			continue
		}
		more, err := s.RunChanged(ctx, tx, s.lost(r))
		if err != nil {
			return nil, err
		}
		events = append(events, more...)
	}
	return events, nil
}

// lost is a run as it ends when its bench knows nothing of it any more.
func (s *Conductor) lost(r check.Run) check.Run {
	r.State, r.Outcome, r.Reason, r.Ended = check.Done, check.Stopped, wording.Say(wording.RunLost), s.books.Clock.Now()
	return r
}

// Begun tells those who follow the runs that BenchStarted ended, once that is stored.
func (s *Conductor) Begun(bench string, started protocol.Started) {
	s.mu.Lock()
	var gone []check.Run
	for id, r := range s.live {
		if r.Bay.Bench == bench && !slices.Contains(started.Open, id) {
			gone = append(gone, r)
		}
	}
	s.mu.Unlock()
	for _, r := range gone {
		s.Ended(s.lost(r))
	}
}

// RunChanged stores how a run stands, and what its end says of its drive.
func (s *Conductor) RunChanged(ctx context.Context, tx Tx, r check.Run) ([]shop.Event, error) {
	if err := tx.SaveRun(ctx, r); err != nil {
		return nil, err
	}
	events := []shop.Event{
		{
			At:      s.books.Clock.Now(),
			Kind:    shop.RunChanged,
			Serial:  r.Key.Serial,
			Bay:     r.Bay,
			Run:     r.ID,
			Percent: r.Percent(),
			Said:    wording.Say(wording.RunStands, wording.Values{"bay": r.Bay.String(), "kind": string(r.Kind), "standing": r.Stands()}),
		},
	}
	if r.State != check.Done {
		return events, nil
	}
	d, err := tx.DriveByKey(ctx, r.Key) // what it found out, and what it wrote, is known whole now
	if err != nil {
		if shop.IsNone(err) {
			err = nil
		}
		return events, err
	}
	more, err := s.judge.Redecide(ctx, tx, d)
	return append(events, more...), err
}

// Ended tells those who follow a run that it is done, once that is stored.
func (s *Conductor) Ended(r check.Run) { s.progress(protocol.Progress{Run: r}) }
