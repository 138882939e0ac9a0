package cli

import (
	"bytes"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

func TestWhatIsNotKnownIsNeverZero(t *testing.T) {
	assert.Equal(t, "not known", number(nil, "h"))
}

func TestExitCodesTellWhatWentWrong(t *testing.T) {
	problem := func(status int) error { return &client.ProblemError{Problem: contract.Problem{Status: status}} }
	for name, row := range map[string]struct {
		err  error
		want int
	}{
		"nothing": {nil, 0}, "anything": {errors.New("x"), 1}, "a failure there": {problem(500), 1}, "no room there": {problem(507), 1},
		"not understood": {&usage{"x"}, 2}, "not understood there": {problem(400), 2}, "none": {problem(404), 3},
		"refused":      {problem(409), 4},
		"nobody there": {&client.Unreachable{}, 5}, "a failed run": {&notPassed{"x"}, 6},
	} {
		assert.Equal(t, row.want, Code(row.err), name)
	}
}

func TestABayIsALineOfTheTable(t *testing.T) {
	serial := "HYUS0001"
	var out bytes.Buffer
	printBays(&out, []contract.Bay{
		{
			Name:       contract.BayName{Number: 1},
			Number:     1,
			Connection: "answering",
			Doing:      contract.Said{Words: "x"},
			Next:       contract.Said{Words: "wait"},
			Drive:      &contract.Drive{Serial: "KVA077M4Q2", Grade: "undecided"},
			Run:        &contract.Run{Standing: contract.Said{Words: "short self-test"}, Percent: 41, LeftS: 70},
		},
		{
			Name:       contract.BayName{Number: 2},
			Number:     2,
			Connection: "empty",
			Doing:      contract.Said{Words: "Put a drive in."},
			Next:       contract.Said{Words: "put a drive in"},
		},
		{
			Name:       contract.BayName{Number: 12},
			Number:     12,
			Connection: "unread",
			Doing:      contract.Said{Words: "Counters not read."},
			Next:       contract.Said{Words: "see advice"},
			Attached:   &contract.Attached{Transport: "USB", Serial: &serial, Bytes: 16_777_216},
		},
	})
	assert.Equal(t, `bay  drive                 doing                              verdict      next
  1  KVA07 7M4Q2           short self-test, 41 %, 1 min left  : undecided  wait
  2  empty                 Put a drive in.                                 put a drive in
 12  USB, HYUS0001, 17 MB  Counters not read.                 : undecided  see advice
`, out.String())
}

func TestAVerdictIsPrintedWithItsReasons(t *testing.T) {
	var out bytes.Buffer
	printVerdict(&out, contract.Verdict{
		Grade:  "degrading",
		Duty:   "everyday",
		Policy: 7,
		Advice: []string{"Copy data.", "Watch weekly."},
		Findings: []contract.Finding{
			{
				Sentence: "3 reallocated, steady 2 110 h",
				Detail:   "unchanged",
				Effect:   "degrading",
				Margin:   &contract.Margin{Words: "3 of 8 used"},
			},
		},
		Notes:    []contract.Finding{{Sentence: "Interface CRC errors grow", Effect: "note"}},
		Missing:  []contract.Missing{{What: "an extended self-test", Run: "extended self-test", Minutes: 240}},
		Unjudged: []contract.Unjudged{{Title: "vibration", Reason: "the drive does not report it"}},
		Duties:   []contract.Fit{{Fitness: "does", Words: "carry"}, {Fitness: "unjudged", Words: "archive, needs whole sweep"}},
		Signed:   &contract.SignOff{By: "Imre", Grade: "replace", Overruled: true, Reason: new("clicks"), At: time.Time{}},
	})
	for _, line := range []string{
		"/ degrading for everyday   policy 7   overruled with replace by Imre: clicks\n",
		"1  3 reallocated, steady 2 110 h  3 of 8 used\n", "     unchanged\n",
		"2  Interface CRC errors grow      advice only\n", "missing   an extended self-test\n          get it by: extended " +
			"self-test, about 4 h\n",
		"not judged   vibration: the drive does not report it\n", "does for    carry\n", "not judged  archive, needs whole sweep\n",
		"next        Copy data.\n            Watch weekly.\n",
	} {
		assert.Contains(t, out.String(), line)
	}
}

func TestPagesAreShownByteForByte(t *testing.T) {
	page := append([]byte{5, 0x33}, make([]byte, 62)...)
	var out bytes.Buffer
	printPages(&out, []contract.Page{
		{Title: "SMART data", Name: "ata/attributes", How: "ATA PASS-THROUGH(16)", Bytes: &page},
		{Title: "Thresholds", Name: "ata/thresholds", Fault: &contract.Fault{Back: "aborted"}},
	})
	assert.Equal(t, `
SMART data (ata/attributes), by ATA PASS-THROUGH(16)
   0  05 33 00 00 00 00 00 00 00 00 00 00 00 00 00 00
  16  00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00
      2 lines the same

Thresholds (ata/thresholds)
not available: aborted
`, out.String())
}

func TestWhatIsNotKnownIsNeverPrintedAsZero(t *testing.T) {
	var out bytes.Buffer
	reason, page := "the drive reports none", "nvme/log-02"
	printReading(&out, contract.Reading{
		Seq:        1,
		Alarm:      contract.ReadingAlarmUnknown,
		Statistics: []contract.Statistic{{Name: "Pending Error Count"}},
		Errors:     []contract.LoggedError{{Command: "error 5", Meaning: "invalid field", Page: page}},
		Sheets: []contract.Sheet{
			{Page: page, Title: "Health log", Facts: []contract.Fact{{Name: "Temperature", Unit: "°C", Reason: &reason, Offset: 1}}},
		},
		Faults: []contract.Fault{
			{Class: "refused", What: "Get Log Page 06h", Back: "the drive has no self-tests", Advice: "Nothing to do.", Page: &page},
		},
	})
	for _, want := range []string{
		"not known powered on", "the drive's own alarm: unknown", "Pending Error Count  not available", "not known  error 5",
		"not available: the drive reports none", "not available: Get Log Page 06h: the drive has no self-tests",
	} {
		assert.Contains(t, out.String(), want)
	}
	value, number := "340282366920938463463374607431768211455", true
	out.Reset()
	printSheet(
		&out,
		contract.Sheet{
			Facts: []contract.Fact{{Name: "Data units written", Value: &value, Number: &number}, {Name: "Serial", Value: &value}},
		},
	)
	assert.Contains(t, out.String(), "340\u00a0282\u00a0366", "a number is grouped, however long")
	assert.Contains(t, out.String(), value, "a serial of digits is not")
}

// What a person copies out of a terminal is found and typed again: no blank in it is another one, and an address has none.
func TestWhatATerminalShowsCanBePastedBack(t *testing.T) {
	var out bytes.Buffer
	n, err := io.WriteString(&plain{Writer: &out}, "20\u00a0512 h at LBA 205883114")
	require.NoError(t, err)
	assert.Equal(t, len("20\u00a0512 h at LBA 205883114"), n)
	assert.Equal(t, "20 512 h at LBA 205883114", out.String())
	assert.Equal(t, "205883114-205890000", ungrouped("205\u00a0883\u00a0114-205 890 000"))
}
