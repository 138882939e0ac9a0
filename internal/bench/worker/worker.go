// Package worker is one bay at work: it makes the acquaintance of the drive in it, reads it, carries out orders and the steps of a run,
// and looks at what lies on the drive. Its loop alone talks to the drive. Start with New and Run.
package worker

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
)

// Machine is what a bench is made of, as its workers need it.
type Machine struct {
	Name    string // by which the shop calls the bench, a drive.BenchName; empty: it is the shop's own
	Tool    string // version, goes into readings
	Source  device.Source
	Clock   device.Clock
	Journal *journal.Journal
	Folder  string // of the machine, where a renewal keeps its copies
	Log     *slog.Logger
	Feeder  *sweep.Feeder
	// AllowRework is the bench's own consent that drives are written to, when the shop orders it.
	AllowRework bool
}

// Bench is what all workers of a bench share.
type Bench interface {
	// Report keeps a report until the shop has it.
	Report(ctx context.Context, r protocol.Report)
	// Tell tells how a run stands, and whether somebody will hear it.
	Tell(p protocol.Progress) bool
	// SaveRun stores a run; a finished one leaves the open ones.
	SaveRun(ctx context.Context, r check.Run) error
	// Opened notes a run that was just stored for the first time.
	Opened(r check.Run)
	// OpenRun gives an open run.
	OpenRun(id int64) (check.Run, bool)
	// RunFor finds the open run of a drive and moves it to the bay in which the drive answers.
	RunFor(key drive.Key, bay drive.Bay) *check.Run
	// Claim notes that a bay holds a drive, and tells whether no other does.
	Claim(key drive.Key, at drive.Address) (alone bool)
	// Holds notes whether a drive answers in a bay.
	Holds(at drive.Address, key drive.Key, answers bool)
	// Held gives which drive answers in which bay.
	Held() map[drive.Bay]drive.Key
	// Release notes that a bay holds its drive no more, and tells a bay that holds the same drive by another path.
	Release(ctx context.Context, at drive.Address)
	// Awake wakes whoever waits for reports.
	Awake()
	// Go runs f beside the workers; the bench ends after it.
	Go(f func())
}

// Worker looks after one bay. Its loop alone talks to the drive, so commands never meet; what it is told waits in its inbox.
type Worker struct {
	machine *Machine
	bench   Bench
	inbox   chan any
	bay     protocol.Bay
	said    bool // a person says there is a drive

	open    device.Device
	session *probe.Session
	current *check.Run // the run of the drive in the bay
	// identity is the drive's by its latest reading.
	identity drive.Identity
	poll     <-chan struct{}
	unpoll   context.CancelFunc

	sweeping *sweep.Sweeper // of the current run, from its sweep's begin to its end
	swept    chan check.Event
	full     chan wording.Phrase // why the sweep is to wait for its turn
	turn     <-chan time.Time
	warm     <-chan struct{} // the drive's temperature is due
	unwarm   context.CancelFunc
}

// What a worker is told.
type (
	seen struct {
		what  drive.Attachment
		there bool
	}
	ordered struct {
		order protocol.Order
		reply chan<- answered
	}
	// changed tells what people made of the bay.
	changed struct{ row journal.BayRow }
	// released tells that the drive in the bay has left another one, and may have left its run behind.
	released struct{}
	answered struct {
		receipt protocol.Receipt
		err     error
	}
)

// New makes the worker of a bay.
func New(m *Machine, b Bench, row journal.BayRow) *Worker {
	return &Worker{
		machine: m,
		bench:   b,
		inbox:   make(chan any, 16),
		said:    row.Said,
		swept:   make(chan check.Event, 1),
		full:    make(chan wording.Phrase, 1),
		bay: protocol.Bay{
			ID:         drive.Bay{Bench: m.Name, Number: row.Number},
			Address:    row.Address,
			Label:      row.Label,
			Position:   row.Position,
			Hidden:     row.Hidden,
			Connection: protocol.Empty,
			Attempts:   row.Attempts,
			Since:      m.Clock.Now(),
		},
	}
}

// Attached tells what the machine finds in the bay.
func (w *Worker) Attached(ctx context.Context, what drive.Attachment, there bool) {
	w.notify(ctx, seen{what, there})
}

// Changed tells what people made of the bay. It waits until the worker takes it in, for as long as the context lasts.
func (w *Worker) Changed(ctx context.Context, row journal.BayRow) {
	select {
	case w.inbox <- changed{row}:
	case <-ctx.Done():
	}
}

// Freed tells that the drive in the bay has left another one, and may have left its run behind.
func (w *Worker) Freed(ctx context.Context) { w.notify(ctx, released{}) }

func (w *Worker) notify(ctx context.Context, message any) {
	select {
	case w.inbox <- message:
	case <-ctx.Done():
	default: // busy with a stuck drive and sixteen messages behind: the next look tells it again
	}
}

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

