package attack_test

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/demo"
)

// A drive whose data is wanted was taken in once more, without that being said: the first intake ended, nothing was wanted any more, and
// the check ran over another customer's data.
func TestTakingInAnewLiftsNoProtection(t *testing.T) {
	t.Parallel()
	p, ctx := begin(t, t.TempDir(), demo.Build("K4", "7M511", 9_000, time.Now())), t.Context()
	p.answering(1)
	first, err := p.TakeIn(ctx, contract.IntakeRequest{
		Bay: at(1), By: "Dov", Ticket: new("2214"), Customer: new("Pellwick Spit"), Wanted: new(true),
	})
	require.NoError(t, err)
	checks := func() error {
		_, err := p.Check(ctx, "7M511", contract.CheckRequest{Kind: "quick", By: "Dov"})
		return err
	}
	take := func(instead *contract.IntakeInstead) (contract.Intake, error) {
		return p.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov", Ticket: new("2215"), Wanted: new(false), Instead: instead})
	}
	_, err = take(nil)
	refused(t, err, http.StatusConflict, "is on intake 1 already")
	for _, wrong := range []contract.IntakeInstead{{Ticket: "2214"}, {Ticket: "1", Customer: "Pellwick Spit"}, {Ticket: "2215"}} {
		_, err = take(&wrong)
		refused(t, err, http.StatusConflict, "that is not its ticket and customer")
	}
	refused(t, checks(), http.StatusConflict, "wanted and not copied")
	second, err := take(&contract.IntakeInstead{Ticket: "2214", Customer: "Pellwick Spit"})
	require.NoError(t, err)
	assert.True(t, second.AtRisk, "it says itself that nothing is wanted")
	refused(t, checks(), http.StatusConflict, "wanted and not copied")
	_, err = p.ChangeIntake(ctx, second.Id, contract.IntakeCorrection{By: "Dov", Wanted: new(false)})
	refused(t, err, http.StatusBadRequest, "Say why")
	_, err = p.ChangeIntake(ctx, first.Id, contract.IntakeCorrection{By: "Dov", Wanted: new(false), Why: new("it ended")})
	refused(t, err, http.StatusConflict, "ended on")
	_, err = p.ChangeIntake(ctx, second.Id, contract.IntakeCorrection{By: "Dov", Wanted: new(false), Why: new("the owner has a copy")})
	require.NoError(t, err)
	require.NoError(t, checks())
	rows, err := p.Audit(ctx, contract.ListAuditParams{})
	require.NoError(t, err)
	text, err := json.Marshal(rows)
	require.NoError(t, err)
	assert.Contains(t, string(text), `"after":"the owner has a copy"`, "and the audit says why")
}
