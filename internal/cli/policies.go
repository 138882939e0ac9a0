package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func policyCommands() *cli.Command {
	return &cli.Command{
		Name: "policy", Usage: "the shop's rules: show them, test a draft, replay it over the past, publish it", Category: "shop",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "the policies that were in force, newest first", Description: "Example:\n   hylostat policy list",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					p, err := c.Policy(ctx)
					if err != nil {
						return err
					}
					return c.show(p.Versions, func(w io.Writer) { printVersions(w, p.Versions) })
				}),
			},
			{
				Name:      "restore",
				Usage:     "put a policy that was in force before in force again, as the next version",
				ArgsUsage: "VERSION",
				Description: "Its own examples must hold. All drives are judged anew; signatures stay where the verdict does.\n\n" +
					"Example:\n   hylostat policy restore 6 --note \"the draft was too strict\" --by Imre",
				Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "`WHY`", Required: true}},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					version, err := strconv.Atoi(c.arg(0))
					if err != nil {
						return &usage{fmt.Sprintf("%q is no version of the policy: a number", c.arg(0))}
					}
					was, err := c.PolicyVersion(ctx, version)
					if err != nil {
						return err
					}
					note := fmt.Sprintf("version %d again: %s", version, c.String("note"))
					p, err := c.PublishPolicy(ctx, contract.PolicyPublication{Text: was.Text, Note: note, By: c.by()})
					if err != nil {
						return err
					}
					return c.show(p, func(w io.Writer) { printInForce(w, p) })
				}),
			},
			{
				Name:      "show",
				Usage:     "the rules in force, in words; with a VERSION, those of then; with RULE, one of them whole",
				ArgsUsage: "[VERSION] [RULE]",
				Description: "A draft begins as a copy of the text in force.\n\nExamples:\n   hylostat policy show\n   hylostat " +
					"policy show pending\n   hylostat policy show 6\n   hylostat policy show --text > draft.yaml",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "text", Usage: "its text, YAML, as it was published"}},
				Action: action(0, 2, func(ctx context.Context, c call) error {
					p, rule, err := c.policyMeant(ctx)
					if err != nil {
						return err
					}
					if c.Bool("text") {
						_, err := io.WriteString(c.out, p.Text)
						return err
					}
					if rule != "" {
						var names []string
						for _, r := range p.Rules {
							names = append(names, r.Id)
							if r.Id == rule {
								return c.show(r, func(w io.Writer) { printRule(w, r) })
							}
						}
						return &usage{fmt.Sprintf("policy %d has no rule %q%s", p.Version, rule, closest(rule, names))}
					}
					return c.show(p, func(w io.Writer) { printPolicy(w, p) })
				}),
			},
			{
				Name: "test", Usage: "put a policy's own examples to its rules", ArgsUsage: "[FILE]",
				Description: "Without FILE, the policy in force.\n\nExample:\n   hylostat policy test draft.yaml",
				Action: action(0, 1, func(ctx context.Context, c call) error {
					var d contract.PolicyDraft
					if c.arg(0) != "" {
						text, err := read(c.arg(0))
						if err != nil {
							return err
						}
						d.Text = &text
					}
					t, err := c.TestPolicy(ctx, d)
					if err != nil {
						return err
					}
					if err := c.show(t, func(w io.Writer) { printTrials(w, t) }); err != nil || t.Failed == 0 {
						return err
					}
					return &notPassed{counted(t.Failed, "example is not answered as it says", "examples are not answered as they say")}
				}),
			},
			{
				Name:      "replay",
				Usage:     "run a draft over everything that was recorded, and see who would differ and when",
				ArgsUsage: "FILE",
				Description: "Where the outcome of drives is known, it is scored by them: see \"hylostat outcome\".\n\nExample:\n " +
					"  hylostat policy replay draft.yaml",
				Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Usage: "show `N` drives at most", Value: 20}},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					text, err := read(c.arg(0))
					if err != nil {
						return err
					}
					r, err := c.ReplayPolicy(ctx, contract.PolicyDraft{Text: &text})
					if err != nil {
						return err
					}
					return c.show(r, func(w io.Writer) { printReplay(w, r, c.Int("limit")) })
				}),
			},
			{
				Name:      "publish",
				Usage:     "put a policy in force as the next version",
				ArgsUsage: "FILE",
				Description: "Its own examples must hold. All drives are judged anew; signatures stay where the verdict does.\n\n" +
					"Example:\n   hylostat policy publish draft.yaml --note \"ten sectors are enough\" --by Imre",
				Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "`WHAT` changes, and why"}},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					text, err := read(c.arg(0))
					if err != nil {
						return err
					}
					if c.String("note") == "" {
						return &usage{"a policy needs --note: what changes, and why"}
					}
					p, err := c.PublishPolicy(ctx, contract.PolicyPublication{Text: text, Note: c.String("note"), By: c.by()})
					if err != nil {
						return err
					}
					return c.show(p, func(w io.Writer) { printInForce(w, p) })
				}),
			},
		},
	}
}

