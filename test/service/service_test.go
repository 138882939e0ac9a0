package service

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/ata"
	"hylostat.example/test/made"
)

// refused is the problem of a call that must fail.
func refused(t *testing.T, status int, err error) *client.ProblemError {
	t.Helper()
	var p *client.ProblemError
	require.ErrorAs(t, err, &p)
	assert.Equal(t, status, p.Status, p.Error())
	assert.NotNil(t, p.Advice, "it says what to do")
	return p
}

func follow(s *service, id int64) contract.Run {
	s.t.Helper()
	var r contract.Run
	s.until("the run is done", func() bool {
		var err error
		r, err = s.Run(s.t.Context(), id)
		return err == nil && r.State == contract.RunStateDone
	})
	return r
}

func TestFromTheBayToASignedVerdict(t *testing.T) {
	s, ctx := serve(t, t.TempDir(), made.Disk("KVA077M4R9")), t.Context()
	b := s.answering(1)
	assert.Equal(t, "KVA077M4R9", b.Drive.Serial)
	assert.Equal(t, contract.GradeUndecided, b.Drive.Grade, "one reading is not enough")
	v, err := s.Verdict(ctx, "7M4R9")
	require.NoError(t, err)
	require.Len(t, v.Missing, 2)
	assert.Equal(t, []string{"readings", "short-test"}, []string{v.Missing[0].Id, v.Missing[1].Id})

	r, err := s.CheckQuick(ctx, "bay-1", "Dov")
	require.NoError(t, err)
	_, err = s.CheckQuick(ctx, "bay-1", "Imre")
	assert.Contains(t, refused(t, 409, err).Detail, "is under way")
	done := follow(s, r.Id)
	assert.Equal(t, contract.RunOutcomePassed, *done.Outcome, done.Standing)

	s.until("the verdict follows", func() bool { v, err = s.Verdict(ctx, "7M4R9"); return err == nil && v.Grade == contract.GradeHealthy })
	_, err = s.Sign(ctx, "7M4R9", contract.SignOffRequest{By: "Dov", Verdict: new(v.Seq - 1)})
	assert.Contains(t, refused(t, 409, err).Detail, "was followed by verdict")
	grade := contract.GradeReplace
	_, err = s.Sign(ctx, "7M4R9", contract.SignOffRequest{By: "Dov", Grade: &grade})
	assert.Contains(t, refused(t, 400, err).Detail, "needs a reason")
	signed, err := s.Sign(ctx, "7M4R9", contract.SignOffRequest{By: "Dov", Verdict: &v.Seq})
	require.NoError(t, err)
	assert.Equal(t, "Dov", signed.Signed.By)
	assert.False(t, signed.Signed.Overruled)
	_, err = s.Sign(ctx, "7M4R9", contract.SignOffRequest{By: "Imre"})
	refused(t, 409, err)

	history, err := s.History(ctx, "7M4R9")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(history), 4)
	full, err := s.Reading(ctx, "7M4R9", "latest", true)
	require.NoError(t, err)
	five := full.Attributes[0]
	var page contract.Page
	for _, p := range full.Pages {
		if p.Name == "ata/attributes" {
			page = p
		}
	}
	require.Len(t, *page.Bytes, 512)
	assert.EqualValues(t, five.Id, (*page.Bytes)[five.Offset], "a counter can be followed to its byte")
}

func TestOverrulingShowsBothAndNewEvidenceReopens(t *testing.T) {
	spec := made.Disk("KVA077M511")
	spec.Counters[0].Course = sim.Course{From: 3}
	s, ctx := serve(t, t.TempDir(), spec), t.Context()
	s.answering(1)
	grade, reason := contract.GradeReplace, "clicks"
	v, err := s.Sign(ctx, "7M511", contract.SignOffRequest{By: "Imre", Grade: &grade, Reason: &reason})
	require.NoError(t, err)
	assert.Equal(t, contract.GradeDegrading, v.Grade)
	assert.Equal(t, contract.GradeReplace, v.Signed.Grade)
	assert.True(t, v.Signed.Overruled)
	// The self-test fails now: that is new.
	s.bench.Remove("sim-1")
	spec.Unread, spec.FirstLBA = sim.Course{From: 1}, 4711
	s.bench.Insert("sim-1", spec)
	s.answering(1)
	r, err := s.CheckQuick(ctx, "7M511", "Dov")
	require.NoError(t, err)
	assert.Equal(t, contract.RunOutcomeFailed, *follow(s, r.Id).Outcome)
	s.until("the verdict is open again", func() bool { v, err = s.Verdict(ctx, "7M511"); return err == nil && v.Signed == nil })
	assert.Contains(t, v.Findings[len(v.Findings)-1].Sentence+v.Findings[0].Sentence, "LBA 4711")
}

