package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/quantity"
)

// mark is a grade's mark in a terminal; the word stands beside it.
func mark(g contract.Grade) string {
	return map[contract.Grade]string{contract.GradeHealthy: "|", contract.GradeDegrading: "/", contract.GradeReplace: "X", contract.GradeUndecided: ":"}[g]
}

func grade(g contract.Grade) string { return mark(g) + " " + string(g) }

// shown is a serial as people read it: the last five characters apart.
func shown(serial string) string {
	if len(serial) > 7 {
		return serial[:len(serial)-5] + " " + serial[len(serial)-5:]
	}
	return serial
}

// size is a capacity in decimal units, as on the label.
func size(bytes int64) string {
	x, unit := float64(bytes), "B"
	for _, u := range []string{"kB", "MB", "GB", "TB"} {
		if x < 999.5 {
			break
		}
		x, unit = x/1000, u
	}
	if x >= 10 || x == float64(int64(x)) {
		return fmt.Sprintf("%.0f %s", x, unit)
	}
	return strings.Replace(fmt.Sprintf("%.1f %s", x, unit), ".0 ", " ", 1)
}

func number(p *float64, unit string) string {
	if p == nil {
		return "not known"
	}
	return strings.TrimSpace(quantity.Number(*p) + " " + unit)
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

// left is a time to go, in words.
func left(seconds int) string {
	switch d := time.Duration(seconds) * time.Second; {
	case d < time.Minute:
		return fmt.Sprintf("%d s", seconds)
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Round(time.Minute).Minutes()))
	default:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	}
}

// tabular prints rows under a head, without lines; columns named in right are set flush right.
func tabular(w io.Writer, head []any, rows []table.Row, right ...int) {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.StyleDefault
	style.Box = table.BoxStyle{PaddingRight: "  "}
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format = table.FormatOptions{Header: text.FormatDefault, Footer: text.FormatDefault, Row: text.FormatDefault}
	t.SetStyle(style)
	var columns []table.ColumnConfig
	for _, n := range right {
		columns = append(columns, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(columns)
	t.AppendHeader(head)
	t.AppendRows(rows)
	t.SuppressTrailingSpaces()
	t.Render()
}
