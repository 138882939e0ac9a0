package surface

import (
	"slices"
	"time"
)

// Read is one read a sweep asks for. Reads are numbered in the order they were asked for.
type Read struct {
	Extent
	Number uint64
	stage  stage
}

// Outcome is how a read went.
type Outcome struct {
	Took   time.Duration // what the place took, to be judged by
	Spent  time.Duration // what it cost: since the read before it ended, where several are in flight. 0: as Took
	Cause  Cause         // Whole: it was read
	Cold   bool          // the first after a pause: its time says nothing of the surface
	All    bool          // Cause holds for every sector of it: there is nothing to narrow down
	From   uint64        // Misplaced: the LBA whose content a sector of it holds
	Looked bool          // it is known how much of it is empty
	Empty  uint64        // sectors of it that hold nothing but zeros
	Sum    [32]byte      // BLAKE3 of what was kept of it
}

// stage says what a read is for.
type stage uint8

const (
	stagePass    stage = iota // a chunk in its turn
	stageNarrow               // a piece of one that failed
	stageLater                // a chunk that was passed over in dense damage
	stageConfirm              // a slow chunk once more
	stageRetry                // a chunk that failed on the link, once more
	stageFlush                // something else, so that a spinning drive's cache forgets what it read
)

// task is work beside the pass.
type task struct {
	Extent
	Stage   stage  `json:"stage"`
	Level   uint8  `json:"level,omitempty"`   // of stageNarrow: index into ladder
	Of      Extent `json:"of,omitzero"`       // of stageNarrow: the chunk that failed
	Counted bool   `json:"counted,omitempty"` // settled once already
	Place   int    `json:"place,omitempty"`   // of stageConfirm: index into Slow
	Tries   uint8  `json:"tries,omitempty"`   // of a chunk read again whole
}

// trying is 1 for a second try.
func (t task) trying() int {
	if t.Stage == stageConfirm || t.Stage == stageRetry {
		return 1
	}
	return 0
}

// Limits of what is kept and tried.
const (
	mostRanges   = 50_000           // exact ranges kept; more are only counted
	mostSlow     = 5_000            // slow places kept; more are only counted
	dense        = 3                // failed chunks in a row that make dense damage
	firstHop     = 4                // chunks passed over then, doubled each time
	mostTries    = 2                // more reads of a place that was slow the second time, on flash
	flushChunks  = 512              // more than a spinning drive's cache holds
	wholeRetries = 2                // of a chunk that failed on the link
	chunkBudget  = 90 * time.Second // of failing reads in one chunk
)

// Sweep reads a surface: the whole of it in order, or a sample. The caller takes reads from Next, as many at once as it
// likes, carries them out, and tells each outcome to Tell. Outcomes count in the order of the reads, so that State is at
// any moment something to go on from. A place that fails is narrowed to its physical sectors at once; dense damage is
// passed over and come back to; what was slow or failed is tried once more at the end.
type Sweep struct {
	State
	geometry Geometry
	ribbon   *Ribbon
	pace     *pace

	asked    uint64 // number of the next read
	settled  uint64 // number of the next read whose outcome counts
	ahead    uint64 // index of the next chunk or spot of the pass to ask for
	open     []Read // asked for, in order; the first is number settled
	outcomes []*Outcome
	pending  []sample // read before the norm was known
	tries    int      // tasks that are second tries
}

type sample struct {
	Extent
	took time.Duration
}

