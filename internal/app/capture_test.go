package app

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/record"
)

func spec(serial string) sim.Spec {
	return sim.Spec{
		Identity: ata.Identify{
			Serial:         serial,
			Model:          "Korvan K4-2000",
			Sectors:        1_000_000,
			LogicalSector:  512,
			SMARTSupported: true,
			SMARTEnabled:   true,
			Integrity:      ata.IntegrityRight,
		},
		Born:     time.Now(),
		Hours:    9000,
		Share:    1,
		Counters: []sim.Counter{{ID: 9, Value: 90, Kind: sim.Hours}},
	}
}

func TestCaptureReadsWhatItCanAndTellsTheRest(t *testing.T) {
	source := sim.New(sim.NewClock(600), "", "one", "two", "three", "four")
	flash, closed := spec("BWN11Q7E30"), spec("KVA077M60A")
	flash.NVMe = &sim.NVMe{SelfTest: true}
	closed.Awkward.NoPass = true
	path, other := spec("OSS0419Z4K"), spec("OSS0419Z4K")
	path.SCSI, other.SCSI = &sim.SCSI{Vendor: "OSPRIL", Port: 1}, &sim.SCSI{Vendor: "OSPRIL", Port: 2}
	source.Insert("one", flash)
	source.Insert("two", closed)
	source.Insert("three", path)
	source.Insert("four", other)
	var told []string
	f, failed := captureFrom(t.Context(), source, "rescue", nil, func(node, what string) { told = append(told, node+" "+what) })
	require.Len(t, failed, 1)
	assert.ErrorContains(t, failed[0], "sim2: IDENTIFY DEVICE: the adapter does not pass ATA commands")
	require.Len(t, f.Drives, 2, "a drive on two paths is one drive")
	assert.Len(t, f.Drives[1].Readings, 2)
	assert.Contains(t, told, "sim4 is OSS0419Z4K by another path")
	assert.Contains(t, told, "sim1 page 5 of 10: Health log")
	assert.Equal(t, "rescue, one", f.Drives[0].Readings[0].Place)

	var file bytes.Buffer
	require.NoError(t, record.Write(&file, f))
	back, err := record.Read(&file)
	require.NoError(t, err, "what is captured can be taken in")
	assert.True(t, reading.Decode(back.Drives[0].Readings[0].AsPages()).HasCounters)

	f, failed = captureFrom(t.Context(), source, "rescue", []string{"sim1", "sim9"}, func(string, string) {})
	require.Len(t, failed, 1)
	assert.ErrorContains(t, failed[0], "there is no drive sim9")
	assert.Len(t, f.Drives, 1)
}
