package worker

import (
	"context"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
)

// happen puts an event to the current run, stores it, and does what it asks for.
func (w *Worker) happen(ctx context.Context, e check.Event) {
	for e != nil && w.current != nil && ctx.Err() == nil {
		effect, err := w.put(ctx, e)
		if err != nil {
			w.machine.Log.Error("storing a run; it stands still until there is room", "run", w.current.ID, "error", err)
			w.unkept, w.again = e, time.After(Again)
			return
		}
		e = w.effect(ctx, effect)
	}
}

// put puts an event to the current run and stores it. When that fails nothing has happened.
func (w *Worker) put(ctx context.Context, e check.Event, ended ...check.Result) (check.Effect, error) {
	before := *w.current
	if w.sweeping != nil && !w.sweeping.Over() {
		before, _ = check.Next(before, check.SweepMoved{Sweep: w.sweeping.Now()}, w.machine.Clock.Now())
	}
	next, effect := check.Next(before, e, w.machine.Clock.Now())
	if quiet(before, next) {
		*w.current = next
	} else if err := w.save(ctx, next, ended...); err != nil {
		return check.Nothing, err
	}
	w.bench.Tell(protocol.Progress{Run: next})
	return effect, nil
}

// quiet reports whether nothing but the percentage moved: that is told, not stored.
func quiet(a, b check.Run) bool {
	if a.State != b.State || len(a.Steps) != len(b.Steps) {
		return false
	}
	for i := range a.Steps {
		if x, y := a.Steps[i], b.Steps[i]; x.State != y.State || x.Sent != y.Sent || x.Tries != y.Tries || x.Adopted != y.Adopted {
			return false
		}
	}
	return true
}

func (w *Worker) save(ctx context.Context, r check.Run, ended ...check.Result) error {
	if err := w.bench.SaveRun(ctx, r, ended...); err != nil {
		return err
	}
	w.current = &r
	if r.State == check.Done {
		w.current = nil
	}
	return nil
}

func (w *Worker) perform(ctx context.Context, effect check.Effect) {
	w.happen(ctx, w.effect(ctx, effect))
}

// effect does what a run asks for and gives the event it ended in, or nil when the run waits.
func (w *Worker) effect(ctx context.Context, effect check.Effect) check.Event {
	switch effect {
	case check.Nothing:
		return nil
	case check.TakeReading:
		return w.runReading(ctx)
	case check.SendTest:
		return w.after(ctx, w.startTest(ctx), check.TestSent{})
	case check.AbortTest:
		return w.after(ctx, w.session.AbortTest(ctx), check.Aborted{})
	case check.PollTest:
		return w.look(ctx)
	case check.RunSweep:
		return w.sweepOn(ctx)
	case check.HoldSweep:
		if w.sweeping != nil {
			w.sweeping.Hold(ctx)
		}
		w.machine.Feeder.Left(w.current.ID)
		if w.current.Turn {
			w.turn = time.After(askEvery)
		}
	case check.PollLater:
		wait, cancel := context.WithCancel(ctx)
		fired := make(chan struct{}, 1)
		w.poll, w.unpoll = fired, cancel
		go func() {
			if w.machine.Clock.Sleep(wait, pollEvery) == nil {
				fired <- struct{}{}
			}
		}()
	}
	return nil
}

