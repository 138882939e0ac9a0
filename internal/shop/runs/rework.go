package runs

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
)

// How old what a rework rests on may be, and how long an order to a bench stays good.
const (
	freshReading = 24 * time.Hour
	orderGood    = 10 * time.Minute
)

// Wish is a rework that somebody wants.
type Wish struct {
	Kind   check.Kind
	Ending string // of the serial, as somebody read it off the label
	Second bool   // what destroys everything is ordered by two
}

// secondGood is how long the first of two who order something waits for the second.
const secondGood = time.Hour

// Rework has a bench write to a drive. The shop wants a release, a reading of today and a sweep of this intake, and a second person where
// that is demanded; the bench's guard judges the rest.
func (s *Conductor) Rework(ctx context.Context, by shop.Actor, d shop.Drive, wish Wish) (check.Run, error) {
	o, i, err := s.prepare(ctx, d, wish.Kind)
	if err != nil {
		return check.Run{}, err
	}
	o.Rework.Ending = strings.TrimSpace(wish.Ending)
	if wish.Second && wish.Kind == check.Overwrite {
		if err := s.second(ctx, by, d, i); err != nil {
			return check.Run{}, err
		}
	}
	return s.order(ctx, by, d, o)
}

// Ready is a rework that could begin as soon as somebody types the end of the serial.
type Ready struct {
	Takes   time.Duration
	Sectors uint64 // physical ones that it writes: those of a mend; else all
}

// AskRework judges a rework by everything but the serial, which is typed when all else stands. It begins nothing, and is no order.
func (s *Conductor) AskRework(ctx context.Context, d shop.Drive, kind check.Kind) (r Ready, _ error) {
	o, _, err := s.prepare(ctx, d, kind)
	if err != nil {
		return r, err
	}
	o.Asking = true
	if _, err := s.fleet.Order(ctx, o); err != nil {
		return r, err
	}
	pace, err := judge.Pace(ctx, s.store, d)
	logical := uint64(max(1, d.Identity.LogicalSector))
	physical := max(logical, uint64(d.Identity.PhysicalSector))
	r.Takes, r.Sectors = pace.Takes(kind), d.Identity.Bytes/physical
	if kind == check.Mend {
		r.Sectors = 0
		for _, t := range o.Rework.Targets {
			r.Sectors += (t.Sectors*logical + physical - 1) / physical
		}
	}
	return r, err
}

// prepare makes the order of a rework, without the end of the serial, when what the shop knows allows it.
func (s *Conductor) prepare(ctx context.Context, d shop.Drive, kind check.Kind) (o protocol.Order, of shop.Intake, _ error) {
	serial := "the drive" // the sentences name no serial: a person is to read it off the label
	if d.Now.Bay.IsZero() {
		return o, of, &shop.Conflict{What: serial + " is in no bay", Advice: "Attach it to a bay first."}
	}
	for _, other := range d.Now.OtherBays { // a bench sees its own bays alone
		if other.Bench != d.Now.Bay.Bench {
			return o, of, &shop.Conflict{
				What:   "the serial answers in " + other.Words() + ", too",
				Advice: "Leave one of them attached, by one path.",
			}
		}
	}
	all, err := s.store.Intakes(ctx, d.ID)
	if err != nil {
		return o, of, err
	}
	if len(all) == 0 || all[0].Release == nil || all[0].Handover != nil {
		return o, of, &shop.Conflict{What: "not released by the owner", Advice: "Record a release."}
	}
	i := all[0]
	if i.AtRisk() {
		return o, of, &shop.Conflict{What: "its data is wanted and not copied", Advice: "Copy the data and record the copy first."}
	}
	if age := s.books.Clock.Now().Sub(d.Now.LastAt); age > freshReading {
		return o, of, &shop.Conflict{
			What:   fmt.Sprintf("its last reading is %d h old", int(age.Hours())),
			Advice: "Take a reading first.",
		}
	}
	if err := s.spent(ctx, i, d.Identity.Key, kind); err != nil {
		return o, of, err
	}
	w, err := s.found(ctx, d, i)
	if err != nil {
		return o, of, err
	}
	w.Release = check.Release{
		Intake:  i.ID,
		Key:     d.Identity.Key,
		Scope:   i.Release.Scope,
		Owner:   fmt.Sprintf("the owner, by intake %d", i.ID),
		By:      i.Release.By,
		At:      i.Release.At,
		Expires: s.books.Clock.Now().Add(orderGood),
		Nonce:   rand.Text(),
	}
	if kind == check.Overwrite {
		var seed [8]byte
		_, _ = rand.Read(seed[:]) // never fails, crypto/rand
		w.Pattern.Seed = binary.LittleEndian.Uint64(seed[:])
	}
	if kind != check.Mend {
		w.Targets = nil
	}
	return protocol.Order{
		Kind: protocol.OrderCheck, Check: kind, Bay: d.Now.Bay, Key: d.Identity.Key, Rework: w, Lasts: consentLasts,
	}, i, nil
}