// policyMeant is the policy that arguments name, that in force without a version, and which of its rules; empty: all.
func (c call) policyMeant(ctx context.Context) (p contract.Policy, rule string, err error) {
	version, wrong := strconv.Atoi(c.arg(0))
	if wrong != nil {
		if c.arg(1) != "" {
			return p, "", &usage{fmt.Sprintf("%q is no version of the policy: a number", c.arg(0))}
		}
		p, err = c.Policy(ctx)
		return p, c.arg(0), err
	}
	p, err = c.PolicyVersion(ctx, version)
	return p, c.arg(1), err
}

func printInForce(w io.Writer, p contract.Policy) {
	_, _ = fmt.Fprintf(w, "Policy %d is in force: %d rules. Drives are judged by it now.\n", p.Version, len(p.Rules))
}

// policyLimit bounds a policy's text, in bytes, as the service does.
const policyLimit = 200_000

func read(path string) (string, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("reading %s: %w", path, reason(err))
	}
	if len(b) > policyLimit {
		return "", &usage{fmt.Sprintf("%s has %d bytes; a policy has %d at most", path, len(b), policyLimit)}
	}
	return string(b), nil
}

func counted(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%s %s", wording.Number(float64(n)), more)
}

func printPolicy(w io.Writer, p contract.Policy) {
	_, _ = fmt.Fprintf(w, "policy %d, %s: %d rules\n", p.Version, p.Name, len(p.Rules))
	rows := make([]table.Row, len(p.Rules))
	for i, r := range p.Rules {
		rows[i] = table.Row{r.Id, r.Effect, r.Applies, r.Words}
	}
	tabular(w, []any{"rule", "effect", "for", "says"}, rows)
	if len(p.Limits) > 0 {
		_, _ = fmt.Fprintln(w, "\nlimits, which rules name")
		rows = nil
		for _, l := range p.Limits {
			rows = append(rows, table.Row{l.Name, l.Words, l.Source})
		}
		tabular(w, []any{"limit", "at", "source"}, rows)
	}
	_, _ = fmt.Fprintln(w, "\nhealthy needs")
	for _, e := range p.Evidence {
		_, _ = fmt.Fprintln(w, "  "+e)
	}
	_, _ = fmt.Fprintln(w, "\nin force")
	printVersions(w, p.Versions)
}

func printVersions(w io.Writer, all []contract.PolicyVersion) {
	var rows []table.Row
	for _, v := range all {
		by := "shipped"
		if v.By != nil {
			by = "by " + *v.By
		}
		rows = append(rows, table.Row{v.Version, minute(v.At), by, optional(v.Note)})
	}
	tabular(w, []any{"version", "since", "published", "note"}, rows, 1)
}

func printRule(w io.Writer, r contract.PolicyRule) {
	for _, line := range [][2]string{
		{"rule", r.Id + ", " + r.Title},
		{"effect", string(r.Effect)},
		{"for", r.Applies},
		{"when", r.When},
		{"needs", strings.Join(r.Needs, ", ")},
		{"says", r.Says},
		{"customer", r.Customer},
		{"advice", strings.Join(r.Advice, " ")},
		{"limit", optional(r.Limit)},
		{"source", r.Source},
		{"examples", fmt.Sprint(r.Examples)},
	} {
		if line[1] != "" {
			_, _ = fmt.Fprintf(w, "%-9s %s\n", line[0], line[1])
		}
	}
	if r.Unfit != nil {
		_, _ = fmt.Fprintf(w, "%-9s %v\n", "unfit for", *r.Unfit)
	}
}

