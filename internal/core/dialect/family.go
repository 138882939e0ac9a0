package dialect

import (
	"bytes"
	_ "embed" // the families
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"hylostat.example/internal/core/drive"
)

// Subject is what a family is told by.
type Subject struct {
	WWN     drive.WWN
	Model   string
	Medium  drive.Medium
	Numbers []uint8 // of its attributes
}

// Shape is a model number with its letters as A (a when small) and its digits as 9.
func (s Subject) Shape() string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= '0' && r <= '9':
			return '9'
		case r >= 'A' && r <= 'Z':
			return 'A'
		case r >= 'a' && r <= 'z':
			return 'a'
		}
		return r
	}, s.Model)
}

// Vector is an entry's test: bytes in, words out.
type Vector struct {
	Raw   string `yaml:"raw"`
	Value uint8  `yaml:"value"`
	Out   string `yaml:"out"`
}

// Family is a family of drives.
type Family struct {
	ID         string          `yaml:"id"`
	Title      string          `yaml:"title"`
	Source     string          `yaml:"source"`
	Match      Criteria        `yaml:"match"`
	Attributes map[uint8]Entry `yaml:"attributes"`
}

// Criteria tell who belongs to a family; families.yaml explains them.
type Criteria struct {
	Medium  drive.Medium `yaml:"medium"`
	Company []string     `yaml:"company"`
	Shape   []string     `yaml:"shape"`
	Has     []uint8      `yaml:"has"`
	Lacks   []uint8      `yaml:"lacks"`
	Named   bool         `yaml:"named"` // numbers alone do not do

	shapes []*regexp.Regexp
}

type familyFile struct {
	Version  int      `yaml:"version"`
	Families []Family `yaml:"families"`
}

//go:embed families.yaml
var familyText []byte

var families = sync.OnceValue(func() familyFile {
	f, err := parseFamilies(familyText)
	if err != nil {
		panic("dialect: the embedded families: " + err.Error()) // a test reads them, so a release cannot get here
	}
	return f
})

// parseFamilies reads the file and checks it against its schema: known keys only, whole entries, usable shapes.
func parseFamilies(text []byte) (familyFile, error) {
	var f familyFile
	d := yaml.NewDecoder(bytes.NewReader(text))
	d.KnownFields(true)
	if err := d.Decode(&f); err != nil {
		return f, err
	}
	seen := map[string]bool{}
	for i := range f.Families {
		family := &f.Families[i]
		where := fmt.Sprintf("family %q", family.ID)
		switch m := family.Match; {
		case family.ID == "" || seen[family.ID]:
			return f, fmt.Errorf("%s: an id is missing or stands twice", where)
		case family.Title == "" || family.Source == "":
			return f, fmt.Errorf("%s: title and source are needed", where)
		case m.Medium != drive.Spinning && m.Medium != drive.Flash:
			return f, fmt.Errorf("%s: medium %q", where, m.Medium)
		case len(m.Has) < 4:
			return f, fmt.Errorf("%s: fewer than four numbers tell nobody apart", where)
		}
		seen[family.ID] = true
		for _, shape := range family.Match.Shape {
			pattern := "^" + strings.ReplaceAll(regexp.QuoteMeta(shape), `\+`, "+") + "$"
			family.Match.shapes = append(family.Match.shapes, regexp.MustCompile(pattern))
		}
		for id, e := range family.Attributes {
			if err := e.check(); err != nil {
				return f, fmt.Errorf("%s, attribute %d: %w", where, id, err)
			}
		}
	}
	return f, nil
}

func (e Entry) check() error {
	switch {
	case e.Layout == "" && e.Take != TakeValue:
		return fmt.Errorf("neither a layout nor a value is taken")
	case e.Layout != "" && !slices.Contains(layouts, e.Layout):
		return fmt.Errorf("layout %q is not known", e.Layout)
	case e.Take != "" && e.Take != TakeValue:
		return fmt.Errorf("take %q is not known", e.Take)
	case e.Confidence != Trade && e.Confidence != Varies:
		return fmt.Errorf("confidence %q is not known", e.Confidence)
	case e.Word < 0 || e.Word > 0 && e.Word >= wordsOf(e.Layout):
		return fmt.Errorf("layout %q has no word %d", e.Layout, e.Word)
	case e.Vector.Raw == "" || e.Vector.Out == "":
		return fmt.Errorf("an entry needs a test vector")
	}
	return nil
}

