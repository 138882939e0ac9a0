package alert

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
)

var begin = time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)

// course is what becomes of one thing over time: each step is hours since the last, what is seen, and what somebody is told.
type step struct {
	after time.Duration
	does  string // "over", "take", "settle"; empty: a level is seen
	level float64
	loud  Severity
	tells Tells
	state State
	count int
}

func TestTheCourseOfAnAlert(t *testing.T) {
	const h = time.Hour
	for name, c := range map[string]struct {
		kind  Kind
		steps []step
	}{
		"a count that grows is told when it doubles": {Signal, []step{
			{0, "", 1, Now, Opened, Open, 1},
			{h, "", 2, Now, Grew, Open, 2},
			{h, "", 3, Now, Nothing, Open, 3},
			{h, "take", 0, "", Nothing, Taken, 3},
			{h, "", 4, Now, Grew, Taken, 4},
			{h, "", 5, Wake, Grew, Taken, 5}, // louder
			{h, "", 6, Now, Nothing, Taken, 6},
		}},
		"what a person settled is quiet until it grows": {Signal, []step{
			{0, "", 8, Now, Opened, Open, 1},
			{h, "settle", 0, "", Nothing, Settled, 1},
			{h, "", 8, Now, Nothing, Settled, 1},
			{h, "", 9, Now, Nothing, Settled, 1},
			{h, "", 16, Now, Reopened, Open, 2},
		}},
		"over and settled by itself after three looks, and news when it comes again": {Signal, []step{
			{0, "", 3, Now, Opened, Open, 1},
			{h, "over", 0, "", Nothing, Open, 1},
			{h, "over", 0, "", Nothing, Open, 1},
			{h, "over", 0, "", Ended, Settled, 1},
			{h, "over", 0, "", Nothing, Settled, 1},
			{h, "", 1, Now, Reopened, Open, 2},
		}},
		"or after a day": {Heat, []step{
			{0, "", 61, Now, Opened, Open, 1},
			{h, "over", 50, "", Nothing, Open, 1},
			{24 * h, "over", 50, "", Ended, Settled, 1},
		}},
		"a drive that flaps is one alert, told once": {Vanished, []step{
			{0, "", 1, Now, Opened, Open, 1},
			{h / 6, "over", 0, "", Nothing, Open, 1},
			{h / 6, "", 1, Now, Nothing, Open, 2},
			{h / 6, "over", 0, "", Nothing, Open, 2},
			{h / 6, "", 1, Now, Nothing, Open, 3},
			{h / 6, "settle", 0, "", Nothing, Settled, 3},
			{h, "", 1, Now, Nothing, Settled, 3}, // nobody has seen it back
			{h, "over", 0, "", Nothing, Settled, 3},
			{h, "", 1, Now, Nothing, Settled, 3},
			{h, "over", 0, "", Nothing, Settled, 3},
			{24 * h, "", 1, Now, Reopened, Open, 4},
		}},
		"a grade is told once for each step": {Verdict, []step{
			{0, "", 2, Now, Opened, Open, 1},
			{h, "", 2, Now, Nothing, Open, 2},
			{h, "", 3, Wake, Grew, Open, 3},
			{h, "settle", 0, "", Nothing, Settled, 3},
			{h, "", 3, Wake, Nothing, Settled, 3},
		}},
		"heat that rises further": {Heat, []step{
			{0, "", 60, Now, Opened, Open, 1},
			{h, "", 62, Now, Nothing, Open, 2},
			{h, "", 63, Now, Grew, Open, 3},
		}},
		"what is told to nobody is no alert": {Signal, []step{{0, "", 3, None, Nothing, "", 0}, {h, "over", 0, "", Nothing, "", 0}}},
	} {
		var a Alert
		at := begin
		for i, s := range c.steps {
			at = at.Add(s.after)
			tells := Nothing
			switch s.does {
			case "take":
				a = a.Take("Imre")
			case "settle":
				a = a.Settle("Imre", "known", at)
			default:
				seen := Seen{Thing: Thing{Kind: c.kind, Drive: 1}, At: at, Over: s.does == "over", Level: s.level, Severity: s.loud}
				a, tells = Step(a, seen)
			}
			require.Equal(t, []any{s.tells, s.state, s.count}, []any{tells, a.State, a.Count}, "%s, step %d", name, i+1)
		}
	}
}

