package cli

import (
	"context"
	"fmt"
	"io"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func runCommands() *cli.Command {
	return &cli.Command{
		Name: "run", Usage: "checks under way and done", Category: "drives",
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "runs, newest first",
				ArgsUsage:   "[DRIVE]",
				Description: "Example:\n   hylostat run list --open",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "open", Usage: "only those under way"},
					&cli.IntFlag{Name: "limit", Usage: "at most `N`", Value: 100},
				},
				Action: action(0, 1, func(ctx context.Context, c call) error {
					open, limit := c.Bool("open"), c.Int("limit")
					p := contract.ListRunsParams{Open: &open, Limit: &limit}
					if d := c.arg(0); d != "" {
						p.Drive = &d
					}
					all, err := c.Runs(ctx, p)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						for i, r := range all {
							rows[i] = table.Row{
								r.Id,
								r.Title,
								wording.Serial(r.Serial),
								r.Bay.Short(),
								minute(r.Asked),
								r.State,
								fmt.Sprintf("%d %%", r.Percent),
								r.Standing,
							}
						}
						tabular(w, []any{"run", "what", "drive", "bay", "asked", "state", "", "standing"}, rows, 1, 4, 7)
					})
				}),
			},
			{
				Name: "show", Usage: "one run with its steps", ArgsUsage: "RUN", Description: "Example:\n   hylostat run show 1",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.run(0)
					if err != nil {
						return err
					}
					r, err := c.Client.Run(ctx, id)
					if err != nil {
						return err
					}
					return c.show(r, func(w io.Writer) { printRun(w, r) })
				}),
			},
			{
				Name:        "follow",
				Usage:       "show the progress of a run, or of all that are under way, until they are done",
				ArgsUsage:   "[RUN]",
				Description: "Ctrl-C leaves them running.\n\nExamples:\n   hylostat run follow 1\n   hylostat run follow",
				Action: action(0, 1, func(ctx context.Context, c call) error {
					if c.arg(0) == "" {
						return c.followAll(ctx)
					}
					id, err := c.run(0)
					if err != nil {
						return err
					}
					return c.follow(ctx, id)
				}),
			},
			{
				Name:        "pause",
				Usage:       "let the sweep of a run wait",
				ArgsUsage:   "RUN",
				Description: "A drive's own self-test cannot wait.\n\nExample:\n   hylostat run pause 1",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					return c.turn(ctx, c.PauseRun, "Run %d waits. Let it go on: hylostat run resume %d\n")
				}),
			},
			{
				Name: "resume", Usage: "let the sweep of a run go on", ArgsUsage: "RUN", Description: "Example:\n   hylostat run resume 1",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					return c.turn(ctx, c.ResumeRun, "Run %d goes on. Follow it: hylostat run follow %d\n")
				}),
			},
			{
				Name:        "figure",
				Usage:       "draw the ribbon of a run's sweep into a file",
				ArgsUsage:   "RUN",
				Description: "The ending of the file's name chooses the format.\n\nExample:\n   hylostat run figure 1 -o sweep.svg",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "`FILE` ending in .svg or .png", Required: true},
				},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.run(0)
					if err != nil {
						return err
					}
					path := c.String("output")
					format := strings.TrimPrefix(filepath.Ext(path), ".")
					if format != "svg" && format != "png" {
						return &usage{fmt.Sprintf("%s ends in neither .svg nor .png", path)}
					}
					b, err := c.Figure(ctx, id, format)
					if err != nil {
						return err
					}
					if err := saveWith(c.out, path, func(w io.Writer) error { _, err := w.Write(b); return err }); err != nil {
						return err
					}
					_, _ = fmt.Fprintf(c.out, "The ribbon of run %d written to %s\n", id, path)
					return nil
				}),
			},
			{
				Name:        "await",
				Usage:       "be told of the end of a run: it is an alert, told by the shop's routes",
				ArgsUsage:   "RUN",
				Description: "Example:\n   hylostat run await 3",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "off", Usage: "not any more"}},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.run(0)
					if err != nil {
						return err
					}
					r, err := c.AwaitRun(ctx, id, contract.AwaitRequest{On: !c.Bool("off"), By: c.by()})
					if err != nil {
						return err
					}
					return c.show(r, func(w io.Writer) {
						end := "is an alert"
						if r.Awaited == nil {
							end = "is no alert any more"
						}
						_, _ = fmt.Fprintf(w, "The end of run %d %s.\n", r.Id, end)
					})
				}),
			},
			{
				Name:        "stop",
				Usage:       "stop a run",
				ArgsUsage:   "RUN",
				Description: "A self-test under way is aborted in the drive.\n\nExample:\n   hylostat run stop 1",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.run(0)
					if err != nil {
						return err
					}
					r, err := c.StopRun(ctx, id, c.by())
					if err != nil {
						return err
					}
					return c.show(r, func(w io.Writer) { _, _ = fmt.Fprintf(w, "Run %d is told to stop.\n", id) })
				}),
			},
		},
	}
}

