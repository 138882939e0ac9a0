// Package sweep goes over a surface: a Sweeper carries out one sweep of a run beside its worker, marks in the journal how far it is, tells
// of it, waits when it is told to, and goes on from its mark; a Feeder finds out how many sweeps a bench feeds at once. A rework is a
// sweep whose reads write, which package write holds. What to read next and what it means is core/surface. Start with Begin.
package sweep

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
)

// How often a sweep is told of, and how often it is stored.
const (
	tellEvery = 200 * time.Millisecond
	markEvery = 2 * time.Second
)

// Reads in flight: two keep a spinning drive streaming, flash works at several at once.
const (
	depthSpinning = 2
	depthFlash    = 8
)

// Sweeper carries out one sweep beside the loop of its worker, which meanwhile goes on to talk to the drive. The drive's
// reads go through it alone.
type Sweeper struct {
	host   Host
	blocks device.Blocks
	how    device.Streaming
	rest   int // of every hundred, how much time the drive is left to its owner
	events chan<- check.Event
	full   chan<- wording.Phrase // why it is to wait for its turn

	mu       sync.Mutex // guards what follows
	cancel   context.CancelFunc
	current  check.Run // as the worker last had it
	step     int
	course   course
	sweep    *surface.Sweep // what was found; the course, too, but for a copy
	keeper   *keeper        // of a copy; nil: what is read is thrown away
	unkept   wording.Phrase // why it could keep no more; zero: it can
	noRoom   bool           // that was why
	retry    time.Time      // when it is tried again, in real time
	sample   *surface.Sample
	began    time.Time
	heat     []check.Heat
	hotAt    int
	stopAt   uint64
	mostLost uint64 // sectors that do not hold what was written to them, after which more say nothing new; 0: no end
	early    wording.Phrase
	writes   bool
	written  check.Written
	held     Held
	holds    int           // who wants it to wait
	idle     chan struct{} // closed while it waits
	again    chan struct{} // wakes it
	told     time.Time     // progress, whether or not somebody heard it
	heard    int64         // who has all of it: Host.Audience; 0: nobody
	marked   time.Time
	measured time.Time // the speed
	from     time.Time // since when bytes are counted for it, by the drive's clock
	bytes    uint64
	speed    float64
	busy     time.Duration // the last read took
	untold   map[int]bool  // blocks of the ribbon that changed since they were told
	unmarked map[int]bool  // and since they were stored
	marks    chan mark
	unstored map[int]check.Block // by number, of marks the journal had no room for; one goroutine's at a time
	finished chan struct{}
}

// course says what is read next, and how far that is.
type course interface {
	Next() (surface.Read, bool)
	Tell(r surface.Read, o surface.Outcome)
	Forget()
	Finished() bool
	Closer() bool
	LBA() uint64
	Share() float64
	Left() (left time.Duration, ok bool)
}

// Host is the bench at which sweeps go on.
type Host struct {
	Journal *journal.Journal
	Clock   device.Clock
	Log     *slog.Logger
	Feeder  *Feeder
	Tell    func(p protocol.Progress) bool // reports whether somebody will hear it
	// Audience is who will hear it, as a number: another one, when somebody else listens.
	Audience func() int64
	Stored   func() // a sweep's end is in the journal
}

// Held is a surface that is held for writing.
type Held struct {
	Blocks device.Blocks // whose reads write
	Close  func()        // lets go of it
	Done   func()        // removes what a rework that came to its end needs no more
}

// Order is what is swept.
type Order struct {
	Run    check.Run
	Step   int // of the run
	Blocks device.Blocks
	// Hold holds the surface for a step that writes; count changes what is counted of the writing.
	Hold   func(ctx context.Context, g surface.Geometry, count func(func(w *check.Written))) (Held, error)
	Image  string                // of a copy: the file it goes to, with its map beside it
	Tool   string                // that copies
	Events chan<- check.Event    // how it ended
	Full   chan<- wording.Phrase // why it is to wait for its turn
}

// mark is what is stored at one moment.
type mark struct {
	body   []byte
	blocks []check.Block
}

// near lists the LBAs the drive itself names: those waiting, and those at which a self-test failed.
func near(r reading.Reading) []uint64 {
	var all []uint64
	if r.Pending != nil {
		for _, p := range r.Pending.Defects {
			all = append(all, p.LBA)
		}
	}
	for i := range r.Tests {
		if t := &r.Tests[i]; t.Failed && t.HasLBA {
			all = append(all, t.LBA)
		}
	}
	return all[:min(len(all), 256)]
}

// hotAt is the temperature at which a sweep pauses: 2 °C under the drive's own limit, else 58 °C.
func hotAt(r reading.Reading) int {
	limit := 60
	switch {
	case r.Curve != nil && r.Curve.MaxOperating > 40:
		limit = int(r.Curve.MaxOperating)
	case r.Controller != nil && r.Controller.WarningK > 273+40:
		limit = int(r.Controller.WarningK) - 273
	}
	return limit - 2
}

