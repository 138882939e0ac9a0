// Package quantity writes numbers for people, the same in every room: thousands apart, units behind.
package quantity

import (
	"math"
	"strconv"
	"strings"
)

// Number writes a number with U+00A0 between thousands, and with one decimal when that is not 0.
func Number(x float64) string {
	s := strings.TrimSuffix(strconv.FormatFloat(x, 'f', 1, 64), ".0")
	s, negative := strings.CutPrefix(s, "-")
	whole, fraction, broken := strings.Cut(s, ".")
	out := Grouped(whole)
	if negative && s != "0" {
		out = "-" + out
	}
	if broken {
		out += "." + fraction
	}
	return out
}

// Grouped puts U+00A0 between the thousands of a whole number, however long: 128-bit counters fit no other type. What is no
// whole number stays as it is.
func Grouped(digits string) string {
	if strings.Trim(digits, "0123456789") != "" {
		return digits
	}
	var b strings.Builder
	for i, r := range digits {
		if i > 0 && (len(digits)-i)%3 == 0 {
			b.WriteRune('\u00A0')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Of writes a number with its unit; bytes in decimal units with one decimal, as on a label.
func Of(x float64, unit string) string {
	if unit != "B" {
		return strings.TrimSpace(Number(x) + " " + unit)
	}
	for _, larger := range []string{"kB", "MB", "GB", "TB"} {
		if x < 999.5 {
			break
		}
		x, unit = x/1000, larger
	}
	return Number(x) + " " + unit
}

// Singular is the unit as one of it is called.
func Singular(unit string, n float64) string {
	if n == 1 {
		return strings.TrimSuffix(unit, "s")
	}
	return unit
}

// Pace writes how many events of growth a day there are at least, over a time that people can picture; empty where that is next to none.
func Pace(day float64) string {
	n := math.Floor(day*600) / 10
	if n == 0 {
		return ""
	}
	return Of(n, Singular("events", n)) + " or more in 60 days"
}
