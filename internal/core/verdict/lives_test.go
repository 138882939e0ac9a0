package verdict

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/vector"
)

// scripted is a drive's life as a script: each reading says what changed since the one before.
type scripted struct {
	name     string
	id       drive.Identity
	duty     drive.Duty
	readings []then
	reworks  []Rework
	watched  []Watched
	add      func(*Evidence) // at the last reading: what the pages alone tell
}

type then struct {
	days, hours float64 // since the first one
	place       int
	says        says
	not         []signal.Name // what it does not give any more
}

var (
	ataDisk   = drive.Identity{Interface: drive.ATA, Medium: drive.Spinning, FormFactor: "3.5 inch"}
	scsiDisk  = drive.Identity{Interface: drive.SCSI, Medium: drive.Spinning, FormFactor: "3.5 inch"}
	ataFlash  = drive.Identity{Interface: drive.ATA, Medium: drive.Flash, FormFactor: "2.5 inch"}
	nvmeFlash = drive.Identity{Interface: drive.NVMe, Medium: drive.Flash}
)

func (s scripted) life() (*Life, []says) {
	now, moments, all := says{}, []Moment(nil), []says(nil)
	for i, r := range s.readings {
		for n, x := range r.says {
			now[n] = x
		}
		for _, n := range r.not {
			delete(now, n)
		}
		if r.hours >= 0 {
			now[signal.PowerOnHours] = 9_000 + r.hours
		} else {
			delete(now, signal.PowerOnHours)
		}
		copied := says{}
		for n, x := range now {
			copied[n] = x
		}
		all = append(all, copied)
		moments = append(
			moments,
			Moment{
				Seq:     i + 1,
				At:      time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC).Add(time.Duration(r.days * 24 * float64(time.Hour))),
				Place:   drive.Bay{Number: r.place},
				Signals: values(copied),
			},
		)
	}
	l := NewLife(moments, s.reworks)
	l.Watched = s.watched
	return l, all
}

var tested = says{
	signal.Alarm:            0,
	signal.ShortTestAge:     1,
	signal.ExtendedTestAge:  30,
	signal.TestsFailed:      0,
	signal.TestsPassedSince: 3,
	signal.Temperature:      38,
	signal.DamagedPages:     0,
}

// with is the first, and more.
func with(first, more says) says {
	all := says{}
	for _, s := range []says{first, more} {
		for n, x := range s {
			all[n] = x
		}
	}
	return all
}

