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

func intakeCommand() *cli.Command {
	return &cli.Command{
		Name:      "intake",
		Usage:     "take in the drive in a bay",
		ArgsUsage: "BAY",
		Category:  "bench",
		Description: "A drive that does not answer is taken in, too: the intake waits for it. A drive that is on an open intake is " +
			"refused, unless --instead and --instead-of name that one: it ends, and data that it wants stays protected.\n\n" +
			"Example:\n   hylostat intake 11 " +
			"--ticket 2241 --customer \"Pellwick Spit tide gauge\" --complaint \"is not found\" --wanted",
		Flags: append(wordsOfIntake(),
			&cli.IntFlag{Name: "lot", HideDefault: true, Usage: "`NUMBER` of the lot it belongs to"},
			&cli.BoolFlag{Name: "wanted", Usage: "the data is wanted: checks wait until it is copied"},
			&cli.BoolFlag{Name: "copied", Usage: "the data is wanted and has been copied"},
			&cli.StringFlag{Name: "duty", Usage: "`DUTY` it is meant for: continuous, archive, everyday, carry", Value: "everyday"},
			&cli.StringFlag{Name: "release", Usage: "the owner lets data be destroyed, for this `REWORK`: mend, renew, overwrite"},
			&cli.StringFlag{Name: "owner", Usage: "`WHO` consented to that, and how"},
			&cli.StringFlag{Name: "instead", Usage: "in the place of the drive's open intake, named by its `TICKET`, or its number"},
			&cli.StringFlag{Name: "instead-of", Usage: "and by its `CUSTOMER`"},
		),
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "intakes, newest first: who brought what, and how it ended",
				Description: "Example:\n   hylostat intake list --open",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "open", Usage: "only those not handed over"},
					&cli.StringFlag{Name: "ticket", Usage: "only those on this `TICKET`"},
					&cli.IntFlag{Name: "limit", Usage: "at most `N`", Value: 100},
				},
				Action: action(0, 0, listIntakes),
			},
			changeIntake(),
			{
				Name:      "move",
				Usage:     "try a drive that does not answer in another bay",
				ArgsUsage: "INTAKE BAY",
				Description: "A port counts as good when another drive answers there afterwards. By the shipped policy, a drive " +
					"that did not answer on two such ports is to be replaced.\n\nExample:\n   hylostat intake move 4 7",
				Action: action(2, 2, func(ctx context.Context, c call) error {
					id, err := c.intake(0)
					if err != nil {
						return err
					}
					bay, err := c.bay(1)
					if err != nil {
						return err
					}
					i, err := c.MoveIntake(ctx, id, bay, c.by())
					if err != nil {
						return err
					}
					b, err := c.Bay(ctx, bay)
					if err != nil {
						return err
					}
					return c.show(i, func(w io.Writer) { printBays(w, []contract.Bay{b}) })
				}),
			},
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
			wanted, copied, clicks, duty := c.Bool("wanted"), c.Bool("copied"), c.Bool("clicks"), contract.Duty(c.String("duty"))
			var instead *contract.IntakeInstead
			if c.IsSet("instead") || c.IsSet("instead-of") {
				instead = &contract.IntakeInstead{Ticket: c.String("instead"), Customer: c.String("instead-of")}
			}
			var release *contract.IntakeRelease
			if c.IsSet("release") || c.IsSet("owner") {
				release = &contract.IntakeRelease{Scope: contract.ReworkKind(c.String("release")), Owner: c.String("owner")}
			}
			i, err := c.TakeIn(ctx, contract.IntakeRequest{
				Release:   release,
				Instead:   instead,
				Bay:       bay,
				By:        c.by(),
				Ticket:    set("ticket"),
				Customer:  set("customer"),
				Complaint: set("complaint"),
				Label:     set("label"),
				Reference: set("reference"),
				Language:  c.language(),
				Made:      set("made"),
				Clicks:    &clicks,
				Lot:       given[int64](c, "lot"),
				Wanted:    &wanted,
				Copied:    &copied,
				Duty:      &duty,
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

// wordsOfIntake are the flags for what is written of an intake.
func wordsOfIntake() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "ticket", Usage: "`NUMBER` of the repair order"},
		&cli.StringFlag{Name: "customer", Usage: "`NAME` of the customer"},
		&cli.StringFlag{Name: "reference", Usage: "the customer's own `NUMBER` for it"}, languageFlag(),
		&cli.StringFlag{Name: "complaint", Usage: "`TEXT`: what is wrong, in the customer's words"},
		&cli.StringFlag{Name: "label", Usage: "`TEXT`: what label and hand tell"},
		&cli.StringFlag{Name: "made", Usage: "`MONTH` of making by the label, as 2021-08"},
		&cli.BoolFlag{Name: "clicks", Usage: "it makes a noise that says: stop trying"},
	}
}

