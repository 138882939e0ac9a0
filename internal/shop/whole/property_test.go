package whole_test

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/protocol"
)

// taken is one reading of a life as a bench brings it.
type taken struct {
	at    time.Time
	pages []reading.Page
}

// lives draws the lives these properties hold for: some clean, some with a flaw from the first, some whose flaws grow, some whose
// self-tests fail.
func lives(t *rapid.T) []state {
	n := rapid.IntRange(3, 7).Draw(t, "readings")
	growth := rapid.SampledFrom([]uint64{0, 0, 1, 6, 40}).Draw(t, "growth")
	s := tested("", uint64(rapid.IntRange(2000, 30_000).Draw(t, "hours")))
	s.reallocated = rapid.SampledFrom([]uint64{0, 0, 0, 2, 70}).Draw(t, "reallocated at first")
	var all []state
	for range n {
		if rapid.Bool().Draw(t, "grows") {
			s.reallocated += growth
			s.pending = growth * uint64(rapid.IntRange(0, 2).Draw(t, "pending"))
		}
		s.hours += 80
		status := ata.TestStatus(0)
		if growth > 1 && rapid.Bool().Draw(t, "fails") {
			status = ata.TestRead
		}
		s.tests = []ata.SelfTest{
			{Number: ata.TestShort, Hours: uint16(s.hours) - 1, Status: status},
			{Number: ata.TestExtended, Hours: uint16(s.hours) - 9},
		}
		all = append(all, s)
	}
	return all
}

// bring lets a life arrive in some order, and gives the verdict of the end.
func (p *place) bring(serial string, life []taken, order []int) (drive.Grade, []string, shopDrive) {
	p.clock.at = life[len(life)-1].at // none of it lies ahead
	for _, i := range order {
		p.taken++
		pages := slices.Clone(life[i].pages)
		key := drive.Key{Model: "Korvan K4-2000", Serial: serial}
		r := protocol.Reading{ID: fmt.Sprint(p.taken), Bay: drive.Bay{Number: 2}, Key: key, At: life[i].at, Pages: pages, Tool: "test"}
		require.NoError(p.t, p.Take(p.t.Context(), "", protocol.Report{Reading: &r}))
	}
	v := p.verdict(serial)
	var rules []string
	for _, f := range v.Findings {
		rules = append(rules, f.Rule)
	}
	for _, m := range v.Missing {
		rules = append(rules, "missing "+m.ID)
	}
	for _, n := range v.Notes {
		rules = append(rules, "note "+n.Rule+n.Sentence)
	}
	d := p.drive(serial)
	return v.Grade, rules, shopDrive{string(d.Hints.Hours), d.Now.Hours}
}

// shopDrive is what the shop concludes of a drive's clock.
type shopDrive struct {
	layout string
	hours  float64
}

// as gives the pages of a life under another serial, attribute 9 counting so many of something an hour.
func as(serial string, life []state, anHour uint64) []taken {
	all := make([]taken, len(life))
	for i, s := range life {
		s.serial = serial
		pages := s.pages()
		if anHour != 1 {
			page, err := ata.DecodeAttributes(pages[1].Bytes)
			if err != nil {
				panic(err)
			}
			for j := range page.Attributes {
				if page.Attributes[j].ID == 9 {
					page.Attributes[j].PutRaw48(s.hours * anHour)
				}
			}
			pages[1].Bytes = page.Encode()
		}
		all[i] = taken{begin.Add(time.Duration(i) * week), pages}
	}
	return all
}

func inOrder(n int) []int {
	order := make([]int, n)
	for i := range order {
		order[i] = i
	}
	return order
}

// serials gives a new one each time: one store serves all lives.
func serials() func() string {
	n := 0
	return func() string { n++; return fmt.Sprintf("KVA%07d", n) }
}

// TestMain has rapid try half of its usual cases: each is a shop with a history.
func TestMain(m *testing.M) {
	flag.Parse()
	if f := flag.Lookup("rapid.checks"); f.Value.String() == f.DefValue {
		_ = f.Value.Set("50")
	}
	os.Exit(m.Run())
}

func TestAnyOrderOfImportAndAnyUnitOfTimeGiveTheSame(t *testing.T) {
	t.Parallel()
	p, serial := open(t), serials()
	rapid.Check(t, func(t *rapid.T) {
		life := lives(t)
		a, b := serial(), serial()
		unit := rapid.SampledFrom([]uint64{1, 60, 120, 3600}).Draw(t, "an hour")
		order := rapid.Permutation(inOrder(len(life))).Draw(t, "order")
		g1, r1, d1 := p.bring(a, as(a, life, 1), inOrder(len(life)))
		g2, r2, d2 := p.bring(b, as(b, life, unit), order)
		if g1 != g2 || !slices.Equal(r1, r2) || d1.hours != d2.hours || unit == 1 && d1 != d2 {
			t.Fatalf("in order, in hours: %v %v %v; otherwise: %v %v %v", g1, r1, d1, g2, r2, d2)
		}
	})
}

