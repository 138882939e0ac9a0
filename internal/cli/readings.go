package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func readingCommands() *cli.Command {
	return &cli.Command{
		Name: "reading", Usage: "what a drive says of itself", Category: "drives",
		Commands: []*cli.Command{
			{
				Name:        "take",
				Usage:       "take a reading now",
				ArgsUsage:   "DRIVE",
				Description: "Example:\n   hylostat reading take 7M4Q2",
				Flags: []cli.Flag{
					&cli.BoolFlag{
						Name:  "attachments",
						Usage: "read, too, the long logs that only the maker's support can read; they are kept as they are",
					},
				},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					o := contract.ReadingRequest{By: c.by()}
					if c.Bool("attachments") {
						yes := true
						o.Attachments = &yes
					}
					r, err := c.TakeReading(ctx, c.arg(0), o)
					if err != nil {
						return err
					}
					return c.show(r, func(w io.Writer) { printReading(w, r) })
				}),
			},
			{
				Name: "list", Usage: "all readings of a drive", ArgsUsage: "DRIVE", Description: "Example:\n   hylostat reading list 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.Readings(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						printReadings(w, all)
					})
				}),
			},
			{
				Name:      "show",
				Usage:     "a reading in words",
				ArgsUsage: "DRIVE [NUMBER]",
				Description: "Without a number, the latest.\n\nExamples:\n   hylostat reading show 7M4Q2 3\n   hylostat reading " +
					"show 7M4Q2 --raw",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "raw", Usage: "with the bytes of every page as the drive sent them"}},
				Action: action(1, 2, func(ctx context.Context, c call) error {
					seq := "latest"
					if n, err := c.seq(1); err != nil {
						return err
					} else if n != nil {
						seq = strconv.Itoa(*n)
					}
					r, err := c.Reading(ctx, c.arg(0), seq, c.Bool("raw"))
					if err != nil {
						return err
					}
					return c.show(r, func(w io.Writer) {
						printReading(w, r)
						if c.Bool("raw") {
							printPages(w, r.Pages)
						}
					})
				}),
			},
			standReading(
				"accept", "have a reading count: one that was set aside since its time lay ahead, or that was retracted",
				"With --at it is of that time. It is kept with the audit who said so, and why.\n\nExample:\n   hylostat reading "+
					"accept 7M4Q2 3 "+
					"--at 2026-10-02T09:30 --why \"the clock of that machine was wrong\"", true,
			),
			standReading(
				"retract", "have a reading not count: it neither judges nor is the latest, and is shown as retracted",
				"Nothing of it is lost, and it can be accepted again.\n\nExample:\n   hylostat reading retract 7M4Q2 3 "+
					"--why \"it is of another drive\"", false,
			),
			{
				Name:      "compare",
				Usage:     "two readings side by side",
				ArgsUsage: "DRIVE [THEN [NOW]]",
				Description: "Without numbers: the last one before the present visit, and the latest.\n\nExample:\n   hylostat " +
					"reading compare 7M4Q2 1 10",
				Action: action(1, 3, func(ctx context.Context, c call) error {
					then, err := c.seq(1)
					if err != nil {
						return err
					}
					now, err := c.seq(2)
					if err != nil {
						return err
					}
					x, err := c.Compare(ctx, c.arg(0), then, now)
					if err != nil {
						return err
					}
					return c.show(x, func(w io.Writer) { printComparison(w, x) })
				}),
			},
		},
	}
}

// seq reads an optional reading number.
func (c call) seq(n int) (*int, error) {
	if c.arg(n) == "" {
		return nil, nil //nolint:nilnil // absent is a value here
	}
	var seq int
	if _, err := fmt.Sscanf(c.arg(n), "%d", &seq); err != nil || seq < 1 {
		return nil, &usage{fmt.Sprintf("%q is no reading number", c.arg(n))}
	}
	return &seq, nil
}

