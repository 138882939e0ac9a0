package record

import (
	"context"
	"fmt"
	"time"

	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/shop"
)

// How long readings stay as they came, and how often it is looked which are older.
const (
	foldAfter = 30 * 24 * time.Hour
	foldEvery = 6 * time.Hour
	foldTick  = time.Minute
)

// Folded is what came of folding.
type Folded struct{ Drives, Readings int }

// KeepFolded folds what is old enough, now and every few hours of the shop's clock, until the context ends.
func (s *Keeper) KeepFolded(ctx context.Context) {
	ticks := time.NewTicker(foldTick)
	defer ticks.Stop()
	var next time.Time
	for {
		if now := s.books.Clock.Now(); !now.Before(next) || next.Sub(now) > foldEvery {
			next = now.Add(foldEvery)
			done, err := s.Fold(ctx)
			if err != nil && ctx.Err() == nil {
				s.books.Log.Error("folding old readings; it is tried again", "in", foldEvery, "error", err)
			}
			if done.Readings > 0 {
				s.books.Log.Info("old readings are folded", "drives", done.Drives, "readings", done.Readings)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-ticks.C:
		}
	}
}

// Fold leaves of readings older than 30 days that changed nothing only when they were taken. Those stay whole on which anything rests: the
// first and the last of each row of such readings, those around a change, the extremes of what varies, and those that a verdict, a finding,
// an alert or an intake names. One drive is one change.
func (s *Keeper) Fold(ctx context.Context) (Folded, error) {
	var done Folded
	before := s.books.Clock.Now().Add(-foldAfter)
	for after := int64(0); ; {
		drives, err := s.store.Unfolded(ctx, after, 100)
		if err != nil || len(drives) == 0 {
			return done, err
		}
		for _, id := range drives {
			after = id
			old, err := s.store.Stretches(ctx, id, before)
			if err != nil {
				return done, err
			}
			if len(old) == 0 {
				continue
			}
			n := 0
			if err := s.store.Write(ctx, func(tx Tx) (err error) { n, err = s.foldDrive(ctx, tx, id, before); return err }); err != nil {
				return done, fmt.Errorf("drive %d: %w", id, err)
			}
			if n > 0 {
				done.Drives, done.Readings = done.Drives+1, done.Readings+n
			}
		}
	}
}

func (s *Keeper) foldDrive(ctx context.Context, tx Tx, id int64, before time.Time) (int, error) {
	old, err := tx.Stretches(ctx, id, before)
	if err != nil {
		return 0, err
	}
	moments, err := tx.Moments(ctx, id)
	if err != nil {
		return 0, err
	}
	keep, err := s.named(ctx, tx, id, moments)
	if err != nil {
		return 0, err
	}
	life, place := make([]verdict.Moment, len(moments)), make(map[int]int, len(moments))
	for i, m := range moments {
		life[i], place[m.Seq] = m.Moment, i
		if m.Aside != "" || !m.Said.IsZero() { // somebody looked at it
			keep[m.Seq] = true
		}
	}
	var ranges [][2]int
	for _, x := range old {
		from, known := place[x.First-1]
		to, too := place[x.Last]
		if !known || !too || to-from != x.Last-x.First+1 { // they do not follow each other in time as they do by number
			continue
		}
		if to+1 < len(moments) && moments[to+1].Seq == x.Last+1 { // the next is stored whole
			to++
		}
		ranges = append(ranges, [2]int{from, to})
	}
	folds := map[int][]int{} // by the reading before the stretch
	for _, i := range verdict.Foldable(life, ranges, keep) {
		for n, r := range ranges {
			if i > r[0] && i < r[1] {
				folds[n] = append(folds[n], moments[i].Seq)
			}
		}
	}
	sum := 0
	for n, r := range ranges {
		sum += len(folds[n])
		if err := tx.Fold(ctx, id, moments[r[0]].Seq+1, folds[n]); err != nil {
			return 0, err
		}
	}
	return sum, nil
}

// named gives the readings that something names: they stay.
func (s *Keeper) named(ctx context.Context, tx Tx, id int64, moments []shop.Moment) (map[int]bool, error) {
	all := map[int]bool{}
	told, err := tx.ToldReadings(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, seq := range told {
		all[seq] = true
	}
	verdicts, err := tx.Verdicts(ctx, id)
	if err != nil {
		return nil, err
	}
	for i := range verdicts {
		all[verdicts[i].Reading] = true
		for _, f := range append(verdicts[i].Findings, verdicts[i].Notes...) {
			all[f.Reading] = true
		}
	}
	intakes, err := tx.Intakes(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, in := range intakes { // what was known when it came, and what was read first
		for i := range moments {
			if !moments[i].At.Before(in.At) {
				all[moments[max(0, i-1)].Seq], all[moments[i].Seq] = true, true
				break
			}
		}
	}
	return all, nil
}
