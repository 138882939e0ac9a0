package desk

import (
	"context"
	"encoding/hex"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/record"
)

// Paper is everything that statement and label say of a drive. It is made of what is stored, and of nothing else.
type Paper struct {
	Shop        string
	At          time.Time
	Language    wording.Language // of its owner
	Drive       shop.Drive
	Intake      *shop.Intake // the present one; nil: none
	Visits      int          // intakes of the same owner, this one among them
	Verdict     *shop.Verdict
	Grade       drive.Grade // as signed, else as judged
	Fits        []verdict.Fit
	Latest      shop.Moment        // of its readings
	Counters    int                // signals the latest reading has
	Without     []signal.Name      // signals that matter and that the drive does not report
	Tests       []reading.SelfTest // newest first
	Sweep       *shop.Sweep        // the newest of the present intake that only reads; a whole one rather than a later spot sweep
	Reworks     []check.Run        // of the present intake
	Data        shop.DataState
	Volumes     *record.VolumesView // of this intake; nil: nobody looked
	Interrupted int                 // runs of this intake that did not come to their end
	Audit       string              // its head, as AuditHead.Short has it
}

// Paper gathers it.
func (s *Desk) Paper(ctx context.Context, d shop.Drive) (Paper, error) {
	p := Paper{Shop: s.books.Name, At: s.books.Clock.Now(), Drive: d, Grade: d.Now.Stands(), Data: shop.Untouched}
	v, err := s.judge.Verdict(ctx, d)
	if err != nil && !shop.IsNone(err) {
		return p, err
	}
	if err == nil {
		p.Verdict, p.Fits = &v, s.fits(d, v)
	}
	last, err := s.store.Audit(ctx, shop.AuditQuery{Limit: 1})
	if err != nil {
		return p, err
	}
	if len(last) > 0 {
		p.Audit = shop.AuditHead{Rows: last[0].Seq, Hash: hex.EncodeToString(last[0].Hash)}.Short()
	}
	intakes, err := s.store.Intakes(ctx, d.ID)
	if err != nil {
		return p, err
	}
	since := d.FirstSeen
	if len(intakes) > 0 {
		p.Intake, since, p.Language = &intakes[0], intakes[0].At, intakes[0].Language
		for _, i := range intakes {
			if shop.SameOwner(i, intakes[0]) {
				p.Visits++
			}
		}
		if p.Data, err = dataState(ctx, s.store, d, intakes[0]); err != nil {
			return p, err
		}
		if h := intakes[0].Handover; h != nil {
			p.Data = h.Data
		}
	}
	if p.Latest, err = s.store.Latest(ctx, d.ID); err != nil && !shop.IsNone(err) {
		return p, err
	}
	if err := s.counters(ctx, &p); err != nil {
		return p, err
	}
	sweeps, err := s.store.Sweeps(ctx, shop.SweepQuery{Drive: d.ID})
	if err != nil {
		return p, err
	}
	for i := range sweeps { // newest first
		if w := &sweeps[i]; !w.Kind.Writes() && !w.Ended.Before(since) && (p.Sweep == nil || w.ReadAll() && !p.Sweep.ReadAll()) {
			p.Sweep = w
		}
	}
	volumes, err := s.record.Volumes(ctx, d)
	if err != nil && !shop.IsNone(err) {
		return p, err
	}
	if err == nil && !volumes.At.Before(since) {
		p.Volumes = &volumes
	}
	runs, err := s.store.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key})
	if err != nil {
		return p, err
	}
	for _, r := range runs {
		switch {
		case r.Asked.Before(since):
		case r.Kind.IsRework() && r.Wrote():
			p.Reworks = append(p.Reworks, r)
		case r.State == check.Done && r.Outcome == check.Stopped:
			p.Interrupted++
		}
	}
	return p, nil
}

// counters counts what the latest reading tells and what the drive never reports.
func (s *Desk) counters(ctx context.Context, p *Paper) error {
	if p.Latest.Seq == 0 {
		return nil
	}
	r, err := s.store.Reading(ctx, p.Drive.ID, p.Latest.Seq)
	if err != nil {
		return err
	}
	decoded := reading.DecodeAs(r.Pages, p.Drive.Hints)
	p.Tests = decoded.Tests
	set, err := s.judge.Signals(ctx, s.store, p.Drive, &decoded, time.Time{})
	if err != nil {
		return err
	}
	for _, def := range signal.Registry {
		switch {
		case def.Inner || def.Group == "tests" || def.Only != "" && def.Only != p.Drive.Identity.Medium:
		case def.Name.BySweep():
		case set[def.Name].Available:
			p.Counters++
		case def.Name == signal.Temperature || def.Name == signal.PowerOnHours || def.Name == signal.PercentageUsed ||
			def.Name == signal.Alarm:
			p.Without = append(p.Without, def.Name)
		}
	}
	return nil
}
