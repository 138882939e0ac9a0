package demo

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/tcg"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/vector"
)

// damaged has some of a drive's pages not come, come short, or come with an error in them.
func damaged(n int, p *reading.Page) {
	switch {
	case p.Fault != nil || len(p.Bytes) == 0:
	case p.Name == reading.PageAttributes:
		p.Bytes[5] ^= 1 // its checksum is wrong
	case n%4 == 0:
		p.Bytes, p.Fault = nil, &drive.Fault{Class: drive.FaultNoAnswer, What: p.Name.Title(), Cause: "no answer"}
	case n%7 == 0:
		p.Bytes = p.Bytes[:len(p.Bytes)/2]
	}
}

// written has bytes of a page be others; the last byte of a page of SMART data stays its checksum.
func written(name reading.PageName, at int, b ...byte) func(int, *reading.Page) {
	return func(_ int, p *reading.Page) {
		if p.Name != name {
			return
		}
		for i, is := range b {
			was := &p.Bytes[at+i]
			if name == reading.PageAttributes {
				p.Bytes[511] += *was - is
			}
			*was = is
		}
	}
}

// absent has a drive be without pages.
func absent(names ...reading.PageName) func(int, *reading.Page) {
	return func(_ int, p *reading.Page) {
		if slices.Contains(names, p.Name) {
			p.Bytes, p.Fault = nil, &drive.Fault{Class: drive.FaultRefused, What: p.Name.Title(), Cause: "the drive does not know it"}
		}
	}
}

