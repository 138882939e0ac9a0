package service

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/test/made"
)

func TestWhoLeavesMayDoNothingAnyMore(t *testing.T) {
	s := serve(t, t.TempDir(), made.Disk("KVA077M511"))
	ctx := t.Context()
	lead := s.as(s.Client, "Maud", contract.Lead, "kelp and gravel")
	desk := s.as(lead, "Dov", contract.Desk, "rope and tar 1")
	all, err := lead.People(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	_, err = desk.RemovePerson(ctx, "Maud", "Maud")
	assert.Equal(t, http.StatusForbidden, status(t, err))
	_, err = lead.RemovePerson(ctx, "Maud", "Maud")
	assert.Equal(t, http.StatusForbidden, status(t, err), "somebody has to be able to enter people")
	check := contract.PlannedCheck("quick")
	_, err = desk.OpenLot(ctx, contract.LotRequest{By: "Dov", Check: &check})
	assert.Equal(t, http.StatusForbidden, status(t, err), "a lot's plan starts checks")
	_, err = desk.OpenLot(ctx, contract.LotRequest{By: "Dov"})
	require.NoError(t, err)
	all, err = lead.RemovePerson(ctx, "Dov", "Maud")
	require.NoError(t, err)
	require.Len(t, all, 1)
	_, err = desk.Drives(ctx, contract.ListDrivesParams{})
	assert.Equal(t, http.StatusUnauthorized, status(t, err), "a token ends with its person")
	told := lead.Events(ctx, 0)
	_, open := <-told.Next
	assert.True(t, open, "who is signed in hears what happens")
	told = desk.Events(ctx, 0)
	_, open = <-told.Next
	assert.False(t, open)
	assert.Equal(t, http.StatusUnauthorized, status(t, told.Err()), "and who is not is told so")
	_, err = lead.RemovePerson(ctx, "Dov", "Maud")
	assert.Equal(t, http.StatusNotFound, status(t, err))
	chain, err := lead.VerifyAudit(ctx, "")
	require.NoError(t, err)
	assert.True(t, chain.Sound)
}

// as gives a client that asks with a person's token.
func (s *service) as(c *client.Client, name string, role contract.Role, password string) *client.Client {
	s.t.Helper()
	token := true
	p, err := c.AddPerson(s.t.Context(), contract.WorkerRequest{Name: name, Role: role, Token: &token, Password: &password})
	require.NoError(s.t, err)
	require.NotNil(s.t, p.NewToken)
	their, err := client.New(s.address, *p.NewToken)
	require.NoError(s.t, err)
	return their
}

// signIn gives the cookie of a session, as a header has it.
func (s *service) signIn(name, password string) string {
	s.t.Helper()
	body, err := json.Marshal(contract.SignInRequest{Name: name, Password: password})
	require.NoError(s.t, err)
	request, err := http.NewRequestWithContext(s.t.Context(), http.MethodPost, s.address+"/api/v1/session", bytes.NewReader(body))
	require.NoError(s.t, err)
	request.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	require.Equal(s.t, http.StatusOK, answer.StatusCode)
	require.Len(s.t, answer.Cookies(), 1)
	return answer.Cookies()[0].Name + "=" + answer.Cookies()[0].Value
}

func status(t *testing.T, err error) int {
	t.Helper()
	var p *client.ProblemError
	require.ErrorAs(t, err, &p)
	return p.Status
}

func TestAShopWithPeopleLetsEachDoWhatTheirRoleMay(t *testing.T) {
	s := serve(t, t.TempDir(), made.Disk("KVA077M511"))
	ctx := t.Context()
	s.answering(1)
	lead := s.as(s.Client, "Maud", contract.Lead, "kelp and gravel")
	technician := s.as(lead, "Imre", contract.Technician, "salt and slate")
	desk := s.as(lead, "Dov", contract.Desk, "rope and tar 1")

	_, err := s.Drives(ctx, contract.ListDrivesParams{})
	assert.Equal(t, http.StatusUnauthorized, status(t, err), "nobody is signed in")
	_, err = s.Service(ctx)
	require.NoError(t, err, "what the service is, anybody may know")
	for _, path := range []string{"/api/v1/events", "/api/v1/runs/1/live", "/api/v1/drives/7M511/archive", "/api/v1/audit"} {
		code, _ := s.raw("GET", path, "")
		assert.Equal(t, http.StatusUnauthorized, code, path)
	}

	_, err = desk.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "somebody else"})
	require.NoError(t, err)
	_, err = desk.CheckQuick(ctx, "7M511", "Dov")
	assert.Equal(t, http.StatusForbidden, status(t, err))
	degrading, reason := contract.GradeDegrading, "it clicked"
	overrule := contract.SignOffRequest{By: "Imre", Grade: &degrading, Reason: &reason}
	_, err = technician.Sign(ctx, "7M511", overrule)
	assert.Equal(t, http.StatusForbidden, status(t, err), "overruling needs a lead")
	_, err = technician.AddPerson(ctx, contract.WorkerRequest{Name: "Imre", Role: contract.Lead})
	assert.Equal(t, http.StatusForbidden, status(t, err), "nobody makes themselves a lead")
	signed, err := lead.Sign(ctx, "7M511", overrule)
	require.NoError(t, err)
	assert.Equal(t, "Maud", signed.Signed.By, "who signed in signs, whatever name is given")
	assert.True(t, signed.Signed.Overruled)

	all, err := lead.Audit(ctx, contract.ListAuditParams{})
	require.NoError(t, err)
	var who []string
	for _, a := range all {
		who = append(who, a.By+": "+a.Text.Words)
	}
	assert.Equal(
		t,
		[]string{
			"Maud: KVA077M511: undecided overruled with degrading by Maud",
			"Imre: Refused: Add a person, or give one another role, password or token",
			"Dov: Refused: Start a check",
			"Dov: Bay 1: intake 1 opened",
			"Maud: Dov is desk, with a password and a token that Maud gave",
			"Maud: Imre is technician, with a password and a token that Maud gave",
			"Maud: Maud is lead, with a password and a token that Maud gave",
		},
		who,
	)
}

