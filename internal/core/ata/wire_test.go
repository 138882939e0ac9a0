package ata

import (
	"cmp"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/vector"
)

// What goes over the wire, and what is made of it: testdata/wire.txt.
func TestTheWire(t *testing.T) {
	b := vector.Open(t, "wire.txt")
	b.Head("commands, as registers")
	for _, c := range []Command{
		ReadIdentify(), ReadAttributes(), ReadThresholds(), ReadLog(LogErrors, 0x5152),
		ReadLogGPLFrom(LogDeviceStatistics, 0x1213, 0x5152), ReadTrusted(0x51, 0x1213),
		ReadElements(0x5152), PowerMode(), SpinUp(), NativeMax(), AccessibleMax(), ReadConfiguration(), SCTCommand(), WriteSelective(),
		ReturnStatus(), ExecuteSelfTest(TestExtended),
		{Op: SMART, Feature: 0xE1},
		{Op: 0x99},
	} {
		b.Line("%-40s %s", c.Name(), vector.Say(c))
		if c.Op == ReadLogExt {
			first, ok := c.LogPage()
			b.Line("  from page %X %v", first, ok)
		}
	}
	for _, lba := range []uint64{1 << 16, 1 << 31, 1 << 40, 0xFF} {
		_, ok := Command{LBA: lba}.LogPage()
		b.Line("page of LBA %X: %v", lba, ok)
	}
	b.Line("%s %s", vector.Say(AlarmRegisters(false)), vector.Say(AlarmRegisters(true)))
	for _, words := range [][]byte{SCTTemperatureQuestion()[:8], SCTRecoveryQuestion(false)[:8], SCTRecoveryQuestion(true)[:8]} {
		b.Line("SCT question % x", words)
	}

	b.Head("pages")
	vector.RoundTrip(b, "IDENTIFY DEVICE", Identify{
		Serial:            "KVA077M511",
		Firmware:          "S1.05",
		Model:             "Korvan K4-2000",
		Sectors:           0x0000_8786_8584_8382,
		LogicalSector:     2048,
		PhysicalSector:    16384,
		RotationRate:      7200,
		FormFactor:        3,
		Alignment:         0x1312,
		WWN:               0x5121_3141_5161_7181,
		SATAGenerations:   7,
		SATANow:           2,
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
		SCTRecovery:       true,
		SCTTables:         true,
		HPA:               true,
		Overlay:           true,
		AccessibleMax:     true,
		SpinUpNeeded:      true,
		Zoned:             2,
		TRIM:              true,
		Trusted:           true,
		Security:          Security{true, true, true, true, true},
		Integrity:         IntegrityRight,
	}, Identify.Encode, DecodeIdentify, setSum)
	vector.RoundTrip(b, "IDENTIFY DEVICE, little supported", Identify{
		Serial:          "1",
		Firmware:        "2",
		Model:           "3",
		Sectors:         0x0182_8384,
		LogicalSector:   512,
		PhysicalSector:  512,
		RotationRate:    1,
		Incomplete:      true,
		SATAGenerations: 1,
		SATANow:         1,
	}, Identify.Encode, DecodeIdentify, nil)
	page := Identify{Serial: "1", Model: "3", Sectors: 100}.Encode()
	for word, w := range map[int]uint16{69: 1 << 3, 2: 0x37C8, 217: 0x0401} {
		le.PutUint16(page[2*word:], w)
	}
	le.PutUint64(page[460:], 0x0000_9796_9594_9392)
	vector.Page(b, "IDENTIFY DEVICE, extended count of sectors", page, DecodeIdentify, nil)

	attributes := AttributePage{
		Revision: 0x1112,
		Attributes: []Attribute{
			{ID: 5, Flags: 0x1314, Value: 99, Worst: 98, Raw: [6]byte{1, 2, 3, 4, 5, 6}},
			{ID: 197, Flags: 2, Value: 200, Worst: 97, Raw: [6]byte{7}},
		},
		OfflineStatus:  0x82,
		Test:           TestRead,
		TestRemaining:  40,
		OfflineTime:    0x1516 * time.Second,
		CanTest:        true,
		CanConveyance:  true,
		CanSelective:   true,
		CanLogErrors:   true,
		ShortPoll:      2 * time.Minute,
		ExtendedPoll:   254 * time.Minute,
		ConveyancePoll: 5 * time.Minute,
	}
	vector.RoundTrip(b, "SMART data", attributes, AttributePage.Encode, DecodeAttributes, setSum)
	attributes.ExtendedPoll = 255 * time.Minute
	attributes.CanTest, attributes.CanConveyance, attributes.CanSelective, attributes.CanLogErrors = false, false, false, false
	vector.RoundTrip(b, "SMART data, a long test", attributes, AttributePage.Encode, DecodeAttributes, setSum)
	vector.RoundTrip(b, "thresholds", []Threshold{{ID: 5, Level: 36}, {ID: 197, Level: 7}}, EncodeThresholds, DecodeThresholds, setSum)
	tests := SelfTestLog{
		Revision: 0x1112,
		Tests: []SelfTest{
			{Number: 2, Status: TestRead, Remaining: 40, Hours: 0x1314, LBA: 0x15161718, HasLBA: true},
			{Number: 0x81, Status: TestServo, Remaining: 90, Hours: 0x191A},
			{Number: 3, Hours: 1},
		},
	}
	vector.RoundTrip(b, "self-test log", tests, SelfTestLog.Encode, DecodeSelfTestLog, setSum)
	tests.Tests[0].LBA, tests.Revision = 0x1516_1718_191A, 1
	vector.RoundTrip(b, "extended self-test log", tests, SelfTestLog.EncodeExt, DecodeSelfTestsExt, setSum)
	before := func(wide uint64) []EarlierCommand {
		return []EarlierCommand{
			{Op: 0x35, Feature: 0x21, Count: 0x22, LBA: wide &^ 0xF, At: 0x2324_2526},
			{Op: 0x25, Feature: 0x27, Count: 0x28, LBA: wide, At: 0x292A_2B2C},
		}
	}
	errors := ErrorLog{Version: 1, Total: 0x1112, Errors: []LoggedError{
		{Command: 0x25, Error: 0x40, Status: 0x51, LBA: 0x0516_1718, Count: 0x19, State: 3, Hours: 0x1A1B, Before: before(0x0D2E_2F30)},
		{Command: 0x25, Error: 0x04, Status: 0x71, LBA: 0x01, Count: 1, State: 1, Hours: 7, Before: before(0x0131_3233)},
	}}
	vector.RoundTrip(b, "summary error log", errors, ErrorLog.Encode, DecodeErrorLog, setSum)
	vector.Page(b, "comprehensive error log", errors.Encode(), DecodeErrors, setSum)
	for i := range errors.Errors {
		e := &errors.Errors[i]
		e.LBA, e.Count, e.Before = 0x1516_1718_191A, 0x1B1C, before(0x3132_3334_3536)
		for k := range e.Before {
			e.Before[k].Feature, e.Before[k].Count = 0x3738, 0x393A
		}
	}
	vector.RoundTrip(b, "extended comprehensive error log", errors, ErrorLog.EncodeExt, DecodeErrorsExt, setSum)
	vector.RoundTrip(b, "selective self-test log", vector.Filled[SelectiveLog](0), SelectiveLog.Encode, DecodeSelective, setSum)
	vector.RoundTrip(
		b, "pending defects", PendingLog{Count: 2, Defects: vector.Filled[[]PendingDefect](0)}, PendingLog.Encode, DecodePending,
		nil,
	)
	vector.RoundTrip(
		b, "link counters",
		[]PHYCounter{{ID: 1, Value: 0x1112_1314, Size: 4, Name: phyNames[1]}, {ID: 0x800A, Value: 0xFFFF_FFFF, Full: true, Size: 4}},
		EncodePHY, DecodePHY, setSum,
	)
	for _, n := range []int{31, 32, 63, 64} { // a page holds 31, each further one 32
		full := PendingLog{Count: uint32(n)}
		for i := range n {
			full.Defects = append(full.Defects, PendingDefect{Hours: uint32(i + 1), LBA: uint64(9 * i), Offset: 16 + 16*i})
		}
		got, err := DecodePending(full.Encode())
		require.NoError(t, err)
		assert.Equal(t, full, got)
		b.Line("%d pending defects take %d bytes", n, len(full.Encode()))
	}
	five := SelectiveLog{Spans: []Span{{1, 2}, {3, 4}, {5, 6}, {7, 8}, {9, 10}}}
	got, err := DecodeSelective(five.Encode())
	require.NoError(t, err)
	assert.Equal(t, five, got)
	full := ErrorLog{Version: 1, Total: 5}
	for i := range 5 {
		e := LoggedError{Command: 0x25, Hours: uint16(9 - i), Status: 0x51}
		for k := range 5 {
			e.Before = append(e.Before, EarlierCommand{Op: 0x25, LBA: uint64(k), At: uint32(i + 1)})
		}
		full.Errors = append(full.Errors, e)
	}
	for what, again := range map[string]func() (ErrorLog, error){
		"summary":  func() (ErrorLog, error) { return DecodeErrorLog(full.Encode()) },
		"extended": func() (ErrorLog, error) { return DecodeErrorsExt(full.EncodeExt()) },
	} {
		l, err := again()
		require.NoError(t, err)
		for i := range l.Errors {
			l.Errors[i].Offset = 0
		}
		assert.Equal(t, full.Errors[:len(l.Errors)], l.Errors, what)
		assert.GreaterOrEqual(t, len(l.Errors), 4, what)
	}
	wide := make([]byte, PageSize)
	copy(wide[4:], []byte{0x0B, 0x40, 1, 2, 3, 4, 5, 6, 7, 8, 0x0A, 0x10, 9, 10, 0x0D, 0x30, 11, 12, 13, 14, 15, 16})
	vector.Page(b, "link counters of other sizes", wide, DecodePHY, setSum)
	vector.RoundTrip(
		b,
		"SCT status",
		SCTReport{
			Format:      3,
			State:       4,
			Now:         38,
			Lowest:      -5,
			Highest:     42,
			LifeLowest:  -7,
			LifeHighest: 51,
			Most:        60,
			OverLimit:   0x1112_1314,
			UnderLimit:  0x1516_1718,
			SMARTStatus: alarmClear,
		},
		SCTReport.Encode,
		DecodeSCTStatus,
		nil,
	)
	vector.RoundTrip(
		b,
		"temperature history",
		TemperatureHistory{
			Sampling:     0x1112,
			Interval:     0x1314,
			MaxOperating: 60,
			OverLimit:    65,
			MinOperating: -1,
			UnderLimit:   -20,
			Curve:        []int8{NoTemperature, 37, -3},
		},
		TemperatureHistory.Encode,
		DecodeTemperatureHistory,
		nil,
	)
	vector.RoundTrip(b, "device configuration", vector.Filled[Configuration](0), Configuration.Encode, DecodeConfiguration, setSum)
	vector.RoundTrip(
		b, "log directory", LogDirectoryPages{1: 1, 3: 0x1112, 0xFF: 0x1314}, LogDirectoryPages.Encode, DecodeLogDirectory, nil,
	)
	keys := slices.SortedFunc(maps.Keys(statistics), func(a, b StatisticKey) int {
		return cmp.Or(cmp.Compare(a.Page, b.Page), cmp.Compare(a.Offset, b.Offset))
	})
	var all []Statistic
	for i, key := range keys {
		kind := statistics[key]
		n := Statistic{StatisticKey: key, Name: kind.name, Unit: kind.unit, Value: int64(1)<<(8*kind.bytes-2) + int64(i), Valid: true}
		if kind.signed {
			n.Value = -int64(i)
		}
		all = append(all, n)
	}
	read, err := DecodeStatistics(EncodeStatistics(all))
	require.NoError(t, err)
	assert.Equal(t, all, read, "each of them")
	page1 := EncodeStatistics(
		[]Statistic{
			{StatisticKey: StatPowerOnHours, Value: 0x1112, Valid: true, Notifies: true, Condition: true},
			{StatisticKey: StatSectorsWritten, Value: 7},
			{StatisticKey: StatisticKey{1, 88}, Valid: true, Normalized: true},
		},
	)
	vector.Page(b, "device statistics, page 1", page1[:2*PageSize], DecodeStatistics, nil)
	heat := EncodeStatistics([]Statistic{{StatisticKey: StatTemperature, Value: -5, Valid: true}})
	vector.Page(b, "device statistics, a temperature", heat[:6*PageSize], DecodeStatistics, nil)
	b.Line(
		"pages there are: %X, %X, %X", StatisticPageList(page1),
		StatisticPageList(append([]byte{8: 255}, make([]byte, PageSize-9)...))[:1], StatisticPageList(page1[:PageSize-1]),
	)

	b.Head("words")
	for _, key := range keys {
		b.Line("device statistic %d/%d %+v, share %v", key.Page, key.Offset, statistics[key], key.IsShare())
	}
	for id := range uint16(0x20) {
		if phyNames[id] != "" {
			b.Line("link counter %02X %s", id, phyNames[id])
		}
	}
	for op := range 256 {
		if name, ok := opcodeNames[Opcode(op)]; ok {
			b.Line("command %02X %s", op, name)
		}
	}
	for n := range uint8(18) {
		b.Line(
			"%X: test %s, %s, failed %v; form factor %s; SCT %s; error log state %s; link %s", n, SelfTest{Number: n}.KindName(),
			TestStatus(n), TestStatus(n).Failed(), Identify{FormFactor: n}.FormFactorName(), SCTReport{State: n}.StateName(),
			LoggedError{State: n}.StateName(), LinkSpeed(n),
		)
	}
	for bit := range 16 {
		b.Line(
			"bit %d: transport %s; generations %d; error %s; status %v", bit,
			Identify{Transport: 0x1000 | 1<<bit}.TransportName(), Identify{SATAGenerations: uint8(1 << bit)}.LinkPossible(),
			LoggedError{Error: uint8(1 << bit)}.Meaning(), LoggedError{Status: uint8(1 << bit)}.DeviceFault(),
		)
	}
	for _, count := range []uint16{0, 1, 2, 0x3F, 0x40, 0x41, 0x42, 0x7F, 0x80, 0x83, 0x84, 0xFE, 0xFF} {
		b.Line("power mode %02X: %s", count, DecodePower(Registers{Status: 0x50, Count: count, Reported: true}))
	}
	for _, status := range []uint8{0, 1, 1 << 5, 0x50, 0x51, 0xB0} {
		r := Registers{Status: status, LBA: 0xC24F00, Count: 0x1112, Reported: true}
		tenths, ok := DecodeRecoveryLimit(Registers{Status: status, Count: 0x1112, LBA: 0x1314, Reported: true})
		b.Line("status %02X: failed %v, alarm %s; recovery limit %X %v", status, r.Failed(), DecodeAlarm(r), tenths, ok)
	}
	b.Close()
}
