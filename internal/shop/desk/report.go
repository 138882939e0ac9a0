package desk

import (
	"context"
	"slices"

	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

func (s *Desk) BayChanged(ctx context.Context, tx Tx, b protocol.Bay) ([]shop.Event, error) {
	was, err := tx.BaysAbout(ctx, b.ID, b.Key)
	if err != nil {
		return nil, err
	}
	if err := tx.SaveBay(ctx, b); err != nil {
		return nil, err
	}
	events := []shop.Event{
		{
			At:     s.books.Clock.Now(),
			Kind:   shop.BayChanged,
			Serial: b.Key.Serial,
			Bay:    b.ID,
			Said:   wording.Say(wording.BayStands, wording.Values{"bay": b.ID.String(), "connection": string(b.Connection)}),
		},
	}
	if b.Connection == protocol.Empty &&
		slices.ContainsFunc(was, func(w protocol.Bay) bool { return w.ID == b.ID && w.Connection == protocol.Silent }) {
		return events, leaveBay(ctx, tx, b.ID)
	}
	if b.Connection != protocol.Answering {
		return events, nil
	}
	if err := tx.SaveAnswered(ctx, b.ID, s.books.Clock.Now()); err != nil {
		return nil, err
	}
	// A drive that named itself takes the intake that was opened for its bay.
	i, err := tx.WaitingIn(ctx, b.ID)
	if err != nil && !shop.IsNone(err) {
		return nil, err
	}
	waits := err == nil
	d, err := tx.DriveByKey(ctx, b.Key)
	if shop.IsNone(err) { // found by a second path before the first one's reading is here: the intake waits on
		return events, nil
	}
	if err != nil {
		return nil, err
	}
	var more []shop.Event
	if waits {
		more, err = s.named(ctx, tx, &i, d)
	} else if !slices.ContainsFunc(was, func(w protocol.Bay) bool { return w.Connection == protocol.Answering && w.Key == b.Key }) {
		more, err = s.joinLot(ctx, tx, b.ID, d)
	}
	return append(events, more...), err
}
