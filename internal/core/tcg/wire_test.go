package tcg

import (
	"testing"

	"hylostat.example/internal/vector"
)

// What goes over the wire, and what is made of it: testdata/wire.txt.
func TestTheWire(t *testing.T) {
	b := vector.Open(t, "wire.txt")
	vector.RoundTrip(
		b, "discovery",
		Discovery{HasLocking: true, Locking: Locking{true, true, true, true, true, true}, Subsystems: []string{"Opal 2", "Enterprise"}},
		Discovery.Encode, Decode, nil,
	)
	vector.RoundTrip(b, "discovery, nothing", Discovery{}, Discovery.Encode, Decode, nil)
	for code := range uint16(0x400) {
		if subsystems[code] != "" {
			b.Line("feature %04X %s", code, subsystems[code])
		}
	}
	b.Close()
}
