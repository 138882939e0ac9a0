package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// values are those of flags that take one of a few.
var values = map[string][]string{
	"grade": {"replace", "degrading", "healthy", "undecided"}, "kind": {"spinning", "flash"}, "goes": {"returned", "kept", "scrapped"},
	"language": {"en", "de", "fr", "es"}, "stock": {"62x29", "57x32", "89x36", "a4-24"}, "role": {"desk", "technician", "lead"},
	"duty": {"everyday", "carry", "archive", "continuous"}, "check": {"quick", "extended", "whole"}, "tls": {"self"},
	"log-level": {"debug", "info", "warn", "error"}, "log-format": {"text", "json"}, "scope": {"reads", "desk", "technician", "lead"},
}

// completeWithin is how long a service may take to say what there is: somebody waits at a prompt.
const completeWithin = 700 * time.Millisecond

// complete prints what may come next on a command line, a line each, with what it is behind a colon: the values of a flag, flags, commands,
// or, by what the command's help says it wants, drives, bays, runs, lots and intakes of the service.
func complete(ctx context.Context, c *cli.Command) {
	before := ""
	if words := os.Args; len(words) > 2 { // the last asks for this
		before = words[len(words)-2]
	}
	out := c.Root().Writer
	if name := strings.TrimLeft(before, "-"); name != before {
		for _, v := range values[name] {
			_, _ = fmt.Fprintln(out, v)
		}
		if len(values[name]) == 0 {
			cli.DefaultCompleteWithFlags(ctx, c)
		}
		return
	}
	if slices.ContainsFunc(c.Commands, func(sub *cli.Command) bool { return sub.Name != "help" }) { // which each has
		cli.DefaultCompleteWithFlags(ctx, c)
		return
	}
	wanted := strings.Fields(c.ArgsUsage)
	if len(wanted) == 0 {
		return
	}
	if wanted[len(wanted)-1] == "..." { // any number of them
		wanted = wanted[:len(wanted)-1]
	}
	word := strings.Trim(wanted[min(c.Args().Len(), len(wanted)-1)], "[].")
	if strings.Contains(word, "|") && word == strings.ToLower(word) {
		_, _ = fmt.Fprintln(out, strings.ReplaceAll(word, "|", "\n"))
		return
	}
	service, err := serviceOf(c)
	if err != nil {
		return
	}
	ctx, end := context.WithTimeout(ctx, completeWithin)
	defer end()
	there(ctx, service, word, out)
}

// there lists what a service has of a kind. What it does not say in time is left out.
func there(ctx context.Context, s *client.Client, word string, out io.Writer) {
	line := func(name, about string) { _, _ = fmt.Fprintf(out, "%s:%s\n", name, strings.ReplaceAll(about, ":", "")) }
	limit := 1000
	if word == "DRIVE" {
		drives, _ := s.Drives(ctx, contract.ListDrivesParams{Limit: &limit})
		for _, d := range drives {
			if !strings.Contains(d.Serial, " ") {
				line(d.Serial, fmt.Sprintf("%s, %s", d.Model, d.Grade))
			}
		}
	}
	switch word {
	case "DRIVE", "BAY":
		bays, _ := s.Bays(ctx)
		for _, b := range bays {
			about := string(b.Connection)
			if b.Drive != nil {
				about = b.Drive.Serial
			}
			line(b.Name.String(), about)
		}
	case "RUN":
		runs, _ := s.Runs(ctx, contract.ListRunsParams{})
		for _, r := range runs {
			line(fmt.Sprint(r.Id), r.Title+" of "+r.Serial)
		}
	case "LOT":
		lots, _ := s.Lots(ctx)
		for _, l := range lots {
			line(fmt.Sprint(l.Id), optional(l.Customer))
		}
	case "INTAKE":
		open := true
		intakes, _ := s.Intakes(ctx, contract.ListIntakesParams{Open: &open})
		for _, i := range intakes {
			line(fmt.Sprint(i.Id), optional(i.Customer))
		}
	}
}
