package record

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/record"
	"hylostat.example/internal/shop"
)

// Imported is what came of one drive of a record file.
type Imported struct {
	Key      drive.Key
	Readings int         // taken in
	Aside    int         // of them do not count: their time lies ahead
	Known    int         // were here already
	Folded   int         // of these the file has the times alone
	Left     record.Left // what stays with the shop that wrote the file
}

// Import takes a record file in, as one change: all of it, or nothing. What is known already changes nothing; what is older
// than what is known finds its place in the drive's life.
func (s *Keeper) Import(ctx context.Context, by shop.Actor, f record.File) ([]Imported, error) {
	var all []Imported
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) (deeds []shop.Deed, events []shop.Event, err error) {
		all = nil
		for _, d := range f.Drives {
			done := Imported{Key: d.Key()}
			if d.Left != nil {
				done.Left = *d.Left
			}
			readings := slices.Clone(d.Readings)
			slices.SortStableFunc(readings, func(a, b record.Reading) int { return a.At.Compare(b.At) })
			for i := range readings {
				done.Folded += len(readings[i].Folded)
				readings[i].Origin = s.originOf(f.SignedBy, readings[i].Origin)
			}
			more, err := s.takeIn(ctx, tx, d.Key(), readings, &done)
			if err != nil {
				return nil, nil, err
			}
			events = append(events, more...)
			all = append(all, done)
			if done.Readings > 0 {
				deeds = append(
					deeds,
					shop.Deed{
						Kind:   shop.ReadingTaken,
						Serial: done.Key.Serial,
						Said:   wording.Say(wording.ReadingsImported, wording.Values{"serial": done.Key.Serial, "n": done.Readings}),
					},
				)
			}
		}
		if len(deeds) == 0 {
			deeds = append(deeds, shop.Deed{Kind: shop.RecordImported, Said: wording.Say(wording.RecordKnown)})
		}
		return deeds, events, nil
	})
	return all, err
}

// takeIn stores the readings of one drive, in the order of time, then tells its life and judges it once.
func (s *Keeper) takeIn(ctx context.Context, tx Tx, key drive.Key, readings []record.Reading, done *Imported) ([]shop.Event, error) {
	var k known
	var latest *kept
	for _, r := range readings {
		tool := r.Tool
		if r.Place != "" {
			tool += ", " + r.Place
		}
		fresh, err := s.keep(
			ctx,
			tx,
			&protocol.Reading{
				ID:    r.ID,
				Key:   key,
				At:    r.At,
				Took:  time.Duration(r.TookMs) * time.Millisecond,
				Pages: r.AsPages(),
				Tool:  tool,
			},
			r.Origin,
			&k,
		)
		if err != nil {
			return nil, fmt.Errorf("taking in reading %s of %s: %w", r.ID, key.Serial, err)
		}
		if fresh == nil {
			done.Known++
			continue
		}
		done.Readings++
		if fresh.reading.Aside != "" {
			done.Aside++
			continue
		}
		latest = fresh
		if _, _, err := s.placed(ctx, tx, k.drive, fresh.reading.Seq); err != nil {
			return nil, err
		}
	}
	d := k.drive
	if done.Readings == 0 {
		return nil, nil
	}
	if latest == nil {
		return nil, s.unjudged(ctx, tx, d)
	}
	moments, err := tx.Moments(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	learned, err := s.learn(ctx, tx, &d, latest.decoded, moments)
	if err != nil {
		return nil, err
	}
	if learned { // all its readings are read anew in that light
		return s.redecodeDrive(ctx, tx, d, &Redecoding{})
	}
	return s.retell(ctx, tx, d, moments)
}

// Export gives a record file of all readings of a drive.
func (s *Keeper) Export(ctx context.Context, d shop.Drive) (record.File, error) {
	f := record.New(s.books.Clock.Now())
	moments, err := s.store.Moments(ctx, d.ID)
	if err != nil {
		return f, err
	}
	folds, err := s.store.FoldedTimes(ctx, d.ID)
	if err != nil {
		return f, err
	}
	times, before := map[string][]time.Time{}, 0 // by the reading behind them
	out := record.Drive{Model: d.Identity.Model, Serial: d.Identity.Serial}
	for _, m := range moments {
		r, err := s.store.Reading(ctx, d.ID, m.Seq)
		if err != nil {
			return f, err
		}
		x := record.Reading{
			ID:      r.Report,
			At:      r.At.UTC(),
			TookMs:  r.Took.Milliseconds(),
			Tool:    r.Tool,
			Pages:   record.FromPages(r.Pages),
			Decoded: r.Signals.Map(),
		}
		x.Origin = r.Origin
		if !r.Bay.IsZero() {
			x.Place = s.books.Name + ", " + r.Bay.Words()
		}
		out.Readings = append(out.Readings, x)
		times[x.ID], before = folds[before], m.Seq
	}
	if len(out.Readings) == 0 {
		return f, &shop.NotFound{What: d.Identity.Serial + " has no reading", Advice: "Take one."}
	}
	f.Drives = append(f.Drives, out)
	left, err := s.left(ctx, d)
	if err != nil {
		return f, err
	}
	f.Leave(left)
	f.Fold(times)
	return f, f.Sign(s.books.Key)
}

// left counts what of a drive is not in its record file.
func (s *Keeper) left(ctx context.Context, d shop.Drive) (l record.Left, _ error) {
	sweeps, err := s.store.Sweeps(ctx, shop.SweepQuery{Drive: d.ID})
	if err != nil {
		return l, err
	}
	for _, one := range sweeps {
		if !one.Kind.Writes() {
			l.Sweeps++
		}
	}
	reworks, err := s.store.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key, Reworks: true, Limit: 1 << 20})
	if err != nil {
		return l, err
	}
	l.Reworks = len(reworks)
	verdicts, err := s.store.Verdicts(ctx, d.ID)
	for _, v := range verdicts {
		if v.Signed != nil {
			l.Signatures++
		}
	}
	return l, err
}

