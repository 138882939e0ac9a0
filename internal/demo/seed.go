package demo

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// Demo is the made-up shop with its simulated bench.
type Demo struct {
	Source *sim.Bench // the shop's own bench
	Field  *sim.Bench // the field bench
	Post   *Post      // who is told; nil until Tell
	clock  *sim.Clock
	fleet  []member
	bays   int // of both
}

// New makes the demo's bench. What its drives remember, and its clock, are kept in dir, so that a demo goes on where it
// was. A factor of 0 is the usual one.
func New(dir string, factor float64) (*Demo, error) {
	if factor == 0 {
		factor = Factor
	}
	file := filepath.Join(dir, "drives.json")
	clock, err := sim.RecallClock(file, factor)
	if err != nil {
		return nil, err
	}
	d := &Demo{clock: clock, fleet: everyone(clock.Start)}
	var own, field []drive.Address
	for _, m := range d.fleet {
		switch {
		case m.bay > 0 && m.field:
			field = append(field, place(m.bay))
		case m.bay > 0:
			own = append(own, place(m.bay))
		}
	}
	d.bays = len(own) + len(field)
	d.Source, d.Field = sim.New(clock, file, own...), sim.New(clock, filepath.Join(dir, "field.json"), field...)
	for _, m := range d.fleet {
		if m.bay > 0 {
			s := m.spec
			s.Tests = before(s, clock.Start)
			map[bool]*sim.Bench{false: d.Source, true: d.Field}[m.field].Insert(place(m.bay), s)
		}
	}
	return d, nil
}

// Factor is by how much the demo's time runs faster.
func (d *Demo) Factor() float64 { return d.clock.Factor }

// past is a clock set by hand, for writing history.
type past struct{ at time.Time }

func (p *past) Now() time.Time { return p.at }

func (p *past) Sleep(context.Context, time.Duration) error { return nil }

// before is the part of a drive's self-test log that is behind a moment.
func before(s sim.Spec, at time.Time) []ata.SelfTest {
	var all []ata.SelfTest
	for _, t := range s.Tests {
		if float64(t.Hours) <= s.Hours+at.Sub(s.Born).Hours()*s.Share {
			all = append(all, t)
		}
	}
	return all
}

