package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"hylostat.example/internal/access"
	"hylostat.example/internal/contract"
)

func customerCommands() *cli.Command {
	return &cli.Command{
		Name: "customer", Usage: "what is kept of customers", Category: "shop",
		Commands: []*cli.Command{
			{
				Name:      "erase",
				Usage:     "forget a customer: name, reference, complaints and what releases say of the owner",
				ArgsUsage: "NAME",
				Description: "The name as the intakes have it. Drives, readings and verdicts stay. This cannot be undone.\n\n" +
					"Example:\n   hylostat customer erase \"Pellwick Spit tide gauge\" --yes",
				Flags: []cli.Flag{yesFlag()},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					if err := c.sure(fmt.Sprintf("Forget %q in all intakes and lots, for good", c.arg(0))); err != nil {
						return err
					}
					e, err := c.EraseCustomer(ctx, contract.EraseRequest{Customer: c.arg(0), By: c.by()})
					if err != nil {
						return err
					}
					return c.show(e, func(w io.Writer) {
						_, _ = fmt.Fprintf(
							w, "Erased from %s and %s.\n", counted(e.Intakes, "intake", "intakes"),
							counted(e.Lots, "lot", "lots"),
						)
					})
				}),
			},
		},
	}
}

func (s Starters) personCommands() *cli.Command {
	return &cli.Command{
		Name:     "person",
		Usage:    "who works here, and what each may do",
		Category: "shop",
		Description: "While nobody is entered the shop is open to whoever reaches it. The first person must be a lead, and closes " +
			"it.\nDesk takes in and hands over; technician checks, reworks and signs; lead overrules, publishes policies, enters people.",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "who works here", Description: "Example:\n   hylostat person list",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					all, err := c.People(ctx)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printPeople(w, all) })
				}),
			},
			s.recoverCommand(),
			{
				Name:      "add",
				Usage:     "enter a person, or give one another role, password or token",
				ArgsUsage: "NAME",
				Description: "--password asks for one at the terminal. --token makes a new one and prints it this once.\n\n" +
					"Example:\n   hylostat person add Maud --role lead --password --token",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "role", Usage: "`ROLE` in the shop: desk, technician or lead", Required: true},
					&cli.BoolFlag{Name: "password", Usage: "ask for a password; with the input no terminal, its first line is it"},
					&cli.BoolFlag{Name: "token", Usage: "make a token for the command line"},
				},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					by, token := c.by(), c.Bool("token")
					r := contract.WorkerRequest{Name: c.arg(0), Role: contract.Role(c.String("role")), Token: &token, By: &by}
					if c.Bool("password") {
						secret, err := askPassword(c.Root().Reader, c.Root().ErrWriter, passwordFor(c.arg(0)))
						if err != nil {
							return err
						}
						r.Password = &secret
					}
					p, err := c.AddPerson(ctx, r)
					if err != nil {
						return err
					}
					return c.show(p, func(w io.Writer) {
						_, _ = fmt.Fprintf(w, "%s is %s.\n", p.Name, p.Role)
						if p.NewToken != nil {
							_, _ = fmt.Fprintf(
								w,
								"token  %s\nIt is shown this once. Keep it in a file only you can read, and name that with --token-file.\n",
								*p.NewToken,
							)
						}
					})
				}),
			},
			passwordCommand(),
			demandsCommand(),
			{
				Name:        "remove",
				Usage:       "remove a person; sessions and tokens end, what they did stays in the audit",
				ArgsUsage:   "NAME",
				Description: "Example:\n   hylostat person remove Maud",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					all, err := c.RemovePerson(ctx, c.arg(0), c.by())
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printPeople(w, all) })
				}),
			},
		},
	}
}

func printPeople(w io.Writer, all []contract.Worker) {
	if len(all) == 0 {
		_, _ = fmt.Fprintln(
			w,
			"Nobody is entered: the shop is open to whoever reaches it. Enter a lead with \"hylostat person add NAME --role lead "+
				"--password\".",
		)
		return
	}
	yes := map[bool]string{true: "yes", false: "no"}
	rows := make([]table.Row, len(all))
	for i, p := range all {
		rows[i] = table.Row{p.Name, p.Role, yes[p.Password], yes[p.Factor], yes[p.Token]}
	}
	tabular(w, []any{"name", "role", "password", "factor", "token"}, rows)
}

func passwordFor(name string) string {
	return fmt.Sprintf("Password for %s, %d characters or more: ", name, access.LeastPassword)
}

// secrets reads what is not shown: at a terminal, or lines of something that is none.
type secrets struct {
	in    io.Reader
	lines *bufio.Scanner
	to    io.Writer
}

func newSecrets(in io.Reader, to io.Writer) *secrets {
	return &secrets{in, bufio.NewScanner(io.LimitReader(in, 4096)), to}
}

func (s *secrets) ask(words string) (string, error) {
	if f, ok := s.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		defer echoAgain(int(f.Fd()))()
		_, _ = fmt.Fprint(s.to, words)
		secret, err := term.ReadPassword(int(f.Fd()))
		_, _ = fmt.Fprintln(s.to)
		return string(secret), err
	}
	s.lines.Scan()
	return s.lines.Text(), s.lines.Err()
}

// askPassword asks for one secret.
func askPassword(in io.Reader, to io.Writer, words string) (string, error) {
	return newSecrets(in, to).ask(words)
}

