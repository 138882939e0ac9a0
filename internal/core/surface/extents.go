package surface

// Rows of extents: sorted, and none touches another.

func extentsOf(ranges []Range) []Extent {
	all := make([]Extent, len(ranges))
	for i, r := range ranges {
		all[i] = r.Extent
	}
	return all
}

// intersect gives what lies in both; both are sorted, and neither touches itself.
func intersect(a, b []Extent) []Extent {
	var all []Extent
	for i, j := 0, 0; i < len(a) && j < len(b); {
		start, end := max(a[i].LBA, b[j].LBA), min(a[i].End(), b[j].End())
		if start < end {
			all = append(all, Extent{start, end - start})
		}
		if a[i].End() < b[j].End() {
			i++
		} else {
			j++
		}
	}
	return all
}

// without gives what lies in a alone; both are sorted.
func without(a, b []Extent) []Extent {
	var all []Extent
	j := 0
	for _, e := range a {
		at := e.LBA
		for ; j < len(b) && b[j].LBA < e.End(); j++ {
			if b[j].LBA > at {
				all = append(all, Extent{at, 0}.until(b[j].LBA))
			}
			if at = max(at, b[j].End()); b[j].End() > e.End() {
				break
			}
		}
		if at < e.End() {
			all = append(all, Extent{at, 0}.until(e.End()))
		}
	}
	return all
}
