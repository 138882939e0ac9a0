package drive

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Bay names one place at a bench of the shop, for ever. The shop's own bench, its first, has no name in it. The zero Bay is none.
type Bay struct {
	Bench  string // a BenchName; empty: the shop's own bench
	Number int    // from 1
}

// IsZero reports whether b names no bay.
func (b Bay) IsZero() bool { return b.Number == 0 }

// String is the bay as a person types it, "bay-3" or "field/3"; empty for none.
func (b Bay) String() string {
	switch {
	case b.IsZero():
		return ""
	case b.Bench == "":
		return "bay-" + strconv.Itoa(b.Number)
	}
	return b.Bench + "/" + strconv.Itoa(b.Number)
}

// Short is the bay in a column of bays: "3" or "field/3".
func (b Bay) Short() string { return strings.TrimPrefix(b.String(), "bay-") }

// Words is the bay in a sentence: "bay 3" or "bay field/3".
func (b Bay) Words() string { return "bay " + b.Short() }

// Before orders bays: those of the shop's own bench first, then by bench and number.
func (b Bay) Before(other Bay) bool {
	if b.Bench != other.Bench {
		return b.Bench < other.Bench
	}
	return b.Number < other.Number
}

const mostBays = 9999

var (
	benchName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,23}$`)
	bayName   = regexp.MustCompile(`^(?:(?:bay[- ]?)?|([a-z][a-z0-9-]{0,23})/)([1-9][0-9]{0,3})$`)
)

// BenchName reports whether a text can name a bench beside the shop's own: lower-case letters, digits and hyphens, at most 24, the
// first a letter; not "bay".
func BenchName(s string) bool { return benchName.MatchString(s) && s != "bay" }

// ParseBay reads a bay as people write it: 3, bay3, bay-3, "bay 3", field/3. Case does not matter.
func ParseBay(s string) (Bay, error) {
	m := bayName.FindStringSubmatch(strings.ToLower(strings.TrimSpace(s)))
	if m == nil || m[1] == "bay" {
		return Bay{}, fmt.Errorf("%q names no bay: write it as bay-3, or field/3 for one of another bench", s)
	}
	n, err := strconv.Atoi(m[2])
	return Bay{m[1], n}, err
}

// MarshalText writes the bay as String does.
func (b Bay) MarshalText() ([]byte, error) { return []byte(b.String()), nil }

// UnmarshalText reads what MarshalText writes, and whatever ParseBay reads.
func (b *Bay) UnmarshalText(text []byte) (err error) {
	if *b = (Bay{}); len(text) > 0 {
		*b, err = ParseBay(string(text))
	}
	return err
}

// UnmarshalJSON reads the text, and the bare number that stood in records of before a shop had more than one bench.
func (b *Bay) UnmarshalJSON(data []byte) error {
	if len(data) > 0 && data[0] != '"' {
		n, err := strconv.Atoi(string(data))
		if err != nil || n < 0 || n > mostBays {
			return fmt.Errorf("%.20q is no bay", data)
		}
		*b = Bay{Number: n}
		return nil
	}
	var text string
	if err := json.Unmarshal(data, &text); err != nil {
		return err
	}
	return b.UnmarshalText([]byte(text))
}
