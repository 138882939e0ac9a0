package whole_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/access"
	"hylostat.example/internal/bubble"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/protocol"
	recordfile "hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/runs"
)

// content reads everything a database holds, but for its audit where that is left out.
type content struct {
	db     *sqlx.DB
	tables []string
}

// version changes whenever somebody else has committed.
func (c content) version(t *testing.T) (n int64) {
	t.Helper()
	require.NoError(t, c.db.Get(&n, `PRAGMA data_version`))
	return n
}

func contentOf(t *testing.T, file string) content {
	t.Helper()
	c := content{db: sqlx.MustOpen("sqlite", "file:"+file+"?mode=ro")}
	c.db.SetMaxOpenConns(1)
	t.Cleanup(func() { require.NoError(t, c.db.Close()) })
	require.NoError(t, c.db.Select(
		&c.tables, `SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'drive_text_%' ORDER BY name`,
	))
	return c
}

// rows reads a table, each row as one value.
func (c content) rows(t *testing.T, table string) (all []string) {
	t.Helper()
	var columns []string
	require.NoError(t, c.db.Select(&columns, `SELECT 'quote(' || name || ')' FROM pragma_table_info(?)`, table))
	require.NoError(t, c.db.Select(&all, `SELECT `+strings.Join(columns, ` || ' ' || `)+` FROM `+table))
	return all
}

func (c content) read(t *testing.T, unaudited bool) string {
	t.Helper()
	var all strings.Builder
	for _, table := range c.tables {
		if unaudited && (table == "audit" || table == "sqlite_sequence") {
			continue
		}
		fmt.Fprintf(&all, "%s %v\n", table, c.rows(t, table))
	}
	return all.String()
}

