package demo

import (
	"fmt"
	"math/rand/v2"
	"time"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
)

func spinning(r *rand.Rand, hours float64) []sim.Counter {
	return []sim.Counter{
		{ID: 1, Flags: 0x000F, Threshold: 6, Value: 118, Packed: 7000 + 900*r.Float64()},
		{ID: 3, Flags: condemning &^ 0x10, Threshold: 21, Value: 97, Course: sim.Course{From: 4100 + float64(r.IntN(300))}},
		{ID: 4, Flags: aging, Threshold: 20, Value: 98, Course: sim.Course{From: hours / 9}},
		{ID: 5, Flags: condemning, Threshold: 36, Value: 100, PerUnit: 0.05},
		{ID: 7, Flags: 0x000F, Threshold: 45, Value: 78, Packed: 2900 + 300*r.Float64()},
		{ID: 9, Flags: aging, Value: 77, Kind: sim.Hours},
		{ID: 10, Flags: condemning &^ 0x20, Threshold: 97, Value: 100},
		{ID: 12, Flags: aging, Threshold: 20, Value: 98, Course: sim.Course{From: hours / 9}},
		{ID: 184, Flags: aging, Threshold: 99, Value: 100},
		{ID: 187, Flags: aging, Value: 100},
		{ID: 188, Flags: aging, Value: 100},
		{ID: 192, Flags: aging, Value: 100, Course: sim.Course{From: float64(r.IntN(80))}},
		{ID: 193, Flags: aging, Value: 70, Course: sim.Course{From: hours * 2.6, Rate: 3}},
		{ID: 194, Flags: 0x0022, Kind: sim.Temperature},
		{ID: 197, Flags: 0x0012, Value: 100},
		{ID: 198, Flags: 0x0010, Value: 100},
		{ID: 199, Flags: 0x003E, Value: 200},
	}
}

func laptop(r *rand.Rand, hours float64) []sim.Counter {
	return append(
		spinning(r, hours), sim.Counter{ID: 191, Flags: aging, Value: 100, Course: sim.Course{From: float64(r.IntN(40))}},
		sim.Counter{ID: 254, Flags: aging, Value: 100, Course: sim.Course{From: float64(r.IntN(3))}},
	)
}

func flash(r *rand.Rand, hours float64) []sim.Counter {
	return []sim.Counter{
		{ID: 5, Flags: condemning, Threshold: 10, Value: 100},
		{ID: 9, Flags: aging, Value: 95, Kind: sim.Hours},
		{ID: 12, Flags: aging, Value: 97, Course: sim.Course{From: hours / 7}},
		{ID: 171, Flags: aging, Value: 100},
		{ID: 172, Flags: aging, Value: 100},
		{ID: 174, Flags: aging, Value: 100, Course: sim.Course{From: float64(r.IntN(60))}},
		{ID: 177, Flags: condemning &^ 0x20, Threshold: 5, Value: 91, Kind: sim.Wear},
		{ID: 184, Flags: condemning, Threshold: 90, Value: 100},
		{ID: 187, Flags: aging, Value: 100},
		{ID: 190, Flags: 0x0022, Kind: sim.Temperature},
		{ID: 199, Flags: 0x003E, Value: 100},
		{ID: 241, Flags: aging, Value: 99},
	}
}

// lowcost is flash of a controller under many labels: wear stands in a raw number, and it keeps no statistics.
func lowcost(r *rand.Rand, hours float64) []sim.Counter {
	return []sim.Counter{
		{ID: 5, Flags: aging, Value: 100},
		{ID: 9, Flags: aging, Value: 100, Kind: sim.Hours},
		{ID: 12, Flags: aging, Value: 100, Course: sim.Course{From: hours / 6}},
		{ID: 148, Flags: aging, Value: 100, Course: sim.Course{Rate: 14}},
		{ID: 149, Flags: aging, Value: 100, Course: sim.Course{Rate: 0.021}},
		{ID: 150, Flags: aging, Value: 100, Course: sim.Course{Rate: 0.012}},
		{ID: 151, Flags: aging, Value: 100, Course: sim.Course{Rate: 0.017}},
		{ID: 160, Flags: aging, Value: 100},
		{ID: 161, Flags: 0x0033, Value: 100, Course: sim.Course{From: 104}},
		{ID: 163, Flags: aging, Value: 100, Course: sim.Course{From: float64(8 + r.IntN(12))}},
		{ID: 164, Flags: aging, Value: 100, Course: sim.Course{Rate: 41}},
		{ID: 165, Flags: aging, Value: 100, Course: sim.Course{Rate: 0.082}},
		{ID: 166, Flags: aging, Value: 100, Course: sim.Course{Rate: 0.055}},
		{ID: 167, Flags: aging, Value: 100, Course: sim.Course{Rate: 0.066}},
		{ID: 168, Flags: aging, Value: 100, Course: sim.Course{From: 2500}},
		{ID: 169, Flags: aging, Value: 100, Kind: sim.LifeLeft},
		{ID: 178, Flags: aging, Value: 100},
		{ID: 181, Flags: aging, Value: 100},
		{ID: 182, Flags: aging, Value: 100},
		{ID: 192, Flags: aging, Value: 100, Course: sim.Course{From: float64(r.IntN(90))}},
		{ID: 194, Flags: 0x0022, Kind: sim.Temperature},
		{ID: 199, Flags: aging, Value: 100},
		{ID: 232, Flags: aging, Value: 100},
		{ID: 241, Flags: 0x0030, Value: 100},
	}
}

