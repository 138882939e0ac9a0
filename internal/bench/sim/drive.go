// Package sim is a bench of simulated drives that answer the same ATA, SCSI and NVMe commands as real ones, byte for byte,
// on an injected clock: the same specification and the same time give the same bytes. It is the only place that knows the
// truth about its drives; nothing above the device line may ask it. Start with Spec and Bench.
package sim

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
)

// Spec is a drive as it was built and the life it leads. Counters are functions of its power-on hours.
type Spec struct {
	Identity ata.Identify // also names an NVMe or SCSI drive
	NVMe     *NVMe        // an NVMe drive
	SCSI     *SCSI        // a drive that speaks SCSI itself
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
	Logs       bool    // keeps the general purpose logs and SCT, too
	Defects    Course  // bad sectors as they appear; each waits until it is written, then is reallocated
	Wait       float64 // hours until it is written; 0: never
	Used       Course  // endurance used, per cent; flash
	Hidden     uint64  // sectors that a host protected area hides
	MoreTests  bool    // has conveyance and selective self-tests

	Outer float64   // bytes per second at the first sector; 0: what its kind has
	Slow  []Stretch // places that take long every time

	Content []Content // what stands in its sectors; zeros elsewhere, for those who look at single ones
	InUse   float64   // share of the surface that holds something, from its first sector on, for those who sweep it

	Stubborn bool    // unreadable sectors stay so when they are written
	Holds    uint64  // sectors it really has room for; 0: those it claims
	mended   float64 // sectors that were written and are reallocated since

	Wiped float64 // power-on hours at which somebody set all counters to 0; 0: never
	Board float64 // hours that attribute 9 lacks since the board was exchanged; statistics keep the true ones
	Rate  float64 // sectors written per hour

	Lock  *tcg.Discovery       // what it says of its own lock; nil: it does not speak of one
	Heads []scsi.ElementHealth // how each stands; nil: it does not tell

	Awkward Awkward
}

// elements is how its heads stand, each with its share of the surface.
func (s *Spec) elements() scsi.Elements {
	var e scsi.Elements
	for i, h := range s.Heads {
		e.Elements = append(
			e.Elements, scsi.Element{ID: uint32(i + 1), Type: 1, Health: h, Blocks: s.Identity.Sectors / uint64(len(s.Heads))},
		)
	}
	return e
}

// Content is bytes from an LBA on.
type Content struct {
	LBA   uint64
	Bytes []byte
}

// Stretch is a part of the surface that takes long: each read of it costs that many revolutions more, or, on flash, that
// many times what its surroundings take.
type Stretch struct {
	LBA, Sectors uint64
	Costs        float64
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
	Asleep         bool   // in standby until something but a question of identity or power comes
	NoMedium       bool   // an adapter without a drive
	NoOpen         bool   // the machine cannot open it
	Truncated      bool   // every answer stops half-way
	VanishAfter    int    // commands it answers before it disappears; 0: it stays
	HangsAfter     int    // commands it answers before it answers none; 0: it goes on
	Behind         string // what hides it from pass-through
	InUse          string // what on the machine needs it
	Adapter        string // the bridge's vendor, product and version id; attached by USB
	Shows          uint64 // sectors the adapter shows; 0: those the drive has
	OnePage        bool   // the adapter passes one page of a log at a time

	NoThresholdsFrom float64 // power-on hours from which it refuses SMART READ ATTRIBUTE THRESHOLDS; 0: never
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

// The kinds: a course, the hours powered on in some unit, the temperature with its extremes, or the bad sectors of the
// drive that wait and that were reallocated.
const (
	Plain Kind = iota
	Hours
	Minutes
	Temperature
	Waiting
	Reallocated
	Wear     // Value falls from 100 as the cells wear
	LifeLeft // what is left of the cells' life, from 100 down, in the raw bytes
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
		return max(0, s.Hours+now.Sub(s.Born).Hours()*s.Share) // no clock counts back from its first hour
	}
	return s.Hours + bayed.Sub(s.Born).Hours()*s.Share + now.Sub(bayed).Hours()
}

func (s *Spec) seedOf(what string) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(s.Identity.Serial + what))
	return h.Sum64() ^ s.Seed
}

