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
	Took  time.Duration // what the place took, to be judged by
	Spent time.Duration // what it cost: since the read before it ended, where several are in flight. 0: as Took
	Cause Cause         // Whole: it was read
	Cold  bool          // the first after a pause: its time says nothing of the surface
	All   bool          // Cause holds for every sector of it: there is nothing to narrow down
	From  uint64        // Misplaced: the LBA whose content a sector of it holds
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
	Unread     uint64        `json:"unread"`      // physical sectors that are unreadable
	Missed     uint64        `json:"missed"`      // ranges beyond those kept
	SlowPlaces uint64        `json:"slow_places"` // in all
	Done       uint64        `json:"done"`        // sectors settled
	Streak     int           `json:"streak"`      // failed chunks in a row
	Hop        uint64        `json:"hop"`         // chunks passed over last
	HopTo      uint64        `json:"hop_to"`      // chunk that was to come next when they were
	Trouble    time.Duration `json:"trouble"`     // spent on reads that failed and on looking closer
	Region     Extent        `json:"region"`      // chunk being narrowed
	Spent      time.Duration `json:"spent"`       // on its failing reads
	Found      bool          `json:"found"`       // something of it failed again
	Last       bool          `json:"last"`        // the pass is over; what is slow or failed is tried once more
	Tries      int           `json:"tries"`       // second tries the last part began with
	Reached    float64       `json:"reached"`     // share settled
	Unjudged   bool          `json:"unjudged"`    // times are kept and not judged, as those of writing are not
	Lost       uint64        `json:"lost"`        // physical sectors that do not hold what was written to them
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

// chunk settles a chunk or spot that was read whole.
func (s *Sweep) chunk(e Extent, o Outcome, t task) {
	switch {
	case o.Cause == Whole:
		s.Streak, s.Hop = 0, 0
		s.done(t)
		spent := o.Spent
		if spent == 0 {
			spent = o.Took
		}
		if o.Cold { // only when it seems slow it is read again, among others
			s.ribbon.read(e, spent, 0)
			if s.Unjudged || !s.pace.ready() || s.pace.judge(o.Took, e.Sectors) < SlowFrom {
				return
			}
			if n := len(s.Slow); n > 0 && s.Slow[n-1].End() == e.LBA && !s.Last { // in the midst of a slow place
				class := s.pace.judge(o.Took, e.Sectors)
				s.ribbon.slower(e, class)
				s.note(e, class)
			} else {
				s.Tasks = append(s.Tasks, task{Extent: e, Stage: stageLater, Counted: true})
			}
			return
		}
		s.timed(e, o.Took, spent)
	case o.All:
		s.done(t)
		s.mark(e, o.Cause)
	case !o.Cause.narrows():
		if t.Tries++; t.Tries <= wholeRetries && o.Cause == Damaged {
			t.Stage = stageRetry
			s.once(t)
			return
		}
		s.done(t)
		s.mark(e, o.Cause)
	default:
		if !s.Last {
			s.Trouble += o.Took
		}
		s.Streak++
		if s.Streak > dense && !s.Last && s.Spots == nil {
			s.passOver(e)
			return
		}
		s.narrow(task{Extent: e, Of: e, Counted: t.Counted}, 0, s.narrowing())
	}
}

// once adds a second try.
func (s *Sweep) once(t task) {
	s.Tasks = append(s.Tasks, t)
	s.tries += t.trying()
}

// passOver leaves a failed chunk in dense damage and those after it for later. Of the chunks that were in flight when that
// was decided only those that fail are left.
func (s *Sweep) passOver(e Extent) {
	s.pass(e)
	if s.geometry.chunkOf(e.LBA) < s.HopTo {
		return
	}
	s.Hop = max(firstHop, min(2*s.Hop, s.geometry.chunks()/64+1))
	first := max(s.ahead, s.At)
	end := min(first+s.Hop, s.total())
	if first < end {
		s.pass(Extent{s.geometry.chunk(first).LBA, 0}.until(s.geometry.chunk(end - 1).End()))
	}
	s.ahead, s.HopTo = max(s.ahead, end), end
}