var lives = []scripted{
	{
		name: "a disk whose surface goes, is mended, and goes again",
		id:   ataDisk,
		duty: drive.Everyday,
		readings: []then{
			{
				0,
				0,
				1,
				with(
					tested,
					says{
						signal.Reallocated:           0,
						signal.Pending:               0,
						signal.UncorrectableOffline:  0,
						signal.ReportedUncorrectable: 0,
						signal.SpinUpRetries:         0,
						signal.AttributesFailing:     0,
						signal.AttributesFell:        0,
					},
				),
				nil,
			},
			{40, 300, 1, says{signal.Pending: 1}, nil},
			{
				47,
				360,
				1,
				says{
					signal.Pending:               3,
					signal.ReportedUncorrectable: 2,
					signal.TestsFailed:           1,
					signal.TestsPassedSince:      0,
					signal.FailedTestAge:         2,
				},
				nil,
			},
			{48, 370, 1, says{signal.FailedTestAge: 12, signal.Reallocated: 4, signal.UnreadableFound: 5, signal.WholeSweepAge: 2}, nil},
			{49, 380, 1, says{signal.Pending: 0, signal.Reallocated: 9, signal.UnreadableFound: 0, signal.WholeSweepAge: 12}, nil},
			{60, 400, 1, says{signal.WholeSweepAge: 1, signal.TestsPassedSince: 1}, nil},
			{90, 600, 1, says{signal.Pending: 2, signal.WholeSweepAge: 200}, nil},
		},
		reworks: []Rework{
			{
				Run:     7,
				Ended:   time.Date(2026, 2, 23, 8, 0, 0, 0, time.UTC),
				After:   5,
				Cleared: 5,
				Held:    time.Date(2026, 3, 6, 9, 0, 0, 0, time.UTC),
			},
		},
		add: func(e *Evidence) {
			lba := uint64(4711)
			e.FailingLBA = &lba
		},
	},
	{
		name: "a disk with an old flaw, for an archive", id: ataDisk, duty: drive.Archive,
		readings: []then{
			{
				0,
				0,
				1,
				with(
					tested,
					says{
						signal.Reallocated:           0,
						signal.Pending:               0,
						signal.ReportedUncorrectable: 0,
						signal.SpinUpRetries:         0,
						signal.AttributesFailing:     0,
						signal.AttributesFell:        0,
						signal.UncorrectableOffline:  0,
					},
				),
				nil,
			},
			{9, 100, 1, says{signal.Reallocated: 3}, nil},
			{500, 8000, 1, says{signal.WholeSweepAge: 5, signal.UnreadableFound: 0, signal.SlowFound: 2, signal.AttributesFell: 1}, nil},
			{505, 8010, 1, says{signal.Reallocated: 21, signal.SpinUpRetries: 1}, nil},
		},
	},
	{
		name: "a laptop's disk, hot, on a bad cable",
		id:   drive.Identity{Interface: drive.ATA, Medium: drive.Spinning, FormFactor: "2.5 inch"},
		duty: drive.Carry,
		readings: []then{
			{
				0,
				18_000,
				3,
				with(
					tested,
					says{
						signal.Reallocated:       0,
						signal.Pending:           0,
						signal.CRCErrors:         4,
						signal.CommandTimeouts:   0,
						signal.Temperature:       56,
						signal.TimeTooHot:        3,
						signal.AttributesFailing: 0,
					},
				),
				nil,
			},
			{1, 18_024, 3, says{signal.CRCErrors: 90, signal.Temperature: 61, signal.CommandTimeouts: 3}, nil},
			{2, 18_048, 3, says{signal.CommandTimeouts: 7, signal.Temperature: 63}, nil},
			{3, 18_060, 5, says{signal.Temperature: 50}, nil},
			{4, 18_080, 5, says{}, nil},
		},
	},
	{
		name: "a disk of which readings are garbage and pages are missing", id: ataDisk, duty: drive.Everyday,
		readings: []then{
			{
				0,
				0,
				1,
				with(
					tested,
					says{
						signal.Reallocated:           12,
						signal.Pending:               0,
						signal.ReportedUncorrectable: 40,
						signal.AttributesFailing:     0,
						signal.AttributesFell:        0,
					},
				),
				nil,
			},
			{1, 20, 1, says{signal.Reallocated: 0, signal.ReportedUncorrectable: 0, signal.DamagedPages: 1}, nil},
			{2, 40, 1, says{signal.Reallocated: 12, signal.ReportedUncorrectable: 40, signal.DamagedPages: 0}, nil},
			{3, 60, 1, says{signal.DamagedPages: 2}, []signal.Name{signal.Alarm, signal.AttributesFailing, signal.Pending}},
			{3.01, 60, 1, says{}, nil},
			{4, 70, 1, says{}, nil},
		},
		add: func(e *Evidence) {
			e.Contradictions = []trend.Contradiction{{Seq: 6, Says: "one clock says 9, another 900"}}
		},
	},
	{
		name: "a SAS disk, bad at first sight", id: scsiDisk, duty: drive.Continuous,
		readings: []then{
			{
				0,
				0,
				0,
				with(
					tested,
					says{
						signal.GrownDefects:          8,
						signal.ReportedUncorrectable: 1,
						signal.ScanFindings:          2,
						signal.WarningRaised:         1,
						signal.Pending:               1,
						signal.TestsFailedPlaces:     2,
						signal.TestsFailed:           2,
						signal.TestsPassedSince:      0,
						signal.FailedTestAge:         30,
					},
				),
				nil,
			},
			{
				1,
				24,
				0,
				says{signal.FailedTestAge: 54, signal.GrownDefects: 9, signal.ReportedUncorrectable: 7, signal.TestsFailedMechanics: 2},
				nil,
			},
			{300, 700, 0, says{signal.GrownDefects: 101, signal.ElementsBad: 1}, nil},
		},
	},
	{
		name: "a flash drive that wears out", id: ataFlash, duty: drive.Archive,
		readings: []then{
			{
				0,
				0,
				1,
				with(
					tested,
					says{
						signal.Reallocated:           2,
						signal.ReportedUncorrectable: 0,
						signal.ProgramFailures:       1,
						signal.EraseFailures:         0,
						signal.PercentageUsed:        79,
						signal.AttributesFailing:     0,
					},
				),
				nil,
			},
			{30, 600, 1, says{signal.PercentageUsed: 84}, nil},
			{60, 1200, 1, says{signal.PercentageUsed: 90, signal.Reallocated: 12}, nil},
			{90, 1800, 1, says{signal.PercentageUsed: 95}, nil},
			{120, 2400, 1, says{signal.PercentageUsed: 101, signal.ProgramFailures: 6}, nil},
			{121, 2420, 1, says{signal.ReportedUncorrectable: 3, signal.Reallocated: 16}, nil},
		},
	},
	{
		name: "an NVMe drive without hours", id: nvmeFlash, duty: drive.Continuous,
		readings: []then{
			{
				0,
				-1,
				1,
				with(
					tested,
					says{
						signal.MediaErrors:         0,
						signal.AvailableSpare:      100,
						signal.SpareMargin:         90,
						signal.PercentageUsed:      3,
						signal.SpareLow:            0,
						signal.ReliabilityDegraded: 0,
						signal.ReadOnly:            0,
						signal.BackupFailed:        0,
						signal.TimeCritical:        0,
						signal.EndToEndErrors:      0,
					},
				),
				[]signal.Name{signal.Alarm},
			},
			{
				7,
				-1,
				1,
				says{
					signal.MediaErrors:    4,
					signal.AvailableSpare: 88,
					signal.SpareMargin:    78,
					signal.TimeCritical:   5,
					signal.EndToEndErrors: 1,
				},
				nil,
			},
			{14, -1, 1, says{signal.AvailableSpare: 18, signal.SpareMargin: 8, signal.TimeCritical: 9, signal.BackupFailed: 1}, nil},
		},
	},
	{
		name: "a test the bench watched, and a capacity that shrank", id: ataDisk, duty: drive.Everyday,
		readings: []then{
			{
				0,
				1,
				1,
				says{
					signal.Alarm:        0,
					signal.Temperature:  30,
					signal.Capacity:     4e12,
					signal.Reallocated:  0,
					signal.Pending:      0,
					signal.DamagedPages: 0,
				},
				nil,
			},
			{0.1, 3, 1, says{signal.HoursStamp: 14_660}, nil},
			{0.5, 8, 1, says{signal.Capacity: 2.2e12, signal.CapacityLabel: 4e12, signal.WholeSweepAge: 2, signal.UnreadableFound: 0}, nil},
		},
		watched: []Watched{{Extended: true, Passed: true, Seq: 2}, {Extended: true, Passed: true, Seq: 99}},
	},
}

