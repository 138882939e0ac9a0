// Package demo is a made-up shop: Saltmarsh Lane, its fourteen simulated bays and a field bench with three, and eighteen months of
// readings of some sixty drives of every kind and awkwardness.
// Makers, customers and people are invented. Start with Seed.
package demo

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
)

// The names of the demo.
const (
	ShopName  = "Saltmarsh Lane"
	BenchName = "north bench"
	// The field bench stands at a customer's, with three drives.
	FieldName  = "field"
	FieldTitle = "field bench"
)

// Factor is by how much demo time runs faster than the wall's.
const Factor = 12

// member is a drive of the demo with its story.
type member struct {
	spec     sim.Spec
	bay      int  // 0: on the shelf
	field    bool // the bay is the field bench's
	ticket   string
	customer string
	about    string // the complaint
	duty     drive.Duty
	wanted   bool
	copied   bool
	signed   string // who signed the last verdict of its history
	lot      bool   // it came with others, on the one lot
	unseen   bool   // the shop has no reading of it
	first    bool   // the shop has seen it once, of late
	swept    bool   // its whole surface was read of late, on another bench
}

// at is the bay it is in.
func (m member) at() drive.Bay {
	b := drive.Bay{Number: m.bay}
	if m.field {
		b.Bench = FieldName
	}
	return b
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
	"TB": {"Tamberlin 500", 500, 5400, 3, "TML44", 0, minutes},
	"EE": {"Brackwater Eel 480", 480, 1, 3, "BWS03", 0x5_00005E_200000000, flash},
	"HN": {"Brackwater Heron 1000", 1000, 1, 8, "BWN11", 0x5_00005E_300000000, nil},
	"OS": {"O12-4000", 4000, 7200, 2, "OSS04", 0x5_00005E_400000000, link},
	"SM": {"Brackwater Smelt 240", 240, 1, 3, "BWL21", 0x5_00005E_500000000, lowcost},
}

// attribute flags: pre-failure and kept online, advisory and kept online.
const (
	condemning uint16 = 0x0033
	aging      uint16 = 0x0032
)

func place(bay int) drive.Address {
	return drive.Address(fmt.Sprintf("sim-%d", bay))
}

// The recorded history: a reading a month for most of eighteen months, then one a week.
const (
	months = 16
	weeks  = 10
)

// history is the moments of the recorded readings, oldest first, for a story that begins at now.
func history(now time.Time) []time.Time {
	var all []time.Time
	for n := range weeks {
		all = append(all, now.Add(-time.Duration(weeks-n)*7*24*time.Hour))
	}
	first := all[0]
	for n := range months {
		all = append([]time.Time{first.Add(-time.Duration(n+1) * 730 * time.Hour)}, all...)
	}
	return all
}

