package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

func routeCommands() *cli.Command {
	return &cli.Command{
		Name: "route", Usage: "who is told of alerts, by what and when",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "the routes, and when each told something last", ArgsUsage: " ",
				Description: "Example:\n   hylostat alert route list",
				Action: action(0, 0, func(ctx context.Context, c call) error {
					all, err := c.Routes(ctx)
					if err != nil {
						return err
					}
					return c.show(all, func(w io.Writer) { printRoutes(w, all) })
				}),
			},
			{
				Name: "set", Usage: "make a route, or change the one of that name", ArgsUsage: "NAME",
				Description: "Mail goes by a server with STARTTLS (smtp://), TLS (smtps://) or plainly (smtp+plain://, for one on the " +
					"same machine); a webhook gets CloudEvents signed as Standard Webhooks are; syslog gets RFC 5424 over udp://, tcp:// " +
					"or tls://; the console sounds. What is not named stays as it is.\n\nExamples:\n" +
					"   hylostat alert route set \"Imre's mail\" --mail imre@saltmarsh.example " +
					"--server smtp://mail.saltmarsh.example:587 " +
					"--sender bench@saltmarsh.example --user bench --secret --quiet 19:00-07:30 " +
					"--digest 07:30\n" +
					"   hylostat alert route set \"front desk\" --webhook https://desk.saltmarsh.example/alerts\n" +
					"   hylostat alert route set loft --syslog tls://loft.saltmarsh.example:6514 --least digest",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "mail", Usage: "mail to `ADDRESSES`, with commas between"},
					&cli.StringFlag{Name: "server", Usage: "mail `SERVER`: smtp://HOST:587, smtps://HOST:465"},
					&cli.StringFlag{Name: "sender", Usage: "the `ADDRESS` mail comes from"},
					&cli.StringFlag{Name: "user", Usage: "`NAME` at the mail server"},
					&cli.StringFlag{Name: "webhook", Usage: "call `ADDRESS`, https://HOST/PATH"},
					&cli.StringFlag{Name: "syslog", Usage: "write to the log at `ADDRESS`: udp://HOST:514, tcp://, tls://HOST:6514"},
					&cli.BoolFlag{Name: "console", Usage: "sound in the console, and say so beside it"},
					&cli.StringFlag{Name: "people", Usage: "whose consoles sound, by `NAMES` with commas between; empty: all"},
					&cli.BoolFlag{
						Name:  "secret",
						Usage: "ask for a password, or what a webhook is signed with; with the input no terminal, its first line is it",
					},
					&cli.StringFlag{Name: "trust", Usage: "`FILE` with a certificate to trust beside the machine's own"},
					&cli.StringFlag{Name: "least", Usage: "the least it tells: `SEVERITY` digest, now or wake"},
					&cli.StringSliceFlag{Name: "drive", Usage: "of the drive with this `SERIAL` alone"},
					&cli.StringFlag{Name: "bench", Usage: "of the drives of this bench alone: `NAME`, own for the shop's own"},
					&cli.StringFlag{Name: "zone", Usage: "time `ZONE` of its hours, as Europe/Lisbon"},
					&cli.StringSliceFlag{Name: "quiet", Usage: "it waits from `FROM-UNTIL`: 19:00-07:30, 00:00-23:59/SA+SU; any: never"},
					&cli.StringFlag{Name: "breaks", Usage: "what quiet hours do not keep: `SEVERITY` digest, now, wake or none"},
					&cli.StringFlag{Name: "digest", Usage: "tell what may wait together at `TIME`, as 07:30; never: at once"},
					&cli.IntFlag{Name: "after", HideDefault: true, Usage: "tell only what nobody has taken for so many `MINUTES`"},
					&cli.BoolFlag{Name: "names", Usage: "customers are named"},
					&cli.BoolFlag{Name: "repeat", Usage: "the console sounds until somebody takes the alert"},
					&cli.StringFlag{Name: "page", Usage: "where the service is found, for links: `ADDRESS`"},
					&cli.BoolFlag{Name: "off", Usage: "switch it off"},
					&cli.BoolFlag{Name: "on", Usage: "switch it on"},
				},
				Action: action(1, 1, setRoute),
			},
			{
				Name: "end", Usage: "end a route; what waits for it is not told", ArgsUsage: "NAME",
				Description: "Example:\n   hylostat alert route end \"front desk\"",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					left, err := c.EndRoute(ctx, c.arg(0), c.by())
					if err != nil {
						return err
					}
					return c.show(left, func(w io.Writer) { _, _ = fmt.Fprintf(w, "Route %q ended.\n", c.arg(0)) })
				}),
			},
			{
				Name: "try", Usage: "send a letter that says it is a trial, and show what was said between the two sides",
				ArgsUsage:   "NAME",
				Description: "Example:\n   hylostat alert route try \"front desk\"",
				Action: action(1, 1, func(ctx context.Context, c call) error {
					t, err := c.TryRoute(ctx, c.arg(0), c.by())
					if err != nil {
						return err
					}
					if err := c.show(t, func(w io.Writer) { printTrial(w, t) }); err != nil || t.Arrived {
						return err
					}
					return &notPassed{optional(t.Wrong)}
				}),
			},
		},
	}
}