func (c call) run(n int) (int64, error) {
	id, err := strconv.ParseInt(c.arg(n), 10, 64)
	if err != nil || id < 1 {
		return 0, &usage{fmt.Sprintf("%q is no run number", c.arg(n))}
	}
	return id, nil
}

func printRun(w io.Writer, r contract.Run) {
	_, _ = fmt.Fprintf(
		w, "run %d  %s of %s, %s, asked by %s on %s\n%s, %d %%: %s\n", r.Id, r.Title, wording.Serial(r.Serial), r.Bay.Words(),
		r.By, minute(r.Asked), r.State, r.Percent, r.Standing,
	)
	rows := make([]table.Row, len(r.Steps))
	for i, s := range r.Steps {
		took := ""
		if s.Begun != nil && s.Ended != nil {
			took = left(int(s.Ended.Sub(*s.Begun).Seconds()))
		}
		note := optional(s.Note).Words
		if optional(s.Adopted) {
			note = strings.TrimPrefix(note+", adopted after a restart", ", ")
		}
		rows[i] = table.Row{i + 1, s.Title, s.State, took, note}
	}
	tabular(w, []any{"", "step", "state", "took", ""}, rows, 1, 4)
	if r.Despite != nil {
		_, _ = fmt.Fprintf(w, "The data was at risk; %s said: %s\n", r.By, *r.Despite)
	}
	for _, s := range r.Steps {
		if s.Sweep != nil && s.Begun != nil && s.State != "skipped" {
			printStanding(w, *s.Sweep, s.Ended == nil)
		}
	}
	printEnd(w, r)
}

// nextCommands are the commands that carry out what a run's end says is next, by its code.
var nextCommands = map[string]string{
	string(wording.DoCopy): "bay copied BAY", string(wording.DoSign): "verdict sign DRIVE", string(wording.DoReview): "verdict show DRIVE",
	string(wording.DoHandOver): "handover DRIVE --goes returned",
}

// printEnd tells what a run that is done came to, and what to do now.
func printEnd(w io.Writer, r contract.Run) {
	head := "found  "
	for _, f := range optional(r.Found) {
		_, _ = fmt.Fprintf(w, "%s%s\n", head, f.Words)
		head = "       "
	}
	head = "next   "
	for i, n := range optional(r.Next) {
		_, _ = fmt.Fprintf(w, "%s%s\n", head, n.Words)
		head = "       "
		command := nextCommands[optional(n.Code)]
		if i == 0 && r.NextCheck != nil {
			command = "check " + string(*r.NextCheck) + " DRIVE"
			if *r.NextCheck == contract.RunNextWhole {
				command = "sweep whole DRIVE"
			}
		}
		if command != "" {
			command = strings.NewReplacer("DRIVE", r.Serial, "BAY", r.Bay.String()).Replace(command)
			_, _ = fmt.Fprintf(w, "         hylostat %s\n", command)
		}
	}
}

// turn lets a sweep wait or go on.
func (c call) turn(ctx context.Context, how func(context.Context, int64, string) (contract.Run, error), says string) error {
	id, err := c.run(0)
	if err != nil {
		return err
	}
	r, err := how(ctx, id, c.by())
	if err != nil {
		return err
	}
	return c.show(r, func(w io.Writer) { _, _ = fmt.Fprintf(w, says, id, id) })
}

