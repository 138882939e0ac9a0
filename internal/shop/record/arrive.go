package record

import (
	"context"
	"crypto/rand"
	"fmt"
	"reflect"
	"slices"
	"time"

	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/judge"
)

// record stores a reading as it came, derives what follows from it, and decides anew. A reading that comes a second time
// changes nothing.
func (s *Keeper) Arrived(ctx context.Context, tx Tx, p protocol.Reading) ([]shop.Event, error) {
	var k known
	fresh, err := s.keep(ctx, tx, &p, "", &k)
	if err != nil || fresh == nil {
		return nil, err
	}
	d := k.drive
	events := []shop.Event{
		{
			At:      s.books.Clock.Now(),
			Kind:    shop.ReadingTaken,
			Serial:  p.Key.Serial,
			Bay:     p.Bay,
			Run:     p.Run,
			Order:   p.Order,
			Reading: fresh.reading.Seq,
			Said:    wording.Say(wording.ReadingTaken, wording.Values{"serial": p.Key.Serial, "reading": fresh.reading.Seq}),
		},
	}
	said := &events[0].Said
	if fresh.reading.Aside != "" {
		*said = wording.Say(
			wording.ReadingAhead, wording.Values{"serial": p.Key.Serial, "reading": fresh.reading.Seq, "at": p.At.Format(time.RFC3339)},
		)
		return events, s.unjudged(ctx, tx, d)
	}
	moments, moved, err := s.placed(ctx, tx, d, fresh.reading.Seq)
	if err != nil {
		return nil, err
	}
	if moved {
		*said = wording.Say(
			wording.ReadingPlaced, wording.Values{"serial": p.Key.Serial, "reading": fresh.reading.Seq, "at": p.At.Format(time.RFC3339)},
		)
	}
	if learned, err := s.learn(ctx, tx, &d, fresh.decoded, moments); err != nil || learned { // all its readings are read anew in that light
		if err != nil {
			return nil, err
		}
		more, err := s.redecodeDrive(ctx, tx, d, &Redecoding{})
		return append(events, more...), err
	}
	if last := moments[len(moments)-1]; last.Seq != fresh.reading.Seq { // taken earlier than what is known: the past is told anew
		more, err := s.retell(ctx, tx, d, moments)
		return append(events, more...), err
	}
	left := asleep(fresh.decoded)
	if left {
		*said = wording.Say(wording.ReadingAsleep, wording.Values{"serial": p.Key.Serial, "reading": fresh.reading.Seq})
	}
	if left && d.Now.VerdictSeq > 0 { // nothing was asked, so nothing is known anew
		d.Now.Readings, d.Now.LastAt = shop.CountReadings(moments), fresh.reading.At
		return events, tx.SaveNow(ctx, d.ID, d.Now)
	}
	if len(moments) > 1 {
		for _, c := range changes(moments[len(moments)-2], moments[len(moments)-1]) {
			if err := tx.AddChange(ctx, d.ID, c); err != nil {
				return nil, err
			}
		}
	}
	more, err := s.judge.Decide(ctx, tx, d, fresh.decoded, fresh.signals, fresh.reading, moments)
	return append(events, more...), err
}

// asleep reports whether a drive was left alone because it slept.
func asleep(r reading.Reading) bool {
	return !r.HasCounters && slices.ContainsFunc(r.Faults, func(f drive.Fault) bool { return f.Class == drive.FaultAsleep })
}

// kept is a reading that was not known before.
type kept struct {
	reading shop.Reading
	decoded reading.Reading
	signals signal.Set
}

// known is what is known of a drive while readings of it are stored, in the order of time. Its zero value knows nothing.
type known struct {
	drive  shop.Drive
	last   *kept        // stored before, in this change
	sweeps []shop.Sweep // all of the drive's
	asked  bool         // for them
}

// meet makes it known whose reading this is.
func (k *known) meet(ctx context.Context, tx Tx, p *protocol.Reading) (err error) {
	if k.drive.ID == 0 {
		k.drive, err = tx.DriveByKey(ctx, p.Key)
	}
	if shop.IsNone(err) {
		k.drive, err = shop.Drive{Duty: drive.Everyday, FirstSeen: p.At}, nil
	}
	if err == nil && !k.asked && k.drive.ID != 0 {
		k.sweeps, err = tx.Sweeps(ctx, shop.SweepQuery{Drive: k.drive.ID})
	}
	k.asked = true
	return err
}

