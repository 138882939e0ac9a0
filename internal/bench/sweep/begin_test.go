package sweep

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/vector"
)

func TestASweepPausesTwoDegreesUnderTheDrivesLimit(t *testing.T) {
	assert.Equal(t, 58, hotAt(reading.Reading{}), "the drive does not say")
	for limit, want := range map[int8]int{0: 58, 40: 58, 41: 39, 55: 53, 70: 68} {
		assert.Equal(t, want, hotAt(reading.Reading{Curve: &ata.TemperatureHistory{MaxOperating: limit}}), "%d °C", limit)
	}
	for kelvin, want := range map[uint16]int{0: 58, 313: 58, 314: 39, 353: 78} {
		assert.Equal(t, want, hotAt(reading.Reading{Controller: &nvme.Controller{WarningK: kelvin}}), "%d K", kelvin)
	}
}

func TestPlacesTheDriveNamesAreSwept(t *testing.T) {
	r := reading.Reading{Tests: []reading.SelfTest{
		{Failed: true, HasLBA: true, LBA: 7}, {Failed: true, LBA: 8}, {HasLBA: true, LBA: 9},
	}}
	assert.Equal(t, []uint64{7}, near(r))
	r.Pending = &ata.PendingLog{}
	for n := range uint64(300) {
		r.Pending.Defects = append(r.Pending.Defects, ata.PendingDefect{LBA: 1000 + n})
	}
	all := near(r)
	assert.Len(t, all, 256)
	assert.EqualValues(t, 1000, all[0])
}

func TestTheCurveOfTheHeatStaysWhenItIsThinned(t *testing.T) {
	g, err := surface.NewGeometry(100_000*512, 512, 4096, 0, 7200, 0)
	require.NoError(t, err)
	s := &Sweeper{host: Host{Clock: sim.NewClock(60)}, course: surface.New(g, nil)}
	for n := range mostHeat + 1 {
		s.Warm(n)
	}
	require.Len(t, s.heat, mostHeat/2+1)
	assert.Equal(t, []int{0, 2, 4}, []int{s.heat[0].Celsius, s.heat[1].Celsius, s.heat[2].Celsius})
	assert.Equal(t, mostHeat, s.heat[mostHeat/2].Celsius, "the newest is kept")
}

func TestAMendGoesOverWholePhysicalSectors(t *testing.T) {
	g, err := surface.NewGeometry(100_000*512, 512, 4096, 0, 7200, 0)
	require.NoError(t, err)
	spot := func(lba uint64) surface.Extent { return surface.Extent{LBA: lba, Sectors: 8} }
	assert.Equal(t, []surface.Extent{spot(0), spot(8), spot(99_992)}, mendSpots([]surface.Extent{
		{LBA: 3, Sectors: 2}, {LBA: 6, Sectors: 4}, {LBA: 9, Sectors: 7}, {LBA: 99_999, Sectors: 5}, {LBA: 100_000, Sectors: 8},
	}, g), "each once, and none beyond the last")
	assert.Len(t, mendSpots([]surface.Extent{{LBA: 0, Sectors: 80_000}}, g), 10_000)
	assert.Len(t, mendSpots([]surface.Extent{{LBA: 0, Sectors: 80_008}}, g), 10_000, "a drive with more is not worth mending")
}

// Which sweep begins when, which is to wait and why, on benches of several kinds: testdata/feed.txt.
func TestTheCourseOfAFeed(t *testing.T) {
	b := vector.Open(t, "feed.txt")
	for _, row := range []struct {
		bus  float64
		each []float64 // bytes per second of each drive
	}{
		{600e6, []float64{150e6, 150e6, 150e6, 150e6, 150e6, 150e6}},
		{400e6, []float64{250e6, 40e6, 250e6, 40e6, 250e6}},
		{1e12, []float64{200e6, 200e6, 200e6}},
		{260e6, []float64{260e6, 260e6}},
		{300e6, []float64{260e6, 0, 260e6}},
	} {
		b.Head(fmt.Sprintf("a bus of %.0f MB/s", row.bus/1e6))
		f := Feeder{Feed: RealFeed}
		begin := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
		said := map[int]string{}
		going := map[int]bool{}
		say := func(after time.Duration, run int, what string) {
			if said[run] != what {
				b.Line("%6.2f s: run %d %s", after.Seconds(), run, what)
			}
			said[run] = what
		}
		for after := time.Duration(0); after < 150*time.Second; after += 250 * time.Millisecond {
			now := begin.Add(after)
			wanted := 0.0
			for run := range row.each {
				if after == 90*time.Second && run == 0 {
					f.Left(1)
					going[run] = false
					say(after, 0, "has ended")
				}
				if run == 0 && after >= 90*time.Second {
					continue
				}
				if !going[run] {
					why := f.Ask(int64(run+1), now)
					if going[run] = why.IsZero(); going[run] {
						say(after, run, "begins")
					} else {
						say(after, run, "waits: "+why.String())
					}
				}
				if going[run] {
					wanted += row.each[run]
				}
			}
			share := min(1, row.bus/max(1, wanted))
			for run, speed := range row.each {
				if !going[run] {
					continue
				}
				if why := f.Moved(int64(run+1), uint64(speed*share/4), now); !why.IsZero() {
					going[run] = false
					say(after, run, "is to wait: "+why.String())
				}
			}
		}
	}
	b.Close()
}
