package record

import (
	"context"
	"crypto/rand"
	"errors"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/volume"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// VolumesView is what a drive's partition tables and file systems say of themselves, what the system's checkers say of them, and
// what follows.
type VolumesView struct {
	At     time.Time
	By     string
	Layout volume.Layout
	Checks map[int]volume.Check // by partition
	Says   wording.Phrase
}

// LookAtVolumes has the bench read partition tables and superblocks of a drive whose data is not at risk, and waits for it. A
// superblock's read loads the surface as any other does, so that of a drive whose data is at risk waits for the copy.
func (s *Keeper) LookAtVolumes(ctx context.Context, by shop.Actor, d shop.Drive) (VolumesView, error) {
	if d.Now.Bay.IsZero() {
		return VolumesView{}, &shop.Conflict{What: d.Identity.Serial + " is in no bay", Advice: "Attach it to a bay, then look."}
	}
	if i, err := s.judge.Intake(ctx, d); err != nil {
		return VolumesView{}, err
	} else if i != nil && i.AtRisk() {
		return VolumesView{}, &shop.Conflict{
			What:   "the data on " + d.Identity.Serial + " is wanted and not copied",
			Advice: "Copy the data and record the copy, then look at its file systems; or look at those of the copy.",
		}
	}
	order := protocol.Order{Kind: protocol.OrderVolumes, Bay: d.Now.Bay, Key: d.Identity.Key, ID: rand.Text(), By: by.Name}
	deed := shop.Deed{
		Kind:   shop.VolumesOrdered,
		Serial: d.Identity.Serial,
		Bay:    d.Now.Bay,
		Said:   wording.Say(wording.VolumesOrdered, wording.Values{"serial": d.Identity.Serial}),
	}
	err := shop.Command(ctx, s.books, s.store, by, deed, func() error {
		_, err := s.await(ctx, order, volumesDeadline)
		return err
	})
	if err != nil {
		return VolumesView{}, err
	}
	return s.Volumes(ctx, d)
}

// volumesDeadline is how long somebody waits for the checkers of a drive's file systems. They go on after that.
const volumesDeadline = 16 * time.Minute

// VolumesSeen stores what a bench read.
func (s *Keeper) VolumesSeen(ctx context.Context, tx Tx, v protocol.Volumes) ([]shop.Event, error) {
	d, err := tx.DriveByKey(ctx, v.Key)
	if err != nil {
		return nil, err
	}
	return []shop.Event{
		{
			At:     s.books.Clock.Now(),
			Kind:   shop.VolumesSeen,
			Serial: d.Identity.Serial,
			Bay:    v.Bay,
			By:     v.By,
			Order:  v.Order,
			Said:   wording.Say(wording.VolumesSeen, wording.Values{"serial": d.Identity.Serial}),
		},
	}, tx.AddVolumes(ctx, d.ID, v)
}

// VolumesAt tells when a drive's file systems were looked at last; the zero time says never.
func (s *Keeper) VolumesAt(ctx context.Context, d shop.Drive) (time.Time, error) {
	return s.store.VolumesAt(ctx, d.ID)
}

// Volumes gives what was seen of a drive's file systems last.
func (s *Keeper) Volumes(ctx context.Context, d shop.Drive) (VolumesView, error) {
	seen, err := s.store.Volumes(ctx, d.ID)
	if err != nil {
		return VolumesView{}, err
	}
	view := VolumesView{
		At:     seen.At,
		By:     seen.By,
		Layout: volume.Look(recorded(seen.Pieces), seen.Bytes, seen.Sector),
		Checks: map[int]volume.Check{},
	}
	for _, c := range seen.Checks {
		view.Checks[c.Partition] = c
	}
	view.Says = view.says(d.Now.Stands())
	return view, nil
}

// recorded reads from what a bench has read.
func recorded(pieces []volume.Piece) volume.Reader {
	return func(offset uint64, length int) ([]byte, error) {
		for _, p := range pieces {
			if p.Offset != offset || p.Length != length {
				continue
			}
			if p.Fault != "" {
				return nil, errors.New(p.Fault)
			}
			return append(make([]byte, 0, length), append(p.Bytes, make([]byte, max(0, length-len(p.Bytes)))...)...), nil
		}
		return nil, errors.New("it was not read")
	}
}

// Damaged names the first volume that is damaged by its own word or by that of a checker.
func (v VolumesView) Damaged() (wording.Phrase, bool) {
	for _, one := range v.Layout.Volumes {
		checked := v.Checks[one.Partition].Result
		if one.State == volume.Damaged && checked != volume.FoundClean || checked == volume.FoundDamaged {
			return called(one), true
		}
	}
	if len(v.Layout.Faults) > 0 {
		return wording.Say(wording.PartitionTable), true
	}
	return wording.Phrase{}, false
}

// called names a volume for a sentence.
func called(v volume.Volume) wording.Phrase {
	values, code := wording.Values{"kind": v.Kind}, wording.VolumeNamed
	if v.Kind == "" {
		values["kind"] = wording.Say(wording.VolumeUnknown)
	}
	values["label"] = wording.Phrase{}
	if v.Label != "" {
		values["label"] = wording.Say(wording.VolumeLabel, wording.Values{"text": v.Label})
	}
	if v.Partition > 0 {
		code, values["partition"] = wording.VolumeOnPartition, v.Partition
	}
	return wording.Say(code, values)
}

// says draws the conclusion: whether it is the drive, the file system, or neither.
func (v VolumesView) says(g drive.Grade) wording.Phrase {
	what, damaged := v.Damaged()
	values := wording.Values{"what": what, "grade": g.String()}
	switch {
	case damaged && g == drive.Healthy:
		return wording.Say(wording.VolumesDamagedAlone, values)
	case damaged && g == drive.Undecided:
		return wording.Say(wording.VolumesDamagedOpen, values)
	case damaged:
		return wording.Say(wording.VolumesDamagedBoth, values)
	case len(v.Layout.Volumes) == 0:
		return wording.Say(wording.VolumesNone)
	case g == drive.Healthy:
		return wording.Say(wording.VolumesSound)
	}
	return wording.Say(wording.VolumesQuiet)
}
