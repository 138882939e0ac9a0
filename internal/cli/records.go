package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/record"
	"hylostat.example/internal/visible"
)

func dialectCommands() *cli.Command {
	return &cli.Command{
		Name: "dialect", Usage: "what attribute numbers mean, by family of drives", Category: "drives",
		Commands: []*cli.Command{
			{
				Name:        "explain",
				Usage:       "which family a drive is taken for, why, and what follows",
				ArgsUsage:   "DRIVE",
				Description: "Example:\n   hylostat dialect explain 7M4Q2",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					d, err := c.Dialect(ctx, c.arg(0))
					if err != nil {
						return err
					}
					return c.show(d, func(w io.Writer) { printDialect(w, d) })
				}),
			},
		},
	}
}

func printDialect(w io.Writer, d contract.Dialect) {
	_, _ = fmt.Fprintf(w, "%s   family %s: %s\n", wording.Serial(d.Serial), d.Family, d.Title)
	if d.Family != "unknown" {
		sure := "a guess: neither company id nor shape of the model number confirm it, so what it says is inferred"
		if d.Sure {
			sure = "confirmed"
		}
		_, _ = fmt.Fprintln(w, sure)
	}
	for _, why := range d.Why {
		_, _ = fmt.Fprintf(w, "  because  %s\n", why)
	}
	if d.Inferred != nil {
		_, _ = fmt.Fprintf(w, "  inferred %s\n", *d.Inferred)
	}
	_, _ = fmt.Fprintf(w, "  source   %s; tables %d\n", d.Source, d.Version)
	if len(d.Entries) == 0 {
		_, _ = fmt.Fprintln(w, "\nThe latest reading holds no attributes: this drive needs no dialect, or gave none.")
		return
	}
	_, _ = fmt.Fprintln(w)
	rows := make([]table.Row, len(d.Entries))
	for i, e := range d.Entries {
		rows[i] = table.Row{e.Id, e.Name, e.Meaning, e.Layout, optional(e.Signal), e.Confidence, e.From}
	}
	tabular(w, []any{"no.", "counter", "now", "read as", "signal", "confidence", "entry of"}, rows, 1)
	if len(d.NotUnderstood) > 0 {
		_, _ = fmt.Fprintln(w, "\nNot understood, and so not judged:")
		for _, what := range d.NotUnderstood {
			_, _ = fmt.Fprintf(w, "  %s\n", what)
		}
	}
}

func (s Starters) recordCommands() *cli.Command {
	return &cli.Command{
		Name: "record", Usage: "record files: readings carried between machines", Category: "drives",
		Description: "The format is open: docs/reference/record-files.md and its JSON Schema.",
		Commands: append(keyCommands(), []*cli.Command{
			s.captureCommand(),
			{
				Name:        "import",
				Usage:       "take record files in; what is known already changes nothing",
				ArgsUsage:   "FILE...",
				Description: "Example:\n   hylostat record import pellwick.json",
				Action:      action(1, 1000, importRecords),
			},
			{
				Name: "table", Usage: "write the signals of all drives, or of those that match, over time as a table", ArgsUsage: "[TEXT]",
				Description: "One row for each signal of a reading: serial, model, reading, at, powered_on_hours, signal, unit, value. " +
					"The ending of --out says the format: .parquet (Apache Parquet), .csv. A statistics package reads a million " +
					"readings of it in seconds.\n\nExamples:\n   hylostat record table -o signals.parquet\n   hylostat record table " +
					"--kind flash -o flash.csv",
				Flags:  append(filterFlags(), outFlag("signals.parquet")),
				Action: action(0, 1, tableOfSignals),
			},
			{
				Name: "export", Usage: "write all readings of a drive into a record file", ArgsUsage: "DRIVE",
				Description: "Example:\n   hylostat record export 7M4Q2 -o 7M4Q2.json",
				Flags:       []cli.Flag{outFlag("the drive's serial with .json")},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					text, err := c.Record(ctx, c.arg(0))
					if err != nil {
						return err
					}
					f, err := record.Read(strings.NewReader(string(text)))
					if err != nil {
						return fmt.Errorf("the service's answer: %w", err)
					}
					path := c.String("out")
					if path == "" {
						path = fileName(f.Drives[0].Serial, ".json")
					}
					if err := save(c.out, path, f); err != nil {
						return err
					}
					if path != "-" {
						_, _ = fmt.Fprintf(
							c.out, "%d readings of %s written to %s\n", len(f.Drives[0].Readings),
							wording.Serial(f.Drives[0].Serial), path,
						)
						if l := f.Drives[0].Left; l != nil {
							_, _ = fmt.Fprintf(
								c.out, "Not in it: %s. They are in its archive: hylostat record archive %s\n",
								leftBehind(l.Sweeps, l.Reworks, l.Signatures), f.Drives[0].Serial,
							)
						}
					}
					return nil
				}),
			},
			{
				Name: "archive", Usage: "write the whole record of a drive as a ZIP of open formats, with checksums", ArgsUsage: "DRIVE",
				Description: "Example:\n   hylostat record archive 7M4Q2 -o 7M4Q2.zip",
				Flags:       []cli.Flag{outFlag("the drive's serial with .zip")},
				Action: action(1, 1, func(ctx context.Context, c call) error {
					d, err := c.Drive(ctx, c.arg(0))
					if err != nil {
						return err
					}
					body, err := c.Archive(ctx, d.Serial)
					if err != nil {
						return err
					}
					return c.write(body, fileName(d.Serial, ".zip"), "The record of "+wording.Serial(d.Serial))
				}),
			},
			{
				Name:        "redecode",
				Usage:       "read all pages of the past with the present decoder, and say what changed",
				Description: "Example:\n   hylostat record redecode",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					done, err := c.Redecode(ctx, c.by())
					if err != nil {
						return err
					}
					return c.show(done, func(w io.Writer) { printRedecoded(w, done) })
				}),
			},
		}...),
	}
}

