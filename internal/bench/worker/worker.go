// Package worker is one bay at work: it makes the acquaintance of the drive in it, reads it, carries out orders and the steps of a run,
// and looks at what lies on the drive. Its loop alone talks to the drive. Start with New and Run.
package worker

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/bench/write"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
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
	Copies  []string // the folders in which copies are kept; none: this bench keeps none
	// AllowRework is the bench's own consent that drives are written to, when the shop orders it.
	AllowRework bool
	Consents    *write.Consents // to what is written
}

// Bench is what all workers of a bench share.
type Bench interface {
	// Report keeps a report until the shop has it.
	Report(ctx context.Context, r protocol.Report)
	// Tell tells how a run stands, and whether somebody will hear it.
	Tell(p protocol.Progress) bool
	// Audience is who will hear it, as a number: another one, when somebody else listens.
	Audience() int64
	// SaveRun stores a run, and what sweeps found that end with it; a finished one leaves the open ones. When that fails the run stands as
	// before.
	SaveRun(ctx context.Context, r check.Run, ended ...check.Result) error
	// KeepRun is SaveRun for what has happened whether or not it can be stored now: it is, as soon as there is room.
	KeepRun(ctx context.Context, r check.Run)
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
	// Setting is what people made of a bay, as it is now.
	Setting(a drive.Address) journal.BayRow
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
	unkept   check.Event // what happened to the run that could not be stored
	unfound  bool        // that the drive was found could not be
	again    <-chan time.Time

	sweeping *sweep.Sweeper // of the current run, from its sweep's begin to its end
	swept    chan check.Event
	full     chan wording.Phrase // why the sweep is to wait for its turn
	turn     <-chan time.Time
	warm     <-chan struct{} // the drive's temperature is due
	ask      <-chan struct{} // whether what is written may be
	unwatch  context.CancelFunc
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
	// changed tells that people made something else of the bay.
	changed struct{}
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

// Changed tells that people made something else of the bay. It waits until the worker takes it in, for as long as the context lasts.
func (w *Worker) Changed(ctx context.Context) {
	select {
	case w.inbox <- changed{}:
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
				is := w.bench.Setting(w.bay.Address) // several words of it may come, and in any order
				w.bay.ID.Number, w.bay.Label, w.bay.Position, w.bay.Hidden = is.Number, is.Label, is.Position, is.Hidden
				w.publish(ctx)
			}
		case <-w.poll:
			w.poll = nil
			w.perform(ctx, check.PollTest)
		case e := <-w.swept:
			w.sweepEnded(ctx, e)
		case <-w.warm:
			w.readTemperature(ctx)
		case <-w.ask:
			w.askConsent(ctx)
		case why := <-w.full:
			w.happen(ctx, check.PauseAsked{Why: why, Turn: true})
		case <-w.turn:
			w.ourTurn(ctx)
		case <-w.again:
			w.tryAgain(ctx)
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
	w.endSweep(false)
	if w.open != nil {
		_ = w.open.Close()
	}
	w.open, w.session, w.current, w.identity = nil, nil, nil, drive.Identity{}
	w.unkept = nil
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
		w.nothingThere(ctx)
	case !s.there && w.said && w.bay.Connection == protocol.Empty:
		w.nothingThere(ctx)
	}
}

// nothingThere settles a bay in which the machine finds nothing: it is empty, unless a person says that it is not.
func (w *Worker) nothingThere(ctx context.Context) {
	if w.said {
		w.become(ctx, protocol.Silent, drive.Key{}, w.silence())
		return
	}
	w.become(ctx, protocol.Empty, drive.Key{}, nil)
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
		if r.State != check.Absent { // a command that got no answer has told it already
			next, _ := check.Next(*r, check.DriveGone{}, w.machine.Clock.Now())
			w.bench.KeepRun(ctx, next)
		}
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
		w.found(ctx)
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
	if err := w.remember(ctx, true, w.bay.Attempts+1); err != nil {
		return err
	}
	w.nothingThere(ctx)
	return nil
}

// tryAgain stores what the journal had no room for.
func (w *Worker) tryAgain(ctx context.Context) {
	e := w.unkept
	w.unkept, w.again = nil, nil
	if w.unfound {
		w.found(ctx)
	}
	w.happen(ctx, e)
}

// Again is after how long something is tried again that the journal had no room for.
const Again = time.Second

// pollEvery is how often a self-test is looked at, in the drive's time.
const pollEvery = 3 * time.Second
