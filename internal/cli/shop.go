package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"
)

func (s Starters) shopCommands() *cli.Command {
	return &cli.Command{
		Name: "shop", Usage: "the shop's own records, on this machine", Category: "shop",
		Commands: []*cli.Command{
			s.examineCommand(),
			{
				Name:  "rejoin",
				Usage: "have the stopped service go on with benches as they are, after one lost its journal or was put back from a copy",
				Description: "What a lost journal had and had not told is lost with it. At the next start the releases of owners have to " +
					"be asked for again, and all sessions end.\n\nExample:\n   hylostat shop rejoin --data /var/lib/hylostat",
				Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "`FOLDER` of the records", Value: DefaultData}},
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Present() {
						return &usage{named(c) + " takes no arguments"}
					}
					if err := s.Rejoin(ctx, c.String("data")); err != nil {
						return err
					}
					_, err := fmt.Fprintln(c.Root().Writer, "At its next start the service goes on with the benches as they are.")
					return err
				},
			},
			{
				Name:  "create",
				Usage: "make a shop: once, before the service is started for the first time",
				Description: "With --lead the shop is closed from the beginning: a password is asked for, and that lead enters the " +
					"others. Without, it is open to whoever is on this machine until a lead is entered.\n\n" +
					"Example:\n   hylostat shop create --data /var/lib/hylostat --lead Maud",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "data", Usage: "`FOLDER` for the records", Value: DefaultData},
					&cli.StringFlag{Name: "lead", Usage: "`NAME` of the first lead"},
				},
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() > 0 {
						return &usage{"hylostat shop create takes no arguments"}
					}
					lead, password := c.String("lead"), ""
					if lead != "" {
						var err error
						if password, err = askPassword(c.Root().Reader, c.Root().ErrWriter, passwordFor(lead)); err != nil {
							return err
						}
					}
					if err := s.CreateShop(ctx, c.String("data"), lead, password); err != nil {
						return err
					}
					who := "It is open to whoever is on this machine; the first lead closes it."
					if lead != "" {
						who = lead + " is lead."
					}
					_, err := fmt.Fprintf(c.Root().Writer, "There is a shop in %s. %s\n", c.String("data"), who)
					return err
				},
			},
		},
	}
}