// bayed is the drives in the bays, each with its story.
func bayed(now time.Time) []member {
	const since = weeks * 7 * 24 * 0.45 // hours of life since the weekly readings began
	growing := Build("K4", "7M4Q2", 21_480+since, now)
	growing = Let(growing, 197, sim.Course{Start: 21_900, Every: 90, Step: 4})
	growing = Let(growing, 198, sim.Course{Start: 21_950, Every: 160, Step: 2})
	growing = Let(growing, 187, sim.Course{Start: 22_000, Every: 240, Step: 1})
	growing.Unread, growing.FirstLBA = sim.Course{Start: 21_900, Every: 90, Step: 4}, 205_883_114
	growing.Slow = []sim.Stretch{
		{LBA: 554_882_048, Sectors: 900, Costs: 11},
		{LBA: 1_607_421_875, Sectors: 19_000_000, Costs: 9},
		{LBA: 2_132_031_488, Sectors: 300, Costs: 6},
	}
	growing.Errors = []ata.LoggedError{
		{
			Command: 0x25,
			Error:   ata.ErrorUNC,
			Status:  0x51,
			LBA:     205_883_114,
			Count:   8,
			Hours:   22_040,
			State:   3,
			Before: []ata.EarlierCommand{
				{
					Op:    0x25,
					LBA:   205_882_080,
					Count: 256,
					At:    71_400,
				},
				{Op: 0x25, LBA: 205_882_336, Count: 256, At: 71_409},
				{Op: 0x25, LBA: 205_883_104, Count: 256, At: 71_421},
			},
		},
	}
	noisy := Let(Build("K4", "7M511", 18_402+since, now), 199, sim.Course{From: 12, Start: 18_500, Every: 130, Step: 2})
	noisy = Let(noisy, 5, sim.Course{From: 3})
	noisy.Identity.SATANow = 2
	hot := Build("K2", "3T8H6", 12_700+since, now)
	hot.Heat = sim.Heat{Base: 56.5, Wave: 1.2, Noise: 0.6}
	alarm := Let(Build("K2", "3T9C1", 30_110+since, now), 10, sim.Course{From: 1, Start: 30_200, Every: 200, Step: 2})
	alarm = Let(alarm, 5, sim.Course{From: 410, Start: 30_150, Every: 60, Step: 30})
	alarm.Alarm = sim.Course{Start: 30_700, Every: 10, Step: 1}
	silent := Build("EE", "K90F2", 6_300+since, now)
	silent.Awkward.SilentAttempts = 2

	worn := Build("HN", "Q7E30", 9_120, now)
	worn.NVMe.Media = sim.Course{Start: 8_500, Every: 120, Step: 2}
	worn.NVMe.Spare, worn.Used, worn.NVMe.HostErrors, worn.NVMe.Datacenter, worn.NVMe.Spaces = sim.Course{
		Rate: 0.0092,
	}, sim.Course{
		Rate: 0.0092,
	}, 5, true, 2
	server := Build("OS", "19Z4K", 31_700, now)
	server.SCSI.Grown = sim.Course{From: 4, Start: 31_000, Every: 150, Step: 3}
	otherPath := server
	second := *server.SCSI
	second.Port++
	otherPath.SCSI = &second
	docked := Build("K2", "6D40P", 8_460, now)
	docked.Awkward = sim.Awkward{Only12: true, FixedSense: true, Adapter: "ff01:0a12 0100"}
	closed := Build("K4", "7M60A", 4_100, now)
	closed.Awkward = sim.Awkward{NoPass: true, Adapter: "ff01:0a00 0207"}
	locked := Build("K2", "6D41R", 15_020, now)
	locked.Identity.Security = ata.Security{Supported: true, Enabled: true, Locked: true}
	locked.Identity.HPA, locked.Hidden = true, 4_194_304
	stuck := Build("K4", "7M61C", 27_300, now)
	stuck.Awkward = sim.Awkward{HangsOn: ata.SMART, HangsFeature: ata.SMARTReadThresholds}
	behind := Build("K4", "7M62D", 19_000, now)
	behind.Awkward.Behind = "behind a RAID controller"

	return []member{
		{
			spec:     growing,
			bay:      1,
			ticket:   "2231",
			customer: "Marram Seed Library",
			about:    "copies stop half-way",
			duty:     drive.Everyday,
			wanted:   true,
			copied:   true,
		},
		{
			spec:     storing(tested(Build("K4", "7M4R9", 9_120+since, now), 256)),
			bay:      2,
			ticket:   "2229",
			customer: "Marram Seed Library",
			about:    "check before use",
			duty:     drive.Everyday,
		},
		{
			spec:     alarm,
			bay:      3,
			ticket:   "2230",
			customer: "Ferry Road puppet theatre",
			about:    "slow to start, clicks at times",
			duty:     drive.Everyday,
			wanted:   true,
			copied:   true,
		},
		{
			spec:     silent,
			bay:      4,
			ticket:   "2233",
			customer: "Pellwick Spit tide gauge",
			about:    "is not found any more",
			duty:     drive.Continuous,
		},
		{
			spec:     noisy,
			bay:      5,
			ticket:   "2214",
			customer: "Pellwick Spit tide gauge",
			about:    "stops for seconds when the tide table is saved",
			duty:     drive.Everyday,
			wanted:   true,
			copied:   true,
		},
		{
			spec:     hot,
			bay:      6,
			ticket:   "2232",
			customer: "Ferry Road puppet theatre",
			about:    "the laptop gets hot",
			duty:     drive.Carry,
			wanted:   true,
		},
		{
			spec:     worn,
			bay:      7,
			ticket:   "2226",
			customer: "Quillfoot Print Room",
			about:    "programs stop without a word",
			duty:     drive.Everyday,
			wanted:   true,
			copied:   true,
		},
		{
			spec:     server,
			bay:      8,
			ticket:   "2227",
			customer: "Quillfoot Print Room",
			about:    "from the server, check before use",
			duty:     drive.Continuous,
		},
		{spec: otherPath, bay: 9},
		{spec: docked, bay: 10, ticket: "2228", customer: "Marram Seed Library", about: "check before use", duty: drive.Carry},
		{spec: closed, bay: 11, unseen: true},
		{
			spec:     locked,
			bay:      12,
			ticket:   "2234",
			customer: "Ferry Road puppet theatre",
			about:    "asks for a password nobody knows",
			duty:     drive.Everyday,
			wanted:   true,
		},
		{
			spec:     stuck,
			bay:      13,
			ticket:   "2235",
			customer: "Quillfoot Print Room",
			about:    "hangs the computer",
			duty:     drive.Everyday,
			unseen:   true,
		},
		{spec: behind, bay: 14, unseen: true},
	}
}