func printTrials(w io.Writer, t contract.PolicyTrials) {
	says := map[bool]string{true: "fires", false: "is quiet"}
	for _, x := range t.Trials {
		switch {
		case x.Passed:
		case x.Error != nil:
			_, _ = fmt.Fprintf(w, "rule %s, example %d: %s\n", x.Rule, x.Example, *x.Error)
		default:
			_, _ = fmt.Fprintf(w, "rule %s, example %d: it %s, and should not\n", x.Rule, x.Example, says[x.Fires])
		}
	}
	_, _ = fmt.Fprintf(w, "%s, %d failed\n", counted(len(t.Trials), "example", "examples"), t.Failed)
	if len(t.Without) > 0 {
		_, _ = fmt.Fprintf(w, "without an example: %s\n", strings.Join(t.Without, ", "))
	}
}

func printReplay(w io.Writer, r contract.Replay, limit int) {
	_, _ = fmt.Fprintf(
		w, "%s over %s in %.1f s: the draft differs from policy %d for %s.\n", counted(r.Readings, "reading", "readings"),
		counted(r.Drives, "drive", "drives"), r.TookS, r.Policy, counted(r.Changed, "drive", "drives"),
	)
	if len(r.Moves) > 0 {
		_, _ = fmt.Fprintln(w, "\nas drives stand now")
		rows := make([]table.Row, len(r.Moves))
		for i, m := range r.Moves {
			rows[i] = table.Row{m.Drives, grade(m.Was), grade(m.Would)}
		}
		tabular(w, []any{"drives", "now", "by the draft"}, rows, 1)
	}
	if r.Failed+r.Sound > 0 {
		_, _ = fmt.Fprintf(
			w, "\non %s known to have failed and %s known to have worked\n", counted(r.Failed, "drive", "drives"),
			counted(r.Sound, "drive", "drives"),
		)
		row := func(name string, s contract.Score) table.Row {
			lead := ""
			if s.LeadMedianH != nil {
				lead = days(*s.LeadMedianH)
			}
			return table.Row{name, fmt.Sprintf("%d of %d", s.Hits, r.Failed), fmt.Sprintf("%d of %d", s.FalseAlarms, r.Sound), lead}
		}
		tabular(
			w, []any{"", "said replace before", "false alarms", "ahead, median"},
			[]table.Row{row("in force", r.Was), row("draft", r.Would)},
		)
	}
	printReplayAlerts(w, r)
	printRiskLearnt(w, r.Risk)
	if len(r.Shown) == 0 {
		return
	}
	_, _ = fmt.Fprintln(w)
	var rows []table.Row
	for _, d := range r.Shown[:min(limit, len(r.Shown))] {
		for i, x := range d.Differs {
			name := ""
			if i == 0 {
				name = wording.Serial(d.Serial)
			}
			until := ""
			if x.Still {
				until = "to this day"
			}
			rows = append(rows, table.Row{name, day(x.At), x.Reading, grade(x.Was), grade(x.Would), optional(x.WouldWhy), until})
		}
	}
	tabular(w, []any{"drive", "from", "reading", "in force", "draft", "why", ""}, rows, 3)
	if more := r.Changed - min(limit, len(r.Shown)); more > 0 {
		_, _ = fmt.Fprintf(w, "and %s. See them with --limit, or --json.\n", counted(more, "more drive", "more drives"))
	}
}

