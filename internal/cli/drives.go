package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/verdict"
)

func bayCommands() *cli.Command {
	return &cli.Command{
		Name: "bay", Usage: "the places at the bench", Category: "bench",
		Commands: []*cli.Command{
			{Name: "list", Usage: "all bays and what they wait for", Description: "Example:\n   hylostat bay list", Action: action(0, 0, func(ctx context.Context, c call) error {
				all, err := c.Bays(ctx)
				if err != nil {
					return err
				}
				return c.show(all, func(w io.Writer) { printBays(w, all) })
			})},
			{
				Name: "try", Usage: "there is a drive in the bay: look for it again", ArgsUsage: "BAY", Description: "Example:\n   hylostat bay try 4",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					n, err := c.bay(0)
					if err != nil {
						return err
					}
					b, err := c.Attempt(ctx, n)
					if err != nil {
						return err
					}
					return c.show(b, func(w io.Writer) { printBays(w, []contract.Bay{b}) })
				}),
			},
			{
				Name: "vacate", Usage: "there is no drive in the bay after all", ArgsUsage: "BAY", Description: "Example:\n   hylostat bay vacate 4",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					n, err := c.bay(0)
					if err != nil {
						return err
					}
					b, err := c.Vacate(ctx, n)
					if err != nil {
						return err
					}
					return c.show(b, func(w io.Writer) { printBays(w, []contract.Bay{b}) })
				}),
			},
			{
				Name: "copied", Usage: "the data of the drive in the bay has been copied: checks may run", ArgsUsage: "BAY", Description: "Example:\n   hylostat bay copied 6 --by Dov",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					n, err := c.bay(0)
					if err != nil {
						return err
					}
					i, err := c.RecordCopy(ctx, n, c.by())
					if err != nil {
						return err
					}
					return c.show(i, func(w io.Writer) { _, _ = fmt.Fprintf(w, "Copy recorded for bay %d. Checks may run.\n", n) })
				}),
			},
		},
	}
}

func printBays(w io.Writer, all []contract.Bay) {
	rows := make([]table.Row, len(all))
	for i, b := range all {
		name, answer := "empty", ""
		switch {
		case b.Drive != nil:
			name, answer = shown(b.Drive.Serial), grade(b.Drive.Grade)
		case b.Intake != nil:
			name, answer = fmt.Sprintf("intake %d", b.Intake.Id), grade(contract.GradeUndecided)
		case b.Attached != nil:
			name, answer = attachedName(*b.Attached), grade(contract.GradeUndecided)
		case b.Connection != "empty":
			name, answer = "no name", grade(contract.GradeUndecided)
		}
		doing := b.Doing
		if b.Run != nil {
			doing = fmt.Sprintf("%s, %d %%, %s left", b.Run.Standing, b.Run.Percent, left(b.Run.LeftS))
		}
		rows[i] = table.Row{b.Number, name, doing, answer, b.Next}
	}
	tabular(w, []any{"bay", "drive", "doing", "verdict", "next"}, rows, 1)
}

// attachedName is what the machine calls a drive that did not name itself.
func attachedName(a contract.Attached) string {
	words := []string{strings.TrimSpace(a.Transport + " " + optional(a.Model))}
	if a.Serial != nil {
		words = append(words, *a.Serial)
	}
	return strings.Join(append(words, size(a.Bytes)), ", ")
}

