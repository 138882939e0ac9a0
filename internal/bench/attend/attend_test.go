package attend

import (
	"context"
	"log/slog"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/device/devicetest"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/surface"
)

// bench is the same simulated bench on both sides of the socket.
func bench() *sim.Bench {
	b := sim.New(sim.NewClock(3600), "", "sata", "nvme", "stuck")
	spec := sim.Spec{
		Identity: ata.Identify{
			Serial:            "KVA077M4R9",
			Model:             "Korvan K4-2000",
			Sectors:           4_000_000,
			LogicalSector:     512,
			PhysicalSector:    4096,
			RotationRate:      7200,
			LBA48:             true,
			SMARTSupported:    true,
			SMARTEnabled:      true,
			SelfTestSupported: true,
			SelfTestEnabled:   true,
			Integrity:         ata.IntegrityRight,
		},
		Born:     time.Now(),
		Hours:    9000,
		Share:    1,
		Counters: []sim.Counter{{ID: 9, Value: 90, Kind: sim.Hours}},
		Unread:   sim.Course{From: 3},
		FirstLBA: 80_000,
	}
	b.Insert("sata", spec)
	flash, stuck := spec, spec
	flash.NVMe, flash.Identity.RotationRate = &sim.NVMe{SelfTest: true}, 1
	b.Insert("nvme", flash)
	stuck.Awkward.HangsOn, stuck.Awkward.HangsFeature = ata.SMART, ata.SMARTReadThresholds
	b.Insert("stuck", stuck)
	return b
}

// TestMain is the process that attends a drive, too.
func TestMain(m *testing.M) {
	if os.Getenv("HYLOSTAT_TEST_ATTENDS") == "" {
		os.Exit(m.Run())
	}
	if err := Serve(
		context.Background(), os.NewFile(3, "socket"), func([]string) (device.Source, error) { return bench(), nil },
	); err != nil {
		panic(err)
	}
}

func source(t *testing.T) (*Source, map[drive.Address]drive.Attachment) {
	t.Helper()
	t.Setenv("HYLOSTAT_TEST_ATTENDS", "yes")
	s := &Source{Machine: bench(), Command: []string{os.Args[0]}, Log: slog.New(slog.NewTextHandler(t.Output(), nil))}
	return s, look(t, s)
}

func look(t *testing.T, s *Source) map[drive.Address]drive.Attachment {
	t.Helper()
	found, err := s.Look(t.Context())
	require.NoError(t, err)
	all := map[drive.Address]drive.Attachment{}
	for _, d := range found {
		all[d.Address] = d
	}
	return all
}

func TestDrivesInProcessesOfTheirOwnConform(t *testing.T) {
	s, all := source(t)
	for _, at := range []drive.Address{"sata", "nvme"} {
		d, err := s.Open(t.Context(), all[at])
		require.NoError(t, err)
		devicetest.Test(t, d)
	}
	_, err := s.Open(t.Context(), drive.Attachment{Address: "sata", Node: "sim1", Instance: "7"})
	var failed *device.Failed
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, drive.FaultVanished, failed.Class, "what keeps a drive from being opened comes through as it is")
}

// sweep goes over a surface as the bench does.
func sweep(
	t *testing.T, g surface.Geometry, over func(next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error,
) *surface.Sweep {
	t.Helper()
	w := surface.New(g, nil)
	for !w.Finished() {
		require.NoError(t, over(w.Next, w.Tell))
	}
	return w
}

func TestASurfaceIsReadAndWrittenThroughTheProcess(t *testing.T) {
	s, all := source(t)
	d, err := s.Open(t.Context(), all["sata"])
	require.NoError(t, err)
	blocks := d.(device.Blocks)
	l := blocks.Limits()
	g, err := surface.NewGeometry(l.Bytes, l.Logical, l.Physical, 0, 7200, l.Most)
	require.NoError(t, err)
	how := device.Streaming{Depth: 2}
	w := sweep(t, g, func(next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error {
		return blocks.Stream(t.Context(), how, next, told)
	})
	assert.EqualValues(t, 3, w.Unread)
	assert.EqualValues(t, 80_000, w.Ranges[0].LBA)

	x, err := s.OpenExclusive(t.Context(), all["sata"])
	require.NoError(t, err)
	pattern := surface.Pattern{Seed: 5}
	w = sweep(t, g, func(next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error {
		return x.Fill(t.Context(), pattern, how, next, told)
	})
	assert.Zero(t, w.Unread, "what is written is exchanged")
	how.Compare = &pattern
	w = sweep(t, g, func(next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error {
		return x.Stream(t.Context(), how, next, told)
	})
	assert.Zero(t, w.Lost)
	assert.Zero(t, w.Unread)
	require.NoError(t, x.Close())
	require.NoError(t, d.Close())
}

func TestAStreamEndsWithItsContext(t *testing.T) {
	s, all := source(t)
	d, err := s.Open(t.Context(), all["sata"])
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	n := uint64(0)
	err = d.(device.Blocks).Stream(ctx, device.Streaming{Depth: 2}, func() (surface.Read, bool) {
		n++
		return surface.Read{Extent: surface.Extent{LBA: n % 100 * 2048, Sectors: 2048}, Number: n}, true
	}, func(surface.Read, surface.Outcome) {
		if n > 20 {
			cancel()
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, d.Close())
}

// A process that is killed is a drive that left and came back; the others do not notice.
func TestAKilledProcessIsADriveFoundAnew(t *testing.T) {
	s, all := source(t)
	ctx, end := context.WithCancel(t.Context())
	defer end()
	changed := s.Changed(ctx)
	one, err := s.Open(t.Context(), all["sata"])
	require.NoError(t, err)
	other, err := s.Open(t.Context(), all["nvme"])
	require.NoError(t, err)
	pid := one.(*disk).process.cmd.Process.Pid
	n := uint64(0)
	err = one.(device.Blocks).Stream(t.Context(), device.Streaming{Depth: 2}, func() (surface.Read, bool) {
		if n++; n == 50 {
			require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
		}
		return surface.Read{Extent: surface.Extent{LBA: n % 1000 * 2048, Sectors: 2048}, Number: n}, true
	}, func(surface.Read, surface.Outcome) {})
	var failed *device.Failed
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, drive.FaultVanished, failed.Class)
	select {
	case <-changed:
	case <-time.After(10 * time.Second):
		require.Fail(t, "nobody was told that there is something to look at")
	}
	again := look(t, s)
	assert.NotEqual(t, all["sata"].Instance, again["sata"].Instance)
	assert.Equal(t, all["nvme"], again["nvme"])
	_, err = other.(device.NVMe).Admin(t.Context(), device.AdminCommand{Timeout: time.Second})
	var refused *device.Refused
	require.ErrorAs(t, err, &refused, "the other process is there")
	back, err := s.Open(t.Context(), again["sata"])
	require.NoError(t, err)
	r, err := back.(device.SCSI).Exchange(t.Context(), device.Command{CDB: scsi.InquiryCDB(36), DataIn: 36, Timeout: time.Second})
	require.NoError(t, err)
	assert.Len(t, r.Data, 36)
	require.NoError(t, back.Close())
	require.NoError(t, other.Close())
}