func printReadings(w io.Writer, all []contract.ReadingSummary) {
	rows := make([]table.Row, len(all))
	for i, r := range all {
		rows[i] = table.Row{
			r.Seq,
			minute(r.At),
			number(r.Hours, "h"),
			number(r.Temperature, "°C"),
			strings.TrimPrefix(strings.ReplaceAll(optional(r.Step), "_", " ")+standing(r.Aside, r.Said, r.Origin)+folded(r.Folded), ", "),
		}
	}
	tabular(w, []any{"reading", "when", "powered on", "temperature", ""}, rows, 1, 3, 4)
}

// folded says how many readings before one are kept as their times alone.
func folded(n *int) string {
	if optional(n) == 0 {
		return ""
	}
	return fmt.Sprintf(", after %s that only moved clocks and temperatures", counted(*n, "reading", "readings"))
}

// standing says why a reading does not count, that its time is not the one it came with, and by whom a file was signed that it came in.
func standing(aside *contract.ReadingAside, said *time.Time, origin *string) string {
	words := map[contract.ReadingAside]string{
		contract.ReadingAhead: ", set aside: its time lies ahead", contract.ReadingRetracted: ", retracted",
	}[optional(aside)]
	if said != nil {
		words += ", its clock said " + minute(*said)
	}
	switch key := optional(origin); {
	case key == "":
	case strings.HasPrefix(key, "unsigned"):
		words += ", from a file: " + key
	default:
		words += ", from a file signed by " + key
	}
	return words
}

func standReading(name, about, description string, counts bool) *cli.Command {
	flags := []cli.Flag{&cli.StringFlag{Name: "why", Usage: "`TEXT`: the reason, kept with the audit"}}
	if counts {
		flags = append(flags, &cli.StringFlag{Name: "at", Usage: "`TIME` at which it was taken, as 2026-10-02T09:30"})
	}
	return &cli.Command{
		Name: name, Usage: about, ArgsUsage: "DRIVE NUMBER", Description: description, Flags: flags,
		Action: action(2, 2, func(ctx context.Context, c call) error {
			n, err := c.seq(1)
			if err != nil {
				return err
			}
			to := contract.ReadingStanding{By: c.by(), Counts: counts, Why: c.String("why")}
			if to.Why == "" {
				return &usage{"say why, with --why"}
			}
			if text := c.String("at"); text != "" {
				at, err := time.ParseInLocation("2006-01-02T15:04", text, time.Local)
				if err != nil {
					return &usage{fmt.Sprintf("%q is no time, as 2026-10-02T09:30", text)}
				}
				to.At = &at
			}
			r, err := c.StandReading(ctx, c.arg(0), *n, to)
			if err != nil {
				return err
			}
			return c.show(r, func(w io.Writer) { printReadings(w, []contract.ReadingSummary{r}) })
		}),
	}
}