// echoAgain gives a terminal its echo back when the program is interrupted before done is called, and lets it end as it would have.
func echoAgain(terminal int) (done func()) {
	before, err := term.GetState(terminal)
	if err != nil {
		return func() {}
	}
	ending, read := make(chan os.Signal, 1), make(chan struct{})
	signal.Notify(ending, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		select {
		case s := <-ending:
			_ = term.Restore(terminal, before)
			signal.Reset()
			if self, err := os.FindProcess(os.Getpid()); err == nil {
				_ = self.Signal(s)
			}
		case <-read:
		}
	}()
	return func() {
		signal.Stop(ending)
		close(read)
	}
}

func auditCommands() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "what people did", Category: "shop",
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "what people did, newest first",
				ArgsUsage:   "[DRIVE]",
				Description: "Example:\n   hylostat audit list 7M4Q2",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "who", Usage: "only what this `PERSON` did"},
					&cli.IntFlag{Name: "limit", Usage: "at most `N`", Value: 50},
				},
				Action: action(0, 1, func(ctx context.Context, c call) error {
					p := contract.ListAuditParams{}
					if d := c.arg(0); d != "" {
						p.Drive = &d
					}
					if who := c.String("who"); who != "" {
						p.Who = &who
					}
					limit := c.Int("limit")
					p.Limit = &limit
					all, err := c.Audit(ctx, p)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) {
						rows := make([]table.Row, len(all))
						for i, a := range all {
							rows[i] = table.Row{a.Seq, minute(a.At), a.By, cameIn(a), a.Text.Words + edits(a)}
						}
						tabular(w, []any{"no.", "when", "who", "as", "what"}, rows, 1)
					})
				}),
			},
			{
				Name:        "head",
				Usage:       "the audit's last row, signed: kept elsewhere, it shows when the end was cut off",
				Description: "Example:\n   hylostat audit head",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					h, err := c.AuditHead(ctx)
					if err != nil {
						return err
					}
					return c.show(h, func(w io.Writer) {
						_, _ = fmt.Fprintf(w, "%s\nrow %d, %s\nof %s, signed by key %s\n", h.Short, h.Rows, h.Hash, minute(h.At), h.Key)
					})
				}),
			},
			{
				Name:  "verify",
				Usage: "check that no row of the audit was changed, left out or put in",
				Description: "With a head that a paper, an archive or a backup has, it tells whether the end was cut off since.\n\n" +
					"Examples:\n   hylostat audit verify\n   hylostat audit verify --head 131:7bd35aa35d02662d",
				Flags: []cli.Flag{&cli.StringFlag{Name: "head", Usage: "`ROW:HASH` as a paper has it"}},
				Action: action(0, 0, func(ctx context.Context, c call) error {
					v, err := c.VerifyAudit(ctx, c.String("head"))
					if err != nil {
						return err
					}
					if err := c.show(v, func(w io.Writer) {
						if v.Sound {
							_, _ = fmt.Fprintf(w, "%s, each follows from the one before.\n", counted(v.Rows, "row", "rows"))
						}
						if v.Holds != nil && *v.Holds {
							_, _ = fmt.Fprintln(w, "It still has that head.")
						}
					}); err != nil {
						return err
					}
					if v.Holds != nil && !*v.Holds {
						return errors.New("the audit does not have that head: what was in it then was cut off or changed. Compare " +
							"it with a backup")
					}
					if v.Sound {
						return nil
					}
					return fmt.Errorf(
						"row %d of the audit does not follow from the one before: it was changed, or one is missing. Compare it "+
							"with a backup",
						*v.FirstBad,
					)
				}),
			},
		},
	}
}

// cameIn is as whom somebody did something: their role, and how they came in.
func cameIn(a contract.Audited) string {
	return strings.Trim(optional(a.Role)+", "+optional(a.Via), ", ")
}

// edits is what a deed changed, after its text.
func edits(a contract.Audited) string {
	if a.Edits == nil {
		return ""
	}
	none := func(p *string) string { return cmp.Or(optional(p), "nothing") }
	var all []string
	for _, e := range *a.Edits {
		all = append(all, fmt.Sprintf("%s: %s -> %s", e.What, none(e.Before), none(e.After)))
	}
	return " (" + strings.Join(all, "; ") + ")"
}

func (s Starters) recoverCommand() *cli.Command {
	return &cli.Command{
		Name:      "recover",
		Usage:     "let somebody in again who lost their password or second factor: as root, on the service's machine, while it is stopped",
		ArgsUsage: "NAME",
		Description: "Asks for a new password, takes the second factor away and ends the sessions. It stands in the audit.\n\n" +
			"Example:\n   hylostat person recover Maud",
		Flags: []cli.Flag{&cli.StringFlag{Name: "data", Usage: "`FOLDER` of the records", Value: DefaultData}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return &usage{named(c) + " wants one NAME"}
			}
			name := c.Args().First()
			password, err := askPassword(c.Root().Reader, c.Root().ErrWriter, passwordFor(name))
			if err != nil {
				return err
			}
			if err := s.Recover(ctx, c.String("data"), name, password); err != nil {
				return err
			}
			_, err = fmt.Fprintf(c.Root().Writer, "%s has a new password and no second factor. Start the service again.\n", name)
			return err
		},
	}
}