// Seed writes the history of the fleet into an empty store: readings taken from the simulated drives at past moments, and
// taken in as a record file is. A store with drives in it is left alone.
func (d *Demo) Seed(ctx context.Context, st *store.Store) error {
	if have, err := st.Drives(ctx, shop.Query{Limit: 1}); err != nil || len(have) > 0 {
		return err
	}
	clock := &past{at: d.clock.Start}
	nobody, err := fleet.New(slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	s, err := whole.New(ctx, ShopName, st.Storage(), nobody, policy.Default, clock, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	f, reader := record.New(d.clock.Start), NewReader()
	for n, m := range d.fleet {
		if m.unseen || m.bay == secondPath && !m.field || m.spec.Awkward.SilentAttempts > 0 {
			continue
		}
		one, err := d.life(ctx, reader, n, m)
		if err != nil {
			return fmt.Errorf("history of %s: %w", m.spec.Identity.Serial, err)
		}
		f.Drives = append(f.Drives, one)
	}
	key, err := st.Key(ctx)
	if err == nil { // it is the shop's own past
		err = f.Sign(key)
	}
	if err != nil {
		return err
	}
	if _, err := s.Import(ctx, access.Service, f); err != nil {
		return err
	}
	lot := shop.Lot{
		Ticket:    "2150",
		Customer:  "Quillfoot Print Room",
		Reference: "QPR-77",
		Complaint: "from the storeroom, check before use",
		Duty:      drive.Everyday,
		Expected:  14,
		At:        d.shelved(),
		By:        "Dov",
		Ended:     d.shelved().Add(26 * time.Hour),
	}
	if err := st.Write(ctx, func(tx store.Tx) error { return tx.SaveLot(ctx, &lot) }); err != nil {
		return err
	}
	known := 0
	for _, m := range d.fleet {
		if m.ticket == "" {
			continue
		}
		if m.unseen || m.spec.Awkward.SilentAttempts > 0 {
			if err := d.intake(ctx, st, m, 0); err != nil {
				return err
			}
			continue
		}
		found, err := st.DriveByKey(ctx, f.Drives[known].Key())
		if err != nil {
			return err
		}
		known++
		if m.swept {
			if err := d.sweep(ctx, s, m, found); err != nil {
				return err
			}
		}
		if err := d.intake(ctx, st, m, found.ID); err != nil {
			return err
		}
		if found.Duty != m.duty {
			if err := s.SetDuty(ctx, access.Service, found, m.duty); err != nil {
				return err
			}
		}
		if m.signed != "" && found.Now.Grade != drive.Undecided {
			if _, err := s.Sign(ctx, access.InOpenShop(m.signed), found, 0, drive.Undecided, ""); err != nil {
				return err
			}
		}
		if m.bay == 0 && m.signed != "" && !m.lot { // looked at, signed, collected
			clock.at = d.clock.Start.Add(-4 * 24 * time.Hour)
			here, err := st.Intakes(ctx, found.ID)
			if err != nil || len(here) == 0 {
				return err
			}
			if _, err := s.HandOver(ctx, access.InOpenShop(m.signed), here[0].ID, shop.Handover{Goes: shop.Returned}); err != nil {
				return err
			}
			clock.at = d.clock.Start
		}
	}
	mute := shop.Intake{
		Lot:      lot.ID,
		Ticket:   lot.Ticket,
		Customer: lot.Customer,
		Duty:     lot.Duty,
		At:       lot.At,
		By:       lot.By,
		Label:    "Label Korvan K4-2000, 2000 GB; spins, is not found",
	}
	if err := st.Write(ctx, func(tx store.Tx) error { return tx.SaveIntake(ctx, &mute) }); err != nil {
		return err
	}
	return d.keepWatch(ctx, s, st)
}

// shelved is when the drives that are in no bay now were taken in.
func (d *Demo) shelved() time.Time { return d.clock.Start.Add(-6 * 24 * time.Hour) }

// secondPath is the bay in which the drive of the bay before it answers by its other port.
const secondPath = 9

// Reader reads simulated drives at moments set by hand, as a bench would have.
type Reader struct {
	clock *past
	bench *sim.Bench
	at    drive.Address
}

// NewReader makes one.
func NewReader() *Reader {
	r := &Reader{clock: &past{}, at: place(99)}
	r.bench = sim.New(r.clock, "", r.at)
	return r
}

// Read takes a reading of a drive as it is at a moment.
func (r *Reader) Read(ctx context.Context, spec sim.Spec, at time.Time) ([]reading.Page, drive.Key, error) {
	r.clock.at = at
	spec.Tests = before(spec, at)
	r.bench.Insert(r.at, spec)
	found, err := r.bench.Look(ctx)
	if err != nil {
		return nil, drive.Key{}, err
	}
	attached, err := r.bench.Open(ctx, found[0])
	if err != nil {
		return nil, drive.Key{}, err
	}
	session, fault := probe.Open(attached, probe.NotKnown)
	if fault != nil {
		return nil, drive.Key{}, fault
	}
	pages := session.Pages(ctx, probe.Manner{Wake: true})
	return pages, probe.Key(pages), nil
}

// life takes a drive's readings at past moments, as a record file carries them.
func (d *Demo) life(ctx context.Context, r *Reader, n int, m member) (one record.Drive, err error) {
	moments := history(d.clock.Start)
	if m.first {
		moments = moments[len(moments)-1:]
	}
	for i, moment := range moments {
		at := moment.Add(time.Duration(n*37%600) * time.Minute).UTC().Truncate(time.Millisecond)
		pages, key, err := r.Read(ctx, m.spec, at)
		if err != nil {
			return one, err
		}
		one.Model, one.Serial = key.Model, key.Serial
		one.Readings = append(
			one.Readings,
			record.Reading{ID: fmt.Sprintf("demo-%d-%d", n, i), At: at, TookMs: 38, Tool: "demo", Pages: record.FromPages(pages)},
		)
	}
	return one, nil
}

// sweep records a whole sweep that another bench made after the drive's last reading, and that found nothing.
func (d *Demo) sweep(ctx context.Context, s *whole.Shop, m member, found shop.Drive) error {
	id := m.spec.Identity
	g, err := surface.NewGeometry(id.Sectors*512, id.LogicalSector, id.PhysicalSector, 0, id.RotationRate, 0)
	if err != nil {
		return err
	}
	w := surface.New(g, nil)
	ended := found.Now.LastAt.Add(5 * time.Hour)
	return s.Take(ctx, "", protocol.Report{Sweep: &check.Result{
		Key: found.Identity.Key,
		Sweep: check.Sweep{
			Step:     1,
			Kind:     check.WholeSweep,
			Began:    ended.Add(-4 * time.Hour),
			Ended:    ended,
			Standing: check.Standing{Geometry: g, Share: 1},
		},
		Found: check.Found{Blocks: []check.Block{{Number: 0, Cells: w.Ribbon().PackBlock(0)}}},
	}})
}

func (d *Demo) intake(ctx context.Context, st *store.Store, m member, driveID int64) error {
	at := d.clock.Start.Add(-40 * time.Minute)
	if m.bay == 0 {
		at = d.shelved()
	}
	i := shop.Intake{
		Drive:     driveID,
		Bay:       m.at(),
		Ticket:    m.ticket,
		Customer:  m.customer,
		Complaint: m.about,
		Wanted:    m.wanted,
		Copied:    m.copied,
		Duty:      m.duty,
		At:        at,
		By:        "Dov",
	}
	if m.lot {
		i.Lot = 1
	}
	if m.copied {
		i.CopiedAt = at.Add(-20 * time.Hour)
	}
	if m.spec.Identity.RotationRate > 1 {
		i.Made = at.Add(-time.Duration(m.spec.Hours*1.4) * time.Hour).Format("2006-01")
	}
	if driveID == 0 {
		i.Label = fmt.Sprintf("Label %s, %d GB", m.spec.Identity.Model, m.spec.Identity.Sectors*512/1_000_000_000)
	}
	return st.Write(ctx, func(tx store.Tx) error { return tx.SaveIntake(ctx, &i) })
}

// Attend does what a technician did a moment ago: says that there is a drive in the bay that shows none.
func (d *Demo) Attend(ctx context.Context, s *whole.Shop) error {
	for _, m := range d.fleet {
		if m.spec.Awkward.SilentAttempts == 0 || m.bay == 0 {
			continue
		}
		v, err := s.Bay(ctx, m.at())
		if err != nil {
			return err
		}
		if v.Bay.Connection == protocol.Empty {
			return s.Attempt(ctx, access.InOpenShop("Dov"), m.at())
		}
	}
	return nil
}

// AttendSoon attends as soon as the bench has found its bays.
func (d *Demo) AttendSoon(ctx context.Context, s *whole.Shop) {
	for range 50 {
		if all, err := s.Bays(ctx); err == nil && len(all) == d.bays {
			_ = d.Attend(ctx, s) // a bay that stays empty is a poorer demo, nothing else
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(100 * time.Millisecond):
		}
	}
}
