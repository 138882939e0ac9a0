package vector

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/stretchr/testify/require"
)

// Shapes writes down what a structure becomes: one of which nothing is known, one of which all is, and what differs when one field is
// known alone, and when all but one are. What types are given is in instead, by example. The one of which all is
// known is returned.
func Shapes[T any](b *Book, name string, becomes func(T) any, instead ...any) (all T) {
	f := filler{most: 90, sign: 1, whole: true, instead: map[reflect.Type]reflect.Value{}}
	for _, v := range append(instead, 90*time.Minute) {
		f.instead[reflect.TypeOf(v)] = reflect.ValueOf(v)
	}
	lines := func(v T) []string {
		text, err := json.MarshalIndent(becomes(v), "", " ")
		require.NoError(b.t, err, name)
		lines := strings.Split(string(text), "\n")
		for i := range lines {
			lines[i] = strings.TrimSuffix(lines[i], ",")
		}
		return lines
	}
	differs := func(what string, was, is []string) {
		var changes []string
		for _, side := range []struct {
			sign    string
			of, not []string
		}{{"-", was, is}, {"+", is, was}} {
			for _, line := range side.of {
				if !slices.Contains(side.not, line) {
					changes = append(changes, side.sign+strings.TrimSpace(line))
				}
			}
		}
		if more := len(changes) - mostShown; more > 0 {
			changes = append(changes[:mostShown], fmt.Sprintf("and %d more", more))
		}
		if len(changes) > 0 {
			b.Line("  %s: %s", what, strings.Join(changes, " "))
		}
	}
	var none T
	f.fill(reflect.ValueOf(&all).Elem())
	b.Head(name)
	b.Line("%s", strings.Join(lines(none), "\n"))
	b.Line("  all of it\n%s", strings.Join(lines(all), "\n"))
	for _, path := range f.leaves(reflect.TypeFor[T](), 3) {
		field := all
		reflect.ValueOf(&field).Elem().FieldByIndex(path.at).SetZero()
		differs("without "+path.name, lines(all), lines(field))
		field = none
		reflect.ValueOf(&field).Elem().FieldByIndex(path.at).Set(reflect.ValueOf(all).FieldByIndex(path.at))
		differs(path.name+" alone", lines(none), lines(field))
	}
	return all
}

// mostShown is of how many lines that a field changes the first are shown.
const mostShown = 12

// leaf is a field of a structure, or of one it holds.
type leaf struct {
	name string
	at   []int
}

// leaves lists the exported fields of a structure, down to some depth.
func (f *filler) leaves(of reflect.Type, depth int) (all []leaf) {
	for i := range of.NumField() {
		field := of.Field(i)
		_, given := f.instead[field.Type]
		switch {
		case !field.IsExported():
		case field.Type.Kind() != reflect.Struct, field.Type == reflect.TypeFor[time.Time](), given, depth == 1:
			all = append(all, leaf{field.Name, []int{i}})
		default:
			for _, below := range f.leaves(field.Type, depth-1) {
				all = append(all, leaf{field.Name + "." + below.name, append([]int{i}, below.at...)})
			}
		}
	}
	return all
}
