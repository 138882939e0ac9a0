package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func alertCommands() *cli.Command {
	return &cli.Command{
		Name: "alert", Usage: "what somebody should know of watched drives and their benches", Category: "drives",
		Commands: []*cli.Command{
			{
				Name:      "list",
				Usage:     "the alerts that are open or taken, of all drives or of one; what moved last first",
				ArgsUsage: "[DRIVE]",
				Description: "One thing has one alert, however often it comes. It is told again when it grows, and settles by itself " +
					"when it has been over at three readings or for a day.\n\nExamples:\n   hylostat alert list\n" +
					"   hylostat alert list --all",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "all", Usage: "those that are settled, too"},
					&cli.IntFlag{Name: "limit", Value: 100, Usage: "at most so `MANY`"},
				},
				Action: action(0, 1, listAlerts),
			},
			{
				Name: "take", Usage: "look after an alert", ArgsUsage: "ALERT", Description: "Example:\n   hylostat alert take 1",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.alert(0)
					if err != nil {
						return err
					}
					a, err := c.TakeAlert(ctx, id, c.by())
					return c.told(a, err)
				}),
			},
			{
				Name:        "settle",
				Usage:       "be done with an alert: it is quiet until it comes anew, or grows beyond what was told",
				ArgsUsage:   "ALERT",
				Description: "Example:\n   hylostat alert settle 1 --note \"cable changed\"",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "note", Usage: "`TEXT` of what was done about it"}},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					id, err := c.alert(0)
					if err != nil {
						return err
					}
					r := contract.SettleRequest{By: c.by()}
					if note := c.String("note"); note != "" {
						r.Note = &note
					}
					a, err := c.SettleAlert(ctx, id, r)
					return c.told(a, err)
				}),
			},
			{
				Name:      "accept",
				Usage:     "note that a flaw is known: its signal is quiet up to a level; without a signal, list what is accepted",
				ArgsUsage: "[DRIVE [SIGNAL]]",
				Description: "It silences exactly that: beyond the level the signal speaks at once. It changes no verdict. SIGNAL is " +
					"its name as drive signals --json has it.\n\nExamples:\n" +
					"   hylostat alert accept 7M511 crc_errors --up-to 30 --reason \"old cable, goes with its case\"\n" +
					"   hylostat alert accept 7M511 crc_errors --end\n   hylostat alert accept",
				Flags: []cli.Flag{
					&cli.FloatFlag{Name: "up-to", HideDefault: true, Usage: "the `LEVEL` up to which it is quiet"},
					&cli.StringFlag{Name: "reason", Usage: "`TEXT`: why it is known"},
					&cli.StringFlag{Name: "until", Usage: "`DAY` on which it speaks again, as 2027-02-01; for good when none is given"},
					&cli.BoolFlag{Name: "end", Usage: "let the signal speak again"},
				},
				Action: action(0, 2, acceptLevel),
			},
			{
				Name:      "follow",
				Usage:     "show the alerts that are open as they come and go, until Ctrl-C; a terminal rings for those that are told",
				ArgsUsage: " ",
				Description: "Elsewhere than in a terminal it prints a line for each that changes.\n\nExample:\n   hylostat alert " +
					"follow",
				Action: action(0, 0, followAlerts),
			},
			{
				Name: "told", Usage: "who was told of an alert, or of all; and what waits to be told", ArgsUsage: "[ALERT]",
				Description: "Kept for 90 days.\n\nExample:\n   hylostat alert told",
				Flags:       []cli.Flag{&cli.IntFlag{Name: "limit", Value: 50, Usage: "at most so `MANY`"}},
				Action:      action(0, 1, listMessages),
			},
			routeCommands(),
		},
	}
}

// alert reads an alert's number.
func (c call) alert(n int) (int64, error) {
	id, err := strconv.ParseInt(c.arg(n), 10, 64)
	if err != nil || id < 1 {
		return 0, &usage{fmt.Sprintf("%q is no alert's number", c.arg(n))}
	}
	return id, nil
}

