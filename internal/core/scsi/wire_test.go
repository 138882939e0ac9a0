package scsi

import (
	"fmt"
	"testing"

	"hylostat.example/internal/vector"
)

// What goes over the wire, and what is made of it: testdata/wire.txt.
func TestTheWire(t *testing.T) {
	b := vector.Open(t, "wire.txt")
	b.Head("commands")
	for _, cdb := range [][]byte{
		InquiryCDB(0x1112), VPDCDB(VPDIdentification, 0x1112), LogSenseCDB(LogPending, 0x1112), LogSenseCDB(LogID{Page: 0x7F}, 1),
		ModeSenseCDB(ModeInformational, 0x1112), CapacityCDB(), CapacityCDB10(),
		DefectCDB(0x15, 0x1112_1314), DefectCDB10(0x15, 0x1112), SelfTestCDB(TestBackgroundExtended), StartCDB(), TestUnitReadyCDB(),
		RequestSenseCDB(), SecurityInCDB(0x51, 0x1213, 0x1415_1617),
		ElementsCDB(0x1112_1314),
		{0x99, 0, 0, 0, 0, 0},
		{0x12, 0, 0, 0, 0},
	} {
		b.Line("%-40s % x", Name(cdb), cdb)
	}

	b.Head("pages")
	page := func(l LogID) func([]byte) (LogPage, error) {
		return func(b []byte) (LogPage, error) { return DecodeLogPage(l, b) }
	}
	vector.Page(
		b, "log page, no subpage",
		EncodeLogPage(LogReadErrors, Number(CounterUncorrected, 8, 0x1112_1314_1516_1718), Number(1, 2, 0x191A)),
		page(LogReadErrors), nil,
	)
	vector.Page(b, "log page, subpage", EncodeLogPage(LogEnvironment, Parameter{Code: 0x1112, Value: []byte{1}}), page(LogEnvironment), nil)
	vector.Page(b, "list of pages", []byte{0, 0, 0, 3, 0, 2, 0x2F}, DecodePageList, nil)
	vector.RoundTrip(
		b, "list of pages and subpages", []LogID{LogPages, LogPending, LogInformational}, EncodeSubpageList, DecodeSubpageList,
		nil,
	)
	tests := []SelfTest{
		{
			Code:   2,
			Result: TestSecondSegment,
			Number: 3,
			Hours:  0x1112,
			LBA:    0x1314_1516_1718_191A,
			HasLBA: true,
			Sense:  Sense{Key: MediumError, ASC: 0x11, ASCQ: 0x0B},
		},
		{Code: 1, Result: TestPassed, Hours: 1},
		{Code: 5, Result: TestFatal, Hours: 2},
	}
	vector.RoundTrip(b, "self-tests", tests, EncodeSelfTests, DecodeSelfTests, nil)
	background := Background{
		Minutes:  0x1112_1314,
		Status:   1,
		Scans:    0x1516,
		Progress: 0x1718,
		Found: []ScanResult{
			{
				Minutes: 0x191A_1B1C,
				Status:  ReassignFailed,
				Sense:   Sense{Key: MediumError, ASC: 0x11, ASCQ: 0x14},
				LBA:     0x1D1E_1F20_2122_2324,
			},
		},
	}
	vector.RoundTrip(b, "background scan", background, Background.Encode, DecodeBackground, nil)
	for _, code := range []uint16{0, 1, 0x800, 0x801, 0xF000, 0xF001} {
		scan, _ := DecodeBackground(EncodeLogPage(LogBackground, Parameter{Code: code, Value: make([]byte, 20)}))
		pending, _ := DecodePending(EncodeLogPage(LogPending, Parameter{Code: code, Value: make([]byte, 12)}))
		test, _ := DecodeSelfTests(
			EncodeLogPage(LogSelfTests, Parameter{Code: min(code, 21), Value: append([]byte{0x20}, make([]byte, 15)...)}),
		)
		b.Line(
			"parameter %04X: %d found by a scan, %d pending; %d: %d self-tests", code, len(scan.Found), len(pending.Defects),
			min(code, 21), len(test),
		)
	}
	vector.RoundTrip(
		b, "pending defects", PendingDefects{Count: 0x1112_1314, Defects: vector.Filled[[]PendingDefect](0)},
		PendingDefects.Encode, DecodePending, nil,
	)
	vector.RoundTrip(b, "environment", vector.Filled[Environment](0, "Offset"), Environment.Encode, DecodeEnvironment, nil)
	vector.RoundTrip(
		b, "limits of the environment", vector.Filled[EnvironmentLimits](0, "Offset"), EnvironmentLimits.Encode,
		DecodeEnvironmentLimits, nil,
	)
	vector.Page(
		b, "informational exceptions", EncodeLogPage(LogInformational, Parameter{Code: 0, Value: []byte{0x5D, 0x10, 38, 0}}),
		DecodeInformational, nil,
	)
	ports := vector.Filled[[]PortPhy](0, "Port")
	for i := range ports {
		ports[i].Port, ports[i].Phy, ports[i].Rate = uint16(i+1), uint16(0x11+i), uint8(9+i)
	}
	vector.RoundTrip(b, "ports", ports, func(all []PortPhy) []byte { return EncodePorts(all, true) }, DecodePorts, nil)
	vector.RoundTrip(b, "ports, older", ports[:1], func(all []PortPhy) []byte { return EncodePorts(all, false) }, DecodePorts, nil)
	for format := range uint8(8) {
		d, err := DecodeDefects([]byte{0, 8 | format, 0, 0, 0, 0, 0, 24})
		b.Line("24 bytes of format %d: %d defects %v", format, d.Count, err)
	}
	vector.RoundTrip(
		b, "grown defects, 4 bytes", Defects{Format: 0, Length: 0x0112_1314, Count: 0x0112_1314 / 4}, Defects.Encode,
		DecodeDefects, nil,
	)
	vector.RoundTrip(b, "grown defects, 8 bytes", Defects{Format: 5, Length: 24, Count: 3}, Defects.Encode, DecodeDefects, nil)
	vector.RoundTrip(
		b, "grown defects, 10-byte command", Defects{Format: 5, Length: 0x1118, Count: 0x223, Short: true}, Defects.Encode10,
		DecodeDefects10, nil,
	)
	vector.RoundTrip(b, "control of exceptions", vector.Filled[Control](15, "Offset"), Control.Encode, DecodeControl, nil)
	vector.RoundTrip(
		b, "elements", Elements{Count: 0x1112_1314, Elements: vector.Filled[[]Element](0)},
		func(e Elements) []byte { return e.Encode(false) }, func(b []byte) (Elements, error) { return DecodeElements(b, false) },
		nil,
	)
	vector.RoundTrip(
		b, "elements, ATA", Elements{Count: 2, Elements: vector.Filled[[]Element](0)},
		func(e Elements) []byte { return e.Encode(true) }, func(b []byte) (Elements, error) { return DecodeElements(b, true) },
		nil,
	)
	vector.RoundTrip(b, "ranges", vector.Filled[[]Range](0), EncodeRanges, DecodeRanges, nil)
	vector.RoundTrip(b, "ranges, ATA", vector.Filled[[]Range](0), EncodeATARanges, DecodeATARanges, nil)
	vector.RoundTrip(
		b, "INQUIRY",
		InquiryData{DeviceType: 0x1E, Qualifier: 3, Removable: true, Vendor: "OSPRIL", Product: "O12-4000", Revision: "1.0"},
		InquiryData.Encode, DecodeInquiry, nil,
	)
	vector.Page(b, "serial", EncodeVPD(VPDSerial, []byte(" OSS04\x00")), DecodeSerial, nil)
	vector.Page(b, "designators", EncodeDesignators(0x1112_1314_1516_1718, 0x191A_1B1C_1D1E_1F20), DecodeDesignators, nil)
	vector.RoundTrip(
		b, "characteristics", Characteristics{RotationRate: 7200, FormFactor: 2, Zoned: 2}, Characteristics.Encode,
		DecodeCharacteristics, nil,
	)
	for _, rate := range []uint16{0, 1, 2, 0x400, 0x401, 0xFFFE, 0xFFFF} {
		c, _ := DecodeCharacteristics(Characteristics{RotationRate: rate}.Encode())
		b.Line("rotation rate %X is %d", rate, c.RotationRate)
	}
	vector.RoundTrip(
		b, "capacity",
		Capacity{Last: 0x1112_1314_1516_1718, Block: 512, Exponent: 3, Alignment: 0x191A, Protection: 3, Thin: true},
		Capacity.Encode, DecodeCapacity, nil,
	)
	vector.RoundTrip(b, "capacity, 10-byte command", Capacity{Last: 0x1112_1314, Block: 4096}, Capacity.Encode10, DecodeCapacity, nil)
	for _, block := range []uint32{255, 256, 1 << 16, 1<<16 + 1} {
		_, err := DecodeCapacity(Capacity{Block: block}.Encode())
		_, err10 := DecodeCapacity(Capacity{Block: block}.Encode10())
		b.Line("a block of %d bytes: %v; %v", block, err, err10)
	}
	b.Line(
		"offset %d %d %d", Capacity{Exponent: 3, Alignment: 7}.Offset(), Capacity{Exponent: 3}.Offset(),
		Capacity{Exponent: 3, Alignment: 9}.Offset(),
	)
	decode := func(b []byte) (Sense, error) { return DecodeSense(b) }
	vector.RoundTrip(
		b,
		"sense, fixed",
		Sense{
			Key:           MediumError,
			ASC:           0x11,
			ASCQ:          0x0B,
			Deferred:      true,
			Fixed:         true,
			Information:   0x1112_1314,
			HasInfo:       true,
			Raw:           [4]byte{0x11, 0x12, 0x13, 0x14},
			Specific:      [4]byte{1, 2, 3, 4},
			SenseSpecific: [3]byte{0x80, 0x21, 0x22},
			SpecificValid: true,
		},
		Sense.Encode,
		decode,
		nil,
	)
	information := Descriptor{0, []byte{0x80, 0, 0x11, 0x12, 0x13, 0x14, 0x15, 0x16, 0x17, 0x18}}
	vector.RoundTrip(
		b,
		"sense, descriptors",
		Sense{
			Key:         MediumError,
			ASC:         0x11,
			ASCQ:        0x0B,
			Deferred:    true,
			Information: 0x1112_1314_1516_1718,
			HasInfo:     true,
			Descriptors: []Descriptor{information, {2, []byte{0, 0, 0x80, 0x40, 0, 0}}},
		},
		Sense.Encode,
		decode,
		nil,
	)

	b.Head("words")
	for asc := range 256 {
		for ascq := range 256 {
			s := Sense{Key: DataProtect, ASC: uint8(asc), ASCQ: uint8(ascq)}
			if w, own := words(s.ASC, s.ASCQ); own && asc != 0x5D && asc != 0x74 && asc != 0x40 || ascq < 2 && w != "cause without a name" {
				other := s
				other.Key = IllegalRequest
				b.Line(
					"%02X/%02X %s: locked %v, with another key %v, write protected %v", asc, ascq, w, s.Locked(), other.Locked(),
					s.WriteProtected(),
				)
			}
		}
	}
	for n := range uint8(18) {
		b.Line(
			"%X: key %s; result %s, failed %v; kind %s; reassign %s, failed %v; scan %s; form factor %s; rate %s", n, SenseKey(n),
			TestResult(n), TestResult(n).Failed(), SelfTest{Code: n}.KindName(), ReassignStatus(n),
			ScanResult{Status: ReassignStatus(n)}.Failed(), Background{Status: n}.StatusName(),
			Characteristics{FormFactor: n}.FormFactorName(), PortPhy{Rate: n}.RateName(),
		)
	}
	for _, s := range []Status{Good, CheckCondition, Busy, 0x18} {
		b.Line("status %02X %s", uint8(s), s)
	}
	for _, h := range []ElementHealth{0, 1, 0x63, 0x64, 0x65, 0xCF, 0xD0, 0xFC, 0xFD, 0xFE, 0xFF} {
		b.Line("element health %02X: %s, bad %v", uint8(h), h, h.Bad())
	}
	for page := range uint8(0x30) {
		for _, sub := range []uint8{0, 1, 2, 0xFF} {
			l := LogID{page, sub}
			if _, named := logTitles[l]; named || sub == 0 && page < 2 {
				line := fmt.Sprintf("log %s %s", l, LogTitle(l))
				for code := range uint16(8) {
					if name := ParameterName(l, code); name != "" {
						line += fmt.Sprintf("; %d %s", code, name)
					}
				}
				b.Line("%s", line)
			}
		}
	}
	for _, i := range []Informational{{ASC: 0x5D}, {ASC: 0x5D, ASCQ: 0xFF}, {ASC: 0x5C}, {ASC: 0x0B}, {ASC: 0x0C}} {
		b.Line("%02X/%02X predicts %v, warns %v", i.ASC, i.ASCQ, i.Predicts(), i.Warns())
	}
	for size := range 10 {
		n, ok := Parameter{Value: []byte{1, 2, 3, 4, 5, 6, 7, 8, 9}[:size]}.Number()
		b.Line("number of %d bytes: %X %v", size, n, ok)
	}
	for _, body := range [][]byte{{0, 0, 0x80, 0x40, 0}, {0, 0, 0x80, 0xFF, 0xFF}, {0, 0, 0, 0x40, 0}, {0, 0, 0x80, 0x40}} {
		percent, ok := Progress(Sense{Descriptors: []Descriptor{{2, body}}})
		_, other := Progress(Sense{Descriptors: []Descriptor{{3, body}}})
		fixed, _ := Progress(Sense{Fixed: true, SpecificValid: true, SenseSpecific: [3]byte(append([]byte{0x80}, body[3], 0x20))})
		b.Line("progress % x: %d %v %v, fixed %d", body, percent, ok, other, fixed)
	}
	_, ok := Progress(Sense{Fixed: true})
	b.Line("without: %v", ok)
	for _, all := range [][]Designator{
		{{0, 3, make([]byte, 7), 0}}, {{0, 3, make([]byte, 8), 0}}, {
			{0, 3, make([]byte, 8), 0}, {0, 3, make([]byte, 16), 0}, {0, 3, make([]byte, 12), 0},
		}, {{1, 3, make([]byte, 8), 0}}, {
			{0, 2, make([]byte, 12), 0}, {0, 3, make([]byte, 8), 0},
		}, {{0, 2, make([]byte, 12), 0}}, {{0, 1, make([]byte, 12), 0}},
	} {
		b.Line("the unit's name has %d bytes", len(UnitName(all)))
	}
	b.Close()
}