func TestSigningInAtTheConsole(t *testing.T) {
	s := serve(t, t.TempDir(), made.Disk("KVA077M511"))
	s.as(s.Client, "Maud", contract.Lead, "kelp and gravel")
	code, body := s.raw("POST", "/api/v1/session", `{"name":"Maud","password":"kelp"}`)
	assert.Equal(t, http.StatusUnauthorized, code, body)
	request, err := http.NewRequestWithContext(
		t.Context(),
		http.MethodPost,
		s.address+"/api/v1/session",
		strings.NewReader(`{"name":"Maud","password":"kelp and gravel"}`),
	)
	require.NoError(t, err)
	request.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer answer.Body.Close()
	require.Len(t, answer.Cookies(), 1)
	c := answer.Cookies()[0]
	assert.True(t, c.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
	code, body = s.raw("GET", "/api/v1/session", "", "Cookie", c.Name+"="+c.Value)
	require.Equal(t, http.StatusOK, code)
	var session contract.Session
	require.NoError(t, json.Unmarshal([]byte(body), &session))
	assert.Equal(t, "Maud", *session.Name)
	code, _ = s.raw("GET", "/api/v1/drives", "", "Cookie", c.Name+"="+c.Value)
	assert.Equal(t, http.StatusOK, code)
	code, _ = s.raw("DELETE", "/api/v1/session", "", "Cookie", c.Name+"="+c.Value)
	assert.Equal(t, http.StatusOK, code)
	code, _ = s.raw("GET", "/api/v1/drives", "", "Cookie", c.Name+"="+c.Value)
	assert.Equal(t, http.StatusUnauthorized, code, "the cookie is worth nothing any more")
}
