package signal

import (
	"fmt"
	"math"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
)

// Source is one place a signal can come from.
type Source struct {
	What       string          // in words, for people
	On         drive.Interface // whose drives have it; empty: all
	Confidence dialect.Confidence
	get        func(*reading.Reading) Value
}

func from(sources ...Source) []Source { return sources }

// at makes the value of a place in a page.
func at(n float64, source string, page reading.PageName, offset, length int, c dialect.Confidence) Value {
	return Value{Number: n, Available: true, Source: source, Page: page, Offset: offset, Length: length, Confidence: c}
}

// statistic takes a device statistic, the standard's own word for a quantity.
func statistic(key ata.StatisticKey) Source {
	what := fmt.Sprintf("device statistics, page %d, %s", key.Page, ata.StatisticName(key))
	return Source{what, drive.ATA, dialect.Standard, func(r *reading.Reading) Value {
		s, ok := r.Statistic(key)
		if !ok {
			return notRead(r, "the drive's statistics do not hold it", reading.PageStatistics, reading.PageIdentify)
		}
		return at(float64(s.Value), what, reading.PageStatistics, int(key.Page)*ata.PageSize+int(key.Offset), 8, dialect.Standard)
	}}
}

// inBytes turns a number of logical sectors into bytes.
func inBytes(s Source) Source {
	get := s.get
	s.What += ", times the sector size"
	s.get = func(r *reading.Reading) Value {
		v := get(r)
		if v.Available && r.Identity.LogicalSector == 0 {
			return Missing("the drive does not tell the size of its sectors")
		}
		v.Number *= float64(r.Identity.LogicalSector)
		return v
	}
	return s
}

// inPhysical turns a number of logical sectors into physical ones, begun ones counting whole: a drive loses its surface by
// physical sectors, and on most drives eight logical ones lie in each.
func inPhysical(s Source) Source {
	get := s.get
	s.What += ", as physical sectors"
	s.get = func(r *reading.Reading) Value {
		v := get(r)
		if logical, physical := r.Identity.LogicalSector, r.Identity.PhysicalSector; v.Available && logical > 0 && physical > logical {
			v.Number = math.Ceil(v.Number / float64(physical/logical))
		}
		return v
	}
	return s
}

// damagedIn reports whether anything of a page could not be read, and why.
func damagedIn(r *reading.Reading, page reading.PageName) (why string, damaged bool) {
	for i := range r.Faults {
		if r.Faults[i].Page == string(page) {
			return r.Faults[i].Cause, true
		}
	}
	return "", false
}

// notRead says why a page that would hold the value is not there.
func notRead(r *reading.Reading, otherwise string, pages ...reading.PageName) Value {
	for _, page := range pages {
		if why, damaged := damagedIn(r, page); damaged {
			return Missing(why)
		}
	}
	return Missing(otherwise)
}

func noCounters(r *reading.Reading) Value {
	return notRead(r, "counters not read", reading.PageAttributes, reading.PageIdentify)
}

// attribute takes the attribute that means the signal in the drive's dialect; of several the one of the highest confidence,
// then of the highest number. usual is the number that means it in most families.
func attribute(n Name, usual uint8) Source {
	return Source{
		fmt.Sprintf("SMART data, by the dialect, usually attribute %d", usual),
		drive.ATA,
		dialect.Trade,
		func(r *reading.Reading) Value {
			if !r.HasCounters {
				return noCounters(r)
			}
			var best *reading.Attribute
			for i := range r.Attributes {
				if a := &r.Attributes[i]; a.Signal == string(n) && a.Quantity.Known &&
					(best == nil || rank[a.Confidence] > rank[best.Confidence] ||
						rank[a.Confidence] == rank[best.Confidence] && a.ID > best.ID) {
					best = a
				}
			}
			if best == nil {
				return Missing(fmt.Sprintf("the drive has no attribute for it, as %d usually is", usual))
			}
			offset, length := best.Offset+5, 6
			if best.Take == dialect.TakeValue {
				offset, length = best.Offset+3, 1
			}
			return at(
				float64(best.Quantity.Number), fmt.Sprintf("SMART data, attribute %d", best.ID), reading.PageAttributes, offset,
				length, best.Quantity.Confidence,
			)
		},
	}
}

