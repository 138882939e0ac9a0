package whole_test

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/volume"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	recordfile "hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/vector"
)

// day is a shop whose every use case is written down: what it gives, what it orders of the bench, and what changes in the records.
type day struct {
	*place
	book *vector.Book
	kept content
	rows map[string][]string
}

// random is what differs from one run of the tests to the next.
var random = regexp.MustCompile(`X'[0-9A-F]{16,}'|[A-Z2-7]{26}|"seed":\d+|"Seed":\d+|"said":"[A-Za-z0-9+/=]{20,}"`)

func (d *day) line(prefix, text string) {
	d.book.Line("%s%s", prefix, random.ReplaceAllStringFunc(text, func(s string) string { return fmt.Sprintf("(%d)", len(s)/8) }))
}

// does carries out a use case a minute after the one before, and writes down what comes of it.
func does[T any](d *day, what string, f func() (T, error)) T {
	d.t.Helper()
	d.clock.at = d.clock.at.Add(time.Minute)
	ordered := len(d.bench.ordered())
	got, err := f()
	d.Wait()
	d.book.Head(what)
	if err != nil {
		d.line("error ", fmt.Sprintf("%T: %s", err, err))
	} else if v := reflect.ValueOf(got); v.Kind() == reflect.Slice {
		for i := range v.Len() {
			d.tell("gives ", v.Index(i).Interface())
		}
	} else if !reflect.ValueOf(&got).Elem().IsZero() {
		d.tell("gives ", got)
	}
	for _, o := range d.bench.ordered()[ordered:] {
		d.tell("orders ", o)
	}
	for _, line := range d.logs.Take() {
		d.line("logs ", line)
	}
	for _, table := range d.kept.tables {
		if table == "sqlite_sequence" || table == "bench" { // how far each has counted
			continue
		}
		now := d.kept.rows(d.t, table)
		for _, row := range d.rows[table] {
			if !slices.Contains(now, row) {
				d.line("- "+table+" ", row)
			}
		}
		for _, row := range now {
			if !slices.Contains(d.rows[table], row) {
				d.line("+ "+table+" ", row)
			}
		}
		d.rows[table] = now
	}
	return got
}

func (d *day) tell(prefix string, v any) {
	b, err := json.Marshal(v)
	if err != nil { // a map by something that is no text
		d.line(prefix, vector.Say(v))
		return
	}
	d.line(prefix, string(b))
}

// done is a use case that gives nothing.
func done(d *day, what string, f func() error) {
	d.t.Helper()
	does(d, what, func() (struct{}, error) { return struct{}{}, f() })
}

// reports has the bench report something.
func (d *day) reports(what string, r protocol.Report) {
	d.t.Helper()
	d.taken++
	r.Seq = int64(d.taken)
	done(d, what, func() error { return d.Take(d.t.Context(), "", r) })
}

func (d *day) reading(what string, bay int, s state, run int64, step check.StepKind) {
	d.t.Helper()
	d.reports(what, protocol.Report{Reading: &protocol.Reading{
		ID: what, Bay: drive.Bay{Number: bay}, Key: s.key(), At: d.clock.at.Add(time.Minute), Pages: s.pages(), Tool: "test", Run: run,
		Step: step,
	}})
}