func printReading(w io.Writer, r contract.Reading) {
	_, _ = fmt.Fprintf(
		w, "reading %d, %s, %s powered on, took %d ms%s\nthe drive's own alarm: %s\n", r.Seq, minute(r.At), number(r.Hours, "h"),
		r.TookMs, standing(r.Aside, r.Said, r.Origin), r.Alarm,
	)
	if len(r.Attributes) > 0 {
		_, _ = fmt.Fprintf(w, "family: %s\n", r.Family)
	}
	if len(r.Attributes) > 0 {
		_, _ = fmt.Fprintln(w)
		rows := make([]table.Row, len(r.Attributes))
		for i, a := range r.Attributes {
			threshold := "none"
			if optional(a.Threshold) > 0 {
				threshold = fmt.Sprint(*a.Threshold)
			}
			state := map[contract.AttributeState]string{"failing": "AT ITS THRESHOLD", "fell": "was at its threshold"}[a.State]
			rows[i] = table.Row{a.Offset, a.Id, a.Name, a.Meaning, a.Value, a.Worst, threshold, a.Raw, state}
		}
		tabular(w, []any{"byte", "no.", "counter", "now", "value", "worst", "threshold", "raw", ""}, rows, 1, 2, 5, 6, 7)
	}
	if len(r.Statistics) > 0 {
		_, _ = fmt.Fprintln(w)
		rows := make([]table.Row, len(r.Statistics))
		for i, s := range r.Statistics {
			value := "not available"
			if s.Value != nil {
				value = strings.TrimSpace(wording.Number(float64(*s.Value)) + " " + s.Unit)
			}
			rows[i] = table.Row{s.Offset, s.Name, value}
		}
		tabular(w, []any{"byte", "device statistic", "now"}, rows, 1, 3)
	}
	if len(r.SelfTests) > 0 {
		_, _ = fmt.Fprintln(w)
		rows := make([]table.Row, len(r.SelfTests))
		for i, t := range r.SelfTests {
			lba := "none"
			if t.Lba != nil {
				lba = wording.Number(float64(*t.Lba))
			}
			hours := wording.Number(float64(t.Hours)) + " h"
			if optional(t.OrMore) {
				hours += " or more"
			}
			rows[i] = table.Row{t.Offset, hours, t.Kind, t.Result, lba}
		}
		tabular(w, []any{"byte", "hours", "self-test", "result", "first failing LBA"}, rows, 1, 2, 5)
	}
	printErrors(w, r)
	for _, s := range r.Sheets {
		printSheet(w, s)
	}
	for _, f := range r.Faults {
		_, _ = fmt.Fprintf(w, "\nnot available: %s: %s. %s\n", f.What, f.Back, f.Advice)
	}
}

func printErrors(w io.Writer, r contract.Reading) {
	if len(r.Errors) == 0 {
		return
	}
	_, _ = fmt.Fprintln(w)
	var rows []table.Row
	for _, e := range r.Errors {
		hours, lba := "not known", "none"
		if e.Hours != nil {
			hours = wording.Number(float64(*e.Hours)) + " h"
		}
		if e.Lba != nil {
			lba = wording.Number(float64(*e.Lba))
		}
		meaning := e.Meaning
		if e.Host {
			meaning += "; the host's doing"
		}
		rows = append(rows, table.Row{e.Offset, hours, e.Command, meaning, lba})
		for _, b := range e.Before[:max(0, len(e.Before)-1)] {
			rows = append(rows, table.Row{"", "", "  before: " + b, "", ""})
		}
	}
	tabular(w, []any{"byte", "hours", "command that failed", "what came back", "LBA"}, rows, 1, 2, 5)
}

// printSheet prints what one page says, each fact with the byte it begins at.
func printSheet(w io.Writer, s contract.Sheet) {
	if len(s.Facts) == 0 {
		return
	}
	_, _ = fmt.Fprintf(w, "\n%s (%s)\n", s.Title, s.Page)
	rows := make([]table.Row, len(s.Facts))
	for i, f := range s.Facts {
		value := "not available: " + optional(f.Reason)
		if f.Value != nil {
			value = *f.Value
			if optional(f.Number) {
				value = wording.Grouped(value)
			}
			if f.Unit != "" {
				value += " " + f.Unit
			}
		}
		rows[i] = table.Row{f.Offset, f.Name, value}
	}
	tabular(w, []any{"byte", "fact", "now"}, rows, 1)
}

// printPages prints pages as they came. Lines that repeat the one before are left out, and said to be.
func printPages(w io.Writer, pages []contract.Page) {
	for _, p := range pages {
		how := ""
		if p.How != "" {
			how = ", by " + p.How
		}
		_, _ = fmt.Fprintf(w, "\n%s (%s)%s\n", p.Title, p.Name, how)
		if p.Fault != nil {
			_, _ = fmt.Fprintf(w, "not available: %s\n", p.Fault.Back)
			continue
		}
		before, skipped := "", 0
		bytes := optional(p.Bytes)
		for at := 0; at < len(bytes); at += 16 {
			line := fmt.Sprintf("% x", bytes[at:min(at+16, len(bytes))])
			if line == before {
				skipped++
				continue
			}
			if skipped > 0 {
				_, _ = fmt.Fprintf(w, "      %d lines the same\n", skipped)
			}
			_, _ = fmt.Fprintf(w, "%4d  %s\n", at, line)
			before, skipped = line, 0
		}
		if skipped > 0 {
			_, _ = fmt.Fprintf(w, "      %d lines the same\n", skipped)
		}
	}
}

