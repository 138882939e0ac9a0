// Package demo is a made-up shop: Saltmarsh Lane, its simulated bays and some weeks of readings for about twenty drives.
// Makers, customers and people are invented. Start with Seed.
package demo

import (
	"fmt"
	"math/rand/v2"
	"time"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
)

// The names of the demo.
const (
	ShopName  = "Saltmarsh Lane"
	BenchName = "north bench"
)

// Factor is by how much demo time runs faster than the wall's.
const Factor = 12

// member is a drive of the demo with its story.
type member struct {
	spec     sim.Spec
	bay      int // 0: on the shelf
	ticket   string
	customer string
	about    string // the complaint
	duty     drive.Duty
	wanted   bool
	copied   bool
	signed   string // who signed the last verdict of its history
}

// model is a made-up product.
type model struct {
	name    string
	gb      uint64 // decimal
	rpm     uint16 // 1: flash
	form    uint8
	prefix  string
	wwn     uint64
	counter func(r *rand.Rand, hours float64) []sim.Counter
}

// The makers are invented; their IEEE company id is from the block kept for documentation.
var models = map[string]model{
	"K4": {"Korvan K4-2000", 2000, 7200, 2, "KVA07", 0x5_00005E_000000000, spinning},
	"K2": {"Korvan K2-1000", 1000, 5400, 3, "KVL02", 0x5_00005E_100000000, laptop},
	"EE": {"Brackwater Eel 480", 480, 1, 3, "BWS03", 0x5_00005E_200000000, flash},
}

// attribute flags: pre-failure and kept online, advisory and kept online.
const (
	condemning uint16 = 0x0033
	aging      uint16 = 0x0032
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
	return append(spinning(r, hours), sim.Counter{ID: 191, Flags: aging, Value: 100, Course: sim.Course{From: float64(r.IntN(40))}}, sim.Counter{ID: 254, Flags: aging, Value: 100, Course: sim.Course{From: float64(r.IntN(3))}})
}

func flash(r *rand.Rand, hours float64) []sim.Counter {
	return []sim.Counter{
		{ID: 5, Flags: condemning, Threshold: 10, Value: 100},
		{ID: 9, Flags: aging, Value: 95, Kind: sim.Hours},
		{ID: 12, Flags: aging, Value: 97, Course: sim.Course{From: hours / 7}},
		{ID: 171, Flags: aging, Value: 100},
		{ID: 172, Flags: aging, Value: 100},
		{ID: 174, Flags: aging, Value: 100, Course: sim.Course{From: float64(r.IntN(60))}},
		{ID: 177, Flags: condemning &^ 0x20, Threshold: 5, Value: 91, Course: sim.Course{From: 120}},
		{ID: 184, Flags: condemning, Threshold: 90, Value: 100},
		{ID: 187, Flags: aging, Value: 100},
		{ID: 190, Flags: 0x0022, Kind: sim.Temperature},
		{ID: 199, Flags: 0x003E, Value: 100},
		{ID: 241, Flags: aging, Value: 99, Course: sim.Course{From: hours * 1900, Rate: 1900}},
	}
}

// build makes a drive of a model.
func build(key, ending string, hours float64, now time.Time) sim.Spec {
	m := models[key]
	seed := uint64(len(ending))
	for _, c := range ending {
		seed = seed*131 + uint64(c)
	}
	r := rand.New(rand.NewPCG(seed, 7))
	sectors := m.gb*1_953_125 + 168 // decimal gigabytes and the remainder every maker adds
	id := ata.Identify{
		Serial: m.prefix + ending, Firmware: fmt.Sprintf("S%d.%02d", 1+r.IntN(3), r.IntN(20)), Model: m.name, Sectors: sectors,
		LogicalSector: 512, PhysicalSector: 4096, RotationRate: m.rpm, FormFactor: m.form, WWN: m.wwn | uint64(r.Uint32()),
		SATAGenerations: 7, SATANow: 3, Transport: 0x11FF, SMARTSupported: true, SMARTEnabled: true, ErrorLogSupported: true, ErrorLogEnabled: true,
		SelfTestSupported: true, SelfTestEnabled: true, GPL: true, LBA48: true, SCT: true, TRIM: m.rpm == 1, Integrity: ata.IntegrityRight,
		Security: ata.Security{Supported: true},
	}
	s := sim.Spec{Identity: id, Seed: seed, Born: now, Hours: hours, Share: 0.45, Counters: m.counter(r, hours), Heat: sim.Heat{Base: 37 + 3*r.Float64(), Wave: 2, Noise: 1}, Minutes: 2, Statistics: true, Rate: 90_000 + 40_000*r.Float64(), Used: sim.Course{Rate: 0.0018}}
	return s
}

// let gives an attribute a course.
func let(s sim.Spec, id uint8, c sim.Course) sim.Spec {
	counters := append([]sim.Counter(nil), s.Counters...)
	for i := range counters {
		if counters[i].ID == id {
			counters[i].Course = c
		}
	}
	s.Counters = counters
	return s
}

