package watch

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// The bounds of how often a drive is read.
const (
	mostOften = 5 * time.Minute
	leastOnce = 30 * 24 * time.Hour
)

// Cadence is when something recurs: every so long, or by a recurrence rule of RFC 5545, 3.3.10, whose times are those of the plan's zone.
// The zero Cadence is never.
type Cadence struct {
	Every time.Duration
	Rule  string // "FREQ=WEEKLY;BYDAY=SU;BYHOUR=3"; without DTSTART
}

// IsZero reports whether it is never.
func (c Cadence) IsZero() bool { return c == Cadence{} }

// onDay is a day and a time as people write them: "daily 05:30", "SU,WE 03:00", "1SA 01:00" for the first Saturday of a month, "15 02:00"
// for its 15th day, "-1 02:00" for its last.
var onDay = regexp.MustCompile(`^(daily|-?[0-9]{1,2}|(?:-?[1-5])?[a-z]{2}(?:,(?:-?[1-5])?[a-z]{2})*) ([01][0-9]|2[0-3]):([0-5][0-9])$`)

// plainly makes a rule of a day and a time; false: that is not what a text says.
func plainly(s string) (rule string, ok bool) {
	m := onDay.FindStringSubmatch(strings.ToLower(strings.Join(strings.Fields(s), " ")))
	if m == nil {
		return "", false
	}
	hour, _ := strconv.Atoi(m[2])
	minute, _ := strconv.Atoi(m[3])
	at := fmt.Sprintf(";BYHOUR=%d;BYMINUTE=%d", hour, minute)
	switch days := strings.ToUpper(m[1]); {
	case days == "DAILY":
		return "FREQ=DAILY" + at, true
	case strings.Trim(days, "-0123456789") == "":
		return "FREQ=MONTHLY;BYMONTHDAY=" + days + at, true
	case strings.ContainsAny(days, "12345"):
		return "FREQ=MONTHLY;BYDAY=" + days + at, true
	default:
		return "FREQ=WEEKLY;BYDAY=" + days + at, true
	}
}

// ParseCadence reads "6h", "90m", "2d", a day and a time, or a recurrence rule. An empty text is never.
func ParseCadence(s string) (c Cadence, err error) {
	switch s = strings.TrimSpace(s); {
	case s == "" || s == "never":
		return Cadence{}, nil
	case strings.Contains(s, "="):
		c.Rule = strings.ToUpper(strings.TrimPrefix(strings.ToUpper(s), "RRULE:"))
		_, err = c.option()
		return c, err
	}
	if rule, ok := plainly(s); ok {
		c.Rule = rule
		_, err = c.option()
		return c, err
	}
	if days, ok := strings.CutSuffix(s, "d"); ok {
		n, err := strconv.ParseUint(days, 10, 16)
		if err != nil || n == 0 {
			return c, fmt.Errorf("%q is no number of days", s)
		}
		return Cadence{Every: time.Duration(n) * 24 * time.Hour}, nil
	}
	if c.Every, err = time.ParseDuration(s); err != nil || c.Every <= 0 {
		return Cadence{}, fmt.Errorf("%q is no time like 6h or 2d, no day and time like SU 03:00, and no recurrence rule", s)
	}
	return c, nil
}