// A count in seconds, read as hours before anything is concluded, wraps: it places no reading.
func TestACountInAnotherUnitPlacesNoReading(t *testing.T) {
	t.Parallel()
	p := open(t)
	var life []state
	for n := range uint64(5) {
		s := tested("", 9004+80*n)
		s.tests = []ata.SelfTest{
			{Number: ata.TestShort, Hours: uint16(s.hours) - 1}, {Number: ata.TestExtended, Hours: uint16(s.hours) - 9},
		}
		life = append(life, s)
	}
	grade, rules, d := p.bring("KVA0000001", as("KVA0000001", life, 3600), []int{4, 1, 3, 2, 0})
	assert.Equal(t, drive.Healthy, grade, rules)
	assert.InDelta(t, 9324, d.hours, 1e-9)
}

// worse orders grades: what bars a drive from the shelf is worse than what does not.
var worse = map[drive.Grade]int{drive.Healthy: 0, drive.Undecided: 1, drive.Degrading: 2, drive.Replace: 3}

// What only a missing page knew is lost with it: but a drive is never healthy for that, and never better
// than with the page and than without the reading.
func TestAMissingPageNeverImprovesTheGrade(t *testing.T) {
	t.Parallel()
	p, serial := open(t), serials()
	rapid.Check(t, func(t *rapid.T) {
		life := lives(t)
		i, page := rapid.IntRange(0, len(life)-1).Draw(t, "reading"), rapid.IntRange(1, 4).Draw(t, "page")
		a, b, c := serial(), serial(), serial()
		whole, rules, _ := p.bring(a, as(a, life, 1), inOrder(len(life)))
		without, _, _ := p.bring(b, slices.Delete(as(b, life, 1), i, i+1), inOrder(len(life)-1))
		short := as(c, life, 1)
		short[i].pages = slices.Delete(short[i].pages, page, page+1)
		less, lessRules, _ := p.bring(c, short, inOrder(len(life)))
		if slices.ContainsFunc(life, func(s state) bool { return s.tests[0].Status != 0 }) {
			without = drive.Undecided // a later log may have told of a test that passed since
		}
		if less == drive.Healthy && whole != drive.Healthy || worse[less] < min(worse[without], worse[whole]) {
			t.Fatalf(
				"whole: %v %v; without reading %d of %d: %v; without its page %d: %v %v", whole, rules, i+1, len(life), without,
				page, less, lessRules,
			)
		}
	})
}

func TestOneGarbageReadingChangesNoGradeAfterTheNextCleanOne(t *testing.T) {
	t.Parallel()
	p, serial := open(t), serials()
	rapid.Check(t, func(t *rapid.T) {
		life := lives(t)
		a, b := serial(), serial()
		clean, rules, _ := p.bring(a, as(a, life, 1), inOrder(len(life)))
		spoilt := as(b, life, 1)
		i := rapid.IntRange(0, len(life)-2).Draw(t, "before")
		kind, ahead := rapid.SampledFrom([]string{"ones", "zeros", "page of ones", "page of zeros", "broken", "one counter"}).
			Draw(t, "garbage"),
			week/2
		if kind == "one counter" { // the others say when what grew was there
			ahead = time.Minute
		}
		spoilt = slices.Insert(spoilt, i, taken{begin.Add(time.Duration(i)*week - ahead), garbageOf(life[i], b, kind)})
		after, afterRules, _ := p.bring(b, spoilt, inOrder(len(spoilt)))
		if after != clean {
			t.Fatalf("clean: %v %v; with garbage before reading %d of %d: %v %v", clean, rules, i+1, len(life), after, afterRules)
		}
	})
}

// garbageOf is what comes back over a bad cable, or from a drive that is just waking.
func garbageOf(s state, serial, kind string) []reading.Page {
	s.serial = serial
	pages := s.pages()
	fill := func(b byte) {
		for i := range pages[1].Bytes {
			pages[1].Bytes[i] = b
		}
	}
	counters := func(change func(*ata.Attribute)) {
		page, err := ata.DecodeAttributes(pages[1].Bytes)
		if err != nil {
			panic(err)
		}
		for i := range page.Attributes {
			change(&page.Attributes[i])
		}
		pages[1].Bytes = page.Encode()
	}
	switch kind {
	case "ones":
		counters(func(a *ata.Attribute) { a.PutRaw48(1<<48 - 1) })
	case "zeros":
		counters(func(a *ata.Attribute) { a.PutRaw48(0) })
	case "page of ones":
		fill(0xFF)
	case "page of zeros":
		fill(0)
	case "broken":
		pages[1].Bytes[200] ^= 1
	case "one counter":
		counters(func(a *ata.Attribute) {
			if a.ID == 197 {
				a.PutRaw48(s.pending + 65_000)
			}
		})
	}
	return pages
}

func TestACleanReadingMoreNeverMakesADriveWorse(t *testing.T) {
	t.Parallel()
	p, serial := open(t), serials()
	rapid.Check(t, func(t *rapid.T) {
		life := lives(t)
		a := serial()
		before, rules, _ := p.bring(a, as(a, life, 1), inOrder(len(life)))
		more := life[len(life)-1]
		more.hours++
		one := as(a, append(life, more), 1)
		after, afterRules, _ := p.bring(a, one, []int{len(life)})
		if worse[after] > worse[before] {
			t.Fatalf("before: %v %v; after one more that says the same: %v %v", before, rules, after, afterRules)
		}
	})
}
