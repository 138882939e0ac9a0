package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func printSiblings(w io.Writer, s contract.Siblings) {
	_, _ = fmt.Fprintf(w, "%s: %s of this model here\n", s.Model, counted(s.Of, "drive", "drives"))
	for _, a := range s.Apart {
		_, _ = fmt.Fprintln(w, "stands apart: "+a)
	}
	if len(s.Apart) == 0 {
		_, _ = fmt.Fprintln(w, "It does not stand apart from them; fewer than six say nothing.")
	}
	rows := make([]table.Row, len(s.Rows))
	for i, r := range s.Rows {
		rows[i] = table.Row{r.Words, wording.Of(r.Value, r.Unit), wording.Of(r.Median, r.Unit), fmt.Sprintf("%.1f", r.Score), r.Of}
	}
	tabular(w, []any{"", "this one", "median", "score", "of"}, rows, 2, 3, 4, 5)
}

func (c call) lot(n int) (int64, error) {
	id, err := strconv.ParseInt(c.arg(n), 10, 64)
	if err != nil || id < 1 {
		return 0, &usage{fmt.Sprintf("%q is no lot's number", c.arg(n))}
	}
	return id, nil
}

func lotCommands() *cli.Command {
	return &cli.Command{
		Name: "lot", Usage: "drives taken in together", Category: "bench",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "all lots, newest first", Description: "Example:\n   hylostat lot list",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					all, err := c.Lots(ctx)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						for i, l := range all {
							state := "open: drives put in belong to it"
							if l.Ended != nil {
								state = "ended " + minute(*l.Ended)
							}
							rows[i] = table.Row{l.Id, minute(l.At), optional(l.Ticket), optional(l.Customer), l.Duty, state}
						}
						tabular(w, []any{"lot", "opened", "ticket", "customer", "duty", "how it stands"}, rows, 1)
					})
				}),
			},
			{
				Name:  "open",
				Usage: "open a lot: every drive that comes to answer from now on is taken in on it",
				Description: "With --check, taking in and checking thirty drives is putting them in.\n\nExample:\n   hylostat lot " +
					"open --ticket 2240 --customer \"Quillet Ferry office\" --expected 30 --check extended",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "ticket",
						Usage: "`NUMBER` of the repair order",
					},
					&cli.StringFlag{Name: "customer", Usage: "`NAME` of the customer"},
					&cli.StringFlag{Name: "reference", Usage: "the customer's own `NUMBER`"},
					languageFlag(),
					&cli.StringFlag{
						Name:  "complaint",
						Usage: "`TEXT` of what is complained of",
					},
					&cli.BoolFlag{Name: "wanted", Usage: "the data is wanted: checks wait until it is copied"},
					&cli.BoolFlag{Name: "copied", Usage: "the data is wanted and has been copied"},
					&cli.StringFlag{
						Name:  "duty",
						Usage: "`DUTY` they are meant for: continuous, archive, everyday, carry",
						Value: "everyday",
					},
					&cli.IntFlag{Name: "expected", HideDefault: true, Usage: "how many `DRIVES` there are"},
					&cli.StringFlag{
						Name:  "check",
						Usage: "`CHECK` of every drive of the lot, once: quick, extended or whole; the bench's plan decides when not given",
					},
				},
				Action: action(0, 0, func(ctx context.Context, c call) error {
					set := func(name string) *string {
						if v := c.String(name); v != "" {
							return &v
						}
						return nil
					}
					wanted, copied, duty := c.Bool("wanted"), c.Bool("copied"), contract.Duty(c.String("duty"))
					r := contract.LotRequest{
						By:        c.by(),
						Ticket:    set("ticket"),
						Customer:  set("customer"),
						Reference: set("reference"),
						Language:  c.language(),
						Complaint: set("complaint"),
						Wanted:    &wanted,
						Copied:    &copied,
						Duty:      &duty,
					}
					if k := contract.PlannedCheck(c.String("check")); k != "" {
						r.Check = &k
					}
					r.Expected = given[int](c, "expected")
					l, err := c.OpenLot(ctx, r)
					if err != nil {
						return err
					}
					return c.show(l, func(w io.Writer) {
						_, _ = fmt.Fprintf(
							w,
							"Lot %d is open: every drive that comes to answer belongs to it. End it with \"hylostat lot end %d\".\n",
							l.Id, l.Id,
						)
					})
				}),
			},
			{
				Name: "end", Usage: "take no more drives in on a lot", ArgsUsage: "LOT", Description: "Example:\n   hylostat lot end 114",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.lot(0)
					if err != nil {
						return err
					}
					l, err := c.EndLot(ctx, id, c.by())
					if err != nil {
						return err
					}
					return c.show(l, func(w io.Writer) { _, _ = fmt.Fprintf(w, "Lot %d is ended. Its drives stay its drives.\n", l.Id) })
				}),
			},
			{
				Name:        "show",
				Usage:       "how many of each, what they do for, who stands apart, and every drive",
				ArgsUsage:   "LOT",
				Description: "Example:\n   hylostat lot show 114",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.lot(0)
					if err != nil {
						return err
					}
					v, err := c.Lot(ctx, id)
					if err != nil {
						return err
					}
					return c.show(v, func(w io.Writer) { printLot(w, v) })
				}),
			},
			{
				Name:        "summary",
				Usage:       "write the lot's summary to print, or as a table",
				ArgsUsage:   "LOT",
				Description: "Examples:\n   hylostat lot summary 114\n   hylostat lot summary 114 --format csv -o lot114.csv",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "format", Usage: "`FORMAT` of it: pdf or csv", DefaultText: "by the ending of --out, else pdf"},
					outFlag("lot-N.pdf or .csv"),
				},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.lot(0)
					if err != nil {
						return err
					}
					format := c.format("pdf", "csv")
					if err := oneOf("format", format, "pdf", "csv"); err != nil {
						return err
					}
					body, err := c.LotSummary(ctx, id, format)
					if err != nil {
						return err
					}
					return c.write(body, fmt.Sprintf("lot-%d.%s", id, format), fmt.Sprintf("Summary of lot %d", id))
				}),
			},
			{
				Name:        "labels",
				Usage:       "write labels for all drives of a lot",
				ArgsUsage:   "LOT",
				Description: "Example:\n   hylostat lot labels 114 --stock a4-24",
				Flags:       []cli.Flag{stockFlag(), languageFlag(), outFlag("lot-N-labels.pdf")},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.lot(0)
					if err != nil {
						return err
					}
					body, err := c.LotLabels(ctx, id, contract.PrintLabelsParams{Stock: c.stock(), Language: c.language()})
					if err != nil {
						return err
					}
					return c.write(body, fmt.Sprintf("lot-%d-labels.pdf", id), fmt.Sprintf("Labels of lot %d", id))
				}),
			},
		},
	}
}