func TestASilentBayAnswersAtTheSecondAttempt(t *testing.T) {
	spec := made.Disk("BWS03K90F2")
	spec.Awkward.SilentAttempts = 2
	s, ctx := serve(t, t.TempDir(), spec), t.Context()
	s.until("the bay is known", func() bool { _, err := s.Bay(ctx, at(1)); return err == nil })
	i, err := s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov", Ticket: new("2233"), Label: new("Label Brackwater")})
	require.NoError(t, err)
	var b contract.Bay
	s.until("it is silent", func() bool {
		b, err = s.Bay(ctx, at(1))
		return err == nil && b.Connection == contract.BayConnectionSilent
	})
	assert.Equal(t, "No answer, attempt 1. Check its power.", b.Doing.Words)
	assert.Equal(t, i.Id, b.Intake.Id, "the intake stands for the drive")
	_, err = s.TakeReading(ctx, "bay-1", contract.ReadingRequest{By: "Dov"})
	refused(t, 404, err)
	_, err = s.Attempt(ctx, at(1), "Dov")
	require.NoError(t, err)
	b = s.answering(1)
	s.until("the intake found its drive", func() bool {
		d, err := s.Drive(ctx, "K90F2")
		return err == nil && d.Intake != nil && d.Intake.Id == i.Id
	})
	assert.Equal(t, 0, b.Attempts)
}

func TestDataAtRiskIsLoadedOnlyWithAReasonThatIsKept(t *testing.T) {
	s, ctx := serve(t, t.TempDir(), made.Disk("KVA077M4R9")), t.Context()
	s.answering(1)
	_, err := s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Imre", Wanted: new(true)})
	require.NoError(t, err)
	_, err = s.CheckQuick(ctx, "7M4R9", "Dov")
	assert.Contains(t, *refused(t, 409, err).Advice, "say why")
	why := "the owner asks whether it is worth copying"
	r, err := s.Check(ctx, "7M4R9", contract.CheckRequest{Kind: "spot", By: "Dov", Despite: &why})
	require.NoError(t, err)
	done := follow(s, r.Id)
	require.NotNil(t, done.Despite)
	assert.Equal(t, why, *done.Despite)
}

func TestDataAtRiskKeepsChecksWaiting(t *testing.T) {
	s, ctx := serve(t, t.TempDir(), made.Disk("KVL026D2VN")), t.Context()
	s.answering(1)
	protected := func() bool {
		b, err := s.Bay(ctx, at(1))
		require.NoError(t, err)
		return b.WriteProtected != nil && *b.WriteProtected
	}
	assert.False(t, protected())
	_, err := s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov", Wanted: new(true)})
	require.NoError(t, err)
	assert.True(t, protected(), "the machine refuses to write to it")
	s.bench.Remove("sim-1")
	s.bench.Return("sim-1")
	s.until("read again, and protected again after it came back", func() bool {
		d, err := s.Drive(ctx, "6D2VN")
		return err == nil && d.Readings == 2 && protected()
	})
	_, err = s.CheckQuick(ctx, "6D2VN", "Dov")
	assert.Contains(t, refused(t, 409, err).Detail, "wanted and not copied")
	_, err = s.TakeReading(ctx, "6D2VN", contract.ReadingRequest{By: "Dov"})
	require.NoError(t, err, "identity and counters may be read")
	_, err = s.RecordCopy(ctx, at(1), "Dov")
	require.NoError(t, err)
	assert.False(t, protected())
	_, err = s.CheckQuick(ctx, "6D2VN", "Dov")
	require.NoError(t, err)
}