// pass notes an extent as passed over, joined to the one before where they touch.
func (s *Sweep) pass(e Extent) {
	if n := len(s.Passed); n > 0 && s.Passed[n-1].End() == e.LBA {
		s.Passed[n-1].Sectors += e.Sectors
		return
	}
	s.Passed = append(s.Passed, e)
}

// ladder is the size, in bytes, of the pieces a failed place is cut into, step by step, down to the physical sector: few
// reads that fail, since those are slow, and few in all.
var ladder = [...]uint64{64 << 10, 4 << 10, 0}

// narrow cuts a place that failed into pieces, which become tasks before the one at index at.
func (s *Sweep) narrow(place task, level, at int) {
	for ; level < len(ladder); level++ {
		size := max(ladder[level]/uint64(s.geometry.Logical), s.geometry.perPhysical())
		if size >= place.Sectors && level < len(ladder)-1 {
			continue
		}
		var all []task
		for _, piece := range s.geometry.pieces(place.Extent, size) {
			all = append(all, task{Extent: piece, Stage: stageNarrow, Level: uint8(level), Of: place.Of, Counted: place.Counted})
		}
		s.Tasks = slices.Insert(s.Tasks, at, all...)
		return
	}
}

// piece settles a piece of a place that failed.
func (s *Sweep) piece(t task, o Outcome) {
	if t.Of != s.Region {
		s.Region, s.Spent, s.Found = t.Of, 0, false
	}
	single := t.Sectors <= s.geometry.perPhysical()
	if o.Cause == Whole {
		s.done(t)
		s.ribbon.read(t.Extent, o.Took, 0)
	} else {
		s.Spent += o.Took
		switch {
		case !single && o.Cause.narrows() && s.Spent <= chunkBudget:
			s.narrow(t, int(t.Level)+1, 0)
		case !single && o.Cause.narrows():
			s.done(t)
			s.found(t.Extent, Suspect)
		default:
			s.done(t)
			s.found(t.Extent, o.Cause) // it failed before, inside each larger piece
		}
	}
	for s.Spent > chunkBudget && len(s.Tasks) > 0 && s.Tasks[0].Stage == stageNarrow && s.Tasks[0].Of == t.Of && s.Tasks[0].Level > 0 {
		s.done(s.Tasks[0]) // the budget is used up: the smallest pieces are not looked at
		s.found(s.Tasks[0].Extent, Suspect)
		s.Tasks = s.Tasks[1:]
	}
	if over := len(s.Tasks) == 0 || s.Tasks[0].Stage != stageNarrow || s.Tasks[0].Of != t.Of; over && !s.Found {
		s.mark(t.Of, Unsteady) // it failed as a whole, and every piece was read
	}
}

func (s *Sweep) found(e Extent, c Cause) {
	s.Found = true
	s.mark(e, c)
}

func (s *Sweep) done(t task) {
	if !t.Counted {
		s.Done += t.Sectors
	}
}

// retried settles a chunk that failed on the link and was read once more.
func (s *Sweep) retried(t task, o Outcome) {
	s.chunk(t.Extent, o, t)
}

// timed judges a read that went well.
func (s *Sweep) timed(e Extent, took, spent time.Duration) {
	if e.Sectors < uint64(s.geometry.Chunk)/2 { // too short to compare
		s.ribbon.read(e, spent, 0)
		return
	}
	if !s.pace.ready() {
		s.pending = append(s.pending, sample{e, took})
		s.ribbon.read(e, spent, 0)
		if len(s.pending) < settles {
			return
		}
		s.flush()
		return
	}
	class := s.pace.follow(took, e.Sectors)
	s.ribbon.read(e, spent, class)
	s.note(e, class)
}

// flush judges the reads that came before the norm was known.
func (s *Sweep) flush() {
	if s.pace.ready() || len(s.pending) == 0 {
		return
	}
	for _, p := range s.pending {
		s.pace.add(float64(p.took) / float64(p.Sectors))
	}
	slow := s.pending[:0]
	for _, p := range s.pending {
		if class := s.pace.judge(p.took, p.Sectors); class > 0 {
			s.ribbon.slower(p.Extent, class)
			s.note(p.Extent, class)
			if class >= SlowFrom {
				slow = append(slow, p)
			}
		}
	}
	if len(slow) > 0 && len(slow) < len(s.pending)/2 { // they are no norm
		fresh := newPace(s.geometry)
		for _, per := range s.pace.local.sorted[:len(s.pace.local.sorted)-len(slow)] {
			fresh.add(per)
		}
		s.pace = fresh
	}
	s.pending = nil
}