// Run works until the context ends.
func (w *Worker) Run(ctx context.Context) {
	defer w.leave()
	w.publish(ctx)
	for {
		select {
		case <-ctx.Done():
			return
		case message := <-w.inbox:
			switch m := message.(type) {
			case seen:
				w.compareAttached(ctx, m)
			case ordered:
				receipt, then, err := w.carryOut(ctx, m.order)
				m.reply <- answered{receipt, err}
				if then != nil {
					then()
				}
			case released:
				w.takeUp(ctx)
			case changed:
				w.bay.ID.Number, w.bay.Label, w.bay.Position, w.bay.Hidden = m.row.Number, m.row.Label, m.row.Position, m.row.Hidden
				w.publish(ctx)
			}
		case <-w.poll:
			w.poll = nil
			w.perform(ctx, check.PollTest)
		case e := <-w.swept:
			w.sweepEnded(ctx, e)
		case <-w.warm:
			w.readTemperature(ctx)
		case why := <-w.full:
			w.happen(ctx, check.PauseAsked{Why: why, Turn: true})
		case <-w.turn:
			w.ourTurn(ctx)
		}
	}
}

// publish reports the bay as it stands.
func (w *Worker) publish(ctx context.Context) {
	bay := w.bay
	w.bench.Report(ctx, protocol.Report{Bay: &bay})
}

func (w *Worker) become(ctx context.Context, c protocol.Connection, key drive.Key, fault *drive.Fault) {
	if w.bay.Connection != c || w.bay.Key != key {
		w.bay.Since = w.machine.Clock.Now()
	}
	w.bay.Connection, w.bay.Key, w.bay.Fault = c, key, fault
	w.bench.Holds(w.bay.Address, key, c == protocol.Answering)
	w.publish(ctx)
}

// leave lets go of the drive.
func (w *Worker) leave() {
	w.endSweep(context.Background(), false)
	if w.open != nil {
		_ = w.open.Close()
	}
	w.open, w.session, w.current, w.identity = nil, nil, nil, drive.Identity{}
	w.noPoll()
}

func (w *Worker) noPoll() {
	if w.unpoll != nil {
		w.unpoll()
	}
	w.poll, w.unpoll = nil, nil
}

// compareAttached compares what the machine finds in the bay with what the worker knows.
func (w *Worker) compareAttached(ctx context.Context, s seen) {
	known := w.bay.Device.Instance != ""
	if known && s.there && s.what.Instance == w.bay.Device.Instance && s.what.Written != w.bay.Device.Written {
		w.bay.Device.Written = s.what.Written
		if w.bay.WriteProtected { // somebody writes to a drive whose data is wanted; of others it is no news
			w.publish(ctx)
		}
	}
	switch {
	case s.there && (!known || s.what.Instance != w.bay.Device.Instance):
		w.gone(ctx)
		w.bay.Device, w.bay.WriteProtected = s.what, false
		w.attach(ctx, w.said)
	case s.there && s.what != w.bay.Device: // mounted or unmounted meanwhile, or a medium came or went
		resized := s.what.Bytes != w.bay.Device.Bytes
		w.bay.Device = s.what
		if resized {
			w.gone(ctx)
			w.attach(ctx, false)
			return
		}
		w.publish(ctx)
	case !s.there && known:
		w.gone(ctx)
		w.bay.Device, w.bay.WriteProtected = drive.Attachment{}, false
		w.become(ctx, protocol.Empty, drive.Key{}, nil)
	case !s.there && w.said && w.bay.Connection == protocol.Empty:
		w.become(ctx, protocol.Silent, drive.Key{}, w.silence())
	}
}

func (w *Worker) silence() *drive.Fault {
	return &drive.Fault{
		Class: drive.FaultNoAnswer,
		What:  "looking for a drive in " + w.bay.ID.Words(),
		Cause: fmt.Sprintf("no answer, attempt %d", w.bay.Attempts),
	}
}

// gone tells the run, if there is one, that its drive left.
func (w *Worker) gone(ctx context.Context) {
	if r := w.current; r != nil {
		w.noPoll()
		next, _ := check.Next(*r, check.DriveGone{}, w.machine.Clock.Now())
		w.save(ctx, next)
	}
	w.leave()
	w.bench.Release(ctx, w.bay.Address)
}

// attach makes the acquaintance of a drive: opens it, reads it, and goes on with the run it left behind. Unless a person
// asked for it, a drive that sleeps is not woken.
func (w *Worker) attach(ctx context.Context, asked bool) {
	if w.bay.Device.Bytes == 0 {
		w.become(
			ctx,
			protocol.Unread,
			drive.Key{},
			&drive.Fault{
				Class: drive.FaultNoMedium,
				What:  "looking at " + w.bay.Device.Node,
				Cause: "the adapter is there, no drive is behind it",
			},
		)
		return
	}
	d, err := w.machine.Source.Open(ctx, w.bay.Device)
	if err != nil {
		w.become(ctx, protocol.Unread, drive.Key{}, device.FaultOf("opening "+w.bay.Device.Node, err))
		return
	}
	session, fault := probe.Open(d, w.known(ctx))
	if fault != nil {
		_ = d.Close()
		w.become(ctx, protocol.Unread, drive.Key{}, fault)
		return
	}
	w.open, w.session = d, session
	t := w.read(ctx, "", nil, probe.Manner{Wake: asked})
	if !t.key.IsValid() {
		w.unnamed(ctx, t.pages)
		return
	}
	if w.said || w.bay.Attempts > 0 {
		w.said, w.bay.Attempts = false, 0
		w.remember(ctx)
	}
	if fault := ended(t.pages); fault != nil { // it named itself, then fell silent
		if fault.Class == drive.FaultStuck {
			w.become(ctx, protocol.StuckBay, t.key, fault)
			return
		}
		w.leave()
		w.become(ctx, protocol.Unread, drive.Key{}, fault)
		return
	}
	w.become(ctx, protocol.Answering, t.key, nil)
	w.takeUp(ctx)
}