func outFlag(otherwise string) cli.Flag {
	return &cli.StringFlag{
		Name:    "out",
		Aliases: []string{"o"},
		Usage:   "`FILE` to write, - for the terminal; " + otherwise + " when not given",
	}
}

func (s Starters) captureCommand() *cli.Command {
	return &cli.Command{
		Name:      "capture",
		Usage:     "read drives of this machine into a record file, without a service",
		ArgsUsage: "[DEVICE...]",
		Description: "Needs root or CAP_SYS_RAWIO, and no database: it works from rescue media. No data, setting or log of a " +
			"drive is changed.\nDEVICE is a node such as sda or /dev/nvme0n1; without one, every drive is read.\n\nExample:\n   " +
			"hylostat record capture sda sdb -o bench.json",
		Flags: []cli.Flag{outFlag("drives.json")},
		Action: func(ctx context.Context, c *cli.Command) error {
			nodes := make([]string, 0, c.Args().Len())
			for _, n := range c.Args().Slice() {
				nodes = append(nodes, strings.TrimPrefix(n, "/dev/"))
			}
			path := c.String("out")
			if path == "" {
				path = "drives.json"
			}
			f, failed := s.Capture(ctx, nodes, func(node, what string) { _, _ = fmt.Fprintf(c.Root().ErrWriter, "%-10s %s\n", node, what) })
			if len(f.Drives) == 0 {
				return errors.Join(append(failed, errors.New("no drive was read, no file written"))...)
			}
			if err := save(c.Root().Writer, path, f); err != nil {
				return err
			}
			if path != "-" {
				_, _ = fmt.Fprintf(c.Root().Writer, "%d of %d drives written to %s\n", len(f.Drives), len(f.Drives)+len(failed), path)
				if f.SignedBy != "" {
					_, _ = fmt.Fprintf(c.Root().Writer, "Signed by key %s: tell it to whoever gets the file, by another way.\n", f.SignedBy)
				}
			}
			return errors.Join(failed...)
		},
	}
}

// fileName makes a harmless file name of what a drive calls itself.
func fileName(serial, ending string) string { return visible.File(serial) + ending }

// save writes a record file beside its place and then moves it there: no half file stands under the name.
func save(out io.Writer, path string, f record.File) error {
	return saveWith(out, path, func(w io.Writer) error { return record.Write(w, f) })
}

// write saves what the service made, and says so.
func (c call) write(body []byte, otherwise, what string) error {
	path := c.String("out")
	if path == "" {
		path = otherwise
	}
	if err := saveWith(c.out, path, func(w io.Writer) error { _, err := w.Write(body); return err }); err != nil || path == "-" {
		return err
	}
	_, _ = fmt.Fprintf(c.out, "%s: %s\n", what, path)
	return nil
}

func importRecords(ctx context.Context, c call) error {
	all, files := []contract.ImportedDrive{}, []string(nil)
	var signed *contract.KeyName
	for _, path := range c.Args().Slice() {
		file, err := os.Open(path)
		if err != nil {
			return fmt.Errorf("reading %s: %w", path, reason(err))
		}
		done, err := c.ImportRecord(ctx, file, c.by())
		_ = file.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		all, files = append(all, done.Drives...), append(files, path+": "+signedBy(done.Signed))
		if c.Args().Len() == 1 {
			signed = done.Signed
		}
	}
	return c.show(contract.ImportResult{Drives: all, Signed: signed}, func(w io.Writer) {
		rows := make([]table.Row, len(all))
		for i, d := range all {
			rows[i] = table.Row{wording.Serial(d.Serial), d.Model, d.Readings, d.Known}
		}
		tabular(w, []any{"drive", "model", "taken in", "known already"}, rows, 3, 4)
		for _, f := range files {
			_, _ = fmt.Fprintln(w, f)
		}
		for _, d := range all {
			if l := d.Left; l != nil {
				_, _ = fmt.Fprintf(
					w, "%s: %s stayed with the shop that wrote the file.\n", wording.Serial(d.Serial),
					leftBehind(l.Sweeps, l.Reworks, l.Signatures),
				)
			}
			if n := optional(d.Folded); n > 0 {
				_, _ = fmt.Fprintf(
					w, "%s: the shop that wrote the file keeps of %s more only the times.\n", wording.Serial(d.Serial),
					counted(n, "reading", "readings"),
				)
			}
			if n := optional(d.Aside); n > 0 {
				_, _ = fmt.Fprintf(
					w, "%s: %d of them %s set aside, since their time lies ahead. Look at them (reading list), and accept them "+
						"with the right one.\n",
					wording.Serial(d.Serial), n, plural(n, "is", "are"),
				)
			}
		}
	})
}