// tested puts a passed extended self-test into the drive's log, ago hours before it was born into the story.
func tested(s sim.Spec, ago float64) sim.Spec {
	s.Tests = append(s.Tests, ata.SelfTest{Number: ata.TestExtended, Hours: uint16(s.Hours - ago)})
	return s
}

func place(bay int) drive.Address {
	return drive.Address(fmt.Sprintf("sim-sata-%d", bay))
}

// weeks is how far the recorded history goes back.
const weeks = 10

// fleet is all drives of the demo at the moment the story begins: weeks before now.
func fleet(now time.Time) []member {
	then := now.Add(-weeks * 7 * 24 * time.Hour)
	sound := tested(build("K4", "7M4R9", 9_120, then), -500)
	growing := build("K4", "7M4Q2", 21_480, then)
	growing = let(growing, 197, sim.Course{Start: 21_900, Every: 90, Step: 4})
	growing = let(growing, 198, sim.Course{Start: 21_950, Every: 160, Step: 2})
	growing = let(growing, 187, sim.Course{Start: 22_000, Every: 240, Step: 1})
	growing.Unread, growing.FirstLBA = sim.Course{Start: 21_900, Every: 90, Step: 4}, 205_883_114
	growing.Errors = []ata.LoggedError{{Command: 0x25, Error: ata.ErrorUNC, Status: 0x51, LBA: 205_883_114, Hours: 22_040, State: 3}}
	packed := let(build("K4", "7M511", 18_402, then), 199, sim.Course{From: 12, Start: 18_500, Every: 130, Step: 2})
	packed = let(packed, 5, sim.Course{From: 3})
	hot := build("K2", "3T8H6", 12_700, then)
	hot.Heat = sim.Heat{Base: 56.5, Wave: 1.2, Noise: 0.6}
	alarm := let(build("K2", "3T9C1", 30_110, then), 10, sim.Course{From: 1, Start: 30_200, Every: 200, Step: 2})
	alarm = let(alarm, 5, sim.Course{From: 410, Start: 30_150, Every: 60, Step: 30})
	alarm.Alarm = sim.Course{Start: 30_700, Every: 10, Step: 1}
	silent := build("EE", "K90F2", 6_300, then)
	silent.Awkward.SilentAttempts = 2

	all := []member{
		{spec: growing, bay: 1, ticket: "2231", customer: "Marram Seed Library", about: "copies stop half-way", duty: drive.Everyday, wanted: true, copied: true},
		{spec: sound, bay: 2, ticket: "2229", customer: "Marram Seed Library", about: "check before use", duty: drive.Everyday},
		{spec: alarm, bay: 3, ticket: "2230", customer: "Ferry Road puppet theatre", about: "slow to start, clicks at times", duty: drive.Everyday, wanted: true, copied: true},
		{spec: silent, bay: 4, ticket: "2233", customer: "Pellwick Spit tide gauge", about: "is not found any more", duty: drive.Continuous},
		{spec: packed, bay: 5, ticket: "2214", customer: "Pellwick Spit tide gauge", about: "stops for seconds when the tide table is saved", duty: drive.Everyday, wanted: true, copied: true},
		{spec: hot, bay: 6, ticket: "2232", customer: "Ferry Road puppet theatre", about: "the laptop gets hot", duty: drive.Carry, wanted: true},
	}
	endings := []string{"7M4S3", "7M4T8", "7M4V1", "7M4W6", "7M4X2", "7M502", "7M507", "7M50C", "6D2VN", "6D2WK", "6D31A", "C41XP", "C42B7", "C43D0", "C44G9"}
	for i, ending := range endings {
		key := map[byte]string{'7': "K4", '6': "K2", 'C': "EE"}[ending[0]]
		r := rand.New(rand.NewPCG(uint64(i), 11))
		s := build(key, ending, 2_000+float64(r.IntN(26_000)), then)
		switch i % 5 {
		case 0, 3:
			s = tested(s, -float64(200+r.IntN(400)))
		case 1:
			s = let(s, 5, sim.Course{From: float64(1 + r.IntN(12))})
		case 2:
			s = let(s, 199, sim.Course{From: 2, Start: s.Hours + 100, Every: 90, Step: 3})
		}
		if i == 4 {
			s = let(s, 197, sim.Course{Start: s.Hours + 200, Every: 70, Step: 6})
			s.Unread, s.FirstLBA = sim.Course{Start: s.Hours + 200, Every: 70, Step: 6}, 91_204_880
		}
		all = append(all, member{
			spec: s, ticket: fmt.Sprint(2190 + i), duty: []drive.Duty{drive.Everyday, drive.Carry, drive.Everyday}[i%3],
			customer: []string{"Marram Seed Library", "Ferry Road puppet theatre", "Pellwick Spit tide gauge"}[i%3],
			about:    []string{"check before use", "from the storeroom", "slow"}[i%3], signed: []string{"Dov", "", "Imre"}[i%3],
		})
	}
	return all
}