// Match is the dialect found for a drive.
type Match struct {
	Family *Family  // nil: none is known
	Why    []string // each criterion that was met, in words
	Sure   bool     // company or shape confirm it; otherwise what it says is inferred
	Hints  Hints
}

// ID is the family's neutral name, "unknown" when there is none.
func (m Match) ID() string {
	if m.Family == nil {
		return "unknown"
	}
	return m.Family.ID
}

// Find matches a drive with the family that fits best: more criteria before fewer, then more numbers before fewer.
func Find(s Subject) Match {
	var best Match
	bestPoints := 0
	all := families().Families
	for i := range all {
		why, points := all[i].Match.judge(s)
		if points > bestPoints {
			best, bestPoints = Match{Family: &all[i], Why: why, Sure: points >= confirmed}, points
		}
	}
	if best.Family == nil {
		best.Why = []string{"no family has this company id, shape of model number and set of attributes; the common meanings are used"}
	}
	return best
}

// confirmed is what a met company id or shape is worth; any number of attributes is worth less.
const confirmed = 1000

func (c Criteria) judge(s Subject) (why []string, points int) {
	if s.Medium != drive.MediumUnknown && s.Medium != c.Medium {
		return nil, 0
	}
	for _, id := range c.Has {
		if !slices.Contains(s.Numbers, id) {
			return nil, 0
		}
	}
	for _, id := range c.Lacks {
		if slices.Contains(s.Numbers, id) {
			return nil, 0
		}
	}
	points = len(c.Has) + len(c.Lacks)
	if s.Medium == c.Medium {
		why = append(why, "medium: "+string(c.Medium))
	}
	if company := s.WWN.Company(); company != 0 && len(c.Company) > 0 {
		id := fmt.Sprintf("%06x", company)
		if !slices.Contains(c.Company, id) {
			return nil, 0
		}
		why, points = append(why, "company id in its World Wide Name: "+id), points+confirmed
	}
	for _, shape := range c.shapes {
		if shape.MatchString(s.Shape()) {
			why, points = append(why, "shape of its model number: "+s.Shape()), points+confirmed
			break
		}
	}
	if c.Named && points < confirmed {
		return nil, 0
	}
	return append(why, fmt.Sprintf("%d attribute numbers that belong to it are there", len(c.Has))), points
}

// Entry gives what a number means in the family: the family's line over the common one.
func (m Match) Entry(id uint8) Entry {
	e := Lookup(id)
	e.From = "common"
	if m.Family != nil {
		if own, ok := m.Family.Attributes[id]; ok {
			e = own.over(e)
			e.From = m.Family.ID
			if !m.Sure {
				e.Confidence = Inferred
			}
		}
	}
	if id == hoursAttribute && m.Hints.Hours != "" { // what its own clocks and the calendar say outranks its family
		e.Layout, e.Take, e.Scale, e.Divide, e.Unit, e.Confidence, e.From = m.Hints.Hours, "", 0, 0, "h", Inferred, "inferred over time"
	}
	return e
}

// over lays a family's entry over the common one.
func (e Entry) over(common Entry) Entry {
	out := common
	out.Layout, out.Take, out.Invert, out.Confidence, out.Vector = e.Layout, e.Take, e.Invert, e.Confidence, e.Vector
	out.Word, out.Scale, out.Divide = e.Word, e.Scale, e.Divide
	if e.Name != "" {
		out.Name = e.Name
	}
	if e.Unit != "" {
		out.Unit = e.Unit
	}
	if e.Signal != "" {
		out.Signal = e.Signal
	}
	if e.Explain != "" {
		out.Explain = e.Explain
	}
	return out
}

// Families lists all families.
func Families() []Family { return slices.Clone(families().Families) }

// Numbers lists the numbers a family has its own line for.
func (f *Family) Numbers() []uint8 { return slices.Sorted(maps.Keys(f.Attributes)) }
