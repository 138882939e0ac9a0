package cli

import (
	"errors"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
)

// yesFlag is the answer of those who cannot be asked.
func yesFlag() cli.Flag { return &cli.BoolFlag{Name: "yes", Usage: "do not ask"} }

// sure asks whether somebody means it. Where nobody can be asked, --yes has to say so. what is done, as in "Forget X"; an error: it
// is not meant.
func (c call) sure(what string) error {
	if c.Bool("yes") {
		return nil
	}
	in, ok := c.Root().Reader.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return &usage{what + ": nobody can be asked here; say it with --yes"}
	}
	answer, err := ask(c.Root().ErrWriter, in, what+"? Type yes: ")
	if err == nil && !strings.EqualFold(strings.TrimSpace(answer), "yes") {
		err = errors.New("nothing was done")
	}
	return err
}
