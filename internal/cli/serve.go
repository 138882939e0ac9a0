package cli

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"hylostat.example/internal/backup"
)

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
	Log             Log
	BenchSocket     string   // where the bench is waited for that somebody else starts; empty: one is started
	BenchUsers      []string // whose processes may be the bench, besides root's and this one's
}

// Log is how a service or a bench logs.
type Log struct{ Level, Format string }

// logOf reads it from the flags.
func logOf(c *cli.Command) (Log, error) {
	l := Log{c.String("log-level"), c.String("log-format")}
	if !slices.Contains([]string{"debug", "info", "warn", "error"}, l.Level) {
		return l, &usage{fmt.Sprintf("--log-level is debug, info, warn or error, not %q", l.Level)}
	}
	if l.Format != "text" && l.Format != "json" {
		return l, &usage{fmt.Sprintf("--log-format is text or json, not %q", l.Format)}
	}
	return l, nil
}

// BenchOptions are the flags of bench serve.
type BenchOptions struct {
	Dir    string
	Socket string
	Users  []string // whose process the service may be, besides root's and this one's
	Title  string
	Images []string
	Rework bool
	Rejoin bool
	Log    Log
}

// rejoinFlag is for after a loss: a database was lost, or put back from a copy.
var rejoinFlag = &cli.BoolFlag{
	Name:  "rejoin",
	Usage: "go on although shop.db and bench.db are not of the same past, after one was lost or put back from a copy",
}

// replicaFlag is for a copy elsewhere, as it is written.
func replicaFlag() *cli.StringFlag {
	return &cli.StringFlag{
		Name: "replica",
		Usage: "copy all that is written, within a second, to this `PLACE`: a folder, sftp://NAME@HOST/FOLDER?key=FILE&host-key=FILE, " +
			"or s3://BUCKET/FOLDER",
	}
}

// The flags that serve, bench serve or demo share, each with what it is looked up in.
func imageFlag() *cli.StringSliceFlag {
	return &cli.StringSliceFlag{
		Name:  "bay-image",
		Usage: "an image `FILE`, or a block device without a drive behind it, as a further bay: it can be swept",
	}
}

func allowReworkFlag() *cli.BoolFlag {
	return &cli.BoolFlag{
		Name:  "allow-rework",
		Usage: "let drives be written to, when their owner has released them and somebody orders it",
	}
}

func logLevelFlag() *cli.StringFlag {
	return &cli.StringFlag{Name: "log-level", Usage: "how much is logged: `LEVEL` debug, info, warn or error", Value: "info"}
}

func logFormatFlag() *cli.StringFlag {
	return &cli.StringFlag{Name: "log-format", Usage: "how: `FORMAT` text or json, a line for each", Value: "text"}
}

func (s Starters) serve() *cli.Command {
	set := &settings{section: "serve"}
	return &cli.Command{
		Name:     "serve",
		Usage:    "run the service for the drives of this machine",
		Category: "service",
		Description: "Reading counters needs root or CAP_SYS_RAWIO. The console is at the address it prints. A folder without a shop is " +
			"refused: make one with hylostat shop create, or with --create at the first start.\n\nExample:\n   " +
			"hylostat serve --data /var/lib/hylostat --shop \"Saltmarsh Lane\"",
		Flags: set.from([]cli.Flag{
			&cli.StringFlag{Name: "data", Usage: "`FOLDER` for the records", Value: DefaultData},
			&cli.BoolFlag{Name: "create", Usage: "the first start: make the shop. Refused where there is one"},
			&cli.StringFlag{Name: "listen", Usage: "`HOST:PORT`; this machine alone until somebody is entered", Value: DefaultAddress},
			&cli.StringFlag{Name: "shop", Usage: "the shop's `NAME`", Value: "Hylostat"},
			&cli.StringFlag{Name: "bench", Usage: "this bench's `NAME`", Value: hostname()},
			&cli.StringFlag{
				Name:  "bench-socket",
				Usage: "wait at this `PATH` for the bench that \"hylostat bench serve\" runs, and start none: this process opens no drive",
			},
			&cli.StringSliceFlag{Name: "bench-user", Usage: "a `USER` whose process may be that bench, besides root and this one's"},
			&cli.StringSliceFlag{Name: "host", Usage: "a further `NAME` under which the service may be reached"},
			imageFlag(),
			allowReworkFlag(),
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
			replicaFlag(),
			&cli.StringFlag{Name: "backup-to", Usage: "make backups by itself, into this `FOLDER`: best on another disk"},
			&cli.DurationFlag{Name: "backup-every", Usage: "how often", Value: 24 * time.Hour},
			&cli.IntFlag{Name: "backup-keep", Usage: "how many stay, the newest; those before are removed", Value: 14},
			&cli.StringSliceFlag{Name: "backup-recipient", Usage: "encrypt them: the public `KEY` they are for, age1..."},
			logLevelFlag(), logFormatFlag(),
		}),
		Action: set.ready(func(ctx context.Context, c *cli.Command) error {
			recipients, err := backup.RecipientsOf(c.StringSlice("backup-recipient"))
			if err != nil {
				return &usage{err.Error()}
			}
			if c.Duration("backup-every") < time.Minute || c.Int("backup-keep") < 1 {
				return &usage{"backups are made every minute at most, and one stays at least"}
			}
			log, err := logOf(c)
			if err != nil {
				return err
			}
			proxies, err := prefixes(c.StringSlice("behind-proxy"))
			if err != nil {
				return err
			}
			base := strings.TrimSuffix(c.String("base-path"), "/")
			if c.IsSet("bench-socket") && (c.IsSet("bay-image") || c.IsSet("allow-rework")) {
				return &usage{"--bay-image and --allow-rework are the bench's: give them to \"hylostat bench serve\""}
			}
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
					Log: log, BenchSocket: c.String("bench-socket"), BenchUsers: c.StringSlice("bench-user"),
					Dir:     c.String("data"),
					Listen:  c.String("listen"),
					Shop:    c.String("shop"),
					Bench:   c.String("bench"),
					Hosts:   c.StringSlice("host"),
					Images:  c.StringSlice("bay-image"),
					Rework:  c.Bool("allow-rework"),
					Create:  c.Bool("create"),
					Rejoin:  c.Bool(rejoinFlag.Name),
					Replica: c.String("replica"),
					Backup: backup.Plan{
						Folder: c.String("backup-to"), Every: c.Duration("backup-every"), Keep: c.Int("backup-keep"),
						Recipients: recipients,
					},
				},
			)
		}),
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
			replicaFlag(),
			&cli.StringFlag{Name: "listen", Usage: "`HOST:PORT`", Value: DefaultAddress},
			&cli.FloatFlag{Name: "factor", Usage: "how much `FASTER` than real time the drives live", Value: 12},
			rejoinFlag, logLevelFlag(), logFormatFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if f := c.Float("factor"); f < 1 || f > 1000 {
				return &usage{"--factor is from 1 to 1000"}
			}
			log, err := logOf(c)
			if err != nil {
				return err
			}
			return s.Demo(
				ctx,
				ServeOptions{
					Dir: c.String("data"), Listen: c.String("listen"), Factor: c.Float("factor"), Rejoin: c.Bool(rejoinFlag.Name),
					Replica: c.String("replica"), Log: log,
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
