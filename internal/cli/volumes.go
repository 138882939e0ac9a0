package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func volumeCommands() *cli.Command {
	show := func(c call, v contract.Volumes, err error) error {
		if err != nil {
			return err
		}
		return c.show(v, func(w io.Writer) { printVolumes(w, v) })
	}
	return &cli.Command{
		Name: "volume", Usage: "partitions and file systems on a drive: is it the drive, or what lies on it?", Category: "drives",
		Commands: []*cli.Command{
			{
				Name: "look",
				Usage: "read partition tables and superblocks, and have the system's own checkers look, all without " +
					"changing anything",
				ArgsUsage: "DRIVE",
				Description: "Not for a drive whose data is wanted and not copied. Checkers that are not installed are left out, " +
					"and that is said.\n\nExample:\n   hylostat volume look 7M4R9",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					v, err := c.LookAtVolumes(ctx, c.arg(0), c.by())
					return show(c, v, err)
				}),
			},
			{
				Name: "show", Usage: "what was seen last", ArgsUsage: "DRIVE", Description: "Example:\n   hylostat volume show 7M4R9",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					v, err := c.Volumes(ctx, c.arg(0))
					return show(c, v, err)
				}),
			},
		},
	}
}

func printVolumes(w io.Writer, v contract.Volumes) {
	_, _ = fmt.Fprintf(w, "%s\n", bold(w, v.Says.Words))
	for _, f := range v.Faults {
		_, _ = fmt.Fprintf(w, "partition table: %s\n", f)
	}
	scheme := "no partition table"
	if v.Scheme != nil {
		scheme = *v.Scheme
	}
	_, _ = fmt.Fprintf(w, "%s, looked at on %s\n", scheme, minute(v.At))
	if len(v.Volumes) == 0 {
		return
	}
	rows := make([]table.Row, len(v.Volumes))
	for i, x := range v.Volumes {
		where := "whole drive"
		if x.Partition > 0 {
			where = fmt.Sprint(x.Partition)
		}
		kind := optional(x.Kind)
		if kind == "" {
			kind = "not recognised"
		}
		state := string(x.State)
		if x.Why != nil {
			state += ": " + *x.Why
		}
		checked := ""
		if x.Checked != nil {
			checked = string(*x.Checked)
			if *x.Checked == "not checked" {
				checked += ": " + optional(x.Said)
			} else {
				checked += ", says " + optional(x.Checker)
			}
		}
		rows[i] = table.Row{where, kind, optional(x.Label), wording.Size(x.Bytes), optional(x.Type), state, checked}
	}
	tabular(w, []any{"partition", "holds", "label", "size", "meant for", "says of itself", "checked"}, rows, 4)
}
