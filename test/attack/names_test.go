package attack_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"net/url"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/cli"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/record"
	"hylostat.example/test/made"
)

// line runs a command line against the service and gives what it printed.
func (p *place) line(args ...string) (string, error) {
	p.t.Helper()
	root := cli.New(cli.Starters{Version: "test"})
	var out bytes.Buffer
	root.Writer, root.ErrWriter = &out, &out
	err := root.Run(p.t.Context(), append([]string{"hylostat", "--service", p.address, "--by", "Dov"}, args...))
	return out.String(), err
}

// harmful finds what would move a cursor, or turn the direction of writing, but for what makes a word bold.
func harmful(s string) bool {
	s = strings.NewReplacer("\x1b[1m", "", "\x1b[0m", "").Replace(s)
	return strings.ContainsFunc(s, func(r rune) bool {
		return unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Bidi_Control, r)
	})
}

// What drives, files and people are called is printed as it is seen, and leads to the drive it is the name of.
func TestHostileNamesAreShownAndReachable(t *testing.T) {
	names := []string{
		".", "..", "/", "a/b c", "%2e%2e", "?x=1#y", "=1+1", "\x1b[2J\x1b[1;1H", "..;/admin", "ab\u202ecd", "\u200b\u2066", "bay-1x",
		"'; --", "\u009b31m", "Q",
	}
	var drives []sim.Spec
	for _, n := range names[:8] {
		drives = append(drives, made.Disk(n))
	}
	p, ctx := begin(t, t.TempDir(), append([]sim.Spec{made.Disk("KVA077M511")}, drives...)...), t.Context()
	for n := range len(drives) + 1 {
		p.answering(n + 1)
	}
	// The others come in a stranger's record file, filed under what its drives are called, blanks among them
	exported, err := p.Record(ctx, "7M511")
	require.NoError(t, err)
	f, err := record.Read(bytes.NewReader(exported))
	require.NoError(t, err)
	whole := f.Drives[0]
	f.Drives, f.Signature = nil, nil
	for i, n := range append(names[8:], "  ", "\u3000") {
		one := whole
		one.Serial, one.Model = n, "Korvan \x1b]0;K4\a"
		one.Readings = []record.Reading{{ID: "stranger" + string(rune('a'+i)), At: whole.Readings[0].At, Tool: "t\x1b[31m\u202e"}}
		for _, page := range whole.Readings[0].Pages {
			if page.Name != "ata/identify" { // it would tell whose they are
				one.Readings[0].Pages = append(one.Readings[0].Pages, page)
			}
		}
		f.Drives = append(f.Drives, one)
	}
	var file bytes.Buffer
	require.NoError(t, record.Write(&file, f))
	_, err = p.ImportRecord(ctx, &file, "Dov\x1b[31m")
	require.NoError(t, err)
	_, err = p.TakeIn(
		ctx,
		contract.IntakeRequest{Bay: at(1), By: "Dov", Customer: text("Pell\u202ewick\x1b[2J"), Complaint: text("it\r\nsays \u2066=1")},
	)
	require.NoError(t, err)

	all, err := p.Drives(ctx, contract.ListDrivesParams{})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(all), len(names)+1)
	for _, d := range all {
		assert.False(t, harmful(d.Serial), "%q", d.Serial)
		assert.NotContains(t, []string{"", ".", ".."}, d.Serial)
		one, err := p.Drive(ctx, d.Serial)
		require.NoError(t, err, "%q is reachable by its name", d.Serial)
		assert.Equal(t, d.Serial, one.Serial)
		status, page, _ := p.ask(ctx, "GET", "/drives/"+url.PathEscape(d.Serial), nil)
		assert.Equal(t, 200, status, d.Serial)
		assert.Contains(t, string(page), "<title>")
		for _, args := range [][]string{
			{"drive", "show", d.Serial},
			{"reading", "show", d.Serial},
			{"--json", "drive", "show", d.Serial},
			{"--json", "reading", "show", d.Serial},
		} {
			out, err := p.line(args...)
			require.NoError(t, err, args)
			require.False(t, harmful(out), "%q: %q", args, out)
			if args[0] == "--json" {
				require.True(t, json.Valid([]byte(out)), out)
			}
		}
	}
	for _, args := range [][]string{
		{"drive", "list"},
		{"intake", "list"},
		{"audit", "list"},
		{"bay", "list"},
		{"--json", "audit", "list"},
		{"reading", "list", "7M511"},
	} {
		out, err := p.line(args...)
		require.NoError(t, err, args)
		assert.False(t, harmful(out), "%q: %q", args, out)
	}
	_, err = p.line("drive", "show", "none\x1b[2J")
	require.Error(t, err)
	table, err := p.DrivesTable(ctx, contract.ListDrivesParams{})
	require.NoError(t, err)
	rows, err := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(table, []byte("\ufeff")))).ReadAll()
	require.NoError(t, err)
	for _, row := range rows {
		for _, cell := range row {
			assert.False(t, harmful(cell) || cell != "" && strings.ContainsAny(cell[:1], "=+-@\t\r\n"), "%q", cell)
		}
	}
}

func text(s string) *string { return &s }
