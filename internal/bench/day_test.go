package bench

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/vector"
)

// TestMain has dates be written in one place's time, wherever the tests run.
func TestMain(m *testing.M) {
	time.Local = time.UTC
	os.Exit(m.Run())
}

// day is a bench of which every report is written down.
type day struct {
	*shop
	t      *testing.T
	source *sim.Bench
	book   *vector.Book
	given  int64 // numbers of runs
	asked  int   // of orders
}

// random is what differs from one run of the tests to the next: names, and how far a sweep has come.
var random = regexp.MustCompile(
	`[A-Z2-7]{26}|"instance":"[^"]*"|\.\d+Z|"seed":\d+|"share":0\.\d+,"lba":\d+|"(speed|left|expect)":[0-9.e+]+`,
)

var heat = regexp.MustCompile(`"celsius":\d+,"hottest":\d+,`)

// does has something happen at the bench, lets time pass, and writes down what came of it.
func (d *day) does(what string, after time.Duration, f func() error) {
	d.t.Helper()
	d.book.Head(what)
	if err := f(); err != nil {
		d.book.Line("refused: %s", err)
	}
	moved := map[int64]bool{}
	step := max(time.Second, after/8)
	for passed := time.Duration(0); ; passed += step {
		synctest.Wait()
		all, err := d.bench.Journal.Reports(d.t.Context())
		require.NoError(d.t, err)
		slices.SortStableFunc(all, func(a, b protocol.Report) int { // bays, which know nothing of each other
			if a.Bay == nil || b.Bay == nil {
				return 0
			}
			return cmp.Compare(a.Bay.Address, b.Bay.Address)
		})
		for _, r := range all {
			d.keep(r)
			d.line(r)
		}
		for _, r := range all {
			require.NoError(d.t, d.bench.Acknowledge(d.t.Context(), r.Seq))
		}
		d.progressed(moved)
		for _, line := range d.logs.Take() {
			d.book.Line("logs %s", random.ReplaceAllString(line, "(…)"))
		}
		if passed >= after && len(all) == 0 {
			if len(moved) > 0 {
				d.book.Line("progress of runs %v", slices.Sorted(maps.Keys(moved)))
			}
			return
		}
		time.Sleep(step)
	}
}

// progressed notes of which runs progress was told.
func (d *day) progressed(runs map[int64]bool) {
	for {
		select {
		case p := <-d.heard:
			runs[p.Run.ID] = true
		default:
			return
		}
	}
}

func (d *day) line(r protocol.Report) {
	kind, said := "", any(nil)
	switch {
	case r.Bay != nil:
		kind, said = "bay", r.Bay
	case r.Run != nil:
		kind, said = "run", r.Run
	case r.Unanswered != nil:
		kind, said = "unanswered", r.Unanswered
	case r.Volumes != nil:
		kind, said = "volumes", r.Volumes
	case r.Started != nil:
		kind, said = "started", r.Started
	case r.Sweep != nil:
		kind, said = "sweep", struct {
			check.Sweep
			Ranges []surface.Range
			Slow   []surface.Slow
			Blocks int
		}{r.Sweep.Sweep, r.Sweep.Ranges, r.Sweep.Slow, len(r.Sweep.Blocks)}
	case r.Reading != nil:
		decoded := reading.Decode(r.Reading.Pages)
		kind, said = "reading", map[string]any{
			"order": r.Reading.Order, "bay": r.Reading.Bay, "key": r.Reading.Key, "run": r.Reading.Run, "step": r.Reading.Step,
			"tool": r.Reading.Tool, "pages": len(r.Reading.Pages), "faults": decoded.Faults,
		}
	}
	b, err := json.Marshal(said)
	require.NoError(d.t, err)
	if r.Run != nil && r.Run.Reason.Values["class"] == string(drive.FaultStuck) { // its temperature is due as its deadline is over
		b = heat.ReplaceAll(b, nil)
	}
	d.book.Line("%s %s", kind, random.ReplaceAllString(string(b), "(…)"))
}

