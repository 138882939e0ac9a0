package visible_test

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/visible"
)

func TestWhatIsNotSeenIsShown(t *testing.T) {
	for from, want := range map[string]string{
		"KVA077M4Q2":                "KVA077M4Q2",
		"Müller & Søn, 株式会社":        "Müller & Søn, 株式会社",
		"\x1b[2J\x1b]0;gone\a":      `\x1b[2J\x1b]0;gone\x07`,
		"a\u009b31mb":               `a\u009b31mb`,
		"ok\u202eko":                `ok\u202eko`,
		"\u2066a\u2069\u200f\ufeff": `\u2066a\u2069\u200f\ufeff`,
		"one\ntwo\r\tthree":         `one\x0atwo\x0d\x09three`,
		"cut \xff\xc3":              `cut \xff\xc3`,
		"tag \U000e0041":            `tag \U000e0041`,
		"a\u2028b":                  `a\u2028b`,
		"نامه\u200cها":              "نامه\u200cها",
		"7\u202f200\u00a0h":         "7\u202f200\u00a0h",
	} {
		assert.Equal(t, want, visible.Line(from))
	}
	assert.Equal(t, "one\n\ttwo\\x0d", visible.Text("one\n\ttwo\r"))
	for from, want := range map[string]string{
		"a/b\\c:d": "a_b_c_d", "..": "_", "": "_", "x\x00y": "x_x00y", " .hidden. ": "hidden", "../../etc/passwd": "_.._etc_passwd",
	} {
		assert.Equal(t, want, visible.File(from), from)
	}
}

// harmless holds what every text is that was made visible.
func harmless(t *testing.T, s, kept string) {
	t.Helper()
	require.True(t, utf8.ValidString(s))
	for _, r := range s {
		require.False(t, !strings.ContainsRune(kept, r) && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) ||
			unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r)), "%q in %q", r, s)
	}
}

func FuzzVisible(f *testing.F) {
	for _, s := range []string{
		"", "KVA07", "\x1b[31m", "\u202e", "\xff", "{\"a\":\"\u009b\U000e0041\"}", "../..", strings.Repeat("é", 300),
	} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		line := visible.Line(s)
		harmless(t, line, "")
		require.Equal(t, line, visible.Line(line), "what was made visible once stays as it is")
		harmless(t, visible.Text(s), "\n\t")
		name := visible.File(s)
		harmless(t, name, "")
		require.True(t, filepath.IsLocal(name) && filepath.Base(name) == name && name != "." && name != "..", name)
		require.LessOrEqual(t, len(name), 200)
		body, err := json.Marshal(map[string]string{"said": s})
		require.NoError(t, err)
		document := visible.JSON(string(body))
		harmless(t, document, "\n\t\r")
		var before, after map[string]string
		require.NoError(t, json.Unmarshal(body, &before))
		require.NoError(t, json.Unmarshal([]byte(document), &after), document)
		require.Equal(t, before, after, "what it says is the same")
	})
}