// keep stores a reading and its drive; nil when the reading is known already.
func (s *Keeper) keep(ctx context.Context, tx Tx, p *protocol.Reading, origin string, k *known) (*kept, error) {
	if known, err := tx.HasReading(ctx, p.Key, p.At, p.ID); err != nil || known {
		return nil, err
	}
	if err := k.meet(ctx, tx, p); err != nil {
		return nil, err
	}
	d := k.drive
	decoded := reading.DecodeAs(p.Pages, d.Hints)
	signals := judge.SignalsAt(&decoded, k.sweeps, p.At)
	if !p.At.Before(d.Now.LastAt) || d.Now.Readings == 0 {
		was := d.Identity
		d.Identity = decoded.Identity
		if decoded.Identity.Interface == drive.InterfaceUnknown { // nothing but a name came
			d.Identity = was
		}
	}
	now := s.books.Clock.Now()
	aside := shop.Aside("")
	if p.At.After(now.Add(mostAhead)) {
		aside = shop.Ahead
		if d.ID != 0 {
			d.Identity = k.drive.Identity
		}
	}
	if p.At.Before(d.FirstSeen) || d.FirstSeen.After(now) {
		d.FirstSeen = earlier(p.At, now)
	}
	d.Identity.Key = p.Key // a damaged page must not rename a drive the bench knew
	if d.ID == 0 || !reflect.DeepEqual(d, k.drive) {
		if err := tx.SaveDrive(ctx, &d); err != nil {
			return nil, err
		}
	}
	k.drive = d
	r := shop.Reading{
		Drive:   d.ID,
		At:      p.At,
		Took:    p.Took,
		Bay:     p.Bay,
		Run:     p.Run,
		Step:    p.Step,
		Tool:    p.Tool,
		Decoder: reading.DecoderVersion,
		Pages:   p.Pages,
		Report:  p.ID,
		Origin:  origin,
		Aside:   aside,
	}
	if err := tx.AddReading(ctx, &r, signals); err != nil {
		return nil, err
	}
	k.last = &kept{r, decoded, signals}
	return k.last, nil
}

// learn concludes the unit of the drive's clock from all its readings, whatever the order in which they came, and keeps it with the drive.
// It reports whether that is news.
func (s *Keeper) learn(ctx context.Context, tx Tx, d *shop.Drive, of reading.Reading, moments []shop.Moment) (bool, error) {
	if _, counts := of.Attribute(9); !counts {
		return false, nil
	}
	all := make([]dialect.HoursAt, len(moments))
	for i, m := range moments {
		all[i] = m.Signals.Clock(m.At)
	}
	hints := dialect.ConcludeHours(dialect.HoursLayout(of.Dialect.Family), of.Dialect.Family != nil, all)
	if hints.Hours == d.Hints.Hours { // another reason for the same is no news
		return false, nil
	}
	d.Hints = hints
	return true, tx.SaveDrive(ctx, d)
}

// retell derives anew what hangs on the order of a drive's readings: the changes of its counters and its verdict.
func (s *Keeper) retell(ctx context.Context, tx Tx, d shop.Drive, moments []shop.Moment) ([]shop.Event, error) {
	if err := tx.ForgetChanges(ctx, d.ID); err != nil {
		return nil, err
	}
	for i := 1; i < len(moments); i++ {
		for _, c := range changes(moments[i-1], moments[i]) {
			if err := tx.AddChange(ctx, d.ID, c); err != nil {
				return nil, err
			}
		}
	}
	return s.judge.Redecide(ctx, tx, d)
}

// changes lists the counters that matter and moved between two readings.
func changes(before, now shop.Moment) []shop.Change {
	var all []shop.Change
	hours, known := now.Signals.Get(signal.PowerOnHours)
	if !known {
		hours = -1
	}
	for d, is := range now.Signals.All() {
		if !d.Matters {
			continue
		}
		if was, had := before.Signals.Get(d.Name); had && was != is {
			all = append(all, shop.Change{Signal: d.Name, Seq: now.Seq, At: now.At, Hours: hours, Before: was, After: is})
		}
	}
	return all
}

