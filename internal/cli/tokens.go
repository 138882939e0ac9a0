package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
)

func tokenCommands() *cli.Command {
	return &cli.Command{
		Name: "token", Usage: "by what programs prove for whom they ask", Category: "shop",
		Description: "Each has a name, may what it is made for and no more, and ends when it is said or by itself.",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "one's own tokens; a lead sees everybody's", Description: "Example:\n   hylostat token list",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					all, err := c.Tokens(ctx)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printTokens(w, all) })
				}),
			},
			{
				Name: "add", Usage: "make a token, and print it this once", ArgsUsage: "NAME",
				Description: "The name says what it is for. Only somebody who is entered has tokens; for the first one see person add " +
					"--token.\n\nExample:\n   hylostat token add \"label printer\" --scope reads --days 365",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name: "scope", Required: true,
						Usage: "`WHAT` it may: reads, which changes nothing, or desk, technician, lead, its person's role at most",
					},
					&cli.IntFlag{Name: "days", Usage: "after how many `DAYS` it ends; never when not given"},
					&cli.StringFlag{Name: "for", Usage: "the `PERSON` whose it is; a lead may have one made for anybody"},
				},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					r := contract.TokenRequest{Name: c.arg(0), Scope: contract.TokenScope(c.String("scope")), Days: given[int](c, "days")}
					if person := c.String("for"); person != "" {
						r.Person = &person
					}
					t, err := c.AddToken(ctx, r)
					if err != nil {
						return err
					}
					return c.show(t, func(w io.Writer) {
						_, _ = fmt.Fprintf(w, "token  %s\nIt is shown this once, and is %s's, for %s, %s. Keep it in a file only you can "+
							"read, and name that with --token-file.\n", optional(t.Secret), t.Person, t.Scope, until(t.Expires))
					})
				}),
			},
			{
				Name: "end", Usage: "end a token", ArgsUsage: "ID",
				Description: "The ID as the list has it.\n\nExample:\n   hylostat token end 7kq2mzw4ta",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.EndToken(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printTokens(w, all) })
				}),
			},
		},
	}
}

// until is when something ends by itself.
func until(t *time.Time) string {
	if t == nil {
		return "without an end"
	}
	return "until " + minute(*t)
}

func printTokens(w io.Writer, all []contract.Token) {
	if len(all) == 0 {
		_, _ = fmt.Fprintln(w, "There are no tokens.")
		return
	}
	rows := make([]table.Row, len(all))
	for i, t := range all {
		seen := "never"
		if t.Seen != nil {
			seen = minute(*t.Seen)
		}
		rows[i] = table.Row{t.Id, t.Person, t.Name, t.Scope, t.By, until(t.Expires), seen}
	}
	tabular(w, []any{"ID", "whose", "for", "may", "made by", "lasts", "last used"}, rows)
}

func sessionCommands() *cli.Command {
	return &cli.Command{
		Name: "session", Usage: "who is signed in at the console, from where", Category: "shop",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "one's own sessions; a lead sees everybody's", Description: "Example:\n   hylostat session list",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					all, err := c.Sessions(ctx)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printSessions(w, all) })
				}),
			},
			{
				Name: "end", Usage: "end a session", ArgsUsage: "ID",
				Description: "The ID as the list has it.\n\nExample:\n   hylostat session end 7kq2mzw4ta",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.EndSession(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printSessions(w, all) })
				}),
			},
		},
	}
}

func printSessions(w io.Writer, all []contract.SignedIn) {
	if len(all) == 0 {
		_, _ = fmt.Fprintln(w, "Nobody is signed in.")
		return
	}
	rows := make([]table.Row, len(all))
	for i, s := range all {
		rows[i] = table.Row{s.Id, s.Person, s.Address, minute(s.Begun), minute(s.Seen), s.Agent}
	}
	tabular(w, []any{"ID", "who", "from", "since", "last asked", "by"}, rows)
}

// passwordCommand changes one's own password.
func passwordCommand() *cli.Command {
	return &cli.Command{
		Name: "password", Usage: "change one's own password; one's sessions end",
		Description: "Asks for the one of before and for the new one; with the input no terminal, they are its first two lines.\n\n" +
			"Example:\n   hylostat person password",
		Flags: []cli.Flag{&cli.StringFlag{Name: "code", Usage: "`CODE` of the second factor, where there is one"}},
		Action: action(0, 0, func(ctx context.Context, c call) error {
			in := newSecrets(c.Root().Reader, c.Root().ErrWriter)
			before, err := in.ask("Present password: ")
			if err != nil {
				return err
			}
			after, err := in.ask(passwordFor("yourself"))
			if err != nil {
				return err
			}
			r := contract.PasswordRequest{Before: before, Password: after}
			if code := c.String("code"); code != "" {
				r.Code = &code
			}
			s, err := c.SetPassword(ctx, r)
			if err != nil {
				return err
			}
			return c.show(s, func(w io.Writer) { _, _ = fmt.Fprintln(w, "The password is changed.") })
		}),
	}
}

// demandsCommand shows and sets what the shop demands.
func demandsCommand() *cli.Command {
	return &cli.Command{
		Name: "demands", Usage: "what the shop demands of people beyond a password or token",
		Description: "With a second factor, whoever signs in gives a code of a device, too; each sets theirs up at the console. With a " +
			"second person, an overwrite starts when somebody else orders it, too, within the hour.\n\n" +
			"Examples:\n   hylostat person demands\n   hylostat person demands --second-person",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "second-factor", Usage: "demand one; --second-factor=false no more"},
			&cli.BoolFlag{Name: "second-person", Usage: "demand one for an overwrite; --second-person=false no more"},
		},
		Action: action(0, 0, func(ctx context.Context, c call) error {
			d, err := c.Demands(ctx)
			if err != nil {
				return err
			}
			if c.IsSet("second-factor") || c.IsSet("second-person") {
				by := c.by()
				r := contract.DemandsRequest{SecondFactor: d.SecondFactor, SecondPerson: d.SecondPerson, By: &by}
				if c.IsSet("second-factor") {
					r.SecondFactor = c.Bool("second-factor")
				}
				if c.IsSet("second-person") {
					r.SecondPerson = c.Bool("second-person")
				}
				if d, err = c.SetDemands(ctx, r); err != nil {
					return err
				}
			}
			return c.show(d, func(w io.Writer) {
				yes := map[bool]string{true: "demanded", false: "not demanded"}
				_, _ = fmt.Fprintf(w, "second factor  %s\nsecond person  %s\n", yes[d.SecondFactor], yes[d.SecondPerson])
			})
		}),
	}
}