// second tells whether somebody else has ordered an overwrite of late; if not, it is noted that this one has, and refused.
func (s *Conductor) second(ctx context.Context, by shop.Actor, d shop.Drive, i shop.Intake) error {
	now := s.books.Clock.Now()
	if first := i.Release.First; first != nil && first.By != by.Name && now.Sub(first.At) <= secondGood {
		return nil
	}
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		latest, err := tx.IntakeByID(ctx, i.ID)
		if err != nil {
			return nil, nil, err
		}
		if latest.Release == nil || !latest.Release.At.Equal(i.Release.At) {
			return nil, nil, &shop.Conflict{What: "the release was changed meanwhile", Advice: "Look at it, and order it again."}
		}
		latest.Release.First = &shop.First{By: by.Name, At: now}
		return []shop.Deed{{
			Kind: shop.RunOrdered, Serial: d.Identity.Serial, Bay: d.Now.Bay,
			Said: wording.Say(wording.SecondWanted, wording.Values{"serial": d.Identity.Serial, "by": by.Name}),
		}}, nil, tx.SaveIntake(ctx, &latest)
	})
	if err != nil {
		return err
	}
	return &shop.Conflict{
		What:   "this shop wants two for it, and you are the first",
		Advice: fmt.Sprintf("Have somebody else order it, too, within %d min.", int(secondGood.Minutes())),
	}
}

// ReleasedBy is who consented to a rework. The bench is told the intake and no name, so that a customer can be forgotten here
// alone; an earlier owner is not shown to a later one.
func (s *Conductor) ReleasedBy(ctx context.Context, r check.Run) (string, error) {
	if r.Rework == nil {
		return "", nil
	}
	i, err := s.store.IntakeByID(ctx, r.Rework.Release.Intake)
	if shop.IsNone(err) || err == nil && i.Release == nil { // from before, or taken back since
		return r.Rework.Release.Owner, nil
	}
	if err != nil {
		return "", err
	}
	all, err := s.store.Intakes(ctx, i.Drive)
	if err != nil {
		return "", err
	}
	if len(all) > 0 && !shop.SameOwner(i, all[0]) {
		return "an earlier owner", nil
	}
	return i.Release.Owner, nil
}

// found is what the sweeps of an intake found: what there is to mend. There must be one.
func (s *Conductor) found(ctx context.Context, d shop.Drive, i shop.Intake) (*check.Rework, error) {
	all, err := s.store.Sweeps(ctx, shop.SweepQuery{Drive: d.ID})
	if err != nil {
		return nil, err
	}
	w := &check.Rework{}
	swept := false
	for _, one := range all { // newest first
		if one.Kind.Writes() || one.Ended.Before(i.At) {
			continue
		}
		detail, err := s.store.SweepDetail(ctx, one.Run, one.Step)
		if err != nil {
			return nil, err
		}
		for _, r := range detail.Ranges {
			if r.Cause == surface.Damaged && !swept {
				w.LinkFails = true
			}
			if r.Cause.Unreadable() {
				w.Targets = append(w.Targets, r.Extent)
			}
		}
		swept = true
		if one.ReadAll() {
			break // what was before it has been read again
		}
	}
	if !swept {
		return nil, &shop.Conflict{
			What:   "it was not swept since it was taken in",
			Advice: "Sweep it first: a rework needs to know the surface.",
		}
	}
	slices.SortFunc(w.Targets, func(a, b surface.Extent) int {
		if a.LBA < b.LBA {
			return -1
		}
		return 1
	})
	return w, nil
}

// ReworkView is a rework with what it changed.
type ReworkView struct {
	Run      check.Run
	Compared *record.Comparison // the readings before and after it; nil while there are not both
	Held     *bool              // by a whole sweep on a later day; nil: not known yet
	Says     []wording.Phrase
}

// ReworkOf gives a rework, the drive's counters before and after it, and whether it held.
func (s *Conductor) ReworkOf(ctx context.Context, id int64) (v ReworkView, err error) {
	if v.Run, err = s.RunByID(ctx, id); err != nil {
		return v, err
	}
	if v.Run.Rework == nil {
		return v, &shop.NotFound{What: fmt.Sprintf("run %d is no rework", id), Advice: "List the runs."}
	}
	d, err := s.store.DriveByKey(ctx, v.Run.Key)
	if err != nil {
		return v, err
	}
	moments, err := s.store.Moments(ctx, d.ID)
	if err != nil {
		return v, err
	}
	before, after := shop.Around(id, moments)
	if before > 0 && after > 0 {
		c, err := s.record.Compare(ctx, d, before, after)
		if err != nil {
			return v, err
		}
		v.Compared = &c
	}
	for _, step := range v.Run.Steps {
		if step.Standing != nil && !step.Note.IsZero() {
			v.Says = append(v.Says, wording.Say(wording.ReworkStep, wording.Values{"step": string(step.Kind), "note": step.Note}))
		}
		if step.Standing != nil && step.Standing.Elsewhere != nil {
			e := step.Standing.Elsewhere
			v.Says = append(v.Says, wording.Say(wording.ReworkElsewhere, wording.Values{"lba": e.LBA, "from": e.From}))
		}
	}
	if v.Run.State != check.Done {
		return v, nil
	}
	return v, s.held(ctx, d, &v)
}

// held says whether a rework held.
func (s *Conductor) held(ctx context.Context, d shop.Drive, v *ReworkView) error {
	since, err := judge.SinceRework(ctx, s.store, d.ID, &v.Run)
	if err != nil {
		return err
	}
	v.Held = since.Held
	switch {
	case since.Held == nil:
		v.Says = append(v.Says, wording.Say(wording.ReworkOpen))
	case *since.Held:
		v.Says = append(v.Says, wording.Say(wording.ReworkHeld, wording.Values{"at": since.When.Format(time.RFC3339)}))
	default:
		v.Says = append(v.Says, wording.Say(wording.ReworkFailed, wording.Values{"n": since.Again, "at": since.When.Format(time.RFC3339)}))
	}
	return nil
}
