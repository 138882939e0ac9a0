package bench

import (
	"context"
	"fmt"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/protocol"
)

// temperatureEvery is how often the temperature of a drive is read while it is swept, in the drive's time.
const temperatureEvery = time.Minute

// over reports whether the sweep has ended by itself.
func (s *sweeper) over() bool {
	select {
	case <-s.finished:
		return true
	default:
		return false
	}
}

// watchHeat has the temperature read from time to time.
func (w *worker) watchHeat(ctx context.Context) {
	due := make(chan struct{}, 1)
	ctx, w.unwarm = context.WithCancel(ctx)
	w.warm = due
	go func() {
		for w.bench.clock.Sleep(ctx, temperatureEvery) == nil {
			select {
			case due <- struct{}{}:
			default:
			}
		}
	}()
}

// readTemperature reads the temperature, and lets the sweep wait while the drive is too hot.
func (w *worker) readTemperature(ctx context.Context) {
	s := w.sweeping
	if s == nil || s.over() || w.session == nil || w.current == nil {
		return
	}
	s.hold(ctx)
	pages := w.session.Warmth(ctx)
	s.release()
	decoded := reading.Decode(pages)
	v := signal.Of(&decoded)[signal.Temperature]
	if !v.Available {
		return
	}
	celsius := int(v.Number)
	s.warm(celsius)
	switch {
	case w.current.State == check.Running && celsius >= s.hotAt:
		w.happen(ctx, check.PauseAsked{Why: fmt.Sprintf("%d °C: it waits until it has cooled to %d °C", celsius, coolAt), Hot: true})
	case w.current.Hot && celsius <= coolAt:
		w.happen(ctx, check.ResumeAsked{})
	}
}

// sweepEnded takes the end of a sweep that ended by itself.
func (w *worker) sweepEnded(ctx context.Context, e check.Event) {
	if w.sweeping == nil || w.current == nil {
		return
	}
	<-w.sweeping.finished
	w.forgetSweep()
	if trouble, ok := e.(check.Trouble); ok && trouble.Fault.Class == drive.FaultStuck {
		w.become(ctx, protocol.StuckBay, w.bay.Key, &trouble.Fault)
	}
	w.happen(ctx, e)
}

// endSweep ends the sweep that goes on, if one does. With part, what it found so far is reported.
func (w *worker) endSweep(ctx context.Context, part bool) {
	s := w.sweeping
	if s == nil {
		return
	}
	now := s.end(ctx, part)
	if w.current != nil {
		if next, _ := check.Next(*w.current, check.SweepMoved{Sweep: now}, w.bench.clock.Now()); part {
			*w.current = next
		}
	}
	w.forgetSweep()
}

func (w *worker) forgetSweep() {
	w.bench.feeder.left(w.sweeping.current.ID)
	w.sweeping = nil
	if w.unwarm != nil {
		w.unwarm()
	}
	w.warm, w.unwarm = nil, nil
	select { // what it may have said last
	case <-w.swept:
	default:
	}
	select {
	case <-w.full:
	default:
	}
}

// pause lets the sweep of the current run wait, or go on.
func (w *worker) pause(ctx context.Context, o protocol.Order) (receipt protocol.Receipt, then func(), err error) {
	r := w.current
	wanted, why := check.Running, "no sweep is going on, and a self-test of the drive's own cannot wait"
	if o.Kind == protocol.OrderResume {
		wanted, why = check.Paused, "it does not wait"
	}
	if s := r; s == nil || r.ID != o.Run || r.State != wanted || o.Kind == protocol.OrderPause && w.sweeping == nil {
		return receipt, nil, w.notNow(o, why, "Look at the run.")
	}
	if o.Kind == protocol.OrderResume {
		return receipt, func() { w.happen(ctx, check.ResumeAsked{}) }, nil
	}
	return receipt, func() { w.happen(ctx, check.PauseAsked{Why: "paused by " + o.By}) }, nil
}