// Whatever happens: nothing is told that was told before at that level or above, unless it was over in between.
func TestNothingKnownIsToldAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		kind := rapid.SampledFrom([]Kind{Verdict, Signal, Heat, Vanished}).Draw(t, "kind")
		var a Alert
		at, told, loud, over := begin, 0.0, None, true
		var calm []time.Time // looks at which it was over, since it was not
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			at = at.Add(time.Duration(rapid.IntRange(1, 2000).Draw(t, "minutes")) * time.Minute)
			switch rapid.IntRange(0, 5).Draw(t, "does") {
			case 0:
				a = a.Take("Imre")
			case 1:
				if a.State != Settled {
					calm = nil
				}
				a = a.Settle("Imre", "", at)
			case 2:
				a, _ = Step(a, Seen{Thing: Thing{Kind: kind}, At: at, Over: true})
				calm = append(calm, at)
			default:
				s := Seen{
					Thing: Thing{Kind: kind}, At: at, Level: float64(rapid.IntRange(1, 9).Draw(t, "level")),
					Severity: rapid.SampledFrom(Severities()).Draw(t, "severity"),
				}
				if s.Severity == None {
					continue
				}
				over = over || a.State == Settled && len(calm) > 0 && (len(calm) >= 3 || at.Sub(calm[0]) >= 24*time.Hour)
				calm = nil
				var tells Tells
				if a, tells = Step(a, s); tells == Nothing {
					continue
				}
				require.True(t, over || s.Level > told || s.Severity.Rank() > loud.Rank(), "%s at %v, told at %v", tells, s.Level, told)
				if over || tells == Opened {
					told, loud = 0, None
				}
				told, over = max(told, s.Level), false
				if s.Severity.Rank() > loud.Rank() {
					loud = s.Severity
				}
			}
		}
	})
}

func TestAnAcceptedLevelIsQuietUpToIt(t *testing.T) {
	a := Accepted{Level: 30, Until: begin}
	assert.True(t, a.Quiets(30, begin.Add(-time.Second)))
	assert.False(t, a.Quiets(31, begin.Add(-time.Second)))
	assert.False(t, a.Quiets(1, begin))
	assert.True(t, Accepted{Level: 30}.Quiets(30, begin))
}

// found is a finding on one signal.
func found(rule string, effect policy.Effect, s signal.Name, value float64) verdict.Finding {
	return verdict.Finding{Rule: rule, Effect: effect, Sentence: rule, Rests: []verdict.Rest{{Signal: s, Value: value}}}
}

func values(all map[signal.Name]float64) signal.Values {
	set := signal.Set{}
	for n, x := range all {
		set[n] = signal.Value{Number: x, Available: true}
	}
	return signal.ValuesOf(set)
}

func past(all ...signal.Values) []signal.Values { return all }