// storing puts a partition with an ext4 on a drive that notes errors of its own: what people take for a broken drive.
func storing(s sim.Spec) sim.Spec {
	le := binary.LittleEndian
	table := make([]byte, 512)
	entry := table[446:]
	entry[4] = 0x83
	le.PutUint32(entry[8:], 2048)
	le.PutUint32(entry[12:], 400_000_000)
	table[510], table[511] = 0x55, 0xAA
	super := make([]byte, 1024)
	le.PutUint32(super[0x04:], 50_000_000)
	le.PutUint32(super[0x18:], 2)
	le.PutUint16(super[0x38:], 0xEF53)
	le.PutUint16(super[0x3A:], 2)
	le.PutUint32(super[0x60:], 0x40)
	copy(super[0x68:], "saltmarsh-lane-1")
	copy(super[0x78:], "seed lists")
	le.PutUint32(super[0x194:], 3)
	s.Content = []sim.Content{{LBA: 0, Bytes: table}, {LBA: 2050, Bytes: super}}
	return s
}

// shelf is the drives the shop has seen and that are in no bay now.
func shelf(now time.Time) []member {
	var all []member
	endings := []string{
		"7M4S3",
		"7M4T8",
		"7M4V1",
		"7M4W6",
		"7M4X2",
		"7M502",
		"7M507",
		"7M50C",
		"7M513",
		"7M51K",
		"7M522",
		"7M52X",
		"7M537",
		"6D2VN",
		"6D2WK",
		"6D31A",
		"6D332",
		"6D34H",
		"6D358",
		"6D36T",
		"C41XP",
		"C42B7",
		"C43D0",
		"C44G9",
		"C4502",
		"C46K1",
		"C47M5",
		"Q7F12",
		"Q7F3A",
		"Q7G08",
		"Q7H41",
		"Q7J9C",
		"Q7K22",
		"Q7L57",
		"19Z51",
		"19Z6P",
		"19Z73",
		"19Z8B",
		"1A002",
		"1A01D",
		"T5A07",
		"T5B19",
		"T5C2K",
		"T5D31",
		"7M55B",
		"7M56F",
		"C48T3",
		"C49V6",
		"Q7M61",
		"1A03H",
		"S3D08",
		"7M57Q",
		"7M58V",
	}
	for i, ending := range endings {
		key := map[byte]string{'7': "K4", '6': "K2", 'C': "EE", 'Q': "HN", '1': "OS", 'T': "TB", 'S': "SM"}[ending[0]]
		r := rand.New(rand.NewPCG(uint64(i), 11))
		hours, lot := 7_500+float64(r.IntN(26_000)), key == "K4" && ending < "7M55"
		switch {
		case ending == "7M51K": // older than its siblings
			hours = 41_800
		case lot:
			hours = 17_500 + float64(r.IntN(3_500))
		}
		if key == "OS" {
			hours += 4_000 // these run most of the day: as young as the others, they were not yet made when the story begins
		}
		s := Build(key, ending, hours, now)
		recent := s.Hours - float64(300+r.IntN(400))
		switch i % 7 {
		case 0, 3:
			s = tested(s, float64(60+r.IntN(400)))
		case 1:
			s = Let(s, 5, sim.Course{From: float64(1 + r.IntN(12))})
		case 2:
			s = Let(s, 199, sim.Course{From: 2, Start: recent, Every: 90, Step: 3})
		case 4: // defects that wait, are written and reallocated
			s.Defects, s.Wait = sim.Course{Start: s.Hours - 4_000, Every: 900, Step: 3}, 200
			for n := range s.Counters {
				switch s.Counters[n].ID {
				case 5:
					s.Counters[n].Kind = sim.Reallocated
				case 197:
					s.Counters[n].Kind = sim.Waiting
				}
			}
		}
		if lot && i%7 != 1 {
			s = tested(s, float64(10+r.IntN(90)))
		}
		switch ending {
		case "7M4X2":
			s = Let(s, 197, sim.Course{Start: recent, Every: 70, Step: 6})
			s.Unread, s.FirstLBA = sim.Course{Start: recent, Every: 70, Step: 6}, 91_204_880
		case "7M55B": // somebody set its counters to zero
			s = Let(s, 5, sim.Course{From: 0, Start: 500, Every: 300, Step: 4})
			s.Wiped = s.Hours - 900
		case "7M56F": // a board of another drive
			s.Board = s.Hours - 1_200
		case "C44G9":
			s.Used = sim.Course{Rate: 84 / s.Hours}
		case "Q7J9C":
			s.NVMe.ReadOnly = sim.Course{Start: s.Hours - 400, Every: 20, Step: 1}
		case "Q7K22":
			s.NVMe.SelfTest = false
		case "19Z73":
			s.SCSI.Trial = true
		case "1A002":
			s.SCSI.Predicts = sim.Course{Start: s.Hours - 600, Every: 30, Step: 1}
		case "1A01D": // formatted for an array
			s.Identity.LogicalSector, s.Identity.PhysicalSector = 520, 520
		}
		extra := member{}
		switch ending {
		case "1A03H": // bad when it was first seen
			s.SCSI.Grown, s.SCSI.Uncorrected = sim.Course{From: 169}, sim.Course{From: 8}
			extra.first = true
		case "S3D08": // two thirds of its life are used
			s = Let(s, 5, sim.Course{})
			s.Used = sim.Course{Rate: 68 / s.Hours}
		case "7M57Q": // a flaw of long ago
			s = tested(Let(Let(s, 5, sim.Course{From: 6}), 199, sim.Course{}), 90)
			extra.swept = true
		case "7M58V": // it gave its thresholds once, and gives them no more
			s = tested(Let(s, 5, sim.Course{From: 2}), 40)
			s.Awkward.NoThresholdsFrom = s.Hours - 500
		}
		all = append(all, member{
			first: extra.first, swept: extra.swept,
			spec: s, ticket: fmt.Sprint(2150 + i), duty: []drive.Duty{drive.Everyday, drive.Carry, drive.Everyday}[i%3],
			customer: []string{"Marram Seed Library", "Ferry Road puppet theatre", "Pellwick Spit tide gauge", "Quillfoot Print Room"}[i%4],
			about:    []string{"check before use", "from the storeroom", "slow"}[i%3], signed: []string{"Dov", "", "Imre"}[i%3],
		})
		if m := &all[i]; lot {
			m.lot, m.ticket, m.customer = true, "2150", "Quillfoot Print Room"
			m.about, m.duty = "from the storeroom, check before use", drive.Everyday
			if i%4 != 0 {
				m.signed = ""
			}
		}
	}
	return all
}

