package worker

import (
	"context"
	"errors"
	"fmt"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// Order gives an order, and comes back when it is taken or refused.
func (w *Worker) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	reply := make(chan answered, 1)
	select {
	case w.inbox <- ordered{o, reply}:
	default:
		return protocol.Receipt{}, w.refuse(o, drive.FaultStuck, "it is busy with an earlier command")
	}
	select {
	case a := <-reply:
		return a.receipt, a.err
	case <-ctx.Done():
		return protocol.Receipt{}, ctx.Err()
	}
}

func (w *Worker) refuse(o protocol.Order, class drive.FaultClass, back string) *protocol.Refusal {
	return w.refuseWith(o, class, back, class.Advice())
}

// refuseWith refuses an order with an advice that fits it better than that of the class.
func (w *Worker) refuseWith(o protocol.Order, class drive.FaultClass, back, do string) *protocol.Refusal {
	return &protocol.Refusal{Class: class, What: fmt.Sprintf("%s in %s", o.Kind, w.bay.ID.Words()), Cause: back, Advice: do}
}

// notNow refuses an order because of what goes on in the bay.
func (w *Worker) notNow(o protocol.Order, back, do string) error {
	return w.refuseWith(o, drive.FaultInUse, back, do)
}

func (w *Worker) busy(o protocol.Order) error {
	return w.notNow(o, fmt.Sprintf("run %d is under way", w.current.ID), "Wait for its end, or stop it first.")
}

// carryOut carries out an order, or says why not. What takes longer than a reply may wait comes back as a function.
func (w *Worker) carryOut(ctx context.Context, o protocol.Order) (receipt protocol.Receipt, then func(), err error) {
	switch o.Kind {
	case protocol.OrderAttempt:
		return receipt, nil, w.attempt(ctx)
	case protocol.OrderVacate:
		if err := w.remember(ctx, false, 0); err != nil {
			return receipt, nil, err
		}
		if w.bay.Connection == protocol.Silent {
			w.bay.Connection, w.bay.Fault = protocol.Empty, nil
		}
		w.publish(ctx)
		return receipt, nil, nil
	case protocol.OrderStop:
		if w.current == nil || w.current.ID != o.Run {
			return receipt, nil, w.stopAbsent(ctx, o)
		}
		return w.stop(ctx, o)
	case protocol.OrderPause, protocol.OrderResume:
		return w.pause(ctx, o)
	case protocol.OrderWriteProtect:
		return receipt, nil, w.writeProtect(ctx, o)
	case protocol.OrderSetBay, protocol.OrderArrange, protocol.OrderConsent: // the bench's own
	case protocol.OrderRead, protocol.OrderCheck, protocol.OrderVolumes:
	}
	switch {
	case w.bay.Connection == protocol.StuckBay:
		return receipt, nil, w.refuse(o, drive.FaultStuck, "its drive holds an earlier command")
	case w.bay.Connection == protocol.Unread && w.bay.Fault != nil:
		return receipt, nil, &protocol.Refusal{
			Class:  w.bay.Fault.Class,
			What:   w.bay.Fault.What,
			Cause:  w.bay.Fault.Cause,
			Advice: w.bay.Fault.Advice(),
		}
	case w.bay.Connection != protocol.Answering:
		return receipt, nil, w.refuse(o, drive.FaultNoAnswer, "no drive answers")
	case o.Key.IsValid() && o.Key != w.bay.Key:
		return receipt, nil, w.refuse(
			o, drive.FaultWrongDrive, fmt.Sprintf("%s is wanted, %s is in the bay", o.Key.Serial, w.bay.Key.Serial),
		)
	}
	if o.Kind == protocol.OrderRead {
		return receipt, func() {
			t := w.read(ctx, o.ID, nil, probe.Manner{Wake: !o.LeaveAsleep, Attachments: o.Attachments})
			if !t.key.IsValid() && ctx.Err() == nil {
				fault := drive.Fault{Class: drive.FaultNoAnswer, What: "reading the drive", Cause: "it does not name itself"}
				if f := probe.FirstFault(t.pages); f != nil {
					fault = *f
				}
				w.bench.Report(ctx, protocol.Report{Unanswered: &protocol.Unanswered{Order: o.ID, Bay: w.bay.ID, Fault: fault}})
			}
			if t.key != w.bay.Key || ended(t.pages) != nil {
				w.otherThanExpected(ctx, t.pages, t.key)
			}
		}, nil
	}
	if o.Kind == protocol.OrderVolumes {
		return w.lookAtVolumes(ctx, o)
	}
	if w.current != nil {
		return receipt, nil, w.busy(o)
	}
	if o.Asking {
		return receipt, nil, w.mayRework(ctx, o)
	}
	r := check.New(o.Check, w.bay.ID, w.bay.Key, o.By, w.machine.Clock.Now(), o.Limit, o.Spans...)
	r.ID, r.Despite, r.Order = o.Run, o.Despite, o.ID
	r.Expect(o.Pace)
	add := w.machine.Journal.AddRun
	if o.Check == check.Copy {
		if err := w.takeCopy(o); err != nil {
			return receipt, nil, err
		}
		r.Copy = o.Copy
	}
	if o.Check.IsRework() {
		r.Rework = o.Rework
		add = func(ctx context.Context, r check.Run) error { return w.takeRework(ctx, o, r) }
	}
	if err := add(ctx, r); errors.Is(err, journal.ErrKnown) {
		return receipt, nil, w.notNow(o, fmt.Sprintf("it has had a run %d before", r.ID), "Order it again.")
	} else if err != nil {
		return receipt, nil, err
	}
	w.bench.Opened(r)
	w.current = &r
	return protocol.Receipt{Run: &r}, func() { w.happen(ctx, check.Begin{}) }, nil
}

