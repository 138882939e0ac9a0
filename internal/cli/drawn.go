package cli

import (
	"fmt"
	"io"
	"math"
	"os"
	"strings"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
)

// What a terminal draws with: heights of a line, and shades of a ribbon, from not swept to unreadable. A terminal of another character set
// than Unicode has plain ones.
var (
	heights = [2][]rune{[]rune("▁▂▃▄▅▆▇█"), []rune("_.-=^")}
	shades  = [2][]rune{[]rune("·░▒▓█"), []rune(" .oO#")}
)

// What a ribbon's cell shows.
const (
	shadeNone = iota
	shadeRead
	shadeSlow
	shadeSlower
	shadeUnread
)

// drawing chooses by the character set that the environment tells; none told is Unicode's.
func drawing(of [2][]rune) []rune {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if set := os.Getenv(name); set != "" {
			if set = strings.ToLower(set); strings.Contains(set, "utf-8") || strings.Contains(set, "utf8") {
				break
			}
			return of[1]
		}
	}
	return of[0]
}

// courseMarks is how long a signal's course is in a table.
const courseMarks = 16

// sparkline draws a signal's course, one mark for each of so many stretches of the drive's life; where its values stand still, at the
// bottom. Hours that are not known are taken to be evenly apart.
func sparkline(s contract.Signal, marks int) string {
	values := s.Values
	if len(values) < 2 || len(s.Hours) != len(values) || marks < 8 {
		return ""
	}
	low, high := values[0], values[0]
	for _, v := range values {
		low, high = math.Min(low, v), math.Max(high, v)
	}
	steps := drawing(heights)
	place := placesOf(s, marks)
	course := make([]rune, marks)
	last := values[0]
	at := 0
	for n := range course {
		for at < len(values) && place[at] <= n {
			last = values[at]
			at++
		}
		step := 0
		if high > low {
			step = int(math.Round((last - low) / (high - low) * float64(len(steps)-1)))
		}
		course[n] = steps[step]
	}
	return string(course)
}

// spanOf is what stands below a course: from when to when, over so many marks.
func spanOf(s contract.Signal, marks int) string {
	from, to := hoursOf(s.Hours[0]), hoursOf(s.Hours[len(s.Hours)-1])
	return from + strings.Repeat(" ", max(1, marks-len([]rune(from))-len([]rune(to)))) + to
}

func hoursOf(h float64) string {
	if h < 0 {
		return "?"
	}
	return wording.Number(h) + " h"
}

// placesOf is in which of so many stretches of the drive's life each value of a signal lies.
func placesOf(s contract.Signal, marks int) []int {
	n := len(s.Values)
	by := func(i int) float64 { return float64(i) }
	span := float64(n - 1)
	if len(s.Hours) == n && s.Hours[0] >= 0 && s.Hours[n-1] > s.Hours[0] {
		by = func(i int) float64 { return s.Hours[i] - s.Hours[0] }
		span = s.Hours[n-1] - s.Hours[0]
	}
	place := make([]int, n)
	for i := range place {
		x := by(i)
		if x < 0 || x > span || math.IsNaN(x) { // its count went back
			x = float64(i) / float64(n-1) * span
		}
		place[i] = int(x / span * float64(marks-1))
		if i > 0 {
			place[i] = max(place[i], place[i-1])
		}
	}
	return place
}

// ribbonCells are the shades of a sweep's cells.
func ribbonCells(s contract.Sweep) []uint8 {
	cells := make([]uint8, s.Cells)
	for _, seg := range s.Segments {
		for i, c := range []byte(seg.Classes) {
			if at := seg.First + i; at < len(cells) && c >= '0' && c <= '9' {
				switch class := c - '0'; {
				case class > surface.SlowFrom:
					cells[at] = shadeSlower
				case class == surface.SlowFrom:
					cells[at] = shadeSlow
				default:
					cells[at] = shadeRead
				}
			}
		}
		for _, u := range seg.Unread {
			if u.Cell < len(cells) && u.Cell >= 0 {
				cells[u.Cell] = shadeUnread
			}
		}
	}
	return cells
}

// shaded draws cells in so many marks, each the worst of its stretch.
func shaded(cells []uint8, marks int) string {
	marks = max(0, min(marks, len(cells))) // a terminal may not know how wide it is
	of := drawing(shades)
	out := make([]rune, marks)
	for n := range out {
		worst := uint8(shadeNone)
		for _, c := range cells[n*len(cells)/marks : (n+1)*len(cells)/marks] {
			worst = max(worst, c)
		}
		out[n] = of[worst]
	}
	return string(out)
}

// Of the ribbon that sweep show draws.
const (
	ribbonRows  = 8
	ribbonLabel = 10
	ribbonMost  = 128
)

// printRibbon draws a sweep from its first to its last sector in rows, on a terminal.
func printRibbon(w io.Writer, s contract.Sweep) {
	across := min(width(w)-ribbonLabel, ribbonMost)
	if across < 16 || s.Cells < ribbonRows || len(s.Segments) == 0 {
		return
	}
	cells := ribbonCells(s)
	bytes := float64(s.Standing.Sectors) * float64(s.Standing.Logical)
	for row := range ribbonRows {
		from, to := row*len(cells)/ribbonRows, (row+1)*len(cells)/ribbonRows
		at := wording.Size(int64(bytes * float64(row) / ribbonRows))
		if row == 0 {
			at = "0"
		}
		_, _ = fmt.Fprintf(w, "%*s  %s\n", ribbonLabel-2, at, shaded(cells[from:to], across))
	}
	of := drawing(shades)
	_, _ = fmt.Fprintf(
		w, "%*s  %c read  %c slow  %c slower  %c unreadable  %c not read\n", ribbonLabel-2, "",
		of[shadeRead], of[shadeSlow], of[shadeSlower], of[shadeUnread], of[shadeNone],
	)
}