// takeUp goes on with the run of the drive in the bay, unless another bay that holds the same drive does.
func (w *Worker) takeUp(ctx context.Context) {
	if w.bay.Connection != protocol.Answering || w.current != nil {
		return
	}
	if r := w.bench.RunFor(w.bay.Key, w.bay.ID); r != nil {
		w.current = r
		var event check.Event = check.DriveBack{}
		switch r.State {
		case check.Interrupted:
			event = check.Restarted{}
		case check.Queued:
			event = check.Begin{}
		case check.Running, check.Paused, check.Absent, check.Stuck, check.Stopping, check.Done:
		}
		w.happen(ctx, event)
	}
}

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

func (w *Worker) remember(ctx context.Context) {
	if err := w.machine.Journal.SaidBay(ctx, w.bay.ID.Number, w.said, w.bay.Attempts); err != nil && ctx.Err() == nil {
		w.machine.Log.Error("keeping a bay in the journal", "bay", w.bay.ID.String(), "error", err)
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

// carryOut carries out an order, or says why not. What takes longer than a reply may wait comes back as a function.
func (w *Worker) carryOut(ctx context.Context, o protocol.Order) (receipt protocol.Receipt, then func(), err error) {
	switch o.Kind {
	case protocol.OrderAttempt:
		return receipt, nil, w.attempt(ctx)
	case protocol.OrderVacate:
		w.said, w.bay.Attempts = false, 0
		w.remember(ctx)
		if w.bay.Connection == protocol.Silent {
			w.bay.Connection, w.bay.Fault = protocol.Empty, nil
		}
		w.publish(ctx)
		return receipt, nil, nil
	case protocol.OrderStop:
		if w.current == nil || w.current.ID != o.Run {
			return receipt, nil, w.stopAbsent(ctx, o)
		}
		return receipt, func() {
			w.noPoll()
			w.endSweep(ctx, true)
			w.happen(ctx, check.StopAsked{By: o.By})
		}, nil
	case protocol.OrderPause, protocol.OrderResume:
		return w.pause(ctx, o)
	case protocol.OrderWriteProtect:
		return receipt, nil, w.writeProtect(ctx, o)
	case protocol.OrderSetBay, protocol.OrderArrange: // the bench's own
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
			t := w.read(ctx, o.ID, nil, probe.Manner{Wake: true, Attachments: o.Attachments})
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
	r := check.New(o.Check, w.bay.ID, w.bay.Key, o.By, w.machine.Clock.Now(), o.Limit, o.Spans...)
	r.ID, r.Despite = o.Run, o.Despite
	add := w.machine.Journal.AddRun
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

// stopAbsent stops a run whose drive is not here.
func (w *Worker) stopAbsent(ctx context.Context, o protocol.Order) error {
	r, ok := w.bench.OpenRun(o.Run)
	if !ok {
		return w.notNow(o, fmt.Sprintf("run %d is not under way", o.Run), "Look at the run: it has ended.")
	}
	next, _ := check.Next(r, check.StopAsked{By: o.By}, w.machine.Clock.Now())
	return w.bench.SaveRun(ctx, next)
}

// attempt tries once more to make the drive answer that a person says is in the bay.
func (w *Worker) attempt(ctx context.Context) error {
	if r, ok := w.machine.Source.(device.Rescanner); ok {
		if err := r.Rescan(ctx, w.bay.Address); err != nil {
			w.machine.Log.Warn("looking again", "bay", w.bay.ID.String(), "error", err)
		}
	}
	found, err := w.machine.Source.Look(ctx)
	if err != nil {
		return err
	}
	for _, d := range found {
		if d.Address != w.bay.Address {
			continue
		}
		known := d.Instance == w.bay.Device.Instance
		w.compareAttached(ctx, seen{d, true})
		switch {
		case known && w.bay.Connection != protocol.Answering:
			w.leave()
			w.attach(ctx, true)
		case known:
			w.publish(ctx)
		}
		return nil
	}
	w.said = true
	w.bay.Attempts++
	w.remember(ctx)
	w.become(ctx, protocol.Silent, drive.Key{}, w.silence())
	return nil
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

// pollEvery is how often a self-test is looked at, in the drive's time.
const pollEvery = 3 * time.Second
