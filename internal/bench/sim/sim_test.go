package sim

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/device/devicetest"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
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
			Serial: "KVA077M4R9", Firmware: "S1.04", Model: "Korvan K4-2000", Sectors: 3_906_250_168, LogicalSector: 512, PhysicalSector: 4096, RotationRate: 7200, LBA48: true,
			SMARTSupported: true, SMARTEnabled: true, ErrorLogSupported: true, ErrorLogEnabled: true, SelfTestSupported: true, SelfTestEnabled: true, Integrity: ata.IntegrityRight,
		},
		Seed: 4, Born: born, Hours: 9000, Share: 0.5, Minutes: 2, Statistics: true, Heat: Heat{Base: 38, Wave: 2, Noise: 1},
		Counters: []Counter{{ID: 5, Flags: 0x33, Threshold: 36, Value: 100}, {ID: 9, Value: 90, Kind: Hours}, {ID: 194, Kind: Temperature}, {ID: 197, Value: 100, Course: Course{Start: 9000, Every: 10, Step: 3}}},
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

func TestASimulatedDriveConforms(t *testing.T) {
	_, _, d := open(t, spec())
	devicetest.TestATA(t, d)
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
	for name, row := range map[string]struct {
		awkward Awkward
		page    reading.PageName
		class   drive.FaultClass
	}{
		"an adapter that passes nothing":         {Awkward{NoPass: true}, reading.PageIdentify, drive.FaultNotPassed},
		"an adapter that keeps the registers":    {Awkward{NoRegisters: true}, reading.PageAlarm, drive.FaultNotPassed},
		"counters with a wrong checksum":         {Awkward{Garbage: true}, reading.PageAttributes, drive.FaultBadAnswer},
		"SMART switched off":                     {Awkward{SMARTOff: true}, reading.PageAttributes, drive.FaultSwitchedOff},
		"a drive that never answers one command": {Awkward{HangsOn: ata.SMART, HangsFeature: ata.SMARTReadThresholds}, reading.PageThresholds, drive.FaultStuck},
		"a drive that does not even name itself": {Awkward{HangsOn: ata.IdentifyDevice}, reading.PageIdentify, drive.FaultStuck},
	} {
		s := spec()
		s.Awkward = row.awkward
		_, _, d := open(t, s)
		session, fault := probe.Open(d, probe.NotKnown)
		require.Nil(t, fault)
		r := reading.Decode(session.Pages(t.Context(), probe.Manner{Wake: true}))
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
