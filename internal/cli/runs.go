package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func checkCommands() *cli.Command {
	check := func(name, usage, about string, more ...cli.Flag) *cli.Command {
		return &cli.Command{
			Name:        name,
			Usage:       usage,
			ArgsUsage:   "DRIVE",
			Description: about,
			Flags: append(
				more, despiteFlag(),
				&cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "show its progress until it is done"},
			),
			Action: action(1, 1, startCheck),
		}
	}
	return &cli.Command{
		Name: "check", Usage: "diagnostic procedures", Category: "drives",
		Commands: []*cli.Command{
			check(
				"quick",
				"a reading, the drive's short self-test, a sample of its surface, a reading: minutes",
				"Says what it rules out and what it cannot. Followed, Ctrl-C leaves it running.\n\nExample:\n   hylostat check "+
					"quick 7M4Q2 --follow",
				shareFlag(),
			),
			check(
				"extended",
				"a reading, the drive's extended self-test, a sweep of its whole surface, a reading: hours",
				"Goes on where it was after a restart, and when the drive comes back. Ends early when nothing can change the "+
					"verdict any more.\n\nExample:\n   hylostat check extended 7M4R9",
				shareFlag(),
			),
			check(
				"conveyance", "a reading, the drive's conveyance self-test, a reading: minutes",
				"Looks for damage on the way. SATA drives only, and not all of them.\n\nExample:\n   hylostat check conveyance 7M4Q2",
			),
			check(
				"selective",
				"a reading, the drive's self-test of some spans of its surface, a reading",
				"One to five spans of sectors. SATA drives only, and not all of them.\n\nExample:\n   hylostat check selective "+
					"7M4Q2 --span 205880000-205890000",
				&cli.StringSliceFlag{Name: "span", Usage: "sectors `FIRST-LAST`, both included", Required: true},
			),
		},
	}
}

func startCheck(ctx context.Context, c call) error {
	request := contract.CheckRequest{Kind: contract.CheckRequestKind(c.Name), By: c.by()}
	var spans []contract.Span
	for _, text := range c.StringSlice("span") {
		first, last, _ := strings.Cut(ungrouped(text), "-")
		from, wrong := strconv.ParseInt(first, 10, 64)
		to, alsoWrong := strconv.ParseInt(last, 10, 64)
		if wrong != nil || alsoWrong != nil || from < 0 || to < from {
			return &usage{fmt.Sprintf("%q is no span of sectors: FIRST-LAST", text)}
		}
		spans = append(spans, contract.Span{First: from, Last: to})
	}
	if spans != nil {
		request.Spans = &spans
	}
	if request.Share = given[int](c, "share"); request.Share != nil && (*request.Share < 1 || *request.Share > 100) {
		return &usage{fmt.Sprintf("a sweep can take 1 to 100 %% of a drive's time, not %d", *request.Share)}
	}
	if why := c.String("despite"); why != "" {
		request.Despite = &why
	}
	r, err := c.Check(ctx, c.arg(0), request)
	if err != nil {
		return err
	}
	if c.Bool("follow") {
		return c.follow(ctx, r.Id)
	}
	return c.show(r, func(w io.Writer) {
		_, _ = fmt.Fprintf(
			w, "Run %d started: %s of %s in %s, about %s. Follow it: hylostat run follow %d\n", r.Id, strings.ToLower(r.Title),
			wording.Serial(r.Serial), r.Bay.Words(), left(r.LeftS), r.Id,
		)
	})
}

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
					if err := os.WriteFile(path, b, 0o644); err != nil { //nolint:gosec // a figure is for everybody to look at
						return fmt.Errorf("writing the figure: %w", err)
					}
					_, _ = fmt.Fprintf(c.out, "The ribbon of run %d written to %s\n", id, path)
					return nil
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
			_, _ = fmt.Fprintf(c.Root().ErrWriter, "\nRun %d goes on. Follow it again: hylostat run follow %d\n", id, id)
			return nil
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