// follow shows a run until it is done: a bar on a terminal, a line for each step elsewhere, the run itself with --json.
func (c call) follow(ctx context.Context, id int64) error {
	ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT)
	defer stop()
	listening, quit := context.WithCancel(ctx)
	defer quit()
	events := c.Events(listening, -1)
	r, err := c.Client.Run(ctx, id)
	if err != nil {
		return err
	}
	tell, end := c.progress(ctx, r)
	last := ""
	for r.State != "done" {
		tell(r)
		if line := fmt.Sprintf("%s: %s", r.Title, r.Standing); line != last && !c.Bool("json") && !terminal(c.out) {
			_, _ = fmt.Fprintln(c.out, line)
			last = line
		}
		select {
		case <-ctx.Done():
			end()
			return &interrupted{fmt.Sprintf("run %d goes on. Follow it again: hylostat run follow %d", id, id)}
		case e, open := <-events.Next:
			if !open && ctx.Err() == nil {
				end()
				return events.Err()
			}
			if !open || e.Run == nil || *e.Run != id {
				continue
			}
		}
		if r, err = c.Client.Run(ctx, id); err != nil {
			if ctx.Err() != nil {
				continue
			}
			end()
			return err
		}
	}
	tell(r)
	end()
	if err := c.show(r, func(w io.Writer) { printRun(w, r) }); err != nil {
		return err
	}
	if r.Outcome == nil || *r.Outcome != contract.RunOutcomePassed {
		return &notPassed{fmt.Sprintf("run %d: %s", id, r.Standing)}
	}
	return nil
}

// ribbonEvery bounds how often the ribbon of a sweep is asked for, for the bar of its run.
const ribbonEvery = 2 * time.Second

// ribbonBar draws a run's bar: while it sweeps the ribbon in shades, else how much of it is done.
type ribbonBar struct {
	plain mpb.BarFiller
	cells *atomic.Pointer[[]uint8]
}

// Fill implements mpb.BarFiller.
func (b ribbonBar) Fill(w io.Writer, s decor.Statistics) error {
	cells := b.cells.Load()
	if cells == nil {
		return b.plain.Fill(w, s)
	}
	_, err := fmt.Fprintf(w, "[%s]", shaded(*cells, min(s.RequestedWidth, s.AvailableWidth)-2))
	return err
}

// progress gives what shows a run's percentage and, while it sweeps, its ribbon, and what clears them away.
func (c call) progress(ctx context.Context, r contract.Run) (tell func(contract.Run), end func()) {
	if c.Bool("json") || !terminal(c.out) {
		return func(contract.Run) {}, func() {}
	}
	p := mpb.NewWithContext(ctx, mpb.WithOutput(raw(c.out)), mpb.WithWidth(48))
	var shown atomic.Pointer[contract.Run] // the bar draws itself when it likes
	var cells atomic.Pointer[[]uint8]
	shown.Store(&r)
	style := mpb.BarStyle().Lbound("[").Filler("#").Tip("#").Padding(" ").Rbound("]")
	bar := p.MustAdd(
		100,
		ribbonBar{style.Build(), &cells},
		mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(
			decor.Any(
				func(decor.Statistics) string { return clip(shown.Load().Standing.Words, 34) }, decor.WC{W: 18, C: decor.DindentRight},
			),
		),
		mpb.AppendDecorators(decor.Any(func(decor.Statistics) string {
			return fmt.Sprintf(" %d %%, %s left", shown.Load().Percent, left(shown.Load().LeftS))
		})),
	)
	var asked time.Time
	return func(later contract.Run) {
			shown.Store(&later)
			bar.SetCurrent(int64(min(99, later.Percent)))
			if sweeps := sweepsNow(later); !sweeps {
				cells.Store(nil)
			} else if time.Since(asked) >= ribbonEvery {
				asked = time.Now()
				if s, err := c.Sweep(ctx, later.Id); err == nil && s.Cells > 0 { // the bar does without
					of := ribbonCells(s)
					cells.Store(&of)
				}
			}
		}, func() {
			bar.Abort(true)
			p.Wait()
		}
}

// sweepsNow reports whether a run goes over the surface at the moment.
func sweepsNow(r contract.Run) bool {
	return slices.ContainsFunc(r.Steps, func(s contract.Step) bool { return s.State == "begun" && s.Sweep != nil })
}
