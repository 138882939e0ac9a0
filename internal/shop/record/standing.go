package record

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// mostAhead is by how much the time of a reading may lie ahead of the shop's clock. One that lies farther ahead is set aside: it would be
// the latest until that day comes.
const mostAhead = 10 * time.Minute

// hourBack is how much less a drive's count of hours may be than before and still be the same: counts come in whole hours.
const hourBack = 1.0

// placed gives the moments of a drive's readings that count, after one of them came. Where its clock says earlier than its hours do, it is
// placed by these; moved says that it was.
func (s *Keeper) placed(ctx context.Context, tx Tx, d shop.Drive, fresh int) (moments []shop.Moment, moved bool, err error) {
	if moments, err = tx.Moments(ctx, d.ID); err != nil {
		return nil, false, err
	}
	at, moved := place(moments, fresh)
	if !moved {
		return moments, false, nil
	}
	if err := tx.StandReading(ctx, d.ID, fresh, "", at); err != nil {
		return nil, false, err
	}
	moments, err = tx.Moments(ctx, d.ID)
	return moments, true, err
}

// place finds the time of the reading that came last. Its hours have a say where it alone makes them go back: the reading after it by the
// clock, which was here before it, has fewer hours, and those around it do not contradict each other. Then it belongs behind all that have
// fewer; a drive whose count was wiped, or wraps, went back before. One that comes from elsewhere becomes the latest by its clock alone: it
// may be of before the count was wiped.
func place(moments []shop.Moment, fresh int) (at time.Time, moved bool) {
	n := slices.IndexFunc(moments, func(m shop.Moment) bool { return m.Seq == fresh })
	hours := func(i int) (float64, bool) { return moments[i].Signals.Get(signal.PowerOnHours) }
	its, known := hours(n)
	if !known || n == len(moments)-1 || its > dialect.MostHours { // a count in another unit, which is not concluded yet
		return at, false
	}
	less := func(i int) bool {
		h, known := hours(i)
		return known && h < its-hourBack
	}
	if !less(n + 1) {
		return at, false
	}
	if after, _ := hours(n + 1); n > 0 {
		if before, known := hours(n - 1); known && before > after+hourBack {
			return at, false
		}
	}
	last := n + 1
	for last+1 < len(moments) && less(last+1) {
		last++
	}
	if last == len(moments)-1 && moments[n].Place.IsZero() {
		return at, false
	}
	return moments[last].At, true
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// unjudged has a drive that is new, and of which no reading counts yet, stand as what nothing is known of.
func (s *Keeper) unjudged(ctx context.Context, tx Tx, d shop.Drive) error {
	if d.Now.VerdictSeq > 0 {
		return nil
	}
	_, err := s.judge.Redecide(ctx, tx, d)
	return err
}

// Standing is what somebody says of a reading.
type Standing struct {
	Counts bool      // false: it is retracted
	At     time.Time // when it was taken, where its clock was wrong; zero: as it is
	Why    string
}

// StandReading says whether a reading counts, and of which time it is. Nothing of it is lost: a retracted one is shown as that, and counts
// again when somebody says so. The drive is judged anew.
func (s *Keeper) StandReading(ctx context.Context, by shop.Actor, d shop.Drive, seq int, to Standing) (shop.Reading, error) {
	var r shop.Reading
	if err := shop.Tidy(&to.Why); err != nil {
		return r, err
	}
	if to.Why == "" {
		return r, &shop.Invalid{What: "no reason is given", Advice: "Say why: it is kept with the audit."}
	}
	now := s.books.Clock.Now()
	if to.At.After(now) {
		return r, &shop.Invalid{
			What: fmt.Sprintf("%s lies ahead", to.At.UTC().Format(time.RFC3339)), Advice: "Give the time at which the reading was taken.",
		}
	}
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		var err error
		if r, err = tx.Reading(ctx, d.ID, seq); err != nil {
			return nil, nil, err
		}
		was := r
		r.Aside = ""
		if !to.Counts {
			r.Aside = shop.Retracted
		}
		if !to.At.IsZero() {
			r.At = to.At.UTC().Truncate(time.Millisecond)
		} else if to.Counts && was.At.After(now.Add(mostAhead)) { // accepted as it is: it counts as of now
			r.At = now
		}
		if r.Aside == was.Aside && r.At.Equal(was.At) {
			return nil, nil, &shop.Conflict{
				What: fmt.Sprintf("reading %d of %s stands so already", seq, d.Identity.Serial), Advice: "There is nothing to do.",
			}
		}
		values := wording.Values{"serial": d.Identity.Serial, "reading": seq}
		deed := shop.Deed{Kind: shop.ReadingTaken, Serial: d.Identity.Serial, Said: wording.Say(wording.ReadingRestored, values)}
		switch {
		case !to.Counts:
			deed.Said = wording.Say(wording.ReadingRetracted, values)
		case !r.At.Equal(was.At):
			values["at"] = r.At.Format(time.RFC3339)
			deed.Said = wording.Say(wording.ReadingTimed, values)
		}
		deed.Edited("reading", counts(was.Aside), counts(r.Aside))
		deed.Edited("its time", was.At.UTC().Format(time.RFC3339), r.At.Format(time.RFC3339))
		deed.Edited("why", nil, to.Why)
		if err := tx.StandReading(ctx, d.ID, seq, r.Aside, r.At); err != nil {
			return nil, nil, err
		}
		events, err := s.live(ctx, tx, d)
		if err != nil {
			return nil, nil, err
		}
		r, err = tx.Reading(ctx, d.ID, seq)
		return []shop.Deed{deed}, events, err
	})
	return r, err
}

// counts is how the audit names it.
func counts(a shop.Aside) string {
	switch a {
	case shop.Ahead:
		return "set aside"
	case shop.Retracted:
		return "retracted"
	}
	return "counts"
}

// live tells a drive's life anew from the readings that count: who it is, the unit of its clock, its changes and its verdict.
func (s *Keeper) live(ctx context.Context, tx Tx, d shop.Drive) ([]shop.Event, error) {
	moments, err := tx.Moments(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	if len(moments) == 0 {
		return s.retell(ctx, tx, d, nil)
	}
	latest, err := tx.Reading(ctx, d.ID, moments[len(moments)-1].Seq)
	if err != nil {
		return nil, err
	}
	decoded := reading.DecodeAs(latest.Pages, d.Hints)
	if key := d.Identity.Key; decoded.Identity.Interface != "" && decoded.Identity.IsValid() {
		d.Identity, d.Identity.Key = decoded.Identity, key
		if err := tx.SaveDrive(ctx, &d); err != nil {
			return nil, err
		}
	}
	learned, err := s.learn(ctx, tx, &d, decoded, moments)
	if err != nil {
		return nil, err
	}
	if learned {
		return s.redecodeDrive(ctx, tx, d, &Redecoding{})
	}
	return s.retell(ctx, tx, d, moments)
}