// State is a sweep as it stands; with the ribbon it is all there is to go on from.
type State struct {
	Spots      []Extent      `json:"spots,omitempty"` // a sample; empty: the whole surface
	At         uint64        `json:"at"`              // chunks or spots of the pass that are settled
	Passed     []Extent      `json:"passed,omitempty"`
	Tasks      []task        `json:"tasks,omitempty"`
	Ranges     []Range       `json:"ranges,omitempty"` // sorted, no two touch with the same cause
	Slow       []Slow        `json:"slow,omitempty"`
	Unread     uint64        `json:"unread"`           // physical sectors that are unreadable
	Missed     uint64        `json:"missed"`           // ranges beyond those kept
	SlowPlaces uint64        `json:"slow_places"`      // in all
	Done       uint64        `json:"done"`             // sectors settled
	Streak     int           `json:"streak"`           // failed chunks in a row
	Hop        uint64        `json:"hop"`              // chunks passed over last
	HopTo      uint64        `json:"hop_to"`           // chunk that was to come next when they were
	Trouble    time.Duration `json:"trouble"`          // spent on reads that failed and on looking closer
	Region     Extent        `json:"region"`           // chunk being narrowed
	Spent      time.Duration `json:"spent"`            // on its failing reads
	Found      bool          `json:"found"`            // something of it failed again
	Last       bool          `json:"last"`             // the pass is over; what is slow or failed is tried once more
	Tries      int           `json:"tries"`            // second tries the last part began with
	Reached    float64       `json:"reached"`          // share settled
	Looked     uint64        `json:"looked,omitempty"` // sectors of the pass of which it is known whether they hold something
	Empty      uint64        `json:"empty,omitempty"`  // of them, those that hold nothing but zeros
	Unjudged   bool          `json:"unjudged"`         // times are kept and not judged, as those of writing are not
	Lost       uint64        `json:"lost"`             // physical sectors that do not hold what was written to them
	Elsewhere  *Elsewhere    `json:"elsewhere,omitempty"`
}

// Elsewhere is the first place that was found to hold what was written to another.
type Elsewhere struct {
	LBA  uint64 `json:"lba"`
	From uint64 `json:"from"` // where it was written to
}

// New begins a sweep of the whole surface, or of spots.
func New(g Geometry, spots []Extent) *Sweep { return Resume(g, State{Spots: spots}, NewRibbon(g)) }

// Resume goes on from a state and its ribbon.
func Resume(g Geometry, s State, r *Ribbon) *Sweep {
	sweep := &Sweep{State: s, geometry: g, ribbon: r, pace: newPace(g), ahead: s.At}
	for _, t := range s.Tasks {
		sweep.tries += t.trying()
	}
	sweep.turn()
	return sweep
}

// Ribbon is the sweep's picture as it stands.
func (s *Sweep) Ribbon() *Ribbon { return s.ribbon }

// Geometry is what the sweep knows of the drive.
func (s *Sweep) Geometry() Geometry { return s.geometry }

// total is how many chunks or spots the pass has.
func (s *Sweep) total() uint64 {
	if s.Spots != nil {
		return uint64(len(s.Spots))
	}
	return s.geometry.chunks()
}

// Sectors is how many sectors the sweep reads in all.
func (s *Sweep) Sectors() uint64 {
	if s.Spots == nil {
		return s.geometry.Sectors
	}
	sum := uint64(0)
	for _, e := range s.Spots {
		sum += e.Sectors
	}
	return sum
}

func (s *Sweep) passing(i uint64) Extent {
	if s.Spots != nil {
		return s.Spots[i]
	}
	return s.geometry.chunk(i)
}

// Next gives the next read. Not ok means: none before an outcome is told, or none at all when Finished. Looking closer
// goes one read at a time, so that a drive in trouble is not hurried and each time is its own.
func (s *Sweep) Next() (Read, bool) {
	if s.Last || s.narrowing() > 0 {
		if len(s.open) > 0 || len(s.Tasks) == 0 {
			return Read{}, false
		}
		return s.ask(s.Tasks[0].Extent, s.Tasks[0].Stage), true
	}
	for s.ahead < s.total() {
		e := s.passing(s.ahead)
		i := slices.IndexFunc(s.Passed, func(p Extent) bool { return p.Holds(e.LBA) })
		if i < 0 {
			s.ahead++
			return s.ask(e, stagePass), true
		}
		s.ahead = s.geometry.chunkOf(s.Passed[i].End()-1) + 1
	}
	return Read{}, false
}

// narrowing is how many pieces of failed places wait to be looked at; the pass waits for them.
func (s *Sweep) narrowing() int {
	n := 0
	for n < len(s.Tasks) && s.Tasks[n].Stage == stageNarrow {
		n++
	}
	return n
}

func (s *Sweep) ask(e Extent, of stage) Read {
	r := Read{e, s.asked, of}
	s.asked++
	s.open, s.outcomes = append(s.open, r), append(s.outcomes, nil)
	return r
}

// Closer reports whether a place that failed, or was slow, is looked at once more.
func (s *Sweep) Closer() bool { return s.Last || s.narrowing() > 0 }