// afield is the drives at the field bench: a tide gauge's recorder, its mirror, and the disk it replaced.
func afield(now time.Time) []member {
	recorder := tested(Build("K4", "7M6F8", 11_900, now), 130)
	mirror := Let(Build("K4", "7M6G2", 11_870, now), 199, sim.Course{From: 2, Start: 12_000, Every: 60, Step: 3})
	replaced := Let(Build("K2", "6D47B", 33_400, now), 5, sim.Course{From: 11, Start: 33_900, Every: 160, Step: 2})
	return []member{
		{
			spec:     recorder,
			bay:      1,
			field:    true,
			ticket:   "2236",
			customer: "Pellwick Spit tide gauge",
			about:    "records the tide, look at it each month",
			duty:     drive.Continuous,
		},
		{
			spec:     mirror,
			bay:      2,
			field:    true,
			ticket:   "2236",
			customer: "Pellwick Spit tide gauge",
			about:    "records the tide, look at it each month",
			duty:     drive.Continuous,
		},
		{
			spec:     replaced,
			bay:      3,
			field:    true,
			ticket:   "2237",
			customer: "Pellwick Spit tide gauge",
			about:    "taken out in spring, can it still carry files?",
			duty:     drive.Carry,
		},
	}
}

// everyone is all drives of the demo, whose story begins at now.
func everyone(now time.Time) []member {
	return slices.Concat(bayed(now), shelf(now), afield(now))
}