func TestWhatADriveShows(t *testing.T) {
	p, err := policy.Parse(policy.Default)
	require.NoError(t, err)
	healthy := verdict.Verdict{Grade: drive.Healthy}
	degrading := func(value float64) verdict.Verdict {
		f := found("reallocated", policy.Degrading, signal.Reallocated, value)
		return verdict.Verdict{Grade: drive.Degrading, Findings: []verdict.Finding{f}}
	}
	grown, more := degrading(3), degrading(8)
	linked := verdict.Verdict{Grade: drive.Healthy, Notes: []verdict.Finding{found("link", policy.Note, signal.CRCErrors, 14)}}
	aged := verdict.Verdict{Grade: drive.Healthy, Notes: []verdict.Finding{found("age", policy.Note, signal.PowerOnHours, 36000)}}
	at := func(n signal.Name, x float64) signal.Values { return values(map[signal.Name]float64{n: x}) }
	type what struct {
		kind Kind
		loud Severity
		from float64
		to   float64
		over bool
	}
	for name, c := range map[string]struct {
		look Look
		want []what
	}{
		"the first verdict is no change": {Look{Is: grown, Now: at(signal.Reallocated, 3)}, nil},
		"a grade that is worse, with what made it so": {
			Look{Was: &healthy, Is: grown, Past: past(at(signal.Reallocated, 0)), Now: at(signal.Reallocated, 3)},
			[]what{{Verdict, Now, 1, 2, false}},
		},
		"a signal that grows on": {
			Look{Was: &grown, Is: more, Past: past(at(signal.Reallocated, 3)), Now: at(signal.Reallocated, 8)},
			[]what{{Signal, Now, 3, 8, false}},
		},
		"past a reading at which it slept": {
			Look{Was: &grown, Is: more, Past: past(values(nil), at(signal.Reallocated, 3)), Now: at(signal.Reallocated, 8)},
			[]what{{Signal, Now, 3, 8, false}},
		},
		"and does not": {Look{Was: &grown, Is: grown, Past: past(at(signal.Reallocated, 3)), Now: at(signal.Reallocated, 3)}, nil},
		"an accepted level": {
			Look{
				Was: &healthy, Is: grown, Past: past(at(signal.Reallocated, 0)), Now: at(signal.Reallocated, 3),
				Accepted: []Accepted{{Signal: string(signal.Reallocated), Level: 3}},
			},
			[]what{{Verdict, None, 1, 2, false}},
		},
		"and beyond it": {
			Look{
				Was: &grown, Is: more, Past: past(at(signal.Reallocated, 3)), Now: at(signal.Reallocated, 8),
				Accepted: []Accepted{{Signal: string(signal.Reallocated), Level: 7}},
			},
			[]what{{Signal, Now, 3, 8, false}},
		},
		"a note is for the digest": {
			Look{Was: &linked, Is: linked, Past: past(at(signal.CRCErrors, 0)), Now: at(signal.CRCErrors, 14)},
			[]what{{Signal, Digest, 0, 14, false}},
		},
		"hours and cycles are no alerts": {
			Look{Was: &aged, Is: aged, Past: past(at(signal.PowerOnHours, 35999)), Now: at(signal.PowerOnHours, 36000)}, nil,
		},
		"a grade that is better, and a count that fell": {
			Look{
				Was: &grown, Is: healthy, Past: past(at(signal.Pending, 8)), Now: at(signal.Pending, 0),
				Alerts: []Alert{
					{Thing: Thing{Kind: Verdict}, Told: 2},
					{Thing: Thing{Kind: Signal, Name: string(signal.Pending)}, Told: 8},
					{Thing: Thing{Kind: Signal, Name: string(signal.Reallocated)}, Told: 8},
				},
			},
			[]what{{Verdict, "", 0, 1, true}, {Signal, "", 0, 0, true}},
		},
	} {
		c.look.Policy, c.look.At = p, begin
		var got []what
		for _, s := range c.look.Seen() {
			got = append(got, what{s.Kind, s.Severity, s.Before, s.Level, s.Over})
		}
		assert.Equal(t, c.want, got, name)
	}
}

// A verdict comes and goes as evidence ages. That is no news while nothing it rests on has risen since it was told.
func TestAVerdictOnWhatIsKnownIsNoNews(t *testing.T) {
	t.Parallel()
	now := time.Date(2027, 2, 1, 12, 0, 0, 0, time.UTC)
	a := Alert{}
	look := func(grade, reallocated float64) Tells {
		now = now.Add(24 * time.Hour)
		s := Seen{
			Thing: Thing{Kind: Verdict, Drive: 1}, At: now, Over: grade < 2, Level: grade, Severity: Now,
			Rests: map[string]float64{"reallocated": reallocated},
		}
		var tells Tells
		a, tells = Step(a, s)
		return tells
	}
	over := func(reallocated float64) {
		for range 3 {
			look(1, reallocated)
		}
	}
	assert.Equal(t, Opened, look(2, 7))
	over(7)
	assert.Equal(t, Settled, a.State)
	assert.Equal(t, Nothing, look(2, 7), "evidence has aged, and nothing else")
	over(7)
	assert.Equal(t, Reopened, look(2, 8), "it has grown")
	over(8)
	assert.Equal(t, Reopened, look(3, 8), "a grade further")
	over(8)
	over(0) // the counter was wiped
	assert.Equal(t, Reopened, look(2, 7), "it has come anew")
}
