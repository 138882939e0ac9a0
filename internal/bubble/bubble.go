// Package bubble carries out the body of a property in a synctest bubble, where waiting takes no time. For tests alone; start with Test.
package bubble

import (
	"flag"
	"fmt"
	"strconv"
	"testing"
	"testing/synctest"
)

// Test runs body in a bubble of its own. What rapid throws inside to end a property early goes on outside: a panic must not leave a
// bubble.
func Test(t *testing.T, body func(t *testing.T)) {
	var thrown any
	synctest.Test(t, func(t *testing.T) {
		defer func() { thrown = recover() }()
		body(t)
	})
	if fmt.Sprintf("%T", thrown) == "rapid.invalidData" { // of a line of its own: rapid tells failures apart by where they come from
		panic(thrown)
	}
	if thrown != nil {
		panic(thrown)
	}
}

// Cases has rapid try n cases in a test that is dear, unless the command line says how many.
func Cases(t *testing.T, n int) {
	t.Helper()
	f := flag.Lookup("rapid.checks")
	was := f.Value.String()
	if told, err := strconv.Atoi(was); err != nil || told > 100 { // what rapid does by itself, or a package of ours
		return
	}
	if err := f.Value.Set(strconv.Itoa(min(n, 100))); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = f.Value.Set(was) })
}