var rank = map[dialect.Confidence]int{dialect.Standard: 4, dialect.Trade: 3, dialect.Varies: 2, dialect.Inferred: 1}

// attributeExtreme takes the highest or lowest temperature some families keep above the present one.
func attributeExtreme(highest bool) Source {
	return Source{"SMART data, extremes above the temperature", drive.ATA, dialect.Inferred, func(r *reading.Reading) Value {
		if !r.HasCounters {
			return noCounters(r)
		}
		for _, id := range []uint8{194, 190} {
			if a, ok := r.Attribute(id); ok && a.Quantity.HasRange {
				n := a.Quantity.Lowest
				if highest {
					n = a.Quantity.Highest
				}
				return at(float64(n), fmt.Sprintf("SMART data, attribute %d", id), reading.PageAttributes, a.Offset+5, 6, dialect.Inferred)
			}
		}
		return Missing("the drive keeps no record of its extremes here")
	}}
}

// attributes counts the attributes of a kind.
func attributes(what string, which func(*reading.Attribute) bool) Source {
	return Source{"SMART data and thresholds: attributes that are " + what, drive.ATA, dialect.Trade, func(r *reading.Reading) Value {
		if !r.HasCounters {
			return noCounters(r)
		}
		if f, broken := r.FaultOf(reading.PageThresholds); broken {
			return Missing(f.Cause)
		}
		n := 0
		for i := range r.Attributes {
			if which(&r.Attributes[i]) {
				n++
			}
		}
		return at(float64(n), "SMART data and thresholds", reading.PageAttributes, 0, 0, dialect.Trade)
	}}
}

// physicalSectors is how many physical sectors hold the listed logical ones, distinct ones counted once, and, of what the drive counts
// beyond its list, as many as it takes at least.
func physicalSectors(id drive.Identity, count uint64, listed []uint64) float64 {
	per := uint64(1)
	if id.LogicalSector > 0 && id.PhysicalSector > id.LogicalSector {
		per = uint64(id.PhysicalSector / id.LogicalSector)
	}
	seen := make(map[uint64]bool, len(listed))
	for _, lba := range listed {
		seen[(lba+uint64(id.AlignmentOffset))/per] = true
	}
	sectors := uint64(len(seen))
	beyond := count - min(count, uint64(len(listed)))
	beyond -= min(beyond, sectors*per-min(sectors*per, uint64(len(listed)))) // there may be more in those that are listed
	return float64(sectors + (beyond+per-1)/per)
}

var pendingList = Source{"pending defects log, as physical sectors", drive.ATA, dialect.Standard, func(r *reading.Reading) Value {
	if r.Pending == nil {
		return Missing("the drive keeps no list of pending defects")
	}
	if why, damaged := damagedIn(r, reading.PagePending); damaged {
		return Missing(why) // what the lost part lists may lie in sectors that are listed
	}
	var listed []uint64
	for _, d := range r.Pending.Defects {
		listed = append(listed, d.LBA)
	}
	return at(
		physicalSectors(r.Identity, uint64(r.Pending.Count), listed), "pending defects log", reading.PagePending, 0, 4,
		dialect.Standard,
	)
}}

// elementsBad counts the heads, with their surfaces, that are outside their specification or given up.
var elementsBad = Source{"physical element status", "", dialect.Standard, func(r *reading.Reading) Value {
	page := reading.PageElements
	if r.Identity.Interface == drive.SCSI {
		page = reading.PageSElement
	}
	if r.Elements == nil {
		return notRead(r, "the drive does not tell how its heads stand", page)
	}
	n := 0
	for _, e := range r.Elements.Elements {
		if e.Health.Bad() {
			n++
		}
	}
	return at(float64(n), "physical element status", page, 0, 0, dialect.Standard)
}}

