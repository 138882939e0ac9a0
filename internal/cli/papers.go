package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func listIntakes(ctx context.Context, c call) error {
	p := contract.ListIntakesParams{}
	open, limit := c.Bool("open"), c.Int("limit")
	p.Open, p.Limit = &open, &limit
	if t := c.String("ticket"); t != "" {
		p.Ticket = &t
	}
	all, err := c.Intakes(ctx, p)
	if err != nil {
		return err
	}
	return c.show(all, func(w io.Writer) {
		rows := make([]table.Row, len(all))
		for i, x := range all {
			name := "no answer"
			if x.Serial != nil {
				name = wording.Serial(*x.Serial)
			}
			ended := "here"
			if x.Unanswered != nil {
				ended = "replace: " + *x.Unanswered
			}
			if x.Handover != nil {
				ended = fmt.Sprintf("%s, data %s", x.Handover.Goes, x.Handover.Data)
			}
			lot := ""
			if x.Lot != nil {
				lot = fmt.Sprint(*x.Lot)
			}
			rows[i] = table.Row{x.Id, minute(x.At), name, optional(x.Ticket), optional(x.Customer), lot, ended}
		}
		tabular(w, []any{"intake", "when", "drive", "ticket", "customer", "lot", "how it stands"}, rows, 1)
	})
}

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

func stockFlag() cli.Flag {
	return &cli.StringFlag{Name: "stock", Usage: "`STOCK` of labels: 62x29, 57x32, 89x36 (mm), or a4-24, a sheet of 24", Value: "62x29"}
}

// stock is the kind of label stock that is asked for.
func (c call) stock() *contract.Stock {
	s := contract.Stock(c.String("stock"))
	return &s
}

func languageFlag() cli.Flag {
	return &cli.StringFlag{Name: "language", DefaultText: "the customer's", Usage: "`LANGUAGE` of the owner's papers: en, de, fr or es"}
}

// language is that of the papers that are asked for; nil: the customer's.
func (c call) language() *contract.Language {
	if !c.IsSet("language") {
		return nil
	}
	l := contract.Language(c.String("language"))
	return &l
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
					&cli.StringFlag{Name: "format", Usage: "`FORMAT` of it: pdf or csv", Value: "pdf"},
					outFlag("lot-N.pdf"),
				},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.lot(0)
					if err != nil {
						return err
					}
					format := c.String("format")
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

func statementCommand() *cli.Command {
	return &cli.Command{
		Name:      "statement",
		Usage:     "the page about a drive for its owner",
		ArgsUsage: "DRIVE",
		Category:  "drives",
		Description: "Examples:\n   hylostat statement 7M4Q2\n   hylostat statement 7M4Q2 --format pdf\n   hylostat statement " +
			"7M4Q2 --language de",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "`FORMAT` of it: text, pdf or html", Value: "text"},
			languageFlag(),
			outFlag("the drive's serial with .pdf or .html"),
		},
		Action: action(1, 1, func(ctx context.Context, c call) error {
			s, err := c.Statement(ctx, c.arg(0), c.language())
			if err != nil {
				return err
			}
			switch format := c.String("format"); format {
			case "pdf", "html":
				body, err := c.StatementPage(ctx, c.arg(0), format, c.language())
				if err != nil {
					return err
				}
				return c.write(body, "statement-"+fileName(s.Number, "."+format), "Statement "+s.Number)
			case "text":
				return c.show(s, func(w io.Writer) { printStatement(w, s) })
			}
			return &usage{fmt.Sprintf("%q is no format: text, pdf, html", c.String("format"))}
		}),
	}
}

func printStatement(w io.Writer, s contract.Statement) {
	_, _ = fmt.Fprintf(w, "%s   %s, %s\n\n%s\n%s\n", s.Shop, s.Headings.Title, s.Date, bold(w, mark(s.Grade)+" "+s.Title), s.Answer)
	list := func(title string, all []string) {
		if len(all) == 0 {
			return
		}
		_, _ = fmt.Fprintf(w, "\n%s\n", title)
		for i, line := range all {
			_, _ = fmt.Fprintf(w, "%2d  %s\n", i+1, line)
		}
	}
	for _, use := range []struct {
		title string
		all   []string
	}{{s.Headings.Does, s.Does}, {s.Headings.Care, s.Care}, {s.Headings.NotFor, s.NotFor}} {
		if len(use.all) > 0 {
			_, _ = fmt.Fprintf(w, "%-27s %s\n", use.title, strings.Join(use.all, ", "))
		}
	}
	list(s.Headings.Why, s.Why)
	list(s.Headings.Do, s.Do)
	list(s.Headings.Checked, s.Checked)
	list(s.Headings.NotChecked, s.NotChecked)
	_, _ = fmt.Fprintf(w, "\n%s\n    %s\n\n", s.Headings.Data, s.Data)
	for _, f := range s.Facts {
		_, _ = fmt.Fprintf(w, "%-12s %s\n", f.Name, f.Value)
	}
	_, _ = fmt.Fprintf(w, "\n%s\n%s\n", s.Signature, s.Foot)
}

