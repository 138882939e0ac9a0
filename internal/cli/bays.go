package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
)

func bayCommands() *cli.Command {
	return &cli.Command{
		Name: "bay", Usage: "the places at the bench", Category: "bench",
		Commands: []*cli.Command{
			{
				Name:  "list",
				Usage: "all bays and what they wait for",
				Description: "A bay of another bench than the shop's own has that bench's name before it: field/3.\n\nExamples:\n " +
					"  hylostat bay list\n   hylostat bay list --bench field",
				Flags:  []cli.Flag{benchFlag, &cli.BoolFlag{Name: "all", Usage: "those that are hidden, too"}},
				Action: action(0, 0, listBays),
			},
			{
				Name:  "watch",
				Usage: "all bays as they stand, live, until Ctrl-C",
				Description: "Where it is no terminal it prints a line for each change.\n\nExamples:\n   hylostat bay watch\n" +
					"   hylostat bay watch --bench field",
				Flags:  []cli.Flag{benchFlag, &cli.BoolFlag{Name: "all", Usage: "those that are hidden, too"}},
				Action: action(0, 0, watchBays),
			},
			{
				Name:      "set",
				Usage:     "give a bay a number, a label or a place in the order, or hide it",
				ArgsUsage: "BAY",
				Description: "The bay that had the number gets the old one. Records keep the number a bay had then.\n\nExamples:\n" +
					"   hylostat bay set 3 --label \"left dock\" --number 1\n   hylostat bay set 14 --hide\n   hylostat bay set " +
					"field/2 --before field/1",
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "number", HideDefault: true, Usage: "its new `NUMBER`"},
					&cli.StringFlag{Name: "label", Usage: "`TEXT` people call it by; empty: none"},
					&cli.BoolFlag{Name: "hide", Usage: "leave it out of lists and of the bench: the system's own disk"},
					&cli.BoolFlag{Name: "show", Usage: "show it again"},
					&cli.StringFlag{Name: "before", Usage: "show it before this `BAY`"},
				},
				Action: action(1, 1, setBay),
			},
			{
				Name:        "try",
				Usage:       "there is a drive in the bay: look for it again",
				ArgsUsage:   "BAY",
				Description: "Example:\n   hylostat bay try 4",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					n, err := c.bay(0)
					if err != nil {
						return err
					}
					b, err := c.Attempt(ctx, n, c.by())
					if err != nil {
						return err
					}
					return c.show(b, func(w io.Writer) { printBays(w, []contract.Bay{b}) })
				}),
			},
			{
				Name:        "vacate",
				Usage:       "there is no drive in the bay after all",
				ArgsUsage:   "BAY",
				Description: "Example:\n   hylostat bay vacate 4",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					n, err := c.bay(0)
					if err != nil {
						return err
					}
					b, err := c.Vacate(ctx, n, c.by())
					if err != nil {
						return err
					}
					return c.show(b, func(w io.Writer) { printBays(w, []contract.Bay{b}) })
				}),
			},
			{
				Name:        "copied",
				Usage:       "the data of the drive in the bay has been copied: checks may run",
				ArgsUsage:   "BAY",
				Description: "Example:\n   hylostat bay copied 6 --by Dov",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					n, err := c.bay(0)
					if err != nil {
						return err
					}
					i, err := c.RecordCopy(ctx, n, c.by())
					if err != nil {
						return err
					}
					return c.show(i, func(w io.Writer) { _, _ = fmt.Fprintf(w, "Copy recorded for %s. Checks may run.\n", n.Words()) })
				}),
			},
		},
	}
}

// benchFlag chooses one bench; the shop's own is "own", as it has no name.
var benchFlag = &cli.StringFlag{Name: "bench", Usage: "`NAME` of the one bench meant; own is the shop's own"}

const ownBench = "own"

