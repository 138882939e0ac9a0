package watch

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/teambition/rrule-go"
	"pgregory.net/rapid"
)

func TestCadencesAreReadAndWritten(t *testing.T) {
	for said, want := range map[string]string{
		"6h": "6h", "360m": "6h", "90m": "1h30m", "48h": "2d", "30d": "30d", "": "", "never": "", "5m": "5m",
		"daily 05:30": "FREQ=DAILY;BYHOUR=5;BYMINUTE=30", "su,WE  03:00": "FREQ=WEEKLY;BYDAY=SU,WE;BYHOUR=3;BYMINUTE=0",
		"1SA 01:00": "FREQ=MONTHLY;BYDAY=1SA;BYHOUR=1;BYMINUTE=0", "-1 02:05": "FREQ=MONTHLY;BYMONTHDAY=-1;BYHOUR=2;BYMINUTE=5",
		"rrule:freq=weekly;byday=su": "FREQ=WEEKLY;BYDAY=SU", "FREQ=MONTHLY;BYDAY=1SA;BYHOUR=1": "FREQ=MONTHLY;BYDAY=1SA;BYHOUR=1",
	} {
		c, err := ParseCadence(said)
		require.NoError(t, err, said)
		assert.Equal(t, want, c.String(), said)
		again, err := ParseCadence(c.String())
		require.NoError(t, err, said)
		assert.Equal(t, c, again)
	}
	for _, wrong := range []string{
		"0h", "-5m", "weekly", "0d", "1.5d", "FREQ=FORTNIGHTLY", "FREQ=SECONDLY", "FREQ=MINUTELY;INTERVAL=5", "FREQ=DAILY;COUNT=3",
		"DTSTART=20260101T000000Z;FREQ=DAILY", "FREQ=DAILY;BYHOUR=25", "BYDAY=SU", "FREQ=DAILY;FREQ", "=",
		"XX 03:00", "SU 24:00", "32 03:00", "daily", "6SA 01:00",
	} {
		_, err := ParseCadence(wrong)
		require.Error(t, err, wrong)
		assert.NotContains(t, err.Error(), "%!", wrong)
	}
}

// Nights of 23 and of 25 hours: what a rule names once comes once, whatever the clock on the wall does.
func TestRulesInNightsThatAreShorterOrLonger(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	at := func(s string) time.Time {
		m, err := time.Parse(time.RFC3339, s)
		require.NoError(t, err)
		return m
	}
	const evenMondays, nightly = "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO;BYHOUR=6", "FREQ=DAILY;BYHOUR=2;BYMINUTE=30"
	for name, c := range map[string]struct{ rule, from, want string }{
		"an hour that is skipped":    {nightly, "2026-03-29T00:00:00+01:00", "2026-03-29T03:30:00+02:00"},
		"the day after it":           {nightly, "2026-03-29T03:30:00+02:00", "2026-03-30T02:30:00+02:00"},
		"an hour that comes twice":   {nightly, "2026-10-25T00:00:00+02:00", "2026-10-25T02:30:00+02:00"},
		"and not the second time":    {nightly, "2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"},
		"after the change":           {"FREQ=WEEKLY;BYDAY=SU;BYHOUR=3", "2026-03-29T01:59:59+01:00", "2026-03-29T03:00:00+02:00"},
		"every other week":           {evenMondays, "2026-11-28T12:00:00+01:00", "2026-11-30T06:00:00+01:00"},
		"and the one after":          {evenMondays, "2026-11-30T06:00:00+01:00", "2026-12-14T06:00:00+01:00"},
		"the first Saturday":         {"FREQ=MONTHLY;BYDAY=1SA;BYHOUR=1", "2026-11-28T00:00:00+01:00", "2026-12-05T01:00:00+01:00"},
		"the last day of a month":    {"FREQ=MONTHLY;BYMONTHDAY=-1", "2027-02-01T00:00:00+01:00", "2027-02-28T00:00:00+01:00"},
		"a day that few years have":  {"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "2026-01-01T00:00:00+01:00", "2028-02-29T00:00:00+01:00"},
		"a date that no year has":    {"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "2026-01-01T00:00:00+01:00", ""},
		"after its end":              {"FREQ=DAILY;UNTIL=20260301T000000Z", "2026-03-02T00:00:00+01:00", ""},
		"hours through the long day": {"FREQ=HOURLY;INTERVAL=6", "2026-10-25T00:30:00+02:00", "2026-10-25T06:00:00+01:00"},
	} {
		o, err := Cadence{Rule: c.rule}.option()
		require.NoError(t, err, name)
		next := after(*o, at(c.from), berlin)
		if c.want == "" {
			assert.Zero(t, next, name)
			continue
		}
		assert.Equal(t, at(c.want).UTC(), next.UTC(), "%s: %s", name, next.In(berlin))
		last := before(*o, next, berlin)
		require.NotEmpty(t, last, name)
		assert.Equal(t, next, last[0], name)
	}
}

// Whatever the rule and the zone: moments only go forward, each is found from both sides, and the anchor moved near is the same anchor.
func TestRulesAreTheSameFromBothSides(t *testing.T) {
	zones := []string{"UTC", "Europe/Berlin", "America/St_Johns", "Australia/Lord_Howe", "Pacific/Apia", "Africa/Casablanca"}
	rules := []string{
		"FREQ=HOURLY;INTERVAL=5", "FREQ=DAILY;BYHOUR=2,3;BYMINUTE=15", "FREQ=DAILY;INTERVAL=3;BYHOUR=0",
		"FREQ=WEEKLY;INTERVAL=3;BYDAY=SU,WE", "FREQ=MONTHLY;INTERVAL=2;BYDAY=-1SU;BYHOUR=2", "FREQ=MONTHLY;BYMONTHDAY=31",
		"FREQ=YEARLY;BYMONTH=3,10;BYDAY=-1SU;BYHOUR=2;BYMINUTE=30",
	}
	rapid.Check(t, func(t *rapid.T) {
		zone, err := time.LoadLocation(rapid.SampledFrom(zones).Draw(t, "zone"))
		require.NoError(t, err)
		o, err := Cadence{Rule: rapid.SampledFrom(rules).Draw(t, "rule")}.option()
		require.NoError(t, err)
		now := time.Unix(rapid.Int64Range(1.72e9, 1.9e9).Draw(t, "now"), 0)
		for range 4 {
			next := after(*o, now, zone)
			require.True(t, next.After(now))
			last := before(*o, next, zone)
			require.Equal(t, next.UTC(), last[0].UTC())
			require.False(t, len(last) > 1 && last[1].After(now), "%s lies between %s and %s", last[len(last)-1], now, next)
			far := *o // asked from far away, it is the same
			require.Contains(t, within(far, anchor, onWall(next, zone).Add(skipped)), lastWall(*o, next, zone))
			now = next
		}
	})
}

// lastWall is the time on the wall that became a moment.
func lastWall(o rrule.ROption, at time.Time, zone *time.Location) time.Time {
	wall := onWall(at, zone)
	for _, w := range within(o, wall.Add(-skipped), wall.Add(skipped)) {
		if moment(w, zone).Equal(at) {
			return w
		}
	}
	return time.Time{}
}
