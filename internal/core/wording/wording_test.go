package wording

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNumbersReadAlikeEverywhere holds the rules of numbers to what the console's tests hold theirs to.
func TestNumbersReadAlikeEverywhere(t *testing.T) {
	raw, err := os.ReadFile("testdata/numbers.json")
	require.NoError(t, err)
	var rows map[string][][2]any
	require.NoError(t, json.Unmarshal(raw, &rows))
	rules := map[string]func(any) string{
		"number":  func(x any) string { return Number(x.(float64)) },
		"grouped": func(x any) string { return Grouped(x.(string)) },
		"bytes":   func(x any) string { return Of(x.(float64), "B") },
		"size":    func(x any) string { return Size(x.(float64)) },
		"share":   func(x any) string { return Share(x.(float64)) },
		"left":    func(x any) string { return Left(time.Duration(x.(float64) * float64(time.Second))) },
		"serial":  func(x any) string { return Serial(x.(string)) },
	}
	require.Len(t, rows, len(rules))
	for name, rule := range rules {
		for _, row := range rows[name] {
			assert.Equal(t, row[1], rule(row[0]), "%s of %v", name, row[0])
		}
	}
}

func TestNumbersInOtherLanguages(t *testing.T) {
	assert.Equal(t, "18,4 TB", German.Of(18.42e12, "B"))
	assert.Equal(t, "unter 0,1 %", German.Share(0.0001))
	assert.Equal(t, "9,9 %", Spanish.Share(0.0999))
	march := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	assert.Equal(
		t, []string{"1 March 2026", "1. März 2026", "1er mars 2026", "1 de marzo de 2026"},
		each(func(l Language) string { return l.Day(march) }),
	)
	assert.Equal(
		t, []string{"1 Mar 2026", "01.03.2026", "01/03/2026", "01/03/2026"},
		each(func(l Language) string { return l.ShortDay(march) }),
	)
	assert.Equal(
		t, []string{"March 2026", "März 2026", "mars 2026", "marzo de 2026"},
		each(func(l Language) string { return l.Month(march) }),
	)
}

func each(f func(Language) string) (all []string) {
	for _, l := range Languages() {
		all = append(all, f(l))
	}
	return all
}

func TestALanguageIsFoundByItsTag(t *testing.T) {
	for tag, want := range map[string]string{"de": "de", "de-AT": "de", "FR_ch": "fr", "es-419": "es", "en-GB": "en"} {
		l, err := ParseLanguage(tag)
		require.NoError(t, err, tag)
		assert.Equal(t, want, l.String(), tag)
	}
	for _, tag := range []string{"it", "x", "deutsch!", "und"} {
		_, err := ParseLanguage(tag)
		assert.Error(t, err, tag)
	}
	none, err := ParseLanguage("")
	require.NoError(t, err)
	assert.True(t, none.IsZero())
	assert.Equal(t, "fr", none.Or(French).String())
}

func TestAPhraseComesThroughStoreAndWire(t *testing.T) {
	p := Say(RunEndedAt, Values{"outcome": "failed", "step": "whole_sweep", "why": Say(SweepFound, Values{"parts": []Phrase{
		Say(SectorsUnreadable, Values{"n": uint64(18446744073709551615)}), Say(PlacesSlow, Values{"n": 1}), Literal("by the way"),
	}})})
	const words = "failed: whole sweep, 18\u00a0446\u00a0744\u00a0073\u00a0709\u00a0551\u00a0615 unreadable sectors; 1 slow " +
		"place, confirmed; by the way"
	require.Equal(t, words, p.String())
	b, err := json.Marshal(p)
	require.NoError(t, err)
	var back Phrase
	require.NoError(t, json.Unmarshal(b, &back))
	assert.Equal(t, words, back.String())
	again, err := json.Marshal(back)
	require.NoError(t, err)
	assert.Equal(t, string(b), string(again), "the audit's chain is over these bytes")
	assert.Equal(t, p.Column(), FromColumn(p.Column()).Column())

	var old Phrase
	require.NoError(t, json.Unmarshal([]byte(`"read failure, LBA 4711"`), &old), "a sentence of an earlier version")
	assert.Equal(t, "read failure, LBA 4711", old.String())
	assert.Equal(t, "Bay 3: paused", FromColumn("Bay 3: paused").String())
	assert.Equal(t, "run.of_tomorrow", Say("run.of_tomorrow").String(), "a code of a later version")
	assert.True(t, Phrase{}.IsZero())
	assert.Equal(t, "", Phrase{}.String())
}

