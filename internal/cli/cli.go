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
	"net/netip"
	"os"
	"os/user"
	"path"
	"strings"
	"time"

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
)

const exitHelp = `EXIT CODES:
   0  done
   1  something failed; the message says what and what to do
   2  the command line or a value in it is not understood
   3  there is no such drive, bay, run or reading
   4  not as things stand: no drive answers, data at risk, signed already ...
   5  no service answers
   6  the followed run ended other than passed
   7  not signed in, or not allowed to that role`

// ServeOptions are the flags of serve and demo.
type ServeOptions struct {
	Dir             string
	Listen          string
	Shop            string
	Bench           string
	Hosts           []string
	Images          []string // image files, or block devices without a drive behind them, that stand for drives
	Rework          bool     // drives may be written to when the shop orders it
	Create          bool     // make a shop where there is none
	Rejoin          bool     // databases that are not of the same past
	Replica         string   // where what is written is copied to
	TLSCert, TLSKey string   // files
	TLSOwn          bool     // by the shop's own authority
	Proxies         []netip.Prefix
	Base            string      // the path below which a proxy has the service
	Backup          backup.Plan // no folder: none are made
	Factor          float64
}

// Starters start a service in this process; app provides them.
type Starters struct {
	Version string
	Serve   func(ctx context.Context, o ServeOptions) error
	Demo    func(ctx context.Context, o ServeOptions) error
	// CreateShop makes a shop in a folder, with its first lead when one is named.
	CreateShop func(ctx context.Context, dir, lead, password string) error
	Backup     func(ctx context.Context, o BackupOptions) (backup.Manifest, error)
	Restore    func(ctx context.Context, o BackupOptions) (backup.Restored, error)
	Examine    func(ctx context.Context, dir string) (backup.Examination, error) // the records of a shop
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
		Suggest:                       true,
		CustomRootCommandHelpTemplate: cli.RootCommandHelpTemplate + "\n" + exitHelp + "\n",
		Description: "A drive is named by its serial, by any unambiguous ending of it, or by its bay: bay-3, field/3.\n" +
			"Try it:  hylostat demo        then, in another terminal:  hylostat bay list",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:    "service",
				Usage:   "`ADDRESS` of the service",
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
			bayCommands(),
			intakeCommand(),
			planCommands(),
			driveCommands(),
			readingCommands(),
			checkCommands(),
			sweepCommands(),
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
			personCommands(),
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
	return root
}

// strict makes every command of a tree answer a wrong command line the same way: one sentence, exit code 2.
func strict(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, _ *cli.Command, err error, _ bool) error { return &usage{err.Error()} }
	for _, sub := range c.Commands {
		strict(sub)
	}
	if c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return &usage{fmt.Sprintf("%s has no command %q", c.FullName(), c.Args().First())}
			}
			if c == c.Root() {
				return cli.ShowRootCommandHelp(c)
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
}

// usage is a command line that is not understood.
type usage struct{ what string }

func (u *usage) Error() string { return u.what + ". See --help" }

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
			return &usage{fmt.Sprintf("%s wants %s", cmd.FullName(), strings.TrimSpace(orNothing(cmd.ArgsUsage)))}
		}
		for i := range least {
			if strings.TrimSpace(cmd.Args().Get(i)) == "" {
				return &usage{fmt.Sprintf("%s wants %s, and got an empty one", cmd.FullName(), strings.TrimSpace(cmd.ArgsUsage))}
			}
		}
		token, err := token(cmd)
		if err != nil {
			return err
		}
		trusted, err := authorities(cmd.String("tls-authority"))
		if err != nil {
			return err
		}
		c, err := client.NewTrusting(cmd.String("service"), token, trusted)
		if err != nil {
			return &usage{err.Error()}
		}
		out := &plain{Writer: cmd.Root().Writer}
		return errors.Join(f(ctx, call{cmd, c, out}), out.failed())
	}
}

