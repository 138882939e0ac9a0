package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func driveCommands() *cli.Command {
	return &cli.Command{
		Name: "drive", Usage: "drives the shop has met", Category: "drives",
		Commands: []*cli.Command{
			{
				Name:      "list",
				Usage:     "all drives, or those that match a text",
				ArgsUsage: "[TEXT]",
				Description: "TEXT is part of a serial, model, ticket or customer. The most urgent come first: those to replace, " +
					"then degrading, undecided, healthy; among those of a verdict by how much of their allowance is used.\n\n" +
					"Examples:\n   hylostat drive list --grade " +
					"replace\n   hylostat drive list --from-hours 35000",
				Flags: append(
					filterFlags(), &cli.IntFlag{Name: "limit", Usage: "at most `N`", Value: 200},
					&cli.BoolFlag{Name: "by-serial", Usage: "by serial, not the most urgent first"},
				),
				Action: action(0, 1, func(ctx context.Context, c call) error {
					p := c.filter()
					limit := c.Int("limit")
					p.Limit = &limit
					if !c.Bool("by-serial") {
						p.Sort = new(contract.Urgency)
					}
					all, err := c.Drives(ctx, p)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						told := slices.ContainsFunc(all,
							func(d contract.ListedDrive) bool { return optional(d.Alerts)+optional(d.Known) > 0 })
						for i, d := range all {
							signed := "no"
							if d.Signed != nil {
								signed = "by " + d.Signed.By
							}
							rows[i] = table.Row{
								wording.Serial(d.Serial),
								d.Model,
								wording.Size(optional(d.Bytes)),
								number(d.Hours, "h"),
								optional(d.Bay).Short(),
								optional(d.Ticket),
								optional(d.Customer),
								grade(d.Grade),
								signed,
								optional(d.Headline),
							}
							if told {
								rows[i] = append(rows[i], badge(d))
							}
						}
						head := []any{"drive", "model", "size", "powered on", "bay", "ticket", "customer", "verdict", "signed", "why"}
						if told {
							head = append(head, "alerts")
						}
						tabular(w, head, rows, 3, 4, 5)
						if len(all) >= limit {
							_, _ = fmt.Fprintf(w, "The first %d. See more with --limit.\n", limit)
						}
					})
				}),
			},
			{
				Name:      "duty",
				Usage:     "say what a drive is meant for; it is judged anew for that",
				ArgsUsage: "DRIVE everyday|carry|archive|continuous",
				Description: "Ten bad sectors are too many for always-on use, a hundred for any. A signature ends with the " +
					"verdict it was for.\n\nExample:\n   hylostat drive duty 7M511 continuous",
				Action: action(2, 2, func(ctx context.Context, c call) error {
					d, err := c.ChangeDrive(ctx, c.arg(0), contract.DriveChange{Duty: contract.Duty(c.arg(1)), By: new(c.by())})
					if err != nil {
						return err
					}
					v, err := c.Verdict(ctx, d.Serial)
					if err != nil {
						return err
					}
					return c.show(v, func(w io.Writer) { printVerdict(w, v) })
				}),
			},
			{
				Name:      "table",
				Usage:     "write all drives, or those that match a text, as a CSV table",
				ArgsUsage: "[TEXT]",
				Description: "Finds as list does, and writes every one of them.\n\nExample:\n   hylostat drive table --lot 114 -o " +
					"lot114-drives.csv",
				Flags: append(filterFlags(), outFlag("drives.csv")),
				Action: action(0, 1, func(ctx context.Context, c call) error {
					body, err := c.DrivesTable(ctx, c.filter())
					if err != nil {
						return err
					}
					return c.write(body, "drives.csv", "Table of drives")
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
				Name:        "signals",
				Usage:       "every signal of a drive, where it comes from, and where sources disagree",
				ArgsUsage:   "DRIVE",
				Description: "Example:\n   hylostat drive signals 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.Signals(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printSignals(w, all) })
				}),
			},
			{
				Name:      "trend",
				Usage:     "how signals went over the drive's life: onset, growth, forecast; those that moved, or one",
				ArgsUsage: "DRIVE [SIGNAL]",
				Description: "SIGNAL is a name as in \"drive signals --json\".\n\nExamples:\n   hylostat drive trend 7M4Q2\n   " +
					"hylostat drive trend 7M4Q2 pending",
				Action: action(1, 2, func(ctx context.Context, c call) error {
					all, err := c.Signals(ctx, c.arg(0))
					if err != nil {
						return err
					}
					var shown []contract.Signal
					for _, s := range all.Signals {
						if name := c.arg(1); name == s.Name || name == "" && s.Trend != nil && len(s.Trend.Movements) > 0 && s.Matters {
							shown = append(shown, s)
						}
					}
					if c.arg(1) != "" && len(shown) == 0 {
						return &usage{fmt.Sprintf("%q is no signal", c.arg(1))}
					}
					return c.show(shown, func(w io.Writer) { printTrends(w, shown, all.Readings) })
				}),
			},
			{
				Name:        "siblings",
				Usage:       "a drive among the others of its model that the shop has met",
				ArgsUsage:   "DRIVE",
				Description: "Example:\n   hylostat drive siblings 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					s, err := c.Siblings(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(s, func(w io.Writer) { printSiblings(w, s) })
				}),
			},
			{
				Name:        "history",
				Usage:       "everything that happened to a drive, newest first",
				ArgsUsage:   "DRIVE",
				Description: "Example:\n   hylostat drive history 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.History(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						for i, e := range all {
							what := e.Text.Words
							if e.Grade != nil {
								what = grade(*e.Grade) + " " + what
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

func printTrends(w io.Writer, all []contract.Signal, readings int) {
	if len(all) == 0 {
		_, _ = fmt.Fprintf(w, "Nothing that matters has moved in %s.\n", counted(readings, "reading", "readings"))
	}
	for i, s := range all {
		if i > 0 {
			_, _ = fmt.Fprintln(w)
		}
		now := "not available: " + optional(s.Reason)
		if s.Value != nil {
			now = wording.Of(*s.Value, s.Unit)
		}
		_, _ = fmt.Fprintf(w, "%s  %s\n", bold(w, s.Words), now)
		if course := sparkline(s, min(60, width(w)-2)); course != "" {
			_, _ = fmt.Fprintf(w, "  %s\n  %s\n", course, spanOf(s, text.LongestLineLen(course)))
		}
		if s.Trend == nil {
			continue
		}
		for _, line := range s.Trend.Words {
			_, _ = fmt.Fprintln(w, "  "+line)
		}
	}
}

var interfaceName = map[contract.DriveInterface]string{
	contract.DriveInterfaceAta:     "ATA",
	contract.DriveInterfaceNvme:    "NVMe",
	contract.DriveInterfaceScsi:    "SCSI",
	contract.DriveInterfaceUnknown: "interface not known",
}

func printDrive(w io.Writer, d contract.Drive) {
	line := func(name, value string) {
		if value != "" {
			_, _ = fmt.Fprintf(w, "%-13s %s\n", name, value)
		}
	}
	line("serial", bold(w, wording.Serial(d.Serial)))
	line("model", d.Model)
	line("firmware", optional(d.Firmware))
	line("name", optional(d.Wwn))
	kind := string(optional(d.Medium))
	if rate := optional(d.RotationRate); rate > 0 {
		kind += fmt.Sprintf(", %s per minute", wording.Number(float64(rate)))
	}
	line("kind", strings.TrimSuffix(strings.Join([]string{interfaceName[d.Interface], kind, optional(d.FormFactor)}, ", "), ", "))
	if d.Shown != nil {
		line(
			"adapter",
			fmt.Sprintf("shows %s, %s bytes: not what the drive says", wording.Size(*d.Shown), wording.Number(float64(*d.Shown))),
		)
	}
	if d.Bytes != nil {
		line(
			"size",
			fmt.Sprintf(
				"%s, %s bytes; sectors of %d, physical %d", wording.Size(*d.Bytes), wording.Number(float64(*d.Bytes)),
				optional(d.LogicalSector), optional(d.PhysicalSector),
			),
		)
	}
	if d.LinkNow != nil {
		line("link", fmt.Sprintf("%s of %s possible, %s", *d.LinkNow, optional(d.LinkPossible), optional(d.Transport)))
	}
	line("can", strings.Join(abilities(d), ", "))
	line("lock", lock(d.Security))
	if d.Hidden != nil {
		line("hidden", fmt.Sprintf("%s behind %s", wording.Size(*d.Hidden), optional(d.HiddenBy)))
	}
	line("sectors", optional(d.Protection))
	if n := optional(d.Namespaces); n > 1 {
		line("namespaces", fmt.Sprint(n))
	}
	if d.Bay != nil {
		bays := d.Bay.Short()
		for _, n := range optional(d.OtherBays) {
			bays += ", and by another path " + n.Words()
		}
		line("bay", bays)
	}
	if i := d.Intake; i != nil {
		line(
			"intake",
			strings.Trim(
				fmt.Sprintf("%d, ticket %s, %s: %s", i.Id, optional(i.Ticket), optional(i.Customer), optional(i.Complaint)),
				", :",
			),
		)
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
	if v := d.LastVisit; v != nil {
		line("last visit", v.Text.Words)
		name := "since then"
		for _, moved := range v.Since {
			line(name, moved.Words)
			name = " "
		}
		if len(v.Since) == 0 {
			line(name, "no counter that matters moved")
		}
	}
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
		by := map[contract.SecurityBy]string{
			contract.Encryption: "its own encryption", contract.Refuses: "something it does not name",
		}[optional(s.By)]
		return fmt.Sprintf("locked by %s: the surface cannot be read", cmp.Or(by, "a password"))
	case s.Enabled:
		return "a password is set, open now"
	case s.Supported:
		return "no password set"
	}
	return "has none"
}

// filterFlags narrow a list of drives.
func filterFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "grade",
			Usage: "only drives with this `VERDICT`",
		},
		&cli.StringFlag{Name: "kind", Usage: "only of this `KIND`: spinning or flash"},
		&cli.IntFlag{Name: "lot", HideDefault: true, Usage: "only those of lot `N`"},
		&cli.IntFlag{
			Name:        "from-hours",
			HideDefault: true,
			Usage:       "only those powered on for at least `H` hours",
		},
		&cli.IntFlag{Name: "to-hours", HideDefault: true, Usage: "only those powered on for less than `H` hours"},
	}
}

func (c call) filter() contract.ListDrivesParams {
	p := contract.ListDrivesParams{}
	if t := c.arg(0); t != "" {
		p.Q = &t
	}
	if g := contract.Grade(c.String("grade")); g != "" {
		p.Grade = &g
	}
	if k := contract.ListDrivesParamsMedium(c.String("kind")); k != "" {
		p.Medium = &k
	}
	p.Lot, p.FromHours, p.ToHours = given[int64](c, "lot"), given[int](c, "from-hours"), given[int](c, "to-hours")
	return p
}

// badge is what a list shows of a drive's alerts: "2 open", "1 known".
func badge(d contract.ListedDrive) string {
	var all []string
	if n := optional(d.Alerts); n > 0 {
		all = append(all, fmt.Sprintf("%d open", n))
	}
	if n := optional(d.Known); n > 0 {
		all = append(all, fmt.Sprintf("%d known", n))
	}
	return strings.Join(all, ", ")
}