// benches are the benches a command is about: the one that was named, or all.
func (c call) benches(ctx context.Context) ([]contract.Bench, error) {
	s, err := c.Service(ctx)
	if err != nil || !c.IsSet(benchFlag.Name) {
		return s.Benches, err
	}
	names := []string{ownBench}
	for _, b := range s.Benches {
		if c.String(benchFlag.Name) == cmp.Or(b.Name, ownBench) {
			return []contract.Bench{b}, nil
		}
		if b.Name != "" {
			names = append(names, b.Name)
		}
	}
	return nil, &usage{fmt.Sprintf("%q is no bench here: %s", c.String(benchFlag.Name), strings.Join(names, ", "))}
}

func listBays(ctx context.Context, c call) error {
	benches, err := c.benches(ctx)
	if err != nil {
		return err
	}
	all, err := c.Bays(ctx)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(b contract.Bay) bool {
		return !slices.ContainsFunc(benches, func(m contract.Bench) bool { return m.Name == b.Bench }) ||
			optional(b.Hidden) && !c.Bool("all")
	})
	return c.show(all, func(w io.Writer) { c.printBenches(w, benches, all) })
}

// printBenches prints the bays of each bench.
func (c call) printBenches(w io.Writer, benches []contract.Bench, all []contract.Bay) {
	for i, m := range benches {
		title := m.Title
		if m.Away {
			title += ": not connected; its bays as they stood"
		}
		if len(benches) > 1 || m.Away {
			_, _ = fmt.Fprintln(w, strings.Repeat("\n", min(i, 1))+title)
		}
		printBays(w, slices.DeleteFunc(slices.Clone(all), func(b contract.Bay) bool {
			return b.Bench != m.Name || optional(b.Hidden) && !c.Bool("all")
		}))
	}
}

func setBay(ctx context.Context, c call) error {
	bay, err := c.bay(0)
	if err != nil {
		return err
	}
	if c.Bool("hide") && c.Bool("show") {
		return &usage{"--hide and --show contradict each other"}
	}
	set := contract.BaySetting{By: c.by(), Number: given[int](c, "number")}
	if c.IsSet("label") {
		label := c.String("label")
		set.Label = &label
	}
	if c.Bool("hide") || c.Bool("show") {
		hidden := c.Bool("hide")
		set.Hidden = &hidden
	}
	b, err := c.SetBay(ctx, bay, set)
	if err != nil {
		return err
	}
	if c.IsSet("before") {
		if err := moveBay(ctx, c, b, c.String("before")); err != nil {
			return err
		}
		if b, err = c.Bay(ctx, b.Name); err != nil {
			return err
		}
	}
	return c.show(b, func(w io.Writer) { printBays(w, []contract.Bay{b}) })
}

// moveBay puts a bay before another one in the order of their bench.
func moveBay(ctx context.Context, c call, b contract.Bay, name string) error {
	before, err := drive.ParseBay(name)
	if err != nil {
		return &usage{err.Error()}
	}
	all, err := c.Bays(ctx)
	if err != nil {
		return err
	}
	var order []contract.BayName
	found := false
	for _, other := range all {
		if other.Name == before {
			order, found = append(order, b.Name), true
		}
		if other.Bench == b.Bench && other.Name != b.Name {
			order = append(order, other.Name)
		}
	}
	if !found || before.Bench != b.Bench {
		return &usage{fmt.Sprintf("%s is no bay of the same bench", before)}
	}
	_, err = c.ArrangeBays(ctx, contract.BayOrder{Bays: order, By: c.by()})
	return err
}

