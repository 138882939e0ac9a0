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
	vector.RoundTrip(b, "discovery, a lock that does nothing", Discovery{HasLocking: true}, Discovery.Encode, Decode, nil)
	b.Line("asked with protocol %d, %d, for %d bytes", Protocol, Specific, Size)
	for _, page := range [][]byte{
		make([]byte, header-1), make([]byte, header), append(lengthOf(header-5), 0), lengthOf(header - 4),
		feature(featureLocking), feature(featureLocking, 1), feature(featureLocking, 0xFF), feature(featureTPer, 0xFF),
	} {
		d, err := Decode(page)
		b.Line("%d bytes, of %d: %s %v", len(page), len(page)-header, vector.Say(d), err)
	}
	for code := range uint16(0x400) {
		if subsystems[code] != "" {
			b.Line("feature %04X %s", code, subsystems[code])
		}
	}
	b.Close()
}

// lengthOf is a header that says how many bytes follow its length.
func lengthOf(n uint32) []byte {
	b := make([]byte, header)
	be.PutUint32(b, n)
	return b
}

// feature is a page of one feature.
func feature(code uint16, body ...byte) []byte {
	b := lengthOf(uint32(header + len(body)))
	b = be.AppendUint16(b, code)
	return append(append(b, 1<<4, uint8(len(body))), body...)
}
