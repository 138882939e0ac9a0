package worker

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
)

// temperatureEvery is how often the temperature of a drive is read while it is swept, in the drive's time.
const temperatureEvery = time.Minute

// How often it is asked, in real time, whether a rework may go on, and for how long the answer is to hold still: longer than until it is
// asked again, so that a rework waits before a write is refused.
const (
	consentEvery  = 20 * time.Second
	consentMargin = time.Minute
)

// watch has the temperature read from time to time, and the consent to a rework asked for.
func (w *Worker) watch(ctx context.Context) {
	ctx, w.unwatch = context.WithCancel(ctx)
	w.warm = every(ctx, w.machine.Clock.Sleep, temperatureEvery)
	if w.writes() {
		w.ask = every(ctx, device.Wall{}.Sleep, consentEvery)
	}
}

func every(ctx context.Context, sleep func(context.Context, time.Duration) error, d time.Duration) <-chan struct{} {
	due := make(chan struct{}, 1)
	go func() {
		for sleep(ctx, d) == nil {
			select {
			case due <- struct{}{}:
			default:
			}
		}
	}()
	return due
}

// writes reports whether the current step writes to the drive.
func (w *Worker) writes() bool {
	s := w.current.Current()
	return s != nil && s.Kind.Writes()
}

// askConsent lets a rework wait when nobody has said for a while that its release holds.
func (w *Worker) askConsent(ctx context.Context) {
	if w.current != nil && w.writes() && !w.machine.Consents.Hold(w.current.ID, consentMargin) {
		w.happen(ctx, check.PauseAsked{Why: wording.Say(wording.NoConsent), Turn: true})
	}
}

// readTemperature reads the temperature, and lets the sweep wait while the drive is too hot.
func (w *Worker) readTemperature(ctx context.Context) {
	s := w.sweeping
	if s == nil || s.Over() || w.session == nil || w.current == nil {
		return
	}
	s.Hold(ctx)
	pages := w.session.Warmth(ctx)
	s.Release()
	decoded := reading.Decode(pages)
	v := signal.Of(&decoded)[signal.Temperature]
	if !v.Available {
		return
	}
	celsius := int(v.Number)
	s.Warm(celsius)
	switch {
	case w.current.State == check.Running && celsius >= s.HotAt():
		w.happen(ctx, check.PauseAsked{Why: wording.Say(wording.TooHot, wording.Values{"celsius": celsius, "until": coolAt}), Hot: true})
	case w.current.Hot && celsius <= coolAt:
		w.happen(ctx, check.ResumeAsked{})
	}
}

// sweepEnded takes the end of a sweep that ended by itself.
func (w *Worker) sweepEnded(ctx context.Context, e check.Event) {
	if w.sweeping == nil || w.current == nil {
		return
	}
	w.sweeping.Wait()
	if _, whole := e.(check.Swept); !whole { // how far it came, and what it wrote
		*w.current, _ = check.Next(*w.current, check.SweepMoved{Sweep: w.sweeping.Now()}, w.machine.Clock.Now())
	}
	w.forgetSweep()
	if trouble, ok := e.(check.Trouble); ok && trouble.Fault.Class == drive.FaultStuck {
		w.become(ctx, protocol.StuckBay, w.bay.Key, &trouble.Fault)
	}
	w.happen(ctx, e)
}

// endSweep ends the sweep that goes on, if one does. With part, what it found so far is given, to be kept with the run it ends with; its
// mark is kept, so that it can go on from there.
func (w *Worker) endSweep(part bool) []check.Result {
	s := w.sweeping
	if s == nil {
		return nil
	}
	now, found := s.End()
	w.forgetSweep()
	if !part {
		return nil
	}
	if w.current != nil {
		*w.current, _ = check.Next(*w.current, check.SweepMoved{Sweep: now}, w.machine.Clock.Now())
	}
	return []check.Result{found}
}

func (w *Worker) forgetSweep() {
	w.machine.Feeder.Left(w.sweeping.Run())
	w.sweeping = nil
	if w.unwatch != nil {
		w.unwatch()
	}
	w.warm, w.ask, w.unwatch = nil, nil, nil
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
func (w *Worker) pause(ctx context.Context, o protocol.Order) (receipt protocol.Receipt, then func(), err error) {
	r := w.current
	wanted, why := check.Running, "no sweep is going on, and a self-test of the drive's own cannot wait"
	switch {
	case o.Kind == protocol.OrderResume:
		wanted, why = check.Paused, "it does not wait"
	case r != nil && r.ID == o.Run && r.State == check.Paused:
		why = "it waits already"
	}
	if s := r; s == nil || r.ID != o.Run || r.State != wanted || o.Kind == protocol.OrderPause && w.sweeping == nil {
		return receipt, nil, w.notNow(o, why, "Look at the run.")
	}
	if o.Kind == protocol.OrderResume {
		return receipt, func() { w.happen(ctx, check.ResumeAsked{}) }, nil
	}
	return receipt, func() {
		w.happen(ctx, check.PauseAsked{Why: wording.Say(wording.PausedBy, wording.Values{"by": o.By})})
	}, nil
}

// coolAt is where a sweep that paused for heat goes on.
const coolAt = 50

// sweepOn begins the sweep of the current step, or goes on from its mark.
func (w *Worker) sweepOn(ctx context.Context) check.Event {
	if why := w.waitsFor(); !why.IsZero() {
		return check.PauseAsked{Why: why, Turn: true}
	}
	if w.sweeping != nil {
		w.sweeping.Release()
		return nil
	}
	wrong := w.beginSweep(ctx)
	if wrong != nil {
		w.machine.Feeder.Left(w.current.ID)
	}
	return wrong
}

// beginSweep starts the sweeper of the current step, or gives what is wrong.
func (w *Worker) beginSweep(ctx context.Context) check.Event {
	blocks, ok := w.open.(device.Blocks)
	index := slices.IndexFunc(w.current.Steps, func(s check.Step) bool {
		return s.Kind.IsSweep() && s.Standing != nil && s.State == check.Begun
	})
	var s *sweep.Sweeper
	image := ""
	err := w.protectSource(ctx, index)
	if r := w.current; r.Copy != nil && err == nil {
		image, err = w.machine.imageOf(*r.Copy)
	}
	if err == nil && (!ok || index < 0) {
		err = fmt.Errorf("the drive in %s has no surface that can be read", w.bay.ID.Words())
	}
	if err == nil {
		s, err = sweep.Begin(ctx, sweep.Host{
			Journal: w.machine.Journal,
			Clock:   w.machine.Clock,
			Log:     w.machine.Log,
			Feeder:  w.machine.Feeder,
			Tell:    w.bench.Tell, Audience: w.bench.Audience,
			Stored: w.bench.Awake,
		}, sweep.Order{
			Run: *w.current, Step: index, Blocks: blocks, Hold: w.hold(index), Image: image, Tool: w.machine.Tool,
			Events: w.swept, Full: w.full,
		})
	}
	if refused, ok := errors.AsType[*sweep.NotHeldError](err); ok {
		return reworkTrouble(w.current.Kind, refused.Err)
	}
	if err != nil {
		return check.Trouble{
			Fault: drive.Fault{
				Class: drive.FaultNotRead,
				What:  "going on with the sweep",
				Cause: err.Error(),
				Extra: "Stop the run and begin anew.",
			},
		}
	}
	w.sweeping = s
	w.watch(ctx)
	return nil
}
