package surface

import "slices"

// How a place that failed is narrowed to its physical sectors, and what is kept of it.

// chunk settles a chunk or spot that was read whole.
func (s *Sweep) chunk(e Extent, o Outcome, t task) {
	switch {
	case o.Cause == Whole:
		s.Streak, s.Hop = 0, 0
		if o.Looked && !t.Counted {
			s.Looked, s.Empty = s.Looked+e.Sectors, s.Empty+o.Empty
		}
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

func (s *Sweep) reach() {
	share := (1 - lastShare) * float64(s.Done) / float64(max(1, s.Sectors()))
	if s.Last {
		s.Tries = max(s.Tries, s.tries)
		share += lastShare * (1 - float64(s.tries)/float64(max(1, s.Tries)))
	}
	s.Reached = max(s.Reached, min(share, 0.999))
}