func TestHolesTakeWhatTheirFormatSays(t *testing.T) {
	for want, p := range map[string]Phrase{
		"1 place was slow once: the host was busy: the drive relocated nothing.": Say(SaysSlowOnce,
			Values{"n": 1, "why": Say(OnceBusy)}),
		"2 places were slow once: x.": Say(SaysSlowOnce,
			Values{"n": json.Number("2"), "why": "x"}),
		"LBA 1234567 holds what was written to LBA 0: the drive has less room than it claims.": Say(ReworkElsewhere,
			Values{"lba": 1234567, "from": 0}),
		"Bay 3: extended check, run 1200, paused":   Say(RunPaused, Values{"bay": "bay-3", "kind": "extended", "run": 1200}),
		"Bay field/3 is free: put the next one in.": Say(BayFree, Values{"bay": "field/3"}),
		"Whole sweep skipped: locked by a password: the surface cannot be read": Say(
			StepSkipped, Values{"step": "whole_sweep", "why": Say(SurfaceLocked, Values{"by": "password"})},
		),
		"read failure, LBA 4711":                      Say(TestResultAt, Values{"result": "read failure", "lba": uint64(4711)}),
		"100 % of it, $5 and {braces}: failed, 50 %s": Say(DeedFailed, Values{"deed": "100 % of it, $5 and {braces}", "why": "50 %s"}),
		"Reallocated 3 to 41.3":                       Say(SignalMoved, Values{"signal": "reallocated", "before": 3.0, "after": 41.26}),
		"Rules out":                                   {Text: "Rules out"},
	} {
		assert.Equal(t, want, p.String())
	}
	assert.Equal(t, "1,5 TB", strings.Fields(Say(PaperReadAll, Values{"bytes": 1.5e12}).In(German))[1]+" TB")
}

var anyHole = regexp.MustCompile(`\{(\w+)[^}]*\}`)

func holesIn(text string) []string {
	var all []string
	for _, m := range anyHole.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(all, m[1]) {
			all = append(all, m[1])
		}
	}
	slices.Sort(all)
	return all
}

// TestEveryLanguageSaysWhatAnOwnerGets finds a text without its translation, or one that leaves a value out.
func TestEveryLanguageSaysWhatAnOwnerGets(t *testing.T) {
	for code, text := range English.catalogue().Texts {
		group, _, _ := strings.Cut(string(code), ".")
		owners := slices.Contains([]string{"paper", "label", "volume", "volumes", "share"}, group)
		for _, l := range Languages()[1:] {
			translated, ok := l.catalogue().Texts[code]
			if assert.Equal(t, owners, ok, "%s in %s", code, l) && ok && !strings.HasPrefix(string(code), "label.missing") {
				assert.Equal(t, holesIn(text), holesIn(translated), "%s in %s", code, l)
				assert.NotEmpty(t, translated)
			}
		}
	}
	for _, l := range Languages()[1:] {
		for code := range l.catalogue().Texts {
			assert.Contains(t, English.catalogue().Texts, code, "%s has a text that English has not", l)
		}
		assert.Len(t, l.catalogue().Months, 12)
	}
}

// TestCodesAndTextsBelongTogether walks the sources: every constant has a text, and every phrase is said with the values that its text
// has holes for.
func TestCodesAndTextsBelongTogether(t *testing.T) {
	constants := map[string]Code{}
	inspect(t, "codes.go", func(n ast.Node) {
		if v, ok := n.(*ast.ValueSpec); ok && len(v.Values) == 1 {
			if s, err := strconv.Unquote(v.Values[0].(*ast.BasicLit).Value); err == nil {
				constants[v.Names[0].Name] = Code(s)
			}
		}
	})
	require.Greater(t, len(constants), 150)
	said := map[Code]int{}
	for name, code := range constants {
		assert.Contains(t, English.catalogue().Texts, code, name)
		said[code]++
		assert.Equal(t, 1, said[code], "%s has two names", code)
	}
	checked := 0
	require.NoError(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.Contains(path, ".gen.") {
			return err
		}
		inspect(t, path, func(n ast.Node) {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) != 2 {
				return
			}
			name, isCode := call.Args[0].(*ast.SelectorExpr)
			values, isLiteral := call.Args[1].(*ast.CompositeLit)
			if !isCode || !isLiteral {
				return
			}
			code, known := constants[name.Sel.Name]
			if x, ok := name.X.(*ast.Ident); !known || !ok || x.Name != "wording" {
				return
			}
			var given []string
			for _, v := range values.Elts {
				key, err := strconv.Unquote(v.(*ast.KeyValueExpr).Key.(*ast.BasicLit).Value)
				require.NoError(t, err)
				given = append(given, key)
			}
			slices.Sort(given)
			for _, hole := range holesIn(English.catalogue().Texts[code]) {
				assert.Contains(t, given, hole, "%s: %s", path, code)
			}
			checked++
		})
		return nil
	}))
	assert.Greater(t, checked, 100)
}

func inspect(t *testing.T, path string, f func(ast.Node)) {
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
	require.NoError(t, err)
	ast.Inspect(file, func(n ast.Node) bool { f(n); return true })
}
