package vector

import (
	"iter"
	"maps"
	"slices"
)

// ByName goes through a table in the order of its names, so that what is written down of it has one order.
func ByName[T any](all map[string]T) iter.Seq2[string, T] {
	return func(yield func(string, T) bool) {
		for _, name := range slices.Sorted(maps.Keys(all)) {
			if !yield(name, all[name]) {
				return
			}
		}
	}
}
