package wording

import (
	_ "embed" // the catalogues
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"
	"golang.org/x/text/feature/plural"
	"golang.org/x/text/message"
	"golang.org/x/text/message/catalog"
)

// The catalogues, one a language.
var (
	//go:embed en.yaml
	english []byte
	//go:embed de.yaml
	german []byte
	//go:embed fr.yaml
	french []byte
	//go:embed es.yaml
	spanish []byte
)

// catalogue is how one language says things.
type catalogue struct {
	Decimal  string          `yaml:"decimal"`   // the decimal sign
	Day      string          `yaml:"day"`       // a date in full, of {day} {month} {year}
	First    string          `yaml:"first"`     // the first day of a month, where it is told otherwise than by its number
	ShortDay string          `yaml:"short_day"` // as package time has it
	MonthOf  string          `yaml:"month_of"`
	Months   []string        `yaml:"months"`
	Texts    map[Code]string `yaml:"texts"`
	// Policy are the owner's sentences of policies, by what they are in English: a shop's policy has texts of its own, and keeps the
	// shipped ones' translations where it keeps their words. "{}" stands for a value.
	Policy map[string]string `yaml:"policy"`

	templates map[Code]template
	patterns  []pattern
	printer   *message.Printer
}

// pattern is a sentence of a policy with values in it.
type pattern struct {
	english    *regexp.Regexp
	translated string
}

// template is a text of a catalogue, taken apart.
type template struct{ holes []hole }

// hole is a place for a value: "{n}", "{bytes:size}", or, where its number chooses between words, "{n#sector|sectors}".
type hole struct {
	name, format string
	forms        []string // a plural's words; nil: the value itself
}

// catalogues are read when their language is first spoken: most commands speak one, or none.
var catalogues = [...]func() *catalogue{
	sync.OnceValue(func() *catalogue { return load(0, english) }),
	sync.OnceValue(func() *catalogue { return load(1, german) }),
	sync.OnceValue(func() *catalogue { return load(2, french) }),
	sync.OnceValue(func() *catalogue { return load(3, spanish) }),
}

func (l Language) catalogue() *catalogue { return catalogues[l.index()]() }

// load reads a catalogue that is built in; a broken one is found by the first test.
func load(i int, raw []byte) *catalogue {
	c := &catalogue{templates: map[Code]template{}}
	if err := yaml.Unmarshal(raw, c); err != nil {
		panic(fmt.Sprintf("catalogue %s: %v", tags[i], err))
	}
	for english, translated := range c.Policy {
		if strings.Contains(english, "{}") {
			exact := strings.ReplaceAll(regexp.QuoteMeta(english), regexp.QuoteMeta("{}"), "(.+)")
			c.patterns = append(c.patterns, pattern{regexp.MustCompile("^" + exact + "$"), translated})
		}
	}
	texts := catalog.NewBuilder(catalog.Fallback(tags[i]))
	for code, text := range c.Texts {
		t, messages, err := compile(text)
		if err == nil {
			err = texts.Set(tags[i], string(code), messages...)
		}
		if err != nil {
			panic(fmt.Sprintf("catalogue %s, %s: %v", tags[i], code, err))
		}
		c.templates[code] = t
	}
	c.printer = message.NewPrinter(tags[i], message.Catalog(texts))
	return c
}

// compile makes of a text its holes, in order, and the messages by which x/text fills them: each hole is one argument.
func compile(text string) (t template, messages []catalog.Message, err error) {
	var out strings.Builder
	for rest := text; rest != ""; {
		before, after, found := strings.Cut(rest, "{")
		out.WriteString(strings.NewReplacer("%", "%%", "$", "$$").Replace(before))
		if !found {
			break
		}
		inside, behind, closed := strings.Cut(after, "}")
		if !closed {
			return t, nil, fmt.Errorf("a brace of %q is not closed", text)
		}
		rest = behind
		t.holes = append(t.holes, holeOf(inside))
		n := len(t.holes)
		h := t.holes[n-1]
		if h.forms == nil {
			fmt.Fprintf(&out, "%%[%d]s", n)
			continue
		}
		if len(h.forms) != 2 {
			return t, nil, fmt.Errorf("%q has no two forms", inside)
		}
		word := fmt.Sprintf("word%d", n)
		fmt.Fprintf(&out, "${%s}", word)
		messages = append(
			messages,
			catalog.Var(word, plural.Selectf(n, "%d", plural.One, quoted(h.forms[0]), plural.Other, quoted(h.forms[1]))),
		)
	}
	return t, append(messages, catalog.String(out.String())), nil
}

