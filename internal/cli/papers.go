package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func stockFlag() cli.Flag {
	return &cli.StringFlag{Name: "stock", Usage: "`STOCK` of labels: 62x29, 57x32, 89x36 (mm), or a4-24, a sheet of 24", Value: "62x29"}
}

// stock is the kind of label stock that is asked for.
func (c call) stock() *contract.Stock {
	s := contract.Stock(c.String("stock"))
	return &s
}

// format is the one that was asked for, else what the ending of the file to write tells, else the first.
func (c call) format(first string, others ...string) string {
	if c.IsSet("format") {
		return c.String("format")
	}
	if ending := strings.TrimPrefix(strings.ToLower(filepath.Ext(c.String("out"))), "."); slices.Contains(others, ending) {
		return ending
	}
	return first
}

func languageFlag() cli.Flag {
	return &cli.StringFlag{Name: "language", DefaultText: "the customer's", Usage: "`LANGUAGE` of the owner's papers: en, de, fr or es"}
}

// language is that of the papers that are asked for; nil: the customer's.
func (c call) language() *contract.Language {
	if !c.IsSet("language") {
		return nil
	}
	l := contract.Language(c.String("language"))
	return &l
}

func statementCommand() *cli.Command {
	return &cli.Command{
		Name:      "statement",
		Usage:     "the page about a drive for its owner",
		ArgsUsage: "DRIVE",
		Category:  "drives",
		Description: "Examples:\n   hylostat statement 7M4Q2\n   hylostat statement 7M4Q2 --format pdf\n   hylostat statement " +
			"7M4Q2 --language de",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "`FORMAT` of it: text, pdf or html", DefaultText: "by the ending of --out, else text"},
			languageFlag(),
			outFlag("of a pdf or html statement-N.pdf or .html, N its number,"),
		},
		Action: action(1, 1, func(ctx context.Context, c call) error {
			if err := oneOf("format", c.format("text", "pdf", "html"), "text", "pdf", "html"); err != nil {
				return err
			}
			s, err := c.Statement(ctx, c.arg(0), c.language())
			if err != nil {
				return err
			}
			switch format := c.format("text", "pdf", "html"); format {
			case "pdf", "html":
				body, err := c.StatementPage(ctx, c.arg(0), format, c.language())
				if err != nil {
					return err
				}
				return c.write(body, "statement-"+fileName(s.Number, "."+format), "Statement "+s.Number)
			}
			if c.String("out") == "" {
				return c.show(s, func(w io.Writer) { printStatement(w, s) })
			}
			var text bytes.Buffer
			printStatement(&text, s)
			return c.write(text.Bytes(), "", "Statement "+s.Number)
		}),
	}
}

func printStatement(w io.Writer, s contract.Statement) {
	_, _ = fmt.Fprintf(w, "%s   %s, %s\n\n%s\n%s\n", s.Shop, s.Headings.Title, s.Date, bold(w, mark(s.Grade)+" "+s.Title), s.Answer)
	list := func(title string, all []string) {
		if len(all) == 0 {
			return
		}
		_, _ = fmt.Fprintf(w, "\n%s\n", title)
		for i, line := range all {
			_, _ = fmt.Fprintf(w, "%2d  %s\n", i+1, line)
		}
	}
	for _, use := range []struct {
		title string
		all   []string
	}{{s.Headings.Does, s.Does}, {s.Headings.Care, s.Care}, {s.Headings.NotFor, s.NotFor}} {
		if len(use.all) > 0 {
			_, _ = fmt.Fprintf(w, "%-27s %s\n", use.title, strings.Join(use.all, ", "))
		}
	}
	list(s.Headings.Why, s.Why)
	list(s.Headings.Do, s.Do)
	list(s.Headings.Checked, s.Checked)
	list(s.Headings.NotChecked, s.NotChecked)
	_, _ = fmt.Fprintf(w, "\n%s\n    %s\n\n", s.Headings.Data, s.Data)
	for _, f := range s.Facts {
		_, _ = fmt.Fprintf(w, "%-12s %s\n", f.Name, f.Value)
	}
	_, _ = fmt.Fprintf(w, "\n%s\n%s\n", s.Signature, s.Foot)
}

func labelCommand() *cli.Command {
	return &cli.Command{
		Name:      "label",
		Usage:     "the label for a drive, or for several on one PDF",
		ArgsUsage: "DRIVE...",
		Category:  "drives",
		Description: "A PNG is for label printers of 203 or 300 dots per inch, in one ink. The code leads to the drive's page, by " +
			"the address in --service.\n\nExamples:\n   hylostat label 7M4Q2\n   hylostat label 7M4Q2 --format png --dpi 203\n   " +
			"hylostat label 7M4Q2 7M511 --stock a4-24",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "`FORMAT` of it: pdf or png", DefaultText: "by the ending of --out, else pdf"},
			stockFlag(),
			&cli.IntFlag{Name: "dpi", Usage: "`DPI` of a PNG: 203 or 300", Value: 300},
			languageFlag(),
			outFlag("label-SERIAL.pdf or .png, of several labels.pdf,"),
		},
		Action: action(1, 500, func(ctx context.Context, c call) error {
			if several := c.Args().Slice(); len(several) > 1 {
				if c.format("pdf", "png") != "pdf" || c.Bool("json") {
					return &usage{"several labels come as one PDF"}
				}
				body, err := c.DriveLabels(ctx, contract.PrintDriveLabelsParams{Drive: several, Stock: c.stock(), Language: c.language()})
				if err != nil {
					return err
				}
				return c.write(body, "labels.pdf", fmt.Sprintf("%d labels", len(several)))
			}
			l, err := c.Label(ctx, c.arg(0))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return c.show(l, nil)
			}
			format := c.format("pdf", "png")
			if err := oneOf("format", format, "pdf", "png"); err != nil {
				return err
			}
			dpi := c.Int("dpi")
			body, err := c.LabelPage(
				ctx, c.arg(0), contract.GetLabelParams{Format: &format, Stock: c.stock(), Dpi: &dpi, Language: c.language()},
			)
			if err != nil {
				return err
			}
			return c.write(body, "label-"+fileName(l.Serial, "."+format), "Label of "+wording.Serial(l.Serial))
		}),
	}
}
