package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

// watchTimes are the tasks of a plan, by the flag that says when.
var watchTimes = []struct {
	flag, usage string
	of          func(s *contract.WatchSetting) **string
}{
	{"read", "read it every so long, or at a time: `WHEN`", func(s *contract.WatchSetting) **string { return &s.Read }},
	{"short", "its short self-test, `WHEN`", func(s *contract.WatchSetting) **string { return &s.Short }},
	{"extended", "its extended self-test, `WHEN`", func(s *contract.WatchSetting) **string { return &s.Extended }},
	{"spot", "a sweep of a sample of its surface, `WHEN`", func(s *contract.WatchSetting) **string { return &s.Spot }},
	{"whole", "a sweep of its whole surface, `WHEN`", func(s *contract.WatchSetting) **string { return &s.Whole }},
}

// watchBounds are a plan's numbers, by their flag.
var watchBounds = []struct {
	flag, usage string
	of          func(s *contract.WatchSetting) **int
}{
	{"share", "how much of a drive's time a sweep may take, in `PERCENT`", func(s *contract.WatchSetting) **int { return &s.Share }},
	{"surface", "how much of its surface a spot sweep reads at most, in `PERCENT`", func(s *contract.WatchSetting) **int {
		return &s.Surface
	}},
	{"wake-after", "wake a drive that sleeps after so many `DAYS` without a reading; 0: never", func(s *contract.WatchSetting) **int {
		return &s.WakeAfter
	}},
	{"at-once", "how many `DRIVES` of a bench are read at once, and how many are loaded", func(s *contract.WatchSetting) **int {
		return &s.AtOnce
	}},
}

const watchHelp = `The narrowest plan counts: a drive's own before its lot's, its bench's and its duty's. What is not named stays as it
is; never takes a part away. WHEN is every so long (6h, 2d; readings 5m to 30d), a day and a time ("daily 05:30",
"SU,WE 03:00", "1SA 01:00" for a month's first Saturday, "15 02:00" for its 15th day), or a recurrence rule of RFC
5545. What comes due while the service or the bench is away is done once. Somebody's own check comes first. Data at
risk bars everything but readings. A reading on schedule spins no drive up.

Examples:
   hylostat watch plan --bench field --read 6h --short "SU 03:00"
   hylostat watch plan 7M511 --read 2h
   hylostat watch plan --duty archive --read 1d --wake-after 14
   hylostat watch plan`

func watchCommands() *cli.Command {
	flags := []cli.Flag{
		&cli.IntFlag{Name: "lot", HideDefault: true, Usage: "for the drives of a lot, by its `NUMBER`"},
		benchFlag,
		&cli.StringFlag{Name: "duty", Usage: "for the drives of a `DUTY`: continuous, archive, everyday, carry"},
	}
	for _, t := range watchTimes {
		flags = append(flags, &cli.StringFlag{Name: t.flag, Usage: t.usage})
	}
	flags = append(flags, &cli.StringSliceFlag{
		Name: "window", Usage: "when self-tests and sweeps may run: 01:00-06:00, or 20:00-06:00/SA+SU: `FROM-UNTIL`; any: at any time",
	})
	for _, b := range watchBounds {
		flags = append(flags, &cli.IntFlag{Name: b.flag, HideDefault: true, Usage: b.usage})
	}
	flags = append(
		flags,
		&cli.StringFlag{Name: "zone", Usage: "time `ZONE` of all this, as Europe/Lisbon; UTC when none is given"},
		&cli.BoolFlag{Name: "end", Usage: "end the plan"},
	)
	return &cli.Command{
		Name: "watch", Usage: "drives that stay attached: what is asked of them, and when", Category: "drives",
		Commands: append([]*cli.Command{
			{
				Name:        "plan",
				Usage:       "make or change the plan for a drive, a lot, a bench or a duty; without any, list the plans",
				ArgsUsage:   "[DRIVE]",
				Description: watchHelp,
				Flags:       flags,
				Action:      action(0, 1, planWatch),
			},
			{
				Name:        "list",
				Usage:       "the drives under watch: those that were missed first, then by what is due next",
				ArgsUsage:   "[DRIVE]",
				Description: "Examples:\n   hylostat watch list\n   hylostat watch list 7M511",
				Action:      action(0, 1, listWatched),
			},
			{
				Name:        "due",
				Usage:       "what comes due next",
				Description: "Examples:\n   hylostat watch due\n   hylostat watch due --within 7d",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "within", Value: "24h", Usage: "how far ahead: `TIME` as 90m, 24h or 7d"}},
				Action:      action(0, 0, listDue),
			},
		}, watchFileCommands()...),
	}
}

