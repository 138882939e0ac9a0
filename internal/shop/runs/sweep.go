package runs

import (
	"context"
	"fmt"
	"slices"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// Swept stores a sweep that ended and decides anew.
func (s *Conductor) Swept(ctx context.Context, tx Tx, r check.Result) ([]shop.Event, error) {
	d, err := tx.DriveByKey(ctx, r.Key)
	if err != nil {
		return nil, err
	}
	w := shop.Sweep{Sweep: r.Sweep, Drive: d.ID, Hours: -1}
	if d.Now.HasHours {
		w.Hours = d.Now.Hours
	}
	if err := tx.AddSweep(ctx, w, r.Found); err != nil {
		return nil, err
	}
	return s.judge.Redecide(ctx, tx, d)
}

// ribbon is the picture of a sweep that goes on.
type ribbon struct {
	step   int
	blocks map[int][]byte
	heat   []check.Heat
}

// progress keeps how a run stands, and passes it on to those who follow it.
func (s *Conductor) progress(p protocol.Progress) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id := p.Run.ID
	if was, known := s.live[id]; known && p.Blocks != nil && was.State != check.Running && p.Run.State == check.Running {
		p.Run.State, p.Run.Pause = was.State, was.Pause // the sweep's own copy of the run is older
	}
	s.live[id] = p.Run
	if p.Blocks != nil {
		r := s.ribbons[id]
		if r == nil || p.Whole || r.step != p.Step {
			r = &ribbon{step: p.Step, blocks: map[int][]byte{}}
			s.ribbons[id] = r
		}
		for _, b := range p.Blocks {
			r.blocks[b.Number] = b.Cells
		}
		if now := p.Run.Steps[p.Step].Standing; now != nil && now.Celsius != nil &&
			(len(r.heat) == 0 || now.Share-r.heat[len(r.heat)-1].Share > 1.0/512) {
			r.heat = append(r.heat, check.Heat{At: s.books.Clock.Now(), Share: now.Share, Celsius: *now.Celsius})
		}
	}
	if p.Run.State == check.Done {
		delete(s.live, id)
		delete(s.ribbons, id)
	}
	for c := range s.watched[id] {
		select {
		case c <- p:
		default: // it does not keep up: it begins anew
			delete(s.watched[id], c)
			close(c)
		}
	}
}

// Follow gives how a run stands and delivers how it stands from then on, until the context ends. The channel closes when the
// listener fell behind.
func (s *Conductor) Follow(ctx context.Context, id int64) (check.Run, <-chan protocol.Progress, error) {
	changes := s.watch(ctx, id) // first, so that nothing falls between
	r, err := s.RunByID(ctx, id)
	if err != nil {
		return r, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(changes) > 0 { // what came meanwhile led to how it stands, and would lead back
		r = (<-changes).Run
	}
	return r, changes, nil
}

func (s *Conductor) watch(ctx context.Context, run int64) <-chan protocol.Progress {
	c := make(chan protocol.Progress, 64)
	s.mu.Lock()
	if s.watched[run] == nil {
		s.watched[run] = map[chan protocol.Progress]bool{}
	}
	s.watched[run][c] = true
	s.mu.Unlock()
	context.AfterFunc(ctx, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.watched[run][c] {
			delete(s.watched[run], c)
			close(c)
		}
		if len(s.watched[run]) == 0 {
			delete(s.watched, run)
		}
	})
	return c
}

// SweepOf gives the newest sweep of a run, as it stands or as it ended. NotFound when the run has none.
func (s *Conductor) SweepOf(ctx context.Context, id int64) (shop.Sweep, check.Found, error) {
	ended, err := s.store.Sweeps(ctx, shop.SweepQuery{Run: id})
	if err != nil {
		return shop.Sweep{}, check.Found{}, err
	}
	if len(ended) > 0 && !s.sweeps(id, ended[0].Step) {
		one := ended[0]
		if one.Once, err = s.slowOnce(ctx, one); err != nil {
			return one, check.Found{}, err
		}
		detail, err := s.store.SweepDetail(ctx, id, one.Step)
		return one, detail, err
	}
	r, err := s.RunByID(ctx, id)
	if err != nil {
		return shop.Sweep{}, check.Found{}, err
	}
	for i := len(r.Steps) - 1; i >= 0; i-- {
		step := &r.Steps[i]
		if step.Standing == nil || step.State == check.Pending && i > 1 {
			continue
		}
		var d check.Found
		s.mu.Lock()
		if live := s.ribbons[id]; live != nil {
			d.Heat = slices.Clone(live.heat)
			for n, cells := range live.blocks {
				d.Blocks = append(d.Blocks, check.Block{Number: n, Cells: cells})
			}
		}
		s.mu.Unlock()
		slices.SortFunc(d.Blocks, func(a, b check.Block) int { return a.Number - b.Number })
		return shop.Sweep{
			Sweep: check.Sweep{Run: id, Step: i, Kind: step.Kind, Began: step.Begun, Standing: *step.Standing},
			Hours: -1,
		}, d, nil
	}
	return shop.Sweep{}, check.Found{}, &shop.NotFound{
		What:   fmt.Sprintf("run %d sweeps nothing", id),
		Advice: "Start a quick or an extended check.",
	}
}

