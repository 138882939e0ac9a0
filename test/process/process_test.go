// Package process tests the program as people start it: its command line as a process, and what a kill leaves behind.
package process

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	command "github.com/urfave/cli/v3"

	"hylostat.example/internal/cli"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/record"
)

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "hylostat-process-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "hylostat")
	build := exec.Command("go", "build", "-o", program, "../../cmd/hylostat")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// demo is a running demo.
type demo struct {
	t       *testing.T
	cmd     *exec.Cmd
	address string
}

var at = regexp.MustCompile(`http://[0-9.:]+`)

func start(t *testing.T, dir string, more ...string) *demo {
	t.Helper()
	d := &demo{t: t, cmd: exec.Command(
		program, append([]string{"demo", "--data", dir, "--listen", "127.0.0.1:0", "--factor", "60"}, more...)...,
	)}
	out, err := d.cmd.StdoutPipe()
	require.NoError(t, err)
	d.cmd.Stderr = t.Output()
	require.NoError(t, d.cmd.Start())
	t.Cleanup(func() { _ = d.cmd.Process.Kill(); _ = d.cmd.Wait() })
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan(), "the demo says where it is")
	d.address = at.FindString(lines.Text())
	require.NotEmpty(t, d.address, lines.Text())
	go func() {
		for lines.Scan() {
		}
	}()
	return d
}

// run runs the command line against the demo and gives output, error output and exit code.
func (d *demo) run(args ...string) (string, string, int) {
	d.t.Helper()
	var out, wrong bytes.Buffer
	cmd := exec.Command(program, append([]string{"--service", d.address, "--by", "Dov"}, args...)...)
	cmd.Stdout, cmd.Stderr = &out, &wrong
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(d.t, err)
	}
	return out.String(), wrong.String(), cmd.ProcessState.ExitCode()
}

// ask runs a command with --json and reads its answer.
func ask[T any](d *demo, args ...string) (answer T) {
	d.t.Helper()
	out, wrong, code := d.run(append([]string{"--json"}, args...)...)
	require.Zero(d.t, code, "%v: %s", args, wrong)
	require.NoError(d.t, json.Unmarshal([]byte(out), &answer), out)
	return answer
}

func (d *demo) until(what string, f func() bool) {
	d.t.Helper()
	require.Eventually(d.t, f, 20*time.Second, 50*time.Millisecond, what)
}

func (d *demo) settled() {
	d.t.Helper()
	d.until("all bays are known", func() bool {
		bays := ask[[]contract.Bay](d, "bay", "list")
		ready := len(bays) == 17 // with those of the field bench
		for _, b := range bays {
			ready = ready && b.Connection != contract.BayConnectionEmpty
		}
		return ready
	})
}

