// Package tell decides who is told of an alert, by what, and when: at once, after quiet hours, with the day's digest, or when nobody has
// taken it. It is pure. Start with Route.When.
package tell

import (
	"fmt"
	"net/mail"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/watch"
)

// Means is how a route tells.
type Means string

// The means. Console is the page in the browser: it sounds, and says so beside it where the browser lets it.
const (
	Mail    Means = "mail"
	Webhook Means = "webhook"
	Syslog  Means = "syslog"
	Console Means = "console"
)

// AllMeans lists all.
func AllMeans() []Means { return []Means{Mail, Webhook, Syslog, Console} }

// Machine reports whether a program is told: at once whatever the hour, and of what is over as well.
func (m Means) Machine() bool { return m == Webhook || m == Syslog }

// Route is who is told, by what and when. Its secret is kept elsewhere.
type Route struct {
	Name string `json:"name" yaml:"name"`
	By   Means  `json:"by" yaml:"by"`
	// To is whom: of mail, addresses with commas between; of a webhook, its https address; of syslog, udp://, tcp:// or tls:// with
	// host and port; of the console, nothing.
	To string `json:"to,omitempty" yaml:"to,omitempty"`
	// of mail: smtp:// (STARTTLS), smtps:// (TLS) or smtp+plain:// with host and port
	Server string `json:"server,omitempty" yaml:"server,omitempty"`
	User   string `json:"user,omitempty" yaml:"user,omitempty"`     // at the mail server, whose password is the route's secret
	Sender string `json:"sender,omitempty" yaml:"sender,omitempty"` // of mail
	// a certificate, in PEM, that is trusted beside the machine's own
	Trust  string         `json:"trust,omitempty" yaml:"trust,omitempty"`
	Least  alert.Severity `json:"least" yaml:"least"`                       // what is below is not told
	Drives []string       `json:"drives,omitempty" yaml:"drives,omitempty"` // serials; empty: all drives
	Bench  *string        `json:"bench,omitempty" yaml:"bench,omitempty"`   // its drives and itself alone; nil: all
	Zone   string         `json:"zone,omitempty" yaml:"zone,omitempty"`     // IANA; empty: UTC
	Quiet  []watch.Window `json:"quiet,omitempty" yaml:"quiet,omitempty"`   // when it waits
	Breaks alert.Severity `json:"breaks,omitempty" yaml:"breaks,omitempty"` // what does not; none: nothing. Empty: wake
	Digest *watch.Daytime `json:"digest,omitempty" yaml:"digest,omitempty"` // when what may wait is told together; nil: it is told at once
	After  time.Duration  `json:"after,omitempty" yaml:"after,omitempty"`   // it is told only what nobody has taken after so long
	Names  bool           `json:"names,omitempty" yaml:"names,omitempty"`   // customers are named
	Repeat bool           `json:"repeat,omitempty" yaml:"repeat,omitempty"` // the console sounds until somebody takes it
	Page   string         `json:"page,omitempty" yaml:"page,omitempty"`     // where the service is found, for links; empty: none
	Off    string         `json:"off,omitempty" yaml:"off,omitempty"`       // why it is switched off; empty: it is not
}

// mostAfter bounds an escalation, mostQuiet how many stretches of quiet hours there are.
const (
	mostAfter = 7 * 24 * time.Hour
	mostQuiet = 20
)

// name is what routes are called: it stands in addresses and file names.
var name = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N} ._'’-]{0,59}$`)

// schemes are those of what a route goes to.
var schemes = map[Means][]string{
	Mail: {"smtp", "smtps", "smtp+plain"}, Webhook: {"https", "http"}, Syslog: {"udp", "tcp", "tls"},
}

// Valid tells what is wrong with a route.
func (r *Route) Valid() error {
	switch {
	case !name.MatchString(r.Name):
		return fmt.Errorf("a route's name is 1 to 60 letters, digits, spaces and . _ ' -, not %q", r.Name)
	case !slices.Contains(AllMeans(), r.By):
		return fmt.Errorf("a route tells by mail, webhook, syslog or console, not %q", r.By)
	case r.Least.Rank() == 0:
		return fmt.Errorf("the least a route tells is digest, now or wake, not %q", r.Least)
	case r.Breaks != "" && !slices.Contains(alert.Severities(), r.Breaks):
		return fmt.Errorf("quiet hours are broken by digest, now, wake or none, not %q", r.Breaks)
	case r.After < 0 || r.After > mostAfter:
		return fmt.Errorf("it waits up to 7 days for somebody to take an alert, not %s", r.After)
	case len(r.Quiet) > mostQuiet:
		return fmt.Errorf("at most %d stretches of quiet hours", mostQuiet)
	case r.Page != "" && !strings.HasPrefix(r.Page, "http://") && !strings.HasPrefix(r.Page, "https://"):
		return fmt.Errorf("where the service is found is an address like https://bench.example:8347, not %q", r.Page)
	}
	if _, err := r.zone(); err != nil {
		return err
	}
	if err := watch.ValidWindows(r.Quiet); err != nil {
		return fmt.Errorf("quiet hours: %w", err)
	}
	return r.target()
}

