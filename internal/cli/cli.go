// Package cli is the command line. Every command that asks or orders something talks to the service through package client;
// only demo and serve start one, through functions that app hands in. Start with New.
package cli

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"hylostat.example/internal/backup"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/record"
	"hylostat.example/internal/visible"
)

// DefaultAddress is where the service listens unless told otherwise.
const DefaultAddress = "127.0.0.1:8347"

// DefaultData is the folder of a shop's records.
const DefaultData = "/var/lib/hylostat"

// Exit codes.
const (
	exitFailed   = 1
	exitUsage    = 2
	exitNone     = 3
	exitRefused  = 4
	exitNoAnswer = 5
	exitRun      = 6
	exitNoRight  = 7
	exitLeft     = 130 // as shells have it for what Ctrl-C ended
)

const exitHelp = `EXIT CODES:
   0  done
   1  something failed; the message says what and what to do
   2  the command line or a value in it is not understood
   3  there is no such drive, bay, run or reading
   4  not as things stand: no drive answers, data at risk, signed already ...
   5  no service answers
   6  the followed run ended other than passed
   7  not signed in, or not allowed to that role
 130  Ctrl-C left it; what was ordered goes on`

// Starters start a service in this process; app provides them.
type Starters struct {
	Version string
	Serve   func(ctx context.Context, o ServeOptions) error
	Demo    func(ctx context.Context, o ServeOptions) error
	Bench   func(ctx context.Context, o BenchOptions) error
	// CreateBench makes the journal of a bench in a folder.
	CreateBench func(ctx context.Context, dir string) error
	// CreateShop makes a shop in a folder, with its first lead when one is named.
	CreateShop func(ctx context.Context, dir, lead, password string) error
	// Rejoin has the service of a folder go on with its benches as they are.
	Rejoin func(ctx context.Context, dir string) error
	// Recover gives somebody a new password in the records of a folder.
	Recover func(ctx context.Context, dir, name, password string) error
	Backup  func(ctx context.Context, o BackupOptions) (backup.Manifest, error)
	Restore func(ctx context.Context, o BackupOptions) (backup.Restored, error)
	Examine func(ctx context.Context, dir string) (backup.Examination, error) // the records of a shop
	// Capture reads drives of this machine without a service, by their nodes; none given: all. It tells what it does.
	Capture func(ctx context.Context, nodes []string, tell func(node, what string)) (record.File, []error)
}

// New builds the command tree.
func New(s Starters) *cli.Command {
	root := &cli.Command{
		Name:                          "hylostat",
		Usage:                         "knows for every drive on the bench whether it is healthy, degrading or must be replaced, and why",
		Version:                       s.Version,
		EnableShellCompletion:         true,
		CustomRootCommandHelpTemplate: cli.RootCommandHelpTemplate + "\n" + exitHelp + "\n",
		Description: "A drive is named by its serial, by any unambiguous ending of it, or by its bay: bay-3, field/3.\n" +
			"Try it:  hylostat demo        then, in another terminal:  hylostat bay list\n" +
			"The words: docs/glossary.md, installed as /usr/share/doc/hylostat/glossary.md",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:    "service",
				Usage:   "`ADDRESS` of the service: HOST:PORT, or https://HOST:PORT",
				Value:   "http://" + DefaultAddress,
				Sources: cli.EnvVars("HYLOSTAT_SERVICE"),
			},
			&cli.StringFlag{
				Name:    "token-file",
				Usage:   "`FILE` with the token that says who you are; or its text in HYLOSTAT_TOKEN",
				Sources: cli.EnvVars("HYLOSTAT_TOKEN_FILE"),
			},
			&cli.StringFlag{
				Name:    "tls-authority",
				Usage:   "`FILE` with the authority's certificate of a service that speaks TLS by one of its own",
				Sources: cli.EnvVars("HYLOSTAT_TLS_AUTHORITY"),
			},
			&cli.BoolFlag{Name: "json", Usage: "print what the service answers, as in its API"},
			&cli.StringFlag{
				Name:        "by",
				Usage:       "`NAME` of the person who does this",
				Value:       whoami(),
				HideDefault: true,
				Sources:     cli.EnvVars("HYLOSTAT_BY"),
			},
		},
		Commands: []*cli.Command{
			s.demo(),
			s.serve(),
			s.benchCommands(),
			s.configCommands(),
			bayCommands(),
			intakeCommand(),
			planCommands(),
			driveCommands(),
			readingCommands(),
			checkCommands(),
			sweepCommands(),
			watchCommands(),
			alertCommands(),
			runCommands(),
			releaseCommand(),
			reworkCommands(),
			verdictCommands(),
			outcomeCommand(),
			volumeCommands(),
			lotCommands(),
			handoverCommand(),
			statementCommand(),
			labelCommand(),
			customerCommands(),
			s.shopCommands(),
			s.backupCommands(),
			s.restoreCommand(),
			s.personCommands(),
			tokenCommands(),
			sessionCommands(),
			auditCommands(),
			s.recordCommands(),
			dialectCommands(),
			policyCommands(),
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {}, // Code and the caller decide
	}
	strict(root)
	explain(root)
	return root
}