// What is said of these lives, reading by reading, each on what was known then: testdata/lives.txt.
func TestWhatIsSaidOfLives(t *testing.T) {
	p := shipped(t)
	b := vector.Open(t, "lives.txt")
	finding := func(mark string, f Finding) {
		b.Line("  %s %s: %s. | %s | %s", mark, f.Rule, f.Sentence, f.Detail, f.Customer)
		var rests []string
		for _, r := range f.Rests {
			rests = append(rests, fmt.Sprintf("%s %s %s", r.Signal, wording.Number(r.Value), r.Source))
		}
		line := strings.Join(rests, ", ")
		if f.Margin != nil {
			line += fmt.Sprintf("; %s, %.2f", f.Margin.Words, f.Margin.Share())
		}
		b.Line("      reading %d: %s (%s)", f.Reading, line, f.Source)
	}
	for _, s := range lives {
		l, all := s.life()
		b.Head(s.name)
		walk := l.Walk()
		unjudged := ""
		for i := range l.Moments {
			set := signal.Set{}
			for n, x := range all[i] {
				set[n] = signal.Value{Number: x, Available: true, Source: "page"}
			}
			e := walk.Evidence(s.id, s.duty, set, i)
			if i == len(l.Moments)-1 && s.add != nil {
				s.add(&e)
			}
			v := Decide(p, e)
			b.Line(
				"reading %d: %s for %s, %d quiet; carried %d, suspect %d, doubtful %v", i+1, v.Grade, v.Duty, v.Quiet,
				len(e.Carried), e.Suspect, e.Doubtful,
			)
			for _, f := range v.Findings {
				finding(string(f.Effect), f)
			}
			for _, f := range v.Notes {
				finding("note", f)
			}
			for _, m := range v.Missing {
				b.Line("  missing %s: %s; %s, %d min", m.ID, m.What, m.Run, m.Minutes)
			}
			if now := fmt.Sprint(v.Unjudged); now != unjudged { // said once while it stays
				unjudged = now
				for _, u := range v.Unjudged {
					b.Line("  not judged %s, %s: %s", u.Rule, u.Title, u.Reason)
				}
			}
			var fits []string
			for _, f := range v.Duties {
				fits = append(fits, fmt.Sprintf("%s [%s]", f.Words, f.Fitness))
			}
			b.Line("  duties: %s", strings.Join(fits, "; "))
			b.Line("  advice: %s", strings.Join(v.Advice, " "))
			b.Line("  chance: %s of %.3f", v.Risk.Words, v.Risk.Base)
			for _, f := range v.Risk.Factors {
				b.Line("    x %.3f %s (%s)", f.Ratio, f.Words, f.Source)
			}
			if e.Reworked != nil {
				b.Line(
					"  rework %d, held %v: reallocated %+.0f, pending %+.0f since", e.Reworked.Run, e.Reworked.Held,
					e.Reworked.Since[signal.Reallocated], e.Reworked.Since[signal.Pending],
				)
			}
			ruling, err := NewJudge(p).Judge(e)
			require.NoError(t, err)
			require.Equal(t, v.Grade, ruling.Grade, "%s, reading %d: the quick judge agrees", s.name, i+1)
		}
		limit := 100.0
		for _, d := range signal.Registry {
			if c, ok := l.Course(d.Name, &limit, Marks{Intake: l.Moments[0].At, Check: l.Moments[len(l.Moments)-2].At}); ok {
				b.Line("  %s: %s", d.Name, strings.Join(c.Words(d), " "))
				if c.SinceIntake != nil && c.SinceCheck != nil && *c.SinceIntake != 0 {
					b.Line("      %+g since the intake, %+g since the check", *c.SinceIntake, *c.SinceCheck)
				}
			}
		}
	}

	b.Head("replays of drafts")
	for _, change := range [][2]string{
		{
			"bad_sectors: {all: 100,", "bad_sectors: {all: 9,",
		}, {
			"when: now.pending > 0.0\n", "when: now.pending > 2.0\n",
		}, {"limit.fresh_short\"", "limit.fresh_short && readings > 2\""}, {"version: 6", "version: 7"},
	} {
		text := bytes.ReplaceAll(policy.Default, []byte(change[0]), []byte(change[1]))
		require.NotEqual(t, policy.Default, text, change[0])
		draft, err := policy.Parse(text)
		require.NoError(t, err)
		b.Line("%q -> %q", change[0], change[1])
		for _, s := range lives {
			l, _ := s.life()
			got, err := NewReplay(p, draft).Over(l, s.id, s.duty, nil)
			require.NoError(t, err)
			day := func(at time.Time) string {
				if at.IsZero() {
					return "never"
				}
				return at.Format("2 Jan")
			}
			b.Line(
				"  %s, %d readings: degrading %s and %s, replace %s and %s", s.name, got.Readings, day(got.Was.Degrading),
				day(got.Would.Degrading), day(got.Was.Replace), day(got.Would.Replace),
			)
			for _, d := range got.Differs {
				b.Line(
					"    reading %d, %.0f h: %s %q, would %s %q, still %v", d.Reading, d.Hours, d.Was.Grade, d.Was.Why,
					d.Would.Grade, d.Would.Why, d.Still,
				)
			}
		}
	}

	b.Head("chances that a shop's own outcomes moved")
	l, _ := lives[0].life()
	l.Risk = risk.Calibration{Shift: 0.5, Slope: -0.2, Outcomes: 77}
	v := Decide(p, last(l))
	b.Line("%s, on %d outcomes: %.3f between %.3f and %.3f", v.Risk.Words, v.Risk.Calibrated, v.Risk.Year, v.Risk.Low, v.Risk.High)

	b.Head("rules, without a drive")
	for _, r := range p.Rules {
		b.Line("%s: %s.", r.ID, InWords(p, r.Says))
	}
	b.Close()
}