func intakeCommand() *cli.Command {
	return &cli.Command{
		Name: "intake", Usage: "take in the drive in a bay", ArgsUsage: "BAY", Category: "bench",
		Description: "A drive that does not answer is taken in, too: the intake waits for it.\n\nExample:\n   hylostat intake 4 --ticket 2233 --customer \"Pellwick Spit tide gauge\" --complaint \"is not found\" --wanted",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "ticket", Usage: "`NUMBER` of the repair order"},
			&cli.StringFlag{Name: "customer", Usage: "`NAME`"},
			&cli.StringFlag{Name: "complaint", Usage: "`TEXT`: what is wrong, in the customer's words"},
			&cli.StringFlag{Name: "label", Usage: "`TEXT`: what label and hand tell"},
			&cli.BoolFlag{Name: "wanted", Usage: "the data is wanted: checks wait until it is copied"},
			&cli.BoolFlag{Name: "copied", Usage: "the data is wanted and has been copied"},
			&cli.StringFlag{Name: "duty", Usage: "`DUTY` it is meant for: continuous, archive, everyday, carry", Value: "everyday"},
		},
		Action: action(1, 1, func(ctx context.Context, c call) error {
			bay, err := c.bay(0)
			if err != nil {
				return err
			}
			set := func(name string) *string {
				if v := c.String(name); v != "" {
					return &v
				}
				return nil
			}
			wanted, copied, duty := c.Bool("wanted"), c.Bool("copied"), contract.Duty(c.String("duty"))
			i, err := c.TakeIn(ctx, contract.IntakeRequest{
				Bay: bay, By: c.by(), Ticket: set("ticket"), Customer: set("customer"), Complaint: set("complaint"), Label: set("label"), Wanted: &wanted, Copied: &copied, Duty: &duty,
			})
			if err != nil {
				return err
			}
			b, err := c.Bay(ctx, bay)
			if err != nil {
				return err
			}
			return c.show(i, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "Intake %d opened.\n", i.Id)
				printBays(w, []contract.Bay{b})
			})
		}),
	}
}

func driveCommands() *cli.Command {
	return &cli.Command{
		Name: "drive", Usage: "drives the shop has met", Category: "drives",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "all drives, or those that match a text", ArgsUsage: "[TEXT]",
				Description: "TEXT is part of a serial, model, ticket or customer.\n\nExample:\n   hylostat drive list --grade replace",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "grade", Usage: "only drives with this `VERDICT`"}, &cli.IntFlag{Name: "limit", Usage: "at most `N`", Value: 200}},
				Action: action(0, 1, func(ctx context.Context, c call) error {
					p := contract.ListDrivesParams{}
					if t := c.arg(0); t != "" {
						p.Q = &t
					}
					if g := contract.Grade(c.String("grade")); g != "" {
						p.Grade = &g
					}
					limit := c.Int("limit")
					p.Limit = &limit
					all, err := c.Drives(ctx, p)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						for i, d := range all {
							signed := "no"
							if d.Signed != nil {
								signed = "by " + d.Signed.By
							}
							rows[i] = table.Row{shown(d.Serial), d.Model, size(optional(d.Bytes)), number(d.Hours, "h"), grade(d.Grade), signed, optional(d.Headline)}
						}
						tabular(w, []any{"drive", "model", "size", "powered on", "verdict", "signed", "why"}, rows, 3, 4)
						if len(all) == limit {
							_, _ = fmt.Fprintf(w, "The first %d. See more with --limit.\n", limit)
						}
					})
				}),
			},
			{
				Name: "show", Usage: "who a drive is", ArgsUsage: "DRIVE", Description: "Example:\n   hylostat drive show 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					d, err := c.Drive(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(d, func(w io.Writer) { printDrive(w, d) })
				}),
			},
			{
				Name: "signals", Usage: "every signal of a drive, where it comes from, and where sources disagree", ArgsUsage: "DRIVE", Description: "Example:\n   hylostat drive signals 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.Signals(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printSignals(w, all) })
				}),
			},
			{
				Name: "history", Usage: "everything that happened to a drive, newest first", ArgsUsage: "DRIVE", Description: "Example:\n   hylostat drive history 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.History(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						for i, e := range all {
							what := e.Text
							if e.Grade != nil {
								what = grade(*e.Grade) + " " + e.Text
							}
							rows[i] = table.Row{minute(e.At), number(e.Hours, "h"), what}
						}
						tabular(w, []any{"when", "powered on", "what"}, rows, 2)
					})
				}),
			},
		},
	}
}

var interfaceName = map[contract.DriveInterface]string{contract.DriveInterfaceAta: "ATA", contract.DriveInterfaceNvme: "NVMe", contract.DriveInterfaceScsi: "SCSI", contract.DriveInterfaceUnknown: "interface not known"}