func TestAStuckDriveHarmsNobody(t *testing.T) {
	stuck := made.Disk("KVA0000001")
	stuck.Awkward.HangsOn, stuck.Awkward.HangsFeature = ata.SMART, ata.SMARTExecuteOffline
	s, ctx := serve(t, t.TempDir(), stuck, made.Disk("KVA0000002")), t.Context()
	s.answering(1)
	s.answering(2)
	one, err := s.CheckQuick(ctx, "bay-1", "Dov")
	require.NoError(t, err)
	two, err := s.CheckQuick(ctx, "bay-2", "Dov")
	require.NoError(t, err)
	assert.Equal(t, contract.RunOutcomePassed, *follow(s, two.Id).Outcome)
	r := follow(s, one.Id)
	assert.Equal(t, contract.RunOutcomeFailed, *r.Outcome)
	assert.Contains(t, r.Standing.Words, "no answer for 15s")
	var b contract.Bay
	s.until("the bay is stuck", func() bool {
		b, err = s.Bay(ctx, at(1))
		return err == nil && b.Connection == contract.BayConnectionStuck
	})
	assert.Contains(t, b.Doing.Words, "Others continue.")
	assert.Equal(t, "KVA0000001", b.Drive.Serial, "one knows which drive it is")
	_, err = s.CheckQuick(ctx, "0000001", "Dov")
	refused(t, 409, err)
}

func TestADriveThatVanishesIsWaitedForAndItsCheckGoesOn(t *testing.T) {
	spec := made.Disk("KVA0000003")
	spec.Minutes = 20
	s, ctx := serve(t, t.TempDir(), spec), t.Context()
	s.answering(1)
	r, err := s.CheckQuick(ctx, "bay-1", "Dov")
	require.NoError(t, err)
	s.until("the self-test runs", func() bool { r, err = s.Run(ctx, r.Id); return err == nil && r.Steps[1].Percent > 0 })
	s.bench.Remove("sim-1")
	s.until("the run waits", func() bool { r, err = s.Run(ctx, r.Id); return err == nil && r.State == contract.RunStateAbsent })
	s.until("the bay is empty", func() bool {
		b, err := s.Bay(ctx, at(1))
		return err == nil && b.Connection == contract.BayConnectionEmpty
	})
	s.bench.Return("sim-1")
	assert.Equal(t, contract.RunOutcomePassed, *follow(s, r.Id).Outcome, "the interrupted test was started again")
}

func TestGarbageIsAFactAndNotACounter(t *testing.T) {
	spec := made.Disk("KVA0000004")
	spec.Awkward.Garbage = true
	s, ctx := serve(t, t.TempDir(), spec), t.Context()
	s.answering(1)
	r, err := s.Reading(ctx, "0000004", "latest", false)
	require.NoError(t, err)
	require.NotEmpty(t, r.Faults)
	assert.Contains(t, r.Faults[0].Back, "checksum")
	d, err := s.Drive(ctx, "0000004")
	require.NoError(t, err)
	assert.Nil(t, d.Hours, "no 0 stands for what is not known")
	assert.Nil(t, d.Temperature)
	v, err := s.Verdict(ctx, "0000004")
	require.NoError(t, err)
	assert.Equal(t, contract.GradeUndecided, v.Grade)
	assert.NotEmpty(t, v.Unjudged)
}

func TestAnotherDriveInTheBayIsNotCheckedByMistake(t *testing.T) {
	s, ctx := serve(t, t.TempDir(), made.Disk("KVA0000005")), t.Context()
	s.answering(1)
	s.bench.Remove("sim-1")
	s.bench.Insert("sim-1", made.Disk("KVA0000006"))
	s.until("the other drive answers", func() bool {
		b, err := s.Bay(ctx, at(1))
		return err == nil && b.Drive != nil && b.Drive.Serial == "KVA0000006"
	})
	_, err := s.CheckQuick(ctx, "KVA0000005", "Dov")
	assert.Contains(t, refused(t, 409, err).Detail, "is in no bay")
	_, err = s.Drive(ctx, "KVA000000")
	refused(t, 404, err)
	_, err = s.Drive(ctx, "000")
	refused(t, 404, err)
}