// leftBehind says what of a drive is not in its record file.
func leftBehind(sweeps, reworks, signatures int) string {
	var all []string
	for _, of := range []struct {
		n         int
		one, more string
	}{{sweeps, "sweep", "sweeps"}, {reworks, "rework", "reworks"}, {signatures, "signature", "signatures"}} {
		if of.n > 0 {
			all = append(all, counted(of.n, of.one, of.more))
		}
	}
	return listed(all, "and")
}

// signedBy says whose the signature of a file is.
func signedBy(k *contract.KeyName) string {
	switch {
	case k == nil:
		return "not signed: whoever had it may have changed it"
	case k.Own:
		return "signed by this shop"
	case k.Called != nil:
		return "signed by " + *k.Called + ", key " + k.Key
	}
	return "signed by a key nobody here knows, " + k.Key + ". If you know whose it is: record name-key"
}

func keyCommands() []*cli.Command {
	printKeys := func(w io.Writer, all []contract.KeyName) {
		rows := make([]table.Row, len(all))
		for i, k := range all {
			rows[i] = table.Row{k.Key, optional(k.Called), map[bool]string{true: "this shop's own"}[k.Own]}
		}
		tabular(w, []any{"key", "whose", ""}, rows)
	}
	return []*cli.Command{
		{
			Name: "keys", Usage: "the keys by which record files are signed, and whose they are",
			Description: "Example:\n   hylostat record keys",
			Action: action(0, 0, func(ctx context.Context, c call) error {
				all, err := c.Keys(ctx)
				if err != nil {
					return err
				}
				return c.show(all, func(w io.Writer) { printKeys(w, all) })
			}),
		},
		{
			Name: "name-key", Usage: "say whose a key is; called \"\", nobody knows any more", ArgsUsage: "KEY NAME",
			Description: "Have whoever signs tell you the key, by another way than the file: record keys, or record capture, says it " +
				"there.\n\nExample:\n   hylostat record name-key 7kq2-mzw4-tabc-defg-h234 \"the stick in the van\"",
			Action: action(1, 2, func(ctx context.Context, c call) error {
				all, err := c.NameKey(ctx, c.arg(0), contract.KeyNaming{Called: c.arg(1), By: c.by()})
				if err != nil {
					return err
				}
				return c.show(all, func(w io.Writer) { printKeys(w, all) })
			}),
		},
	}
}

func printRedecoded(w io.Writer, r contract.RedecodeResult) {
	_, _ = fmt.Fprintf(
		w, "%s readings decoded anew with decoder %d; %s say something else now.\n", wording.Number(float64(r.Readings)),
		r.Decoder, wording.Number(float64(r.Changed)),
	)
	if len(r.Changes) == 0 {
		return
	}
	value := func(p *float64) string {
		if p == nil {
			return "not available"
		}
		return wording.Number(*p)
	}
	_, _ = fmt.Fprintln(w)
	rows := make([]table.Row, len(r.Changes))
	for i, x := range r.Changes {
		rows[i] = table.Row{wording.Serial(x.Serial), x.Reading, x.Signal, value(x.Before), value(x.Now)}
	}
	tabular(w, []any{"drive", "reading", "signal", "before", "now"}, rows, 2, 4, 5)
}

func tableOfSignals(ctx context.Context, c call) error {
	path := c.String("out")
	if path == "" {
		path = "signals.parquet"
	}
	format := strings.TrimPrefix(filepath.Ext(path), ".")
	if path == "-" {
		format = "csv"
	}
	if format != "parquet" && format != "csv" {
		return &usage{fmt.Sprintf("%q says no format: end it with .parquet or .csv", path)}
	}
	if path == "-" {
		return c.SignalsTable(ctx, c.filter(), format, raw(c.out))
	}
	file, err := os.CreateTemp(filepath.Dir(path), ".signals-*")
	if err != nil {
		return fmt.Errorf("writing the table: %w", err)
	}
	err = c.SignalsTable(ctx, c.filter(), format, file)
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(file.Name()))
	}
	_, _ = fmt.Fprintf(c.out, "Written to %s\n", path)
	return nil
}