// target tells what is wrong with whom a route tells.
func (r *Route) target() error {
	at := r.To
	if r.By == Mail {
		at = r.Server
		if _, err := mail.ParseAddressList(r.To); err != nil {
			return fmt.Errorf("it goes to mail addresses, with commas between, not %q", r.To)
		}
		if _, err := mail.ParseAddress(r.Sender); err != nil {
			return fmt.Errorf("it comes from a mail address, not %q", r.Sender)
		}
	} else if r.Server+r.User+r.Sender != "" {
		return fmt.Errorf("a mail server, a user and a sender are of mail, not of a %s", r.By)
	}
	if r.By == Console {
		if strings.Contains(r.To, "://") || strings.Contains(r.To, "@") {
			return fmt.Errorf("the console has no address: it sounds for people, by name, not for %q", r.To)
		}
		return nil
	}
	u, err := url.Parse(at)
	known := schemes[r.By]
	switch {
	case err != nil || u.Host == "" || !slices.Contains(known, u.Scheme):
		return fmt.Errorf("a %s goes to an address that begins with %s://, not %q", r.By, strings.Join(known, ":// or "), at)
	case u.User != nil:
		return fmt.Errorf("a password does not stand in an address: it is the route's secret")
	case r.By != Webhook && (u.Port() == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != ""):
		return fmt.Errorf("a %s goes to a host and a port, like %s://host.example:514, not %q", r.By, known[0], at)
	}
	return nil
}

// People are those for whom a console sounds; nil: for whoever is there.
func (r *Route) People() (names []string) {
	if r.By != Console {
		return nil
	}
	for name := range strings.SplitSeq(r.To, ",") {
		if name = strings.TrimSpace(name); name != "" {
			names = append(names, name)
		}
	}
	return names
}

func (r *Route) zone() (*time.Location, error) {
	if r.Zone == "" {
		return time.UTC, nil
	}
	z, err := time.LoadLocation(r.Zone)
	if err != nil || r.Zone == "Local" {
		return nil, fmt.Errorf("there is no time zone %q", r.Zone)
	}
	return z, nil
}

// Of is what an alert is of, as far as routes ask. What is of the service is of its own bench.
type Of struct {
	Serial string // empty: of no drive
	Bench  string
}

// When is when something is told.
type When struct {
	At      time.Time
	Digest  bool // together with what else there is for that time
	Untaken bool // if nobody has taken it by then
}

// When tells when a route tells of an alert that has just changed; false: never.
func (r *Route) When(a *alert.Alert, tells alert.Tells, of Of, now time.Time) (w When, ok bool) {
	zone, err := r.zone()
	switch {
	case err != nil, r.Off != "", tells == alert.Nothing, a.Severity.Rank() < r.Least.Rank():
		return w, false
	case a.Kind == alert.RouteFailed && a.Name == r.Name: // nobody would hear it
		return w, false
	case len(r.Drives) > 0 && !slices.Contains(r.Drives, of.Serial), r.Bench != nil && *r.Bench != of.Bench:
		return w, false
	}
	w.At = now
	switch {
	case tells == alert.Ended && r.By.Machine():
		return w, true
	case tells == alert.Ended: // no news for a person, unless there is a digest
		if r.Digest == nil {
			return w, false
		}
		w.At, w.Digest = r.Digest.Next(now, zone), true
		return w, true
	case a.Severity == alert.Digest && r.Digest != nil:
		w.At, w.Digest = r.Digest.Next(now, zone), true
		return w, true
	}
	if r.After > 0 {
		w.At, w.Untaken = now.Add(r.After), true
	}
	breaks := r.Breaks
	if breaks == "" {
		breaks = alert.Wake
	}
	if breaks.Rank() == 0 || a.Severity.Rank() < breaks.Rank() {
		if ends := watch.OpenUntil(r.Quiet, w.At, zone); !ends.IsZero() {
			w.At = ends
		}
	}
	return w, true
}

// Retries: what could not be told is tried again after longer and longer, for a day.
const (
	firstRetry = 30 * time.Second
	lastRetry  = time.Hour
	TriesFor   = 24 * time.Hour
)

// Again is when something that was to be told at a time is tried again after a number of tries; false: not any more.
func Again(due time.Time, tries int, now time.Time) (next time.Time, ok bool) {
	wait := lastRetry
	if tries < 8 {
		wait = min(lastRetry, firstRetry<<max(0, tries-1))
	}
	next = now.Add(wait)
	return next, next.Sub(due) <= TriesFor
}
