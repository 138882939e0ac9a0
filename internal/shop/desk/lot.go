package desk

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/runs"
)

// OpenLot opens a lot: from now on every drive that comes to answer and is on no other intake is taken in on it, so that taking
// in thirty drives is putting them in. One lot is open at a time.
func (s *Desk) OpenLot(ctx context.Context, by shop.Actor, l shop.Lot) (shop.Lot, error) {
	if err := shop.Tidy(&l.Ticket, &l.Customer, &l.Reference, &l.Complaint, &by.Name); err != nil {
		return l, err
	}
	if err := checkDuty(l.Duty); err != nil {
		return l, err
	}
	l.Duty = cmp.Or(l.Duty, drive.Everyday)
	if l.Check != "" && !l.Check.Plannable() {
		return l, runs.NoPlan(l.Check)
	}
	l.Wanted = l.Wanted || l.Copied
	l.By, l.At = by.Name, s.books.Clock.Now()
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		if open, err := tx.LotOpen(ctx); err == nil {
			return nil, nil, &shop.Conflict{
				What:   fmt.Sprintf("lot %d is open", open.ID),
				Advice: "End it first: a drive that comes to answer can belong to one only.",
			}
		} else if !shop.IsNone(err) {
			return nil, nil, err
		}
		l.ID, l.Ended = 0, time.Time{}
		if err := tx.SaveLot(ctx, &l); err != nil {
			return nil, nil, err
		}
		return []shop.Deed{{Kind: shop.LotChanged, Said: wording.Say(wording.LotOpened, wording.Values{"lot": l.ID})}}, nil, nil
	})
	return l, err
}

// EndLot ends taking drives in on a lot. Its drives stay its drives.
func (s *Desk) EndLot(ctx context.Context, by shop.Actor, id int64) (shop.Lot, error) {
	var l shop.Lot
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) (_ []shop.Deed, _ []shop.Event, err error) {
		if l, err = tx.Lot(ctx, id); err != nil {
			return nil, nil, err
		}
		if !l.Open() {
			return nil, nil, &shop.Conflict{
				What:   fmt.Sprintf("lot %d ended on %s", id, l.Ended.Format("2 January 2006")),
				Advice: "There is nothing to end.",
			}
		}
		l.Ended = s.books.Clock.Now()
		return []shop.Deed{
			{Kind: shop.LotChanged, Said: wording.Say(wording.LotEnded, wording.Values{"lot": id})},
		}, nil, tx.SaveLot(ctx, &l)
	})
	return l, err
}

// Lots lists lots, newest first.
func (s *Desk) Lots(ctx context.Context) ([]shop.Lot, error) { return s.store.Lots(ctx) }

// joinLot takes a drive that has come to answer in on the open lot, unless it is on an intake already.
func (s *Desk) joinLot(ctx context.Context, tx Tx, bay drive.Bay, d shop.Drive) ([]shop.Event, error) {
	l, err := tx.LotOpen(ctx)
	if err != nil {
		if shop.IsNone(err) {
			err = nil
		}
		return nil, err
	}
	before, err := tx.Intakes(ctx, d.ID)
	if err != nil || len(before) > 0 && before[0].Handover == nil {
		return nil, err
	}
	i := l.IntakeOf(bay, s.books.Clock.Now())
	more, err := s.settle(ctx, tx, &i, d)
	if err != nil {
		return nil, err
	}
	by := shop.Actor{Name: l.By, Via: access.Standing}
	e, err := s.books.Note(
		ctx,
		tx,
		by,
		shop.Deed{
			Kind:   shop.IntakeChanged,
			Serial: d.Identity.Serial,
			Bay:    bay,
			Said:   wording.Say(wording.IntakeOnLot, wording.Values{"bay": bay.String(), "intake": i.ID, "lot": l.ID}),
		},
	)
	return append(more, e), err
}

// LotDrive is one drive of a lot.
type LotDrive struct {
	Intake  shop.Intake
	Drive   *shop.Drive // nil: it has not named itself
	Grade   drive.Grade // as signed, else as judged
	Duties  []verdict.Fit
	Values  signal.Values
	Speed   float64 // bytes per second on the outer tracks, by its newest whole sweep; 0: not swept
	Apart   []string
	Next    wording.Phrase
	Minutes int // what Next takes; 0: not known
}

// Usable is how many drives of a lot do for a duty.
type Usable struct {
	Duty drive.Duty
	Does int // without reserve
	Care int // with care
	Of   int
}

// LotView is a lot with its drives, worst first.
type LotView struct {
	shop.Lot
	Drives   []LotDrive
	Count    map[drive.Grade]int
	Usable   []Usable // most demanding duty first
	Compared []Compared
}