// scope is whom the plan is for that is meant; nil: nobody is named.
func (c call) scope(ctx context.Context) (*contract.WatchScope, error) {
	var s contract.WatchScope
	named := 0
	if c.NArg() > 0 {
		d, err := c.Drive(ctx, c.arg(0))
		if err != nil {
			return nil, err
		}
		s.Drive, s.Model = &d.Serial, &d.Model
		named++
	}
	if s.Lot = given[int64](c, "lot"); s.Lot != nil {
		named++
	}
	if bench := c.String(benchFlag.Name); bench != "" {
		if bench == ownBench {
			bench = ""
		}
		s.Bench = &bench
		named++
	}
	if duty := contract.Duty(c.String("duty")); duty != "" {
		if !duty.Valid() {
			return nil, &usage{fmt.Sprintf("%q is no duty: continuous, archive, everyday, carry", duty)}
		}
		s.Duty = &duty
		named++
	}
	switch named {
	case 0:
		return nil, nil
	case 1:
		return &s, nil
	}
	return nil, &usage{"a plan is for one of a drive, --lot, --bench and --duty"}
}

// same reports whether two plans are for the same.
func same(a, b contract.WatchScope) bool {
	return optional(a.Drive) == optional(b.Drive) && (a.Drive == nil || optional(a.Model) == optional(b.Model)) &&
		optional(a.Lot) == optional(b.Lot) && optional(a.Duty) == optional(b.Duty) &&
		(a.Bench == nil) == (b.Bench == nil) && optional(a.Bench) == optional(b.Bench)
}

// planWatch makes, changes, ends or shows plans.
func planWatch(ctx context.Context, c call) error {
	scope, err := c.scope(ctx)
	if err != nil {
		return err
	}
	all, err := c.WatchPlans(ctx)
	if err != nil {
		return err
	}
	if scope == nil {
		if c.NumFlags() > 0 && (c.Bool("end") || c.changes()) {
			return &usage{"say for whom: DRIVE, --lot, --bench or --duty"}
		}
		return c.show(all, func(w io.Writer) { printWatchPlans(w, all) })
	}
	i := slices.IndexFunc(all, func(p contract.WatchPlan) bool { return same(p.Plan.For, *scope) })
	if !c.Bool("end") && !c.changes() {
		if i < 0 {
			return &usage{"there is no such plan. Say how often to read: --read 6h"}
		}
		return c.show(all[i], func(w io.Writer) { printWatchPlans(w, all[i:i+1]) })
	}
	if c.Bool("end") {
		if i < 0 {
			return &usage{"there is no such plan. List them: hylostat watch plan"}
		}
		left, err := c.EndWatchPlan(ctx, all[i].Id, c.by())
		if err != nil {
			return err
		}
		return c.show(left, func(w io.Writer) {
			_, _ = fmt.Fprintf(w, "The watch of %s by that plan has ended.\n", all[i].Name.Words)
		})
	}
	setting := contract.WatchSetting{For: *scope}
	if i >= 0 {
		setting = all[i].Plan
	}
	setting.For.Model = nil
	if err := c.change(&setting); err != nil {
		return err
	}
	p, err := c.SetWatchPlan(ctx, contract.WatchPlanRequest{Plan: setting, By: c.by()})
	if err != nil {
		return err
	}
	return c.show(p, func(w io.Writer) { _, _ = fmt.Fprintf(w, "%s: %s.\n", wording.Capital(p.Name.Words), p.Words.Words) })
}