// RedecodedSignal is one signal that the present decoder reads otherwise.
type RedecodedSignal struct {
	Serial      string
	Reading     int
	Signal      signal.Name
	Before, Now *float64 // nil: not available
}

// Redecoding is what came of reading the past anew.
type Redecoding struct {
	Readings, Changed int
	Changes           []RedecodedSignal // the first mostRedecoded
}

const mostRedecoded = 1000

// Redecode reads every stored page with the present decoder, keeps what it says, and decides anew where it says otherwise.
// One drive is one change: an interruption leaves whole drives.
func (s *Keeper) Redecode(ctx context.Context, by shop.Actor) (Redecoding, error) {
	var sum Redecoding
	deed := shop.Deed{Kind: shop.Redecoded, Said: wording.Say(wording.Redecoded, wording.Values{"version": reading.DecoderVersion})}
	if err := shop.Act(
		ctx, s.books, s.store, by, func(Tx) ([]shop.Deed, []shop.Event, error) { return []shop.Deed{deed}, nil, nil },
	); err != nil {
		return sum, err
	}
	after := ""
	for {
		drives, err := s.store.Drives(ctx, shop.Query{After: after, Limit: 200})
		if err != nil || len(drives) == 0 {
			return sum, err
		}
		for _, d := range drives {
			if _, err := shop.Apply(
				ctx, s.books, s.store, func(tx Tx) ([]shop.Event, error) { return s.redecodeDrive(ctx, tx, d, &sum) },
			); err != nil {
				return sum, fmt.Errorf("decoding %s anew: %w", d.Identity.Serial, err)
			}
			after = d.Identity.Serial
		}
	}
}

func (s *Keeper) redecodeDrive(ctx context.Context, tx Tx, d shop.Drive, sum *Redecoding) ([]shop.Event, error) {
	moments, err := tx.AllMoments(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	stored := false
	for i, m := range moments {
		r, err := tx.Reading(ctx, d.ID, m.Seq)
		if err != nil {
			return nil, err
		}
		decoded := reading.DecodeAs(r.Pages, d.Hints)
		now, err := s.judge.Signals(ctx, tx, d, &decoded, m.At)
		if err != nil {
			return nil, err
		}
		sum.Readings++
		changed := false
		for _, def := range signal.Registry {
			was, had := m.Signals.Get(def.Name)
			v := now[def.Name]
			if had == v.Available && (!had || was == v.Number) {
				continue
			}
			changed = true
			if len(sum.Changes) < mostRedecoded {
				c := RedecodedSignal{Serial: d.Identity.Serial, Reading: m.Seq, Signal: def.Name}
				if had {
					c.Before = &was
				}
				if v.Available {
					c.Now = &v.Number
				}
				sum.Changes = append(sum.Changes, c)
			}
		}
		if changed {
			sum.Changed++
			stored = true
			moments[i].Signals = signal.ValuesOf(now)
		}
		if changed || r.Decoder != reading.DecoderVersion {
			if err := tx.SaveSignals(ctx, d.ID, m.Seq, reading.DecoderVersion, now); err != nil {
				return nil, err
			}
		}
	}
	if !stored {
		return nil, nil
	}
	return s.retell(ctx, tx, d, slices.DeleteFunc(moments, func(m shop.Moment) bool { return m.Aside != "" }))
}
