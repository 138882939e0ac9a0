package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"hylostat.example/internal/visible"
)

// DefaultConfig is the file of settings that is read where it is there.
const DefaultConfig = "/etc/hylostat/hylostat.yaml"

// settings are those of a service or a bench beside its command line: environment and file, by the names of the flags.
type settings struct {
	section string // of the file, and where names of the environment begin: "serve", "bench"
	path    string // of the file, when one is named
	read    bool
	file    map[string]*yaml.Node // by name; a section's own before what both have
	used    map[string]string     // where a name was found
	err     error                 // everything that is wrong with them
}

// both are settings that the service and the bench have each, and may share.
var both = []string{"log-level", "log-format"}

// once are flags that mean this start alone: no setting.
var once = []string{"config", "create", "rejoin"}

// from adds the settings to flags as what they are looked up in: the environment, then the file.
func (s *settings) from(flags []cli.Flag) []cli.Flag {
	s.used = map[string]string{}
	config := &cli.StringFlag{
		Name: "config", Usage: "`FILE` with settings, by the names of these flags; " + DefaultConfig + " where it is there",
		Sources: cli.EnvVars("HYLOSTAT_CONFIG"), Destination: &s.path,
	}
	for _, f := range flags {
		name := f.Names()[0]
		if slices.Contains(once, name) {
			continue
		}
		set := func(kind kind) cli.ValueSourceChain { return cli.NewValueSourceChain(&setting{s, name, kind}) }
		switch f := f.(type) {
		case *cli.StringFlag:
			f.Sources = set(textKind)
		case *cli.StringSliceFlag:
			f.Sources = set(listKind)
		case *cli.BoolFlag:
			f.Sources = set(boolKind)
		case *cli.DurationFlag:
			f.Sources = set(durationKind)
		case *cli.IntFlag:
			f.Sources = set(numberKind)
		default:
			panic(fmt.Sprintf("%T cannot be a setting", f))
		}
	}
	return append([]cli.Flag{config}, flags...)
}

// ready refuses to go on with settings that are wrong.
func (s *settings) ready(then cli.ActionFunc) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if c.Args().Present() {
			return &usage{fmt.Sprintf("%s takes no arguments", named(c))}
		}
		s.load()
		var known []string
		for _, f := range c.Flags {
			if name := f.Names()[0]; !slices.Contains(once, name) {
				known = append(known, name)
			}
		}
		for name, node := range s.file {
			if !slices.Contains(known, name) {
				s.wrong(node, "%q is no setting of %s%s", name, s.section, closest(name, known))
			}
		}
		if s.err != nil {
			return &usage{s.err.Error()}
		}
		return then(ctx, c)
	}
}

func (s *settings) wrong(node *yaml.Node, words string, values ...any) {
	s.err = errors.Join(s.err, fmt.Errorf("%s, line %d: %s", s.path, node.Line, fmt.Sprintf(words, values...)))
}

// load reads the file. One that is not named need not be there.
func (s *settings) load() {
	if s.read {
		return
	}
	s.read = true
	named := s.path != ""
	if !named {
		s.path = DefaultConfig
	}
	body, err := os.ReadFile(s.path)
	if errors.Is(err, fs.ErrNotExist) && !named {
		return
	}
	if err != nil {
		s.err = fmt.Errorf("reading the settings in %s: %w", s.path, reason(err))
		return
	}
	var top yaml.Node
	if err := yaml.Unmarshal(body, &top); err != nil {
		s.err = fmt.Errorf("%s: %s", s.path, strings.TrimPrefix(err.Error(), "yaml: "))
		return
	}
	s.file = map[string]*yaml.Node{}
	if len(top.Content) == 0 { // nothing but comments
		return
	}
	sections := []string{"serve", "bench"}
	s.each(top.Content[0], func(name, value *yaml.Node) {
		switch {
		case name.Value == s.section:
		case slices.Contains(sections, name.Value):
			return
		case slices.Contains(both, name.Value):
			if _, own := s.file[name.Value]; !own {
				s.file[name.Value] = value
			}
			return
		default:
			meant := closest(name.Value, append(sections, both...))
			s.wrong(name, "%q is neither serve nor bench, nor a setting of both%s", name.Value, meant)
			return
		}
		s.each(value, func(name, value *yaml.Node) { s.file[name.Value] = value })
	})
}

// each goes through the pairs of a mapping.
func (s *settings) each(m *yaml.Node, do func(name, value *yaml.Node)) {
	switch {
	case m.Kind == yaml.ScalarNode && m.Tag == "!!null": // a section without anything
		return
	case m.Kind != yaml.MappingNode:
		s.wrong(m, "settings are lines of \"name: value\"")
		return
	}
	for i := 0; i+1 < len(m.Content); i += 2 {
		do(m.Content[i], m.Content[i+1])
	}
}

// kind is what the value of a setting has to be.
type kind string

// The kinds.
const (
	textKind     kind = "a text"
	listKind     kind = "a list of texts"
	boolKind     kind = "true or false"
	durationKind kind = "a duration, as 24h or 90m"
	numberKind   kind = "a whole number"
)

func (k kind) is(value string) bool {
	var err error
	switch k {
	case boolKind:
		return value == "true" || value == "false"
	case durationKind:
		_, err = time.ParseDuration(value)
	case numberKind:
		_, err = strconv.Atoi(value)
	case textKind, listKind:
	}
	return err == nil
}

// setting is one of them; it implements cli.ValueSource.
type setting struct {
	of   *settings
	name string
	kind kind
}