// LotByID gives a lot with its drives.
func (s *Desk) LotByID(ctx context.Context, id int64) (LotView, error) {
	l, err := s.store.Lot(ctx, id)
	if err != nil {
		return LotView{}, err
	}
	v := LotView{Lot: l, Count: map[drive.Grade]int{}}
	all, err := s.store.IntakesOf(ctx, shop.IntakeQuery{Lot: id})
	if err != nil {
		return v, err
	}
	seen := map[int64]bool{}
	for _, i := range all { // newest first: a drive that was taken in twice counts once
		if i.Drive != 0 && seen[i.Drive] {
			continue
		}
		seen[i.Drive] = true
		one, err := s.lotDrive(ctx, i)
		if err != nil {
			return v, err
		}
		v.Drives = append(v.Drives, one)
		v.Count[one.Grade]++
	}
	for _, d := range drive.Duties() {
		u := Usable{Duty: d, Of: len(v.Drives)}
		for i := range v.Drives {
			if v.Drives[i].Grade == drive.Undecided {
				continue
			}
			for _, f := range v.Drives[i].Duties {
				switch {
				case f.Duty != d:
				case f.Fitness == policy.Does:
					u.Does++
				case f.Fitness == policy.Care:
					u.Care++
				}
			}
		}
		v.Usable = append(v.Usable, u)
	}
	v.compare()
	slices.SortStableFunc(v.Drives, func(a, b LotDrive) int {
		return cmp.Or(cmp.Compare(b.rank(), a.rank()), cmp.Compare(b.share(), a.share()), cmp.Compare(a.Intake.ID, b.Intake.ID))
	})
	return v, nil
}

// rank orders drives of a lot: what has to be replaced, what is undecided, what degrades, what is healthy.
func (d LotDrive) rank() int {
	return map[drive.Grade]int{drive.Replace: 3, drive.Undecided: 2, drive.Degrading: 1}[d.Grade]
}

func (d LotDrive) share() float64 {
	if d.Drive == nil {
		return 0
	}
	return d.Drive.Now.MarginShare
}

func (s *Desk) lotDrive(ctx context.Context, i shop.Intake) (LotDrive, error) {
	one := LotDrive{Intake: i, Next: wording.Say(wording.NextItsPower)}
	if i.Drive == 0 {
		dead, err := s.Unanswered(ctx, i)
		if err != nil {
			return one, err
		}
		if dead != "" {
			one.Grade, one.Next = drive.Replace, wording.Literal(dead)
		}
		if i.Handover != nil {
			one.Next = wording.Say(wording.WentAs, wording.Values{"goes": string(i.Handover.Goes)})
		}
		return one, nil
	}
	d, err := s.store.Drive(ctx, i.Drive)
	if err != nil {
		return one, err
	}
	one.Drive, one.Grade = &d, d.Now.Stands()
	latest, err := s.store.Latest(ctx, d.ID)
	if err != nil && !shop.IsNone(err) {
		return one, err
	}
	one.Values = latest.Signals
	v, err := s.judge.Verdict(ctx, d)
	if err != nil && !shop.IsNone(err) {
		return one, err
	}
	one.Duties = s.fits(d, v)
	if one.Speed, err = s.outerSpeed(ctx, d); err != nil {
		return one, err
	}
	past, err := s.pastOf(ctx, BayView{Drive: &d})
	if err != nil {
		return one, err
	}
	switch {
	case i.Handover != nil:
		one.Next = wording.Say(wording.WentAs, wording.Values{"goes": string(i.Handover.Goes)})
	case i.AtRisk():
		one.Next = wording.Say(wording.NextCopy)
	case past.unseen():
		one.Next = wording.Say(wording.NextQuick)
	case d.Now.Signed != nil:
		one.Next = wording.Say(wording.NextHandOver)
	case v.Grade == drive.Undecided && len(v.Missing) > 0: // of what is decided, no more evidence is asked for
		one.Next, one.Minutes = wording.Literal(v.Missing[0].Run), v.Missing[0].Minutes
	case v.Grade == drive.Healthy && len(v.Findings)+len(v.Notes) == 0:
		one.Next = wording.Say(wording.NextSign)
	default:
		one.Next = wording.Say(wording.NextReview)
	}
	return one, nil
}

// fits tells for which duties a drive does: by its verdict, or, where that was overruled, by the grade a person gave it.
func (s *Desk) fits(d shop.Drive, v shop.Verdict) []verdict.Fit {
	if d.Now.Signed == nil || d.Now.Signed.Grade == v.Grade {
		return v.Duties
	}
	var all []verdict.Fit
	for _, f := range v.Duties {
		all = append(all, verdict.Fit{Duty: f.Duty, Fitness: s.judge.Policy().Duties[d.Now.Signed.Grade][f.Duty], Words: string(f.Duty)})
	}
	return all
}

// outerSpeed is how fast the drive was read where it begins, in its newest whole sweep.
func (s *Desk) outerSpeed(ctx context.Context, d shop.Drive) (float64, error) {
	all, err := s.store.Sweeps(ctx, shop.SweepQuery{Drive: d.ID})
	if err != nil {
		return 0, err
	}
	for _, w := range all {
		if !w.ReadAll() || w.Kind.Writes() {
			continue
		}
		detail, err := s.store.SweepDetail(ctx, w.Run, w.Step)
		if err != nil || len(detail.Blocks) == 0 {
			return 0, err
		}
		r := surface.NewRibbon(w.Standing.Geometry)
		if err := r.UnpackBlock(detail.Blocks[0].Number, detail.Blocks[0].Cells); err != nil {
			return 0, fmt.Errorf("the ribbon of run %d: %w", w.Run, err)
		}
		var bytes, seconds float64
		for _, c := range r.Block(detail.Blocks[0].Number) {
			bytes, seconds = bytes+float64(c.Bytes), seconds+c.Took.Seconds()
		}
		if seconds > 0 {
			return bytes / seconds, nil
		}
		return 0, nil
	}
	return 0, nil
}
