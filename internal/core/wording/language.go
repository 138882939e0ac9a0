package wording

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/text/language"
)

// Language is one that an owner's papers are written in. Its zero value is not said, which reads as English, as technicians read
// everything.
type Language struct{ n int }

// The languages.
var (
	English = Language{1}
	German  = Language{2}
	French  = Language{3}
	Spanish = Language{4}
)

// IsZero reports whether no language is said.
func (l Language) IsZero() bool { return l.n == 0 }

// Or is the language, or another one when it is not said.
func (l Language) Or(other Language) Language {
	if l.IsZero() {
		return other
	}
	return l
}

// index is the language's place in tags and catalogues.
func (l Language) index() int { return max(0, l.n-1) }

// Languages are all of them, English first.
func Languages() []Language { return []Language{English, German, French, Spanish} }

// tags are the languages by BCP 47, in the order of Languages.
var tags = []language.Tag{language.English, language.German, language.French, language.Spanish}

var matcher = sync.OnceValue(func() language.Matcher { return language.NewMatcher(tags) })

// ParseLanguage finds the language of a BCP 47 tag: "de", "de-AT", "fr_CH". Nothing is no language.
func ParseLanguage(tag string) (Language, error) {
	if tag = strings.TrimSpace(tag); tag == "" {
		return Language{}, nil
	}
	t, err := language.Parse(tag)
	if err == nil {
		if _, i, confidence := matcher().Match(t); confidence >= language.High {
			return Language{i + 1}, nil
		}
	}
	return Language{}, fmt.Errorf("%q is none of the languages en, de, fr and es", tag)
}

// String is the language's tag: en, de, fr or es.
func (l Language) String() string { return tags[l.index()].String() }

// MarshalText writes the tag; nothing for one that is not said.
func (l Language) MarshalText() ([]byte, error) {
	if l.IsZero() {
		return nil, nil
	}
	return []byte(l.String()), nil
}

// UnmarshalText reads a tag.
func (l *Language) UnmarshalText(b []byte) (err error) {
	*l, err = ParseLanguage(string(b))
	return err
}

// Day writes a date in full: 2 January 2006.
func (l Language) Day(t time.Time) string {
	c := l.catalogue()
	day := fmt.Sprint(t.Day())
	if t.Day() == 1 && c.First != "" {
		day = c.First
	}
	return strings.NewReplacer("{day}", day, "{month}", c.Months[t.Month()-1], "{year}", fmt.Sprint(t.Year())).Replace(c.Day)
}

// ShortDay writes a date where there is little room: 2 Jan 2006 in English, 02.01.2006 in German.
func (l Language) ShortDay(t time.Time) string { return t.Format(l.catalogue().ShortDay) }

// Month writes a month: January 2006.
func (l Language) Month(t time.Time) string {
	c := l.catalogue()
	return strings.NewReplacer("{month}", c.Months[t.Month()-1], "{year}", fmt.Sprint(t.Year())).Replace(c.MonthOf)
}