func changeIntake() *cli.Command {
	return &cli.Command{
		Name:      "change",
		Usage:     "put an intake right; what is not given stays",
		ArgsUsage: "INTAKE",
		Description: "Of an intake that ended only what is written of it can be put right. --wanted=false, where the data is not copied, " +
			"lifts its protection: it takes a lead, and --why.\n\nExamples:\n   hylostat intake change 4 --ticket 2234 " +
			"--complaint \"is not found at times\"\n   hylostat intake change 4 --wanted",
		Flags: append(wordsOfIntake(),
			&cli.BoolFlag{Name: "wanted", Usage: "the data is wanted; --wanted=false: it is not"},
			&cli.BoolFlag{Name: "not-copied", Usage: "it was not copied after all"},
			&cli.StringFlag{Name: "duty", Usage: "`DUTY` it is meant for: continuous, archive, everyday, carry"},
			&cli.StringFlag{Name: "why", Usage: "`TEXT`: why the data need not be protected any more"},
		),
		Action: action(1, 1, func(ctx context.Context, c call) error {
			id, err := c.intake(0)
			if err != nil {
				return err
			}
			right := contract.IntakeCorrection{By: c.by(), Language: c.language()}
			for flag, to := range map[string]**string{
				"ticket": &right.Ticket, "customer": &right.Customer, "reference": &right.Reference, "complaint": &right.Complaint,
				"label": &right.Label, "made": &right.Made, "why": &right.Why,
			} {
				if v := c.String(flag); c.IsSet(flag) {
					*to = &v
				}
			}
			for flag, to := range map[string]**bool{"clicks": &right.Clicks, "wanted": &right.Wanted} {
				if v := c.Bool(flag); c.IsSet(flag) {
					*to = &v
				}
			}
			if c.Bool("not-copied") {
				right.Copied = new(bool)
			}
			if duty := contract.Duty(c.String("duty")); c.IsSet("duty") {
				right.Duty = &duty
			}
			i, err := c.ChangeIntake(ctx, id, right)
			if err != nil {
				return err
			}
			return c.show(i, func(w io.Writer) { printIntakes(w, []contract.Intake{i}) })
		}),
	}
}

// intake reads an intake's number as people write it: 12, intake-12.
func (c call) intake(n int) (int64, error) {
	id, err := strconv.ParseInt(strings.TrimPrefix(c.arg(n), "intake-"), 10, 64)
	if err != nil || id < 1 {
		return 0, &usage{fmt.Sprintf("%q is no intake's number", c.arg(n))}
	}
	return id, nil
}

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
	return c.show(all, func(w io.Writer) { printIntakes(w, all) })
}

func printIntakes(w io.Writer, all []contract.Intake) {
	rows := make([]table.Row, len(all))
	for i, x := range all {
		name := "no answer"
		if x.Serial != nil {
			name = wording.Serial(*x.Serial)
		}
		ended := "here"
		if x.AtRisk {
			ended = "here, data wanted and not copied"
		}
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
}
