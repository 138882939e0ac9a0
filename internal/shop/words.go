package shop

import (
	"fmt"
	"math"
	"strings"
)

// Tidy trims texts a person gave, and refuses one that is too long.
func Tidy(texts ...*string) error {
	for _, t := range texts {
		if *t = strings.TrimSpace(*t); len(*t) > longestText {
			return &Invalid{What: fmt.Sprintf("a text is longer than %d bytes", longestText), Advice: "Shorten it."}
		}
	}
	return nil
}

// longestText is how long a text about an intake may be, in bytes.
const longestText = 500

// Percent puts a share into words. It rounds down: all of it is all of it.
func Percent(share float64) string {
	switch p := 100 * share; {
	case p > 0 && p < 0.1:
		return "under 0.1 %"
	case p < 10:
		return fmt.Sprintf("%.1f %%", math.Floor(10*p)/10)
	default:
		return fmt.Sprintf("%.0f %%", math.Floor(p))
	}
}

func Capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