// orderDeadline is how long somebody waits for a reading that was ordered. The order stands even after that.
const orderDeadline = 2 * time.Minute

// TakeReading orders a reading of a drive and waits for it; with attachments, of the long logs for the maker's support, too.
func (s *Keeper) TakeReading(ctx context.Context, by shop.Actor, d shop.Drive, attachments bool) (shop.Reading, error) {
	if d.Now.Bay.IsZero() {
		return shop.Reading{}, &shop.Conflict{What: d.Identity.Serial + " is in no bay", Advice: "Attach it to a bay, then read it."}
	}
	order := protocol.Order{
		Kind:        protocol.OrderRead,
		Bay:         d.Now.Bay,
		Key:         d.Identity.Key,
		ID:          rand.Text(),
		By:          by.Name,
		Attachments: attachments,
	}
	deed := shop.Deed{
		Kind:   shop.ReadingOrdered,
		Serial: d.Identity.Serial,
		Bay:    d.Now.Bay,
		Said:   wording.Say(wording.ReadingOrdered, wording.Values{"serial": d.Identity.Serial}),
	}
	var b brought
	err := shop.Command(ctx, s.books, s.store, by, deed, func() (err error) {
		b, err = s.await(ctx, order, orderDeadline)
		return err
	})
	return b.reading, err
}

// await gives an order that has an ID and waits for the report it causes.
func (s *Keeper) await(ctx context.Context, o protocol.Order, within time.Duration) (brought, error) {
	c := make(chan brought, 1)
	s.mu.Lock()
	s.waiting[o.ID] = c
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.waiting, o.ID)
		s.mu.Unlock()
	}()
	if _, err := s.fleet.Order(ctx, o); err != nil {
		return brought{}, err
	}
	timer := time.NewTimer(within)
	defer timer.Stop()
	select {
	case b := <-c:
		return b, b.err
	case <-ctx.Done():
		return brought{}, ctx.Err()
	case <-timer.C:
		what := map[protocol.OrderKind]string{protocol.OrderRead: "reading", protocol.OrderVolumes: "word of the file systems"}[o.Kind]
		return brought{}, &shop.Conflict{
			What:   fmt.Sprintf("%s brought no %s of %s within %s", o.Bay.Words(), what, o.Key.Serial, within),
			Advice: "Look at the bay's state; the order stands.",
		}
	}
}

// brought is what an ordered reading came to.
type brought struct {
	reading shop.Reading
	err     error
}

// bring hands what an order came to to whoever waits for it, if somebody still does and has nothing yet.
func (s *Keeper) bring(order string, b brought) {
	s.mu.Lock()
	c := s.waiting[order]
	s.mu.Unlock()
	select {
	case c <- b:
	default: // nobody waits, or a report came twice
	}
}

// Deliver hands what a report brought to whoever ordered it. The events are those it caused.
func (s *Keeper) Deliver(ctx context.Context, r protocol.Report, events []shop.Event) {
	if u := r.Unanswered; u != nil {
		s.bring(
			u.Order,
			brought{
				err: &shop.Conflict{
					What:   fmt.Sprintf("%s brought no reading: %s: %s", u.Bay.Words(), u.Fault.What, u.Fault.Cause),
					Advice: u.Fault.Advice(),
				},
			},
		)
	}
	for _, e := range events {
		switch {
		case e.Order == "":
		case e.Kind == shop.ReadingTaken:
			s.deliverReading(ctx, e)
		case e.Kind == shop.VolumesSeen:
			s.bring(e.Order, brought{})
		}
	}
}

func (s *Keeper) deliverReading(ctx context.Context, e shop.Event) {
	found, err := s.store.DrivesBySerial(ctx, e.Serial)
	if err != nil {
		return
	}
	for _, d := range found {
		if r, err := s.store.Reading(ctx, d.ID, e.Reading); err == nil {
			s.bring(e.Order, brought{reading: r})
			return
		}
	}
}
