package scsi

import (
	"fmt"
)

// TestResult is how a SCSI self-test ended (SPC-5 table 391).
type TestResult uint8

// The results.
const (
	TestPassed        TestResult = 0
	TestAbortedByHost TestResult = 1
	TestAbortedReset  TestResult = 2
	TestFatal         TestResult = 3
	TestUnknown       TestResult = 4
	TestFirstSegment  TestResult = 5
	TestSecondSegment TestResult = 6
	TestOtherSegment  TestResult = 7
	TestRunning       TestResult = 15
)

func (r TestResult) String() string {
	names := map[TestResult]string{
		TestPassed:        "passed",
		TestAbortedByHost: "aborted by the host",
		TestAbortedReset:  "interrupted by a reset",
		TestFatal:         "could not finish",
		TestUnknown:       "failed, part not named",
		TestFirstSegment:  "failed in its first segment",
		TestSecondSegment: "failed in its second segment",
		TestOtherSegment:  "failed in a segment",
		TestRunning:       "running",
	}
	if name, ok := names[r]; ok {
		return name
	}
	return fmt.Sprintf("reserved result %Xh", uint8(r))
}

// Failed reports whether the result says the drive is at fault.
func (r TestResult) Failed() bool { return r >= TestFatal && r <= TestOtherSegment }

// SelfTest is one result of log page 10h.
type SelfTest struct {
	Code   uint8
	Result TestResult
	Number uint8
	Hours  uint16 // FFFFh: that many or more
	LBA    uint64
	HasLBA bool
	Sense  Sense
	Offset int
}

// KindName names the test (SPC-5 table 214).
func (t SelfTest) KindName() string {
	switch t.Code {
	case 1, 5:
		return "short"
	case 2, 6:
		return "extended"
	}
	return fmt.Sprintf("kind %d", t.Code)
}

// DecodeSelfTests reads log page 10h, newest first (SPC-5 7.3.18). A parameter of zeros is an unused slot, not a pass.
func DecodeSelfTests(b []byte) ([]SelfTest, error) {
	l, err := DecodeLogPage(LogSelfTests, b)
	var all []SelfTest
	for _, p := range l.Parameters {
		v := p.Value
		if p.Code < 1 || p.Code > 20 || len(v) < 16 {
			continue
		}
		t := SelfTest{Code: v[0] >> 5, Result: TestResult(v[0] & 0xF), Number: v[1], Hours: be.Uint16(v[2:]), Offset: p.Offset}
		if t.Code == 0 && t.Result == 0 && t.Hours == 0 {
			continue
		}
		if lba := be.Uint64(v[4:]); t.Result.Failed() && lba != 1<<64-1 {
			t.LBA, t.HasLBA = lba, true
		}
		t.Sense = Sense{Key: SenseKey(v[12] & 0xF), ASC: v[13], ASCQ: v[14]}
		all = append(all, t)
	}
	return all, err
}

// EncodeSelfTests writes log page 10h; newest first.
func EncodeSelfTests(all []SelfTest) []byte {
	var parameters []Parameter
	for i := range 20 {
		v := make([]byte, 16)
		if i < len(all) {
			t := all[i]
			v[0], v[1], v[12], v[13], v[14] = t.Code<<5|uint8(t.Result), t.Number, uint8(t.Sense.Key), t.Sense.ASC, t.Sense.ASCQ
			be.PutUint16(v[2:], t.Hours)
			be.PutUint64(v[4:], 1<<64-1)
			if t.HasLBA {
				be.PutUint64(v[4:], t.LBA)
			}
		}
		parameters = append(parameters, Parameter{Code: uint16(i + 1), Value: v})
	}
	return EncodeLogPage(LogSelfTests, parameters...)
}