// sweeps reports whether a run goes over the surface in a later step.
func (s *Conductor) sweeps(id int64, after int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.ribbons[id]
	return r != nil && r.step > after
}

// slowOnce asks the readings before and after a sweep why places were slow the first time only: the drive has relocated
// them meanwhile, or the host was busy.
func (s *Conductor) slowOnce(ctx context.Context, one shop.Sweep) (wording.Phrase, error) {
	moments, err := s.store.Moments(ctx, one.Drive)
	if err != nil {
		return wording.Phrase{}, err
	}
	var before, after *shop.Moment
	for i := range moments {
		switch m := &moments[i]; {
		case m.Run != one.Run:
		case m.Step == check.ReadingBefore:
			before = m
		case m.Step == check.ReadingAfter:
			after = m
		}
	}
	if before == nil || after == nil {
		return wording.Phrase{}, nil
	}
	known := false
	for _, name := range []signal.Name{signal.Reallocated, signal.GrownDefects, signal.ReallocationEvents} {
		was, had := before.Signals.Get(name)
		now, has := after.Signals.Get(name)
		if had && has && now > was {
			return wording.Say(wording.OnceRelocated, wording.Values{"n": now - was}), nil
		}
		known = known || had && has
	}
	if !known {
		return wording.Phrase{}, nil
	}
	return wording.Say(wording.OnceBusy), nil
}

// Sweeps lists the sweeps of a drive that ended, newest first.
func (s *Conductor) Sweeps(ctx context.Context, d shop.Drive) ([]shop.Sweep, error) {
	return s.store.Sweeps(ctx, shop.SweepQuery{Drive: d.ID})
}

// SweepDetail gives everything a sweep found.
func (s *Conductor) SweepDetail(ctx context.Context, w shop.Sweep) (check.Found, error) {
	return s.store.SweepDetail(ctx, w.Run, w.Step)
}

// CompareSweeps lays the sweep of one run over that of an earlier one of the same drive.
func (s *Conductor) CompareSweeps(ctx context.Context, before, after int64) ([]surface.Difference, error) {
	one, was, err := s.SweepOf(ctx, before)
	if err != nil {
		return nil, err
	}
	two, now, err := s.SweepOf(ctx, after)
	if err != nil {
		return nil, err
	}
	if one.Drive != two.Drive || one.Drive == 0 {
		return nil, &shop.Conflict{
			What:   fmt.Sprintf("runs %d and %d do not both hold a sweep of the same drive that ended", before, after),
			Advice: "Choose two of the drive's own.",
		}
	}
	ribbon := surface.NewRibbon(two.Standing.Geometry)
	for _, b := range now.Blocks {
		if err := ribbon.UnpackBlock(b.Number, b.Cells); err != nil {
			return nil, err
		}
	}
	read := func(e surface.Extent) bool {
		return two.ReadAll() || ribbon.Cells()[ribbon.Cell(e.LBA)].Swept()
	}
	return surface.Compare(
		surface.Found{Ranges: was.Ranges, Slow: was.Slow}, surface.Found{Ranges: now.Ranges, Slow: now.Slow, Swept: read},
	), nil
}

// Pause lets the sweep of a run wait, or go on.
func (s *Conductor) Pause(ctx context.Context, by shop.Actor, id int64, on bool) (check.Run, error) {
	kind, said := protocol.OrderResume, wording.RunResumed
	if on {
		kind, said = protocol.OrderPause, wording.RunPaused
	}
	return s.tellRun(ctx, by, id, kind, said)
}
