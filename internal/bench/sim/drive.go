// Package sim is a bench of simulated SATA drives that answer the same SCSI and ATA commands as real ones, byte for byte,
// on an injected clock: the same specification and the same time give the same bytes. It is the only place that knows the
// truth about its drives; nothing above the device line may ask it. Start with Spec and Bench.
package sim

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"time"

	"hylostat.example/internal/core/ata"
)

// Spec is a drive as it was built and the life it leads. Counters are functions of its power-on hours.
type Spec struct {
	Identity ata.Identify
	Seed     uint64
	Born     time.Time // simulated moment at which Hours were on its clock
	Hours    float64   // power-on hours when Born
	Share    float64   // share of the time it is powered, 0 to 1; life in a bay counts in full

	Counters []Counter
	Heat     Heat
	Alarm    Course // the drive's own alarm is raised while its value is above 0
	Tests    []ata.SelfTest
	Unread   Course // unreadable sectors: a self-test fails while there are some
	FirstLBA uint32 // the first of them
	Minutes  int    // a short self-test takes this long
	Errors   []ata.LoggedError

	Statistics bool    // keeps device statistics
	Used       Course  // endurance used, per cent; flash
	Rate       float64 // sectors written per hour

	Awkward Awkward
}

// Awkward is what keeps a drive from answering as it should.
type Awkward struct {
	SilentAttempts int  // attempts that find nothing before the drive answers
	Garbage        bool // SMART data comes with a wrong checksum
	HangsOn        ata.Opcode
	HangsFeature   uint16 // with HangsOn SMART: only this feature hangs
	Only12         bool   // the adapter passes the 12-byte form only
	NoPass         bool   // the adapter passes no ATA commands
	NoRegisters    bool   // the adapter hands no registers back
	FixedSense     bool   // registers come back in fixed format
	SMARTOff       bool
}

// Course is a counter's course over power-on hours: From at the beginning, then steps of 1 to Step about every Every
// hours after Start. The zero Course is always 0.
type Course struct {
	From  float64
	Start float64 // power-on hours at which it begins to move
	Every float64 // mean hours between steps; 0: never moves
	Step  int     // largest step, at least 1
	Rate  float64 // steady growth per hour, besides
}

// At is the course's value at h power-on hours, the same for the same seed.
func (c Course) At(h float64, seed uint64) float64 {
	v := c.From + c.Rate*h
	if c.Every <= 0 {
		return math.Floor(v)
	}
	r := rand.New(rand.NewPCG(seed, 0x68796c6f))
	for at := c.Start + r.ExpFloat64()*c.Every; at <= h; at += r.ExpFloat64() * c.Every {
		v += 1 + float64(r.IntN(max(1, c.Step)))
	}
	return math.Floor(v)
}

// Counter is one attribute and how it moves.
type Counter struct {
	ID        uint8
	Flags     uint16
	Threshold uint8
	Value     uint8   // normalised at the start, usually 100
	PerUnit   float64 // by how much the raw course lowers Value
	Course    Course
	Packed    float64 // operations per hour: raw is errors<<32 | operations
	Kind      Kind
}

// Kind is what fills an attribute's raw bytes.
type Kind uint8

// The kinds: a course, the hours powered on, or the temperature with its extremes.
const (
	Plain Kind = iota
	Hours
	Temperature
)

// Heat is the drive's temperature: a base, a daily wave and noise, in °C.
type Heat struct{ Base, Wave, Noise float64 }

// at is the temperature at a moment and the extremes a drive with this heat has seen.
func (h Heat) at(now time.Time, seed uint64) (c, lowest, highest int) {
	day := 2 * math.Pi * float64(now.Unix()%86_400) / 86_400
	noise := rand.New(rand.NewPCG(seed, uint64(now.Unix()/300))).Float64()*2 - 1
	c = int(math.Round(h.Base + h.Wave*math.Sin(day) + h.Noise*noise))
	highest = int(math.Ceil(h.Base + h.Wave + h.Noise))
	return c, 17, max(c, highest)
}

