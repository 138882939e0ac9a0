package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func shareFlag() cli.Flag {
	return &cli.IntFlag{
		Name:        "share",
		DefaultText: "all of it",
		Usage:       "take `PERCENT` of the drive's time for the sweep, and leave the rest to whoever uses it",
	}
}

func despiteFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "despite",
		Usage: "`WHY` the surface may be loaded although its data is wanted and not copied; kept with the run",
	}
}

func followFlag() cli.Flag {
	return &cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "show its progress until it is done"}
}

func sweepCommands() *cli.Command {
	begin := func(name, usage, about string) *cli.Command {
		return &cli.Command{
			Name:        name,
			Usage:       usage,
			ArgsUsage:   "DRIVE ...",
			Description: about,
			Flags: []cli.Flag{
				shareFlag(),
				despiteFlag(),
				followFlag(),
			},
			Action: action(1, many, startCheck),
		}
	}
	return &cli.Command{
		Name: "sweep", Usage: "read the surface and time it", Category: "drives",
		Commands: []*cli.Command{
			begin(
				"spot", "a sample of the surface: seconds",
				"A stratified sample, both ends, and the places the drive itself names.\n\nExample:\n   hylostat sweep spot 7M4Q2 --follow",
			),
			begin(
				"whole", "all of the surface: hours",
				"Every sector, in order. What fails is narrowed down to its physical sectors.\n\nExample:\n   hylostat sweep whole 7M4R9",
			),
			{
				Name:        "list",
				Usage:       "the sweeps of a drive that ended, newest first",
				ArgsUsage:   "DRIVE",
				Description: "Example:\n   hylostat sweep list 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.Sweeps(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						for i, s := range all {
							rows[i] = table.Row{
								s.Run,
								s.Title,
								minute(*s.Ended),
								fmt.Sprintf("%.0f %%", 100*s.Standing.Share),
								s.Standing.Unreadable,
								s.Standing.Confirmed,
							}
						}
						tabular(w, []any{"run", "what", "ended", "swept", "unreadable", "slow"}, rows, 1, 4, 5, 6)
					})
				}),
			},
			{
				Name:        "show",
				Usage:       "what a sweep found, down to the sectors",
				ArgsUsage:   "RUN",
				Description: "Example:\n   hylostat sweep show 1",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.run(0)
					if err != nil {
						return err
					}
					s, err := c.Sweep(ctx, id)
					if err != nil {
						return err
					}
					return c.show(s, func(w io.Writer) { printSweep(w, s) })
				}),
			},
			{
				Name:        "compare",
				Usage:       "lay a sweep over an earlier one of the same drive",
				ArgsUsage:   "EARLIER LATER",
				Description: "Both are named by their run.\n\nExample:\n   hylostat sweep compare 1 4",
				Action: action(2, 2, func(ctx context.Context, c call) error {
					earlier, err := c.run(0)
					if err != nil {
						return err
					}
					later, err := c.run(1)
					if err != nil {
						return err
					}
					swapped := earlier > later
					if swapped {
						earlier, later = later, earlier
					}
					all, err := c.SweepDifferences(ctx, later, earlier)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						if swapped {
							_, _ = fmt.Fprintf(w, "Run %d is the earlier one: they are compared the other way round.\n", earlier)
						}
						if len(all) == 0 {
							_, _ = fmt.Fprintln(w, "Neither found anything.")
							return
						}
						rows := make([]table.Row, len(all))
						for i, d := range all {
							rows[i] = table.Row{d.Lba, whole(d.Sectors), d.Change, d.Before, d.After}
						}
						tabular(w, []any{"LBA", "sectors", "", fmt.Sprintf("run %d", earlier), fmt.Sprintf("run %d", later)}, rows, 1, 2)
					})
				}),
			},
		},
	}
}

// whole writes a number with its thousands apart.
func whole(n int64) string { return wording.Number(float64(n)) }

// printStanding says how a sweep stands.
func printStanding(w io.Writer, s contract.SweepStanding, going bool) {
	parts := []string{fmt.Sprintf("%.1f %% swept", 100*s.Share)}
	if going {
		parts = append(parts, fmt.Sprintf("at LBA %d", s.Lba), wording.Of(s.Speed, "B")+"/s")
		if s.LeftS > 0 {
			parts = append(parts, left(s.LeftS)+" left")
		}
		if s.Closer {
			parts = append(parts, "looking more closely")
		}
	}
	if s.Celsius != nil {
		parts = append(parts, fmt.Sprintf("%d °C, %d at the hottest, pauses at %d", *s.Celsius, *s.Hottest, s.HotAt))
	}
	_, _ = fmt.Fprintln(w, strings.Join(parts, ", "))
	for _, line := range s.Words {
		_, _ = fmt.Fprintln(w, line)
	}
}

func printSweep(w io.Writer, s contract.Sweep) {
	_, _ = fmt.Fprintf(w, "%s of %s, run %d\n", s.Title, wording.Serial(s.Serial), s.Run)
	printRibbon(w, s)
	printStanding(w, s.Standing, s.Ended == nil)
	if len(s.Ranges) > 0 {
		rows := make([]table.Row, len(s.Ranges))
		for i, r := range s.Ranges {
			rows[i] = table.Row{r.Lba, r.Lba + r.Sectors - 1, whole(r.Physical), r.Cause}
		}
		tabular(w, []any{"first LBA", "last LBA", "physical sectors", ""}, rows, 1, 2, 3)
	}
	if more := s.RangesTotal - int64(len(s.Ranges)); more > 0 {
		_, _ = fmt.Fprintf(w, "and %s more places\n", whole(more))
	}
	if len(s.Slow) > 0 {
		rows := make([]table.Row, len(s.Slow))
		for i, p := range s.Slow {
			rows[i] = table.Row{p.Lba, p.Lba + p.Sectors - 1, p.Class, p.Words}
		}
		tabular(w, []any{"first LBA", "last LBA", "class", ""}, rows, 1, 2, 3)
	}
}
