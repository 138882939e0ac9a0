package surface

import "slices"

// Change is how a place differs between two sweeps of a drive.
type Change string

// The changes.
const (
	Fresh Change = "new"   // was sound, fails or is slow now
	Gone  Change = "gone"  // failed or was slow, is sound now
	Worse Change = "worse" // was slow or failed at times, is unreadable now
	Stays Change = "same"
)

// Difference is one place in which two sweeps differ, or that both found.
type Difference struct {
	Extent
	Change Change
	Before Cause // Whole: read; then SlowBefore may say more
	After  Cause
	// Slow places carry their class; 0: not slow.
	SlowBefore, SlowAfter uint8
}

// Found is what a finished sweep is compared by.
type Found struct {
	Ranges []Range
	Slow   []Slow // only confirmed ones count
	Swept  func(Extent) bool
}

// Compare lays a later sweep over an earlier one: every place that either found, in the order of the surface. What the later
// did not sweep is left out.
func Compare(before, after Found) []Difference {
	var all []Difference
	for _, r := range after.Ranges {
		all = append(all, overlaps(r, before)...)
	}
	for _, r := range before.Ranges {
		for _, rest := range without([]Extent{r.Extent}, extentsOf(after.Ranges)) {
			if after.Swept == nil || after.Swept(rest) {
				all = append(all, Difference{Extent: rest, Change: Gone, Before: r.Cause})
			}
		}
	}
	slowIn := func(list []Slow, e Extent) uint8 {
		for _, s := range list {
			if s.Confirmed() && s.LBA < e.End() && e.LBA < s.End() {
				return s.Class
			}
		}
		return 0
	}
	for _, s := range after.Slow {
		if !s.Confirmed() {
			continue
		}
		d := Difference{Extent: s.Extent, Change: Fresh, SlowAfter: s.Class, SlowBefore: slowIn(before.Slow, s.Extent)}
		switch {
		case d.SlowBefore >= s.Class:
			d.Change = Stays
		case d.SlowBefore > 0:
			d.Change = Worse
		}
		all = append(all, d)
	}
	for _, s := range before.Slow {
		if s.Confirmed() && slowIn(after.Slow, s.Extent) == 0 && (after.Swept == nil || after.Swept(s.Extent)) {
			all = append(all, Difference{Extent: s.Extent, Change: Gone, SlowBefore: s.Class})
		}
	}
	slices.SortStableFunc(all, func(a, b Difference) int {
		if a.LBA < b.LBA {
			return -1
		}
		return map[bool]int{true: 1, false: 0}[a.LBA > b.LBA]
	})
	return all
}

// overlaps splits a range by what the earlier sweep said of it.
func overlaps(r Range, before Found) []Difference {
	var all []Difference
	at := r.LBA
	add := func(end uint64, was Cause) {
		if end <= at {
			return
		}
		d := Difference{Extent: Extent{at, end - at}, Change: Fresh, Before: was, After: r.Cause}
		switch {
		case was == r.Cause:
			d.Change = Stays
		case was != Whole && r.Cause.Unreadable():
			d.Change = Worse
		case was != Whole:
			d.Change = Stays
		}
		all = append(all, d)
		at = end
	}
	for _, b := range before.Ranges {
		if b.LBA < r.End() && r.LBA < b.End() {
			add(b.LBA, Whole)
			add(min(b.End(), r.End()), b.Cause)
		}
	}
	add(r.End(), Whole)
	return all
}
