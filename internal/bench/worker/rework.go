package worker

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/bench/write"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
)

// asked is what the door for writing is asked about the run in the bay.
func (w *Worker) asked(ctx context.Context, kind check.Kind, key drive.Key, rework *check.Rework) write.Asked {
	bay := w.bay
	if source, ok := w.machine.Source.(device.Writable); ok { // what the bay says of it may be half a minute old
		if uses, err := source.Uses(ctx, bay.Device); err == nil {
			bay.Device.InUse = strings.Join(uses, ", ")
		}
	}
	return write.Asked{
		Kind:     kind,
		Rework:   rework,
		Key:      key,
		Now:      w.machine.Clock.Now(),
		Allowed:  w.machine.AllowRework,
		Bay:      bay,
		Others:   w.bench.Held(),
		Identity: w.identity,
	}
}

// hold holds the surface of the current run's drive for a step that writes.
func (w *Worker) hold(step int) func(context.Context, surface.Geometry, func(func(*check.Written))) (sweep.Held, error) {
	return func(ctx context.Context, g surface.Geometry, count func(func(*check.Written))) (sweep.Held, error) {
		r := *w.current
		a := w.asked(ctx, r.Kind, r.Key, r.Rework)
		a.Begun = true // the release was used when the run was taken
		return write.Hold(
			ctx,
			write.Opening{
				Source:   w.machine.Source,
				Journal:  w.machine.Journal,
				Consents: w.machine.Consents,
				Asked:    a,
				Identify: w.session.Name,
				Run:      r,
				Step:     step,
				Copy:     w.machine.copyOf(r.ID),
			},
			g,
			count,
		)
	}
}

// copyOf is the file that holds what a renewal is about to write back.
func (m *Machine) copyOf(run int64) string {
	return filepath.Join(m.Folder, "renewal", fmt.Sprintf("run-%d.copy", run))
}

// takeRework makes a run of an order that writes, or says why not.
func (w *Worker) takeRework(ctx context.Context, o protocol.Order, r check.Run) error {
	if err := w.mayRework(ctx, o); err != nil {
		return err
	}
	if err := w.machine.Consents.Hear(ctx, r.ID, o.Lasts); err != nil {
		return err
	}
	if err := w.machine.Journal.AddRework(ctx, r); err != nil {
		if errors.Is(err, journal.ErrUsed) {
			return (&write.Refused{
				Reason: write.Used,
				Class:  drive.FaultNotAllowed,
				Cause:  "this order has begun a rework already",
				Advice: "Order it again.",
			}).Refusal(o.Check, w.bay.ID)
		}
		return err
	}
	return nil
}

// mayRework judges an order that writes: by what is known, by what on this machine needs the drive, and, when all that stands, by the
// serial somebody has read off its label.
func (w *Worker) mayRework(ctx context.Context, o protocol.Order) error {
	asked := w.asked(ctx, o.Check, o.Key, o.Rework)
	asked.Asking = true
	refused := write.Admit(asked)
	if refused == nil {
		refused = write.Free(ctx, w.machine.Source, asked)
	}
	if asked.Asking = false; refused == nil && !o.Asking {
		refused = write.Admit(asked)
	}
	if refused != nil {
		return refused.Refusal(o.Check, w.bay.ID)
	}
	return nil
}

// reworkTrouble makes an event of what kept a rework from beginning.
func reworkTrouble(kind check.Kind, err error) check.Event {
	if refused, ok := errors.AsType[*write.Refused](err); ok {
		return check.Trouble{Fault: *refused.Fault(kind)}
	}
	return check.Trouble{Fault: *device.FaultOf("beginning to "+string(kind), err)}
}