// writeProtect has the machine refuse to write to the drive in the bay, or not any more.
func (w *Worker) writeProtect(ctx context.Context, o protocol.Order) error {
	source, ok := w.machine.Source.(device.Guard)
	if !ok || w.bay.Device.Instance == "" {
		return w.refuse(o, drive.FaultNotRead, "there is nothing to protect")
	}
	if err := source.WriteProtect(ctx, w.bay.Device, o.On); err != nil {
		f := device.FaultOf("protecting "+w.bay.Device.Node, err)
		return w.refuse(o, f.Class, f.Cause)
	}
	w.bay.WriteProtected = o.On
	w.publish(ctx)
	return nil
}

// stop stops the run of the drive in the bay. It is refused when that cannot be stored: the run goes on then.
func (w *Worker) stop(ctx context.Context, o protocol.Order) (receipt protocol.Receipt, then func(), _ error) {
	w.noPoll()
	effect, err := w.put(ctx, check.StopAsked{By: o.By}, w.endSweep(true)...)
	if err == nil {
		w.unkept = nil
		return receipt, func() { w.perform(ctx, effect) }, nil
	}
	effect = check.Nothing
	if s := w.current.Current(); w.unkept == nil && s != nil && s.State == check.Begun && w.current.State == check.Running {
		switch {
		case s.Kind.IsTest():
			effect = check.PollLater
		case s.Kind.IsSweep():
			effect = check.RunSweep
		}
	}
	return receipt, func() { w.perform(ctx, effect) }, err
}

// stopAbsent stops a run whose drive is not here.
func (w *Worker) stopAbsent(ctx context.Context, o protocol.Order) error {
	r, ok := w.bench.OpenRun(o.Run)
	if !ok {
		return w.notNow(o, fmt.Sprintf("run %d is not under way", o.Run), "Look at the run: it has ended.")
	}
	next, _ := check.Next(r, check.StopAsked{By: o.By}, w.machine.Clock.Now())
	return w.bench.SaveRun(ctx, next)
}