func planCommands() *cli.Command {
	set := func(ctx context.Context, c call, check string) error {
		bench := c.String(benchFlag.Name)
		if bench == ownBench {
			bench = ""
		}
		q, err := c.SetPlan(ctx, bench, check, c.by())
		if err != nil {
			return err
		}
		return c.show(q, func(w io.Writer) { printQueue(w, q) })
	}
	return &cli.Command{
		Name: "plan", Usage: "check every drive that is put in", Category: "bench",
		Commands: []*cli.Command{
			{
				Name:        "show",
				Usage:       "the plan of each bench, what waits, and which bay is free",
				Description: "Example:\n   hylostat plan show",
				Flags:       []cli.Flag{benchFlag},
				Action:      action(0, 0, showPlans),
			},
			{
				Name:      "set",
				Usage:     "check every drive at a bench once: those in the bays, and those put in from now on",
				ArgsUsage: "quick|extended|whole",
				Description: "Data at risk, a lock or a run under way keep a drive from it. Without --bench it is the plan of the " +
					"shop's own bench.\n\nExamples:\n   hylostat plan set extended\n   hylostat plan set quick --bench field",
				Flags: []cli.Flag{benchFlag},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					if !contract.PlanRequestCheck(c.arg(0)).Valid() || c.arg(0) == "none" {
						return &usage{fmt.Sprintf("%q is no check of a plan: quick, extended, whole", c.arg(0))}
					}
					return set(ctx, c, c.arg(0))
				}),
			},
			{
				Name:        "end",
				Usage:       "start no more checks by themselves; those under way go on",
				Description: "Example:\n   hylostat plan end",
				Flags:       []cli.Flag{benchFlag},
				Action:      action(0, 0, func(ctx context.Context, c call) error { return set(ctx, c, "none") }),
			},
		},
	}
}

func showPlans(ctx context.Context, c call) error {
	benches, err := c.benches(ctx)
	if err != nil {
		return err
	}
	all := make([]contract.Queue, len(benches))
	for i, b := range benches {
		if all[i], err = c.Queue(ctx, b.Name); err != nil {
			return err
		}
	}
	return c.show(all, func(w io.Writer) {
		for i, q := range all {
			if len(all) > 1 {
				_, _ = fmt.Fprintln(w, strings.Repeat("\n", min(i, 1))+benches[i].Title)
			}
			printQueue(w, q)
		}
	})
}

func printQueue(w io.Writer, q contract.Queue) {
	if q.Check == nil {
		_, _ = fmt.Fprintf(
			w, "No plan. %s, %d %s for their turn.\n", counted(q.Going, "run goes on", "runs go on"), q.Waiting,
			plural(q.Waiting, "waits", "wait"),
		)
		return
	}
	whose := "Every drive"
	if q.Lot != nil {
		whose = fmt.Sprintf("Every drive of lot %d", *q.Lot)
	}
	_, _ = fmt.Fprintf(
		w, "%s: %s, planned by %s on %s. %d %s on, %d %s for their turn, %d %s done.\n", whose, *q.Check, optional(q.By),
		minute(*q.At), q.Going, plural(q.Going, "goes", "go"), q.Waiting, plural(q.Waiting, "waits", "wait"), q.Done,
		plural(q.Done, "is", "are"),
	)
	for _, line := range q.Words {
		_, _ = fmt.Fprintln(w, line)
	}
}

func printBays(w io.Writer, all []contract.Bay) {
	rows := make([]table.Row, len(all))
	labels := slices.ContainsFunc(all, func(b contract.Bay) bool { return b.Label != nil })
	for i, b := range all {
		name, answer := occupant(&b)
		rows[i] = table.Row{b.Name.Short()}
		if labels {
			rows[i] = append(rows[i], optional(b.Label))
		}
		rows[i] = append(rows[i], name, doingOf(&b, true), answer, b.Next)
	}
	head := []any{"bay", "drive", "doing", "verdict", "next"}
	if labels {
		head = slices.Insert(head, 1, any("called"))
	}
	tabular(w, head, rows, 1)
}

// attachedName is what the machine calls a drive that did not name itself.
func attachedName(a contract.Attached) string {
	words := []string{strings.TrimSpace(a.Transport + " " + optional(a.Model))}
	if a.Serial != nil {
		words = append(words, *a.Serial)
	}
	return strings.Join(append(words, wording.Size(a.Bytes)), ", ")
}