func (w *Worker) runReading(ctx context.Context) check.Event {
	t := w.read(ctx, "", w.current, probe.Manner{Wake: true})
	if t.key != w.current.Key {
		fault := probe.FirstFault(t.pages)
		switch {
		case t.key.IsValid():
			fault = &drive.Fault{
				Class: drive.FaultWrongDrive,
				What:  "reading " + w.bay.ID.Words(),
				Cause: "serial " + t.key.Serial + " answers, " + w.current.Key.Serial + " was expected",
			}
		case fault == nil:
			fault = &drive.Fault{Class: drive.FaultNoAnswer, What: "reading the drive", Cause: "it does not name itself"}
		case fault.Class == drive.FaultStuck:
			w.become(ctx, protocol.StuckBay, w.bay.Key, fault)
		}
		return check.Trouble{Fault: *fault}
	}
	r := t.decoded
	can, why := canTest(w.current.Kind, r)
	e := check.ReadingTaken{
		CanTest: can, Pace: check.PaceOf(r.Identity, r.Capabilities), Busy: r.HasCounters && r.TestRunning, Why: why,
	}
	blocks, _ := w.open.(device.Blocks)
	e.Sweep, e.NoSweep = sweep.Plan(w.current, r, blocks, w.machine.Clock.Now())
	for _, p := range t.pages {
		switch {
		case p.Fault != nil && (p.Fault.Class == drive.FaultVanished || p.Fault.Class == drive.FaultStuck):
			if p.Fault.Class == drive.FaultStuck {
				w.become(ctx, protocol.StuckBay, w.bay.Key, p.Fault)
			}
			return check.Trouble{Fault: *p.Fault}
		case p.Name == w.session.TestLogPage() && p.Fault == nil:
			e.Tests = reading.Decode([]reading.Page{p}).Tests // of this page alone: it is what a look asks for
		case p.Name == reading.PageAttributes && p.Fault != nil:
			e.Why = check.Told(*p.Fault)
		}
	}
	if !e.CanTest && !r.HasCounters && len(r.Faults) > 0 {
		e.Why = check.Told(r.Faults[0])
	}
	return e
}

// startTest starts the self-test of the run's present step.
func (w *Worker) startTest(ctx context.Context) *drive.Fault {
	switch w.current.Current().Kind {
	case check.ConveyanceTest:
		return w.session.StartTest(ctx, probe.Conveyance)
	case check.SelectiveTest:
		return w.session.StartSelective(ctx, w.current.Spans)
	case check.ExtendedTest:
		return w.session.StartTest(ctx, probe.Extended)
	default:
		return w.session.StartTest(ctx, probe.Short)
	}
}

// canTest tells whether the drive has the run's self-test, or why not.
func canTest(kind check.Kind, r reading.Reading) (can bool, why wording.Phrase) {
	switch kind {
	case check.Conveyance:
		return r.HasCounters && r.Capabilities.Conveyance, wording.Say(wording.NoTest, wording.Values{"kind": "conveyance"})
	case check.Selective:
		return r.HasCounters && r.Capabilities.Selective, wording.Say(wording.NoTest, wording.Values{"kind": "selective"})
	case check.Quick, check.Extended, check.Short, check.Long, check.Spot, check.Whole, check.Copy, check.Mend, check.Renew,
		check.Overwrite:
	}
	return r.HasCounters && r.Capabilities.SelfTest, wording.Say(wording.NoTests)
}

func (w *Worker) after(ctx context.Context, fault *drive.Fault, done check.Event) check.Event {
	if fault != nil {
		return w.trouble(ctx, fault)
	}
	return done
}

func (w *Worker) trouble(ctx context.Context, fault *drive.Fault) check.Event {
	if fault.Class == drive.FaultStuck {
		w.become(ctx, protocol.StuckBay, w.bay.Key, fault)
	}
	return check.Trouble{Fault: *fault}
}

// askEvery is how often a sweep that waits for its turn asks whether it has come.
const askEvery = time.Second

// waitsFor is why a sweep is to wait; zero: it may go on.
func (w *Worker) waitsFor() wording.Phrase {
	if w.writes() && !w.machine.Consents.Hold(w.current.ID, consentMargin) {
		return wording.Say(wording.NoConsent)
	}
	if w.sweeping != nil {
		if why := w.sweeping.Unkept(); !why.IsZero() {
			return why
		}
	}
	return w.machine.Feeder.Ask(w.current.ID, time.Now())
}

// ourTurn lets a sweep go on that waited for others, if it may.
func (w *Worker) ourTurn(ctx context.Context) {
	w.turn = nil
	switch {
	case w.current == nil || !w.current.Turn:
	case !w.waitsFor().IsZero():
		w.turn = time.After(askEvery)
	default:
		w.happen(ctx, check.ResumeAsked{})
	}
}

// look asks whether the self-test still runs, and for the log when it does not.
func (w *Worker) look(ctx context.Context) check.Event {
	l, fault := w.session.LookTest(ctx)
	if fault != nil {
		return w.trouble(ctx, fault)
	}
	e := check.Polled{Running: l.Running, Left: l.Left, Status: l.Status, Page: l.Page, Log: l.Log != nil}
	if e.Log {
		e.Tests = reading.Decode([]reading.Page{{Name: l.Page, Bytes: l.Log}}).Tests
	}
	return e
}
