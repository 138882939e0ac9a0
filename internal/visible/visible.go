// Package visible makes texts that drives, files and people gave harmless where they are shown: whatever would move a cursor, turn the
// direction of writing, or be seen by nobody, stands there as the escape that Go and JSON have for it. Start with Line.
package visible

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// shown reports whether a character is one that is seen, or a space between those. The joiners that some scripts need to write a word are
// seen by what they do.
func shown(r rune) bool {
	return unicode.IsPrint(r) || unicode.Is(unicode.Zs, r) || r == '\u200c' || r == '\u200d'
}

// Line is a text on one line: for logs, cells, names and messages.
func Line(s string) string { return escaped(s, "") }

// Text is a text of lines, with its breaks and tabs.
func Text(s string) string { return escaped(s, "\n\t") }

func escaped(s, kept string) string {
	if clean(s, kept) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			_, _ = fmt.Fprintf(&b, `\x%02x`, s[i])
		case shown(r) || strings.ContainsRune(kept, r):
			b.WriteRune(r)
		default:
			b.WriteString(escape(r))
		}
		i += n
	}
	return b.String()
}

func clean(s, kept string) bool {
	return utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool { return !shown(r) && !strings.ContainsRune(kept, r) })
}

func escape(r rune) string {
	switch {
	case r < 0x80:
		return fmt.Sprintf(`\x%02x`, r)
	case r <= 0xFFFF:
		return fmt.Sprintf(`\u%04x`, r)
	}
	return fmt.Sprintf(`\U%08x`, r)
}

// JSON is a document (RFC 8259) in which each character that is not seen stands escaped; what it says is the same.
func JSON(document string) string {
	if clean(document, "\n\t\r") {
		return document
	}
	var b strings.Builder
	for _, r := range document {
		switch {
		case shown(r) || r == '\n' || r == '\t' || r == '\r':
			b.WriteRune(r)
		case r <= 0xFFFF:
			_, _ = fmt.Fprintf(&b, `\u%04x`, r)
		default: // a pair of surrogates
			high, low := 0xD800+(r-0x10000)>>10, 0xDC00+(r-0x10000)&0x3FF
			_, _ = fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		}
	}
	return b.String()
}

// File is a name that is a file's on any system: one line, without what separates folders, and not too long.
func File(s string) string {
	s = strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|`, r) {
			return '_'
		}
		return r
	}, Line(strings.ReplaceAll(s, `\`, "_")))
	s = strings.Trim(strings.ReplaceAll(s, `\`, "_"), " .")
	for len(s) > mostName {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	if s == "" {
		return "_"
	}
	return s
}

// mostName is how many bytes a file's name has at most, with room for an ending.
const mostName = 200