// Held is the share, 0 to 1, of what was read that held anything but zeros. A flash drive gives zeros for what was never written or
// was trimmed without touching its cells (ACS-4, 7.5.3, RZAT; NVM Command Set 1.0, 3.2.3.2.1), so the rest was not tried. It reports
// false where nobody looked.
func (s *Sweep) Held() (share float64, ok bool) {
	if s.Looked == 0 {
		return 0, false
	}
	return 1 - float64(s.Empty)/float64(s.Looked), true
}

// LBA is where the pass stands.
func (s *Sweep) LBA() uint64 {
	if s.At >= s.total() {
		return s.geometry.Sectors
	}
	return s.passing(s.At).LBA
}

// Finished reports whether everything was read or given up.
func (s *Sweep) Finished() bool { return s.Last && len(s.Tasks) == 0 && len(s.open) == 0 }

// Tell takes the outcome of a read.
func (s *Sweep) Tell(r Read, o Outcome) {
	s.outcomes[r.Number-s.settled] = &o
	for len(s.open) > 0 && s.outcomes[0] != nil {
		first, outcome := s.open[0], *s.outcomes[0]
		s.open, s.outcomes = s.open[1:], s.outcomes[1:]
		s.settled++
		s.settle(first, outcome)
		s.reach()
	}
	if len(s.open) == 0 {
		s.turn()
	}
}

// Forget takes back the reads that were asked for and never told: they are asked for again.
func (s *Sweep) Forget() {
	s.open, s.outcomes, s.settled, s.ahead = nil, nil, s.asked, s.At
	s.turn()
}

// turn goes over to the last part when the pass is through: what was passed over comes first.
func (s *Sweep) turn() {
	if s.Last || s.narrowing() > 0 || s.ahead < s.total() {
		return
	}
	s.flush()
	s.Last = true
	later := []task{} // before what waits already
	for _, p := range s.Passed {
		for n := s.geometry.chunkOf(p.LBA); n <= s.geometry.chunkOf(p.End()-1); n++ {
			later = append(later, task{Extent: s.geometry.chunk(n), Stage: stageLater})
		}
	}
	s.Tasks = append(later, s.Tasks...)
	if len(s.Slow) > 0 {
		s.flushCache(s.Slow[len(s.Slow)-1].LBA)
	}
	for i := range s.Slow {
		s.confirm(i)
	}
	s.Passed = nil
}

// Rewind goes back to the chunk that holds an LBA, when the pass stands behind it: what follows is done once more. What was
// reached stays reached.
func (s *State) Rewind(g Geometry, lba uint64) {
	if n := g.chunkOf(lba); s.Spots == nil && n < s.At {
		for i := n; i < s.At; i++ {
			s.Done -= min(s.Done, g.chunk(i).Sectors)
		}
		s.At, s.Last, s.Tasks, s.Passed = n, false, nil, nil
	}
}

// settle lets an outcome count.
func (s *Sweep) settle(r Read, o Outcome) {
	if o.Cause == Misplaced && s.Elsewhere == nil {
		s.Elsewhere = &Elsewhere{r.LBA, o.From}
	}
	if r.stage == stagePass {
		s.At++
		if s.Spots == nil {
			s.At = s.geometry.chunkOf(r.LBA) + 1
		}
		s.chunk(r.Extent, o, task{Extent: r.Extent, Stage: stageLater})
		return
	}
	t := s.Tasks[0]
	s.Tasks = s.Tasks[1:]
	s.tries -= t.trying()
	s.Trouble += o.Took
	switch t.Stage {
	case stageLater:
		s.chunk(r.Extent, o, t)
	case stageNarrow:
		s.piece(t, o)
	case stageConfirm:
		s.again(t, o)
	case stageRetry:
		s.retried(t, o)
	case stageFlush: // whatever came of it
	case stagePass: // is no task
	}
}

// ladder is the size, in bytes, of the pieces a failed place is cut into, step by step, down to the physical sector: few
// reads that fail, since those are slow, and few in all.
var ladder = [...]uint64{64 << 10, 4 << 10, 0}

// mostAgain is how many chunks of a slow place are read again; of a larger one, as many spread over it.
const mostAgain = 64

// lastShare is what the second tries at the end count in the whole.
const lastShare = 0.02

// Share is how much of the sweep is settled, 0 to 1. It never goes back.
func (s *Sweep) Share() float64 {
	if s.Finished() {
		return 1
	}
	return s.Reached
}
