package sim

import (
	"context"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/device/devicetest"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
)

// still is a clock that moves only when told.
type still struct{ at time.Time }

func (s *still) Now() time.Time { return s.at }

func (s *still) Sleep(ctx context.Context, d time.Duration) error {
	s.at = s.at.Add(d)
	return ctx.Err()
}

var born = time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)

func spec() Spec {
	return Spec{
		Identity: ata.Identify{
			Serial:            "KVA077M4R9",
			Firmware:          "S1.04",
			Model:             "Korvan K4-2000",
			Sectors:           3_906_250_168,
			LogicalSector:     512,
			PhysicalSector:    4096,
			RotationRate:      7200,
			LBA48:             true,
			SMARTSupported:    true,
			SMARTEnabled:      true,
			ErrorLogSupported: true,
			ErrorLogEnabled:   true,
			SelfTestSupported: true,
			SelfTestEnabled:   true,
			Integrity:         ata.IntegrityRight,
		},
		Seed:       4,
		Born:       born,
		Hours:      9000,
		Share:      0.5,
		Minutes:    2,
		Statistics: true,
		Heat:       Heat{Base: 38, Wave: 2, Noise: 1},
		Counters: []Counter{
			{ID: 5, Flags: 0x33, Threshold: 36, Value: 100},
			{ID: 9, Value: 90, Kind: Hours},
			{ID: 194, Kind: Temperature},
			{ID: 197, Value: 100, Course: Course{Start: 9000, Every: 10, Step: 3}},
		},
	}
}

func open(t *testing.T, s Spec) (*Bench, *still, device.Device) {
	t.Helper()
	clock := &still{born.Add(200 * time.Hour)}
	b := New(clock, "", "bay")
	b.Insert("bay", s)
	found, err := b.Look(t.Context())
	require.NoError(t, err)
	require.Len(t, found, 1)
	d, err := b.Open(t.Context(), found[0])
	require.NoError(t, err)
	return b, clock, d
}

func TestSimulatedDrivesConform(t *testing.T) {
	flash, server := spec(), spec()
	flash.NVMe, server.SCSI = &NVMe{SelfTest: true}, &SCSI{Vendor: "OSPRIL"}
	for _, s := range []Spec{spec(), flash, server} {
		_, _, d := open(t, s)
		devicetest.Test(t, d)
	}
}

func TestTheSameSeedAndTimeGiveTheSameBytes(t *testing.T) {
	_, _, one := open(t, spec())
	_, clock, two := open(t, spec())
	a, _ := probe.Open(one, probe.NotKnown)
	b, _ := probe.Open(two, probe.NotKnown)
	assert.Equal(t, a.Pages(t.Context(), probe.Manner{Wake: true}), b.Pages(t.Context(), probe.Manner{Wake: true}))
	clock.at = clock.at.Add(500 * time.Hour)
	assert.NotEqual(t, a.Pages(t.Context(), probe.Manner{Wake: true}), b.Pages(t.Context(), probe.Manner{Wake: true}), "time passes")
}

func TestACourseNeverFalls(t *testing.T) {
	c := Course{From: 3, Start: 100, Every: 7, Step: 4}
	assert.EqualValues(t, 3, c.At(99, 1))
	last := 0.0
	for h := range 2000 {
		v := c.At(float64(h), 1)
		require.GreaterOrEqual(t, v, last)
		last = v
	}
	assert.Greater(t, last, 100.0)
}

