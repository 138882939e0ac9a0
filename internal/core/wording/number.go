package wording

import (
	"math"
	"strconv"
	"strings"
	"time"
)

// The rules of numbers stand here and in the console's data/numbers.ts; testdata/numbers.json holds both to the same results.

// Number writes a number with U+00A0 between thousands (ISO 80000-1, 7.3), and with one decimal when that is not 0.
func (l Language) Number(x float64) string {
	s := strings.TrimSuffix(strconv.FormatFloat(x, 'f', 1, 64), ".0")
	s, negative := strings.CutPrefix(s, "-")
	whole, fraction, broken := strings.Cut(s, ".")
	out := Grouped(whole)
	if negative && s != "0" {
		out = "-" + out
	}
	if broken {
		out += l.catalogue().Decimal + fraction
	}
	return out
}

// Number is Language.Number in English.
func Number(x float64) string { return English.Number(x) }

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

// scaled brings a number of bytes to the decimal unit it is best told in.
func scaled(bytes float64) (float64, string) {
	unit := "B"
	for _, larger := range []string{"kB", "MB", "GB", "TB"} {
		if bytes < 999.5 {
			break
		}
		bytes, unit = bytes/1000, larger
	}
	return bytes, unit
}

// Of writes a number with its unit; bytes in decimal units with one decimal.
func (l Language) Of(x float64, unit string) string {
	if unit == "B" {
		x, unit = scaled(x)
	}
	return strings.TrimSpace(l.Number(x) + " " + unit)
}

// Of is Language.Of in English.
func Of(x float64, unit string) string { return English.Of(x, unit) }

// Size writes a capacity as on a label: a decimal only below ten.
func (l Language) Size(bytes float64) string {
	x, unit := scaled(bytes)
	if x >= 10 {
		x = math.Round(x)
	}
	return l.Number(x) + " " + unit
}

// Size is Language.Size in English.
func Size[N int64 | uint64 | float64](bytes N) string { return English.Size(float64(bytes)) }

// Share writes a share of 1 in per cent. It rounds down: all of it is all of it.
func (l Language) Share(share float64) string {
	switch p := 100 * share; {
	case p > 0 && p < 0.1:
		return Say(shareUnder, Values{"n": l.Number(0.1)}).In(l)
	case p < 10:
		return strings.Replace(strconv.FormatFloat(math.Floor(10*p)/10, 'f', 1, 64), ".", l.catalogue().Decimal, 1) + " %"
	default:
		return strconv.FormatFloat(math.Floor(p), 'f', 0, 64) + " %"
	}
}

// Share is Language.Share in English.
func Share(share float64) string { return English.Share(share) }

// Left writes a time to go, to the second, the minute, or hours and minutes.
func Left(d time.Duration) string {
	seconds := max(0, math.Round(d.Seconds()))
	minutes := int(math.Round(seconds / 60))
	switch {
	case seconds < 60:
		return strconv.Itoa(int(seconds)) + " s"
	case minutes < 60:
		return strconv.Itoa(minutes) + " min"
	case minutes%60 == 0:
		return Number(float64(minutes/60)) + " h"
	}
	return Number(float64(minutes/60)) + " h " + strconv.Itoa(minutes%60) + " min"
}

// Serial writes a serial as people read it: the last five characters, which they read out, apart.
func Serial(serial string) string {
	if r := []rune(serial); len(r) > 7 {
		return string(r[:len(r)-5]) + " " + string(r[len(r)-5:])
	}
	return serial
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

// Capital begins a sentence.
func Capital(s string) string {
	r := []rune(s)
	if len(r) == 0 {
		return s
	}
	return strings.ToUpper(string(r[:1])) + string(r[1:])
}
