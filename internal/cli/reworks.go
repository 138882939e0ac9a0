package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func releaseCommand() *cli.Command {
	return &cli.Command{
		Name:      "release",
		Usage:     "record that the owner lets data on a drive be destroyed, for this intake",
		ArgsUsage: "DRIVE",
		Category:  "drives",
		Description: "A wider scope covers the lesser ones: overwrite, renew, mend. The next intake needs a release of its own.\n" +
			"\nExamples:\n   hylostat release 7M4Q2 --scope mend --owner \"Orla Fenn, by phone\"\n   hylostat release 7M4Q2 --withdraw",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "scope", Usage: "the `REWORK` it allows: mend, renew, overwrite"},
			&cli.StringFlag{Name: "owner", Usage: "`WHO` consented, and how"},
			&cli.BoolFlag{Name: "withdraw", Usage: "take it back"},
		},
		Action: action(1, 1, func(ctx context.Context, c call) error {
			var i contract.Intake
			var err error
			switch scope, owner := c.String("scope"), c.String("owner"); {
			case c.Bool("withdraw"):
				i, err = c.WithdrawRelease(ctx, c.arg(0), c.by())
			case scope == "" || owner == "":
				return &usage{"release wants --scope and --owner, or --withdraw"}
			default:
				if err := oneOf("scope", scope, "mend", "renew", "overwrite"); err != nil {
					return err
				}
				r := contract.ReleaseRequest{Scope: contract.ReworkKind(scope), Owner: owner, By: c.by()}
				i, err = c.RecordRelease(ctx, c.arg(0), r)
			}
			if err != nil {
				return err
			}
			return c.show(i, func(w io.Writer) {
				if i.Release == nil {
					_, _ = fmt.Fprintf(w, "Intake %d: no release.\n", i.Id)
					return
				}
				_, _ = fmt.Fprintf(w, "Intake %d: released for %s by %s.\n", i.Id, i.Release.Scope, i.Release.Owner)
			})
		}),
	}
}

func reworkCommands() *cli.Command {
	begin := func(name, usage, about string) *cli.Command {
		return &cli.Command{
			Name:      name,
			Usage:     usage,
			ArgsUsage: "DRIVE",
			Description: about +
				"\n\nNeeds a release, a reading of today and a sweep of this intake. When all that stands, it asks for the end of the " +
				"serial: read it off the label.\n\nExample:\n   hylostat rework " + name + " 7M4Q2 --follow",
			Flags: []cli.Flag{
				&cli.StringFlag{
					Name:  "serial",
					Usage: "the `END` of the serial from the drive's label, at least six characters; asked for when not given",
				},
				followFlag(),
			},
			Action: action(1, 1, startRework),
		}
	}
	return &cli.Command{
		Name: "rework", Usage: "write to a drive its owner has released", Category: "drives",
		Commands: []*cli.Command{
			begin(
				"mend", "write the sectors that cannot be read, and only those",
				"Zeros are written to each, and it is read again: many drives exchange a sector when it is written.",
			),
			begin(
				"renew", "read everything and write it back in place",
				"A copy of what is about to be written back is kept on this machine's disk until it is.",
			),
			begin(
				"overwrite", "write a pattern everywhere and read it back",
				"Every sector's content is bound to its place: what was written elsewhere, or not kept at all, is found.",
			),
			{
				Name:        "show",
				Usage:       "what a rework wrote, the counters before and after, and whether it held",
				ArgsUsage:   "RUN",
				Description: "Example:\n   hylostat rework show 3",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.run(0)
					if err != nil {
						return err
					}
					r, err := c.Rework(ctx, id)
					if err != nil {
						return err
					}
					return c.show(r, func(w io.Writer) { printRework(w, r) })
				}),
			},
		},
	}
}

func startRework(ctx context.Context, c call) error {
	ending, kind := c.String("serial"), contract.ReworkKind(c.Name)
	if ending == "" { // when all else stands
		ready, err := c.AskRework(ctx, c.arg(0), kind)
		if err != nil {
			return err
		}
		if ending, err = ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf(
			"%s, about %s.\nType the end of the serial from the drive's label, six characters or more: ",
			counted(int(ready.Sectors), "sector is written", "sectors are written"), left(ready.TakesS),
		)); err != nil {
			return err
		}
	}
	if len(strings.TrimSpace(ending)) < 6 {
		return &usage{"the end of the serial needs six characters at least; read it off the drive's label"}
	}
	r, err := c.StartRework(ctx, c.arg(0), contract.ReworkRequest{Kind: kind, Ending: ending, By: c.by()})
	if err != nil {
		return err
	}
	if c.Bool("follow") {
		return c.follow(ctx, r.Id)
	}
	return c.show(r, func(w io.Writer) {
		_, _ = fmt.Fprintf(
			w, "Run %d started: %s in %s, about %s. Follow it: hylostat run follow %d\n", r.Id, strings.ToLower(r.Title),
			r.Bay.Words(), left(r.LeftS), r.Id,
		)
	})
}

// ask reads a line from a person.
func ask(w io.Writer, from io.Reader, what string) (string, error) {
	_, _ = fmt.Fprint(w, what)
	line, err := bufio.NewReader(from).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", fmt.Errorf("reading the answer: %w", err)
	}
	return strings.TrimSpace(line), nil
}

func printRework(w io.Writer, r contract.Rework) {
	_, _ = fmt.Fprintf(
		w, "%s of %s, run %d: %s\nReleased for %s by %s, recorded by %s on %s\n", r.Run.Title, wording.Serial(r.Run.Serial),
		r.Run.Id, r.Run.Standing, r.Release.Scope, r.Release.Owner, r.Release.By, minute(r.Release.At),
	)
	for _, line := range r.Words {
		_, _ = fmt.Fprintln(w, line)
	}
	var rows []table.Row
	for _, d := range r.Rows {
		if !d.Matters || d.Before == nil && d.Now == nil {
			continue
		}
		rows = append(rows, table.Row{d.Words, amount(d.Before, d.Unit), amount(d.Now, d.Unit), d.Says})
	}
	if len(rows) > 0 {
		tabular(w, []any{"", "before", "after", ""}, rows, 2, 3)
	}
}
