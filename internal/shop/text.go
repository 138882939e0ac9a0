package shop

import (
	"fmt"
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