// waiting and reallocated are the bad sectors at h hours.
func (s *Spec) waiting(h float64) float64 {
	seed := s.seedOf("defects")
	if s.Wait == 0 {
		return s.Defects.At(h, seed)
	}
	return s.Defects.At(h, seed) - s.Defects.At(h-s.Wait, seed)
}

func (s *Spec) reallocated(h float64) float64 {
	if s.Wait == 0 {
		return 0
	}
	return s.Defects.At(h-s.Wait, s.seedOf("defects"))
}

// counted is what a counter stands at: its course, less what it was when somebody wiped it.
func (s *Spec) counted(c Counter, h float64) float64 {
	at := func(h float64) float64 {
		v := c.Course.At(h, s.seedOf(string(rune(c.ID))))
		switch c.ID {
		case 5:
			v += s.mended
		case 197, 198:
			if c.Kind != Waiting {
				v = max(0, v-s.mended)
			}
		}
		switch c.Kind {
		case Waiting:
			return max(0, v+s.waiting(h)-s.mended)
		case Reallocated:
			return v + s.reallocated(h)
		default:
		}
		return v
	}
	if s.Wiped > 0 && h >= s.Wiped {
		return max(0, at(h)-at(s.Wiped))
	}
	return at(h)
}

// attributePage is the attribute page at a moment.
func (s *Spec) attributePage(now time.Time, h float64) ata.AttributePage {
	d := ata.AttributePage{
		Revision:      16,
		CanTest:       true,
		CanConveyance: s.MoreTests,
		CanSelective:  s.MoreTests,
		CanLogErrors:  true,
		OfflineStatus: 0x82,
		ShortPoll:     time.Duration(max(1, s.Minutes)) * time.Minute,
		ExtendedPoll:  time.Duration(s.Identity.Sectors/300_000) * time.Second / 60 * 60,
	}
	d.ExtendedPoll = max(10*time.Minute, d.ExtendedPoll.Round(time.Minute))
	for _, c := range s.Counters {
		a := ata.Attribute{ID: c.ID, Flags: c.Flags, Value: c.Value}
		raw := s.counted(c, h)
		switch c.Kind {
		case Hours:
			a.PutRaw48(uint64(max(0, h-s.Board)))
		case Minutes:
			a.PutRaw48(uint64(h * 60))
		case Wear:
			used := s.Used.At(h, s.seedOf("used"))
			a.PutRaw48(uint64(used * 12))
			a.Value = uint8(max(1, 100-used))
		case LifeLeft:
			a.PutRaw48(uint64(max(0, 100-s.Used.At(h, s.seedOf("used")))))
		case Temperature:
			now, low, high := s.Heat.at(now, s.Seed)
			a.PutRaw48(uint64(uint8(now)) | uint64(low)<<16 | uint64(high)<<32)
			a.Value = uint8(max(1, 100-now))
		case Plain, Waiting, Reallocated:
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

// counterOf maps statistics to the attribute that counts the same thing.
var counterOf = map[ata.StatisticKey]uint8{
	ata.StatReallocatedSectors:  5,
	ata.StatReportedUncorrected: 187,
	ata.StatCRCErrors:           199,
	ata.StatHeadLoads:           193,
	ata.StatPowerOnResets:       12,
}

// perPhysical is how many logical sectors lie in a physical one: statistics and lists count logical ones.
func (s *Spec) perPhysical() float64 {
	if s.Identity.LogicalSector == 0 || s.Identity.PhysicalSector < s.Identity.LogicalSector {
		return 1
	}
	return float64(s.Identity.PhysicalSector / s.Identity.LogicalSector)
}

// statistics are the drive's device statistics at a moment. They count what the attributes count.
func (s *Spec) statistics(now time.Time, h float64) []ata.Statistic {
	var all []ata.Statistic
	add := func(key ata.StatisticKey, value float64) {
		all = append(all, ata.Statistic{StatisticKey: key, Value: int64(value), Valid: true, Normalized: key.IsShare()})
	}
	flash := s.Identity.RotationRate == 1
	for _, c := range s.Counters {
		for key, id := range counterOf {
			if id == c.ID && (key.Page != 3 || !flash) {
				n := s.counted(c, h)
				if key == ata.StatReallocatedSectors {
					n *= s.perPhysical()
				}
				add(key, n)
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
	if len(s.Heads) > 0 {
		add(ata.StatElementsChanged, 0)
	}
	return all
}
