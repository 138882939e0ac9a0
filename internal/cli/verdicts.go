package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

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
					if g := c.String("overrule"); g != "" {
						if err := oneOf("overrule", g, "healthy", "degrading", "replace"); err != nil {
							return err
						}
					}
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
				Flags: []cli.Flag{yesFlag()},
				Action: action(0, 500, func(ctx context.Context, c call) error {
					r := contract.SignTogetherRequest{By: c.by()}
					if c.Args().Len() == 0 {
						if err := c.sureOfAll(ctx); err != nil {
							return err
						}
					}
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

// sureOfAll asks whether all healthy drives that are not signed are meant.
func (c call) sureOfAll(ctx context.Context) error {
	limit := 1000
	all, err := c.Drives(ctx, contract.ListDrivesParams{Grade: new(contract.GradeHealthy), Limit: &limit})
	if err != nil {
		return err
	}
	open := 0
	for _, d := range all {
		if d.Signed == nil {
			open++
		}
	}
	if open == 0 {
		return nil
	}
	return c.sure("Sign for all healthy drives that are not signed, " + counted(open, "drive", "drives"))
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
		if f.Known != nil {
			rows = append(rows, table.Row{"", "  " + *f.Known, ""})
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
