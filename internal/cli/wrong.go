package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/visible"
)

// strict makes every command of a tree answer a wrong command line the same way: one sentence in the words of the command, exit code 2.
func strict(c *cli.Command) {
	c.Suggest = false // misspelled offers one, in our words
	c.ShellComplete = complete
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error { return &usage{inWords(c, err)} }
	for _, sub := range c.Commands {
		strict(sub)
	}
	if c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				word := c.Args().First()
				if c == c.Root() {
					return &usage{fmt.Sprintf("there is no command %q%s", word, misspelled(c, word))}
				}
				return &usage{fmt.Sprintf("%s has no command %q%s", named(c), word, cmp.Or(misspelled(c, word), has(c)))}
			}
			if c == c.Root() {
				return cli.ShowRootCommandHelp(c)
			}
			return cli.ShowSubcommandHelp(c)
		}
		return
	}
	act := c.Action
	c.Action = func(ctx context.Context, c *cli.Command) error {
		err := act(ctx, c)
		if p, ok := errors.AsType[*client.ProblemError](err); ok && p.Field != nil {
			return &misused{ofFlag(c, p.Problem), p.Problem}
		}
		return err
	}
}

// Run carries out a command line. Help that is asked for behind arguments is that of the command before them.
func Run(ctx context.Context, root *cli.Command, args []string) error {
	err := root.Run(ctx, helpWanted(root, args))
	if m := noTopic.FindStringSubmatch(fmt.Sprint(err)); m != nil {
		return &usage{fmt.Sprintf("there is no command %q%s", m[1], misspelled(root, m[1]))}
	}
	return err
}

// noTopic is what the command line's own parser says of help that it has not.
var noTopic = regexp.MustCompile(`^No help topic for '(.*)'$`)

// helpWanted leaves of a command line that asks for help the command it names.
func helpWanted(root *cli.Command, args []string) []string {
	if len(args) < 2 || slices.Contains(args, "--generate-shell-completion") {
		return args
	}
	at, path, wanted := root, args[:1:1], false
	if args[1] == "help" {
		for _, name := range args[2:] {
			if at = at.Command(name); at == nil {
				return args
			}
			path = append(path, name)
		}
		return append(path, "--help")
	}
	for _, a := range args[1:] {
		if a == "--" {
			break
		}
		wanted = wanted || a == "--help" || a == "-h"
		if sub := at.Command(a); sub != nil {
			at, path = sub, append(path, a)
		}
	}
	if !wanted {
		return args
	}
	return append(path, "--help")
}

// has lists the commands of a group, where they are few.
func has(c *cli.Command) string {
	var names []string
	for _, sub := range c.VisibleCommands() {
		if sub.Name != "help" {
			names = append(names, sub.Name)
		}
	}
	if len(names) > 8 {
		return ""
	}
	return ". It has " + listed(names, "and")
}

// listed puts words in a row.
func listed(words []string, last string) string {
	n := len(words) - 1
	if n < 1 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:n], ", ") + " " + last + " " + words[n]
}

// oneOf refuses a value of a flag that is none of these.
func oneOf(flag, value string, words ...string) error {
	if slices.Contains(words, value) {
		return nil
	}
	return &usage{fmt.Sprintf("--%s is %s, not %q", flag, listed(words, "or"), value)}
}

// misspelled offers the command that was probably meant: of these, or one of that name elsewhere.
func misspelled(c *cli.Command, word string) string {
	var names []string
	for _, sub := range c.VisibleCommands() {
		names = append(names, sub.Name)
	}
	if near := closest(word, names); near != "" {
		return near
	}
	for _, group := range c.Root().VisibleCommands() {
		for _, sub := range group.Commands {
			if sub.Name == word {
				return fmt.Sprintf(". Did you mean %s %s %s?", c.Root().Name, group.Name, word)
			}
		}
	}
	return ""
}

// What the command line's own parser says.
var (
	undefined = regexp.MustCompile(`^flag provided but not defined: -+(\S+)$`)
	invalid   = regexp.MustCompile(`^invalid value "(.*)" for flag -+(\S+): (.*)$`)
	missing   = regexp.MustCompile(`^flag needs an argument: -+(\S+)$`)
	required  = regexp.MustCompile(`^Required flags? "(.*)" not set$`)
)