func (d *day) order(what string, after time.Duration, o protocol.Order) check.Run {
	d.t.Helper()
	var run check.Run
	o.By = "Dov"
	if o.ID != "" {
		d.asked++
		o.ID = fmt.Sprintf("%s %d", o.ID, d.asked)
	}
	if o.Kind == protocol.OrderCheck {
		if o.Check == "" {
			o.Check = check.Quick
		}
		d.given++
		o.Run = d.given
	}
	d.does(what, after, func() error {
		receipt, err := d.bench.Order(d.t.Context(), o)
		if receipt.Run != nil {
			run = *receipt.Run
		}
		return err
	})
	return run
}

// What happens at a bench on a day: testdata/day.txt.
func TestADayAtABench(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		places := []drive.Address{"one", "two", "three"}
		source := sim.New(sim.NewClock(60), "", places...)
		path := filepath.Join(t.TempDir(), "bench.db")
		d := &day{shop: start(t, source, path), t: t, source: source, book: vector.Open(t, "day.txt")}
		insert := func(what string, place int, s sim.Spec) {
			t.Helper()
			d.does(what, 20*time.Second, func() error { source.Insert(places[place-1], s); return nil })
		}
		remove := func(what string, place int) {
			t.Helper()
			d.does(what, 5*time.Second, func() error { source.Remove(places[place-1]); return nil })
		}
		key := func(serial string) drive.Key { return drive.Key{Model: "Korvan K4-2000", Serial: serial} }
		first := disk("KVA077M511")
		first.Identity.Sectors = 4_000_000_000
		d.does("an empty bench", 0, func() error { return nil })
		insert("a drive", 1, first)

		// What is done with a bay in which no drive answers
		for _, kind := range []protocol.OrderKind{protocol.OrderRead, protocol.OrderCheck, protocol.OrderVolumes, protocol.OrderPause} {
			d.order(string(kind)+" of an empty bay", 0, protocol.Order{Kind: kind, Bay: at(2)})
		}
		d.order("an empty bay is protected", 0, protocol.Order{Kind: protocol.OrderWriteProtect, Bay: at(2), On: true})
		d.order("a bay that is none", 0, protocol.Order{Kind: protocol.OrderRead, Bay: at(9)})
		d.order("somebody says there is a drive", 2*time.Second, protocol.Order{Kind: protocol.OrderAttempt, Bay: at(2)})
		d.order("and tries again", 2*time.Second, protocol.Order{Kind: protocol.OrderAttempt, Bay: at(2)})
		d.order("there is none after all", 2*time.Second, protocol.Order{Kind: protocol.OrderVacate, Bay: at(2)})
		late := disk("KVA077M512")
		late.Awkward.SilentAttempts = 2
		insert("a drive that answers late", 2, late)
		for n := range 3 {
			d.order(fmt.Sprintf("attempt %d", n+1), 5*time.Second, protocol.Order{Kind: protocol.OrderAttempt, Bay: at(2)})
		}
		remove("it leaves", 2)

		// Readings
		d.order("a reading", 5*time.Second, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), ID: "asked", Key: key("KVA077M511")})
		d.order("of another drive", 0, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), ID: "asked", Key: key("KVA077M512")})
		d.order("with attachments", 5*time.Second, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), ID: "asked", Attachments: true})
		d.order("its volumes", 20*time.Second, protocol.Order{Kind: protocol.OrderVolumes, Bay: at(1), ID: "asked"})
		d.does("it is mounted", 40*time.Second, func() error {
			source.Change("one", func(s *sim.Spec) { s.Awkward.InUse = "mounted at /srv" })
			return nil
		})
		d.does(
			"it is mounted no more", 40*time.Second,
			func() error { source.Change("one", func(s *sim.Spec) { s.Awkward.InUse = "" }); return nil },
		)
		d.order("it is protected", 2*time.Second, protocol.Order{Kind: protocol.OrderWriteProtect, Bay: at(1), On: true})
		d.order("it is protected no more", 2*time.Second, protocol.Order{Kind: protocol.OrderWriteProtect, Bay: at(1)})

		// Checks
		quick := d.order("a quick check", 10*time.Minute, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1), Key: key("KVA077M511")})
		d.order("a run that is over is stopped", 0, protocol.Order{Kind: protocol.OrderStop, Bay: at(1), Run: quick.ID})
		d.does("its number again", 0, func() error {
			_, err := d.bench.Order(t.Context(), protocol.Order{Kind: protocol.OrderCheck, Bay: at(1), Check: check.Quick, Run: quick.ID})
			return err
		})
		for _, kind := range []check.Kind{check.Conveyance, check.Selective} {
			d.order("a "+string(kind)+" self-test", 5*time.Minute, protocol.Order{
				Kind: protocol.OrderCheck, Check: kind, Bay: at(1), Spans: []ata.Span{{First: 0, Last: 99}},
			})
		}
		whole := d.order("a whole sweep", 2*time.Second, protocol.Order{
			Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), Limit: check.Limit{Share: 5},
		})
		d.order("a check meanwhile", 0, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1)})
		d.order("a look at its volumes meanwhile", 0, protocol.Order{Kind: protocol.OrderVolumes, Bay: at(1)})
		d.order("it goes on already", 0, protocol.Order{Kind: protocol.OrderResume, Bay: at(1), Run: whole.ID})
		d.order("another run waits", 0, protocol.Order{Kind: protocol.OrderPause, Bay: at(1), Run: quick.ID})
		d.order("it waits", 2*time.Second, protocol.Order{Kind: protocol.OrderPause, Bay: at(1), Run: whole.ID})
		d.order("it waits again", 0, protocol.Order{Kind: protocol.OrderPause, Bay: at(1), Run: whole.ID})
		d.order("a reading while it waits", 5*time.Second, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), ID: "asked"})
		d.order("it goes on", 5*time.Second, protocol.Order{Kind: protocol.OrderResume, Bay: at(1), Run: whole.ID})
		d.order("a reading while it goes on", 5*time.Second, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), ID: "asked"})
		remove("its drive leaves", 1)
		d.order("the drive's run waits meanwhile", 0, protocol.Order{Kind: protocol.OrderPause, Bay: at(1), Run: whole.ID})
		insert("it comes back in another bay", 3, first)
		d.order("the run is stopped", 2*time.Second, protocol.Order{Kind: protocol.OrderStop, Bay: at(3), Run: whole.ID})
		test := d.order("a check with the drive's own test", 4*time.Second, protocol.Order{
			Kind: protocol.OrderCheck, Check: check.Extended, Bay: at(3),
		})
		d.order("a test waits", 0, protocol.Order{Kind: protocol.OrderPause, Bay: at(3), Run: test.ID})
		remove("its drive leaves during the test", 3)
		d.order("the run is stopped while its drive is away", 2*time.Second, protocol.Order{
			Kind: protocol.OrderStop, Bay: at(3), Run: test.ID,
		})

		// Drives that make trouble
		for name, change := range vector.ByName(map[string]func(s *sim.Spec){
			"an adapter without a drive":          func(s *sim.Spec) { s.Awkward.NoMedium = true },
			"it cannot be opened":                 func(s *sim.Spec) { s.Awkward.NoOpen = true },
			"an adapter that passes nothing":      func(s *sim.Spec) { s.Awkward.NoPass, s.Awkward.Adapter = true, "Oakum  Bridge" },
			"the same adapter again":              func(s *sim.Spec) { s.Awkward.NoPass, s.Awkward.Adapter = true, "Oakum  Bridge" },
			"an adapter of twelve bytes":          func(s *sim.Spec) { s.Awkward.Only12, s.Awkward.Adapter = true, "Oakum  Twelve" },
			"damaged SMART data":                  func(s *sim.Spec) { s.Awkward.Garbage = true },
			"SMART is switched off":               func(s *sim.Spec) { s.Awkward.SMARTOff = true },
			"asleep":                              func(s *sim.Spec) { s.Awkward.Asleep = true },
			"behind a controller":                 func(s *sim.Spec) { s.Awkward.Behind = "a RAID controller" },
			"it hangs when it is identified":      func(s *sim.Spec) { s.Awkward.HangsOn = ata.IdentifyDevice },
			"it hangs when its SMART is read":     func(s *sim.Spec) { s.Awkward.HangsOn = ata.SMART },
			"it vanishes at the third command":    func(s *sim.Spec) { s.Awkward.VanishAfter = 2 },
			"it vanishes during a check":          func(s *sim.Spec) { s.Awkward.VanishAfter = 15 },
			"self-tests fail":                     func(s *sim.Spec) { s.Unread, s.FirstLBA = sim.Course{From: 1}, 4711 },
			"it has no self-tests":                func(s *sim.Spec) { s.Identity.SelfTestSupported = false },
			"it has more self-tests":              func(s *sim.Spec) { s.MoreTests = true },
			"it hangs at an ordered reading":      func(s *sim.Spec) { s.Awkward.HangsAfter = 12 },
			"it hangs at a check's first reading": func(s *sim.Spec) { s.Awkward.HangsAfter = 24 },
			"it hangs at a check's self-test":     func(s *sim.Spec) { s.Awkward.HangsAfter = 32 },
			"it vanishes at a check's self-test":  func(s *sim.Spec) { s.Awkward.VanishAfter = 32 },
			"it hangs at a check's sweep":         func(s *sim.Spec) { s.Awkward.HangsAfter = 60 },
		}) {
			s := disk("KVA077M613")
			s.Counters = append(s.Counters, sim.Counter{ID: 194, Kind: sim.Temperature})
			change(&s)
			insert(name, 1, s)
			d.order(name+", read", 2*time.Minute, protocol.Order{Kind: protocol.OrderRead, Bay: at(1), ID: "asked"})
			r := d.order(name+", checked", 4*time.Minute, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1)})
			if s.MoreTests {
				d.order(name+", conveyance", 5*time.Minute, protocol.Order{Kind: protocol.OrderCheck, Check: check.Conveyance, Bay: at(1)})
				d.order(name+", selective", 5*time.Minute, protocol.Order{
					Kind: protocol.OrderCheck, Check: check.Selective, Bay: at(1), Spans: []ata.Span{{First: 9, Last: 99}},
				})
			}
			d.order(name+", stopped", 2*time.Second, protocol.Order{Kind: protocol.OrderStop, Bay: at(1), Run: r.ID})
			remove(name+", gone", 1)
		}

		// Heat, of which a sweep waits
		for name, heat := range vector.ByName(map[string]sim.Heat{
			"just not too hot": {Base: 57}, "just too hot": {Base: 58}, "just cool enough": {Base: 50},
		}) {
			s := scratched("KVA077M614", 4_000_000_000)
			s.Unread.From, s.Heat = 0, heat
			insert(name, 1, s)
			run := d.order(name+", swept", 3*time.Second, protocol.Order{
				Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), Limit: check.Limit{Share: 5},
			})
			d.order(name+", goes on all the same", 2*time.Second, protocol.Order{Kind: protocol.OrderResume, Bay: at(1), Run: run.ID})
			d.order(name+", stopped", 2*time.Second, protocol.Order{Kind: protocol.OrderStop, Bay: at(1), Run: run.ID})
			remove(name+", gone", 1)
		}

		hot := scratched("KVA077M615", 4_000_000_000)
		hot.Unread.From, hot.Heat = 0, sim.Heat{Base: 59}
		insert("a drive that is too hot", 1, hot)
		warm := d.order("it is swept", 3*time.Second, protocol.Order{
			Kind: protocol.OrderCheck, Check: check.Whole, Bay: at(1), Limit: check.Limit{Share: 5},
		})
		for _, celsius := range []float64{51, 50, 57, 58} {
			d.does(fmt.Sprintf("it is at %.0f degrees", celsius), 2*time.Minute, func() error {
				source.Change("one", func(s *sim.Spec) { s.Heat.Base = celsius })
				return nil
			})
		}
		d.order("a person lets it go on at 58 degrees", 2*time.Second, protocol.Order{
			Kind: protocol.OrderResume, Bay: at(1), Run: warm.ID,
		})
		d.does("its medium leaves the adapter", 5*time.Second, func() error {
			source.Change("one", func(s *sim.Spec) { s.Awkward.NoMedium = true })
			return nil
		})
		d.does("and comes back", 20*time.Second, func() error {
			source.Change("one", func(s *sim.Spec) { s.Awkward.NoMedium, s.Heat.Base = false, 30 })
			return nil
		})
		d.order("the sweep is stopped", 2*time.Second, protocol.Order{Kind: protocol.OrderStop, Bay: at(1), Run: warm.ID})
		remove("it leaves", 1)

		for what, serial := range vector.ByName(map[string]string{"it names itself no more": "", "it has another name": "KVA077M617"}) {
			insert(what+", before", 1, disk("KVA077M616"))
			d.does(what, time.Second, func() error {
				source.Change("one", func(s *sim.Spec) { s.Identity.Serial = serial })
				return nil
			})
			d.order(what+", checked", time.Minute, protocol.Order{Kind: protocol.OrderCheck, Bay: at(1)})
			remove(what+", gone", 1)
		}

		// Surfaces to their end, and what is written to them
		serial := 900
		for name, o := range vector.ByName(map[string]struct {
			change func(s *sim.Spec)
			order  protocol.Order
			label  string // read off it; empty: as it is
		}{
			"scratched, whole":       {nil, protocol.Order{Check: check.Whole}, ""},
			"scratched, sampled":     {nil, protocol.Order{Check: check.Spot}, ""},
			"scratched, extended":    {func(s *sim.Spec) { s.Unread.From = 0 }, protocol.Order{Check: check.Extended}, ""},
			"scratched, to 3 places": {nil, protocol.Order{Check: check.Whole, Limit: check.Limit{StopAt: 3}}, ""},
			"flash, half empty, whole": {
				func(s *sim.Spec) { s.Identity.RotationRate, s.InUse = 1, 0.5 }, protocol.Order{Check: check.Whole}, "",
			},
			"released, mended":              {nil, order(check.Mend, 100_000, 100_040, 120_000), ""},
			"released, stubborn, mended":    {func(s *sim.Spec) { s.Stubborn = true }, order(check.Mend, 100_000, 100_040, 120_000), ""},
			"released, renewed":             {nil, order(check.Renew), ""},
			"released, overwritten":         {func(s *sim.Spec) { s.Unread.From = 0 }, order(check.Overwrite), ""},
			"released, of less room":        {func(s *sim.Spec) { s.Holds = 140_000 }, order(check.Overwrite), ""},
			"released, mounted, mended":     {func(s *sim.Spec) { s.Awkward.InUse = "mounted at /srv" }, order(check.Mend, 100_000), ""},
			"released to mend, overwritten": {nil, released(order(check.Overwrite), check.Mend), ""},
			"released, another label read":  {nil, order(check.Mend, 100_000), "B077M511"},
			"released, a short label read":  {nil, order(check.Mend, 100_000), "M9"},
		}) {
			serial++
			s := scratched(fmt.Sprintf("KVA077M%d", serial), 200_000)
			s.Counters = append(s.Counters, sim.Counter{ID: 5, Value: 100}, sim.Counter{ID: 197, Value: 100, Course: sim.Course{From: 9}})
			if o.change != nil {
				o.change(&s)
			}
			insert(name+": the drive", 1, s)
			o.order.Kind, o.order.Bay, o.order.Key = protocol.OrderCheck, at(1), key(s.Identity.Serial)
			if w := o.order.Rework; w != nil {
				w.Release.Key, w.Release.Nonce = o.order.Key, name
				w.Ending = cmp.Or(o.label, s.Identity.Serial[2:])
			}
			wrote := source.Wrote("one")
			d.order(name, 20*time.Minute, o.order)
			d.book.Line("%d sectors of it were written", source.Wrote("one")-wrote)
			remove(name+": it leaves", 1)
		}

		// The bays themselves
		d.order("a bay is set", time.Second, protocol.Order{
			Kind: protocol.OrderSetBay, Bay: at(2), Setting: &protocol.BaySetting{Number: 7, Label: "left dock", Hidden: true},
		})
		d.order("bays in order", time.Second, protocol.Order{Kind: protocol.OrderArrange, Bay: at(1), Arrangement: []int{7, 3}})
		d.order("bays in an order with one that is none", 0, protocol.Order{Kind: protocol.OrderArrange, Bay: at(1), Arrangement: []int{8}})
		d.book.Close()
	})
}

// released narrows the release of an order.
func released(o protocol.Order, scope check.Kind) protocol.Order {
	o.Rework.Release.Scope = scope
	return o
}