// loop reads until the sweep is through, the drive goes, or ctx ends. What it has is stored on every way out.
func (s *Sweeper) loop(ctx context.Context) {
	defer close(s.finished)
	marker := make(chan struct{})
	go s.store(context.WithoutCancel(ctx), marker)
	end := s.carry(ctx)
	_, through := end.(check.Swept)
	s.letGo(through)
	s.mu.Lock()
	s.course.Forget()
	last := s.mark()
	s.mu.Unlock()
	close(s.marks)
	<-marker
	if _, over := end.(check.Swept); over {
		end = s.keepEnd(ctx, end, last)
	} else {
		s.keepMark(context.WithoutCancel(ctx), last)
	}
	if end != nil {
		select {
		case s.events <- end:
		case <-ctx.Done():
		}
	}
}

// keepEnd stores the end of a sweep, however long the journal has no room for it. When ctx ends before that, the run goes on from the
// last mark.
func (s *Sweeper) keepEnd(ctx context.Context, end check.Event, last mark) check.Event {
	for {
		err := s.host.Journal.SweepEnded(context.WithoutCancel(ctx), s.result(), last.body)
		if err == nil {
			s.host.Stored()
			return end
		}
		s.host.Log.Error("storing a sweep", "run", s.current.ID, "error", err)
		select {
		case <-time.After(again):
		case <-ctx.Done():
			return nil
		}
	}
}

// again is after how long the end of a sweep is stored again for which the journal had no room.
const again = time.Second

// mostLost is how much of a surface may be lost, in physical sectors, until it is plain that the drive does not keep what is
// written to it.
const mostLost = 100_000

// letGo lets go of what a rework held; through: it came to its end.
func (s *Sweeper) letGo(through bool) {
	if s.held.Close != nil {
		s.held.Close()
	}
	if s.held.Done != nil && through {
		s.held.Done()
	}
	if s.keeper != nil {
		if err := s.keeper.close(); err != nil {
			s.host.Log.Error("closing the image of a copy", "run", s.current.ID, "error", err)
		}
	}
}

// wrote changes what is counted of the writing.
func (s *Sweeper) wrote(f func(*check.Written)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f(&s.written)
}

// carry reads, and says how it ended; nil when ctx did.
func (s *Sweeper) carry(ctx context.Context) check.Event {
	for {
		err := s.blocks.Stream(ctx, s.how, func() (surface.Read, bool) { return s.next(ctx) }, s.tell)
		if ctx.Err() != nil {
			return nil
		}
		if _, ok := errors.AsType[*WithdrawnError](err); ok {
			return check.StopAsked{By: "the end of its release"}
		}
		if unkept, ok := errors.AsType[*device.Unkept](err); ok {
			s.hold(unkept)
		} else if s.keeper != nil && err == nil && s.keeper.full() != nil {
			s.hold(s.keeper.full())
		} else if err != nil {
			return check.Trouble{Fault: *device.FaultOf("reading the surface", err)}
		}
		s.mu.Lock()
		if s.course.Finished() || !s.early.IsZero() {
			now := s.standing()
			s.mu.Unlock()
			return check.Swept{Sweep: now}
		}
		close(s.idle)
		s.mu.Unlock()
		select {
		case <-s.again:
		case <-ctx.Done():
			return nil
		}
	}
}

// next gives the next read, unless the sweep is to wait. A drive that its owner goes on to use is left alone in between.
func (s *Sweeper) next(ctx context.Context) (surface.Read, bool) {
	if s.rest > 0 && s.busy > 0 {
		_ = s.host.Clock.Sleep(ctx, s.busy*time.Duration(s.rest)/time.Duration(100-s.rest))
		s.busy = 0
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.holds > 0 || !s.early.IsZero() {
		return surface.Read{}, false
	}
	if s.keeper != nil && s.keeper.full() != nil { // what it has no line for would be read again
		return surface.Read{}, false
	}
	return s.course.Next()
}

// tell takes an outcome, and from time to time says and stores how far it is.
func (s *Sweeper) tell(r surface.Read, o surface.Outcome) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.course.Tell(r, o)
	if s.keeper != nil {
		s.keeper.took(o.Sum)
	}
	s.busy = o.Took
	bytes := r.Sectors * uint64(s.sweep.Geometry().Logical)
	s.bytes += bytes
	if why := s.host.Feeder.Moved(s.current.ID, bytes, time.Now()); !why.IsZero() {
		select {
		case s.full <- why:
		default:
		}
	}
	switch {
	case s.stopAt > 0 && s.sweep.Unread >= s.stopAt:
		s.early = wording.Say(wording.NothingChangesVerdict)
	case s.mostLost > 0 && s.sweep.Lost >= s.mostLost:
		s.early = wording.Say(wording.KeepsNothing)
	}
	now := time.Now()
	if now.Sub(s.told) < tellEvery {
		return
	}
	if clock := s.host.Clock.Now(); now.Sub(s.measured) >= time.Second {
		s.speed = float64(s.bytes) / clock.Sub(s.from).Seconds()
		s.from, s.bytes, s.measured = clock, 0, now
	}
	s.progress(now)
	if now.Sub(s.marked) < markEvery {
		return
	}
	s.marked = now
	m := s.mark()
	select {
	case s.marks <- m:
	default: // the last one is still being written
		for _, b := range m.blocks {
			s.unmarked[b.Number] = true
		}
	}
}