func TestEveryAwkwardnessEndsAsAFactWithAnAdvice(t *testing.T) {
	sleeper := probe.Manner{}
	for name, row := range map[string]struct {
		change func(*Spec)
		manner probe.Manner
		page   reading.PageName
		class  drive.FaultClass
	}{
		"an adapter that passes nothing": {
			func(s *Spec) { s.Awkward.NoPass = true }, sleeper, reading.PageIdentify, drive.FaultNotPassed,
		},
		"an adapter that keeps the registers": {
			func(s *Spec) { s.Awkward.NoRegisters = true }, sleeper, reading.PageAlarm, drive.FaultNotPassed,
		},
		"the 12-byte form and 48-bit logs": {
			func(s *Spec) { s.Awkward.Only12, s.Identity.GPL = true, true }, sleeper, reading.PageDirectoryExt, drive.FaultNotPassed,
		},
		"counters with a wrong checksum": {
			func(s *Spec) { s.Awkward.Garbage = true }, sleeper, reading.PageAttributes, drive.FaultBadAnswer,
		},
		"answers that stop half-way": {
			func(s *Spec) { s.Awkward.Truncated = true }, sleeper, reading.PageIdentify, drive.FaultBadAnswer,
		},
		"SMART switched off": {
			func(s *Spec) { s.Awkward.SMARTOff = true }, sleeper, reading.PageAttributes, drive.FaultSwitchedOff,
		},
		"a drive that never answers one command": {
			func(s *Spec) { s.Awkward.HangsOn, s.Awkward.HangsFeature = ata.SMART, ata.SMARTReadThresholds }, sleeper,
			reading.PageThresholds, drive.FaultStuck,
		},
		"a drive that does not even name itself": {
			func(s *Spec) { s.Awkward.HangsOn = ata.IdentifyDevice }, sleeper, reading.PageIdentify, drive.FaultStuck,
		},
		"a drive that vanishes on the way": {
			func(s *Spec) { s.Awkward.VanishAfter = 4 }, sleeper, reading.PageThresholds, drive.FaultVanished,
		},
		"a drive that sleeps": {
			func(s *Spec) { s.Awkward.Asleep = true }, sleeper, reading.PageAttributes, drive.FaultAsleep,
		},
		"a drive that waits to be told": {
			func(s *Spec) { s.Identity.SpinUpNeeded = true }, sleeper, reading.PageIdentify, drive.FaultNotRead,
		},
		"volumes of a RAID controller": {
			func(s *Spec) { s.Awkward.Behind = "behind a RAID controller" }, sleeper, reading.PageInquiry, drive.FaultBehind,
		},
		"a controller without self-tests": {func(s *Spec) { s.NVMe = &NVMe{} }, sleeper, reading.PageNVMeTests, drive.FaultRefused},
		"a controller that refuses a log": {
			func(s *Spec) { s.NVMe = &NVMe{SelfTest: true, Refuses: []uint8{nvme.LogSelfTest}} }, sleeper, reading.PageNVMeTests,
			drive.FaultRefused,
		},
		"a log C0h of the maker's own": {func(s *Spec) { s.NVMe = &NVMe{} }, sleeper, reading.PageDatacenter, drive.FaultRefused},
		"a SCSI drive that waits to be told": {
			func(s *Spec) { s.SCSI = &SCSI{Vendor: "OSPRIL", Waits: true} }, sleeper, reading.PageCapacity, drive.FaultNotReady,
		},
	} {
		s := spec()
		row.change(&s)
		_, _, d := open(t, s)
		session, fault := probe.Open(d, probe.NotKnown)
		require.Nil(t, fault)
		r := reading.Decode(session.Pages(t.Context(), row.manner))
		found := false
		for _, f := range r.Faults {
			if f.Page == string(row.page) && f.Class == row.class {
				found = true
				assert.NotEmpty(t, f.Advice(), name)
			}
		}
		assert.True(t, found, "%s: %v", name, r.Faults)
	}
}

func TestAPersonsQuestionWakesWhatSleeps(t *testing.T) {
	asleep, waiting, server := spec(), spec(), spec()
	asleep.Awkward.Asleep, waiting.Identity.SpinUpNeeded, server.SCSI = true, true, &SCSI{Vendor: "OSPRIL", Waits: true}
	for _, s := range []Spec{asleep, waiting, server} {
		_, _, d := open(t, s)
		session, _ := probe.Open(d, probe.NotKnown)
		left := reading.Decode(session.Pages(t.Context(), probe.Manner{}))
		assert.NotEmpty(t, left.Faults)
		woken := reading.Decode(session.Pages(t.Context(), probe.Manner{Wake: true}))
		assert.Empty(t, woken.Faults)
		assert.True(t, woken.HasCounters)
	}
}

func TestWhatAnAdapterPassesIsRemembered(t *testing.T) {
	s := spec()
	s.Awkward.NoPass = true
	_, _, d := open(t, s)
	session, _ := probe.Open(d, probe.Nothing)
	pages := session.Pages(t.Context(), probe.Manner{})
	assert.Contains(t, pages[len(pages)-1].Fault.Cause, "known to pass no ATA commands")
	s.Awkward = Awkward{Only12: true}
	_, _, d = open(t, s)
	session, _ = probe.Open(d, probe.Nothing)
	session.Pages(t.Context(), probe.Manner{Wake: true})
	assert.Equal(t, probe.By12, session.Passes(), "a person's question tries again")
}

