package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// Of columns in a table that is wider than its terminal.
const (
	gap       = 2  // between columns
	leastText = 20 // what is left at least of one that is cut short, as long as another can go
	leastWord = 6  // and when none can
)

// dropped are the heads of columns that go first where a terminal is too narrow, in this order. Others go from the right, but for those in
// kept: who it is about, and what was said of it.
var (
	dropped = []string{
		"place", "confidence", "source", "signed", "called", "size", "model", "temperature", "asked", "lot", "customer", "ticket", "state",
		"took", "on average", "powered on", "bench", "doing", "why",
	}
	kept = []string{"drive", "verdict", "now", "signal", "rule", "name", "next", "run", "what"}
)

// width is how many columns a terminal has; 0 when it is none.
func width(w io.Writer) int {
	f, ok := raw(w).(*os.File)
	if s, drawn := raw(w).(*sized); drawn {
		f, ok = s.screen, true
	}
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	columns, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return columns
}

// fit chooses the columns of a table for a terminal so many columns wide, and how wide each may be; 0: as wide as it is. Where all have
// room, they are as they are.
func fit(within int, head []any, rows []table.Row) (columns []int, most map[int]int) {
	wide := make([]int, len(head))
	for n := range head {
		columns = append(columns, n)
		wide[n] = text.LongestLineLen(fmt.Sprint(head[n]))
		for _, row := range rows {
			if n < len(row) {
				wide[n] = max(wide[n], text.LongestLineLen(fmt.Sprint(row[n])))
			}
		}
	}
	for within > 0 {
		if most, ok := cut(within, columns, wide, leastText); ok {
			return columns, most
		}
		n := next(head, columns)
		if n < 0 {
			most, _ = cut(within, columns, wide, leastWord)
			return columns, most
		}
		columns = slices.Delete(columns, n, n+1)
	}
	return columns, nil
}

// cut makes the widest columns narrower until all fit, but none narrower than least; whether they do.
func cut(within int, columns, natural []int, least int) (most map[int]int, fits bool) {
	wide := slices.Clone(natural)
	all := gap * (len(columns) - 1)
	for _, n := range columns {
		all += wide[n]
	}
	most = map[int]int{}
	for ; all > within; all-- {
		widest := slices.MaxFunc(columns, func(a, b int) int { return wide[a] - wide[b] })
		if wide[widest] <= least {
			return most, false
		}
		wide[widest]--
		most[widest] = wide[widest]
	}
	return most, true
}

// next is the place in columns of the one that goes next; -1: all are kept.
func next(head []any, columns []int) int {
	title := func(n int) string { return fmt.Sprint(head[columns[n]]) }
	for _, d := range dropped {
		for n := range columns {
			if title(n) == d {
				return n
			}
		}
	}
	for n := len(columns) - 1; n > 0; n-- { // the first names the row
		if !slices.Contains(kept, title(n)) {
			return n
		}
	}
	return -1
}

// wrapped has a long text go on in the next lines, indented as it is.
func wrapped(s string, most int) string {
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		rest := strings.TrimLeft(line, " ")
		indent := line[:len(line)-len(rest)]
		lines[i] = indent + strings.ReplaceAll(text.WrapSoft(rest, max(1, most-len(indent))), "\n", "\n"+indent)
	}
	return strings.Join(lines, "\n")
}

// short cuts a text that has no room.
func short(s string, most int) string {
	if text.LongestLineLen(s) <= most {
		return s
	}
	return strings.TrimRight(text.Trim(s, most-1), " ") + "…"
}