func TestTheCommandLineOnTheDemo(t *testing.T) {
	d := start(t, t.TempDir())
	d.settled()
	for name, row := range map[string]struct {
		args []string
		code int
		says []string
	}{
		"bays": {
			[]string{"bay", "list"}, 0, []string{"bay", "KVA07 7M4Q2", "X replace", "No answer, attempt 1. Check its power."},
		},
		"drives": {
			[]string{"drive", "list"}, 0, []string{"KVA07 7M4S3", "BWN11 Q7E30", "OSS04 19Z4K", "| healthy    by Dov"},
		},
		"drives by verdict":    {[]string{"drive", "list", "--grade", "degrading"}, 0, []string{"7M511", "/ degrading"}},
		"drives by customer":   {[]string{"drive", "list", "Pellwick"}, 0, []string{"7M511"}},
		"drives of a lot":      {[]string{"drive", "list", "--lot", "1"}, 0, []string{"7M4X2", "7M51K"}},
		"drives of a kind":     {[]string{"drive", "list", "Brackwater", "--kind", "flash"}, 0, []string{"Q7E30", "C4502"}},
		"a kind there is none": {[]string{"drive", "list", "--kind", "paper"}, 2, []string{"--kind is spinning or flash, not \"paper\""}},
		"a drive": {
			[]string{"drive", "show", "7M4Q2"}, 0, []string{"Korvan K4-2000", "7 200 per minute", "2 TB", "ticket 2231"},
		},
		"its history":  {[]string{"drive", "history", "7M4Q2"}, 0, []string{"Pending sectors 0 to 1", "First reading here"}},
		"its readings": {[]string{"reading", "list", "7M4Q2"}, 0, []string{"reading", "22 160 h", "°C"}},
		"a reading": {
			[]string{"reading", "show", "7M4Q2", "3"},
			0,
			[]string{"reading 3,", "reallocated sectors", "family: spinning-1", "World Wide Name", "Interval of the curve"},
		},
		"its bytes": {
			[]string{"reading", "show", "7M4Q2", "--raw"},
			0,
			[]string{"SMART data (ata/attributes), by SMART READ DATA in ATA PASS-THROUGH(16)", "lines the same"},
		},
		"a new reading": {[]string{"reading", "take", "bay-2"}, 0, []string{"the drive's own alarm: not raised"}},
		"two readings":  {[]string{"reading", "compare", "7M4Q2", "1", "26"}, 0, []string{"then", "+6", "Not available:"}},
		"a verdict": {
			[]string{"verdict", "show", "7M4Q2"}, 0, []string{"X replace for everyday", "8 of 100 used", "Take the drive out of use."},
		},
		"an NVMe drive's facts": {
			[]string{"reading", "show", "Q7E30"},
			0,
			[]string{"Health log (nvme/log-02)", "Media and data integrity errors", "the host's doing", "not available: Get Log Page 0Dh"},
		},
		"a SAS drive's facts": {
			[]string{"reading", "show", "19Z4K"},
			0,
			[]string{"Read error counters (scsi/log-03)", "not available: none is set", "Sectors replaced since it was made"},
		},
		"signals, their sources": {
			[]string{"drive", "signals", "7M56F"},
			0,
			[]string{
				"device statistics, page 1, Power-on Hours", "ata/log-04, byte 528", "Sources disagree: hours powered on",
				"SMART data, attribute 9 says", "Not available, a rotating drive has none: ",
			},
		},
		"a drive on two paths": {[]string{"drive", "show", "19Z4K"}, 0, []string{"8, and by another path bay 9"}},
		"hidden sectors, a lock": {
			[]string{"drive", "show", "6D41R"}, 0, []string{"2.1 GB behind a host protected area", "locked by a password"},
		},
		"520-byte sectors":       {[]string{"drive", "show", "1A01D"}, 0, []string{"520-byte sectors, which computers do not take"}},
		"a dialect with a guess": {[]string{"dialect", "explain", "7M4Q2"}, 0, []string{"family spinning-1", "a guess", "inferred"}},
		"a clock found out": {
			[]string{"dialect", "explain", "T5A07"},
			0,
			[]string{"family unknown", "attribute 9 counts minutes: it grew by", "inferred over time"},
		},
		"a drive without any": {[]string{"dialect", "explain", "Q7E30"}, 0, []string{"holds no attributes"}},
		"the past read anew":  {[]string{"record", "redecode"}, 0, []string{"0 say something else now"}},
		"capture needs a drive": {
			[]string{"record", "capture", "nosuch", "-o", "/nonexistent/x.json"},
			1,
			[]string{"there is no drive nosuch on this machine", "no file written"},
		},
		"a lot": {
			[]string{"lot", "show", "1"},
			0,
			[]string{"lot 1  14 drives, for everyday", "X replace", "usable for", "times the median", "check its power"},
		},
		"lots":                {[]string{"lot", "list"}, 0, []string{"Quillfoot Print Room", "ended"}},
		"a lot nobody opened": {[]string{"lot", "show", "99"}, 3, []string{"there is no lot 99"}},
		"who is here":         {[]string{"intake", "list", "--open"}, 0, []string{"7M4Q2", "no answer", "here"}},
		"siblings": {
			[]string{"drive", "siblings", "7M51K"}, 0, []string{"drives of this model here", "stands apart: ", "times the median"},
		},
		"a statement": {
			[]string{"statement", "7M511"},
			0,
			[]string{"/ Degrading", "We count 3; our limit is 100.", "Its surface was not read.", "A copy exists, noted on", "Not signed"},
		},
		"a statement on paper": {[]string{"statement", "7M511", "--format", "pdf", "-o", "-"}, 0, []string{"%PDF-"}},
		"a label nobody makes": {[]string{"label", "7M511", "--stock", "1x1", "-o", "-"}, 2, []string{"stock"}},
		"is it the file system": {
			[]string{"volume", "look", "7M4R9"},
			0,
			[]string{"ext4 “seed lists” on partition 1", "it notes 3 errors of its own", "no node that a checker could open"},
		},
		"data at risk is not":    {[]string{"volume", "look", "3T8H6"}, 4, []string{"wanted and not copied"}},
		"a drive that was gone":  {[]string{"handover", "7M55B", "--goes", "returned"}, 4, []string{"ended on"}},
		"goes where":             {[]string{"handover", "7M4Q2", "--goes", "away"}, 2, nil},
		"the audit":              {[]string{"audit", "verify"}, 0, []string{"each follows from the one before"}},
		"nobody is entered":      {[]string{"person", "list"}, 0, []string{"the shop is open to whoever reaches it"}},
		"more than was named":    {[]string{"customer", "erase", "Nobody"}, 2, []string{"say it with --yes"}},
		"nobody to erase":        {[]string{"customer", "erase", "Nobody", "--yes"}, 3, []string{"names the customer"}},
		"a token that is gone":   {[]string{"--token-file", "/nonexistent", "bay", "list"}, 1, []string{"--token-file"}},
		"runs":                   {[]string{"run", "list"}, 0, []string{"run", "standing"}},
		"help":                   {[]string{"--help"}, 0, []string{"EXIT CODES", "hylostat demo"}},
		"help with an example":   {[]string{"check", "quick", "--help"}, 0, []string{"hylostat check quick 7M4Q2 --follow"}},
		"a wrong command":        {[]string{"drives"}, 2, nil},
		"a wrong flag":           {[]string{"drive", "list", "--colour"}, 2, []string{"colour"}},
		"a missing argument":     {[]string{"drive", "show"}, 2, []string{"wants DRIVE"}},
		"a limit of nothing":     {[]string{"drive", "list", "--limit", "0"}, 2, []string{"limit"}},
		"less than no drives":    {[]string{"lot", "open", "--expected", "-1"}, 2, []string{"expected"}},
		"no share of a drive":    {[]string{"sweep", "whole", "7M4R9", "--share", "0"}, 2, []string{"1 to 100 %"}},
		"a span and more":        {[]string{"check", "selective", "7M4Q2", "--span", "1-9x"}, 2, []string{"no span"}},
		"a reading before all":   {[]string{"reading", "show", "7M4Q2", "0"}, 2, []string{"no reading number"}},
		"an empty name":          {[]string{"drive", "show", " "}, 2, []string{"wants DRIVE, and got an empty one"}},
		"a number that is none":  {[]string{"run", "show", "x"}, 2, []string{`"x" is no run number`}},
		"a drive nobody knows":   {[]string{"drive", "show", "QQQQQ"}, 3, []string{`no drive whose serial ends with "QQQQQ"`}},
		"a name for many":        {[]string{"drive", "show", "M5"}, 2, []string{"too short"}},
		"a bay nobody has":       {[]string{"bay", "try", "99"}, 3, []string{"no bay 99"}},
		"signing the undecided":  {[]string{"verdict", "sign", "7M4R9"}, 4, []string{"undecided"}},
		"overruling without why": {[]string{"verdict", "sign", "7M4Q2", "--overrule", "healthy"}, 2, []string{"needs a reason"}},
		"checking data at risk":  {[]string{"check", "quick", "3T8H6"}, 4, []string{"Copy the data"}},
		"completion":             {[]string{"completion", "bash"}, 0, []string{"hylostat"}},
	} {
		out, wrong, code := d.run(row.args...)
		assert.Equal(t, row.code, code, "%s: %s%s", name, out, wrong)
		for _, s := range row.says {
			assert.Contains(t, out+wrong, s, name)
		}
		if code > 1 {
			assert.NotEmpty(t, wrong, "%s: errors go to the error output", name)
		}
	}
	_, wrong, code := (&demo{t: t, address: "http://127.0.0.1:9"}).run("bay", "list")
	assert.Equal(t, 5, code)
	assert.Contains(t, wrong, "hylostat serve")
}