// authorities reads the certificates of a file; none is named: nil.
func authorities(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the authority of the service's certificate: %w", err)
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
		return "", fmt.Errorf("reading the token: %w. Name its file with --token-file", err)
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

// rejoinFlag is for after a loss: a database was lost, or put back from a copy.
var rejoinFlag = &cli.BoolFlag{
	Name:  "rejoin",
	Usage: "go on although shop.db and bench.db are not of the same past, after one was lost or put back from a copy",
}

// replicaFlag is for a copy elsewhere, as it is written.
var replicaFlag = &cli.StringFlag{
	Name: "replica",
	Usage: "copy all that is written, within a second, to this `PLACE`: a folder, sftp://NAME@HOST/FOLDER?key=FILE&host-key=FILE, " +
		"or s3://BUCKET/FOLDER",
	Sources: cli.EnvVars("HYLOSTAT_REPLICA"),
}

func (s Starters) serve() *cli.Command {
	return &cli.Command{
		Name:     "serve",
		Usage:    "run the service for the drives of this machine",
		Category: "service",
		Description: "Reading counters needs root or CAP_SYS_RAWIO. The console is at the address it prints. A folder without a shop is " +
			"refused: make one with hylostat shop create, or with --create at the first start.\n\nExample:\n   " +
			"hylostat serve --data /var/lib/hylostat --shop \"Saltmarsh Lane\"",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "data", Usage: "`FOLDER` for the records", Value: DefaultData},
			&cli.BoolFlag{Name: "create", Usage: "the first start: make the shop. Refused where there is one"},
			&cli.StringFlag{Name: "listen", Usage: "`HOST:PORT`; this machine alone until somebody is entered", Value: DefaultAddress},
			&cli.StringFlag{Name: "shop", Usage: "the shop's `NAME`", Value: "Hylostat"},
			&cli.StringFlag{Name: "bench", Usage: "this bench's `NAME`", Value: hostname()},
			&cli.StringSliceFlag{Name: "host", Usage: "a further `NAME` under which the service may be reached"},
			&cli.StringSliceFlag{
				Name:  "bay-image",
				Usage: "an image `FILE`, or a block device without a drive behind it, as a further bay: it can be swept",
			},
			&cli.BoolFlag{
				Name:  "allow-rework",
				Usage: "let drives be written to, when their owner has released them and somebody orders it",
			},
			rejoinFlag,
			&cli.StringFlag{
				Name: "tls", Usage: "self: speak TLS by certificates of an `AUTHORITY` of the shop's own, whose fingerprint the log has",
			},
			&cli.StringFlag{Name: "tls-cert", Usage: "speak TLS by the certificate in this `FILE`, PEM, taken anew when it changes"},
			&cli.StringFlag{Name: "tls-key", Usage: "its key's `FILE`"},
			&cli.StringSliceFlag{
				Name:  "behind-proxy",
				Usage: "believe what a proxy at this address, or of this `CIDR`, says of whom it asks for (X-Forwarded-For, -Proto, -Host)",
			},
			&cli.StringFlag{Name: "base-path", Usage: "the `PATH` below which a proxy has the service"},
			replicaFlag,
			&cli.StringFlag{Name: "backup-to", Usage: "make backups by itself, into this `FOLDER`: best on another disk"},
			&cli.DurationFlag{Name: "backup-every", Usage: "how often", Value: 24 * time.Hour},
			&cli.IntFlag{Name: "backup-keep", Usage: "how many stay, the newest; those before are removed", Value: 14},
			&cli.StringSliceFlag{Name: "backup-recipient", Usage: "encrypt them: the public `KEY` they are for, age1..."},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			recipients, err := backup.RecipientsOf(c.StringSlice("backup-recipient"))
			if err != nil {
				return &usage{err.Error()}
			}
			if c.Duration("backup-every") < time.Minute || c.Int("backup-keep") < 1 {
				return &usage{"backups are made every minute at most, and one stays at least"}
			}
			proxies, err := prefixes(c.StringSlice("behind-proxy"))
			if err != nil {
				return err
			}
			base := strings.TrimSuffix(c.String("base-path"), "/")
			switch own, cert, key := c.String("tls"), c.String("tls-cert"), c.String("tls-key"); {
			case own != "" && own != "self":
				return &usage{"--tls knows self alone; for a certificate of your own, give --tls-cert and --tls-key"}
			case (cert == "") != (key == "") || own != "" && cert != "":
				return &usage{"TLS wants --tls-cert and --tls-key together, or --tls self"}
			case base != "" && (!strings.HasPrefix(base, "/") || path.Clean(base) != base):
				return &usage{"a base path begins with a slash, as in /hylostat"}
			}
			return s.Serve(
				ctx,
				ServeOptions{
					TLSCert: c.String("tls-cert"), TLSKey: c.String("tls-key"), TLSOwn: c.String("tls") != "", Proxies: proxies, Base: base,
					Dir:     c.String("data"),
					Listen:  c.String("listen"),
					Shop:    c.String("shop"),
					Bench:   c.String("bench"),
					Hosts:   c.StringSlice("host"),
					Images:  c.StringSlice("bay-image"),
					Rework:  c.Bool("allow-rework"),
					Create:  c.Bool("create"),
					Rejoin:  c.Bool(rejoinFlag.Name),
					Replica: c.String(replicaFlag.Name),
					Backup: backup.Plan{
						Folder: c.String("backup-to"), Every: c.Duration("backup-every"), Keep: c.Int("backup-keep"),
						Recipients: recipients,
					},
				},
			)
		},
	}
}

func (s Starters) demo() *cli.Command {
	return &cli.Command{
		Name:     "demo",
		Usage:    "run a made-up shop with simulated drives",
		Category: "service",
		Description: "Needs nothing, opens nothing outside this machine, and leaves its data in the folder it prints.\nStarted " +
			"again with the same folder, it goes on where it was.\n\nExample:\n   hylostat demo --data ./demo",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "data", Usage: "`FOLDER` for the records; a temporary one when not given"},
			replicaFlag,
			&cli.StringFlag{Name: "listen", Usage: "`HOST:PORT`", Value: DefaultAddress},
			&cli.FloatFlag{Name: "factor", Usage: "how much `FASTER` than real time the drives live", Value: 12},
			rejoinFlag,
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if f := c.Float("factor"); f < 1 || f > 1000 {
				return &usage{"--factor is from 1 to 1000"}
			}
			return s.Demo(
				ctx,
				ServeOptions{
					Dir: c.String("data"), Listen: c.String("listen"), Factor: c.Float("factor"), Rejoin: c.Bool(rejoinFlag.Name),
					Replica: c.String(replicaFlag.Name),
				},
			)
		},
	}
}

// prefixes reads networks, or addresses for those of one.
func prefixes(all []string) (out []netip.Prefix, err error) {
	for _, one := range all {
		p, err := netip.ParsePrefix(one)
		if err != nil {
			a, wrong := netip.ParseAddr(one)
			if wrong != nil {
				return nil, &usage{fmt.Sprintf("%q is no address and no network", one)}
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

func hostname() string {
	if name, err := os.Hostname(); err == nil {
		return name
	}
	return "bench"
}