func sctValue(what string, offset int, pick func(*ata.SCTReport) int8) Source {
	return Source{"SCT status, " + what, drive.ATA, dialect.Standard, func(r *reading.Reading) Value {
		if r.SCT == nil || pick(r.SCT) == ata.NoTemperature {
			if !r.HasCounters {
				return noCounters(r)
			}
			return Missing("the drive reports no temperature")
		}
		return at(float64(pick(r.SCT)), "SCT status, "+what, reading.PageSCTStatus, offset, 1, dialect.Standard)
	}}
}

var (
	sctTemperature = sctValue("temperature", 200, func(s *ata.SCTReport) int8 { return s.Now })
	sctHighest     = sctValue("highest ever", 204, func(s *ata.SCTReport) int8 { return s.LifeHighest })
	sctLowest      = sctValue("lowest ever", 203, func(s *ata.SCTReport) int8 { return s.LifeLowest })
)

var returnStatus = Source{"SMART RETURN STATUS", drive.ATA, dialect.Standard, func(r *reading.Reading) Value {
	v := at(0, "SMART RETURN STATUS", reading.PageAlarm, 0, 0, dialect.Standard)
	if r.AlarmFrom == reading.PageSCTStatus {
		v = at(0, "SCT status, the drive's own alarm", reading.PageSCTStatus, 214, 2, dialect.Standard)
	}
	switch r.Alarm {
	case ata.AlarmRaised:
		v.Number = 1
	case ata.AlarmUnknown:
		return notRead(r, "the drive was not asked", reading.PageAlarm)
	case ata.AlarmEchoed:
		v.Confidence = dialect.Inferred
	case ata.AlarmNotRaised:
	}
	return v
}}

// unread is more than any drive lives to count.
const unread = 1 << 63

// health takes a field of the NVMe health log.
func health(field string, offset, length int, pick func(*nvme.Health) float64) Source {
	what := "health log, " + field
	return Source{what, drive.NVMe, dialect.Standard, func(r *reading.Reading) Value {
		if r.Health == nil {
			return notRead(r, "the health log was not read", reading.PageHealth, reading.PageController)
		}
		if x := pick(r.Health); x >= unread { // 128 bits of ones, or near it
			return Missing("all bits of it are ones: that is no count")
		}
		return at(pick(r.Health), what, reading.PageHealth, offset, length, dialect.Standard)
	}}
}

// spare is health for the fields of the spare: where spare and threshold are both 0 the drive reports neither.
func spare(field string, offset, length int, pick func(*nvme.Health) float64) Source {
	s := health(field, offset, length, pick)
	get := s.get
	s.get = func(r *reading.Reading) Value {
		if r.Health != nil && r.Health.Spare == 0 && r.Health.SpareThreshold == 0 {
			return Missing("the drive reports no spare")
		}
		return get(r)
	}
	return s
}

func truth(on bool) float64 {
	if on {
		return 1
	}
	return 0
}

// warning takes one bit of the critical warning, of the controller or of an endurance group.
func warning(bit uint8) Source {
	return health("Critical warning", 0, 7, func(h *nvme.Health) float64 { return truth((h.Warning|h.GroupWarning)&bit != 0) })
}

// dataUnits takes what was read or written. A drive that was used and counts no units does not report them: 0 is how the standard
// says so (Base 2.1 figure 206).
func dataUnits(field string, offset int, pick func(*nvme.Health) (units, commands nvme.Counter)) Source {
	s := health(field, offset, 16, func(h *nvme.Health) float64 { units, _ := pick(h); return units.Float() * nvme.UnitBytes })
	get := s.get
	s.get = func(r *reading.Reading) Value {
		if r.Health != nil {
			units, commands := pick(r.Health)
			if units == (nvme.Counter{}) && (commands != nvme.Counter{} || r.Health.Hours != nvme.Counter{}) {
				return Missing("the drive does not report it")
			}
		}
		return get(r)
	}
	return s
}

