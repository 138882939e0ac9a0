package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/api"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// Every operation of the contract that changes something leaves its row in the audit: of who signed in, whatever name the request
// gives, with their role and how they came in, and with what was before and after where something was.
func TestEveryChangeHasItsRowInTheAudit(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	password, yes := "kelp and gravel", true
	first, err := s.AddPerson(ctx, contract.WorkerRequest{Name: "Maud", Role: contract.Lead, Token: &yes, Password: &password})
	require.NoError(t, err)
	lead, err := client.New(s.address, *first.NewToken)
	require.NoError(t, err)
	audit := func() []contract.Audited {
		rows, err := lead.Audit(ctx, contract.ListAuditParams{})
		require.NoError(t, err)
		return rows
	}
	s.until("the drives answer", func() bool {
		bays, err := lead.Bays(ctx)
		return err == nil && len(bays) == 17 &&
			!slices.ContainsFunc(bays, func(b contract.Bay) bool { return b.Connection == "answering" && b.Drive == nil })
	})
	text, err := lead.Policy(ctx)
	require.NoError(t, err)
	file, err := lead.Record(ctx, "C4502")
	require.NoError(t, err)
	left, err := lead.Intakes(ctx, contract.ListIntakesParams{Open: &yes})
	require.NoError(t, err)
	shelved := left[slices.IndexFunc(left, func(i contract.Intake) bool { return i.Serial != nil && i.Bay.Number == 0 })]

	met, cookie := map[string]bool{}, ""
	do := func(operation, method, path, body, want string, edits ...string) string {
		t.Helper()
		before := audit()[0].Seq
		head, via := []string{"Authorization", "Bearer " + *first.NewToken}, "token"
		if cookie != "" {
			head, via = []string{"Cookie", cookie}, "session"
		}
		if operation == "importRecord" {
			head = append(head, "Content-Type", "application/vnd.hylostat.record")
		}
		status, answer := s.raw(method, api.Base+path, body, head...)
		require.Less(t, status, 300, "%s: %s", operation, answer)
		met[operation] = true
		var rows []contract.Audited
		for _, a := range audit() {
			if a.Seq > before && a.By == "Maud" {
				rows = append(rows, a)
			}
		}
		i := slices.IndexFunc(rows, func(a contract.Audited) bool { return strings.Contains(a.Text.Words, want) })
		if !assert.GreaterOrEqual(t, i, 0, "%s: no row says %q: %+v", operation, want, rows) {
			return answer
		}
		assert.Equal(t, [2]string{"lead", via}, [2]string{*rows[i].Role, *rows[i].Via}, operation)
		var changed []string
		if rows[i].Edits != nil {
			for _, e := range *rows[i].Edits {
				changed = append(changed, fmt.Sprintf("%s: %s > %s", e.What, value(e.Before), value(e.After)))
			}
		}
		assert.Subset(t, changed, edits, operation)
		return answer
	}
	const by = `"by": "Somebody Else"`
	do("addPerson", "POST", "/people", `{"name": "Dov", "role": "desk", "token": true}`, "Dov is desk", "role of Dov:  > desk")
	var plan contract.WatchPlan
	require.NoError(t, json.Unmarshal([]byte(do(
		"setWatchPlan",
		"PUT",
		"/watch/plans",
		`{"plan": {"for": {"bench": ""}, "read": "6h", "short": "SU 03:00"}, `+by+`}`,
		"Watch of the shop's own bench: read every 6 h",
		"watch:  > read every 6 h; short self-test on Sundays at 03:00; never wakes it",
	)), &plan))
	do("endWatchPlan", "DELETE", fmt.Sprintf("/watch/plans/%d", plan.Id), "",
		"Watch of the shop's own bench ended", "watch: read every 6 h; short self-test "+
			"on Sundays at 03:00; never wakes it > ")
	here, err := lead.Bay(ctx, at(1))
	require.NoError(t, err)
	draft := `{"for": {"drive": "` + here.Drive.Serial + `"}, "read": "5m"}` // changes nothing, and so is in no audit
	status, weighed := s.raw("POST", api.Base+"/watch/plans/draft", draft, "Authorization", "Bearer "+*first.NewToken)
	require.Equal(t, http.StatusOK, status, weighed)
	var sum contract.WatchWeighed
	require.NoError(t, json.Unmarshal([]byte(weighed), &sum))
	assert.Equal(t, []float64{1, 288}, []float64{float64(sum.Drives), sum.ReadingsADay})
	hangs := `{"plan": {"for": {"drive": "7M61C"}, "read": "5m"}, ` + by + `}`
	do("setWatchPlan", "PUT", "/watch/plans", hangs, "Watch of KVA07 7M61C: read every 5 min")
	var raised []contract.Alert // its drive holds a command, and is not read
	require.Eventually(t, func() bool {
		raised, err = lead.Alerts(t.Context(), contract.ListAlertsParams{})
		raised = slices.DeleteFunc(raised, func(a contract.Alert) bool { return a.Kind != contract.AlertKindHangs })
		return err == nil && len(raised) > 0
	}, 20*time.Second, 50*time.Millisecond)
	do(
		"takeAlert",
		"POST",
		fmt.Sprintf("/alerts/%d/take", raised[0].Id),
		"",
		"Maud looks after it, KVA07 7M61C: It holds a command since",
		"alert: open > taken",
	)
	do(
		"settleAlert",
		"POST",
		fmt.Sprintf("/alerts/%d/settle", raised[0].Id),
		`{"note": "taken to the owner", `+by+`}`,
		"Settled by Maud, KVA07 7M61C: It holds a command since",
		"alert: taken > settled",
		"note:  > taken to the owner",
	)
	do(
		"acceptLevel",
		"PUT",
		"/drives/7M4R9/accepted/crc_errors",
		`{"level": 30, "reason": "old cable", `+by+`}`,
		"KVA077M4R9: interface CRC errors known up to 30, says Maud",
		"quiet up to:  > 30",
		"reason:  > old cable",
	)
	do("endAccepted", "DELETE", "/drives/7M4R9/accepted/crc_errors", "", "KVA077M4R9: crc_errors speaks again", "quiet up to: 30 > ")
	do(
		"setRoute",
		"PUT",
		"/routes",
		`{"route": {"name": "loft", "by": "syslog", "to": "tcp://127.0.0.1:1", "least": "now"}, "secret": "x", `+by+`}`,
		"Route loft tells by syslog",
		"route:  > syslog; to tcp://127.0.0.1:1; from now on",
		"secret:  > given anew",
	)
	do("tryRoute", "POST", "/routes/loft/try", "", "Route loft tried")
	do("endRoute", "DELETE", "/routes/loft", "", "Route loft ended", "route: syslog; to tcp://127.0.0.1:1; from now on > ")
	do("attemptBay", "POST", "/bays/bay-4/attempt", "", "Bay 4: there is a drive, says Maud")
	do("vacateBay", "POST", "/bays/bay-4/vacate", "", "Bay 4: there is no drive, says Maud")
	do(
		"setBay",
		"PATCH",
		"/bays/bay-14",
		`{"label": "RAID shelf", "hidden": true, `+by+`}`,
		"Bay 14: set by Maud",
		"label:  > RAID shelf",
		"hidden: no > yes",
	)
	do("arrangeBays", "PUT", "/bay-order", `{"bays": ["bay-3", "bay-2"], `+by+`}`, "Bays arranged by Maud, bay 3 first")
	var taken contract.Intake
	require.NoError(t, json.Unmarshal([]byte(do(
		"takeIn",
		"POST",
		"/intakes",
		`{"bay": "bay-2", "wanted": true, "duty": "everyday", "release": {"scope": "mend", "owner": "Orla Fenn, by phone"},
		  "instead": {"ticket": "2229", "customer": "Marram Seed Library"}, `+by+`}`,
		"Bay 2: intake",
		"data wanted:  > yes",
		"released for:  > mend",
		"in the place of:  > intake 2",
	)), &taken))
	do(
		"changeIntake",
		"PATCH",
		fmt.Sprintf("/intakes/%d", taken.Id),
		`{"ticket": "2290", "complaint": "heard in Ferry Road, by Orla Fenn", `+by+`}`,
		fmt.Sprintf("Intake %d corrected", taken.Id),
		"ticket:  > 2290",
		"complaint:  > noted",
	)
	do("recordCopy", "POST", "/bays/bay-2/copy", `{`+by+`}`, "Bay 2: data copied, says Maud", "copied: no > yes")
	do(
		"recordRelease",
		"PUT",
		"/drives/7M4R9/release",
		`{"scope": "overwrite", "owner": "Orla Fenn, by letter", `+by+`}`,
		"released for overwrite",
		"released for: mend > overwrite",
	)
	do("changeDrive", "PATCH", "/drives/7M4R9", `{"duty": "archive", `+by+`}`, "meant for archive", "duty: everyday > archive")
	do("takeReading", "POST", "/drives/7M4R9/readings", `{`+by+`}`, "KVA077M4R9: a reading, ordered")
	do(
		"standReading",
		"PATCH",
		"/drives/7M4R9/readings/2",
		`{"counts": false, "why": "of another drive", `+by+`}`,
		"KVA077M4R9: reading 2 retracted",
		"reading: counts > retracted",
		"why:  > of another drive",
	)
	do("lookAtVolumes", "POST", "/drives/7M4R9/volumes", `{`+by+`}`, "a look at its file systems, ordered")
	do("importRecord", "POST", "/records", string(file), "all of it was known")
	do("redecode", "POST", "/redecode", "", "All readings decoded anew")
	var run contract.Run
	require.NoError(
		t,
		json.Unmarshal(
			[]byte(do("startCheck", "POST", "/drives/7M4R9/checks", `{"kind": "whole", `+by+`}`, "Bay 2: whole sweep, run ")),
			&run,
		),
	)
	assert.Equal(t, "Maud", run.By)
	at := fmt.Sprintf("/runs/%d/", run.Id)
	s.until("the sweep goes on", func() bool {
		r, err := lead.Run(ctx, run.Id)
		return err == nil && r.Steps[1].State == "begun" && r.Steps[1].Sweep != nil && r.Steps[1].Sweep.Share > 0
	})
	do("awaitRun", "PUT", at+"awaited", `{"on": true, `+by+`}`, "Maud waits for the end of the whole sweep", "who waits for it:  > Maud")
	do("pauseRun", "POST", at+"pause", `{`+by+`}`, "paused")
	do("resumeRun", "POST", at+"resume", `{`+by+`}`, "resumed")
	do("stopRun", "POST", at+"stop", `{`+by+`}`, "stopped")
	s.until("it is stopped", func() bool { r, err := lead.Run(ctx, run.Id); return err == nil && r.State == "done" })
	require.NoError(
		t,
		json.Unmarshal(
			[]byte(
				do(
					"startRework",
					"POST",
					"/drives/7M4R9/reworks",
					`{"kind": "overwrite", "ending": "A077M4R9", `+by+`}`,
					"Bay 2: overwrite, run ",
				),
			),
			&run,
		),
	)
	_, err = lead.StopRun(ctx, run.Id, "Maud")
	require.NoError(t, err)
	do("withdrawRelease", "DELETE", "/drives/7M4R9/release?by=Nobody", "", "release taken back by Maud", "released for: overwrite > ")
	do("setPlan", "PUT", "/plan?bench=field", `{"check": "quick", `+by+`}`, "at field", "plan:  > quick")
	body, _ := json.Marshal(map[string]string{"text": text.Text, "note": "as it was", "by": "Nobody"})
	do("publishPolicy", "PUT", "/policy", string(body), "published by Maud", fmt.Sprintf("policy: %d > %d", text.Version, text.Version+1))
	do("setOutcome", "PUT", "/drives/7M4Q2/outcome", `{"failed": true, "at": "2026-01-05T00:00:00Z", `+by+`}`, "noted by Maud")
	do(
		"signVerdict",
		"POST",
		"/drives/7M511/verdict/sign-off",
		`{"grade": "replace", "reason": "it clicked", `+by+`}`,
		"overruled with replace by Maud",
		"grade: degrading > replace",
	)
	do("signTogether", "POST", "/verdicts/sign-off", `{`+by+`}`, "healthy, signed by Maud", "signed:  > healthy")
	var lot contract.Lot
	require.NoError(t, json.Unmarshal([]byte(do("openLot", "POST", "/lots", `{`+by+`}`, "Lot 2 opened")), &lot))
	do("endLot", "POST", fmt.Sprintf("/lots/%d/end", lot.Id), `{`+by+`}`, "Lot 2 ended")
	do("moveIntake", "POST", "/intakes/4/move", `{"bay": "bay-11", `+by+`}`, "intake 4 is tried here", "bay:  > bay-11")
	do(
		"handOver",
		"POST",
		fmt.Sprintf("/intakes/%d/handover", shelved.Id),
		`{"goes": "returned", `+by+`}`,
		"returned by Maud, data untouched",
		"handed over:  > returned",
	)
	do("eraseCustomer", "POST", "/customers/erase", `{"customer": "Ferry Road puppet theatre", `+by+`}`, "A customer was erased")
	do("setDemands", "PUT", "/demands", `{"second_factor": false, "second_person": true}`, "What the shop demands, set by Maud",
		"what is demanded:  > a second person for an overwrite")
	var token contract.Token
	require.NoError(t, json.Unmarshal([]byte(do(
		"addToken", "POST", "/tokens", `{"name": "label printer", "scope": "reads", "person": "Dov", "days": 30}`,
		"Token “label printer” of Dov, for reads, made by Maud",
	)), &token))
	do("endToken", "DELETE", "/tokens/"+token.Id, "", "Token “label printer” of Dov ended by Maud")
	do(
		"nameKey", "PUT", "/keys/aaaa-bbbb-cccc-dddd-eeee", `{"called": "the stick in the van", `+by+`}`,
		"Whose the key aaaa-bbbb-cccc-dddd-eeee is, as Maud says", "called:  > the stick in the van",
	)
	s.signIn("Maud", password)
	cookie = s.signIn("Maud", password)
	do(
		"setPassword", "PUT", "/session/password", `{"before": "kelp and gravel", "password": "gravel and kelp"}`,
		"Maud changed their password",
	)
	status, answer := s.raw("POST", api.Base+"/session/proof", `{"password": "gravel and kelp"}`, "Cookie", cookie)
	require.Equal(t, http.StatusOK, status, answer)
	status, answer = s.raw("GET", api.Base+"/session/factor", "", "Cookie", cookie)
	require.Equal(t, http.StatusOK, status, answer)
	var offer contract.FactorOffer
	require.NoError(t, json.Unmarshal([]byte(answer), &offer))
	code, err := totp.GenerateCode(offer.Secret, time.Now())
	require.NoError(t, err)
	do("setFactor", "PUT", "/session/factor", `{"secret": "`+offer.Secret+`", "code": "`+code+`"}`, "Maud set up a second factor")
	do("removeFactor", "DELETE", "/people/Maud/factor", "", "The second factor of Maud was taken away by Maud")
	s.signIn("Maud", "gravel and kelp")
	status, answer = s.raw("GET", api.Base+"/sessions", "", "Cookie", cookie)
	require.Equal(t, http.StatusOK, status, answer)
	var sessions []contract.SignedIn
	require.NoError(t, json.Unmarshal([]byte(answer), &sessions))
	require.Len(t, sessions, 2, "those of the old password have ended")
	other := sessions[slices.IndexFunc(sessions, func(one contract.SignedIn) bool { return !one.Own })]
	do("endSession", "DELETE", "/sessions/"+other.Id, "", "A session of Maud ended by Maud")
	cookie = ""
	do("removePerson", "DELETE", "/people/Dov", "", "Dov works here no more", "role of Dov: desk > ")

	for path, item := range held.document.Paths.Map() {
		for method, operation := range item.Operations() {
			if method != http.MethodGet && operation.Extensions["x-audit"] != "none" {
				assert.True(t, met[operation.OperationID], "%s %s changes something and is not asked here", method, path)
			}
		}
	}
	chain, err := lead.VerifyAudit(ctx, "")
	require.NoError(t, err)
	assert.True(t, chain.Sound)
	for _, a := range audit() {
		for _, name := range []string{"Orla", "Fenn", "Ferry", "Somebody"} {
			assert.NotContains(t, fmt.Sprintf("%+v", a), name, "it names no customer, and nobody who was only claimed to be")
		}
	}
}

func value(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}
