package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// BaySetting is what people make of a bay; nil leaves it as it is.
type BaySetting struct {
	Number *int
	Label  *string
	Hidden *bool
}

const longestLabel = 40 // characters

// SetBay gives a bay a number, a label, or has it hidden, and gives it as it stands then. The bay that had the number gets the old one.
// Records keep the number a bay had then; an intake that waits for a drive goes with its bay.
func (s *Desk) SetBay(ctx context.Context, by shop.Actor, id drive.Bay, set BaySetting) (BayView, error) {
	v, err := s.Bay(ctx, id)
	if err != nil {
		return v, err
	}
	to := protocol.BaySetting{Number: id.Number, Label: v.Bay.Label, Hidden: v.Bay.Hidden}
	if set.Number != nil {
		to.Number = *set.Number
	}
	if set.Label != nil {
		to.Label = strings.TrimSpace(*set.Label)
	}
	if set.Hidden != nil {
		to.Hidden = *set.Hidden
	}
	if len([]rune(to.Label)) > longestLabel || strings.ContainsFunc(to.Label, unicode.IsControl) {
		return v, &shop.Invalid{
			What:   fmt.Sprintf("%q is no label of a bay", to.Label),
			Advice: fmt.Sprintf("Use at most %d characters of plain text.", longestLabel),
		}
	}
	now := drive.Bay{Bench: id.Bench, Number: to.Number}
	deed := shop.Deed{Kind: shop.BayOrdered, Bay: id, Said: wording.Say(wording.BaySet, wording.Values{"bay": id.String(), "by": by.Name})}
	deed.Edited("number", id.Number, to.Number)
	deed.Edited("label", v.Bay.Label, to.Label)
	deed.Edited("hidden", v.Bay.Hidden, to.Hidden)
	if len(deed.Edits) == 0 {
		return v, nil
	}
	err = shop.Command(ctx, s.books, s.store, by, deed, func() error {
		return s.orderSettling(ctx, protocol.Order{Kind: protocol.OrderSetBay, Bay: id, Setting: &to}, now)
	})
	if err != nil {
		return v, err
	}
	if now != id {
		if err := s.swapWaiting(ctx, id, now); err != nil {
			return v, err
		}
	}
	return s.Bay(ctx, now)
}

// swapWaiting has the intakes that wait for a drive in two bays go with their bays, which have got each other's number.
func (s *Desk) swapWaiting(ctx context.Context, a, b drive.Bay) error {
	other := map[drive.Bay]drive.Bay{a: b, b: a}
	_, err := shop.Apply(ctx, s.books, s.store, func(tx Tx) ([]shop.Event, error) {
		all, err := tx.IntakesOf(ctx, shop.IntakeQuery{Open: true})
		if err != nil {
			return nil, err
		}
		for _, i := range all {
			to, moves := other[i.Bay]
			if !moves || i.Drive != 0 {
				continue
			}
			i.Bay = to
			for n := range i.Tried {
				if to, moves := other[i.Tried[n].Bay]; moves {
					i.Tried[n].Bay = to
				}
			}
			if err := tx.SaveIntake(ctx, &i); err != nil {
				return nil, err
			}
		}
		return nil, nil
	})
	return err
}

// Arrange sets in which order the bays of a bench are shown; those that are not named follow, by number.
func (s *Desk) Arrange(ctx context.Context, by shop.Actor, order []drive.Bay) error {
	if len(order) == 0 {
		return &shop.Invalid{What: "no bay is named", Advice: "Name the bays in their order."}
	}
	o := protocol.Order{Kind: protocol.OrderArrange, Bay: order[0]}
	seen := map[drive.Bay]bool{}
	for _, b := range order {
		if _, err := s.Bay(ctx, b); err != nil {
			return err
		}
		if b.Bench != order[0].Bench || seen[b] {
			return &shop.Invalid{
				What:   b.Words() + " is of another bench than " + order[0].Words() + ", or named twice",
				Advice: "Name bays of one bench, each once.",
			}
		}
		seen[b] = true
		o.Arrangement = append(o.Arrangement, b.Number)
	}
	deed := shop.Deed{
		Kind: shop.BayOrdered,
		Bay:  order[0],
		Said: wording.Say(wording.BaysArranged, wording.Values{"bay": order[0].String(), "by": by.Name}),
	}
	return shop.Command(ctx, s.books, s.store, by, deed, func() error { return s.orderSettling(ctx, o, slices.Clone(order)...) })
}