// minutes is an older drive whose family nobody told: it counts its time in minutes, and keeps no statistics.
func minutes(r *rand.Rand, hours float64) []sim.Counter {
	var all []sim.Counter
	for _, c := range spinning(r, hours) {
		switch c.ID {
		case 184, 187, 188:
			continue
		case 9:
			c.Kind = sim.Minutes
		}
		all = append(all, c)
	}
	return all
}

// link is the link's counter alone: a SCSI drive has no attributes, its port's counter follows this one.
func link(*rand.Rand, float64) []sim.Counter { return []sim.Counter{{ID: 199}} }

// Build makes a drive of a model that has these power-on hours at now.
func Build(key, ending string, hours float64, now time.Time) sim.Spec {
	m := models[key]
	seed := uint64(len(ending))
	for _, c := range ending {
		seed = seed*131 + uint64(c)
	}
	r := rand.New(rand.NewPCG(seed, 7))
	sectors := m.gb*1_953_125 + 168 // decimal gigabytes and the remainder every maker adds
	id := ata.Identify{
		Serial:            m.prefix + ending,
		Firmware:          fmt.Sprintf("S%d.%02d", 1+r.IntN(3), r.IntN(20)),
		Model:             m.name,
		Sectors:           sectors,
		LogicalSector:     512,
		PhysicalSector:    4096,
		RotationRate:      m.rpm,
		FormFactor:        m.form,
		SATAGenerations:   7,
		SATANow:           3,
		Transport:         0x11FF,
		SMARTSupported:    true,
		SMARTEnabled:      true,
		ErrorLogSupported: true,
		ErrorLogEnabled:   true,
		SelfTestSupported: true,
		SelfTestEnabled:   true,
		GPL:               true,
		LBA48:             true,
		SCT:               true,
		SCTTables:         true,
		SCTRecovery:       true,
		TRIM:              m.rpm == 1,
		Integrity:         ata.IntegrityRight,
		Security:          ata.Security{Supported: true},
	}
	if m.wwn != 0 {
		id.WWN = m.wwn | uint64(r.Uint32())
	}
	s := sim.Spec{
		Identity:   id,
		Seed:       seed,
		Born:       now,
		Hours:      hours,
		Share:      0.45,
		Heat:       sim.Heat{Base: 37 + 3*r.Float64(), Wave: 2, Noise: 1},
		Minutes:    2,
		Statistics: true,
		Logs:       true,
		Rate:       90_000 + 40_000*r.Float64(),
		Used:       sim.Course{Rate: 0.0018},
	}
	if m.counter != nil {
		s.Counters = m.counter(r, hours)
	}
	s = Let(s, 241, sim.Course{Rate: s.Rate * 512 / (32 << 20)})
	switch key {
	case "HN":
		s.NVMe = &sim.NVMe{
			SelfTest:   true,
			Spare:      sim.Course{Rate: 0.0004},
			Unsafe:     sim.Course{Start: 10, Every: 400, Step: 1},
			Persistent: r.IntN(2) == 0,
			Datacenter: r.IntN(3) == 0,
		}
		s.Heat = sim.Heat{Base: 41 + 4*r.Float64(), Wave: 4, Noise: 2}
	case "K4":
		s.MoreTests = true
	case "OS":
		s.SCSI = &sim.SCSI{Vendor: "OSPRIL", Port: id.WWN + 1}
		s.Share = 0.8
	case "TB", "SM":
		s.Statistics, s.Logs = false, false
		s.Identity.GPL, s.Identity.SCT = false, false
	}
	s.InUse = 0.2 + 0.6*r.Float64()
	return s
}

// Let gives an attribute a course.
func Let(s sim.Spec, id uint8, c sim.Course) sim.Spec {
	counters := append([]sim.Counter(nil), s.Counters...)
	for i := range counters {
		if counters[i].ID == id {
			counters[i].Course = c
		}
	}
	s.Counters = counters
	return s
}

// tested puts a passed extended self-test into the drive's log, ago power-on hours before the story begins.
func tested(s sim.Spec, ago float64) sim.Spec {
	s.Tests = append(s.Tests, ata.SelfTest{Number: ata.TestExtended, Hours: uint16(s.Hours - ago)})
	return s
}