// glossed are words that commands use and people asked about; their help says where they are explained.
var glossed = map[string][]string{
	"intake": {"duty"}, "drive duty": {"duty"}, "drive siblings": {"stands apart"}, "drive signals": {"margin"},
	"verdict show": {"duty", "margin"}, "lot open": {"duty"}, "lot show": {"margin", "stands apart"}, "sweep show": {"class"},
	"sweep compare": {"class"}, "check conveyance": {"conveyance"}, "dialect explain": {"dialect"},
	"record redecode": {"dialect", "redecode"}, "policy show": {"duty", "margin"}, "policy replay": {"duty"},
}

// explain has the help of commands lead to the words they use.
func explain(root *cli.Command) {
	for path, words := range glossed {
		c := root
		for name := range strings.FieldsSeq(path) {
			c = c.Command(name)
		}
		c.Description = strings.TrimSpace(c.Description + fmt.Sprintf(
			"\n\n%s explained in the glossary: docs/glossary.md, installed as /usr/share/doc/hylostat/glossary.md",
			strings.Join(words, " and ")+plural(len(words), " is", " are"),
		))
	}
}

// usage is a command line that is not understood.
type usage struct{ what string }

func (u *usage) Error() string { return seeHelp(u.what) }

// seeHelp ends a sentence with where to read more.
func seeHelp(what string) string {
	if strings.HasSuffix(what, "?") {
		return what + " See --help"
	}
	return what + ". See --help"
}

// named is a command without the name of the program, which stands before every error.
func named(c *cli.Command) string { return strings.TrimPrefix(c.FullName(), c.Root().Name+" ") }

// notPassed is a followed run that ended otherwise.
type notPassed struct{ how string }

func (n *notPassed) Error() string { return n.how }

// Code is the exit code for an error.
func Code(err error) int {
	if err == nil {
		return 0
	}
	if _, ok := errors.AsType[*usage](err); ok {
		return exitUsage
	}
	if _, ok := errors.AsType[*interrupted](err); ok {
		return exitLeft
	}
	if _, ok := errors.AsType[*notPassed](err); ok {
		return exitRun
	}
	if _, ok := errors.AsType[*client.Unreachable](err); ok {
		return exitNoAnswer
	}
	if p, ok := errors.AsType[*client.ProblemError](err); ok {
		switch {
		case p.Status == 401 || p.Status == 403:
			return exitNoRight
		case p.Status == 404:
			return exitNone
		case p.Status == 409:
			return exitRefused
		case p.Status < 500:
			return exitUsage
		}
	}
	return exitFailed
}

func whoami() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "somebody"
}

// call is one command's surroundings.
type call struct {
	*cli.Command
	*client.Client
	out io.Writer
}

