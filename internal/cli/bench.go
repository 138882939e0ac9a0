package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"
)

// DefaultBenchData is the folder of a bench's journal.
const DefaultBenchData = "/var/lib/hylostat-bench"

// DefaultSocket is where an installed service and its bench meet.
const DefaultSocket = "/run/hylostat/bench.sock"

func (s Starters) benchCommands() *cli.Command {
	set := &settings{section: "bench"}
	data := func() *cli.StringFlag {
		return &cli.StringFlag{Name: "data", Usage: "`FOLDER` of the bench's journal", Value: DefaultBenchData}
	}
	return &cli.Command{
		Name:     "bench",
		Usage:    "run the process that has the drives, apart from the service",
		Category: "service",
		Commands: []*cli.Command{
			{
				Name:  "serve",
				Usage: "have the drives of this machine, for the service that waits at a socket",
				Description: "Reading counters needs root or CAP_SYS_RAWIO. What it finds waits in its journal while there is no " +
					"service: either may be started anew at any time.\n\nExample:\n   hylostat bench serve --socket " +
					"/run/hylostat/bench.sock " +
					"--service-user hylostat",
				Flags: set.from([]cli.Flag{
					data(),
					&cli.StringFlag{Name: "socket", Usage: "`PATH` where the service waits: its --bench-socket", Value: DefaultSocket},
					&cli.StringSliceFlag{Name: "service-user", Usage: "a `USER` whose process may be the service, besides root"},
					&cli.StringFlag{Name: "bench", Usage: "this bench's `NAME`", Value: hostname()},
					imageFlag(),
					allowReworkFlag(),
					&cli.BoolFlag{Name: "rejoin", Usage: "go on although the journal's write-ahead log is lost"},
					logLevelFlag(), logFormatFlag(),
				}),
				Action: set.ready(func(ctx context.Context, c *cli.Command) error {
					log, err := logOf(c)
					if err != nil {
						return err
					}
					return s.Bench(ctx, BenchOptions{
						Dir: c.String("data"), Socket: c.String("socket"), Users: c.StringSlice("service-user"), Title: c.String("bench"),
						Images: c.StringSlice("bay-image"), Rework: c.Bool("allow-rework"), Rejoin: c.Bool("rejoin"), Log: log,
					})
				}),
			},
			{
				Name:        "create",
				Usage:       "make the journal of a new bench",
				Description: "Refused where there is one.\n\nExample:\n   hylostat bench create --data /var/lib/hylostat-bench",
				Flags:       []cli.Flag{data()},
				Action: func(ctx context.Context, c *cli.Command) error {
					if err := s.CreateBench(ctx, c.String("data")); err != nil {
						return err
					}
					_, err := fmt.Fprintf(
						c.Root().Writer, "There is a bench in %s. Run it with \"hylostat bench serve\".\n", c.String("data"),
					)
					return err
				},
			},
		},
	}
}
