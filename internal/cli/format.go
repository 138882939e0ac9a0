package cli

import (
	"io"
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