func TestRequestsThatAreNotUnderstoodAreSaidToBe(t *testing.T) {
	s := serve(t, t.TempDir(), made.Disk("KVA0000007"))
	s.answering(1)
	for name, row := range map[string]struct {
		method, path, body string
		head               []string
		status             int
		says               string
	}{
		"no JSON":        {"POST", "/api/v1/intakes", "{bay: 1", nil, 400, "the body"},
		"a wrong type":   {"POST", "/api/v1/intakes", `{"bay": "one", "by": "Dov"}`, nil, 400, "bay"},
		"a missing name": {"POST", "/api/v1/intakes", `{"bay": "bay-1"}`, nil, 400, "by"},
		"a field nobody knows": {
			"POST", "/api/v1/drives/KVA0000007/checks", `{"kind": "quick", "by": "Dov", "force": true}`, nil, 400, "force",
		},
		"a kind nobody knows": {"POST", "/api/v1/drives/KVA0000007/checks", `{"kind": "deep", "by": "Dov"}`, nil, 400, "kind"},
		"a body too large": {
			"POST", "/api/v1/intakes", `{"bay": "bay-1", "by": "` + strings.Repeat("x", 300_000) + `"}`, nil, 413, "larger than",
		},
		"no bay at all":        {"GET", "/api/v1/bays/bay-3xyz", "", nil, 400, "bay-3xyz"},
		"a bay of no bench":    {"GET", "/api/v1/bays/field%2F3", "", nil, 404, "there is no bay field/3"},
		"an unknown bay":       {"GET", "/api/v1/bays/bay-77", "", nil, 404, "there is no bay 77"},
		"a bay that is none":   {"GET", "/api/v1/bays/zero", "", nil, 400, "bay"},
		"an unknown drive":     {"GET", "/api/v1/drives/NOBODY", "", nil, 404, "NOBODY"},
		"too little of a name": {"GET", "/api/v1/drives/07", "", nil, 400, "too short"},
		"an unknown reading":   {"GET", "/api/v1/drives/KVA0000007/readings/99", "", nil, 404, "no reading 99"},
		"an unknown run":       {"GET", "/api/v1/runs/99", "", nil, 404, "no run 99"},
		"an unknown path":      {"GET", "/api/v1/nothing", "", nil, 404, "no such path"},
		"a wrong method":       {"DELETE", "/api/v1/bays", "", nil, 405, "DELETE"},
		"another host":         {"GET", "/api/v1/bays", "", []string{"Host", "elsewhere.example"}, 421, "elsewhere.example"},
		"a page elsewhere": {
			"POST", "/api/v1/bays/1/attempt", "",
			[]string{"Sec-Fetch-Site", "cross-site", "Origin", "https://elsewhere.example"},
			403,
			"elsewhere.example",
		},
		"a bad event number": {"GET", "/api/v1/events", "", []string{"Last-Event-ID", "x"}, 400, "Last-Event-ID"},
	} {
		status, body := s.raw(row.method, row.path, row.body, row.head...)
		assert.Equal(t, row.status, status, "%s: %s", name, body)
		assert.Contains(t, body, row.says, name)
		assert.Contains(t, body, `"advice"`, name)
	}
}

func TestEventsAreCaughtUpOverALostConnection(t *testing.T) {
	s, ctx := serve(t, t.TempDir(), made.Disk("KVA0000008")), t.Context()
	s.answering(1)
	first, cancel := context.WithCancel(ctx)
	events := s.Events(first, 0).Next
	var last int64
	for e := range events {
		last = e.Seq
		if e.Kind == contract.ReadingTaken {
			break
		}
	}
	cancel()
	_, err := s.TakeReading(ctx, "0000008", contract.ReadingRequest{By: "Dov"}) // while nobody listens
	require.NoError(t, err)
	again, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	seen := map[int64]bool{}
	for e := range s.Events(again, last).Next {
		assert.Greater(t, e.Seq, last)
		assert.False(t, seen[e.Seq], "an event came twice")
		seen[e.Seq] = true
		if e.Kind == contract.ReadingTaken && *e.Reading == 2 {
			return
		}
	}
	t.Fatal("the reading taken meanwhile was not told")
}

func TestANewerDatabaseIsLeftAlone(t *testing.T) {
	dir := t.TempDir()
	s := serve(t, dir, made.Disk("KVA0000009"))
	s.answering(1)
	s.end()
	db, err := sqlx.Open("sqlite", filepath.Join(dir, "shop.db"))
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	before, err := os.ReadFile(filepath.Join(dir, "shop.db"))
	require.NoError(t, err)
	err = app.Serve(t.Context(), app.Options{Dir: dir, Listen: "127.0.0.1:0", Source: s.bench})
	assert.ErrorContains(t, err, "written by a newer version")
	after, err := os.ReadFile(filepath.Join(dir, "shop.db"))
	require.NoError(t, err)
	assert.Equal(t, len(before), len(after))
}