// told shows an alert as it stands now.
func (c call) told(a contract.Alert, err error) error {
	if err != nil {
		return err
	}
	return c.show(a, func(w io.Writer) {
		said := strings.TrimSuffix(a.Words.Words, ".")
		_, _ = fmt.Fprintf(w, "Alert %d, %s: %s. %s.\n", a.Id, a.Of.Words, said, wording.Capital(stands(a)))
	})
}

// stands is how an alert stands.
func stands(a contract.Alert) string {
	switch {
	case a.State == contract.AlertStateOpen:
		return "open"
	case a.State == contract.AlertStateTaken:
		return optional(a.By) + " looks after it"
	case a.By == nil:
		return "over"
	case a.Note != nil:
		return fmt.Sprintf("settled by %s: %s", *a.By, *a.Note)
	}
	return "settled by " + *a.By
}

func listAlerts(ctx context.Context, c call) error {
	limit := c.Int("limit")
	p := contract.ListAlertsParams{Limit: &limit}
	if !c.Bool("all") {
		state := contract.ListAlertsParamsStateUnsettled
		p.State = &state
	}
	if name := c.arg(0); name != "" {
		p.Drive = &name
	}
	all, err := c.Alerts(ctx, p)
	if err != nil {
		return err
	}
	return c.show(all, func(w io.Writer) { printAlerts(w, all) })
}

func printAlerts(w io.Writer, all []contract.Alert) {
	if len(all) == 0 {
		_, _ = fmt.Fprintln(w, "No alert is open.")
		return
	}
	rows := make([]table.Row, len(all))
	for i, a := range all {
		bay, verdict := "", ""
		if a.Bay != nil {
			bay = a.Bay.Short()
		}
		if a.Grade != nil {
			verdict = grade(*a.Grade)
		}
		rows[i] = table.Row{a.Id, a.Of.Words, bay, verdict, a.Words.Words, minute(a.Moved), stands(a)}
	}
	tabular(w, []any{"alert", "of", "bay", "verdict", "what changed", "since", "how it stands"}, rows, 1, 3)
}

func acceptLevel(ctx context.Context, c call) error {
	drive, signal := c.arg(0), c.arg(1)
	if signal == "" {
		if c.Bool("end") || c.IsSet("up-to") {
			return &usage{"it wants DRIVE and SIGNAL"}
		}
		all, err := c.Accepted(ctx, drive)
		if err != nil {
			return err
		}
		return c.show(all, func(w io.Writer) { printAccepted(w, all) })
	}
	if c.Bool("end") {
		left, err := c.EndAccepted(ctx, drive, signal, c.by())
		if err != nil {
			return err
		}
		return c.show(left, func(w io.Writer) { _, _ = fmt.Fprintln(w, "It speaks again.") })
	}
	if !c.IsSet("up-to") || c.String("reason") == "" {
		return &usage{"say up to which level, and why: --up-to 30 --reason \"old cable\""}
	}
	r := contract.AcceptRequest{Level: c.Float("up-to"), Reason: c.String("reason"), By: c.by()}
	if day := c.String("until"); day != "" {
		until, err := time.ParseInLocation(time.DateOnly, day, time.Local)
		if err != nil {
			return &usage{fmt.Sprintf("%q is no day like 2027-02-01", day)}
		}
		r.Until = &until
	}
	a, err := c.AcceptLevel(ctx, drive, signal, r)
	if err != nil {
		return err
	}
	return c.show(a, func(w io.Writer) { printAccepted(w, []contract.Accepted{a}) })
}

func printAccepted(w io.Writer, all []contract.Accepted) {
	if len(all) == 0 {
		_, _ = fmt.Fprintln(w, "No level is accepted.")
		return
	}
	rows := make([]table.Row, len(all))
	for i, a := range all {
		now, until := "not given", "for good"
		if a.Now != nil {
			now = wording.Of(*a.Now, a.Unit)
		}
		if a.Until != nil {
			until = "until " + a.Until.Local().Format("2 Jan 2006")
		}
		state := "quiet"
		if a.Passed {
			state = "speaks"
		}
		rows[i] = table.Row{wording.Serial(a.Serial), a.Words, now, wording.Of(a.Level, a.Unit), state, until, a.By, a.Reason}
	}
	tabular(w, []any{"drive", "signal", "now", "quiet to", "", "", "by", "reason"}, rows, 3, 4)
}