// changes reports whether anything of a plan is named.
func (c call) changes() bool {
	for _, t := range watchTimes {
		if c.IsSet(t.flag) {
			return true
		}
	}
	for _, b := range watchBounds {
		if c.IsSet(b.flag) {
			return true
		}
	}
	return c.IsSet("window") || c.IsSet("zone")
}

// change puts what is named into a plan.
func (c call) change(s *contract.WatchSetting) error {
	for _, t := range watchTimes {
		if c.IsSet(t.flag) {
			when := c.String(t.flag)
			if *t.of(s) = &when; when == "never" || when == "" {
				*t.of(s) = nil
			}
		}
	}
	for _, b := range watchBounds {
		if n := given[int](c, b.flag); n != nil {
			*b.of(s) = n
		}
	}
	if c.IsSet("zone") {
		zone := c.String("zone")
		s.Zone = &zone
	}
	if !c.IsSet("window") {
		return nil
	}
	all, err := windows(c.StringSlice("window"))
	if s.Windows = nil; len(all) > 0 {
		s.Windows = &all
	}
	return err
}

// windows reads stretches of a day: "01:00-06:00", "20:00-06:00/SA+SU"; "any" is none.
func windows(texts []string) (all []contract.WatchWindow, err error) {
	for _, text := range texts {
		if text == "any" {
			continue
		}
		hours, days, _ := strings.Cut(text, "/")
		from, until, ok := strings.Cut(hours, "-")
		if !ok {
			return nil, &usage{fmt.Sprintf("%q is no window: write 01:00-06:00, or 01:00-06:00/SA", text)}
		}
		w := contract.WatchWindow{From: from, Until: until}
		if days != "" {
			var on []contract.WatchWindowDays
			for d := range strings.SplitSeq(strings.ToUpper(days), "+") {
				on = append(on, contract.WatchWindowDays(d))
			}
			w.Days = &on
		}
		all = append(all, w)
	}
	return all, nil
}

func printWatchPlans(w io.Writer, all []contract.WatchPlan) {
	if len(all) == 0 {
		_, _ = fmt.Fprintln(w, "No drive is watched. Make a plan: hylostat watch plan --bench own --read 6h")
		return
	}
	rows := make([]table.Row, len(all))
	for i, p := range all {
		rows[i] = table.Row{p.Name.Words, p.Words.Words, p.By}
	}
	tabular(w, []any{"watch of", "plan", "by"}, rows)
}

// listWatched shows the drives under watch, or one of them.
func listWatched(ctx context.Context, c call) error {
	if c.NArg() > 0 {
		d, err := c.Watched(ctx, c.arg(0))
		if err != nil {
			return err
		}
		return c.show(d, func(w io.Writer) { printWatched(w, d) })
	}
	all, err := c.WatchedDrives(ctx, 10000)
	if err != nil {
		return err
	}
	return c.show(all, func(w io.Writer) {
		if len(all) == 0 {
			printWatchPlans(w, nil)
			return
		}
		rows := make([]table.Row, len(all))
		for i, d := range all {
			bay := ""
			if d.Bay != nil {
				bay = d.Bay.Short()
			}
			next, first := "", time.Time{}
			for _, x := range d.Comes {
				if x.Next != nil && (first.IsZero() || x.Next.Before(first)) {
					next, first = minute(*x.Next)+", "+x.Title, *x.Next
				}
			}
			rows[i] = table.Row{wording.Serial(d.Serial), bay, grade(d.Grade), toldOf(d), next, stateOf(d)}
		}
		tabular(w, []any{"drive", "bay", "verdict", "read last", "due next", "how it stands"}, rows, 2)
	})
}

// toldOf is when a drive told its counters last.
func toldOf(d contract.Watched) string {
	if d.Told == nil {
		return "never"
	}
	return minute(*d.Told)
}