// quoted is a word in which nothing is a hole of x/text's.
func quoted(s string) string { return strings.NewReplacer("%", "%%", "$", "$$").Replace(s) }

func holeOf(inside string) hole {
	if name, forms, ok := strings.Cut(inside, "#"); ok {
		return hole{name: name, forms: strings.Split(forms, "|")}
	}
	name, format, _ := strings.Cut(inside, ":")
	return hole{name: name, format: format}
}

// has reports whether the language says something of its own; the others' English is said instead.
func (l Language) has(c Code) bool { _, ok := l.catalogue().templates[c]; return ok }

// In says a phrase in a language; what that has no words for is said in English.
func (p Phrase) In(l Language) string {
	if p.Code == "" {
		return p.Text
	}
	if !l.has(p.Code) {
		if l = English; !l.has(p.Code) { // of a later version
			return string(p.Code)
		}
	}
	c := l.catalogue()
	holes := c.templates[p.Code].holes
	args := make([]any, len(holes))
	for i, h := range holes {
		args[i] = l.argument(h, p.Values[h.name])
	}
	return c.printer.Sprintf(message.Key(string(p.Code), ""), args...)
}

// Policy says an owner's sentence of a policy, in English where the language has none for it.
func (l Language) Policy(says string) string {
	c := l.catalogue()
	if translated, ok := c.Policy[says]; ok {
		return translated
	}
	for _, p := range c.patterns {
		if m := p.english.FindStringSubmatch(says); m != nil {
			words := p.translated
			for _, value := range m[1:] {
				words = strings.Replace(words, "{}", l.Policy(value), 1)
			}
			return words
		}
	}
	return says
}

// argument is a value as its hole wants it.
func (l Language) argument(h hole, v any) any {
	if h.forms != nil {
		return int(math.Ceil(number(v)))
	}
	var s string
	switch name, enum, _ := strings.Cut(h.format, " "); name {
	case "digits":
		return fmt.Sprint(v)
	case "size":
		return l.Of(number(v), "B")
	case "share":
		return l.Share(number(v))
	case "tenths":
		return strings.Replace(strconv.FormatFloat(number(v), 'f', 1, 64), ".", l.catalogue().Decimal, 1)
	case "bay", "Bay":
		s = Say("bay.name", Values{"n": strings.TrimPrefix(fmt.Sprint(v), "bay-")}).In(l)
		if name == "Bay" {
			s = Capital(s)
		}
		return s
	case "left":
		return Left(time.Duration(number(v) * float64(time.Second)))
	case "day", "shortday", "clock":
		return l.moment(name, fmt.Sprint(v))
	case "word", "lower": // of a code that is made of the value: "check" makes check.extended of extended
		s = Say(Code(enum + "." + l.plain(v))).In(l)
		if !l.has(Code(enum+"."+l.plain(v))) && !English.has(Code(enum+"."+l.plain(v))) {
			s = l.plain(v)
		}
		if name == "lower" && l.index() == 0 {
			s = strings.ToLower(s[:1]) + s[1:]
		}
		return s
	case "capital":
		return Capital(l.plain(v))
	}
	return l.plain(v)
}

// moment writes a time that is a value, RFC 3339.
func (l Language) moment(how, at string) string {
	t, err := time.Parse(time.RFC3339, at)
	switch {
	case err != nil:
		return at
	case how == "clock":
		return t.UTC().Format("15:04:05")
	case how == "shortday":
		return l.ShortDay(t)
	}
	return l.Day(t)
}

// plain is a value without a format: a number with its thousands apart, phrases in words.
func (l Language) plain(v any) string {
	switch v := v.(type) {
	case nil:
		return "?"
	case Phrase:
		return v.In(l)
	case []Phrase:
		all := make([]string, len(v))
		for i := range v {
			all[i] = v[i].In(l)
		}
		return strings.Join(all, "; ")
	case float64:
		return l.Number(v)
	case int, int64, uint, uint64, uint32, json.Number:
		if s := fmt.Sprint(v); strings.Trim(s, "-0123456789") != "" {
			return l.Number(number(v))
		} else if negative, ok := strings.CutPrefix(s, "-"); ok {
			return "-" + Grouped(negative)
		} else {
			return Grouped(s)
		}
	}
	return fmt.Sprint(v)
}

// number is a value as a number, 0 where it is none.
func number(v any) float64 {
	x, err := strconv.ParseFloat(fmt.Sprint(v), 64)
	if err != nil {
		return 0
	}
	return x
}