// healthAlarm are the warnings that tell of the drive; heat and memory backup have signals and rules of their own.
var healthAlarm = health("Critical warning: spare, reliability or read-only", 0, 1, func(h *nvme.Health) float64 {
	return truth((h.Warning|h.GroupWarning)&(nvme.WarnSpare|nvme.WarnReliability|nvme.WarnReadOnly) != 0)
})

var healthTemperature = Source{"health log, composite temperature", drive.NVMe, dialect.Standard, func(r *reading.Reading) Value {
	if r.Health == nil {
		return notRead(r, "the health log was not read", reading.PageHealth, reading.PageController)
	}
	c, ok := nvme.Kelvin(r.Health.CompositeK)
	if !ok {
		return Missing("the drive reports no temperature")
	}
	return at(float64(c), "health log, composite temperature", reading.PageHealth, 1, 2, dialect.Standard)
}}

var datacenterEndToEnd = Source{
	"datacenter health extension, end-to-end errors detected",
	drive.NVMe,
	dialect.Standard,
	func(r *reading.Reading) Value {
		if r.Datacenter == nil {
			return Missing("only the datacenter health extension counts it")
		}
		return at(
			float64(r.Datacenter.EndToEndDetected), "datacenter health extension, end-to-end errors", reading.PageDatacenter, 72,
			4, dialect.Standard,
		)
	},
}

var sweep = Source{
	"a sweep of the surface",
	"",
	dialect.Standard,
	func(*reading.Reading) Value { return Missing("no sweep of it has been made") },
}

// capacity is what the drive itself says it holds.
var capacity = Source{"the drive's identity", "", dialect.Standard, func(r *reading.Reading) Value {
	if r.Identity.Bytes == 0 {
		return Missing("the drive does not tell its capacity")
	}
	return Value{Number: float64(r.Identity.Bytes), Available: true, Source: "the drive's identity", Confidence: dialect.Standard}
}}

// capacityShown is what an adapter shows where that is something else.
var capacityShown = Source{"the adapter's READ CAPACITY", "", dialect.Standard, func(r *reading.Reading) Value {
	if r.Identity.Shown == 0 {
		return Missing("no adapter shows another capacity than the drive's")
	}
	return at(float64(r.Identity.Shown), "the adapter's READ CAPACITY", reading.PageCapacity, 0, 12, dialect.Standard)
}}

var capacityLabel = Source{
	"the label",
	"",
	dialect.Standard,
	func(*reading.Reading) Value { return Missing("nobody recorded a capacity on the label") },
}

var label = Source{"the label", "", dialect.Standard, func(*reading.Reading) Value { return Missing("nobody recorded the label's date") }}

// loggedErrors is ATA's count; an NVMe drive counts its entries in the health log, and may empty the log itself.
var loggedErrors = Source{"the drive's error log: all it ever counted", drive.ATA, dialect.Standard, func(r *reading.Reading) Value {
	if !r.HasErrors {
		return notRead(r, "the error log was not read", reading.PageErrorLog)
	}
	page, offset := reading.PageErrorLog, 452
	if len(r.Errors) > 0 && r.Errors[0].Page == reading.PageErrorsExt {
		page, offset = reading.PageErrorsExt, 500
	}
	return at(float64(r.ErrorTotal), "the drive's error log", page, offset, 2, dialect.Standard)
}}

// damagedPages counts the pages that came and break their own checksum, length or structure. What never came is no damage.
var damagedPages = Source{"all pages, by their own checksums and structure", "", dialect.Standard, func(r *reading.Reading) Value {
	if r.Identity.Interface == drive.InterfaceUnknown {
		return Missing("no page of the drive came")
	}
	pages := map[string]bool{}
	first := reading.PageName("")
	for i := range r.Faults {
		if f := &r.Faults[i]; f.Class == drive.FaultBadAnswer && f.Page != "" && !pages[f.Page] {
			pages[f.Page] = true
			if first == "" {
				first = reading.PageName(f.Page)
			}
		}
	}
	return Value{
		Number:     float64(len(pages)),
		Available:  true,
		Source:     "all pages, by their own checksums and structure",
		Page:       first,
		Confidence: dialect.Standard,
	}
}}