func TestStoredReadingsCannotBeChanged(t *testing.T) {
	dir := t.TempDir()
	s := serve(t, dir, made.Disk("KVA0000010"))
	s.answering(1)
	v, err := s.Verdict(t.Context(), "0000010")
	require.NoError(t, err)
	_, err = s.Sign(
		t.Context(), "0000010",
		contract.SignOffRequest{By: "Dov", Verdict: &v.Seq, Grade: new(contract.GradeDegrading), Reason: new("a spare")},
	)
	require.NoError(t, err)
	s.end()
	db, err := sqlx.Open("sqlite", filepath.Join(dir, "shop.db"))
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	for statement, want := range map[string]string{
		`UPDATE reading_raw SET frame = x'00'`:                                            "a reading is never changed",
		`INSERT OR REPLACE INTO reading_raw SELECT * FROM reading_raw`:                    "a reading is never changed",
		`DELETE FROM reading_raw`:                                                         "a reading is kept for ever",
		`UPDATE reading SET at = 0`:                                                       "a reading is never changed",
		`UPDATE reading SET leaves = NULL`:                                                "a reading is never changed",
		`INSERT OR REPLACE INTO reading SELECT * FROM reading`:                            "a reading is never changed",
		`DELETE FROM reading`:                                                             "a reading is kept for ever",
		`UPDATE verdict SET grade = 1`:                                                    "a verdict is never edited",
		`INSERT OR REPLACE INTO verdict SELECT * FROM verdict`:                            "a verdict is never edited",
		`DELETE FROM verdict`:                                                             "a verdict is kept for ever",
		`UPDATE sign_off SET body = '{}'`:                                                 "a sign-off is never edited",
		`INSERT OR REPLACE INTO sign_off SELECT * FROM sign_off`:                          "a sign-off is never edited",
		`DELETE FROM sign_off`:                                                            "a sign-off is kept for ever",
		`UPDATE audit SET by = 'Imre'`:                                                    "the audit is never edited",
		`INSERT OR REPLACE INTO audit SELECT * FROM audit`:                                "the audit is never edited",
		`REPLACE INTO audit SELECT * FROM audit WHERE seq = (SELECT max(seq) FROM audit)`: "the audit is never edited",
		`DELETE FROM audit`:                                                               "the audit is kept for ever",
	} {
		_, err = db.Exec(statement)
		assert.ErrorContains(t, err, want, statement)
	}
}

func TestAnswersToThisMachineAreNotPacked(t *testing.T) {
	s := serve(t, t.TempDir(), made.Disk("KVA077M511"))
	s.answering(1)
	packed := func(host, path string) string {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.address+path, nil)
		require.NoError(t, err)
		req.Header.Set("Accept-Encoding", "gzip")
		if host != "" {
			req.Host = host
		}
		resp, err := http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		require.Equal(t, http.StatusOK, resp.StatusCode)
		return resp.Header.Get("Content-Encoding")
	}
	assert.Empty(t, packed("", "/api/v1/drives/7M511/signals"))
	assert.Equal(t, "gzip", packed("hylostat", "/api/v1/drives/7M511/signals"), "asked by another name, as through a proxy")
}

func TestPagesCarryAStrictPolicyWithANonce(t *testing.T) {
	s := serve(t, t.TempDir(), made.Disk("KVA0000011"))
	status, body := s.raw("GET", "/drives/KVA0000011", "")
	assert.Equal(t, 200, status)
	assert.NotContains(t, body, "{{nonce}}")
	status, _ = s.raw("GET", "/assets/none.js", "")
	assert.Equal(t, 404, status)
}