// note keeps a slow place, joined to the one before where they touch.
func (s *Sweep) note(e Extent, class uint8) {
	if class < SlowFrom || s.Unjudged {
		return
	}
	if n := len(s.Slow); n > 0 && s.Slow[n-1].End() == e.LBA && !s.Last {
		s.Slow[n-1].Sectors += e.Sectors
		s.Slow[n-1].Class = max(s.Slow[n-1].Class, class)
		return
	}
	s.SlowPlaces++
	if len(s.Slow) < mostSlow {
		s.Slow = append(s.Slow, Slow{Extent: e, Class: class})
		if s.Last {
			s.confirm(len(s.Slow) - 1)
		}
	}
}

// mostAgain is how many chunks of a slow place are read again; of a larger one, as many spread over it.
const mostAgain = 64

// confirm has a slow place read again.
func (s *Sweep) confirm(place int) {
	e := s.Slow[place].Extent
	if s.Spots != nil { // spots are no chunks of a row
		s.once(task{Extent: e, Stage: stageConfirm, Place: place})
		return
	}
	first := s.geometry.chunkOf(e.LBA)
	chunks := s.geometry.chunkOf(e.End()-1) - first + 1
	n := min(chunks, mostAgain)
	for i := range n {
		s.once(task{Extent: s.geometry.chunk(first + i*(chunks-1)/max(1, n-1)), Stage: stageConfirm, Place: place})
	}
}

// again settles the second read of a slow place.
func (s *Sweep) again(t task, o Outcome) {
	place, class := &s.Slow[t.Place], uint8(0)
	if s.pace.ready() {
		class = s.pace.judge(o.Took, t.Sectors)
	}
	over := !slices.ContainsFunc(s.Tasks, func(o task) bool { return o.Stage == stageConfirm && o.Place == t.Place })
	if o.Cause != Whole {
		class = Classes - 1
		if o.Cause.narrows() {
			s.narrow(task{Extent: t.Extent, Of: t.Extent, Counted: true}, 0, 0)
		}
	}
	if class >= SlowFrom && o.Cause == Whole && s.oncemore(t) { // a busy host can make a place seem slow twice
		return
	}
	place.Again = max(place.Again, class)
	if class >= SlowFrom {
		if place.Hull.Sectors == 0 {
			place.Hull = t.Extent
		}
		place.Hull = place.Hull.until(t.End())
	}
	if !over {
		return
	}
	place.Read = true
	if !place.Confirmed() {
		s.calm(place.Extent)
	}
	if place.Hull.Sectors > 0 && place.Sectors <= mostAgain*uint64(s.geometry.Chunk) { // all of it was read again
		place.Extent = place.Hull
	}
	place.Hull = Extent{}
}

// oncemore has a place that was slow again read a further time: flash at once, a spinning drive after all others and after
// something else, since its cache holds what it read last. It reports false when the place was read often enough.
func (s *Sweep) oncemore(t task) bool {
	if s.geometry.RPM == 0 {
		if t.Tries >= mostTries {
			return false
		}
		t.Tries++
		s.Tasks = slices.Insert(s.Tasks, 0, t)
		s.tries++
		return true
	}
	if t.Tries > 0 {
		return false
	}
	t.Tries++
	if n := len(s.Tasks); n == 0 || s.Tasks[n-1].Tries == 0 {
		s.flushCache(t.LBA)
	}
	s.once(t)
	return true
}

