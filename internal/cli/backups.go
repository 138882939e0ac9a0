package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/backup"
)

// BackupOptions are the flags of backup and restore.
type BackupOptions struct {
	Dir        string
	File       string
	Recipients []string // restore: none
	Key        string   // restore: the file with the private key
}

// dataFlag is the folder of a command that works on the records themselves.
func dataFlag() cli.Flag {
	return &cli.StringFlag{Name: "data", Usage: "`FOLDER` with the records", Value: DefaultData}
}

// onMachine makes an action that works on the records of this machine, without the service, and wants so many arguments.
func onMachine(wants int, f func(ctx context.Context, c call) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		if cmd.Args().Len() != wants {
			return &usage{fmt.Sprintf("%s wants %s", named(cmd), orNothing(cmd.ArgsUsage))}
		}
		out := &plain{Writer: cmd.Root().Writer}
		return errors.Join(f(ctx, call{cmd, nil, out}), out.failed())
	}
}

func (s Starters) backupCommands() *cli.Command {
	return &cli.Command{
		Name:      "backup",
		Usage:     "copy everything the shop has on this machine into one file, while it works",
		ArgsUsage: "FILE",
		Category:  "shop",
		Description: "Run it on the service's machine, as whoever may read its folder. The databases of the shop and of its " +
			"benches are copied as " +
			"they stand at one moment, looked through, packed, and the file is read again. It holds all that is recorded, customers and " +
			"the keys of the shop among it: keep it as carefully as the records, or encrypt it to a key that is kept elsewhere. The " +
			"service makes backups by itself with serve --backup-to.\n\nExample:\n   hylostat backup /mnt/usb/shop-monday.tar.zst",
		Flags: []cli.Flag{
			dataFlag(),
			&cli.StringSliceFlag{Name: "recipient", Usage: "encrypt it: the public `KEY` it is for, age1..."},
		},
		Action: onMachine(1, func(ctx context.Context, c call) error {
			m, err := s.Backup(ctx, BackupOptions{Dir: c.String("data"), File: c.arg(0), Recipients: c.StringSlice("recipient")})
			if err != nil {
				return err
			}
			return c.show(m, func(w io.Writer) {
				var bytes int64
				for _, f := range m.Files {
					bytes += f.Bytes
				}
				_, _ = fmt.Fprintf(w, "%s holds %s, %.1f MB, of %s. It was read again.\n", c.arg(0),
					counted(len(m.Files), "file", "files"), float64(bytes)/1e6, m.Made.Local().Format(time.DateTime))
				_, _ = fmt.Fprintf(w, "audit  row %d, %s\n", m.Audit.Rows, m.Audit.Hash)
				if len(c.StringSlice("recipient")) == 0 {
					_, _ = fmt.Fprintln(w, "It is not encrypted: whoever has the file has the records.")
				}
			})
		}),
		Commands: []*cli.Command{
			{
				Name:      "key",
				Usage:     "make a key for encrypted backups: the private one into a file, the public one printed",
				ArgsUsage: "FILE",
				Description: "Keep the file away from the service's machine: without it no encrypted backup opens, with it all do.\n\n" +
					"Example:\n   hylostat backup key /media/maud/backup.key",
				Action: onMachine(1, func(_ context.Context, c call) error {
					recipient, err := backup.NewKey(c.arg(0))
					if err != nil {
						return err
					}
					return c.show(map[string]string{"recipient": recipient}, func(w io.Writer) {
						_, _ = fmt.Fprintf(w, "%s\nGive this to backup --recipient. The private key is in %s.\n", recipient, c.arg(0))
					})
				}),
			},
		},
	}
}

func (s Starters) restoreCommand() *cli.Command {
	return &cli.Command{
		Name:      "restore",
		Usage:     "bring a shop back from a backup or a replica, into a folder in which there is none",
		ArgsUsage: "FILE|PLACE",
		Category:  "shop",
		Description: "Nothing is put over a shop. Every page, what refers to what, and the audit are checked before anything has " +
			"its place; " +
			"files get the owner of the folder. Journals of benches that are in the folder stay: they know more than the backup, and " +
			"tell the shop again what it has not got, as far back as two days.\nWhat ended after the backup was made is not known: at " +
			"the next start all sessions end and no release holds any more. People, passwords and tokens are those of the backup.\n\n" +
			"A replica is named as it was to serve --replica.\n\n" +
			"Examples:\n   hylostat restore /mnt/usb/shop-monday.tar.zst --data /var/lib/hylostat\n" +
			"   hylostat restore /mnt/replica --data /var/lib/hylostat",
		Flags: []cli.Flag{
			dataFlag(),
			&cli.StringFlag{Name: "key", Usage: "`FILE` with the private key of an encrypted backup"},
		},
		Action: onMachine(1, func(ctx context.Context, c call) error {
			r, err := s.Restore(ctx, BackupOptions{Dir: c.String("data"), File: c.arg(0), Key: c.String("key")})
			if err != nil {
				return err
			}
			return c.show(r, func(w io.Writer) {
				_, _ = fmt.Fprintf(
					w, "The shop of %s is in %s. Its audit has %s, each follows from the one before.\n",
					r.Manifest.Made.Local().Format(time.DateTime), c.String("data"), counted(r.Audited, "row", "rows"),
				)
				for _, k := range r.Kept {
					_, _ = fmt.Fprintf(w, "%s was there and stays.\n", filepath.Join(c.String("data"), k))
				}
				_, _ = fmt.Fprintln(w, "At the next start all sessions end and no release holds. Look at the people: person list.")
			})
		}),
	}
}

func (s Starters) examineCommand() *cli.Command {
	return &cli.Command{
		Name:  "examine",
		Usage: "look through all records of the shop, while it works or not; nothing is changed",
		Description: "Every page of the databases, what refers to what, the chain of the audit, whether shop and benches are of " +
			"the same past, " +
			"and the clock. Ends with exit code 1 when something is not as it should be.\n\nExample:\n   hylostat shop examine",
		Flags: []cli.Flag{dataFlag()},
		Action: onMachine(0, func(ctx context.Context, c call) error {
			e, err := s.Examine(ctx, c.String("data"))
			if err != nil {
				return err
			}
			if err := c.show(e, func(w io.Writer) { printExamination(w, e) }); err != nil || len(e.Wrong) == 0 {
				return err
			}
			return fmt.Errorf(
				"%s not as it should be. Compare with a backup; the docs say what to do",
				counted(len(e.Wrong), "thing is", "things are"),
			)
		}),
	}
}

func printExamination(w io.Writer, e backup.Examination) {
	rows := make([]table.Row, 0, len(e.Databases)+len(e.Counts))
	for _, d := range e.Databases {
		rows = append(rows, table.Row{d.Name, fmt.Sprintf("%.1f MB", float64(d.Bytes)/1e6)})
	}
	for _, c := range e.Counts {
		rows = append(rows, table.Row{c.What, c.N})
	}
	if e.Last != nil {
		rows = append(rows, table.Row{"last entry", e.Last.Local().Format(time.DateTime)})
	}
	rows = append(rows, table.Row{"head of the audit", e.Audit.Hash})
	tabular(w, []any{"", ""}, rows)
	for _, wrong := range e.Wrong {
		_, _ = fmt.Fprintf(w, "WRONG  %s\n", wrong)
	}
	if len(e.Wrong) == 0 {
		_, _ = fmt.Fprintln(w, "Nothing is wrong.")
	}
}