func printDrive(w io.Writer, d contract.Drive) {
	line := func(name, value string) {
		if value != "" {
			_, _ = fmt.Fprintf(w, "%-13s %s\n", name, value)
		}
	}
	line("serial", bold(w, shown(d.Serial)))
	line("model", d.Model)
	line("firmware", optional(d.Firmware))
	line("name", optional(d.Wwn))
	kind := string(optional(d.Medium))
	if rate := optional(d.RotationRate); rate > 0 {
		kind += fmt.Sprintf(", %s per minute", verdict.Number(float64(rate)))
	}
	line("kind", strings.TrimSuffix(strings.Join([]string{interfaceName[d.Interface], kind, optional(d.FormFactor)}, ", "), ", "))
	if d.Bytes != nil {
		line("size", fmt.Sprintf("%s, %s bytes; sectors of %d, physical %d", size(*d.Bytes), verdict.Number(float64(*d.Bytes)), optional(d.LogicalSector), optional(d.PhysicalSector)))
	}
	if d.LinkNow != nil {
		line("link", fmt.Sprintf("%s of %s possible, %s", *d.LinkNow, optional(d.LinkPossible), optional(d.Transport)))
	}
	line("can", strings.Join(abilities(d), ", "))
	line("lock", lock(d.Security))
	if d.Hidden != nil {
		line("hidden", fmt.Sprintf("%s behind %s", size(*d.Hidden), optional(d.HiddenBy)))
	}
	line("sectors", optional(d.Protection))
	if n := optional(d.Namespaces); n > 1 {
		line("namespaces", fmt.Sprint(n))
	}
	if d.Bay != nil {
		bays := fmt.Sprint(*d.Bay)
		for _, n := range optional(d.OtherBays) {
			bays += fmt.Sprintf(", and by another path bay %d", n)
		}
		line("bay", bays)
	}
	if i := d.Intake; i != nil {
		line("intake", strings.Trim(fmt.Sprintf("%d, ticket %s, %s: %s", i.Id, optional(i.Ticket), optional(i.Customer), optional(i.Complaint)), ", :"))
	}
	line("duty", string(d.Duty))
	line("powered on", number(d.Hours, "h"))
	line("temperature", number(d.Temperature, "°C"))
	last := "none"
	if d.LastRead != nil {
		last = fmt.Sprintf("%d, the last %s", d.Readings, minute(*d.LastRead))
	}
	line("readings", last)
	line("verdict", bold(w, grade(d.Grade))+"  "+optional(d.Headline))
}

func abilities(c contract.Drive) []string {
	var all []string
	for _, f := range []struct {
		name string
		has  contract.Feature
	}{{"SMART", c.Smart}, {"self-tests", c.SelfTest}} {
		switch {
		case f.has.Supported && f.has.Enabled:
			all = append(all, f.name)
		case f.has.Supported:
			all = append(all, f.name+" (switched off)")
		}
	}
	if optional(c.Trim) {
		all = append(all, "TRIM")
	}
	return all
}

func lock(s contract.Security) string {
	switch {
	case s.Locked:
		return "locked by a password: the surface cannot be read"
	case s.Enabled:
		return "a password is set, open now"
	case s.Supported:
		return "no password set"
	}
	return "has none"
}