// flushCache has a spinning drive read parts of its surface that are not slow, far from an LBA.
func (s *Sweep) flushCache(lba uint64) {
	chunks := s.geometry.chunks()
	if s.geometry.RPM == 0 || chunks < 4 {
		return
	}
	first, wanted := (s.geometry.chunkOf(lba)+chunks/2)%chunks, min(flushChunks, chunks/4)
	margin := 8 * uint64(s.geometry.Chunk) // the drive reads ahead
	for i := uint64(0); i < chunks && wanted > 0; i++ {
		e := s.geometry.chunk((first + i) % chunks)
		if !slices.ContainsFunc(s.Slow, func(p Slow) bool { return p.LBA < e.End()+margin && e.LBA < p.End()+margin }) {
			s.Tasks = append(s.Tasks, task{Extent: e, Stage: stageFlush})
			wanted--
		}
	}
}

// calm takes a place that was slow once out of the ribbon, unless a confirmed one lies in the same cells.
func (s *Sweep) calm(e Extent) {
	for n := s.ribbon.Cell(e.LBA); n <= s.ribbon.Cell(e.End()-1); n++ {
		cell := s.ribbon.Extent(n)
		other := slices.ContainsFunc(s.Slow, func(p Slow) bool {
			return (!p.Read || p.Confirmed()) && p.LBA < cell.End() && cell.LBA < p.End()
		})
		if !other {
			s.ribbon.calm(n)
		}
	}
}

// mark enters a cause for an extent: it replaces what stood there.
func (s *Sweep) mark(e Extent, c Cause) {
	i, _ := slices.BinarySearchFunc(s.Ranges, e.LBA, func(r Range, lba uint64) int {
		switch {
		case r.End() <= lba:
			return -1
		case r.LBA > lba:
			return 1
		}
		return 0
	})
	if i < len(s.Ranges) && s.Ranges[i].Holds(e.LBA) { // lies inside one: cut it out
		was := s.Ranges[i]
		s.count(was.Extent, was.Cause, -1)
		rest := make([]Range, 0, 2)
		if was.LBA < e.LBA {
			rest = append(rest, Range{Extent{was.LBA, 0}.until(e.LBA), was.Cause})
		}
		at := i + len(rest)
		if e.End() < was.End() {
			rest = append(rest, Range{Extent{e.End(), 0}.until(was.End()), was.Cause})
		}
		s.Ranges = slices.Replace(s.Ranges, i, i+1, rest...)
		for _, r := range rest {
			s.count(r.Extent, r.Cause, 1)
		}
		i = at
	}
	if len(s.Ranges) >= mostRanges {
		s.Missed++
		s.count(e, c, 1)
		return
	}
	s.count(e, c, 1)
	s.Ranges = slices.Insert(s.Ranges, i, Range{e, c})
	if i+1 < len(s.Ranges) && s.Ranges[i+1].LBA == e.End() && s.Ranges[i+1].Cause == c {
		s.Ranges[i].Sectors += s.Ranges[i+1].Sectors
		s.Ranges = slices.Delete(s.Ranges, i+1, i+2)
	}
	if i > 0 && s.Ranges[i-1].End() == e.LBA && s.Ranges[i-1].Cause == c {
		s.Ranges[i-1].Sectors += s.Ranges[i].Sectors
		s.Ranges = slices.Delete(s.Ranges, i, i+1)
	}
}

// count adds the physical sectors of an extent to those that are unreadable, or that do not hold what was written to them, or
// takes them away.
func (s *Sweep) count(e Extent, c Cause, sign int) {
	n := uint64(int64(sign) * int64(s.geometry.CountPhysical(e)))
	switch {
	case c.Lost():
		s.Lost += n
	case c.Unreadable():
		s.Unread += n
	default:
		return
	}
	s.ribbon.unread(e, sign)
}

// lastShare is what the second tries at the end count in the whole.
const lastShare = 0.02

// Share is how much of the sweep is settled, 0 to 1. It never goes back.
func (s *Sweep) Share() float64 {
	if s.Finished() {
		return 1
	}
	return s.Reached
}

func (s *Sweep) reach() {
	share := (1 - lastShare) * float64(s.Done) / float64(max(1, s.Sectors()))
	if s.Last {
		s.Tries = max(s.Tries, s.tries)
		share += lastShare * (1 - float64(s.tries)/float64(max(1, s.Tries)))
	}
	s.Reached = max(s.Reached, min(share, 0.999))
}