func printTrial(w io.Writer, t contract.RouteTrial) {
	for _, line := range t.Words {
		_, _ = fmt.Fprintln(w, line)
	}
	if t.Arrived {
		_, _ = fmt.Fprintln(w, "It arrived.")
	}
}

func printRoutes(w io.Writer, all []contract.Route) {
	rows := make([]table.Row, len(all))
	for i, r := range all {
		rows[i] = table.Row{r.Route.Name, whom(r.Route), whenTold(r.Route), r.Standing}
	}
	tabular(w, []any{"route", "tells", "when", "how it does"}, rows)
}

// whom is by what a route tells, and whom.
func whom(s contract.RouteSetting) string {
	if s.To == nil {
		return "the " + string(s.By)
	}
	return string(s.By) + ", " + *s.To
}

// whenTold is what a route tells and when: "now and wake; quiet 19:00-07:30, but for wake; digest at 07:30".
func whenTold(s contract.RouteSetting) string {
	least := map[contract.Severity]string{"digest": "all", "now": "now and wake", "wake": "wake alone"}[s.Least]
	all := []string{least}
	if s.AfterMin != nil && *s.AfterMin > 0 {
		all = append(all, fmt.Sprintf("untaken for %d min", *s.AfterMin))
	}
	for _, q := range optional(s.Quiet) {
		text := "quiet " + q.From + "-" + q.Until
		if q.Days != nil {
			days := make([]string, len(*q.Days))
			for i, d := range *q.Days {
				days[i] = string(d)
			}
			text += "/" + strings.Join(days, "+")
		}
		all = append(all, text)
	}
	if s.Quiet != nil {
		but := "wake"
		if s.Breaks != nil {
			but = string(*s.Breaks)
		}
		all[len(all)-1] += ", but for " + but
	}
	if s.Digest != nil {
		all = append(all, "digest at "+*s.Digest)
	}
	return strings.Join(all, "; ")
}

func setRoute(ctx context.Context, c call) error {
	request := contract.RouteRequest{By: c.by()}
	s := &request.Route
	*s = contract.RouteSetting{Name: c.arg(0), Least: contract.Severity("now")}
	known, err := c.Routes(ctx)
	if err != nil {
		return err
	}
	for _, r := range known {
		if r.Route.Name == s.Name && r.SetBy != nil {
			*s = r.Route
		}
	}
	if err := c.changeRoute(s); err != nil {
		return err
	}
	if s.By == "" {
		return &usage{"say by what it tells: --mail, --webhook, --syslog or --console"}
	}
	if c.Bool("secret") {
		secret, err := askPassword(c.Root().Reader, c.Root().ErrWriter, "Secret of the route")
		if err != nil {
			return err
		}
		request.Secret = &secret
	}
	r, err := c.SetRoute(ctx, request)
	if err != nil {
		return err
	}
	return c.show(r, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "Route %q: %s; %s.\n", r.Route.Name, whom(r.Route), whenTold(r.Route))
		if r.Made != nil {
			_, _ = fmt.Fprintf(w, "It signs with %s. Keep it: it is not shown again.\n", *r.Made)
		}
	})
}