func readingCommands() *cli.Command {
	return &cli.Command{
		Name: "reading", Usage: "what a drive says of itself", Category: "drives",
		Commands: []*cli.Command{
			{
				Name: "take", Usage: "take a reading now", ArgsUsage: "DRIVE", Description: "Example:\n   hylostat reading take 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					r, err := c.TakeReading(ctx, c.arg(0), c.by())
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
						rows := make([]table.Row, len(all))
						for i, r := range all {
							rows[i] = table.Row{r.Seq, minute(r.At), number(r.Hours, "h"), number(r.Temperature, "°C"), strings.ReplaceAll(optional(r.Step), "_", " ")}
						}
						tabular(w, []any{"reading", "when", "powered on", "temperature", ""}, rows, 1, 3, 4)
					})
				}),
			},
			{
				Name: "show", Usage: "a reading in words", ArgsUsage: "DRIVE [NUMBER]", Description: "Without a number, the latest.\n\nExamples:\n   hylostat reading show 7M4Q2 3\n   hylostat reading show 7M4Q2 --raw",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "raw", Usage: "with the bytes of every page as the drive sent them"}},
				Action: action(1, 2, func(ctx context.Context, c call) error {
					seq := c.arg(1)
					if seq == "" {
						seq = "latest"
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
			{
				Name: "compare", Usage: "two readings side by side", ArgsUsage: "DRIVE [THEN [NOW]]", Description: "Without numbers: the last one before the present visit, and the latest.\n\nExample:\n   hylostat reading compare 7M4Q2 1 10",
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

func printReading(w io.Writer, r contract.Reading) {
	_, _ = fmt.Fprintf(w, "reading %d, %s, %s powered on, took %d ms\nthe drive's own alarm: %s\n", r.Seq, minute(r.At), number(r.Hours, "h"), r.TookMs, r.Alarm)
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
				value = strings.TrimSpace(verdict.Number(float64(*s.Value)) + " " + s.Unit)
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
				lba = verdict.Number(float64(*t.Lba))
			}
			hours := verdict.Number(float64(t.Hours)) + " h"
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
			hours = verdict.Number(float64(*e.Hours)) + " h"
		}
		if e.Lba != nil {
			lba = verdict.Number(float64(*e.Lba))
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
				value = grouped(value)
			}
			if f.Unit != "" {
				value += " " + f.Unit
			}
		}
		rows[i] = table.Row{f.Offset, f.Name, value}
	}
	tabular(w, []any{"byte", "fact", "now"}, rows, 1)
}

// grouped puts U+00A0 between the thousands of a whole number, however long: 128-bit counters fit no other type.
func grouped(s string) string {
	if strings.Trim(s, "0123456789") != "" {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		if i > 0 && (len(s)-i)%3 == 0 {
			b.WriteRune('\u00A0')
		}
		b.WriteRune(r)
	}
	return b.String()
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
		rows = append(rows, table.Row{s.Words, verdict.Quantity(*s.Value, s.Unit), margin, optional(s.Source), optional(s.Confidence), place})
		if s.Disagrees != nil {
			disagreeing = append(disagreeing, fmt.Sprintf("%s %s, %s", s.Words, verdict.Quantity(*s.Value, s.Unit), *s.Disagrees))
		}
	}
	tabular(w, []any{"signal", "now", "limit or usual", "source", "confidence", "place"}, rows, 2)
	if len(disagreeing) > 0 {
		_, _ = fmt.Fprintf(w, "\nSources disagree: %s.\n", strings.Join(disagreeing, "; "))
	}
	for _, reason := range reasons {
		_, _ = fmt.Fprintf(w, "\nNot available, %s: %s.\n", reason, strings.Join(missing[reason], ", "))
	}
}

func printComparison(w io.Writer, x contract.Comparison) {
	_, _ = fmt.Fprintf(w, "then  reading %d, %s, %s\nnow   reading %d, %s, %s\n\n", x.Before.Seq, minute(x.Before.At), number(x.Before.Hours, "h"), x.Now.Seq, minute(x.Now.At), number(x.Now.Hours, "h"))
	var rows []table.Row
	var missing []string
	value := func(p *float64, unit string) string {
		switch {
		case p == nil:
			return "not available"
		case unit == "B":
			return verdict.Quantity(*p, unit)
		}
		return verdict.Number(*p)
	}
	for _, d := range x.Rows {
		if d.Now == nil {
			missing = append(missing, fmt.Sprintf("%s (%s)", d.Words, optional(d.Reason)))
			continue
		}
		name := d.Words
		if d.Unit != "" && d.Unit != "B" {
			name += ", " + d.Unit
		}
		rows = append(rows, table.Row{name, value(d.Before, d.Unit), value(d.Now, d.Unit), optional(d.Change), d.Says})
	}
	tabular(w, []any{"signal", "then", "now", "change", "what it says"}, rows, 2, 3, 4)
	if len(missing) > 0 {
		_, _ = fmt.Fprintf(w, "\nNot available: %s.\n", strings.Join(missing, "; "))
	}
}