func labelCommand() *cli.Command {
	return &cli.Command{
		Name:      "label",
		Usage:     "the label for a drive, or for several on one PDF",
		ArgsUsage: "DRIVE...",
		Category:  "drives",
		Description: "A PNG is for label printers of 203 or 300 dots per inch, in one ink. The code leads to the drive's page, by " +
			"the address in --service.\n\nExamples:\n   hylostat label 7M4Q2\n   hylostat label 7M4Q2 --format png --dpi 203\n   " +
			"hylostat label 7M4Q2 7M511 --stock a4-24",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "`FORMAT` of it: pdf or png", Value: "pdf"},
			stockFlag(),
			&cli.IntFlag{Name: "dpi", Usage: "`DPI` of a PNG: 203 or 300", Value: 300},
			languageFlag(),
			outFlag("the drive's serial with .pdf or .png"),
		},
		Action: action(1, 500, func(ctx context.Context, c call) error {
			if several := c.Args().Slice(); len(several) > 1 {
				if c.String("format") != "pdf" || c.Bool("json") {
					return &usage{"several labels come as one PDF"}
				}
				body, err := c.DriveLabels(ctx, contract.PrintDriveLabelsParams{Drive: several, Stock: c.stock(), Language: c.language()})
				if err != nil {
					return err
				}
				return c.write(body, "labels.pdf", fmt.Sprintf("%d labels", len(several)))
			}
			l, err := c.Label(ctx, c.arg(0))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return c.show(l, nil)
			}
			format := c.String("format")
			if format != "pdf" && format != "png" {
				return &usage{fmt.Sprintf("%q is no format: pdf, png", format)}
			}
			dpi := c.Int("dpi")
			body, err := c.LabelPage(
				ctx, c.arg(0), contract.GetLabelParams{Format: &format, Stock: c.stock(), Dpi: &dpi, Language: c.language()},
			)
			if err != nil {
				return err
			}
			return c.write(body, "label-"+fileName(l.Serial, "."+format), "Label of "+wording.Serial(l.Serial))
		}),
	}
}

func customerCommands() *cli.Command {
	return &cli.Command{
		Name: "customer", Usage: "what is kept of customers", Category: "shop",
		Commands: []*cli.Command{
			{
				Name:      "erase",
				Usage:     "forget a customer: name, reference, complaints and what releases say of the owner",
				ArgsUsage: "NAME",
				Description: "The name as the intakes have it. Drives, readings and verdicts stay. This cannot be undone.\n\n" +
					"Example:\n   hylostat customer erase \"Pellwick Spit tide gauge\"",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					e, err := c.EraseCustomer(ctx, contract.EraseRequest{Customer: c.arg(0), By: c.by()})
					if err != nil {
						return err
					}
					return c.show(e, func(w io.Writer) {
						_, _ = fmt.Fprintf(
							w, "Erased from %s and %s.\n", counted(e.Intakes, "intake", "intakes"),
							counted(e.Lots, "lot", "lots"),
						)
					})
				}),
			},
		},
	}
}

func personCommands() *cli.Command {
	return &cli.Command{
		Name:     "person",
		Usage:    "who works here, and what each may do",
		Category: "shop",
		Description: "While nobody is entered the shop is open to whoever reaches it. The first person must be a lead, and closes " +
			"it.\nDesk takes in and hands over; technician checks, reworks and signs; lead overrules, publishes policies, enters people.",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "who works here", Description: "Example:\n   hylostat person list",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					all, err := c.People(ctx)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printPeople(w, all) })
				}),
			},
			{
				Name:      "add",
				Usage:     "enter a person, or give one another role, password or token",
				ArgsUsage: "NAME",
				Description: "--password asks for one at the terminal. --token makes a new one and prints it this once.\n\n" +
					"Example:\n   hylostat person add Maud --role lead --password --token",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "role", Usage: "`ROLE` in the shop: desk, technician or lead", Required: true},
					&cli.BoolFlag{Name: "password", Usage: "ask for a password; with the input no terminal, its first line is it"},
					&cli.BoolFlag{Name: "token", Usage: "make a token for the command line"},
				},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					by, token := c.by(), c.Bool("token")
					r := contract.WorkerRequest{Name: c.arg(0), Role: contract.Role(c.String("role")), Token: &token, By: &by}
					if c.Bool("password") {
						secret, err := askPassword(
							c.Root().Reader, c.Root().ErrWriter, "Password for "+c.arg(0)+", ten characters or more: ",
						)
						if err != nil {
							return err
						}
						r.Password = &secret
					}
					p, err := c.AddPerson(ctx, r)
					if err != nil {
						return err
					}
					return c.show(p, func(w io.Writer) {
						_, _ = fmt.Fprintf(w, "%s is %s.\n", p.Name, p.Role)
						if p.NewToken != nil {
							_, _ = fmt.Fprintf(
								w,
								"token  %s\nIt is shown this once. Keep it in a file only you can read, and name that with --token-file.\n",
								*p.NewToken,
							)
						}
					})
				}),
			},
			{
				Name:        "remove",
				Usage:       "remove a person; sessions and token end, what they did stays in the audit",
				ArgsUsage:   "NAME",
				Description: "Example:\n   hylostat person remove Maud",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.RemovePerson(ctx, c.arg(0), c.by())
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printPeople(w, all) })
				}),
			},
		},
	}
}