// printReplayAlerts tells of how much somebody would have been told, in all and of late.
func printReplayAlerts(w io.Writer, r contract.Replay) {
	if r.Watched == 0 {
		return
	}
	type sum struct{ was, would int }
	kinds, weeks, all := map[contract.AlertKind]sum{}, map[string]sum{}, sum{}
	add := func(s sum, a contract.ReplayAlerts) sum { return sum{s.was + a.Was, s.would + a.Would} }
	for _, a := range r.Alerts {
		kinds[a.Kind], weeks[a.Week], all = add(kinds[a.Kind], a), add(weeks[a.Week], a), add(all, a)
	}
	_, _ = fmt.Fprintf(
		w, "\non the %s under watch the draft would have told %s instead of %d\n", counted(r.Watched, "drive", "drives"),
		counted(all.would, "alert", "alerts"), all.was,
	)
	var rows []table.Row
	for _, kind := range slices.Sorted(maps.Keys(kinds)) {
		rows = append(rows, table.Row{strings.ReplaceAll(string(kind), "_", " "), kinds[kind].was, kinds[kind].would})
	}
	last := slices.Sorted(maps.Keys(weeks))
	for _, week := range last[max(0, len(last)-4):] {
		name := week
		if monday, err := time.Parse(time.DateOnly, week); err == nil {
			name = monday.Format("2 Jan 2006")
		}
		rows = append(rows, table.Row{"week of " + name, weeks[week].was, weeks[week].would})
	}
	if len(rows) > 0 {
		tabular(w, []any{"", "in force", "draft"}, rows, 2, 3)
	}
}

func printRiskLearnt(w io.Writer, k contract.RiskLearnt) {
	_, _ = fmt.Fprintf(w, "\nchance of failing within a year: %s\n", k.Words)
	var rows []table.Row
	for i, t := range k.Tenths {
		if t.Drives > 0 {
			rows = append(
				rows,
				table.Row{
					fmt.Sprintf("%d to %d %%", i*10, i*10+10),
					fmt.Sprintf("%.1f", t.Drives),
					fmt.Sprintf("%.0f %%", t.Said*100),
					fmt.Sprintf("%.0f %%", t.Failed/t.Drives*100),
				},
			)
		}
	}
	if len(rows) > 0 {
		tabular(w, []any{"said", "drives", "on average", "seen to fail"}, rows, 2, 3, 4)
	}
}

func days(hours float64) string {
	if hours < 48 {
		return fmt.Sprintf("%.0f h", hours)
	}
	return fmt.Sprintf("%.0f days", hours/24)
}

func day(t time.Time) string { return t.Local().Format("2 Jan 2006") }

func outcomeCommand() *cli.Command {
	return &cli.Command{
		Name:      "outcome",
		Usage:     "what became of a drive: note it, or show it",
		ArgsUsage: "DRIVE",
		Category:  "drives",
		Description: "Policies are judged by it: see \"hylostat policy replay\".\n\nExamples:\n   hylostat outcome 7M4Q2 --failed " +
			"2026-11-02 --note \"came back dead\"\n   hylostat outcome 7M4R9 --worked-until 2026-11-20",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "failed", Usage: "the `DAY` it failed, as 2026-11-02"},
			&cli.StringFlag{Name: "worked-until", Usage: "the `DAY` until which it is known to have worked"},
			&cli.StringFlag{Name: "note", Usage: "`WHAT` is known"},
		},
		Action: action(1, 1, func(ctx context.Context, c call) error {
			failed, worked := c.String("failed"), c.String("worked-until")
			if failed != "" && worked != "" {
				return &usage{"a drive has failed, or has worked: give one of --failed and --worked-until"}
			}
			var o contract.Outcome
			var err error
			if failed+worked == "" {
				o, err = c.Outcome(ctx, c.arg(0))
			} else {
				at, wrong := time.Parse(time.DateOnly, failed+worked)
				if wrong != nil {
					return &usage{fmt.Sprintf("%q is no day as 2026-11-02", failed+worked)}
				}
				r := contract.OutcomeRequest{Failed: failed != "", At: at, By: c.by()}
				if note := c.String("note"); note != "" {
					r.Note = &note
				}
				o, err = c.SetOutcome(ctx, c.arg(0), r)
			}
			if err != nil {
				return err
			}
			return c.show(o, func(w io.Writer) {
				what := "known to have worked until"
				if o.Failed {
					what = "failed on"
				}
				_, _ = fmt.Fprintf(w, "%s %s\n", what, strings.TrimSpace(o.At.UTC().Format("2 Jan 2006")+"  "+optional(o.Note)))
			})
		}),
	}
}