func TestEveryKindOfDriveIsServedWithItsFactsAndItsUnknowns(t *testing.T) {
	flash, server, closed := made.Disk("BWN11Q7E30"), made.Disk("OSS0419Z4K"), made.Disk("KVA077M60A")
	flash.NVMe = &sim.NVMe{SelfTest: true, Media: sim.Course{From: 3}}
	server.SCSI = &sim.SCSI{Vendor: "OSPRIL", Grown: sim.Course{From: 12}}
	closed.Awkward = sim.Awkward{NoPass: true, Adapter: "ff01:0a00 0207"}
	s, ctx := serve(t, t.TempDir(), flash, server, closed), t.Context()
	for bay, kind := range map[int]contract.DriveInterface{1: contract.DriveInterfaceNvme, 2: contract.DriveInterfaceScsi} {
		b := s.answering(bay)
		assert.Equal(t, kind, b.Drive.Interface)
		r, err := s.CheckQuick(ctx, b.Drive.Serial, "Dov")
		require.NoError(t, err)
		assert.Equal(t, contract.RunOutcomePassed, *follow(s, r.Id).Outcome, "its own self-test, followed to its end")
		latest, err := s.Reading(ctx, b.Drive.Serial, "latest", true)
		require.NoError(t, err)
		require.NotEmpty(t, latest.SelfTests)
		assert.Equal(t, "passed", latest.SelfTests[0].Result)
		bytes := map[string]int{}
		for _, p := range latest.Pages {
			if p.Bytes != nil {
				bytes[p.Name] = len(*p.Bytes)
			}
		}
		for _, sheet := range latest.Sheets {
			for _, f := range sheet.Facts {
				assert.True(
					t, f.Value != nil || f.Reason != nil && *f.Reason != "", "%s, %s: a value, or the reason why there is none",
					sheet.Page, f.Name,
				)
				assert.LessOrEqual(t, f.Offset+f.Length, bytes[sheet.Page], "%s, %s lies in its page", sheet.Page, f.Name)
			}
		}
		signals, err := s.Signals(ctx, b.Drive.Serial)
		require.NoError(t, err)
		for _, x := range signals.Signals {
			assert.True(t, x.Value != nil || x.Reason != nil && *x.Reason != "", "%s: a value, or the reason why there is none", x.Name)
			if x.Value != nil && x.Length != nil {
				assert.LessOrEqual(t, *x.Offset+*x.Length, bytes[*x.Page], "%s lies in its page", x.Name)
			}
		}
	}
	b, err := s.Bay(ctx, at(3))
	require.NoError(t, err)
	assert.Equal(t, "Counters not read: the adapter passes none.", b.Doing.Words)
	assert.Equal(t, "not_passed", b.Fault.Class)

	text, err := s.Record(ctx, "Q7E30")
	require.NoError(t, err)
	done, err := s.ImportRecord(ctx, strings.NewReader(string(text)), "Dov")
	require.NoError(t, err)
	assert.Zero(t, done.Drives[0].Readings)
	_, err = s.ImportRecord(ctx, strings.NewReader(string(text[:len(text)/2])), "Dov")
	assert.Contains(t, refused(t, 400, err).Detail, "it ends in the middle")
	code, body := s.raw("POST", "/api/v1/records", "{}")
	assert.Equal(t, 400, code, body)
	code, body = s.raw("POST", "/api/v1/records", strings.Repeat(" ", 65<<20), "Content-Type", "application/vnd.hylostat.record")
	assert.Equal(t, 413, code, body)
	explained, err := s.Dialect(ctx, "Q7E30")
	require.NoError(t, err)
	assert.Empty(t, explained.Entries)
}

func TestConveyanceAndSelectiveSelfTestsWhereADriveHasThem(t *testing.T) {
	able, plain, flash := made.Disk("KVA077M4R9"), made.Disk("KVL026D40P"), made.Disk("BWN11Q7E30")
	able.MoreTests, able.Statistics = true, true
	flash.NVMe = &sim.NVMe{SelfTest: true}
	s, ctx := serve(t, t.TempDir(), able, plain, flash), t.Context()
	for bay := range 3 {
		s.answering(bay + 1)
	}
	spans := []contract.Span{{First: 10, Last: 20}, {First: 1000, Last: 3_906_250_167}}
	for kind, want := range map[contract.CheckRequestKind]string{"conveyance": "conveyance", "selective": "selective"} {
		request := contract.CheckRequest{Kind: kind, By: "Dov"}
		if kind == "selective" {
			request.Spans = &spans
		}
		r, err := s.Check(ctx, "7M4R9", request)
		require.NoError(t, err)
		assert.Equal(t, contract.RunOutcomePassed, *follow(s, r.Id).Outcome)
		latest, err := s.Reading(ctx, "7M4R9", "latest", false)
		require.NoError(t, err)
		assert.Equal(t, want, latest.SelfTests[0].Kind)
		if kind == "selective" {
			text := ""
			for _, sheet := range latest.Sheets {
				for _, f := range sheet.Facts {
					if f.Name == "Span 2" {
						text = *f.Value
					}
				}
			}
			assert.Equal(t, "LBA 1000 to 3906250167", text, "the spans stand in the drive's own log")
		}
		for _, other := range []string{"6D40P", "Q7E30"} {
			r, err := s.Check(ctx, other, request)
			require.NoError(t, err)
			done := follow(s, r.Id)
			assert.Equal(t, contract.StepStateSkipped, done.Steps[1].State)
			assert.Contains(t, done.Steps[1].Note.Words, "has no "+want+" self-test")
		}
	}
	for _, wrong := range [][]contract.Span{{}, {{First: 5, Last: 4}}, {{First: 0, Last: 3_906_250_168}}} {
		_, err := s.Check(ctx, "7M4R9", contract.CheckRequest{Kind: "selective", By: "Dov", Spans: &wrong})
		refused(t, 400, err)
	}
}
