package api

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/handover"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/vector"
)

// What the contract says of a thing, by what is known of it: testdata/shapes.txt.
func TestWhatEachThingBecomes(t *testing.T) {
	b := vector.Open(t, "shapes.txt")
	likes := []any{
		drive.Degrading, wording.Say(wording.RunAtStep, wording.Values{"step": "whole_sweep"}),
		drive.Bay{Bench: "field", Number: 3},
		signal.Set{},
		policy.Care,
	}
	vector.Shapes(b, "drive", func(d shop.Drive) any { return driveOf(d) }, likes...)
	vector.Shapes(b, "intake", func(i shop.Intake) any { return intakeOf(i) }, likes...)
	vector.Shapes(b, "entry", func(e desk.Entry) any { return entryOf(e) }, likes...)
	vector.Shapes(b, "bay", func(v desk.BayView) any { return bayOf(v) }, likes...)
	vector.Shapes(b, "lot", func(l shop.Lot) any { return lotOf(l) }, likes...)
	vector.Shapes(b, "lot's drive", func(d desk.LotDrive) any { return lotDriveOf(d) }, likes...)
	vector.Shapes(b, "compared", func(c desk.Compared) any { return comparedOf(c) }, likes...)
	vector.Shapes(b, "run", func(r check.Run) any { return runOf(r) }, likes...)
	vector.Shapes(b, "step", func(s check.Step) any { return stepOf(s) }, likes...)
	vector.Shapes(b, "queue", func(q runs.Queue) any { return queueOf(q) }, likes...)
	vector.Shapes(b, "event", func(e shop.Event) any { return eventOf(e) }, likes...)
	vector.Shapes(b, "verdict", func(v shop.Verdict) any { return verdictOf(shop.Drive{}, v) }, likes...)
	vector.Shapes(b, "finding", func(f verdict.Finding) any { return findingOf(f) }, likes...)
	vector.Shapes(b, "standing", func(s check.Standing) any { return standingOf(s) }, likes...)
	vector.Shapes(b, "sweep", func(s shop.Sweep) any { return sweepSummaryOf(s) }, likes...)
	vector.Shapes(b, "slow place", func(s surface.Slow) any { return slowOf(s, wording.Phrase{}) }, likes...)
	vector.Shapes(b, "difference of sweeps", func(d surface.Difference) any { return sweepDifferenceOf(d) }, likes...)
	vector.Shapes(b, "difference of readings", func(d record.Difference) any { return differenceOf(d) }, likes...)
	vector.Shapes(b, "signal", func(c record.Course) any { return signalOf(c) }, likes...)
	vector.Shapes(b, "volumes", func(v record.VolumesView) any { return volumesOf(v) }, likes...)
	vector.Shapes(b, "replayed drive", func(d judge.ReplayedDrive) any { return replayDriveOf(d) }, likes...)
	vector.Shapes(b, "outcome", func(o shop.Outcome) any { return outcomeOf(&o) }, likes...)
	vector.Shapes(b, "score", func(s verdict.Score) any { return scoreOf(s) }, likes...)
	vector.Shapes(b, "rest", func(r verdict.Rest) any { return restOf(r) }, likes...)
	vector.Shapes(b, "attribute", func(a reading.Attribute) any { return attributeOf(a) }, likes...)
	vector.Shapes(b, "statistic", func(s ata.Statistic) any { return statisticOf(s) }, likes...)
	vector.Shapes(b, "self-test", func(s reading.SelfTest) any { return testOf(s) }, likes...)
	vector.Shapes(b, "logged error", func(e reading.LoggedError) any { return errorOf(e) }, likes...)
	vector.Shapes(b, "sheet", func(s reading.Sheet) any { return sheetOf(s) }, likes...)
	vector.Shapes(b, "moment", func(m shop.Moment) any { return summaryOf(m) }, likes...)
	vector.Shapes(b, "fault", func(f drive.Fault) any { return faultOf(f) }, likes...)
	vector.Shapes(b, "statement", func(s handover.Statement) any { return statementOf(s) }, likes...)
	b.Close()
}

func TestASweepTellsWhatItDoesNotList(t *testing.T) {
	g, err := surface.NewGeometry(100_000*512, 512, 4096, 0, 7200, 0)
	require.NoError(t, err)
	var s shop.Sweep
	s.Standing.Geometry, s.Missed = g, 7
	found := check.Found{Ranges: make([]surface.Range, 3)}
	out, err := sweepOf("KVA077M511", s, found)
	require.NoError(t, err)
	assert.EqualValues(t, 10, out.RangesTotal)
	found.Ranges = make([]surface.Range, mostRanges+1)
	out, err = sweepOf("KVA077M511", s, found)
	require.NoError(t, err)
	assert.Len(t, out.Ranges, mostRanges)
	assert.EqualValues(t, mostRanges+8, out.RangesTotal)
}

func TestAProgramWithoutItsConsoleSaysSo(t *testing.T) {
	pages, err := newConsole(fstest.MapFS{}, "")
	require.NoError(t, err)
	assert.Contains(t, string(pages.index), "make build")
}
