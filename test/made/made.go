// Package made is the made-up drives that several of the tests of the whole put into bays.
package made

import (
	"time"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
)

// Disk is a sound spinning drive with a passed extended self-test behind it.
func Disk(serial string) sim.Spec {
	return sim.Spec{
		Identity: ata.Identify{
			Serial:            serial,
			Firmware:          "S1.04",
			Model:             "Korvan K4-2000",
			Sectors:           3_906_250_168,
			LogicalSector:     512,
			PhysicalSector:    4096,
			RotationRate:      7200,
			LBA48:             true,
			FormFactor:        2,
			SMARTSupported:    true,
			SMARTEnabled:      true,
			ErrorLogSupported: true,
			ErrorLogEnabled:   true,
			SelfTestSupported: true,
			SelfTestEnabled:   true,
			Integrity:         ata.IntegrityRight,
		},
		Seed: 4, Born: time.Now(), Hours: 9000, Share: 1, Minutes: 2, Heat: sim.Heat{Base: 38, Wave: 2, Noise: 1},
		Tests: []ata.SelfTest{{Number: ata.TestExtended, Hours: 8700}},
		Counters: []sim.Counter{
			{ID: 5, Flags: 0x33, Threshold: 36, Value: 100},
			{ID: 9, Value: 90, Kind: sim.Hours},
			{ID: 10, Value: 100},
			{ID: 184, Value: 100},
			{ID: 187, Value: 100},
			{ID: 194, Kind: sim.Temperature},
			{ID: 197, Value: 100},
			{ID: 198, Value: 100},
			{ID: 199, Value: 200},
		},
	}
}