func TestEveryInterfaceRunsItsSelfTestWithProgress(t *testing.T) {
	for name, kind := range map[string]func(*Spec){
		"ATA": func(*Spec) {}, "NVMe": func(s *Spec) { s.NVMe = &NVMe{SelfTest: true} },
		"SCSI": func(s *Spec) { s.SCSI = &SCSI{Vendor: "OSPRIL"} },
	} {
		s := spec()
		kind(&s)
		_, clock, d := open(t, s)
		session, _ := probe.Open(d, probe.NotKnown)
		session.Pages(t.Context(), probe.Manner{})
		require.Nil(t, session.StartTest(t.Context(), probe.Short), name)
		clock.at = clock.at.Add(time.Minute)
		look, fault := session.LookTest(t.Context())
		require.Nil(t, fault, name)
		assert.True(t, look.Running, name)
		assert.InDelta(t, 50, look.Left, 1, name)
		require.Nil(t, session.AbortTest(t.Context()), name)
		require.Nil(t, session.StartTest(t.Context(), probe.Extended), name)
		clock.at = clock.at.Add(100 * time.Hour)
		look, fault = session.LookTest(t.Context())
		require.Nil(t, fault, name)
		assert.False(t, look.Running, name)
		r := reading.Decode([]reading.Page{{Name: look.Page, Bytes: look.Log}})
		require.Len(t, r.Tests, 2, name)
		assert.Equal(t, "extended", r.Tests[0].Kind, name)
		assert.True(t, r.Tests[0].Passed, name)
		assert.Equal(t, "aborted by the host", r.Tests[1].Result, name)
	}
	s := spec()
	s.NVMe = &NVMe{SelfTest: true}
	_, _, d := open(t, s)
	session, _ := probe.Open(d, probe.NotKnown)
	assert.Equal(t, drive.FaultRefused, session.StartTest(t.Context(), probe.Conveyance).Class, "a test of ATA's alone")
}

func TestDefectsWaitAreWrittenAndReallocated(t *testing.T) {
	s := spec()
	s.Defects, s.Wait = Course{Start: 9000, Every: 30, Step: 2}, 100
	s.Counters = []Counter{{ID: 5, Kind: Reallocated}, {ID: 197, Kind: Waiting}}
	all := func(h float64) (waits, done float64) { return s.counter(197, h), s.counter(5, h) }
	last := 0.0
	for h := 9000.0; h < 12_000; h += 50 {
		waits, done := all(h)
		assert.GreaterOrEqual(t, done, last, "what is reallocated stays so")
		assert.InDelta(t, s.Defects.At(h, s.seedOf("defects")), waits+done, 0.1, "a defect either waits or is reallocated")
		last = done
	}
	assert.Positive(t, last)
	s.Wiped = 11_000
	_, done := all(11_000)
	assert.Zero(t, done, "somebody set the counters to zero")
}

func TestTwelveBytesAndFixedSenseAreEnough(t *testing.T) {
	s := spec()
	s.Awkward = Awkward{Only12: true, FixedSense: true}
	_, _, d := open(t, s)
	session, _ := probe.Open(d, probe.NotKnown)
	r := reading.Decode(session.Pages(t.Context(), probe.Manner{Wake: true}))
	assert.Empty(t, r.Faults)
	assert.Equal(t, ata.AlarmNotRaised, r.Alarm)
	assert.True(t, r.HasCounters)
	hours, ok := r.Statistic(ata.StatPowerOnHours)
	assert.True(t, ok, "statistics come through the 12-byte form, too")
	assert.EqualValues(t, 9100, hours.Value)
}

func TestTheLongErrorLogComesByWhicheverWayTheAdapterPasses(t *testing.T) {
	for page, row := range map[reading.PageName]struct {
		only12 bool
		not    reading.PageName
	}{
		reading.PageErrorsExt: {false, reading.PageErrors},
		reading.PageErrors:    {true, reading.PageErrorsExt},
	} {
		s := spec()
		s.Identity.GPL, s.Identity.SCT, s.Logs, s.Awkward.Only12 = true, true, true, row.only12
		s.Errors = []ata.LoggedError{{Error: ata.ErrorUNC, Status: 0x51, LBA: 4711, Hours: 8990}}
		_, _, d := open(t, s)
		session, _ := probe.Open(d, probe.NotKnown)
		got := map[reading.PageName]reading.Page{}
		for _, p := range session.Pages(t.Context(), probe.Manner{Wake: true}) {
			got[p.Name] = p
		}
		assert.Nil(t, got[page].Fault, page)
		l, err := ata.DecodeErrors(got[page].Bytes)
		if page == reading.PageErrorsExt {
			l, err = ata.DecodeErrorsExt(got[page].Bytes)
		}
		require.NoError(t, err, page)
		require.Len(t, l.Errors, 1, page)
		assert.EqualValues(t, 4711, l.Errors[0].LBA, page)
		assert.Empty(t, got[row.not].Bytes, "the same errors are not read twice")
	}
}

