package ata

import (
	"errors"
	"fmt"
)

// LogDirectoryPages is what log 00h tells: how many 512-byte pages each log has; 0 means that there is no such log.
type LogDirectoryPages [256]uint16

// Versions of the log directory (ACS-4 A.2; the older one in ATA/ATAPI-6, 8.55.6.8).
const (
	directoryOnePage uint16 = 0 // a drive without logs of several pages
	directoryPages   uint16 = 1
)

// DecodeLogDirectory reads log 00h (ACS-4 A.2). A drive whose directory has version 0 has no log of more than one page, whatever
// its counts say; what a directory of another version says is not known, and it lists nothing.
func DecodeLogDirectory(b []byte) (d LogDirectoryPages, err error) {
	const name = "log directory"
	if err := checkLength(name, b); err != nil {
		return d, err
	}
	most := uint16(0xFFFF)
	switch version := le.Uint16(b); version {
	case directoryPages:
	case directoryOnePage:
		most = 1
	default:
		return d, &FormatError{name, 0, fmt.Sprintf("version %d is neither 0 nor 1", version)}
	}
	for address := 1; address < 256; address++ {
		d[address] = min(most, le.Uint16(b[2*address:]))
	}
	return d, nil
}

// Encode writes the directory with version 1.
func (d LogDirectoryPages) Encode() []byte {
	b := make([]byte, PageSize)
	le.PutUint16(b, directoryPages)
	for address := 1; address < 256; address++ {
		le.PutUint16(b[2*address:], d[address])
	}
	return b
}

// StatisticKey is the place of a device statistic: its page of log 04h and the offset of its qword in that page.
type StatisticKey struct {
	Page   uint8
	Offset uint16
}

// Statistics that signals are made of.
var (
	StatPowerOnHours        = StatisticKey{1, 16}
	StatPowerOnResets       = StatisticKey{1, 8}
	StatSectorsWritten      = StatisticKey{1, 24}
	StatSectorsRead         = StatisticKey{1, 40}
	StatPendingErrors       = StatisticKey{1, 64}
	StatFreeFalls           = StatisticKey{2, 8}
	StatHeadLoads           = StatisticKey{3, 24}
	StatReallocatedSectors  = StatisticKey{3, 32}
	StatStartFailures       = StatisticKey{3, 48}
	StatReportedUncorrected = StatisticKey{4, 8}
	StatTemperature         = StatisticKey{5, 8}
	StatHighestTemperature  = StatisticKey{5, 32}
	StatLowestTemperature   = StatisticKey{5, 40}
	StatTimeOverTemperature = StatisticKey{5, 80}
	StatHardwareResets      = StatisticKey{6, 8}
	StatMaxOperating        = StatisticKey{5, 88}
	StatCRCErrors           = StatisticKey{6, 24}
	StatPercentageUsed      = StatisticKey{7, 8}
	StatElementsChanged     = StatisticKey{4, 24}
)

// StatisticPages is how many pages of log 04h have statistics the standard defines, page 0 with the list of them included.
const StatisticPages = 8

// statisticKind is how a statistic's 56 value bits are read.
type statisticKind struct {
	name   string // the standard's
	bytes  uint8
	signed bool
	unit   string
}

// statistics are the device statistics of ACS-5 9.5, tables 247 to 264.
var statistics = map[StatisticKey]statisticKind{
	StatPowerOnResets:  {"Lifetime Power-On Resets", 4, false, ""},
	StatPowerOnHours:   {"Power-on Hours", 4, false, "h"},
	StatSectorsWritten: {"Logical Sectors Written", 6, false, "sectors"},
	{1, 32}:            {"Number of Write Commands", 6, false, ""},
	StatSectorsRead:    {"Logical Sectors Read", 6, false, "sectors"},
	{1, 48}:            {"Number of Read Commands", 6, false, ""},
	{1, 56}:            {"Date and Time TimeStamp", 6, false, "ms"},
	StatPendingErrors:  {"Pending Error Count", 4, false, ""},
	{1, 72}:            {"Workload Utilization", 2, false, "%"},
	StatFreeFalls:      {"Number of Free-Fall Events Detected", 4, false, ""},
	{2, 16}:            {"Overlimit Shock Events", 4, false, ""},
	{3, 8}:             {"Spindle Motor Power-on Hours", 4, false, "h"},
	{3, 16}:            {"Head Flying Hours", 4, false, "h"},
	StatHeadLoads:      {"Head Load Events", 4, false, ""},
	StatReallocatedSectors: {
		"Number of Reallocated Logical Sectors",
		4,
		false,
		"sectors",
	},
	{3, 40}: {"Read Recovery Attempts", 4, false, ""},
	StatStartFailures: {
		"Number of Mechanical Start Failures",
		4,
		false,
		"",
	},
	{3, 56}: {"Number of Realloc Candidate Logical Sectors", 4, false, "sectors"},
	{3, 64}: {
		"Number of High Priority Unload Events",
		4,
		false,
		"",
	},
	StatReportedUncorrected: {"Number of Reported Uncorrectable Errors", 4, false, ""},
	{4, 16}: {
		"Number of Resets Between Command Acceptance and Command Completion",
		4,
		false,
		"",
	},
	StatElementsChanged: {"Physical Element Status Changed", 4, false, ""},
	StatTemperature: {
		"Current Temperature",
		1,
		true,
		"°C",
	},
	{5, 16}:                {"Average Short Term Temperature", 1, true, "°C"},
	{5, 24}:                {"Average Long Term Temperature", 1, true, "°C"},
	StatHighestTemperature: {"Highest Temperature", 1, true, "°C"},
	StatLowestTemperature:  {"Lowest Temperature", 1, true, "°C"},
	{5, 48}:                {"Highest Average Short Term Temperature", 1, true, "°C"},
	{5, 56}:                {"Lowest Average Short Term Temperature", 1, true, "°C"},
	{5, 64}:                {"Highest Average Long Term Temperature", 1, true, "°C"},
	{5, 72}:                {"Lowest Average Long Term Temperature", 1, true, "°C"},
	StatTimeOverTemperature: {
		"Time in Over-Temperature",
		4,
		false,
		"min",
	},
	StatMaxOperating: {"Specified Maximum Operating Temperature", 1, true, "°C"},
	{5, 96}:          {"Time in Under-Temperature", 4, false, "min"},
	{5, 104}:         {"Specified Minimum Operating Temperature", 1, true, "°C"},
	StatHardwareResets: {
		"Number of Hardware Resets",
		4,
		false,
		"",
	},
	{6, 16}:            {"Number of ASR Events", 4, false, ""},
	StatCRCErrors:      {"Number of Interface CRC Errors", 4, false, ""},
	StatPercentageUsed: {"Percentage Used Endurance Indicator", 1, false, "%"},
}

