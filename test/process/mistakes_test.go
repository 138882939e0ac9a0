package process

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/vector"
)

// day is one as people read it: the demo begins today.
var day = regexp.MustCompile(`\d{1,2} [A-Z][a-z]+ 20\d\d\b`)

// What the program says to whoever mistypes, misremembers or asks for what cannot be, in testdata/mistakes.txt: each answer says what was
// wrong, in which word, and what to do; and nothing of the shop is lost or changed by it. A line that begins with # heads those below it.
func TestMistakes(t *testing.T) {
	d := start(t, t.TempDir())
	d.settled()
	kept := func() (all []string) {
		for _, list := range []string{"drive list", "intake list", "lot list", "person list", "policy list", "run list", "plan show"} {
			out, wrong, code := d.run(strings.Fields("--json " + list)...)
			require.Zero(t, code, wrong)
			all = append(all, out)
		}
		return all
	}
	before := kept()
	asked, err := os.ReadFile("testdata/mistakes.txt")
	require.NoError(t, err)
	book := vector.Open(t, "mistakes.txt")
	n := 0
	for line := range strings.Lines(string(asked)) {
		line = strings.TrimRight(line, "\n")
		if strings.HasPrefix(line, "==") {
			book.Head(strings.TrimPrefix(line, "== "))
		}
		words, is := strings.CutPrefix(line, "$ hylostat ")
		if !is {
			continue
		}
		n++
		out, wrong, code := d.run(split(words)...)
		book.Line("%s", line)
		said := strings.ReplaceAll(strings.TrimRight(wrong, "\n"), d.address, "ADDRESS")
		book.Line("%d %s", code, day.ReplaceAllString(said, "DAY"))
		assert.NotZero(t, code, line)
		assert.Empty(t, out, line)
		assert.True(t, strings.HasPrefix(wrong, "hylostat: ") && strings.Count(wrong, "\n") == 1, "%s: one line: %s", line, wrong)
		assert.NotRegexp(
			t, `regexp|strconv|invalid syntax|JSON |body\.|/components|unmarshal|\^\[`, wrong, "%s: in the words of the command", line,
		)
	}
	assert.GreaterOrEqual(t, n, 80)
	book.Close()
	assert.Equal(t, before, kept(), "nothing of the shop changed")
}

// split takes a line apart as a shell does, with quotes.
func split(line string) (words []string) {
	quoted, open, word := false, false, ""
	for _, r := range line {
		switch {
		case r == '"':
			quoted, open = !quoted, true
		case r == ' ' && !quoted:
			if open || word != "" {
				words = append(words, word)
			}
			word, open = "", false
		default:
			word += string(r)
		}
	}
	if open || word != "" {
		words = append(words, word)
	}
	return words
}