func TestARecordFileCarriesADriveToAnotherShop(t *testing.T) {
	d := start(t, t.TempDir())
	d.settled()
	path := filepath.Join(t.TempDir(), "carried.json")
	out, wrong, code := d.run("record", "export", "Q7J9C", "-o", path)
	require.Zero(t, code, wrong)
	assert.Contains(t, out, "26 readings of BWN11 Q7J9C written to "+path)
	known := ask[contract.ImportResult](d, "record", "import", path)
	assert.Equal(t, []contract.ImportedDrive{{Serial: "BWN11Q7J9C", Model: "Brackwater Heron 1000", Known: 26}}, known.Drives)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for name, broken := range map[string]string{
		"cut short":       string(text[:len(text)/3]),
		"another version": strings.Replace(string(text), `"version": 1`, `"version": 9`, 1),
		"another drive":   strings.Replace(string(text), `"serial": "BWN11Q7J9C"`, `"serial": "BWN11OTHER"`, 1),
	} {
		require.NoError(t, os.WriteFile(path, []byte(broken), 0o600))
		_, wrong, code := d.run("record", "import", path)
		assert.Equal(t, 2, code, name)
		assert.Contains(t, wrong, "Nothing of it was taken in", name)
	}
	f, err := record.Read(bytes.NewReader(text))
	require.NoError(t, err)
	f.Signature = nil
	for i := range f.Drives[0].Readings {
		f.Drives[0].Readings[i].ID = fmt.Sprint("again", i)
	}
	var unsigned bytes.Buffer
	require.NoError(t, record.Write(&unsigned, f))
	require.NoError(t, os.WriteFile(path, unsigned.Bytes(), 0o600))
	again := ask[contract.ImportResult](d, "record", "import", path)
	assert.Equal(t, 26, again.Drives[0].Readings)
	assert.Equal(t, 52, ask[contract.Drive](d, "drive", "show", "Q7J9C").Readings)
}

