package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"reflect"
	"slices"

	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/watchfile"
)

func watchFileCommands() []*cli.Command {
	return []*cli.Command{
		{
			Name: "export", Usage: "write plans, known flaws and routes into one file, without their secrets", ArgsUsage: " ",
			Description: "YAML, as docs/reference/watch.schema.json says; --schema prints that.\n\nExamples:\n   hylostat watch export " +
				"-o watch.yaml\n   hylostat watch export --schema",
			Flags: []cli.Flag{outFlag("the screen"), &cli.BoolFlag{Name: "schema", Usage: "print the schema of the file"}},
			Action: action(0, 0, func(ctx context.Context, c call) error {
				if c.Bool("schema") {
					text, err := watchfile.Schema()
					if err == nil {
						_, err = fmt.Fprintln(raw(c.out), string(text))
					}
					return err
				}
				f, _, err := c.watchFile(ctx)
				if err != nil {
					return err
				}
				if path := c.String("out"); path != "" && path != "-" {
					file, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
					if err != nil {
						return fmt.Errorf("writing the file: %w", err)
					}
					if err := errors.Join(watchfile.Write(file, f), file.Close()); err != nil {
						return err
					}
					_, err = fmt.Fprintf(c.out, "Written to %s\n", path)
					return err
				}
				return watchfile.Write(raw(c.out), f)
			}),
		},
		{
			Name: "apply", Usage: "have the shop watch, know and tell as a file says", ArgsUsage: "FILE",
			Description: "What a part of the file does not list is ended; a part that is absent stays as it is. Secrets stay as they " +
				"are: give those of new routes by alert route set.\n\nExamples:\n   hylostat watch apply watch.yaml --dry-run\n" +
				"   hylostat watch apply watch.yaml",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "dry-run", Usage: "say what would change, and change nothing"}},
			Action: action(1, 1, applyWatchFile),
		},
	}
}

// watchFile is what the shop does now, as a file says it; and the plans with their numbers.
func (c call) watchFile(ctx context.Context) (f contract.WatchFile, plans []contract.WatchPlan, err error) {
	f.Version = 1
	if plans, err = c.WatchPlans(ctx); err != nil {
		return f, nil, err
	}
	settings := []contract.WatchSetting{}
	for _, p := range plans {
		settings = append(settings, p.Plan)
	}
	known, err := c.Accepted(ctx, "")
	if err != nil {
		return f, nil, err
	}
	levels := []contract.AcceptedSetting{}
	for _, a := range known {
		levels = append(levels, contract.AcceptedSetting{
			Serial: a.Serial, Signal: a.Signal, Level: a.Level, Reason: a.Reason,
			Until: a.Until,
		})
	}
	told, err := c.Routes(ctx)
	if err != nil {
		return f, nil, err
	}
	routes := []contract.RouteSetting{}
	for _, r := range told {
		if r.SetBy != nil {
			routes = append(routes, r.Route)
		}
	}
	f.Plans, f.Accepted, f.Routes = &settings, &levels, &routes
	return f, plans, nil
}

// step is one thing that a file changes.
type step struct {
	Does string `json:"does"` // sets, changes, ends
	What string `json:"what"`
	do   func(ctx context.Context) error
}

// alike reports whether two things say the same.
func alike(a, b any) bool {
	texts := [2]any{}
	for i, v := range []any{a, b} {
		body, err := json.Marshal(v)
		if err != nil || json.Unmarshal(body, &texts[i]) != nil {
			return false
		}
	}
	return reflect.DeepEqual(texts[0], texts[1])
}

// differ are the steps from what is to what a file says, of one part of it.
func differ[T any](is, said *[]T, key func(T) string, set, end func(ctx context.Context, one T) error) (all []step) {
	if said == nil {
		return nil
	}
	find := func(in []T, k string) int { return slices.IndexFunc(in, func(one T) bool { return key(one) == k }) }
	for _, one := range *said {
		s := step{"sets", key(one), func(ctx context.Context) error { return set(ctx, one) }}
		if i := find(*is, s.What); i >= 0 {
			if alike((*is)[i], one) {
				continue
			}
			s.Does = "changes"
		}
		all = append(all, s)
	}
	for _, one := range *is {
		if k := key(one); find(*said, k) < 0 {
			all = append(all, step{"ends", k, func(ctx context.Context) error { return end(ctx, one) }})
		}
	}
	return all
}