// inWords says what is wrong with a command line, and what its flag takes.
func inWords(c *cli.Command, err error) string {
	said := err.Error()
	if m := undefined.FindStringSubmatch(said); m != nil {
		name, _, _ := strings.Cut(m[1], "=")
		var names []string
		for _, f := range flags(c) {
			names = append(names, f.Names()[0])
		}
		near := closest(name, names)
		return fmt.Sprintf("%s has no flag --%s%s", named(c), name, strings.Replace(near, "mean ", "mean --", 1))
	}
	if m := invalid.FindStringSubmatch(said); m != nil {
		return fmt.Sprintf("--%s is %s, not %q", m[2], takes(c, m[2]), m[1])
	}
	if m := missing.FindStringSubmatch(said); m != nil {
		return fmt.Sprintf("--%s wants %s after it", m[1], takes(c, m[1]))
	}
	if m := required.FindStringSubmatch(said); m != nil {
		return fmt.Sprintf("%s wants --%s", named(c), strings.ReplaceAll(m[1], ", ", " and --"))
	}
	return said
}

// flags are those that a command knows, with those of all commands.
func flags(c *cli.Command) (all []cli.Flag) {
	for _, at := range c.Lineage() {
		all = append(all, at.VisibleFlags()...)
	}
	return all
}

// takes says what a flag takes: the word its help has for it, or its kind.
func takes(c *cli.Command, name string) string {
	for _, f := range flags(c) {
		if f.Names()[0] != name {
			continue
		}
		switch f.(type) {
		case *cli.IntFlag:
			return string(numberKind)
		case *cli.FloatFlag:
			return "a number"
		case *cli.DurationFlag:
			return string(durationKind)
		case *cli.BoolFlag:
			return string(boolKind)
		}
		if d, ok := f.(cli.DocGenerationFlag); ok {
			if _, after, ok := strings.Cut(d.GetUsage(), "`"); ok {
				word, _, _ := strings.Cut(after, "`")
				return word
			}
		}
	}
	return "a value"
}

// misused is what the service says of a field, in the words of the command's flag.
type misused struct {
	words   string
	problem contract.Problem
}

func (m *misused) Error() string { return seeHelp(m.words) }

// Unwrap gives what the service said.
func (m *misused) Unwrap() error { return &client.ProblemError{Problem: m.problem} }

// fieldFlags are flags whose fields have other names.
var fieldFlags = map[string]string{"medium": "kind", "from_hours": "from-hours", "to_hours": "to-hours"}

// ofFlag puts the name of the flag in place of that of its field, where the command has one.
func ofFlag(c *cli.Command, p contract.Problem) string {
	field := *p.Field
	name := strings.ReplaceAll(field, "_", "-")
	if other, ok := fieldFlags[field]; ok {
		name = other
	}
	for _, f := range flags(c) {
		if f.Names()[0] == name && strings.HasPrefix(p.Detail, field+" ") {
			return "--" + name + strings.TrimPrefix(p.Detail, field)
		}
	}
	return p.Detail
}

// Report tells an error on the error output: in words, or, where the command prints JSON, as a problem (RFC 9457) with the exit code.
func Report(w io.Writer, asJSON bool, err error) {
	if !asJSON {
		_, _ = fmt.Fprintln(w, "hylostat:", visible.Text(err.Error()))
		return
	}
	said := struct {
		contract.Problem
		Exit int `json:"exit"`
	}{contract.Problem{Title: "Failed", Detail: err.Error()}, Code(err)}
	if p, ok := errors.AsType[*client.ProblemError](err); ok {
		said.Problem = p.Problem
	}
	if _, ok := errors.AsType[*usage](err); ok {
		said.Title = "Not understood"
	}
	if body, wrong := json.Marshal(said); wrong == nil {
		_, _ = fmt.Fprintln(w, visible.JSON(string(body)))
	}
}
