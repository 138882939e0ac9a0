package worker

import (
	"context"
	"crypto/rand"
	"time"

	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/protocol"
)

// ended gives the fault that ended a reading early.
func ended(pages []reading.Page) *drive.Fault {
	for _, p := range pages {
		if p.Fault != nil && (p.Fault.Class == drive.FaultStuck || p.Fault.Class == drive.FaultVanished) {
			return p.Fault
		}
	}
	return nil
}

// unnamed settles a bay whose drive did not name itself.
func (w *Worker) unnamed(ctx context.Context, pages []reading.Page) {
	fault := probe.FirstFault(pages)
	connection := protocol.Unread
	if fault != nil && fault.Class == drive.FaultStuck {
		connection = protocol.StuckBay
	}
	w.leave()
	w.become(ctx, connection, drive.Key{}, fault)
}

// known is what the bench remembers of the adapter in the bay.
func (w *Worker) known(ctx context.Context) probe.Passes {
	if w.bay.Device.Adapter == "" {
		return probe.NotKnown
	}
	passes, err := w.machine.Journal.Adapter(ctx, w.bay.Device.Adapter)
	if err != nil && ctx.Err() == nil {
		w.machine.Log.Error("asking the journal for an adapter", "bay", w.bay.ID.String(), "error", err)
	}
	return probe.Passes(passes)
}

// learned keeps what a reading showed of the adapter.
func (w *Worker) learned(ctx context.Context) {
	adapter, passes := w.bay.Device.Adapter, w.session.Passes()
	if adapter == "" || passes == probe.NotKnown || passes == w.known(ctx) {
		return
	}
	if err := w.machine.Journal.SaveAdapter(ctx, adapter, uint8(passes)); err != nil && ctx.Err() == nil {
		w.machine.Log.Error("keeping an adapter in the journal", "bay", w.bay.ID.String(), "error", err)
	}
}

// remember keeps whether a person says there is a drive in the bay, and the attempts that found none.
func (w *Worker) remember(ctx context.Context, said bool, attempts int) error {
	if err := w.machine.Journal.SaidBay(ctx, w.bay.ID.Number, said, attempts); err != nil {
		return err
	}
	w.said, w.bay.Attempts, w.unfound = said, attempts, false
	return nil
}

// found notes that the drive answers that a person said is there.
func (w *Worker) found(ctx context.Context) {
	if err := w.remember(ctx, false, 0); err != nil && ctx.Err() == nil {
		w.machine.Log.Error("keeping a bay; it is tried again", "bay", w.bay.ID.String(), "error", err)
		w.said, w.bay.Attempts, w.unfound, w.again = false, 0, true, time.After(Again)
	}
}

// taken is a reading as the bench has it: what it reports, and what it makes of it for its own use.
type taken struct {
	pages   []reading.Page
	key     drive.Key
	decoded reading.Reading // zero when the drive did not name itself
}

// read takes a reading and reports it when the drive named itself. A drive that was only found, and answers in another bay
// already, has been read there: two readings at once would race each other.
func (w *Worker) read(ctx context.Context, order string, r *check.Run, how probe.Manner) taken {
	if w.sweeping != nil && !w.sweeping.Over() { // its times would be the reading's
		w.sweeping.Hold(ctx)
		defer w.sweeping.Release()
	}
	at, start := w.machine.Clock.Now(), time.Now()
	pages := w.session.Pages(ctx, how)
	w.learned(ctx)
	t := taken{pages: pages, key: probe.Key(pages)}
	if !t.key.IsValid() || ctx.Err() != nil {
		return t
	}
	t.decoded = reading.Decode(pages)
	w.identity = t.decoded.Identity
	if alone := w.bench.Claim(t.key, w.bay.Address); !alone && order == "" && r == nil {
		return t
	}
	report := &protocol.Reading{
		ID:    rand.Text(),
		Order: order,
		Bay:   w.bay.ID,
		Key:   t.key,
		At:    at,
		Took:  time.Since(start),
		Pages: pages,
		Tool:  w.machine.Tool,
	}
	if r != nil {
		report.Run = r.ID
		if s := r.Current(); s != nil {
			report.Step = s.Kind
		}
	}
	w.bench.Report(ctx, protocol.Report{Reading: report})
	return t
}

// otherThanExpected settles a bay whose drive stopped naming itself, or names itself otherwise.
func (w *Worker) otherThanExpected(ctx context.Context, pages []reading.Page, key drive.Key) {
	if fault := ended(pages); fault != nil && fault.Class == drive.FaultStuck {
		w.become(ctx, protocol.StuckBay, w.bay.Key, fault)
		return
	}
	if key.IsValid() {
		w.become(ctx, protocol.Answering, key, nil)
		return
	}
	w.unnamed(ctx, pages)
}