// What is read of each kind of drive, from its bytes to its signals, and what becomes of it when its pages are others:
// testdata/readings.txt.
func TestWhatIsReadOfEachKind(t *testing.T) {
	at := time.Date(2026, 11, 2, 9, 30, 0, 0, time.UTC)
	ill := func(key string) sim.Spec { // with something in every log
		s := Build(key, "9Q9Q9", 9_876, at)
		s.Tests = []ata.SelfTest{ // newest first
			{Number: ata.TestShort, Hours: 9_870},
			{Number: ata.TestShort, Status: ata.TestServo, Remaining: 90, Hours: 9_800},
			{Number: ata.TestExtended, Hours: 9_500},
			{Number: ata.TestShort, Status: ata.TestRead, Remaining: 40, Hours: 9_001, LBA: 4711, HasLBA: true},
		}
		s.Errors = []ata.LoggedError{
			{Command: 0x25, Error: ata.ErrorUNC, Status: 0x51, LBA: 4711, Count: 8, State: 3, Hours: 9_700},
			{Command: 0x35, Error: ata.ErrorICRC, Status: 0x51, LBA: 9, Count: 8, Hours: 9_750},
		}
		s.Defects, s.Wait = sim.Course{Start: 9_000, Every: 100, Step: 3}, 300
		for i := range s.Counters {
			switch c := &s.Counters[i]; {
			case c.ID == 5 && s.Identity.RotationRate > 1:
				c.Kind = sim.Reallocated
			case c.ID == 197:
				c.Kind = sim.Waiting
			case c.ID == 10 || c.ID == 187 || c.ID == 188 || c.ID == 199:
				c.Course = sim.Course{From: float64(c.ID) / 10}
			}
		}
		s.Unread, s.FirstLBA = sim.Course{From: 2}, 123_456
		return s
	}
	b := vector.Open(t, "readings.txt")
	for _, k := range []struct {
		name   string
		spec   func() sim.Spec
		change func(n int, p *reading.Page) // what comes of its pages
	}{
		{"a SATA disk, sound", func() sim.Spec { return Build("K4", "9Q9Q9", 9_876, at) }, nil},
		{"a SATA disk with something in every log", func() sim.Spec { return ill("K4") }, nil},
		{"the same, locked, larger than it shows, with a head given up, behind an adapter", func() sim.Spec {
			s := ill("K4")
			s.Lock = &tcg.Discovery{
				HasLocking: true,
				Locking:    tcg.Locking{Supported: true, Enabled: true, Locked: true},
				Subsystems: []string{"Opal 2"},
			}
			s.Heads = []scsi.ElementHealth{0x10, 0x64, 0xFF}
			s.Hidden, s.Identity.HPA, s.Identity.Security = 4096, true, ata.Security{Supported: true, Enabled: true, Locked: true}
			s.Awkward = sim.Awkward{Adapter: "Oakum  Bridge", Only12: true, FixedSense: true, Shows: 2_200_000}
			s.Alarm = sim.Course{From: 1}
			return s
		}, nil},
		{"the same, of which some pages are missing or damaged", func() sim.Spec { return ill("K4") }, damaged},
		{"a laptop's disk whose counters were wiped", func() sim.Spec {
			s := ill("K2")
			s.Wiped, s.Board = 9_870, 500
			return s
		}, nil},
		{"an older disk without statistics, which counts minutes", func() sim.Spec { return ill("TB") }, nil},
		{"a SATA flash drive", func() sim.Spec {
			s := ill("EE")
			s.Used = sim.Course{Rate: 0.0095}
			return s
		}, nil},
		{"a low-cost SATA flash drive", func() sim.Spec { return ill("SM") }, nil},
		{"an NVMe drive", func() sim.Spec {
			s := ill("HN")
			s.NVMe.Media, s.NVMe.Persistent, s.NVMe.Datacenter = sim.Course{From: 7}, true, true
			return s
		}, nil},
		{"an NVMe drive of two namespaces and groups, read-only, being sanitized", func() sim.Spec {
			s := ill("HN")
			n := s.NVMe
			n.Spaces, n.HostErrors, n.Groups, n.Sanitized, n.LongNames = 2, 3, 2, 2, true
			n.ReadOnly, n.Persistent, n.Datacenter = sim.Course{From: 1}, false, false
			s.Lock = &tcg.Discovery{HasLocking: true, Locking: tcg.Locking{Supported: true, Enabled: true}}
			return s
		}, nil},
		{"an NVMe drive that refuses logs, sanitized before", func() sim.Spec {
			s := Build("HN", "9Q9Q9", 9_876, at)
			s.NVMe.Refuses, s.NVMe.Sanitized = []uint8{5, 6}, 1
			return s
		}, nil},
		{"an NVMe drive of which some pages are missing or damaged", func() sim.Spec { return ill("HN") }, damaged},
		{"a SAS disk", func() sim.Spec {
			s := ill("OS")
			s.SCSI.Grown, s.SCSI.Uncorrected = sim.Course{From: 12}, sim.Course{From: 3}
			s.Heads = []scsi.ElementHealth{0x10, 0xCF}
			s.SCSI.Predicts, s.SCSI.Scan = sim.Course{From: 1}, []scsi.ScanResult{
				{
					Minutes: 500_000,
					Status:  scsi.ReassignFailed,
					Sense:   scsi.Sense{Key: scsi.MediumError, ASC: 0x11},
					LBA:     99,
				}, {Minutes: 510_000, Status: scsi.Rewritten, Sense: scsi.Sense{Key: scsi.RecoveredError, ASC: 0x17}, LBA: 7},
			}
			return s
		}, nil},
		{"an older SAS disk that was told to be silent", func() sim.Spec {
			s := ill("OS")
			s.SCSI.Old, s.SCSI.Silenced, s.SCSI.Grown = true, true, sim.Course{From: 40}
			return s
		}, nil},
		{"a SAS flash drive that warns", func() sim.Spec {
			s := ill("OS")
			s.Identity.RotationRate, s.SCSI.Warns, s.Used = 1, true, sim.Course{Rate: 0.0095}
			return s
		}, nil},
		{"a SATA disk in the midst of a self-test", func() sim.Spec { return ill("K4") }, written(reading.PageAttributes, 363, 0xF4)},
		{"a SATA disk that says nothing of how long its tests take", func() sim.Spec { return ill("K4") }, written(
			reading.PageAttributes, 367, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
		)},
		{"a SATA disk whose extended test takes very long", func() sim.Spec { return ill("K4") }, written(
			reading.PageAttributes, 373, 0xFF, 9, 0x20, 0x04,
		)},
		{"a SATA disk whose identity has no checksum", func() sim.Spec { return ill("K4") }, written(reading.PageIdentify, 510, 0, 0)},
		{"a SATA disk whose identity is damaged", func() sim.Spec { return ill("K4") }, written(reading.PageIdentify, 300, 0x55)},
		{"a SATA disk that has attributes and nothing else", func() sim.Spec { return ill("K4") }, absent(
			reading.PageThresholds, reading.PageStatistics, reading.PageErrors, reading.PageErrorsExt, reading.PageErrorLog,
			reading.PageTestLog, reading.PageTestLogExt, reading.PagePending, reading.PageSCTStatus, reading.PageTemperatures,
		)},
		{"an NVMe drive that is nearly sanitized", func() sim.Spec {
			s := ill("HN")
			s.NVMe.Sanitized = 2
			return s
		}, written(reading.PageSanitize, 0, 0xF0, 0xFF)},
		{"an NVMe drive in the midst of a self-test", func() sim.Spec { return ill("HN") }, written(reading.PageNVMeTests, 0, 2, 99)},
		{"an NVMe drive of three temperatures, too hot and read-only", func() sim.Spec { return ill("HN") }, written(
			reading.PageHealth, 0, 0x0A, 0x68, 0x01, 100, 10, 0,
		)},
		{"a SAS disk without a page of temperatures", func() sim.Spec { return ill("OS") }, absent(
			reading.PageLog(scsi.LogTemperature), reading.PageLog(scsi.LogBackground),
		)},
		{"a SAS disk whose tests fail without a reason", func() sim.Spec { return ill("OS") }, func(_ int, p *reading.Page) {
			if p.Name == reading.PageLog(scsi.LogSelfTests) {
				for at := 4; at+20 <= len(p.Bytes); at += 20 {
					p.Bytes[at+4] = p.Bytes[at+4]&0xF0 | 7
					clear(p.Bytes[at+16 : at+19])
				}
			}
		}},
		{"a SAS disk of which some pages are missing or damaged", func() sim.Spec { return ill("OS") }, damaged},
	} {
		b.Head(k.name)
		pages, key, err := NewReader().Read(t.Context(), k.spec(), at)
		require.NoError(t, err)
		whole := described(pages, key)
		if k.change == nil {
			for _, line := range whole {
				b.Line("%s", line)
			}
			continue
		}
		for i := range pages {
			k.change(i, &pages[i])
		}
		left := described(pages, key)
		for _, line := range whole {
			if !slices.Contains(left, line) {
				b.Line("- %s", line)
			}
		}
		for _, line := range left {
			if !slices.Contains(whole, line) {
				b.Line("+ %s", line)
			}
		}
	}
	b.Close()
}