func printLot(w io.Writer, v contract.LotView) {
	_, _ = fmt.Fprintf(w, "lot %d  %s, for %s, policy %d\n", v.Lot.Id, counted(len(v.Drives), "drive", "drives"), v.Lot.Duty, v.Policy)
	for _, n := range v.Counts {
		_, _ = fmt.Fprintf(w, "%5d %s\n", n.Drives, grade(n.Grade))
	}
	_, _ = fmt.Fprintln(w)
	rows := make([]table.Row, len(v.Usable))
	for i, u := range v.Usable {
		share := "none"
		if u.Of > 0 {
			share = fmt.Sprintf("%.0f %%", 100*float64(u.Does)/float64(u.Of))
		}
		rows[i] = table.Row{u.Duty, fmt.Sprintf("%d of %d", u.Does, u.Of), share, u.Care}
	}
	tabular(w, []any{"usable for", "does", "share", "with care"}, rows, 2, 3, 4)
	_, _ = fmt.Fprintln(w)
	rows = nil
	for _, d := range v.Drives {
		name, margin := "no answer", ""
		var hours *float64
		if d.Drive != nil {
			name, margin, hours = wording.Serial(d.Drive.Serial), optional(d.Drive.Margin), d.Drive.Hours
		}
		next := d.Next.Words
		if d.Minutes != nil {
			next += ", " + left(*d.Minutes*60)
		}
		rows = append(rows, table.Row{d.Intake.Id, name, grade(d.Grade), margin, number(hours, "h"), next, strings.Join(d.Apart, "; ")})
	}
	tabular(w, []any{"intake", "drive", "verdict", "tightest margin", "powered on", "next", "apart from siblings"}, rows, 1, 5)
}

func handoverCommand() *cli.Command {
	return &cli.Command{
		Name:      "handover",
		Usage:     "end a drive's intake: where it goes, and the state of its data",
		ArgsUsage: "DRIVE",
		Category:  "drives",
		Description: "The state of the data is what the runs of the intake did to it, unless you know worse. For a drive that " +
			"never answered, name its intake: intake-12.\n\nExample:\n   hylostat handover 7M4Q2 --goes returned",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "goes", Usage: "`WAY` it goes: returned, kept or scrapped", Required: true},
			&cli.StringFlag{
				Name:  "data",
				Usage: "`STATE` of its data: untouched, altered or overwritten; what was done here when not given",
			},
			&cli.StringFlag{Name: "note", Usage: "`TEXT` that is kept with it"},
		},
		Action: action(1, 1, func(ctx context.Context, c call) error {
			var id int64
			if n, err := fmt.Sscanf(c.arg(0), "intake-%d", &id); n != 1 || err != nil {
				d, err := c.Drive(ctx, c.arg(0))
				if err != nil {
					return err
				}
				if d.Intake == nil {
					return &usage{wording.Serial(d.Serial) + " is on no intake"}
				}
				id = d.Intake.Id
			}
			h := contract.HandoverRequest{Goes: contract.HandoverRequestGoes(c.String("goes")), By: c.by()}
			if s := contract.DataState(c.String("data")); s != "" {
				h.Data = &s
			}
			if s := c.String("note"); s != "" {
				h.Note = &s
			}
			i, err := c.HandOver(ctx, id, h)
			if err != nil {
				return err
			}
			return c.show(i, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "Intake %d ended: %s, data %s.\n", i.Id, i.Handover.Goes, i.Handover.Data)
			})
		}),
	}
}