// StatisticName is the standard's name of a statistic; empty for one this version does not know.
func StatisticName(key StatisticKey) string { return statistics[key].name }

// Statistic is one device statistic the drive supports.
type Statistic struct {
	StatisticKey
	Name       string // the standard's; empty for one this version does not know
	Unit       string
	Value      int64 // meaningful only when Valid
	Valid      bool  // false: supported, and the drive has no value now
	Normalized bool  // Value is a share of 100, not a count
	Notifies   bool  // device statistics notification (DSN) is offered for it
	Condition  bool  // the condition that is monitored for it has been met
}

// Flags of a statistic's qword (ACS-5 table 245).
const (
	statSupported  uint64 = 1 << 63
	statValid      uint64 = 1 << 62
	statNormalized uint64 = 1 << 61
	statNotifies   uint64 = 1 << 60
	statCondition  uint64 = 1 << 59
)

// IsShare reports whether the statistic is by its definition a share of 100: such a one carries its meaning normalised. For all
// others a normalised value is a share of something that only the maker knows, and not the quantity the standard names.
func (k StatisticKey) IsShare() bool { return statistics[k].unit == "%" }

// DecodeStatistics reads log 04h as far as it was transferred, page 0 first (ACS-5 9.5). A page that does not name itself
// rightly is a fault and is left out; a page of zeros is not supported.
func DecodeStatistics(b []byte) (all []Statistic, err error) {
	const name = "device statistics"
	if len(b) < PageSize {
		return nil, &FormatError{name, len(b), fmt.Sprintf("ends after %d of %d bytes", len(b), PageSize)}
	}
	for page := 1; (page+1)*PageSize <= len(b) && page < StatisticPages; page++ {
		p := b[page*PageSize : (page+1)*PageSize]
		header := le.Uint64(p)
		if header == 0 {
			continue
		}
		if int(header>>16&0xFF) != page {
			err = errors.Join(err, &FormatError{name, page*PageSize + 2, fmt.Sprintf("page %d calls itself %d", page, header>>16&0xFF)})
			continue
		}
		for offset := 8; offset < PageSize; offset += 8 {
			q := le.Uint64(p[offset:])
			if q&statSupported == 0 {
				continue
			}
			key := StatisticKey{uint8(page), uint16(offset)}
			kind, known := statistics[key]
			if !known {
				kind = statisticKind{bytes: 7}
			}
			s := Statistic{
				StatisticKey: key,
				Name:         kind.name,
				Unit:         kind.unit,
				Valid:        q&statValid != 0,
				Normalized:   q&statNormalized != 0,
				Notifies:     q&statNotifies != 0,
				Condition:    q&statCondition != 0,
			}
			bits := 8 * uint(kind.bytes)
			value := int64(q & (1<<bits - 1))
			if kind.signed && value>>(bits-1) != 0 {
				value -= 1 << bits
			}
			if q&(1<<bits-1) == 1<<bits-1 && kind.bytes >= 4 { // all bits of a count are ones: it was not read
				s.Valid = false
			}
			if s.Valid {
				s.Value = value
			}
			all = append(all, s)
		}
	}
	return all, err
}

// StatisticPageList reads page 0 of log 04h: the numbers of the pages there are (ACS-5 9.5.3).
func StatisticPageList(b []byte) []uint8 {
	if len(b) < PageSize {
		return nil
	}
	return b[9 : 9+min(int(b[8]), PageSize-9)]
}

// EncodeStatistics writes eight pages of log 04h that hold these statistics.
func EncodeStatistics(all []Statistic) []byte {
	b := make([]byte, StatisticPages*PageSize)
	le.PutUint64(b, 1)
	supported := []uint8{0}
	for _, s := range all {
		p := b[int(s.Page)*PageSize:]
		if le.Uint64(p) == 0 {
			le.PutUint64(p, uint64(s.Page)<<16|1)
			supported = append(supported, s.Page)
		}
		kind := statistics[s.StatisticKey]
		q := statSupported | uint64(s.Value)&(1<<(8*uint(kind.bytes))-1)
		for flag, on := range map[uint64]bool{
			statValid:      s.Valid,
			statNormalized: s.Normalized,
			statNotifies:   s.Notifies,
			statCondition:  s.Condition,
		} {
			if on {
				q |= flag
			}
		}
		le.PutUint64(p[s.Offset:], q)
	}
	b[8] = uint8(len(supported))
	copy(b[9:], supported)
	return b
}