// What a shop does on a day, and everything it refuses: testdata/day.txt.
func TestADayInAShop(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		d := &day{place: p, book: vector.Open(t, "day.txt"), kept: contentOf(t, p.file), rows: map[string][]string{}}
		for _, table := range d.kept.tables {
			d.rows[table] = d.kept.rows(t, table)
		}
		ctx := t.Context()
		dov := shop.Actor{Name: "Dov", Role: access.Lead, Via: access.OpenShop}
		at := func(n int) drive.Bay { return drive.Bay{Number: n} }
		answering := func(n int, s state) protocol.Bay {
			return protocol.Bay{
				ID: at(n), Address: drive.Address(fmt.Sprintf("sim-%d", n)), Connection: protocol.Answering, Key: s.key(),
				Device: drive.Attachment{Node: "sdx", Bytes: 2_000_398_934_016},
			}
		}
		empty := func(n int) protocol.Bay {
			return protocol.Bay{ID: at(n), Address: drive.Address(fmt.Sprintf("sim-%d", n)), Connection: protocol.Empty}
		}
		silent := func(n int) protocol.Bay { b := empty(n); b.Connection, b.Attempts = protocol.Silent, 1; return b }
		one, two := tested("KVA077M511", 9_000), tested("KVA077M512", 20_000)
		for n := range 4 {
			b := empty(n + 1)
			d.reports(fmt.Sprintf("bay %d is empty", n+1), protocol.Report{Bay: &b})
		}
		b := answering(2, one)
		d.reports("a drive answers in bay 2", protocol.Report{Bay: &b})
		d.reading("it is read", 2, one, 0, "")
		find := func(name string) shop.Drive { return p.drive(name) }
		done(d, "a drive nobody knows", func() error { _, err := p.FindDrive(ctx, "9Q9"); return err })
		done(d, "too short a name", func() error { _, err := p.FindDrive(ctx, "7"); return err })

		// Intake
		for what, i := range vector.ByName(map[string]shop.Intake{
			"an intake of a month that is none": {Bay: at(2), Made: "2021-13"},
			"an intake on a lot that is none":   {Bay: at(2), Lot: 9},
			"an intake in a bay that is none":   {Bay: at(9)},
			"a release without an owner":        {Bay: at(2), Release: &shop.Release{Scope: check.Mend}},
			"a release for a check":             {Bay: at(2), Release: &shop.Release{Scope: check.Quick, Owner: "Ms Adeyemi-Holt"}},
			"an intake for a duty that is none": {Bay: at(2), Duty: "forever"},
		}) {
			does(d, what, func() (shop.Intake, error) { return p.TakeIn(ctx, dov, i) })
		}
		wanted := does(d, "an intake with wanted data", func() (shop.Intake, error) {
			return p.TakeIn(ctx, dov, shop.Intake{
				Bay: at(2), Ticket: "2214", Customer: "Pellwick Spit", Reference: "P-7", Complaint: "clicks at times", Made: "2021-08",
				Label: "2 TB", Wanted: true, Duty: drive.Carry,
			})
		})
		does(d, "a check while data is at risk", func() (check.Run, error) {
			return p.Check(ctx, dov, find("7M511"), runs.CheckOrder{Kind: check.Quick})
		})
		ordered := does(d, "a check all the same", func() (check.Run, error) {
			return p.Check(ctx, dov, find("7M511"), runs.CheckOrder{Kind: check.Whole, Despite: " the owner insists "})
		})
		does(d, "a handover while a run goes on", func() (shop.Intake, error) {
			return p.HandOver(ctx, dov, wanted.ID, shop.Handover{Goes: shop.Returned})
		})
		does(d, "a rework of what is not released", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M511"), runs.Wish{Kind: check.Mend, Ending: "A077M511"})
		})
		does(d, "the run waits", func() (check.Run, error) { return p.Pause(ctx, dov, ordered.ID, true) })
		does(d, "the run goes on", func() (check.Run, error) { return p.Pause(ctx, dov, ordered.ID, false) })
		does(d, "a run that is none is stopped", func() (check.Run, error) { return p.StopRun(ctx, dov, 99) })
		worse := one
		worse.pending, worse.reallocated, worse.hours = 12, 3, 9_002
		d.reading("the reading before", 2, worse, ordered.ID, check.ReadingBefore)
		ranges := []surface.Range{scratch(400_000, 8), scratch(400_016, 16), {
			Extent: surface.Extent{LBA: 900_000, Sectors: 2048}, Cause: surface.Damaged,
		}}
		whole := func(run int64, kind check.StepKind, share float64, ranges ...surface.Range) protocol.Report {
			g, err := surface.NewGeometry(2_000_398_934_016, 512, 4096, 0, 7200, 0)
			require.NoError(t, err)
			standing := check.Standing{Geometry: g, Share: share}
			for _, r := range ranges {
				if r.Cause.Unreadable() {
					standing.Unreadable += g.CountPhysical(r.Extent)
				}
			}
			return protocol.Report{Sweep: &check.Result{
				Key: one.key(),
				Sweep: check.Sweep{
					Run: run, Step: 1, Kind: kind, Began: d.clock.at.Add(-time.Hour), Ended: d.clock.at.Add(time.Minute),
					Standing: standing,
				},
				Found: check.Found{
					Ranges: ranges,
					Slow:   []surface.Slow{{Extent: surface.Extent{LBA: 70_000, Sectors: 2048}, Class: 4, Again: 4, Read: true}},
				},
			}}
		}
		ended := func(r check.Run, outcome check.Outcome, kinds ...check.StepKind) protocol.Report {
			r.Key, r.Bay = one.key(), at(2)
			r.State, r.Outcome, r.Steps, r.Ended = check.Done, outcome, nil, d.clock.at.Add(time.Minute)
			for _, k := range kinds {
				r.Steps = append(r.Steps, check.Step{Kind: k, State: check.StepDone, Standing: &check.Standing{}})
			}
			return protocol.Report{Run: &r}
		}
		d.reports("its sweep", whole(ordered.ID, check.WholeSweep, 1, ranges...))
		d.reports("its end", ended(ordered, check.Failed, check.ReadingBefore, check.WholeSweep))
		d.reports("its end once more", ended(ordered, check.Failed, check.ReadingBefore, check.WholeSweep))
		does(d, "a run that is done is stopped", func() (check.Run, error) { return p.StopRun(ctx, dov, ordered.ID) })
		does(d, "the run", func() (check.Run, error) { return p.RunByID(ctx, ordered.ID) })
		does(d, "what its sweep found", func() (check.Found, error) { _, f, err := p.SweepOf(ctx, ordered.ID); return f, err })
		does(d, "a sweep that is none", func() (check.Found, error) { _, f, err := p.SweepOf(ctx, 98); return f, err })
		does(d, "a copy", func() (shop.Intake, error) { return p.RecordCopy(ctx, dov, at(2)) })
		does(d, "a copy of nothing", func() (shop.Intake, error) { return p.RecordCopy(ctx, dov, at(3)) })

		// Verdicts
		does(d, "the verdict", func() (shop.Verdict, error) { return p.Verdict(ctx, find("7M511")) })
		v := p.verdict("7M511")
		for what, f := range vector.ByName(map[string]func() (shop.Verdict, error){
			"a signature without a reason for another grade": func() (shop.Verdict, error) {
				return p.Sign(ctx, dov, find("7M511"), v.Seq, drive.Healthy, " ")
			},
			"a signature under an older verdict": func() (shop.Verdict, error) {
				return p.Sign(ctx, dov, find("7M511"), v.Seq-1, v.Grade, "")
			},
			"a signature under a verdict to come": func() (shop.Verdict, error) {
				return p.Sign(ctx, dov, find("7M511"), v.Seq+1, v.Grade, "")
			},
		}) {
			does(d, what, f)
		}
		does(d, "signatures together where one is to be replaced", func() ([]any, error) {
			signed, left, err := p.SignTogether(ctx, dov, []shop.Drive{find("7M511")})
			return []any{signed, left}, err
		})
		does(d, "a signature that overrules", func() (shop.Verdict, error) {
			return p.Sign(ctx, dov, find("7M511"), v.Seq, drive.Degrading, "a spare for the cellar")
		})
		does(d, "a signature on a signed one", func() (shop.Verdict, error) {
			return p.Sign(ctx, dov, find("7M511"), 0, drive.Undecided, "")
		})
		done(d, "a duty that is none", func() error { return p.SetDuty(ctx, dov, find("7M511"), "forever") })
		done(d, "another duty", func() error { return p.SetDuty(ctx, dov, find("7M511"), drive.Continuous) })
		done(d, "the same duty", func() error { return p.SetDuty(ctx, dov, find("7M511"), drive.Continuous) })
		does(d, "the history", func() ([]desk.Entry, error) { return p.History(ctx, find("7M511")) })
		does(d, "the verdicts", func() ([]shop.Verdict, error) { return p.Verdicts(ctx, find("7M511")) })

		// Rework
		does(d, "a release", func() (shop.Intake, error) {
			return p.RecordRelease(ctx, dov, find("7M511"), &shop.Release{Scope: check.Mend, Owner: "Pellwick Spit, by letter"})
		})
		does(d, "compared the other way round", func() (bool, error) {
			c, err := p.Compare(ctx, find("7M511"), 2, 1)
			return c.Swapped && c.Then.Seq == 1 && c.Now.Seq == 2, err
		})
		does(d, "whether it could be overwritten", func() (runs.Ready, error) { return p.AskRework(ctx, find("7M511"), check.Overwrite) })
		does(d, "whether it could be mended", func() (runs.Ready, error) { return p.AskRework(ctx, find("7M511"), check.Mend) })
		rework := does(d, "a rework", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M511"), runs.Wish{Kind: check.Mend, Ending: " A077M511 "})
		})
		d.reading("the reading before it", 2, worse, rework.ID, check.ReadingBefore)
		d.reports("what it wrote", whole(rework.ID, check.Mending, 1, scratch(400_016, 8)))
		mended := worse
		mended.pending, mended.reallocated, mended.hours = 0, 5, 9_003
		d.reading("the reading after it", 2, mended, rework.ID, check.ReadingAfter)
		end := ended(rework, check.Passed, check.ReadingBefore, check.Mending, check.ReadingAfter)
		end.Run.Steps[1].Note = wording.Say(wording.StoppedBy, wording.Values{"by": "Dov"})
		end.Run.Steps[1].Standing.Elsewhere = &surface.Elsewhere{LBA: 7, From: 9}
		d.reports("its end", end)
		does(d, "the rework", func() (runs.ReworkView, error) { return p.ReworkOf(ctx, rework.ID) })
		does(d, "a check as a rework", func() (runs.ReworkView, error) { return p.ReworkOf(ctx, ordered.ID) })
		sameDay := does(d, "a whole sweep on the same day", func() (check.Run, error) {
			return p.Check(ctx, dov, find("7M511"), runs.CheckOrder{Kind: check.Whole})
		})
		d.reports("it finds nothing", whole(sameDay.ID, check.WholeSweep, 1))
		d.reports("its end", ended(sameDay, check.Passed, check.WholeSweep))
		does(d, "whether the rework held is open still", func() (runs.ReworkView, error) { return p.ReworkOf(ctx, rework.ID) })
		d.clock.at = d.clock.at.Add(30 * time.Hour)
		does(d, "a rework on an old reading", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M511"), runs.Wish{Kind: check.Mend, Ending: "A077M511"})
		})
		next := does(d, "a whole sweep on a later day", func() (check.Run, error) {
			return p.Check(ctx, dov, find("7M511"), runs.CheckOrder{Kind: check.Whole})
		})
		d.reports("it finds a place again", whole(next.ID, check.WholeSweep, 1, scratch(400_000, 8), scratch(7_000_000, 8)))
		d.reports("its end", ended(next, check.Failed, check.WholeSweep))
		does(d, "the rework did not hold", func() (runs.ReworkView, error) { return p.ReworkOf(ctx, rework.ID) })
		does(d, "both sweeps compared", func() ([]surface.Difference, error) { return p.CompareSweeps(ctx, ordered.ID, next.ID) })
		does(d, "all sweeps", func() ([]shop.Sweep, error) { return p.Sweeps(ctx, find("7M511")) })
		does(d, "two readings compared", func() (any, error) { return p.Compare(ctx, find("7M511"), 1, 4) })
		does(d, "a reading that is none", func() (any, error) { return p.Compare(ctx, find("7M511"), 1, 44) })
		does(d, "the courses", func() (any, error) { c, _, err := p.Courses(ctx, find("7M511")); return c, err })
		for what, spans := range vector.ByName(map[string][]ata.Span{
			"a selective self-test of nothing":     nil,
			"one of six spans":                     make([]ata.Span, 6),
			"one that ends before it begins":       {{First: 9, Last: 8}},
			"one beyond the last sector":           {{First: 9, Last: 3_906_250_168}},
			"one of the first and the last sector": {{First: 0, Last: 0}, {First: 3_906_250_167, Last: 3_906_250_167}},
		}) {
			does(d, what, func() (check.Run, error) {
				return p.Check(ctx, dov, find("7M511"), runs.CheckOrder{Kind: check.Selective, Spans: spans})
			})
		}

		// A lot, its plan and its end
		does(d, "a lot of a check that is none", func() (shop.Lot, error) { return p.OpenLot(ctx, dov, shop.Lot{Check: "always"}) })
		does(d, "a lot for a duty that is none", func() (shop.Lot, error) { return p.OpenLot(ctx, dov, shop.Lot{Duty: "forever"}) })
		lot := does(d, "a lot", func() (shop.Lot, error) {
			return p.OpenLot(ctx, dov, shop.Lot{
				Ticket: "2240", Customer: "Quillet Ferry office", Duty: drive.Everyday, Expected: 9, Check: check.Quick,
			})
		})
		does(d, "a second lot", func() (shop.Lot, error) { return p.OpenLot(ctx, dov, shop.Lot{}) })
		b2 := answering(3, two)
		d.reports("a drive answers in bay 3", protocol.Report{Bay: &b2})
		d.reading("and is read", 3, two, 0, "")
		does(d, "a signature on what is undecided", func() (shop.Verdict, error) {
			return p.Sign(ctx, dov, find("7M512"), 0, drive.Undecided, "")
		})
		does(d, "the lot", func() (desk.LotView, error) { return p.LotByID(ctx, lot.ID) })
		does(d, "the queue", func() (runs.Queue, error) { return p.Queue(ctx, "") })
		does(d, "the queue of another bench", func() (runs.Queue, error) { return p.Queue(ctx, "field") })
		does(d, "a plan of a sweep by hand", func() (runs.Queue, error) { return p.SetPlan(ctx, dov, "", check.Selective) })
		does(d, "a plan", func() (runs.Queue, error) { return p.SetPlan(ctx, dov, "", check.Extended) })
		does(d, "no plan", func() (runs.Queue, error) { return p.SetPlan(ctx, dov, "", "") })
		does(d, "siblings", func() (any, error) { return p.Siblings(ctx, find("7M512")) })
		d.clock.at = d.clock.at.Add(9 * time.Hour)
		two.hours += 8
		d.reading("it is read again", 3, two, 0, "")
		does(d, "signatures together", func() ([]any, error) {
			signed, left, err := p.SignTogether(ctx, dov, []shop.Drive{find("7M511"), find("7M512")})
			return []any{signed, left}, err
		})
		does(d, "the end of the lot", func() (shop.Lot, error) { return p.EndLot(ctx, dov, lot.ID) })
		does(d, "its end again", func() (shop.Lot, error) { return p.EndLot(ctx, dov, lot.ID) })
		does(d, "lots", func() ([]shop.Lot, error) { return p.Lots(ctx) })

		// A drive that does not answer
		b3 := silent(4)
		d.reports("somebody says there is a drive in bay 4", protocol.Report{Bay: &b3})
		mute := does(d, "an intake of what does not answer", func() (shop.Intake, error) {
			return p.TakeIn(ctx, dov, shop.Intake{Bay: at(4), Ticket: "2250", Customer: "Pellwick Spit"})
		})
		done(d, "an attempt", func() error { return p.Attempt(ctx, dov, at(4)) })
		does(d, "it is tried in bay 1", func() (shop.Intake, error) { return p.MoveIntake(ctx, dov, mute.ID, at(1)) })
		does(d, "a drive that named itself is tried", func() (shop.Intake, error) { return p.MoveIntake(ctx, dov, wanted.ID, at(1)) })
		does(d, "another intake in the same bay", func() (shop.Intake, error) {
			return p.TakeIn(ctx, dov, shop.Intake{Bay: at(1), Clicks: true})
		})
		does(d, "and in its place", func() (shop.Intake, error) {
			return p.TakeInstead(ctx, dov, shop.Intake{Bay: at(1), Clicks: true}, &desk.Instead{Ticket: "2250", Customer: "Pellwick Spit"})
		})
		right, clicks, month := desk.Correction{}, false, "2024-02"
		does(d, "nothing is corrected", func() (shop.Intake, error) { return p.ChangeIntake(ctx, dov, mute.ID, right) })
		right = desk.Correction{Ticket: &month, Complaint: &month, Made: &month, Label: &month, Reference: &month}
		does(d, "an intake that ended is corrected", func() (shop.Intake, error) { return p.ChangeIntake(ctx, dov, mute.ID, right) })
		right = desk.Correction{Wanted: new(true)}
		does(d, "what it is cannot be", func() (shop.Intake, error) { return p.ChangeIntake(ctx, dov, mute.ID, right) })
		right = desk.Correction{Clicks: &clicks}
		does(d, "of the open one it can", func() (shop.Intake, error) { return p.ChangeIntake(ctx, dov, mute.ID+1, right) })
		done(d, "bay 1 is empty after all", func() error { return p.Vacate(ctx, dov, at(1)) })
		does(d, "intakes", func() ([]shop.Intake, error) { return p.Intakes(ctx, shop.IntakeQuery{}) })
		does(d, "open intakes of a customer", func() ([]shop.Intake, error) {
			return p.Intakes(ctx, shop.IntakeQuery{Open: true, Limit: 1})
		})

		// Bays
		number, label, hidden, long := 4, "left dock", true, strings.Repeat("x", 41)
		does(d, "a label of 41 characters", func() (desk.BayView, error) {
			return p.SetBay(ctx, dov, at(3), desk.BaySetting{Label: &long})
		})
		most := strings.Repeat("x", 40)
		does(d, "a label of 40 characters", func() (desk.BayView, error) {
			return p.SetBay(ctx, dov, at(3), desk.BaySetting{Label: &most})
		})
		does(d, "another number, label, hidden", func() (desk.BayView, error) {
			return p.SetBay(ctx, dov, at(3), desk.BaySetting{Number: &number, Label: &label, Hidden: &hidden})
		})
		done(d, "an order of no bays", func() error { return p.Arrange(ctx, dov, nil) })
		done(d, "an order that names one twice", func() error { return p.Arrange(ctx, dov, []drive.Bay{at(1), at(1)}) })
		done(d, "an order", func() error { return p.Arrange(ctx, dov, []drive.Bay{at(3), at(1)}) })
		does(d, "bays", func() ([]desk.BayView, error) { return p.Bays(ctx) })

		open, err := p.Runs(ctx, shop.RunQuery{Open: true})
		require.NoError(t, err)
		for _, r := range open {
			does(d, fmt.Sprintf("run %d is stopped", r.ID), func() (check.Run, error) { return p.StopRun(ctx, dov, r.ID) })
			r.State, r.Outcome, r.Reason = check.Done, check.Stopped, wording.Say(wording.StoppedBy, wording.Values{"by": "Dov"})
			d.reports(fmt.Sprintf("run %d ends", r.ID), protocol.Report{Run: &r})
		}
		d.reports("a drive answers again in bay 4", protocol.Report{Bay: &b3})
		waits := does(d, "an intake waits in bay 4", func() (shop.Intake, error) {
			return p.TakeIn(ctx, dov, shop.Intake{Bay: at(4), Ticket: "2251", Customer: "Quillet Ferry office"})
		})
		number = 4
		does(d, "bays 3 and 4 change numbers", func() (desk.BayView, error) {
			return p.SetBay(ctx, dov, at(3), desk.BaySetting{Number: &number})
		})
		does(d, "what waits goes to another bench", func() (shop.Intake, error) {
			return p.MoveIntake(ctx, dov, waits.ID, drive.Bay{Bench: "field", Number: 1})
		})
		third, fourth := tested("KVA077M613", 7_000), tested("KVA077M614", 8_000)
		d.reading("a third drive is read", 1, third, 0, "")
		b5 := answering(1, third)
		d.reports("it is in bay 1", protocol.Report{Bay: &b5})
		does(d, "its data is wanted", func() (shop.Intake, error) {
			return p.TakeIn(ctx, dov, shop.Intake{Bay: at(1), Customer: "Quillet Ferry office", Wanted: true})
		})
		for what, change := range vector.ByName(map[string]func(b *protocol.Bay){
			"as it is":                       func(*protocol.Bay) {},
			"in use":                         func(b *protocol.Bay) { b.Device.InUse = "mounted at /srv" },
			"protected":                      func(b *protocol.Bay) { b.WriteProtected = true },
			"written":                        func(b *protocol.Bay) { b.Device.Written = 4096 },
			"the same drive by another path": func(b *protocol.Bay) { b.ID = at(3) },
		}) {
			for _, s := range []state{one, third} {
				b := answering(1, s)
				change(&b)
				d.reports(what+", "+s.serial, protocol.Report{Bay: &b})
				does(d, what+", "+s.serial+" on the bench", func() (desk.BayView, error) { return p.Bay(ctx, b.ID) })
			}
		}
		for _, class := range []drive.FaultClass{
			drive.FaultNotPassed, drive.FaultBehind, drive.FaultVirtual, drive.FaultNoMedium, drive.FaultVanished, drive.FaultBadAnswer,
			drive.FaultNotReady, drive.FaultLocked,
		} {
			b := answering(1, third)
			b.Connection, b.Fault = protocol.Unread, &drive.Fault{Class: class, What: "IDENTIFY DEVICE", Cause: "it says no"}
			d.reports("unread: "+string(class), protocol.Report{Bay: &b})
			does(d, string(class)+" on the bench", func() (desk.BayView, error) { return p.Bay(ctx, b.ID) })
		}
		for _, what := range []string{"SMART READ DATA", "command B0h"} {
			b := answering(1, third)
			b.Connection, b.Fault = protocol.StuckBay, &drive.Fault{Class: drive.FaultStuck, What: what, Cause: "no answer for 15 s"}
			d.reports("stuck at "+what, protocol.Report{Bay: &b})
			does(d, "stuck at "+what+", on the bench", func() (desk.BayView, error) { return p.Bay(ctx, b.ID) })
		}
		b4 := answering(1, fourth)
		d.reports("a fourth drive", protocol.Report{Bay: &b4})
		does(d, "before it is read", func() (desk.BayView, error) { return p.Bay(ctx, at(1)) })
		d.reading("it is read for the first time", 1, fourth, 0, "")
		does(d, "after it is read", func() (desk.BayView, error) { return p.Bay(ctx, at(1)) })
		d.reports("its volumes", protocol.Report{Volumes: &protocol.Volumes{
			ID: "seen", By: "Dov", Bay: at(1), Key: fourth.key(), At: d.clock.at, Bytes: 1 << 40, Sector: 512,
		}})
		does(d, "what is on it", func() (any, error) { return p.Volumes(ctx, find("7M614")) })
		table := make([]byte, 512)
		copy(table[446:], []byte{0, 0, 0, 0, 0x83, 0, 0, 0, 8, 0, 0, 0, 0, 16, 0, 0})
		table[510], table[511] = 0x55, 0xAA
		for what, seen := range vector.ByName(map[string]protocol.Volumes{
			"a partition of an unknown kind": {Pieces: []volume.Piece{{Length: 512, Bytes: table}}},
			"one that a checker finds damaged": {
				Pieces: []volume.Piece{{Length: 512, Bytes: table}},
				Checks: []volume.Check{{Partition: 1, Program: "e2fsck", Result: volume.FoundDamaged, Said: "clean it"}},
			},
			"one that a checker finds clean": {
				Pieces: []volume.Piece{{Length: 512, Bytes: table}}, Checks: []volume.Check{{Partition: 1, Result: volume.FoundClean}},
			},
			"a table that cannot be read": {Pieces: []volume.Piece{{Length: 512, Fault: "no answer"}}},
			"a piece of another length":   {Pieces: []volume.Piece{{Length: 511, Bytes: table}}},
		}) {
			for _, s := range []state{fourth, one} { // undecided, to be replaced
				seen.ID, seen.Key, seen.At, seen.Bytes, seen.Sector = what+s.serial, s.key(), d.clock.at, 1<<40, 512
				d.reports(what+" on "+s.serial, protocol.Report{Volumes: &seen})
				does(d, what+", told", func() (any, error) { return p.Volumes(ctx, find(s.serial)) })
			}
		}
		for _, name := range []string{
			"1", "bay-2", "bay 2", "bay-4", "BAY-2", "field/1", "north/2", "kva07 7m511", "KVA077M511", "511", "7M6", "0",
			"  7M614 ", "77M51", "12",
		} {
			does(d, fmt.Sprintf("the drive %q", name), func() (drive.Key, error) {
				found, err := p.FindDrive(ctx, name)
				return found.Identity.Key, err
			})
		}
		does(d, "what is on one nobody looked at", func() (any, error) { return p.Volumes(ctx, find("7M512")) })
		does(d, "its siblings", func() (any, error) { return p.Siblings(ctx, find("7M614")) })
		does(d, "the paper of one without an intake", func() (any, error) { return p.Paper(ctx, find("7M614")) })
		does(
			d, "a rework without a release",
			func() (check.Run, error) {
				return p.Rework(ctx, dov, find("7M614"), runs.Wish{Kind: check.Mend, Ending: "A077M614"})
			},
		)
		does(d, "it is taken in, released and not swept", func() (shop.Intake, error) {
			return p.TakeIn(ctx, dov, shop.Intake{Bay: at(1), Release: &shop.Release{Scope: check.Renew, Owner: "Ms Adeyemi-Holt"}})
		})
		does(d, "a rework without a sweep", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M614"), runs.Wish{Kind: check.Mend, Ending: "A077M614"})
		})
		does(d, "its data is wanted after all", func() (shop.Intake, error) {
			return p.TakeIn(
				ctx, dov, shop.Intake{Bay: at(1), Wanted: true, Release: &shop.Release{Scope: check.Renew, Owner: "Ms Adeyemi-Holt"}},
			)
		})
		does(d, "a rework of wanted data", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M614"), runs.Wish{Kind: check.Renew, Ending: "A077M614"})
		})
		out := empty(1)
		d.reports("it is taken out", protocol.Report{Bay: &out})
		does(d, "a check of a drive in no bay", func() (check.Run, error) {
			return p.Check(ctx, dov, find("7M614"), runs.CheckOrder{Kind: check.Quick})
		})
		does(d, "a rework of a drive in no bay", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M614"), runs.Wish{Kind: check.Mend, Ending: "A077M614"})
		})
		does(d, "a reading of a drive in no bay", func() (any, error) { return p.TakeReading(ctx, dov, find("7M614"), false) })
		does(d, "a look at a drive in no bay", func() (any, error) { return p.LookAtVolumes(ctx, dov, find("7M614")) })

		// Handover
		for what, h := range vector.ByName(map[string]shop.Handover{
			"a handover to nowhere":             {Goes: "away"},
			"a handover as untouched":           {Goes: shop.Returned, Data: shop.Untouched},
			"a handover as overwritten":         {Goes: shop.Returned, Data: shop.Overwritten},
			"a handover as nobody says":         {Goes: shop.Returned, Data: "burnt"},
			"a handover with a note":            {Goes: shop.Scrapped, Data: shop.Altered, Note: " with its screws "},
			"a handover with a note once again": {Goes: shop.Scrapped},
		}) {
			does(d, what, func() (shop.Intake, error) { return p.HandOver(ctx, dov, wanted.ID, h) })
		}
		does(d, "a rework after the handover", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M511"), runs.Wish{Kind: check.Mend, Ending: "A077M511"})
		})
		does(d, "the paper", func() (any, error) { return p.Paper(ctx, find("7M511")) })
		back := does(d, "it comes back", func() (shop.Intake, error) {
			return p.TakeIn(ctx, dov, shop.Intake{Bay: at(2), Customer: "pellwick spit", Copied: true, Duty: drive.Everyday})
		})
		does(d, "the history of an owner", func() ([]desk.Entry, error) { return p.History(ctx, find("7M511")) })
		look := does(d, "a whole sweep as it is back", func() (check.Run, error) {
			return p.Check(ctx, dov, find("7M511"), runs.CheckOrder{Kind: check.Whole})
		})
		d.reports("it finds a place", whole(look.ID, check.WholeSweep, 1, scratch(400_000, 8)))
		d.reports("its end", ended(look, check.Failed, check.WholeSweep))
		d.reading("it is read as it is back", 2, mended, 0, "")
		does(d, "a release of the one that came back", func() (shop.Intake, error) {
			return p.RecordRelease(ctx, dov, find("7M511"), &shop.Release{Scope: check.Mend, Owner: "Pellwick Spit, by letter"})
		})
		does(d, "a wider release", func() (shop.Intake, error) {
			return p.RecordRelease(ctx, dov, find("7M511"), &shop.Release{Scope: check.Overwrite, Owner: "Pellwick Spit, by letter"})
		})
		renewed := does(d, "a renewal under it: of everything, not of what was found", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M511"), runs.Wish{Kind: check.Renew, Ending: "A077M511"})
		})
		d.reports("it is stopped", ended(renewed, check.Stopped, check.ReadingBefore))
		over := does(d, "an overwrite under it", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M511"), runs.Wish{Kind: check.Overwrite, Ending: "A077M511"})
		})
		require.NotZero(t, p.bench.lastCheck().Rework.Pattern.Seed, "nobody can guess the pattern")
		d.reports("the overwrite is stopped", ended(over, check.Stopped, check.ReadingBefore))
		under := does(d, "a rework under that release", func() (check.Run, error) {
			return p.Rework(ctx, dov, find("7M511"), runs.Wish{Kind: check.Mend, Ending: "A077M511"})
		})
		d.reading("the reading before the rework", 2, mended, under.ID, check.ReadingBefore)
		does(d, "it comes back again without a handover", func() (shop.Intake, error) {
			return p.TakeIn(ctx, dov, shop.Intake{Bay: at(2), Customer: "Quillet Ferry office"})
		})
		d.reports("the rework is stopped", ended(under, check.Stopped, check.ReadingBefore))
		does(d, "a release of what has ended", func() (shop.Intake, error) {
			return p.HandOver(ctx, dov, back.ID, shop.Handover{Goes: shop.Kept})
		})
		done(d, "an outcome", func() error {
			failed := verdict.Outcome{Failed: true, At: d.clock.at}
			return p.SetOutcome(ctx, dov, find("7M511"), shop.Outcome{Outcome: failed, Note: "head crash"})
		})
		done(d, "an outcome in time to come", func() error {
			return p.SetOutcome(ctx, dov, find("7M511"), shop.Outcome{Outcome: verdict.Outcome{At: d.clock.at.Add(25 * time.Hour)}})
		})

		// Policy
		newer := strings.Replace(string(policy.Default), "version: 6", "version: 7", 1)
		wrong := strings.Replace(newer, "now.pending", "now.bending", 1)
		does(d, "a policy that is none", func() (shop.Published, error) { return p.Publish(ctx, dov, []byte("rules: ["), "a note") })
		does(d, "a policy with a wrong word", func() (shop.Published, error) { return p.Publish(ctx, dov, []byte(wrong), "a note") })
		does(d, "a policy", func() (any, error) { q, err := p.Publish(ctx, dov, []byte(newer), " a note "); return q.Note, err })
		does(d, "a policy without a note", func() (shop.Published, error) { return p.Publish(ctx, dov, []byte(newer), " ") })
		does(d, "the same policy again", func() (shop.Published, error) { return p.Publish(ctx, dov, []byte(newer), "a note") })
		does(d, "all are judged anew", func() (int, error) { return p.RedecideAll(ctx) })

		// Transfer, erasure
		file := does(d, "an export", func() (recordfile.File, error) { return p.Export(ctx, find("7M512")) })
		does(d, "an import of the same", func() (any, error) { return p.Import(ctx, dov, file) })
		does(d, "everything is decoded anew", func() (any, error) { return p.Redecode(ctx, dov) })
		does(d, "a customer nobody knows is forgotten", func() (desk.Erased, error) { return p.Erase(ctx, dov, "Nobody") })
		does(d, "a customer is forgotten", func() (desk.Erased, error) { return p.Erase(ctx, dov, "Pellwick Spit") })
		does(d, "the audit", func() (any, error) { return p.VerifyAudit(ctx) })
		does(d, "the last event", func() (int64, error) { return p.LastEvent(ctx) })
		d.book.Close()
	})
}
