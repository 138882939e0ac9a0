package desk

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// What a run found and what it asks for, as a technician reads it: "" is left to the verdict.
func TestWhatARunCameTo(t *testing.T) {
	step := func(k check.StepKind, s check.StepState, note string) check.Step {
		return check.Step{Kind: k, State: s, Note: wording.Literal(note)}
	}
	still := []string{"No counter that matters moved."}
	crc := shop.Change{Signal: signal.CRCErrors, Before: 0, After: 3}
	pending := shop.Change{Signal: "pending", Before: 2, After: 10}
	passed := []check.Step{step(check.ShortTest, check.StepDone, "passed"), step(check.SpotSweep, check.StepDone, "")}
	failed := []check.Step{step(check.ShortTest, check.StepFailed, "read failure"), step(check.SpotSweep, check.StepFailed, "2 unreadable")}
	swept := []check.Step{step(check.ExtendedTest, check.StepFailed, "read failure"), {
		Kind: check.WholeSweep, State: check.StepDone, Standing: &check.Standing{Share: 1},
	}}
	for name, row := range map[string]struct {
		run   check.Run
		grade drive.Grade
		moved []shop.Change
		found []string
		next  string
		check check.Kind
	}{
		"nothing": {check.Run{Kind: check.Quick, Outcome: check.Passed, Steps: passed}, drive.Undecided, nil, still, "", ""},
		"errors on the link before all else": {
			check.Run{Kind: check.Quick, Outcome: check.Failed, Steps: failed},
			drive.Degrading,
			[]shop.Change{pending, crc},
			[]string{"Spot sweep: 2 unreadable", "Pending sectors 2 to 10", "Interface CRC errors 0 to 3"},
			"Reseat the drive, change the cable, then quick check again: the link made errors meanwhile.", check.Quick,
		},
		"a self-test that failed leads to where": {
			check.Run{Kind: check.Quick, Outcome: check.Failed, Steps: failed[:1]},
			drive.Degrading, nil,
			still,
			"Whole sweep: it finds where the surface cannot be read, which a self-test does not.", check.Whole,
		},
		"but not when the sweep was made": {
			check.Run{Kind: check.Extended, Outcome: check.Failed, Steps: swept}, drive.Degrading, nil, still, "", "",
		},
		"nor when the drive is to be replaced": {
			check.Run{Kind: check.Quick, Outcome: check.Failed, Steps: failed[:1]}, drive.Replace, nil, still, "", "",
		},
		"nor is a check that was stopped begun again then": {
			check.Run{Kind: check.Extended, Outcome: check.Stopped}, drive.Replace, nil, still, "", "",
		},
		"stopped": {
			check.Run{Kind: check.Extended, Outcome: check.Stopped},
			drive.Undecided, nil,
			still,
			"Extended check again: this one did not come to its end.", check.Extended,
		},
		"stopped, and no bay can begin it again": {
			check.Run{Kind: check.Selective, Outcome: check.Stopped},
			drive.Undecided, nil,
			still,
			"Selective self-test again: this one did not come to its end.", "",
		},
		"a rework is not begun again by itself": {
			check.Run{Kind: check.Overwrite, Outcome: check.Stopped}, drive.Undecided, nil, still, "", "",
		},
	} {
		t.Run(name, func(t *testing.T) {
			var found []string
			for _, p := range foundIn(row.run, row.moved, true) {
				found = append(found, p.String())
			}
			assert.Equal(t, row.found, found)
			var e RunEnd
			e.follow(row.run, shop.Now{Grade: row.grade}, row.moved)
			next := ""
			if len(e.Next) > 0 {
				next = e.Next[0].String()
			}
			assert.Equal(t, row.next, next)
			assert.Equal(t, row.check, e.Check)
			assert.Equal(t, row.check == "", e.short.IsZero())
		})
	}
}

func TestTheVerdictOfARun(t *testing.T) {
	at := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	verdictAt := func(minutes int, g drive.Grade) shop.Verdict {
		return shop.Verdict{At: at.Add(time.Duration(minutes) * time.Minute), Verdict: verdict.Verdict{Grade: g}}
	}
	r := check.Run{Asked: at, Ended: at.Add(10 * time.Minute)}
	for want, verdicts := range map[string][]shop.Verdict{
		"Verdict: healthy.":              {verdictAt(10, drive.Healthy)},
		"Verdict: degrading, as before.": {verdictAt(-30, drive.Degrading)},
		"Verdict: healthy, undecided before.": {
			verdictAt(10, drive.Healthy), verdictAt(3, drive.Degrading), verdictAt(-1, drive.Undecided),
		},
		"Verdict: replace, healthy before.": {verdictAt(300, drive.Undecided), verdictAt(9, drive.Replace), verdictAt(-1, drive.Healthy)},
	} {
		assert.Equal(t, want, judgedBy(r, verdicts)[0].String())
	}
	assert.Empty(t, judgedBy(r, nil))
}

// What lies behind a drive never hides what is to be done with it now: it was handed over, it is locked, its data is at risk.
func TestTheBayOfADriveWithAPast(t *testing.T) {
	at := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	bay, here := protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Answering, Since: at}, drive.Bay{Number: 2}
	stopped := &check.Run{Kind: check.Quick, State: check.Done, Outcome: check.Stopped, Asked: at.Add(time.Minute)}
	open := shop.Intake{At: at}
	gone := shop.Intake{At: at, Handover: &shop.Handover{At: at.Add(time.Hour), Goes: shop.Returned, Data: shop.Untouched}}
	again := gone
	again.Handover = &shop.Handover{At: at.Add(-time.Hour), Goes: shop.Returned}
	for name, row := range map[string]struct {
		past         past
		intake       *shop.Intake
		locked       bool
		doing, next  string
		note, action string
	}{
		"a run that was stopped": {
			past{intakes: []shop.Intake{open}, newest: stopped},
			&open, false,
			"No findings.", "quick check", "Quick check stopped", "check",
		},
		"and handed over": {
			past{intakes: []shop.Intake{gone}, newest: stopped},
			nil, false,
			"Handed over: returned, data untouched.", "take it out", "Safe to remove", "open",
		},
		"and put in again": {
			past{intakes: []shop.Intake{again}, newest: stopped},
			nil, false,
			"Here again: handed over on 1 Sep 2026, returned.", "take it in", "Safe to remove", "open",
		},
		"and locked": {
			past{intakes: []shop.Intake{open}, newest: stopped},
			&open, true,
			"Locked by a password. Surface not read.", "ask the owner", "Ask the owner to unlock it", "open",
		},
		"and wanted": {
			past{intakes: []shop.Intake{open}, newest: stopped},
			&shop.Intake{Wanted: true}, false,
			"Data wanted, not copied. Checks wait.", "copy the data", "Safe to remove", "record_copy",
		},
		"back, and not looked at": {
			past{intakes: []shop.Intake{open, again}},
			&open, false,
			"No findings.", "quick check", "Was here until 1 Sep 2026, returned", "check",
		},
	} {
		t.Run(name, func(t *testing.T) {
			d := shop.Drive{Now: shop.Now{Bay: here, Grade: drive.Healthy, First: "No findings."}}
			d.Identity.Security = drive.Security{Locked: row.locked, By: drive.LockPassword}
			v := BayView{Bay: bay, Drive: &d, Intake: row.intake, Action: ActionOpen}
			v.describe(row.past)
			assert.Equal(
				t, []string{row.doing, row.next, row.note, row.action},
				[]string{v.Doing.String(), v.Next.String(), v.Note.String(), string(v.Action)},
			)
		})
	}
}