func TestASelfTestTakesItsTimeAndIsLogged(t *testing.T) {
	for name, row := range map[string]struct {
		unread Course
		want   string
	}{"sound": {Course{}, "passed"}, "unreadable sectors": {Course{From: 3}, "read failure"}} {
		s := spec()
		s.Unread, s.FirstLBA = row.unread, 4711
		_, clock, d := open(t, s)
		session, _ := probe.Open(d, probe.NotKnown)
		require.Nil(t, session.StartTest(t.Context(), probe.Short))
		clock.at = clock.at.Add(time.Minute)
		r := reading.Decode(session.Pages(t.Context(), probe.Manner{Wake: true}))
		assert.True(t, r.TestRunning, name)
		assert.EqualValues(t, 50, r.TestRemaining, name)
		clock.at = clock.at.Add(2 * time.Minute)
		r = reading.Decode(session.Pages(t.Context(), probe.Manner{Wake: true}))
		require.Len(t, r.Tests, 1, name)
		assert.Equal(t, row.want, r.Tests[0].Result, name)
		assert.Equal(t, row.want != "passed", r.Tests[0].HasLBA, name)
	}
}

func TestAPulledDriveVanishesAndItsTestIsInterrupted(t *testing.T) {
	b, _, d := open(t, spec())
	session, _ := probe.Open(d, probe.NotKnown)
	_, fault := session.Do(t.Context(), ata.ExecuteSelfTest(ata.TestShort))
	require.Nil(t, fault)
	b.Remove("bay")
	_, fault = session.Do(t.Context(), ata.ReadIdentify())
	require.NotNil(t, fault)
	assert.Equal(t, drive.FaultVanished, fault.Class)
	b.Return("bay")
	found, err := b.Look(t.Context())
	require.NoError(t, err)
	again, err := b.Open(t.Context(), found[0])
	require.NoError(t, err)
	session, _ = probe.Open(again, probe.NotKnown)
	r := reading.Decode(session.Pages(t.Context(), probe.Manner{Wake: true}))
	assert.Equal(t, "interrupted by a reset", r.Tests[0].Result)
}

// The logs for the maker's support are long, and asked for only when a person wants them.
func TestAttachmentsAreKeptWholeAndOnlyWhenAsked(t *testing.T) {
	for _, row := range []struct {
		kind  func(*Spec)
		pages map[reading.PageName]int
	}{
		{
			func(s *Spec) { s.Logs, s.Identity.GPL = true, true },
			map[reading.PageName]int{
				reading.PageInternalStatus: (1 + makersPages) * ata.PageSize, reading.PageIdentifyData: 2 * ata.PageSize,
			},
		},
		{func(s *Spec) { s.NVMe = &NVMe{} }, map[reading.PageName]int{reading.PageTelemetry: (1 + makersPages) * nvme.TelemetryHeader}},
	} {
		s := spec()
		row.kind(&s)
		_, _, d := open(t, s)
		session, _ := probe.Open(d, probe.NotKnown)
		for _, asked := range []bool{false, true} {
			got := map[reading.PageName]int{}
			pages := session.Pages(t.Context(), probe.Manner{Attachments: asked})
			for _, p := range pages {
				if _, wanted := row.pages[p.Name]; wanted {
					got[p.Name] = len(p.Bytes)
				}
			}
			if asked {
				assert.Equal(t, row.pages, got)
				for _, f := range reading.Decode(pages).Faults {
					assert.NotContains(t, row.pages, reading.PageName(f.Page), "what nobody decodes is no fault")
				}
			} else {
				assert.Empty(t, got)
			}
		}
	}
}

// A page that ends early says less, and nothing else: what it no longer holds is missing, whatever length it was cut to.
func TestACutPageSaysLessAndNothingElse(t *testing.T) {
	for name, kind := range map[string]func(*Spec){
		"ATA": func(s *Spec) { s.Statistics, s.Logs, s.Identity.GPL = true, true, true },
		"NVMe": func(s *Spec) {
			s.NVMe = &NVMe{SelfTest: true, Persistent: true, Datacenter: true, Groups: 1, Media: Course{From: 3}, LongNames: true}
		},
		"SCSI": func(s *Spec) { s.SCSI = &SCSI{Vendor: "OSPRIL", Grown: Course{From: 4}, Uncorrected: Course{From: 2}} },
	} {
		s := spec()
		kind(&s)
		_, _, d := open(t, s)
		session, _ := probe.Open(d, probe.NotKnown)
		pages := session.Pages(t.Context(), probe.Manner{Wake: true})
		whole := reading.Decode(pages)
		full := signal.Of(&whole)
		for i, p := range pages {
			for n := 0; n < len(p.Bytes); n += 1 + n/64 {
				cut := slices.Clone(pages)
				cut[i].Bytes = p.Bytes[:n]
				r := reading.Decode(cut)
				for signalName, v := range signal.Of(&r) {
					if was := full[signalName]; v.Available && was.Available && v.Page == was.Page && v.Source == was.Source &&
						v.Offset == was.Offset &&
						v.Number != was.Number {
						if signalName == signal.DamagedPages {
							continue // one more is damaged
						}
						t.Errorf(
							"%s, %s cut to %d of %d bytes: %s is %v, was %v", name, p.Name, n, len(p.Bytes), signalName, v.Number,
							was.Number,
						)
					}
				}
			}
		}
	}
}