// changeRoute puts what is named into a route.
func (c call) changeRoute(s *contract.RouteSetting) error {
	for _, by := range []contract.RouteSettingBy{"mail", "webhook", "syslog"} {
		if c.IsSet(string(by)) {
			to := c.String(string(by))
			s.By, s.To = by, &to
		}
	}
	if c.Bool("console") {
		s.By, s.To = "console", nil
	}
	if c.IsSet("people") {
		if s.By != "console" {
			return &usage{"--people is of --console: mail, a webhook and syslog have addresses"}
		}
		s.To = nil
		if names := c.String("people"); names != "" {
			s.To = &names
		}
	}
	for flag, field := range map[string]**string{
		"server": &s.Server, "sender": &s.Sender, "user": &s.User, "zone": &s.Zone, "digest": &s.Digest, "page": &s.Page, "bench": &s.Bench,
	} {
		if !c.IsSet(flag) {
			continue
		}
		text := c.String(flag)
		if *field = &text; flag == "digest" && text == "never" {
			*field = nil
		}
	}
	if s.Bench != nil && *s.Bench == "own" {
		*s.Bench = ""
	}
	if file := c.String("trust"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("the certificate to trust: %w", err)
		}
		pem := string(text)
		s.Trust = &pem
	}
	if c.IsSet("least") {
		s.Least = contract.Severity(c.String("least"))
	}
	if c.IsSet("breaks") {
		breaks := contract.RouteSettingBreaks(c.String("breaks"))
		s.Breaks = &breaks
	}
	if c.IsSet("drive") {
		all := c.StringSlice("drive")
		s.Drives = &all
	}
	if c.IsSet("quiet") {
		all, err := windows(c.StringSlice("quiet"))
		if err != nil {
			return err
		}
		if s.Quiet = nil; len(all) > 0 {
			s.Quiet = &all
		}
	}
	if n := given[int](c, "after"); n != nil {
		s.AfterMin = n
	}
	for flag, field := range map[string]**bool{"names": &s.Names, "repeat": &s.Repeat} {
		if c.IsSet(flag) {
			on := c.Bool(flag)
			*field = &on
		}
	}
	switch why := "switched off by " + c.by(); {
	case c.Bool("off"):
		s.Off = &why
	case c.Bool("on"):
		s.Off = nil
	}
	return nil
}

func listMessages(ctx context.Context, c call) error {
	id := int64(0)
	if c.arg(0) != "" {
		var err error
		if id, err = c.alert(0); err != nil {
			return err
		}
	}
	all, err := c.Messages(ctx, id, c.Int("limit"))
	if err != nil {
		return err
	}
	return c.show(all, func(w io.Writer) {
		if len(all) == 0 {
			_, _ = fmt.Fprintln(w, "Nothing was told.")
			return
		}
		rows := make([]table.Row, len(all))
		for i, m := range all {
			rows[i] = table.Row{optional(m.Alert), m.Route, optional(m.What), m.Words.Words, toldStands(m)}
		}
		tabular(w, []any{"alert", "by", "", "what", "how it stands"}, rows, 1)
	})
}

// toldStands is how a message stands.
func toldStands(m contract.Message) string {
	switch {
	case m.State == "sent" && m.Ended != nil:
		return "sent " + minute(*m.Ended)
	case m.State == "waiting" && optional(m.Tries) > 0 && m.Next != nil:
		return fmt.Sprintf("tried %s, again %s: %s", counted(*m.Tries, "time", "times"), minute(*m.Next), optional(m.Why))
	case m.State == "waiting" && m.Next != nil:
		return "waits until " + minute(*m.Next)
	case m.State == "dropped":
		return "not told: " + optional(m.Why)
	}
	return string(m.State) + ": " + optional(m.Why)
}

// bell has a terminal ring.
const bell = "\a"

// followAlerts shows the alerts that are open as they come and go.
func followAlerts(ctx context.Context, c call) error {
	state, limit := contract.ListAlertsParamsStateUnsettled, 200
	known := map[int64]string{}
	hear := func(e contract.Event) {
		if e.Kind == contract.AlertTold && c.drawsPages() {
			_, _ = io.WriteString(raw(c.out), bell)
		}
	}
	return c.keepShowing(ctx, "The watch goes on. See it again: hylostat alert follow", hear, func(ctx context.Context) error {
		p := contract.ListAlertsParams{State: &state, Limit: &limit}
		if !c.drawsPages() { // what settles is told, too
			p.State = nil
		}
		all, err := c.Alerts(ctx, p)
		if err != nil {
			return err
		}
		if c.drawsPages() {
			return c.draw(counted(len(all), "alert is open", "alerts are open"), func(w io.Writer) { printAlerts(w, all) })
		}
		first := len(known) == 0
		for i := len(all) - 1; i >= 0; i-- {
			a := all[i]
			line := fmt.Sprintf("alert %d, %s: %s; %s", a.Id, a.Of.Words, strings.TrimSuffix(a.Words.Words, "."), stands(a))
			is := fmt.Sprint(line, a.Count)
			if known[a.Id] == is || first && a.State == contract.AlertStateSettled {
				known[a.Id] = is
				continue
			}
			known[a.Id] = is
			if err := c.show(a, func(w io.Writer) { _, _ = fmt.Fprintln(w, wording.Capital(line)) }); err != nil {
				return err
			}
		}
		return nil
	})
}
