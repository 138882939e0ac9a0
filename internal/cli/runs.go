package cli

import (
	"context"
	"fmt"
	"io"
	"os/signal"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"hylostat.example/internal/contract"
)

func checkCommands() *cli.Command {
	check := func(name, usage, about string, more ...cli.Flag) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: "DRIVE", Description: about, Flags: append(more, &cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "show its progress until it is done"}),
			Action: action(1, 1, startCheck),
		}
	}
	return &cli.Command{
		Name: "check", Usage: "diagnostic procedures", Category: "drives",
		Commands: []*cli.Command{
			check("quick", "a reading, the drive's short self-test, a reading: minutes", "Does not sweep the surface. Followed, Ctrl-C leaves it running.\n\nExample:\n   hylostat check quick 7M4Q2 --follow"),
			check("conveyance", "a reading, the drive's conveyance self-test, a reading: minutes", "Looks for damage on the way. SATA drives only, and not all of them.\n\nExample:\n   hylostat check conveyance 7M4Q2"),
			check("selective", "a reading, the drive's self-test of some spans of its surface, a reading", "One to five spans of sectors. SATA drives only, and not all of them.\n\nExample:\n   hylostat check selective 7M4Q2 --span 205880000-205890000",
				&cli.StringSliceFlag{Name: "span", Usage: "sectors `FIRST-LAST`, both included", Required: true}),
		},
	}
}

func startCheck(ctx context.Context, c call) error {
	request := contract.CheckRequest{Kind: contract.CheckRequestKind(c.Name), By: c.by()}
	var spans []contract.Span
	for _, text := range c.StringSlice("span") {
		var s contract.Span
		if _, err := fmt.Sscanf(text, "%d-%d", &s.First, &s.Last); err != nil || s.First < 0 || s.Last < s.First {
			return &usage{fmt.Sprintf("%q is no span of sectors: FIRST-LAST", text)}
		}
		spans = append(spans, s)
	}
	if spans != nil {
		request.Spans = &spans
	}
	r, err := c.Check(ctx, c.arg(0), request)
	if err != nil {
		return err
	}
	if c.Bool("follow") {
		return c.follow(ctx, r.Id)
	}
	return c.show(r, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "Run %d started: %s of %s in bay %d, about %s. Follow it: hylostat run follow %d\n", r.Id, strings.ToLower(r.Title), shown(r.Serial), r.Bay, left(r.LeftS), r.Id)
	})
}

func runCommands() *cli.Command {
	return &cli.Command{
		Name: "run", Usage: "checks under way and done", Category: "drives",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "runs, newest first", ArgsUsage: "[DRIVE]", Description: "Example:\n   hylostat run list --open",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "open", Usage: "only those under way"}, &cli.IntFlag{Name: "limit", Usage: "at most `N`", Value: 100}},
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
							rows[i] = table.Row{r.Id, r.Title, shown(r.Serial), r.Bay, minute(r.Asked), r.State, fmt.Sprintf("%d %%", r.Percent), r.Standing}
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
				Name: "follow", Usage: "show a run's progress until it is done", ArgsUsage: "RUN", Description: "Ctrl-C leaves the run running.\n\nExample:\n   hylostat run follow 1",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.run(0)
					if err != nil {
						return err
					}
					return c.follow(ctx, id)
				}),
			},
			{
				Name: "stop", Usage: "stop a run", ArgsUsage: "RUN", Description: "A self-test under way is aborted in the drive.\n\nExample:\n   hylostat run stop 1",
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
	_, _ = fmt.Fprintf(w, "run %d  %s of %s, bay %d, asked by %s on %s\n%s, %d %%: %s\n", r.Id, r.Title, shown(r.Serial), r.Bay, r.By, minute(r.Asked), r.State, r.Percent, r.Standing)
	rows := make([]table.Row, len(r.Steps))
	for i, s := range r.Steps {
		took := ""
		if s.Begun != nil && s.Ended != nil {
			took = left(int(s.Ended.Sub(*s.Begun).Seconds()))
		}
		note := optional(s.Note)
		if optional(s.Adopted) {
			note = strings.TrimPrefix(note+", adopted after a restart", ", ")
		}
		rows[i] = table.Row{i + 1, s.Title, s.State, took, note}
	}
	tabular(w, []any{"", "step", "state", "took", ""}, rows, 1, 4)
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
		case e, open := <-events:
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
	bar := p.New(100, mpb.BarStyle().Lbound("[").Filler("#").Tip("#").Padding(" ").Rbound("]"), mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Any(func(decor.Statistics) string { return shown.Load().Standing }, decor.WC{W: 18, C: decor.DindentRight})),
		mpb.AppendDecorators(decor.Any(func(decor.Statistics) string {
			return fmt.Sprintf(" %d %%, %s left", shown.Load().Percent, left(shown.Load().LeftS))
		})))
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
				Name: "show", Usage: "the present verdict of a drive", ArgsUsage: "DRIVE", Description: "Example:\n   hylostat verdict show 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					v, err := c.Verdict(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(v, func(w io.Writer) { printVerdict(w, v) })
				}),
			},
			{
				Name: "sign", Usage: "accept the verdict, or overrule it", ArgsUsage: "DRIVE",
				Description: "New evidence opens a signed verdict again.\n\nExamples:\n   hylostat verdict sign 7M4R9 --by Dov\n   hylostat verdict sign 7M4Q2 --by Imre --overrule replace --reason \"clicks\"",
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
	for _, u := range v.Unjudged {
		_, _ = fmt.Fprintf(w, "not judged   %s: %s\n", u.Title, u.Reason)
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
	for i, advice := range v.Advice {
		title := ""
		if i == 0 {
			title = "next"
		}
		_, _ = fmt.Fprintf(w, "%-10s  %s\n", title, advice)
	}
}
