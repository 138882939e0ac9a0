package surface

import "slices"

// What the outcomes of a copy's reads mean.

// Tell takes the outcome of a read. Outcomes of reads that were not asked for, or told already, are passed over.
func (c *Copy) Tell(r Read, o Outcome) {
	i := slices.IndexFunc(c.open, func(a Read) bool { return a.Number == r.Number })
	if i < 0 {
		return
	}
	c.open = slices.Delete(c.open, i, i+1)
	c.at = r.LBA
	if o.Cause == Whole {
		c.kept(r.Extent, o)
	} else {
		c.failed(r.Extent, o)
	}
}

// Forget takes back the reads that were asked for and never told: they are asked for again.
func (c *Copy) Forget() {
	c.open, c.cursor.lba, c.cursor.extent = nil, 0, 0
	if len(c.legs) > 0 && c.legs[0].pass == FromEdges {
		c.walks = nil
		c.turn()
	}
}

func (c *Copy) pass() Pass {
	if len(c.legs) == 0 {
		return passes
	}
	return c.legs[0].pass
}

// kept takes a read that went well.
func (c *Copy) kept(e Extent, o Outcome) {
	was := c.m.parts[c.m.index(e.LBA)]
	if was.Kept == Copied {
		return
	}
	c.set(Part{Extent: e, Kept: Copied})
	s := c.book
	s.Done += e.Sectors
	if o.Looked {
		s.Looked, s.Empty = s.Looked+e.Sectors, s.Empty+o.Empty
	}
	spent := o.Spent
	if spent == 0 {
		spent = o.Took
	}
	if c.pass() == Gently && !o.Cold {
		s.timed(e, o.Took, spent)
	} else {
		s.ribbon.read(e, spent, 0)
	}
	if was.Kept == Failed && was.Tries > pieceTries {
		s.mark(e, Unsteady)
	}
	switch c.pass() {
	case Gently:
		if o.Took > crawl {
			c.nearDamage(e, false)
			return
		}
		c.dense.n, c.hop = 0, c.hop/2
		if b := c.rhythm.band; b.Sectors > 0 && e.LBA >= b.End() {
			if _, ok := c.m.next(b.until(e.LBA), func(p Part) bool { return !p.damaged() }); ok {
				c.rhythm.cut() // where it ended was not seen
			}
		}
		c.rhythm.read(e)
	case FromEdges:
		c.stepped(e, true)
	case Singly:
		c.dense.n = 0
	case passes:
	}
}

// failed takes a read that did not.
func (c *Copy) failed(e Extent, o Outcome) {
	was := c.m.parts[c.m.index(e.LBA)]
	if was.Kept == Copied {
		return
	}
	c.fails, c.failTook = c.fails+1, c.failTook+o.Took
	tries := uint8(1)
	if was.Kept == Failed {
		tries = was.Tries + 1
	}
	switch {
	case o.All:
		c.give(e, o.Cause, tries)
	case tries >= pieceTries+c.limits.Singly:
		c.give(e, o.Cause, tries)
	default:
		c.set(Part{Extent: e, Kept: Failed, Cause: o.Cause, Tries: tries})
	}
	if c.pass() != Gently {
		c.book.Trouble += o.Took
	}
	switch c.pass() {
	case Gently:
		c.nearDamage(e, true)
	case FromEdges:
		c.stepped(e, false)
	case Singly:
		c.inRow(e)
	case passes:
	}
	if c.limits.Time > 0 && c.book.Trouble > c.limits.Time {
		c.giveUp()
	}
}

// give gives an extent up.
func (c *Copy) give(e Extent, cause Cause, tries uint8) {
	c.set(Part{Extent: e, Kept: Missing, Cause: cause, Tries: tries})
	c.book.Done += e.Sectors
	c.book.mark(e, cause)
}

// giveUp gives up all that was tried, or left, close to damage: its time is used up.
func (c *Copy) giveUp() {
	for _, p := range slices.Clone(c.m.parts) {
		if p.Kept == Failed || p.Kept == Skipped {
			c.give(p.Extent, Suspect, p.Tries)
		}
	}
	c.walks = nil
}

// nearDamage leaves more and more for later where chunks fail one after the other.
func (c *Copy) nearDamage(e Extent, failed bool) {
	c.dense.n++
	var to uint64
	known := false
	if failed {
		to, known = c.rhythm.failed(e)
	}
	if e.LBA < c.hopTo {
		return // it was asked for before what follows was left
	}
	g := c.book.geometry
	from := max(c.cursor.lba, e.End())
	if known {
		c.hopTo = min(max(to, from), g.Sectors)
	} else {
		if c.hop == 0 && c.dense.n < dense {
			return
		}
		c.hop = max(firstHop, min(2*c.hop, g.chunks()/64+1))
		c.hopTo = min(from+c.hop*uint64(g.Chunk), g.Sectors)
	}
	for _, x := range intersect([]Extent{Extent{from, 0}.until(max(from, c.hopTo))}, c.extents()) {
		c.leave(x)
	}
}

// stepped goes on with a walk, or ends it.
func (c *Copy) stepped(e Extent, well bool) {
	probe := e == c.probe
	c.probe = Extent{}
	switch {
	case len(c.walks) == 0:
	case probe && !well:
		c.walks = nil
	case probe:
	case !well:
		c.walks = c.walks[1:]
	case c.walks[0].back:
		c.walks[0].at = e.LBA
	default:
		c.walks[0].at = e.End()
	}
}

// inRow takes the rest of a place for failed where its units failed one after the other.
func (c *Copy) inRow(e Extent) {
	place := c.place(e.LBA)
	if c.dense.place != place {
		c.dense = row{place: place}
	}
	if c.dense.n++; c.dense.n < mostInRow {
		return
	}
	for at := place; at.Sectors > 0; {
		p, ok := c.m.next(at, func(p Part) bool { return p.Kept == Failed && p.Tries == c.tries })
		if !ok {
			return
		}
		if c.tries+1 >= pieceTries+c.limits.Singly {
			c.give(p.Extent, Suspect, p.Tries)
		} else {
			c.set(Part{Extent: p.Extent, Kept: Failed, Cause: p.Cause, Tries: c.tries + 1})
		}
		at = Extent{p.End(), 0}.until(place.End())
	}
}