func printPeople(w io.Writer, all []contract.Worker) {
	if len(all) == 0 {
		_, _ = fmt.Fprintln(
			w,
			"Nobody is entered: the shop is open to whoever reaches it. Enter a lead with \"hylostat person add NAME --role lead "+
				"--password\".",
		)
		return
	}
	yes := map[bool]string{true: "yes", false: "no"}
	rows := make([]table.Row, len(all))
	for i, p := range all {
		rows[i] = table.Row{p.Name, p.Role, yes[p.Password], yes[p.Token]}
	}
	tabular(w, []any{"name", "role", "password", "token"}, rows)
}

// askPassword reads a password without showing it; from something that is no terminal, the first line.
func askPassword(in io.Reader, ask io.Writer, words string) (string, error) {
	if f, ok := in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		_, _ = fmt.Fprint(ask, words)
		secret, err := term.ReadPassword(int(f.Fd()))
		_, _ = fmt.Fprintln(ask)
		return string(secret), err
	}
	text, err := io.ReadAll(io.LimitReader(in, 1024))
	line, _, _ := strings.Cut(string(text), "\n")
	return strings.TrimSuffix(line, "\r"), err
}

func auditCommands() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "what people did", Category: "shop",
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "what people did, newest first",
				ArgsUsage:   "[DRIVE]",
				Description: "Example:\n   hylostat audit list 7M4Q2",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "who", Usage: "only what this `PERSON` did"},
					&cli.IntFlag{Name: "limit", Usage: "at most `N`", Value: 50},
				},
				Action: action(0, 1, func(ctx context.Context, c call) error {
					p := contract.ListAuditParams{}
					if d := c.arg(0); d != "" {
						p.Drive = &d
					}
					if who := c.String("who"); who != "" {
						p.Who = &who
					}
					limit := c.Int("limit")
					p.Limit = &limit
					all, err := c.Audit(ctx, p)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						for i, a := range all {
							rows[i] = table.Row{a.Seq, minute(a.At), a.By, cameIn(a), a.Text.Words + edits(a)}
						}
						tabular(w, []any{"no.", "when", "who", "as", "what"}, rows, 1)
					})
				}),
			},
			{
				Name:        "verify",
				Usage:       "check that no row of the audit was changed, left out or put in",
				Description: "Example:\n   hylostat audit verify",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					v, err := c.VerifyAudit(ctx)
					if err != nil {
						return err
					}
					if err := c.show(v, func(w io.Writer) {
						if v.Sound {
							_, _ = fmt.Fprintf(w, "%s, each follows from the one before.\n", counted(v.Rows, "row", "rows"))
						}
					}); err != nil || v.Sound {
						return err
					}
					return fmt.Errorf(
						"row %d of the audit does not follow from the one before: it was changed, or one is missing. Compare it "+
							"with a backup",
						*v.FirstBad,
					)
				}),
			},
		},
	}
}

// cameIn is as whom somebody did something: their role, and how they came in.
func cameIn(a contract.Audited) string {
	return strings.Trim(optional(a.Role)+", "+optional(a.Via), ", ")
}

// edits is what a deed changed, after its text.
func edits(a contract.Audited) string {
	if a.Edits == nil {
		return ""
	}
	none := func(p *string) string { return cmp.Or(optional(p), "nothing") }
	var all []string
	for _, e := range *a.Edits {
		all = append(all, fmt.Sprintf("%s: %s -> %s", e.What, none(e.Before), none(e.After)))
	}
	return " (" + strings.Join(all, "; ") + ")"
}