// stateOf is how the watch of a drive stands, in few words; empty: as it should.
func stateOf(d contract.Watched) string {
	switch {
	case !d.Attached:
		return "not here"
	case len(d.Missed) > 0:
		return counted(len(d.Missed), "reading", "readings") + " missed since " + minute(d.Missed[0])
	case d.Run != nil && optional(d.Waits):
		return fmt.Sprintf("run %d waits for its window", *d.Run)
	case d.Run != nil:
		return fmt.Sprintf("run %d goes on", *d.Run)
	case d.Keeps != nil:
		return d.Keeps.Words
	}
	return ""
}

func printWatched(w io.Writer, d contract.Watched) {
	_, _ = fmt.Fprintf(w, "%s  %s\n", wording.Serial(d.Serial), grade(d.Grade))
	_, _ = fmt.Fprintf(w, "%s, by the plan for %s\n", d.Words.Words, d.Name.Words)
	_, _ = fmt.Fprintf(w, "read last %s\n", toldOf(d))
	if s := stateOf(d); s != "" {
		_, _ = fmt.Fprintln(w, s)
	}
	rows := make([]table.Row, len(d.Comes))
	for i, x := range d.Comes {
		rows[i] = table.Row{x.Title, moment(x.Done, "never"), moment(x.Next, "not any more")}
	}
	tabular(w, []any{"", "done last", "due next"}, rows)
	for _, t := range d.Never {
		_, _ = fmt.Fprintf(w, "Its %s never begins: it takes longer than the longest window.\n", strings.ReplaceAll(string(t), "_", " "))
	}
}

// moment is a time that may be none.
func moment(t *time.Time, none string) string {
	if t == nil {
		return none
	}
	return minute(*t)
}

// listDue shows what comes due next.
func listDue(ctx context.Context, c call) error {
	within, err := ahead(c.String("within"))
	if err != nil {
		return err
	}
	s, err := c.Service(ctx)
	if err != nil {
		return err
	}
	drives, err := c.WatchedDrives(ctx, 10000)
	if err != nil {
		return err
	}
	type due struct {
		At     time.Time      `json:"at"`
		Serial string         `json:"serial"`
		Bay    string         `json:"bay,omitempty"`
		Task   string         `json:"task"`
		Keeps  *contract.Said `json:"keeps,omitempty"`
	}
	all := []due{}
	for _, d := range drives {
		for _, x := range d.Comes {
			if x.Next == nil || x.Next.After(s.Time.Add(within)) {
				continue
			}
			one := due{At: *x.Next, Serial: d.Serial, Task: x.Title}
			if d.Bay != nil {
				one.Bay = d.Bay.Short()
			}
			if x.Task != contract.WatchTaskReading {
				one.Keeps = d.Keeps
			}
			all = append(all, one)
		}
	}
	slices.SortStableFunc(all, func(a, b due) int { return a.At.Compare(b.At) })
	return c.show(all, func(w io.Writer) {
		if len(all) == 0 {
			_, _ = fmt.Fprintf(w, "Nothing comes due within %s.\n", c.String("within"))
			return
		}
		rows := make([]table.Row, len(all))
		for i, d := range all {
			keeps := ""
			if d.Keeps != nil {
				keeps = d.Keeps.Words
			}
			rows[i] = table.Row{minute(d.At), wording.Serial(d.Serial), d.Bay, d.Task, keeps}
		}
		tabular(w, []any{"due", "drive", "bay", "what", "what keeps it"}, rows, 3)
	})
}

// ahead reads how far ahead: 90m, 24h, 7d.
func ahead(text string) (time.Duration, error) {
	t := text
	if days, ok := strings.CutSuffix(t, "d"); ok {
		t = days + "h"
	}
	d, err := time.ParseDuration(t)
	if err != nil || d <= 0 {
		return 0, &usage{fmt.Sprintf("%q is no time ahead: write 90m, 24h or 7d", text)}
	}
	if t != text {
		d *= 24
	}
	return d, nil
}