// printSignals prints what there is with its source and place, then what disagrees, then what is not there by its reason.
func printSignals(w io.Writer, all contract.Signals) {
	var rows []table.Row
	drawn := width(w) > 0
	var disagreeing []string
	missing := map[string][]string{}
	var reasons []string
	for _, s := range all.Signals {
		if s.Value == nil {
			reason := optional(s.Reason)
			if len(missing[reason]) == 0 {
				reasons = append(reasons, reason)
			}
			missing[reason] = append(missing[reason], s.Words)
			continue
		}
		place := ""
		if s.Length != nil {
			place = fmt.Sprintf("%s, byte %d", optional(s.Page), optional(s.Offset))
		}
		margin := s.Usual
		if s.Margin != nil {
			margin = s.Margin.Words
		}
		row := table.Row{s.Words, wording.Of(*s.Value, s.Unit)}
		if drawn {
			row = append(row, sparkline(s, courseMarks))
		}
		rows = append(rows, append(row, margin, optional(s.Source), optional(s.Confidence), place))
		if s.Disagrees != nil {
			disagreeing = append(disagreeing, fmt.Sprintf("%s %s, %s", s.Words, wording.Of(*s.Value, s.Unit), *s.Disagrees))
		}
	}
	head := []any{"signal", "now", "limit or usual", "source", "confidence", "place"}
	if drawn {
		head = slices.Insert(head, 2, any("over its life"))
	}
	tabular(w, head, rows, 2)
	if len(disagreeing) > 0 {
		_, _ = fmt.Fprintf(w, "\nSources disagree: %s.\n", strings.Join(disagreeing, "; "))
	}
	for _, reason := range reasons {
		_, _ = fmt.Fprintf(w, "\nNot available, %s: %s.\n", reason, strings.Join(missing[reason], ", "))
	}
}

// amount is a signal's value; the unit stands beside its name, except for bytes.
func amount(p *float64, unit string) string {
	switch {
	case p == nil:
		return "not available"
	case unit == "B":
		return wording.Of(*p, unit)
	}
	return wording.Number(*p)
}

func printComparison(w io.Writer, x contract.Comparison) {
	if optional(x.Swapped) {
		_, _ = fmt.Fprintf(w, "Reading %d is the earlier one: they are compared the other way round.\n", x.Before.Seq)
	}
	_, _ = fmt.Fprintf(
		w, "then  reading %d, %s, %s\nnow   reading %d, %s, %s\n\n", x.Before.Seq, minute(x.Before.At),
		number(x.Before.Hours, "h"), x.Now.Seq, minute(x.Now.At), number(x.Now.Hours, "h"),
	)
	var rows []table.Row
	var missing []string
	for _, d := range x.Rows {
		if d.Now == nil {
			missing = append(missing, fmt.Sprintf("%s (%s)", d.Words, optional(d.Reason)))
			continue
		}
		name := d.Words
		if d.Unit != "" && d.Unit != "B" {
			name += ", " + d.Unit
		}
		rows = append(rows, table.Row{name, amount(d.Before, d.Unit), amount(d.Now, d.Unit), optional(d.Change), d.Says})
	}
	tabular(w, []any{"signal", "then", "now", "change", "what it says"}, rows, 2, 3, 4)
	if len(missing) > 0 {
		_, _ = fmt.Fprintf(w, "\nNot available: %s.\n", strings.Join(missing, "; "))
	}
}