// String is what ParseCadence reads.
func (c Cadence) String() string {
	if c.Every == 0 {
		return c.Rule
	}
	if day := 24 * time.Hour; c.Every%day == 0 {
		return strconv.Itoa(int(c.Every/day)) + "d"
	}
	s := c.Every.String() // 6h0m0s
	s = strings.TrimSuffix(s, "0s")
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// MarshalText implements encoding.TextMarshaler.
func (c Cadence) MarshalText() ([]byte, error) { return []byte(c.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (c *Cadence) UnmarshalText(text []byte) (err error) {
	*c, err = ParseCadence(string(text))
	return err
}

// anchor is where rules begin that say no more: a Monday, and the first of a year. It is a time on the wall, of no zone.
var anchor = time.Date(2024, time.January, 1, 0, 0, 0, 0, time.UTC)

// option reads the rule, in times on the wall.
func (c Cadence) option() (*rrule.ROption, error) {
	o, err := rrule.StrToROption(c.Rule)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%q is no recurrence rule of RFC 5545: %w", c.Rule, err)
	case !strings.Contains(c.Rule, "FREQ="): // what stands for none is YEARLY
		return nil, fmt.Errorf("%q says no FREQ", c.Rule)
	case o.Freq == rrule.SECONDLY || o.Freq == rrule.MINUTELY:
		return nil, fmt.Errorf("%s is too often for a rule: say 5m, or more", o.Freq)
	case o.Count != 0:
		return nil, fmt.Errorf("COUNT ends a plan by itself: say UNTIL, or leave it out")
	case !o.Dtstart.IsZero():
		return nil, fmt.Errorf("DTSTART is not for a plan: say BYDAY, BYMONTHDAY, BYHOUR")
	}
	o.Interval = max(1, o.Interval)
	if o.Dtstart = anchor; len(o.Bysecond) == 0 {
		o.Bysecond = []int{0}
	}
	if _, err := rrule.NewRRule(*o); err != nil {
		return nil, fmt.Errorf("%q is no recurrence rule of RFC 5545: %w", c.Rule, err)
	}
	return o, nil
}

// within gives the rule's times on the wall from lo to hi, both among them.
func within(o rrule.ROption, lo, hi time.Time) []time.Time {
	o.Dtstart = nearer(o, lo)
	if o.Until.IsZero() || o.Until.After(hi) {
		o.Until = hi
	}
	if o.Until.Before(o.Dtstart) {
		return nil
	}
	r, err := rrule.NewRRule(o)
	if err != nil { // option has made one of it
		return nil
	}
	all := r.All()
	i, _ := slices.BinarySearchFunc(all, lo, time.Time.Compare)
	return all[i:]
}

// nearer moves the anchor towards a time by as many whole intervals of the rule as there are before it: the rule stays the same, and
// nobody has to walk there.
func nearer(o rrule.ROption, to time.Time) time.Time {
	behind := to.Sub(anchor)
	if behind <= 0 {
		return anchor
	}
	day := 24 * time.Hour
	unit := map[rrule.Frequency]time.Duration{rrule.HOURLY: time.Hour, rrule.DAILY: day, rrule.WEEKLY: 7 * day}[o.Freq]
	if step := unit * time.Duration(o.Interval); unit > 0 {
		return anchor.Add(max(0, behind/step-1) * step)
	}
	months := o.Interval // of a step
	if o.Freq == rrule.YEARLY {
		months *= 12
	}
	since := (to.Year()-anchor.Year())*12 + int(to.Month()-anchor.Month())
	return anchor.AddDate(0, max(0, since/months-1)*months, 0)
}

// onWall is a moment as a clock on the wall of a zone shows it.
func onWall(t time.Time, zone *time.Location) time.Time {
	_, offset := t.In(zone).Zone()
	return t.UTC().Add(time.Duration(offset) * time.Second)
}

// moment is when a clock on the wall of a zone shows a time. Of two such moments it is the first; of a time that a clock skips it is as
// long after the skip as the clock would have gone on: RFC 5545, 3.3.5.
func moment(wall time.Time, zone *time.Location) time.Time {
	at := func(near time.Time) time.Time {
		_, offset := near.In(zone).Zone()
		return wall.Add(-time.Duration(offset) * time.Second)
	}
	before, after := at(wall.Add(-26*time.Hour)), at(wall.Add(26*time.Hour))
	if onWall(before, zone).Equal(wall) || !onWall(after, zone).Equal(wall) {
		return before
	}
	return after
}

// reaches are how far one looks for the next or the last times of a rule; rules that do not come within the last of them never do.
var reaches = []time.Duration{3 * 24 * time.Hour, 40 * 24 * time.Hour, 400 * 24 * time.Hour, 9 * 366 * 24 * time.Hour}

// skipped is how far a time on the wall may lie beside a moment that was worked out from another offset.
const skipped = 26 * time.Hour

// before gives the rule's last two moments up to now, the later first; fewer: there are no more.
func before(o rrule.ROption, now time.Time, zone *time.Location) (last []time.Time) {
	wall := onWall(now, zone)
	for _, reach := range reaches {
		last = nil
		for _, w := range slices.Backward(within(o, wall.Add(-reach), wall.Add(skipped))) {
			if t := moment(w, zone); !t.After(now) {
				last = append(last, t)
			}
		}
		if slices.SortFunc(last, func(a, b time.Time) int { return b.Compare(a) }); len(last) >= 2 {
			return slices.Compact(last)[:2:2]
		}
	}
	return last
}

// after is the rule's next moment after now; zero: there is none.
func after(o rrule.ROption, now time.Time, zone *time.Location) (next time.Time) {
	wall := onWall(now, zone)
	for _, reach := range reaches {
		for _, w := range within(o, wall.Add(-skipped), wall.Add(reach)) {
			if t := moment(w, zone); t.After(now) && (next.IsZero() || t.Before(next)) {
				next = t
			}
		}
		if !next.IsZero() {
			break
		}
	}
	return next
}