func TestAFollowedCheckPrintsItsStepsAndItsOutcomeIsTheExitCode(t *testing.T) {
	d := start(t, t.TempDir())
	d.settled()
	out, _, code := d.run("check", "quick", "7M4R9", "--follow")
	assert.Zero(t, code)
	assert.Contains(t, out, "Quick check: short self-test\n")
	assert.Contains(t, out, "passed")
	assert.NotContains(t, out, "\x1b", "no terminal, no escapes")
	d.until("the verdict follows", func() bool {
		return ask[contract.Verdict](d, "verdict", "show", "7M4R9").Grade == contract.GradeHealthy
	})
	out, _, code = d.run("verdict", "sign", "7M4R9")
	assert.Zero(t, code)
	assert.Contains(t, out, "signed by Dov")
	_, wrong, code := d.run("check", "quick", "7M4Q2", "--follow")
	assert.Equal(t, 6, code)
	assert.Contains(t, wrong, "read failure, LBA 205883114")
}

func TestAllRunsAreFollowedUntilNoneIsLeft(t *testing.T) {
	d := start(t, t.TempDir())
	d.settled()
	for _, name := range []string{"7M4R9", "7M511"} {
		ask[contract.Run](d, "check", "quick", name)
	}
	out, _, code := d.run("run", "follow")
	assert.Zero(t, code)
	for _, line := range []string{
		"run 1  KVA07 7M4R9, bay 2: short self-test\n", "run 1  KVA07 7M4R9, bay 2: passed\n", "run 2  KVA07 7M511, bay 5: passed\n",
	} {
		assert.Contains(t, out, line)
	}
	out, _, code = d.run("run", "follow")
	assert.Zero(t, code, "nothing to follow is no error")
	assert.Equal(t, "No run is under way. Start one: hylostat check quick DRIVE\n", out)
}