// hoursAt is the power-on hours at a simulated moment; bayed is the time since which the drive is powered all along.
func (s *Spec) hoursAt(now, bayed time.Time) float64 {
	if bayed.IsZero() || now.Before(bayed) {
		return s.Hours + now.Sub(s.Born).Hours()*s.Share
	}
	return s.Hours + bayed.Sub(s.Born).Hours()*s.Share + now.Sub(bayed).Hours()
}

func (s *Spec) seedOf(what string) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(s.Identity.Serial + what))
	return h.Sum64() ^ s.Seed
}

// attributePage is the attribute page at a moment.
func (s *Spec) attributePage(now time.Time, h float64) ata.AttributePage {
	d := ata.AttributePage{
		Revision: 16, CanTest: true, CanLogErrors: true, OfflineStatus: 0x82, ShortPoll: time.Duration(max(1, s.Minutes)) * time.Minute,
		ExtendedPoll: time.Duration(s.Identity.Sectors/300_000) * time.Second / 60 * 60,
	}
	d.ExtendedPoll = max(10*time.Minute, d.ExtendedPoll.Round(time.Minute))
	for _, c := range s.Counters {
		a := ata.Attribute{ID: c.ID, Flags: c.Flags, Value: c.Value}
		raw := c.Course.At(h, s.seedOf(string(rune(c.ID))))
		switch c.Kind {
		case Hours:
			a.PutRaw48(uint64(h))
		case Temperature:
			now, low, high := s.Heat.at(now, s.Seed)
			a.PutRaw48(uint64(uint8(now)) | uint64(low)<<16 | uint64(high)<<32)
			a.Value = uint8(max(1, 100-now))
		case Plain:
			a.PutRaw48(uint64(raw))
			if c.Packed > 0 {
				a.PutRaw48(uint64(raw)<<32 | uint64(c.Packed*h)&0xFFFFFFFF)
			}
			if c.PerUnit > 0 {
				a.Value = uint8(max(1, float64(c.Value)-c.PerUnit*raw))
			}
		}
		a.Worst = a.Value
		d.Attributes = append(d.Attributes, a)
	}
	return d
}

func (s *Spec) thresholds() []ata.Threshold {
	var all []ata.Threshold
	for _, c := range s.Counters {
		all = append(all, ata.Threshold{ID: c.ID, Level: c.Threshold})
	}
	return all
}

// counted maps statistics to the attribute that counts the same thing.
var counted = map[ata.StatisticKey]uint8{ata.StatReallocatedSectors: 5, ata.StatReportedUncorrected: 187, ata.StatCRCErrors: 199, ata.StatHeadLoads: 193, ata.StatPowerOnResets: 12}

// statistics are the drive's device statistics at a moment. They count what the attributes count.
func (s *Spec) statistics(now time.Time, h float64) []ata.Statistic {
	var all []ata.Statistic
	add := func(key ata.StatisticKey, value float64) {
		all = append(all, ata.Statistic{StatisticKey: key, Value: int64(value), Valid: true})
	}
	flash := s.Identity.RotationRate == 1
	for _, c := range s.Counters {
		for key, id := range counted {
			if id == c.ID && (key.Page != 3 || !flash) {
				add(key, c.Course.At(h, s.seedOf(string(rune(id)))))
			}
		}
	}
	temperature, low, high := s.Heat.at(now, s.Seed)
	add(ata.StatPowerOnHours, h)
	add(ata.StatSectorsWritten, s.Rate*h)
	add(ata.StatSectorsRead, 2.4*s.Rate*h)
	add(ata.StatTemperature, float64(temperature))
	add(ata.StatHighestTemperature, float64(high))
	add(ata.StatLowestTemperature, float64(low))
	add(ata.StatTimeOverTemperature, 0)
	add(ata.StatMaxOperating, 60)
	if flash {
		add(ata.StatPercentageUsed, s.Used.At(h, s.seedOf("used")))
	} else {
		add(ata.StatStartFailures, 0)
	}
	return all
}