// Whatever a person or a bench has the shop do, and whichever access to its disk fails meanwhile: it is told, and nothing of it is kept.
// What is read is either there or refused.
func TestABrokenDiskIsToldAndNothingIsHalfDone(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		disk := &bubble.Disk{}
		p := open(t, disk)
		kept := contentOf(t, p.file)
		ctx := t.Context()
		dov := shop.Actor{Name: "Dov", Role: access.Lead, Via: access.OpenShop}
		s := tested("KVA077M511", 9_000)
		bay := protocol.Bay{ID: drive.Bay{Number: 2}, Address: "sim-2", Connection: protocol.Answering, Key: s.key()}
		reading := func(id string, s state) func() error {
			return func() error {
				return p.Take(ctx, "", protocol.Report{Seq: int64(1 + len(id)), Reading: &protocol.Reading{
					ID: id, Bay: bay.ID, Key: s.key(), At: p.clock.at, Pages: s.pages(), Tool: "test",
				}})
			}
		}
		third := protocol.Bay{
			ID: drive.Bay{Number: 5}, Address: "sim-5", Connection: protocol.Answering, Key: tested("KVA077M513", 700).key(),
		}
		worse := s
		worse.pending, worse.hours = 12, 9_010
		var rework check.Run
		around := func(seq int64, step check.StepKind) func() error {
			return func() error {
				return p.Take(ctx, "", protocol.Report{Seq: seq, Reading: &protocol.Reading{
					ID: string(step), Bay: bay.ID, Key: s.key(), At: p.clock.at, Pages: worse.pages(), Tool: "test", Run: rework.ID,
					Step: step,
				}})
			}
		}
		sound := func(seq int64, hours uint64) func() error {
			return func() error {
				return p.Take(ctx, "", protocol.Report{Seq: seq, Reading: &protocol.Reading{
					ID: fmt.Sprint(hours), Bay: third.ID, Key: third.Key, At: begin.Add(time.Duration(hours-1000) * time.Hour),
					Pages: tested(third.Key.Serial, hours).pages(), Tool: "test",
				}})
			}
		}
		var d shop.Drive
		var intake, mute shop.Intake
		var lot shop.Lot
		var run check.Run
		var file recordfile.File
		label := "left dock"
		elsewhere := open(t)
		elsewhere.read(0, tested("KVA077M512", 9_000))
		elsewhere.read(week, tested("KVA077M512", 9_160))
		other, err := elsewhere.Export(ctx, elsewhere.drive("7M512"))
		require.NoError(t, err)
		draft := strings.Replace(string(policy.Default), "version: 6", "version: 7", 1)
		require.NotEqual(t, string(policy.Default), draft)
		// What is ordered of a bench is in the audit before it is, and why it failed.
		ordered := map[string]bool{
			"a check": true, "a bay's label": true, "a rework": true, "an attempt": true, "the bays' order": true,
			"a bay stopped to be claimed": true, "everything decoded anew": true,
		}
		// After it is kept the shop has bays write-protected; what fails then is tried again when a bay reports.
		beside := map[string]bool{
			"a bay": true, "an intake": true, "a plan": true, "a handover": true, "a copy": true, "an intake of what does not answer": true,
			"it is tried elsewhere": true, "an intake that voids it": true, "a drive joins the lot": true, "a release": true,
		}
		// These go on where they were when they are ordered again.
		again := map[string]bool{"a plan": true, "it is tried elsewhere": true, "a re-decision": true, "an erasure": true}
		for _, op := range []struct {
			name string
			does func() error
		}{
			{"a bay", func() error { return p.Take(ctx, "", protocol.Report{Seq: 1, Bay: &bay}) }},
			{"a reading", reading("1", s)},
			{"a second reading", reading("22", s)},
			{"an intake", func() (err error) {
				intake, err = p.TakeIn(ctx, dov, shop.Intake{
					Bay: bay.ID, Ticket: "2214", Customer: "Pellwick Spit", Complaint: "clicks", Wanted: true, Copied: true,
					Release: &shop.Release{Scope: check.Overwrite, Owner: "Ms Adeyemi-Holt, by phone"},
				})
				return err
			}},
			{"a worse reading", reading("333", worse)},
			{"a check", func() (err error) {
				run, err = p.Check(ctx, dov, d, runs.CheckOrder{Kind: check.Whole})
				return err
			}},
			{"a sweep", func() error {
				found := &check.Result{
					Key:   s.key(),
					Sweep: check.Sweep{Run: run.ID, Step: 1, Kind: check.WholeSweep, Began: begin, Ended: begin.Add(time.Hour)},
				}
				found.Standing.Share, found.Standing.Unreadable = 1, 1
				return p.Take(ctx, "", protocol.Report{Seq: 5, Sweep: found})
			}},
			{"its end", func() error {
				over := check.Run{
					ID: run.ID, Kind: check.Whole, Bay: bay.ID, Key: s.key(), State: check.Done, Outcome: check.Failed,
					Steps: []check.Step{
						{Kind: check.ReadingBefore, State: check.StepDone}, {Kind: check.WholeSweep, State: check.StepFailed},
					},
				}
				return p.Take(ctx, "", protocol.Report{Seq: 6, Run: &over})
			}},
			{"a signature", func() error {
				v, err := p.Verdict(ctx, d)
				if err == nil {
					_, err = p.Sign(ctx, dov, d, v.Seq, v.Grade, "")
				}
				return err
			}},
			{"a duty", func() error { return p.SetDuty(ctx, dov, d, drive.Carry) }},
			{"an outcome", func() error {
				return p.SetOutcome(ctx, dov, d, shop.Outcome{Outcome: verdict.Outcome{Failed: true, At: p.clock.at}})
			}},
			{"a lot", func() (err error) {
				lot, err = p.OpenLot(ctx, dov, shop.Lot{Ticket: "2240", Customer: "Quillet Ferry office", Duty: drive.Carry, Expected: 9})
				return err
			}},
			{"a drive of the lot is read", sound(60, 700)},
			{"and again", sound(61, 701)},
			{"a drive joins the lot", func() error { return p.Take(ctx, "", protocol.Report{Seq: 62, Bay: &third}) }},
			{"a plan", func() error { _, err := p.SetPlan(ctx, dov, "", check.Quick); return err }},
			{"a bay's label", func() error { _, err := p.SetBay(ctx, dov, bay.ID, desk.BaySetting{Label: &label}); return err }},
			{"a look at its volumes", func() error {
				return p.Take(ctx, "", protocol.Report{Seq: 63, Volumes: &protocol.Volumes{
					ID: "seen", By: "Dov", Bay: bay.ID, Key: s.key(), At: p.clock.at, Bytes: 1 << 40, Sector: 512,
				}})
			}},
			{"an attempt", func() error { return p.Attempt(ctx, dov, bay.ID) }},
			{"a bay nobody answers in", func() error {
				silent := protocol.Bay{ID: drive.Bay{Number: 8}, Address: "sim-8", Connection: protocol.Silent}
				return p.Take(ctx, "", protocol.Report{Bay: &silent})
			}},
			{"a bay stopped to be claimed", func() error { return p.Vacate(ctx, dov, drive.Bay{Number: 8}) }},
			{"a copy", func() error { _, err := p.RecordCopy(ctx, dov, bay.ID); return err }},
			{"another bay", func() error {
				return p.Take(ctx, "", protocol.Report{Seq: 70, Bay: &protocol.Bay{ID: drive.Bay{Number: 3}, Connection: protocol.Silent}})
			}},
			{"a third bay", func() error {
				return p.Take(ctx, "", protocol.Report{Seq: 71, Bay: &protocol.Bay{ID: drive.Bay{Number: 4}, Connection: protocol.Silent}})
			}},
			{"an intake of what does not answer", func() (err error) {
				mute, err = p.TakeIn(ctx, dov, shop.Intake{Bay: drive.Bay{Number: 3}})
				return err
			}},
			{"it is tried elsewhere", func() error { _, err := p.MoveIntake(ctx, dov, mute.ID, drive.Bay{Number: 4}); return err }},
			{"the bays' order", func() error { return p.Arrange(ctx, dov, []drive.Bay{bay.ID}) }},
			{"signatures together", func() error { _, _, err := p.SignTogether(ctx, dov, []shop.Drive{d}); return err }},
			{"signatures of all that are healthy", func() error {
				signed, _, err := p.SignTogether(ctx, dov, nil)
				if err == nil {
					assert.Equal(t, []string{third.Key.Serial}, signed)
				}
				return err
			}},
			{"the bench again", func() error { return p.Take(ctx, "", protocol.Report{Seq: 72, Started: &protocol.Started{}}) }},
			{"everything decoded anew", func() error { _, err := p.Redecode(ctx, dov); return err }},
			{"volumes", func() error { _, err := p.Volumes(ctx, d); return err }},
			{"when they were seen", func() error { _, err := p.VolumesAt(ctx, d); return err }},
			{"the bay", func() error { _, err := p.Bay(ctx, bay.ID); return err }},
			{"a drive by name", func() error { _, err := p.FindDrive(ctx, "7M511"); return err }},
			{"a drive by bay", func() error { _, err := p.FindDrive(ctx, "bay-2"); return err }},
			{"a drive by its whole serial", func() error { _, err := p.FindDrive(ctx, "KVA077M511"); return err }},
			{"a drive by number", func() error { _, err := p.DriveByID(ctx, d.ID); return err }},
			{"its intake", func() error { _, err := p.Intake(ctx, d); return err }},
			{"unanswered ports", func() error { _, err := p.Unanswered(ctx, intake); return err }},
			{"sweeps compared", func() error { _, err := p.CompareSweeps(ctx, run.ID, run.ID); return err }},
			{"the last event", func() error { _, err := p.LastEvent(ctx); return err }},
			{"bays", func() error { _, err := p.Bays(ctx); return err }},
			{"list", func() error { _, err := p.List(ctx, shop.Query{Text: "7M5"}); return err }},
			{"readings", func() error { _, err := p.Readings(ctx, d); return err }},
			{"a reading's pages", func() error { _, err := p.Reading(ctx, d, 3); return err }},
			{"courses", func() error { _, _, err := p.Courses(ctx, d); return err }},
			{"a comparison", func() error { _, err := p.Compare(ctx, d, 1, 3); return err }},
			{"history", func() error { _, err := p.History(ctx, d); return err }},
			{"verdicts", func() error { _, err := p.Verdicts(ctx, d); return err }},
			{"the paper", func() error { _, err := p.Paper(ctx, d); return err }},
			{"runs", func() error { _, err := p.Runs(ctx, shop.RunQuery{}); return err }},
			{"a run", func() error { _, err := p.RunByID(ctx, run.ID); return err }},
			{"sweeps", func() error { _, err := p.Sweeps(ctx, d); return err }},
			{"the sweep", func() error { _, _, err := p.SweepOf(ctx, run.ID); return err }},
			{"the queue", func() error { _, err := p.Queue(ctx, ""); return err }},
			{"lots", func() error { _, err := p.Lots(ctx); return err }},
			{"the lot", func() error { _, err := p.LotByID(ctx, lot.ID); return err }},
			{"siblings", func() error { _, err := p.Siblings(ctx, d); return err }},
			{"intakes", func() error { _, err := p.Intakes(ctx, shop.IntakeQuery{}); return err }},
			{"policies", func() error { _, err := p.Policies(ctx); return err }},
			{"the outcome", func() error { _, err := p.Outcome(ctx, d); return err }},
			{"the audit", func() error { _, err := p.Audit(ctx, shop.AuditQuery{}); return err }},
			{"its chain", func() error { _, err := p.VerifyAudit(ctx); return err }},
			{"events", func() error { _, err := p.Events(ctx, 0, 100); return err }},
			{"an export", func() (err error) { file, err = p.Export(ctx, d); return err }},
			{"an import of the same", func() error {
				_, err := p.Import(ctx, dov, file)
				return err
			}},
			{"an import of another drive", func() error { _, err := p.Import(ctx, dov, other); return err }},
			{"a replay", func() error { _, err := p.Replay(ctx, dov, []byte(draft)); return err }},
			{"a policy", func() error { _, err := p.Publish(ctx, dov, []byte(draft), "a note"); return err }},
			{"a re-decision", func() error { _, err := p.RedecideAll(ctx); return err }},
			{"a release", func() error {
				_, err := p.RecordRelease(ctx, dov, d, &shop.Release{Scope: check.Mend, Owner: "Pellwick Spit, by letter"})
				return err
			}},
			{"a rework", func() (err error) {
				rework, err = p.Rework(ctx, dov, d, runs.Wish{Kind: check.Mend, Ending: "A077M511"})
				return err
			}},
			{"the rework", func() error { _, err := p.ReworkOf(ctx, rework.ID); return err }},
			{"an intake that voids it", func() (err error) {
				intake, err = p.TakeInstead(
					ctx, dov, shop.Intake{Bay: bay.ID, Customer: "Pellwick Spit"}, &desk.Instead{Ticket: "2214", Customer: "Pellwick Spit"},
				)
				return err
			}},
			{"its end", func() error {
				over := rework
				over.State, over.Outcome, over.Steps = check.Done, check.Failed, []check.Step{{
					Kind:  check.Mending,
					State: check.StepFailed,
				}}
				return p.Take(ctx, "", protocol.Report{Seq: 73, Run: &over})
			}},
			{"the reading before it", around(74, check.ReadingBefore)},
			{"the reading after it", around(75, check.ReadingAfter)},
			{"what it changed", func() error {
				v, err := p.ReworkOf(ctx, rework.ID)
				if err == nil {
					assert.NotNil(t, v.Compared)
				}
				return err
			}},
			{"the end of the lot", func() error { _, err := p.EndLot(ctx, dov, lot.ID); return err }},
			{"a handover", func() error {
				_, err := p.HandOver(ctx, dov, intake.ID, shop.Handover{Goes: shop.Returned})
				return err
			}},
			{"an erasure", func() error {
				_, err := p.Erase(ctx, dov, "Pellwick Spit")
				if shop.IsNone(err) { // the names went before the free pages did
					return nil
				}
				return err
			}},
		} {
			p.clock.at = p.clock.at.Add(time.Minute)
			before, version := kept.read(t, ordered[op.name]), kept.version(t)
			for n := int64(0); ; n++ {
				if all, err := p.Drives(ctx, shop.Query{Text: "7M511"}); assert.NoError(t, err) && len(all) > 0 {
					d = all[0]
				}
				disk.BreakAt(n)
				err := op.does()
				p.Wait()
				query, fired := disk.Mend()
				if !fired {
					require.NoError(t, err, op.name)
					t.Logf("%s: %d accesses", op.name, n)
					break
				}
				logged := p.logs.Take()
				if err == nil && beside[op.name] {
					if !assert.NotEmpty(t, logged, "%s: access %d failed, and nobody can know: %s", op.name, n, query) || !again[op.name] {
						break
					}
					continue
				}
				if !assert.Error(t, err, "%s: access %d failed, and it was not told: %s", op.name, n, query) {
					break
				}
				if again[op.name] || kept.version(t) == version {
					continue
				}
				if !assert.Equal(
					t, before, kept.read(t, ordered[op.name]), "%s: access %d failed, and something was kept: %s", op.name, n, query,
				) {
					break
				}
			}
		}
	})
}