// described is all that is made of the pages of a reading, a fact a line.
func described(pages []reading.Page, key drive.Key) (all []string) {
	line := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	r := reading.Explain(pages, dialect.Hints{})
	line("key %s", vector.Say(key))
	line("identity %s", vector.Say(r.Identity))
	line("dialect %s", vector.Say(r.Dialect))
	line("can %s, running %v %d, alarm %s by %s", vector.Say(r.Capabilities), r.TestRunning, r.TestRemaining, r.Alarm, r.AlarmFrom)
	for _, a := range r.Attributes {
		line("attribute %s, %s", vector.Say(a), a.State())
	}
	for _, x := range r.Tests {
		line("test %s", vector.Say(x))
	}
	for _, x := range r.Errors {
		line("error %s", vector.Say(x))
	}
	line("%d errors in all", r.ErrorTotal)
	for _, f := range r.Faults {
		line("fault %s", vector.Say(f))
	}
	for _, s := range r.Sheets {
		line("%s: %s", s.Page, s.Page.Title())
		for _, f := range s.Facts {
			line("  %5d +%d  %s: %s %s%s", f.Offset, f.Length, f.Name, f.Value, f.Unit, f.Reason)
		}
	}
	set := signal.Of(&r)
	set.Label("4 TB")
	hours := set[signal.PowerOnHours].Number
	set.Sweep(
		[]signal.Swept{
			{Whole: false, Unreadable: 1, Hours: hours - 3, Source: "spot sweep"},
			{Rework: true, Cleared: 2, Hours: hours - 6},
			{Whole: true, Unreadable: 5, Slow: 2, Hours: hours - 9, Bytes: 1e18, Source: "whole sweep", Run: 7},
		},
	)
	for _, d := range signal.Registry {
		v, known := set[d.Name]
		if !known {
			continue
		}
		if v.Available {
			line(
				"signal %s: %s, %s, %s %d +%d %s", d.Name, wording.Of(v.Number, d.Unit), v.Source, v.Page, v.Offset, v.Length,
				v.Confidence,
			)
			if v.Disagrees != "" {
				line("    but %s", v.Disagrees)
			}
		} else {
			line("signal %s: not available, %s", d.Name, v.Reason)
		}
	}
	return all
}