// kill ends the demo as a power cut would.
func (d *demo) kill() {
	d.t.Helper()
	require.NoError(d.t, d.cmd.Process.Signal(syscall.SIGKILL))
	_ = d.cmd.Wait()
}

func TestKilledDuringACheckNothingIsLost(t *testing.T) {
	dir := t.TempDir()
	d := start(t, dir)
	d.settled()
	before := ask[contract.Drive](d, "drive", "show", "7M4R9")
	r := ask[contract.Run](d, "check", "quick", "7M4R9")
	d.until("the self-test runs", func() bool { return ask[contract.Run](d, "run", "show", "1").Steps[1].State == "begun" })
	d.kill()

	again := start(t, dir)
	again.until("the check is done", func() bool { return ask[contract.Run](again, "run", "show", "1").State == contract.RunStateDone })
	done := ask[contract.Run](again, "run", "show", "1")
	assert.Equal(t, r.Id, done.Id)
	assert.Equal(t, contract.RunOutcomePassed, *done.Outcome, done.Standing)
	require.NotNil(t, done.Steps[1].Adopted, "the self-test was not started a second time")
	reading := ask[contract.Reading](again, "reading", "show", "7M4R9")
	short := 0
	for _, test := range reading.SelfTests {
		if test.Kind == "short" {
			short++
		}
	}
	assert.Equal(t, 1, short, "the drive's log holds one short self-test")
	after := ask[contract.Drive](again, "drive", "show", "7M4R9")
	assert.GreaterOrEqual(t, after.Readings, before.Readings+2)
	out, wrong, code := again.run("run", "show", "1")
	assert.Zero(t, code, wrong)
	assert.Contains(t, out, "adopted after a restart")
}

func TestKilledDuringASweepItGoesOnWhereItWas(t *testing.T) {
	dir := t.TempDir()
	d := start(t, dir)
	d.settled()
	ask[contract.Run](d, "sweep", "whole", "7M4R9")
	swept := func(d *demo) float64 {
		if s := ask[contract.Run](d, "run", "show", "1").Steps[1].Sweep; s != nil {
			return s.Share
		}
		return 0
	}
	before := 0.0
	for range 3 { // what is told is stored
		last := before
		d.until("more is swept", func() bool { before = swept(d); return before > last })
	}
	d.kill()

	again := start(t, dir)
	again.until("the sweep goes on", func() bool { return swept(again) > before })
	assert.Less(t, swept(again), before+0.5, "and did not jump")
	s := ask[contract.Sweep](again, "sweep", "show", "1")
	gaps := 0
	for i, g := range s.Segments {
		gaps += strings.Count(g.Classes, "-")
		assert.Equal(t, i*256, g.First, "no stretch of the ribbon is missing")
	}
	assert.Less(t, gaps, 256, "all but the last stretch is filled")
	ask[contract.Run](again, "run", "stop", "1")
	again.until("it stops", func() bool { return ask[contract.Run](again, "run", "show", "1").State == contract.RunStateDone })
}