// progress gives what shows a run's percentage, and what clears it away.
func (c call) progress(ctx context.Context, r contract.Run) (tell func(contract.Run), end func()) {
	if c.Bool("json") || !terminal(c.out) {
		return func(contract.Run) {}, func() {}
	}
	p := mpb.NewWithContext(ctx, mpb.WithOutput(c.out), mpb.WithWidth(48))
	var shown atomic.Pointer[contract.Run] // the bar draws itself when it likes
	shown.Store(&r)
	bar := p.New(
		100,
		mpb.BarStyle().Lbound("[").Filler("#").Tip("#").Padding(" ").Rbound("]"),
		mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(
			decor.Any(func(decor.Statistics) string { return shown.Load().Standing.Words }, decor.WC{W: 18, C: decor.DindentRight}),
		),
		mpb.AppendDecorators(decor.Any(func(decor.Statistics) string {
			return fmt.Sprintf(" %d %%, %s left", shown.Load().Percent, left(shown.Load().LeftS))
		})),
	)
	return func(later contract.Run) {
			shown.Store(&later)
			bar.SetCurrent(int64(min(99, later.Percent)))
		}, func() {
			bar.Abort(true)
			p.Wait()
		}
}

func verdictCommands() *cli.Command {
	return &cli.Command{
		Name: "verdict", Usage: "the answer and its reasons", Category: "drives",
		Commands: []*cli.Command{
			{
				Name:        "show",
				Usage:       "the present verdict of a drive",
				ArgsUsage:   "DRIVE",
				Description: "Example:\n   hylostat verdict show 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					v, err := c.Verdict(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(v, func(w io.Writer) { printVerdict(w, v) })
				}),
			},
			{
				Name:      "sign",
				Usage:     "accept the verdict, or overrule it",
				ArgsUsage: "DRIVE",
				Description: "New evidence opens a signed verdict again.\n\nExamples:\n   hylostat verdict sign 7M4R9 --by Dov\n  " +
					" hylostat verdict sign 7M4Q2 --by Imre --overrule replace --reason \"clicks\"",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "overrule", Usage: "sign this `VERDICT` instead: healthy, degrading, replace"},
					&cli.StringFlag{Name: "reason", Usage: "`WHY`; needed to overrule"},
				},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					seen, err := c.Verdict(ctx, c.arg(0))
					if err != nil {
						return err
					}
					s := contract.SignOffRequest{By: c.by(), Verdict: &seen.Seq}
					if g := contract.Grade(c.String("overrule")); g != "" {
						s.Grade = &g
					}
					if why := c.String("reason"); why != "" {
						s.Reason = &why
					}
					v, err := c.Sign(ctx, c.arg(0), s)
					if err != nil {
						return err
					}
					return c.show(v, func(w io.Writer) { printVerdict(w, v) })
				}),
			},
			{
				Name:      "sign-together",
				Usage:     "accept the verdicts of drives that are healthy without a finding, and of no others",
				ArgsUsage: "[DRIVE...]",
				Description: "Without DRIVE, of all such drives. What has a finding or a note is left for a person to look at.\n\n" +
					"Example:\n   hylostat verdict sign-together 7M4R9 7M4S3 --by Dov",
				Action: action(0, 500, func(ctx context.Context, c call) error {
					r := contract.SignTogetherRequest{By: c.by()}
					if names := c.Args().Slice(); len(names) > 0 {
						r.Drives = &names
					}
					out, err := c.SignTogether(ctx, r)
					if err != nil {
						return err
					}
					return c.show(out, func(w io.Writer) {
						_, _ = fmt.Fprintf(w, "%s signed by %s.\n", counted(len(out.Signed), "healthy drive", "healthy drives"), c.by())
						for _, l := range out.Left {
							_, _ = fmt.Fprintf(w, "%s not: %s\n", wording.Serial(l.Serial), l.Why)
						}
					})
				}),
			},
		},
	}
}

func signature(v contract.Verdict) string {
	switch {
	case v.Signed == nil:
		return "not signed"
	case v.Signed.Overruled:
		return fmt.Sprintf("overruled with %s by %s: %s", v.Signed.Grade, v.Signed.By, optional(v.Signed.Reason))
	}
	return "signed by " + v.Signed.By
}

