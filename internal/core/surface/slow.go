package surface

import (
	"slices"
	"time"
)

// How a place that took long is told from a busy host.

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
	was := place.Extent
	if place.Hull.Sectors > 0 && place.Sectors <= mostAgain*uint64(s.geometry.Chunk) { // all of it was read again
		place.Extent = place.Hull
	}
	s.calm(was)
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