// action makes an action that needs the service and wants between least and most arguments.
func action(least, most int, f func(ctx context.Context, c call) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		if n := cmd.Args().Len(); n < least || n > most {
			return &usage{fmt.Sprintf("%s wants %s", named(cmd), strings.TrimSpace(orNothing(cmd.ArgsUsage)))}
		}
		for i := range least {
			if strings.TrimSpace(cmd.Args().Get(i)) == "" {
				return &usage{fmt.Sprintf("%s wants %s, and got an empty one", named(cmd), strings.TrimSpace(cmd.ArgsUsage))}
			}
		}
		c, err := serviceOf(cmd)
		if err != nil {
			return err
		}
		out := &plain{Writer: cmd.Root().Writer}
		return errors.Join(f(ctx, call{cmd, c, out}), out.failed())
	}
}

// serviceOf is the service that a command asks.
func serviceOf(cmd *cli.Command) (*client.Client, error) {
	token, err := token(cmd)
	if err != nil {
		return nil, err
	}
	trusted, err := authorities(cmd.String("tls-authority"))
	if err != nil {
		return nil, err
	}
	if scheme, _, ok := strings.Cut(addressOf(cmd.String("service")), "://"); !ok || scheme != "http" && scheme != "https" {
		return nil, &usage{fmt.Sprintf("--service is HOST:PORT, or https://HOST:PORT, not %q", cmd.String("service"))}
	}
	c, err := client.NewTrusting(addressOf(cmd.String("service")), token, trusted)
	if err != nil {
		return nil, &usage{err.Error()}
	}
	return c, nil
}

// addressOf completes the address of a service: HOST:PORT alone is one that speaks no TLS.
func addressOf(s string) string {
	if s = strings.TrimSpace(s); s != "" && !strings.Contains(s, "://") {
		return "http://" + s
	}
	return s
}

// authorities reads the certificates of a file; none is named: nil.
func authorities(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the authority of the service's certificate in %s: %w", file, reason(err))
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate. Name the authority.pem of the service", file)
	}
	return pool, nil
}

// token is what proves who asks. It never comes from an argument: those are read by everybody on the machine.
func token(cmd *cli.Command) (string, error) {
	path := cmd.String("token-file")
	if path == "" {
		return strings.TrimSpace(os.Getenv("HYLOSTAT_TOKEN")), nil
	}
	if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("others on this machine can read the token in %s. Keep it to yourself: chmod 600 %s", path, path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("reading the token in %s: %w. Name its file with --token-file", path, reason(err))
	}
	return strings.TrimSpace(string(text)), nil
}

func orNothing(s string) string {
	if s == "" {
		return "no arguments"
	}
	return s
}

func (c call) arg(n int) string { return c.Args().Get(n) }

func (c call) by() string { return c.String("by") }

// given is the number of a flag that was given, be it 0: whether that can be is not for the command line to say.
func given[T int | int64](c call, flag string) *T {
	if !c.IsSet(flag) {
		return nil
	}
	n := T(c.Int(flag))
	return &n
}

// bay reads a bay as people write it: 3, bay-3, field/3.
func (c call) bay(n int) (contract.BayName, error) {
	b, err := drive.ParseBay(c.arg(n))
	if err != nil {
		return b, &usage{err.Error()}
	}
	return b, nil
}

// show prints a value as JSON when asked to, else through f.
func (c call) show(value any, f func(w io.Writer)) error {
	if c.Bool("json") {
		b, err := json.MarshalIndent(value, "", "  ")
		if err == nil {
			_, err = fmt.Fprintln(raw(c.out), visible.JSON(string(b)))
		}
		return err
	}
	f(c.out)
	return nil
}

// terminal reports whether w is one, and whether it may be painted.
func terminal(w io.Writer) bool {
	f, ok := raw(w).(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// bold is for the one word that matters; on a terminal only, and not with NO_COLOR.
func bold(w io.Writer, s string) string {
	if !terminal(w) || os.Getenv("NO_COLOR") != "" {
		return s
	}
	return boldOn + s + boldOff
}
