package nvme

import (
	"testing"

	"hylostat.example/internal/vector"
)

// What goes over the wire, and what is made of it: testdata/wire.txt.
func TestTheWire(t *testing.T) {
	b := vector.Open(t, "wire.txt")
	b.Head("commands")
	for _, c := range []Command{
		IdentifyController(), ListNamespaces(), IdentifyNamespace(0x1112), NameNamespace(0x1112), ReadSecurity(0x51, 0x1213, 0x1415),
		ReadEndurance(0x1617), ReadLog(LogHealth, HealthSize),
		ReadLog(LogTelemetry, 0x12_3456_78*4), ReadLog(LogSupported, 4), ReadLog(LogErrors, 4), ReadLog(LogFirmware, 4),
		ReadLog(LogEffects, 4), ReadLog(LogSelfTest, 4), ReadLog(LogSanitize, 4), ReadLog(LogDatacenter, 4), PersistentHeader(),
		PersistentEvents(0x2000), PersistentDone(), StartSelfTest(TestExtended),
		{Op: 0x99},
		{Op: GetLogPage, CDW10: 0x0102_0203},
	} {
		b.Line("%-30s %s", c.Name(), vector.Say(c))
		if c.Op == GetLogPage {
			b.Line("  log %02X of %X", c.LogID(), c.LogSpecific())
		}
	}

	b.Head("pages")
	controller := vector.Filled[Controller](0, "ErrorEntries")
	controller.ErrorEntries, controller.IEEE, controller.FirmwareSlots = 64, 0x515253, 5
	vector.RoundTrip(b, "Identify Controller", controller, Controller.Encode, DecodeController, nil)
	vector.RoundTrip(
		b, "Identify Controller, little supported", Controller{Serial: "1", Model: "2", ErrorEntries: 1}, Controller.Encode,
		DecodeController, nil,
	)
	vector.RoundTrip(b, "namespaces", []uint32{1, 0x1112_1314}, EncodeNamespaces, DecodeNamespaces, nil)
	namespace := vector.Filled[Namespace](0, "Block", "Protection")
	namespace.Block, namespace.Protection = 4096, 3
	vector.RoundTrip(b, "Identify Namespace", namespace, Namespace.Encode, DecodeNamespace, nil)
	largest := Namespace{Size: 1, Block: 1 << 20}.Encode()
	vector.Page(b, "Identify Namespace, the largest block", largest[:], DecodeNamespace, nil)
	format := Namespace{}.Encode()
	format[26], format[128+4*63+2] = 0x6F, 9 // format 63: bits 6:5 over bits 3:0
	vector.Page(b, "Identify Namespace, format 63", format, DecodeNamespace, nil)
	vector.RoundTrip(
		b,
		"namespace names",
		[]NamespaceName{
			NGUID([16]byte{1, 2, 3, 15: 16}),
			EUI64(0x1112_1314_1516_1718),
			{Kind: nameUUID, Value: []byte("0123456789abcdef")},
		},
		EncodeNames,
		DecodeNames,
		nil,
	)
	vector.RoundTrip(b, "health", vector.Filled[Health](0), Health.Encode, DecodeHealth, nil)
	vector.RoundTrip(
		b,
		"errors",
		[]LoggedError{
			{Number: 9 << 40, Queue: 0x1112, Status: 0x281, LBA: 0x1314_1516_1718_191A, Namespace: 0x1B1C_1D1E},
			{Number: 8, Status: 2},
		},
		func(all []LoggedError) []byte { return EncodeErrors(all, 3) },
		DecodeErrors,
		nil,
	)
	tests := []SelfTest{
		{
			Code:     TestExtended,
			Result:   TestFailedSegment,
			Segment:  3,
			Hours:    0x1112_1314_1516_1718,
			NSID:     0x191A_1B1C,
			LBA:      0x1D1E_1F20_2122_2324,
			HasLBA:   true,
			Status:   0x281,
			HasState: true,
		},
		{Code: TestShort, Result: TestPassed, Hours: 7},
	}
	vector.RoundTrip(b, "self-tests", SelfTestLog{Tests: tests}, SelfTestLog.Encode, DecodeSelfTests, nil)
	vector.RoundTrip(b, "self-tests, one goes on", SelfTestLog{Running: TestShort, Percent: 100}, SelfTestLog.Encode, DecodeSelfTests, nil)
	firmware := vector.Filled[Firmware](7)
	vector.RoundTrip(b, "firmware", firmware, Firmware.Encode, DecodeFirmware, nil)
	vector.RoundTrip(
		b, "effects", []Opcode{GetLogPage, 0xFF}, func(all []Opcode) []byte { return EncodeEffects(all...) }, DecodeEffects, nil,
	)
	vector.RoundTrip(
		b, "supported logs", []uint8{LogHealth, 0xFF}, func(all []uint8) []byte { return EncodeSupported(all...) },
		DecodeSupported, nil,
	)
	vector.RoundTrip(b, "datacenter", vector.Filled[Datacenter](1<<48-1), Datacenter.Encode, DecodeDatacenter, nil)
	vector.RoundTrip(b, "endurance group", vector.Filled[Endurance](0), Endurance.Encode, DecodeEndurance, nil)
	vector.RoundTrip(b, "sanitize", vector.Filled[SanitizeStatus](0), SanitizeStatus.Encode, DecodeSanitize, nil)
	events := PersistentLog{Events: 3, Hours: Counter{0x1112, 0x13}, Cycles: 0x1415, List: []PersistentEvent{
		{
			Kind: eventTime,
			At:   Timestamp{0x1112_1314_1516, true},
			Data: []byte{1, 2, 3, 4, 5, 6, 2, 0},
		},
		{Kind: eventHeat, At: Timestamp{7, false}, Data: []byte{9, 1}},
		{Kind: 0xDE},
	}}
	page := events.Encode()
	events.Length = uint64(len(page))
	vector.RoundTrip(b, "persistent events", events, PersistentLog.Encode, DecodePersistent, nil)
	page[persistentHeader+20] = 1 // a byte of the maker's
	vector.Page(b, "persistent events, with the maker's own", page, DecodePersistent, nil)
	header := make([]byte, TelemetryHeader)
	header[0], header[8], header[9] = LogTelemetry, 2, 1
	vector.Page(b, "telemetry", header, func(b []byte) (int, error) { return TelemetryLength(b), nil }, nil)

	b.Head("words")
	for s := range Status(0x400) {
		if _, named := statusWords[s]; named || s&0xFF < 2 {
			b.Line("%03X %s: refused %v, not ready %v, the host's %v", uint16(s), s, s.Refused(), s.NotReady(), s.HostCaused())
		}
	}
	b.Line("%s", 0x4000|MediaError)
	for n := range uint8(20) {
		b.Line(
			"%X: result %s, failed %v; kind %s; name %s; sanitize %s, %s; event %s; hardware %s", n, TestResult(n),
			TestResult(n).Failed(), SelfTest{Code: n}.KindName(), NamespaceName{Kind: n}.KindName(),
			SanitizeStatus{State: uint16(n)}.StateName(), SanitizeAction(n), PersistentEvent{Kind: n}.KindName(),
			PersistentEvent{Kind: eventHardware, Data: []byte{n, 0}}.Content(),
		)
	}
	for bit := range 8 {
		b.Line("warning bit %d %q", bit, WarningWords(1<<bit))
	}
	b.Line(
		"%s; %s; %s", SanitizeStatus{State: 1 | sanitizeErased}.StateName(), PersistentEvent{Kind: 0xDE}.KindName(),
		PersistentEvent{Kind: 0xDF}.KindName(),
	)
	health := Health{Used: 3, Spare: 90, MediaErrors: Counter{4, 1}, Hours: Counter{5, 0}}.Encode()
	for _, e := range []PersistentEvent{
		{Kind: eventHealth, Data: health},
		{Kind: eventHealth, Data: health[:511]},
		{Kind: eventFirmware, Data: []byte("OLD 1   NEW 2         ")},
		{Kind: eventFirmware, Data: make([]byte, 21)},
		{Kind: eventTime, Data: []byte{0, 0x70, 0x1B, 0xD1, 0x9A, 1, 2, 0}},
		{Kind: eventTime, Data: []byte{0x10, 0x27, 0, 0, 0, 0, 0, 0}},
		{Kind: eventTime, Data: make([]byte, 7)},
		{Kind: eventPower, Data: []byte("FW 1.0  ")},
		{Kind: eventPower, Data: []byte("FW 1.0 ")},
		{Kind: eventHardware, Data: []byte{1}},
		{Kind: eventFormat, Data: []byte{7, 0, 0, 0}},
		{Kind: eventFormatted, Data: []byte{255, 255, 255, 255}},
		{Kind: eventFormat, Data: []byte{1, 2, 3}},
		{Kind: eventSanitize, Data: []byte{0, 0, 0, 0, 2, 0, 0, 0}},
		{Kind: eventSanitize, Data: make([]byte, 7)},
		{Kind: eventSanitized, Data: []byte{0, 0, 3, 0}},
		{Kind: eventSanitized, Data: []byte{0, 0, 3}},
		{Kind: eventHeat, Data: []byte{9, 1}},
		{Kind: eventHeat, Data: []byte{9}},
		{Kind: eventNamespace, Data: []byte{1, 2, 3, 4}},
	} {
		b.Line("event %02X of %d bytes: %q", e.Kind, len(e.Data), e.Content())
	}
	b.Line(
		"%s %s %s; %x %x %x; %s", NGUID([16]byte{1}), EUI64(1), NamespaceName{Kind: nameUUID, Value: []byte{1, 2}},
		Namespace{NGUID: [16]byte{15: 1}, EUI64: 2}.Name(), Namespace{EUI64: 2}.Name(), Namespace{}.Name(),
		Controller{Version: 0x0002_0103}.VersionName(),
	)
	for _, k := range []uint16{0, 1, 300} {
		celsius, ok := Kelvin(k)
		b.Line("%d K: %d %v; %v", k, celsius, ok, Counter{uint64(k), 1}.Float())
	}
	b.Close()
}