// variable is its name in the environment.
func (s *setting) variable() string {
	name := s.name
	if s.of.section == "bench" && !slices.Contains(both, name) {
		name = "bench-" + name
	}
	return "HYLOSTAT_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// Lookup implements cli.ValueSource.
func (s *setting) Lookup() (string, bool) {
	if value, ok := os.LookupEnv(s.variable()); ok && value != "" {
		if !s.kind.is(value) {
			s.of.err = errors.Join(s.of.err, fmt.Errorf("%s in the environment is %s, not %q", s.variable(), s.kind, value))
			return "", false
		}
		s.of.used[s.name] = s.variable()
		return value, true
	}
	s.of.load()
	node := s.of.file[s.name]
	if node == nil {
		return "", false
	}
	var all []string
	switch {
	case node.Kind == yaml.ScalarNode && node.Tag == "!!null":
		return "", false
	case node.Kind == yaml.ScalarNode:
		all = []string{node.Value}
	case node.Kind == yaml.SequenceNode && s.kind == listKind:
		for _, one := range node.Content {
			if one.Kind != yaml.ScalarNode || strings.Contains(one.Value, ",") {
				s.of.wrong(one, "%s is %s, none of them with a comma", s.name, s.kind)
				return "", false
			}
			all = append(all, one.Value)
		}
	}
	switch {
	case node.Kind == yaml.SequenceNode && s.kind == listKind:
	case len(all) == 0:
		s.of.wrong(node, "%s is %s", s.name, s.kind)
		return "", false
	case !s.kind.is(all[0]):
		s.of.wrong(node, "%s is %s, not %q", s.name, s.kind, node.Value)
		return "", false
	}
	s.of.used[s.name] = fmt.Sprintf("%s, line %d", s.of.path, node.Line)
	return strings.Join(all, ","), true
}

// String and GoString implement cli.ValueSource; the name is shown in the help.
func (s *setting) String() string   { return "environment variable or setting " + s.variable() }
func (s *setting) GoString() string { return s.variable() }

// IsFromEnv and Key have the help show the name of the variable.
func (s *setting) IsFromEnv() bool { return true }

// Key is the name of the variable.
func (s *setting) Key() string { return s.variable() }

func (s Starters) configCommands() *cli.Command {
	return &cli.Command{
		Name: "config", Usage: "the settings of the service and its bench", Category: "service",
		Commands: []*cli.Command{{
			Name:      "check",
			Usage:     "say what is wrong with the settings, or what is in force and where it was set",
			ArgsUsage: "[FILE]",
			Description: "Looks at the file and the environment as \"hylostat serve\" and \"hylostat bench serve\" would at their start, " +
				"and starts nothing.\n\nExample:\n   hylostat config check",
			Action: s.checkConfig,
		}},
	}
}

func (s Starters) checkConfig(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return &usage{named(c) + " wants one file at most"}
	}
	var rows []table.Row
	var wrong []string // each once, whichever of the two it concerns
	for _, words := range [][]string{{"serve"}, {"bench", "serve"}} {
		args := append([]string{"hylostat"}, words...)
		if c.Args().Present() {
			args = append(args, "--config", c.Args().First())
		}
		root := New(Starters{
			Version: s.Version, Serve: func(context.Context, ServeOptions) error { return nil },
			Bench: func(context.Context, BenchOptions) error { return nil },
		})
		root.Writer, root.ErrWriter = io.Discard, io.Discard
		command := root
		for _, word := range words {
			command = command.Command(word)
		}
		then := command.Action
		command.Action = func(ctx context.Context, c *cli.Command) error {
			if err := then(ctx, c); err != nil {
				return err
			}
			rows = append(rows, inForce(words[0], c)...)
			return nil
		}
		if err := root.Run(ctx, args); err != nil {
			for line := range strings.SplitSeq(strings.TrimSuffix(err.Error(), ". See --help"), "\n") {
				if !slices.Contains(wrong, line) {
					wrong = append(wrong, line)
				}
			}
		}
	}
	if wrong != nil {
		return &usage{strings.Join(wrong, "\n")}
	}
	out := &plain{Writer: c.Root().Writer}
	tabular(out, []any{"setting", "value", "from"}, rows)
	return out.failed()
}

// inForce lists what was set of a command's flags, and where.
func inForce(section string, c *cli.Command) (rows []table.Row) {
	for _, f := range c.Flags {
		name := f.Names()[0]
		if slices.Contains(once, name) || name == "help" {
			continue
		}
		from := "default"
		if used := usedBy(f); used != "" {
			from = used
		}
		value := fmt.Sprint(c.Value(name))
		if all, ok := c.Value(name).([]string); ok {
			value = strings.Join(all, ", ")
		}
		if value != "" {
			rows = append(rows, table.Row{section + "." + name, visible.Text(value), from})
		}
	}
	return rows
}

// usedBy tells where a flag's value was found; empty: nowhere.
func usedBy(f cli.Flag) string {
	var chain cli.ValueSourceChain
	switch f := f.(type) {
	case *cli.StringFlag:
		chain = f.Sources
	case *cli.StringSliceFlag:
		chain = f.Sources
	case *cli.BoolFlag:
		chain = f.Sources
	case *cli.DurationFlag:
		chain = f.Sources
	case *cli.IntFlag:
		chain = f.Sources
	}
	for _, one := range chain.Chain {
		if s, ok := one.(*setting); ok {
			return s.of.used[s.name]
		}
	}
	return ""
}

// closest offers the name that was probably meant, as a sentence of its own; empty: none is near.
func closest(word string, names []string) string {
	best, least := "", min(max(1, len(word)-2), max(2, len(word)/3))+1
	for _, name := range names {
		if d := levenshtein.ComputeDistance(strings.ToLower(word), name); d < least {
			best, least = name, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf(". Did you mean %s?", best)
}
