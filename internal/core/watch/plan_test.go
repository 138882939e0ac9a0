package watch

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"hylostat.example/internal/core/drive"
)

var monday = time.Date(2026, time.September, 7, 12, 0, 0, 0, time.UTC)

// plan reads a plan as people write it.
func plan(t *testing.T, text string) (p Plan) {
	t.Helper()
	require.NoError(t, yaml.Unmarshal([]byte(text), &p))
	return p
}

func TestAPlanInWords(t *testing.T) {
	for text, want := range map[string]string{
		"{for: {duty: continuous}, read: 6h, short: FREQ=WEEKLY;BYDAY=SU;BYHOUR=3}": `
			read every 6 h; short self-test on Sundays at 03:00; never wakes it`,
		"{for: {lot: 4}, read: FREQ=DAILY;BYHOUR=5;BYMINUTE=30, extended: FREQ=MONTHLY;BYDAY=1SA;BYHOUR=1, wake_after: 7}": `
			read every day at 05:30; extended self-test on the first Saturday of every month at 01:00;
			wakes it after 7 days without a reading`,
		`{for: {bench: ""}, read: 1d, spot: FREQ=MONTHLY;BYMONTHDAY=1, whole: "FREQ=YEARLY;BYMONTH=3,9;BYMONTHDAY=-1", share: 20,
		 surface: 5, windows: [{from: "01:00", until: "06:00"}, {from: "20:00", until: "02:00", days: [SA, SU]}], at_once: 2}`: `
			read every day; spot sweep on the 1st of every month at 00:00;
			whole sweep on the last day of March and September at 00:00;
			self-tests and sweeps from 01:00 to 06:00 and 20:00 to 02:00 on Saturdays and Sundays;
			a sweep takes 20 % of its time at most; a spot sweep reads 5 % of its surface at most; 2 at a time; never wakes it`,
		`{for: {duty: archive}, read: "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,TH;BYHOUR=2"}`: `
			read on Mondays and Thursdays of every other week at 02:00; never wakes it`,
		`{for: {duty: archive}, read: "FREQ=DAILY;BYSETPOS=1;BYHOUR=2,4"}`: `
			read by the rule FREQ=DAILY;BYSETPOS=1;BYHOUR=2,4; never wakes it`,
	} {
		p := plan(t, text)
		require.NoError(t, p.Check(monday), text)
		assert.Equal(t, strings.Join(strings.Fields(want), " "), p.Says().String())
		written, err := yaml.Marshal(p)
		require.NoError(t, err)
		assert.Equal(t, p, plan(t, string(written)), "%s", written)
	}
}

func TestPlansThatCannotBeAreRefused(t *testing.T) {
	for text, want := range map[string]string{
		"read: 6h":                                       "the plan is for 0 things at once, not for one",
		"for: {lot: 1, duty: archive}, read: 6h":         "the plan is for 2 things at once",
		"for: {lot: 1}":                                  "has drives do nothing",
		"for: {lot: 1}, read: 1m":                        "its reading comes every 1m. Every 5 minutes is the most",
		"for: {lot: 1}, read: 31d":                       "",
		"for: {lot: 1}, read: 32d":                       "its reading comes every 32d. Read at least every 30 days",
		"for: {lot: 1}, read: FREQ=YEARLY":               "Read at least every 30 days",
		`for: {lot: 1}, read: "FREQ=DAILY;BYMINUTE=0,1"`: "its reading comes every 1m",
		"for: {lot: 1}, read: 6h, short: FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30":      "short self-test never comes again",
		"for: {lot: 1}, read: 6h, whole: FREQ=DAILY;UNTIL=20260101T000000Z":        "whole sweep never comes again",
		"for: {lot: 1}, read: 6h, zone: Europe/Atlantis":                           `"Europe/Atlantis" is no time zone`,
		"for: {lot: 1}, read: 6h, zone: Local":                                     `"Local" is no time zone`,
		"for: {lot: 1}, read: 6h, share: 101":                                      "the share of a drive's time is 0 to 100, not 101",
		`for: {lot: 1}, read: 6h, windows: [{from: "03:00", until: "03:00"}]`:      "lets nothing run",
		`for: {lot: 1}, read: 6h, windows: [{from: 3:00, until: 4:00, days: [X]}]`: `"X" is no day of the week`,
	} {
		err := plan(t, "{"+text+"}").Check(monday)
		if want == "" {
			assert.NoError(t, err, text)
			continue
		}
		assert.ErrorContains(t, err, want, text)
	}
}

func TestTheNarrowestPlanCounts(t *testing.T) {
	key, field := drive.Key{Model: "M", Serial: "S"}, "field"
	byDuty, byBench := Plan{ID: 1, For: Scope{Duty: drive.Continuous}}, Plan{ID: 2, For: Scope{Bench: &field}}
	byLot, byDrive := Plan{ID: 3, For: Scope{Lot: 7}}, Plan{ID: 4, For: Scope{Drive: &key}}
	all := []Plan{byBench, byDrive, byDuty, byLot}
	for _, c := range []struct {
		of   Place
		want int64
	}{
		{Place{Key: key, Lot: 7, Bench: field, Duty: drive.Continuous}, 4},
		{Place{Lot: 7, Bench: field, Duty: drive.Continuous}, 3},
		{Place{Bench: field, Duty: drive.Continuous}, 2},
		{Place{Duty: drive.Continuous}, 1},
		{Place{Lot: 8, Duty: drive.Everyday}, 0},
	} {
		p, err := Narrowest(all, c.of)
		assert.Equal(t, c.want == 0, err != nil)
		assert.Equal(t, c.want, p.ID)
	}
}