// scope is whom a plan is for, in words.
func scope(s contract.WatchScope) string {
	switch {
	case s.Drive != nil:
		return "plan of " + wording.Serial(*s.Drive)
	case s.Lot != nil:
		return fmt.Sprintf("plan of lot %d", *s.Lot)
	case s.Bench != nil:
		return "plan of bench " + cmp.Or(*s.Bench, "own")
	}
	return fmt.Sprintf("plan of duty %s", optional(s.Duty))
}

func applyWatchFile(ctx context.Context, c call) error {
	text, err := os.Open(c.arg(0))
	if err != nil {
		return fmt.Errorf("the file: %w", err)
	}
	defer func() { _ = text.Close() }()
	said, err := watchfile.Read(text)
	if err != nil {
		return fmt.Errorf("%s: %w", c.arg(0), err)
	}
	is, plans, err := c.watchFile(ctx)
	if err != nil {
		return err
	}
	for _, all := range []*[]contract.WatchSetting{is.Plans, said.Plans} {
		for i := 0; all != nil && i < len(*all); i++ {
			(*all)[i].For.Model = nil // a drive is named by its serial
		}
	}
	steps := slices.Concat(
		differ(
			is.Plans, said.Plans, func(p contract.WatchSetting) string { return scope(p.For) },
			func(ctx context.Context, p contract.WatchSetting) error {
				_, err := c.SetWatchPlan(ctx, contract.WatchPlanRequest{Plan: p, By: c.by()})
				return err
			}, func(ctx context.Context, p contract.WatchSetting) error {
				for _, one := range plans {
					if scope(one.Plan.For) == scope(p.For) {
						_, err := c.EndWatchPlan(ctx, one.Id, c.by())
						return err
					}
				}
				return nil
			},
		),
		differ(is.Accepted, said.Accepted, func(a contract.AcceptedSetting) string {
			return fmt.Sprintf("%s of %s, known", a.Signal, wording.Serial(a.Serial))
		}, func(ctx context.Context, a contract.AcceptedSetting) error {
			_, err := c.AcceptLevel(
				ctx, a.Serial, a.Signal, contract.AcceptRequest{Level: a.Level, Reason: a.Reason, Until: a.Until, By: c.by()},
			)
			return err
		}, func(ctx context.Context, a contract.AcceptedSetting) error {
			_, err := c.EndAccepted(ctx, a.Serial, a.Signal, c.by())
			return err
		}),
		differ(is.Routes, said.Routes, func(r contract.RouteSetting) string { return "route " + r.Name },
			func(ctx context.Context, r contract.RouteSetting) error {
				made, err := c.SetRoute(ctx, contract.RouteRequest{Route: r, By: c.by()})
				if err == nil && made.Made != nil {
					_, _ = fmt.Fprintf(c.out, "Route %q signs with %s. Keep it: it is not shown again.\n", r.Name, *made.Made)
				}
				return err
			}, func(ctx context.Context, r contract.RouteSetting) error {
				_, err := c.EndRoute(ctx, r.Name, c.by())
				return err
			}),
	)
	if !c.Bool("dry-run") {
		for i, s := range steps {
			if err := s.do(ctx); err != nil {
				return fmt.Errorf("%d of %d are done; %s: %w", i, len(steps), s.What, err)
			}
		}
	}
	return c.show(append([]step{}, steps...), func(w io.Writer) {
		if len(steps) == 0 {
			_, _ = fmt.Fprintln(w, "Nothing changes.")
		}
		for _, s := range steps {
			_, _ = fmt.Fprintf(w, "%-8s %s\n", s.Does, s.What)
		}
		if c.Bool("dry-run") && len(steps) > 0 {
			_, _ = fmt.Fprintln(w, "Nothing was changed: leave out --dry-run to have it so.")
		}
	})
}