func TestTwoServicesDoNotShareAFolder(t *testing.T) {
	dir := t.TempDir()
	start(t, dir)
	out, err := exec.Command(program, "demo", "--data", dir, "--listen", "127.0.0.1:0").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "another service uses "+dir)
	out, err = exec.Command(program, "serve", "--create", "--data", filepath.Join(dir, "lock", "x")).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "--data")
	assert.False(t, strings.Contains(string(out), "goroutine"))
}

// examples are the lines of a command's help that show how it is used, and those of the commands below it.
func examples(c *command.Command) (lines []string) {
	for line := range strings.Lines(c.Description) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "hylostat ") {
			lines = append(lines, line)
		}
	}
	for _, below := range c.Commands {
		lines = append(lines, examples(below)...)
	}
	return lines
}

func TestTheExamplesOfTheHelpAreTrue(t *testing.T) {
	d := start(t, t.TempDir())
	d.settled()
	folder := t.TempDir()
	carried, wrong, code := d.run("record", "export", "Q7J9C", "-o", "-")
	require.Zero(t, code, wrong)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "pellwick.json"), []byte(carried), 0o600))
	notHere := regexp.MustCompile(
		`^hylostat (serve|bench serve|demo|record capture|person (add|password|recover)|audit verify --head|backup|restore|` +
			`shop (examine|rejoin)|token|session)\b`,
	) // another service, this machine's own drives and records, a password, who is signed in
	asThingsStand := regexp.MustCompile(
		`\b(114|intake move|bay vacate|check quick|conveyance|sweep (spot|show|compare)|run (follow|pause|resume|figure|stop) 1|rework|` +
			`verdict sign 7M4R9|volume show|person remove|alert (take|settle|route (end|try))|run await)\b`,
	)
	tried := 0
	for _, line := range examples(cli.New(cli.Starters{})) {
		if notHere.MatchString(line) {
			continue
		}
		watched := strings.Contains(line, "bay watch") || strings.Contains(line, "alert follow") // until Ctrl-C
		if watched {
			line = "timeout --preserve-status -s INT 2 " + line
		}
		cmd := exec.Command("sh", "-c", strings.ReplaceAll(line, "/var/lib/hylostat", filepath.Join(t.TempDir(), "records")))
		typed := "KVA077M4Q2\n" // the serial, where one must be typed
		if strings.Contains(line, "--lead") {
			typed = "a password of the lead\n"
		}
		cmd.Dir, cmd.Stdin = folder, strings.NewReader(typed)
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":/usr/bin:/bin", "HYLOSTAT_SERVICE="+d.address, "HYLOSTAT_BY=Dov")
		said, _ := cmd.CombinedOutput()
		switch code := cmd.ProcessState.ExitCode(); {
		case watched:
			assert.Equal(t, 130, code, "%s: %s", line, said)
			assert.Regexp(t, "next:|(?i)alert ", string(said), line)
		case code == 0:
			assert.True(t, len(said) > 0 || strings.Contains(line, ">") || strings.Contains(line, "run follow"), "%s says nothing", line)
		case asThingsStand.MatchString(line):
			assert.Contains(t, []int{3, 4, 6}, code, "%s is understood: %s", line, said)
		default:
			assert.Zero(t, code, "%s: %s", line, said)
		}
		for _, r := range ask[[]contract.Run](d, "run", "list", "--open") { // the next example wants the drive
			d.run("run", "stop", fmt.Sprint(r.Id))
		}
		d.until("the bays are free", func() bool { return len(ask[[]contract.Run](d, "run", "list", "--open")) == 0 })
		tried++
	}
	assert.Greater(t, tried, 70)
	kept, err := os.ReadDir(folder)
	require.NoError(t, err)
	for _, f := range kept {
		i, err := f.Info()
		require.NoError(t, err)
		assert.NotZero(t, i.Size(), "%s is written", f.Name())
	}
}
