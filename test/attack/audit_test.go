package attack_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
	"hylostat.example/test/made"
)

// Whoever may write the database cuts off the end of the audit: what is left is a whole chain. A head that was given out shows it.
func TestATailThatWasCutOffShows(t *testing.T) {
	p := begin(t, t.TempDir(), made.Disk("KVA077M511"))
	ctx := t.Context()
	p.answering(1)
	_, err := p.SetBay(ctx, at(1), contract.BaySetting{Label: text("left dock"), By: "Dov"})
	require.NoError(t, err)
	head, err := p.AuditHead(ctx)
	require.NoError(t, err)
	paper, err := p.StatementPage(ctx, "7M511", "html", nil)
	require.NoError(t, err)
	assert.Contains(t, string(paper), head.Short, "a paper has it")
	v, err := p.VerifyAudit(ctx, head.Short)
	require.NoError(t, err)
	assert.True(t, v.Sound && *v.Holds)
	short := head.Short[:strings.Index(head.Short, ":")+1]
	for _, wrong := range []string{"x", "1", "1:abc", short, short + "zzzzzzzzzzzzzzzz", "-1:0123456789abcdef"} {
		_, err := p.VerifyAudit(ctx, wrong)
		refused(t, err, http.StatusBadRequest, "no head of an audit")
	}
	v, err = p.VerifyAudit(ctx, short+"0123456789abcdef")
	require.NoError(t, err)
	assert.False(t, *v.Holds)

	p.execute(`DROP TRIGGER audit_is_kept`)
	p.execute(`DELETE FROM audit WHERE seq = (SELECT MAX(seq) FROM audit)`)
	v, err = p.VerifyAudit(ctx, head.Short)
	require.NoError(t, err)
	assert.True(t, v.Sound, "what is left follows")
	assert.False(t, *v.Holds, "and the end is gone")
	_, err = p.line("audit", "verify", "--head", head.Short)
	require.ErrorContains(t, err, "cut off or changed")
}
