package dialect

import (
	"fmt"
	"testing"
	"time"

	"hylostat.example/internal/vector"
)

// Where what is concluded of a clock changes, as one number goes through a range and all else stays: testdata/hours.txt.
func TestWhereTheConclusionOfAClockChanges(t *testing.T) {
	b := vector.Open(t, "hours.txt")
	begin := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	at := func(hours, raw, counted, stamp, cycles float64) HoursAt {
		return HoursAt{
			At: begin.Add(time.Duration(hours * float64(time.Hour))), Raw: raw, Counted: counted, Stamp: stamp, Cycles: cycles,
		}
	}
	scan := func(name string, from, to, step float64, of func(x float64) []HoursAt) {
		for _, says := range []Layout{Hours, Minutes, HalfMinutes, Seconds} {
			for _, sure := range []bool{false, true} {
				b.Head(fmt.Sprintf("%s; said to be %v, sure %v", name, says, sure))
				last := ""
				for x := from; x <= to; x += step {
					h := ConcludeHours(says, sure, of(x))
					if is := fmt.Sprintf("%v", h.Hours); is != last {
						b.Line("from %g: %v %s", x, h.Hours, h.Why)
						last = is
					}
				}
			}
		}
	}
	const none = -1
	scan(
		"one reading of 60 000, counted x hours", 0, 1100, 0.5,
		func(x float64) []HoursAt { return []HoursAt{at(0, 60_000, x, none, none)} },
	)
	scan("one reading of x, counted 20 hours", 0, 3000, 1, func(x float64) []HoursAt { return []HoursAt{at(0, x, 20, none, none)} })
	scan(
		"one reading of x, counted 1 000 hours", 0, 130_000, 10,
		func(x float64) []HoursAt { return []HoursAt{at(0, x, 1000, none, none)} },
	)
	scan("one reading of 600, a stamp of x hours", 0, 2000, 1, func(x float64) []HoursAt { return []HoursAt{at(0, 600, none, x, none)} })
	scan(
		"one reading of x, a stamp of 500 hours", 0, 200_000, 10,
		func(x float64) []HoursAt { return []HoursAt{at(0, x, none, 500, none)} },
	)
	scan("one reading of x, a stamp of 99 hours", 0, 20_000, 10, func(x float64) []HoursAt { return []HoursAt{at(0, x, none, 99, none)} })
	scan("x in two hours, powered all along", 0, 8000, 1, func(x float64) []HoursAt {
		return []HoursAt{at(0, 100, none, none, 7), at(2, 100+x, none, none, 7)}
	})
	scan("x in two hours, with a power cycle", 0, 8000, 1, func(x float64) []HoursAt {
		return []HoursAt{at(0, 100, none, none, 7), at(2, 100+x, none, none, 8)}
	})
	scan("120 in x minutes", 1, 600, 1, func(x float64) []HoursAt {
		return []HoursAt{at(0, 100, none, none, none), at(x/60, 220, none, none, none)}
	})
	scan("120 in an hour twice, then x in one", 0, 1000, 1, func(x float64) []HoursAt {
		return []HoursAt{
			at(0, 100, none, none, none), at(1, 220, none, none, none), at(2, 340, none, none, none), at(3, 340+x, none, none, none),
		}
	})
	scan("two stamps that came between readings, the second at x hours", 0, 3000, 1, func(x float64) []HoursAt {
		return []HoursAt{at(0, 60_000, none, 900, none), at(10_000, 66_000, none, 1050, none), at(20_000, 72_000, none, x, none)}
	})
	scan("a first stamp of x hours, then two more", -2, 1200, 1, func(x float64) []HoursAt {
		return []HoursAt{at(0, 60_000, none, x, none), at(10_000, 66_000, none, 1050, none), at(20_000, 72_000, none, 1150, none)}
	})
	scan("a count of x between two that agree", 0, 4000, 1, func(x float64) []HoursAt {
		return []HoursAt{at(0, 1000, none, none, none), at(5, x, none, none, none), at(10, 1010, none, none, none)}
	})
	scan("a count of x at first", 0, 3, 1, func(x float64) []HoursAt {
		return []HoursAt{at(0, x, none, none, 7), at(2, 1000, none, none, 7), at(4, 1002, none, none, 7)}
	})

	b.Head("normalised values as numbers")
	for _, invert := range []bool{false, true} {
		last := ""
		for v := range 256 {
			q := Decode(Entry{Take: TakeValue, Invert: invert}, [6]byte{}, uint8(v))
			if is := fmt.Sprint(q.Known); is != last {
				b.Line("inverted %v, from %d: known %v, %d", invert, v, q.Known, q.Number)
				last = is
			}
		}
	}
	b.Head("the shape of a model number")
	letters := ""
	for r := rune(' '); r < 0x80; r++ {
		letters += string(r)
	}
	b.Line("%s\n%s", letters, Subject{Model: letters}.Shape())
	b.Close()
}