// changed moves the blocks that changed to those that are to be told and stored.
func (s *Sweeper) changed() {
	for _, n := range s.sweep.Ribbon().Changed() {
		s.untold[n], s.unmarked[n] = true, true
	}
}

// progress tells how the sweep stands.
func (s *Sweeper) progress(now time.Time) {
	s.changed()
	audience := s.host.Audience()
	if s.heard != 0 && s.heard != audience {
		for n := range s.sweep.Ribbon().Blocks() {
			s.untold[n] = true
		}
	}
	standing := s.standing()
	p := protocol.Progress{Run: s.current, Step: s.step, Whole: s.heard == 0 || s.heard != audience}
	p.Run.Steps = slices.Clone(p.Run.Steps)
	p.Run, _ = check.Next(p.Run, check.SweepMoved{Sweep: standing}, s.host.Clock.Now())
	for n := range s.untold {
		p.Blocks = append(p.Blocks, check.Block{Number: n, Cells: s.sweep.Ribbon().PackBlock(n)})
	}
	s.told = now
	if s.host.Tell(p) {
		s.heard = audience
		clear(s.untold)
	}
}

// mark is what there is to store.
func (s *Sweeper) mark() mark {
	s.changed()
	body, err := json.Marshal(
		journal.Mark{
			Geometry: s.sweep.Geometry(),
			State:    s.sweep.State,
			Sample:   s.sample,
			Began:    s.began,
			Heat:     s.heat,
			Written:  s.written,
		},
	)
	if err != nil {
		s.host.Log.Error("writing down a sweep", "run", s.current.ID, "error", err) // cannot be: it holds plain values
	}
	m := mark{body: body}
	for n := range s.unmarked {
		m.blocks = append(m.blocks, check.Block{Number: n, Cells: s.sweep.Ribbon().PackBlock(n)})
	}
	clear(s.unmarked)
	return m
}

// store writes marks, so that the drive need not wait for the journal.
func (s *Sweeper) store(ctx context.Context, done chan<- struct{}) {
	defer close(done)
	for m := range s.marks {
		if s.keeper != nil {
			s.keeper.hold(s.host.Log)
		}
		s.keepMark(ctx, m)
	}
}

// keepMark stores a mark. The blocks of one that could not be stored go with the next: without them the ribbon would have a gap.
func (s *Sweeper) keepMark(ctx context.Context, m mark) {
	for _, b := range m.blocks {
		s.unstored[b.Number] = b
	}
	if err := s.host.Journal.SaveMark(ctx, s.current.ID, s.step, m.body, slices.Collect(maps.Values(s.unstored))); err != nil {
		s.host.Log.Error("storing how far a sweep is", "run", s.current.ID, "error", err)
		return
	}
	clear(s.unstored)
}

// Hold lets the sweep wait and comes back when no read is in flight any more. Each needs a release.
func (s *Sweeper) Hold(ctx context.Context) {
	s.mu.Lock()
	if s.holds++; s.holds == 1 {
		s.idle = make(chan struct{})
	}
	idle := s.idle
	s.mu.Unlock()
	select {
	case <-idle:
	case <-s.finished:
	case <-ctx.Done():
	}
}

// Release lets it go on, once everybody who held it has released it.
func (s *Sweeper) Release() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.holds--; !s.unkept.IsZero() { // its own
		s.unkept = wording.Phrase{}
		s.holds--
	}
	if s.holds == 0 {
		select {
		case s.again <- struct{}{}:
		default:
		}
	}
}

// Warm notes a temperature.
func (s *Sweeper) Warm(celsius int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.heat) >= mostHeat { // every second one goes; the curve stays
		thin := s.heat[:0]
		for i, h := range s.heat {
			if i%2 == 0 {
				thin = append(thin, h)
			}
		}
		s.heat = thin
	}
	s.heat = append(s.heat, check.Heat{At: s.host.Clock.Now(), Share: s.course.Share(), Celsius: celsius})
}

// mostHeat bounds the temperature curve.
const mostHeat = 512

// End ends the sweep where it is. It gives how it stands, and what it found so far.
func (s *Sweeper) End() (check.Standing, check.Result) {
	s.cancel()
	<-s.finished
	return s.Now(), s.result()
}
