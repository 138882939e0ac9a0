package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

// mark is a grade's mark in a terminal; the word stands beside it.
func mark(g contract.Grade) string {
	return map[contract.Grade]string{
		contract.GradeHealthy: "|", contract.GradeDegrading: "/", contract.GradeReplace: "X", contract.GradeUndecided: ":",
	}[g]
}

func grade(g contract.Grade) string { return mark(g) + " " + string(g) }

func number(p *float64, unit string) string {
	if p == nil {
		return "not known"
	}
	return strings.TrimSpace(wording.Number(*p) + " " + unit)
}

// ungrouped takes out what stands between the thousands of a number that was pasted.
func ungrouped(s string) string {
	return strings.NewReplacer(" ", "", "\u00a0", "", "\u202f", "").Replace(s)
}

// plural chooses between the forms of a word.
func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

func optional[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func minute(t time.Time) string { return t.Local().Format("2 Jan 2006, 15:04") }

// left is a time to go, in seconds.
func left(seconds int) string { return wording.Left(time.Duration(seconds) * time.Second) }

// tabular prints rows under a head, without lines; columns named in right are set flush right. In a terminal that is too narrow, columns
// go and texts are cut in a list of drives or bays, a line for each; in other tables long texts go on in the next line.
func tabular(w io.Writer, head []any, rows []table.Row, right ...int) {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.StyleDefault
	style.Box = table.BoxStyle{PaddingRight: strings.Repeat(" ", gap)}
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format = table.FormatOptions{Header: text.FormatDefault, Footer: text.FormatDefault, Row: text.FormatDefault}
	t.SetStyle(style)
	chosen, most := fit(width(w), head, rows)
	list := slices.ContainsFunc(head, func(h any) bool { return h == "drive" || h == "bay" })
	pick := func(row table.Row) (out table.Row) {
		for _, n := range chosen {
			var cell any = ""
			if n < len(row) {
				cell = row[n]
			}
			if to := most[n]; to > 0 && list {
				cell = short(fmt.Sprint(cell), to)
			}
			out = append(out, cell)
		}
		return out
	}
	var columns []table.ColumnConfig
	for at, n := range chosen {
		c := table.ColumnConfig{Number: at + 1}
		if slices.Contains(right, n+1) {
			c.Align, c.AlignHeader = text.AlignRight, text.AlignRight
		}
		if to := most[n]; to > 0 && !list {
			c.WidthMax, c.WidthMaxEnforcer = to, wrapped
		}
		columns = append(columns, c)
	}
	t.SetColumnConfigs(columns)
	t.AppendHeader(pick(head))
	for _, row := range rows {
		t.AppendRow(pick(row))
	}
	t.SuppressTrailingSpaces()
	t.Render()
}