// rests says what a finding rests on: the reading and the places of its bytes, or the runs of sweeps.
func rests(f contract.Finding) string {
	var all []string
	for _, r := range f.Rests {
		switch {
		case r.Source == "" || slices.Contains(all, r.Source):
		case len(all) == 3:
			return fmt.Sprintf("by reading %d: %s ...", f.Reading, strings.Join(all, "; "))
		default:
			all = append(all, r.Source)
		}
	}
	if len(all) == 0 {
		return ""
	}
	return fmt.Sprintf("by reading %d: %s", f.Reading, strings.Join(all, "; "))
}

// printRisk shows the chance of failing with what makes it.
func printRisk(w io.Writer, r *contract.Risk) {
	if r == nil {
		return
	}
	by := "published rates only"
	if r.Calibrated > 0 {
		by = fmt.Sprintf("calibrated on %s of the shop", counted(r.Calibrated, "outcome", "outcomes"))
	}
	_, _ = fmt.Fprintf(w, "%-10s  to fail within a year: %s (%s)\n", "chance", r.Words, by)
	_, _ = fmt.Fprintf(w, "%-10s  %5.1f %%  a drive of its kind and age that shows nothing\n", "", r.Base*100)
	for _, f := range r.Factors {
		_, _ = fmt.Fprintf(w, "%-10s  x %5.2f  %s (%s)\n", "", f.Ratio, f.Words, f.Source)
	}
}

func printVerdict(w io.Writer, v contract.Verdict) {
	_, _ = fmt.Fprintf(w, "%s for %s   policy %d   %s\n", bold(w, grade(v.Grade)), v.Duty, v.Policy, signature(v))
	var rows []table.Row
	for i, f := range append(append([]contract.Finding{}, v.Findings...), v.Notes...) {
		margin := ""
		if f.Margin != nil {
			margin = f.Margin.Words
		}
		if f.Effect == "note" {
			margin = strings.TrimPrefix(margin+", advice only", ", ")
		}
		rows = append(rows, table.Row{i + 1, f.Sentence, margin})
		if f.Detail != "" {
			rows = append(rows, table.Row{"", "  " + f.Detail, ""})
		}
		if from := rests(f); from != "" {
			rows = append(rows, table.Row{"", "  " + from, ""})
		}
	}
	if len(rows) > 0 {
		tabular(w, []any{"", "", ""}, rows)
	}
	missing := v.Missing
	if v.Grade == contract.GradeReplace { // one sufficient reason is enough
		missing = nil
	}
	for _, m := range missing {
		_, _ = fmt.Fprintf(w, "missing   %s\n          get it by: %s, about %s\n", m.What, m.Run, left(m.Minutes*60))
	}
	titles := map[string][]string{} // by reason: one is often the reason of several
	for _, u := range v.Unjudged {
		titles[u.Reason] = append(titles[u.Reason], u.Title)
	}
	for _, u := range v.Unjudged {
		if all := titles[u.Reason]; all != nil {
			_, _ = fmt.Fprintf(w, "not judged   %s: %s\n", strings.Join(all, "; "), u.Reason)
			titles[u.Reason] = nil
		}
	}
	for _, fitness := range []struct {
		kind contract.FitFitness
		name string
	}{{"does", "does for"}, {"care", "with care"}, {"not", "not for"}, {"unjudged", "not judged"}} {
		var all []string
		for _, f := range v.Duties {
			if f.Fitness == fitness.kind {
				all = append(all, f.Words)
			}
		}
		if len(all) > 0 {
			_, _ = fmt.Fprintf(w, "%-10s  %s\n", fitness.name, strings.Join(all, "; "))
		}
	}
	printRisk(w, v.Risk)
	for i, advice := range v.Advice {
		title := ""
		if i == 0 {
			title = "next"
		}
		_, _ = fmt.Fprintf(w, "%-10s  %s\n", title, advice)
	}
}
