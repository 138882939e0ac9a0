package notify

import (
	"bytes"
	"context"
	_ "embed" // the mail's look
	"errors"
	"fmt"
	"html/template"
	"net"
	netmail "net/mail"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/wneessen/go-mail"
	maillog "github.com/wneessen/go-mail/log"

	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop/tell"
)

// mailer sends by SMTP: with STARTTLS (RFC 3207), over TLS (RFC 8314), or plainly where the route says so.
type mailer struct{}

// Send implements tell.Sender. A server that refuses one of those a letter is for takes it for nobody: the others are sent it again.
func (mailer) Send(ctx context.Context, r routes.Route, secret string, l tell.Letter) ([]string, error) {
	words, err := deliver(ctx, r, secret, &l)
	if _, ok := errors.AsType[*tell.Refused](err); !ok {
		return words, err
	}
	refused, rest := refusedOf(r.To, words)
	if refused == "" || rest == "" {
		return words, err
	}
	others := r
	others.To = rest
	more, wrong := deliver(ctx, others, secret, &l)
	words = append(words, more...)
	if wrong != nil {
		return words, wrong
	}
	return words, &tell.Refused{Why: fmt.Sprintf("the server took no mail for %s; %s has it", refused, rest)}
}

// refusedOf parts those a mail is for into those the server refused and the rest. The client writes down no answer that refuses: one it
// named and heard no 2xx about was refused.
func refusedOf(to string, words []string) (refused, rest string) {
	all, err := netmail.ParseAddressList(to)
	if err != nil {
		return "", to
	}
	no := map[string]bool{}
	for i := 1; i < len(words); i++ {
		if _, named, ok := strings.Cut(words[i-1], "> RCPT TO:<"); ok && !strings.HasPrefix(words[i], "< 2") {
			address, _, _ := strings.Cut(named, ">")
			no[address] = true
		}
	}
	var those, others []string
	for _, a := range all {
		if no[a.Address] {
			those = append(those, a.Address)
		} else {
			others = append(others, a.String())
		}
	}
	return strings.Join(those, ", "), strings.Join(others, ", ")
}

// deliver sends a letter to all a route is for, or to nobody.
func deliver(ctx context.Context, r routes.Route, secret string, l *tell.Letter) ([]string, error) {
	m, err := letterOf(r, l)
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	u, err := url.Parse(r.Server)
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	port, _ := strconv.Atoi(u.Port())
	c, err := trusting(r, u.Hostname())
	if err != nil {
		return nil, err
	}
	said := &conversation{}
	options := []mail.Option{
		mail.WithPort(port), mail.WithTimeout(dialWithin), mail.WithTLSConfig(c), mail.WithDebugLog(), mail.WithLogger(said),
		mail.WithDialContextFunc(func(ctx context.Context, network, address string) (net.Conn, error) {
			return dial(ctx, u.Scheme == "smtps", c, network, address)
		}),
	}
	switch u.Scheme {
	case "smtp":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case "smtps":
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if r.User != "" {
		how := mail.SMTPAuthAutoDiscover
		if u.Scheme == "smtp+plain" { // an own server on the same machine
			how = mail.SMTPAuthPlainNoEnc
		}
		options = append(options, mail.WithSMTPAuth(how), mail.WithUsername(r.User), mail.WithPassword(secret))
	}
	client, err := mail.NewClient(u.Hostname(), options...)
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	err = client.DialAndSendWithContext(ctx, m)
	words := said.words()
	if err == nil {
		return words, nil
	}
	if e, ok := errors.AsType[*mail.SendError](err); ok && !e.IsTemp() && e.ErrorCode() >= 500 {
		return words, &tell.Refused{Why: fmt.Sprintf("%s took no mail for %s: %s", u.Host, r.To, lastOf(words, err))}
	}
	return words, wrong("mail to "+r.To+" by "+u.Host, err)
}

// lastOf is what the server said last, or else the error.
func lastOf(words []string, err error) string {
	for _, w := range slices.Backward(words) {
		if said, ok := strings.CutPrefix(w, "< "); ok && strings.HasPrefix(said, "5") {
			return said
		}
	}
	return err.Error()
}

// conversation keeps what client and server say; never what a password is in.
type conversation struct {
	mu  sync.Mutex
	all []string
}

// mostWords bounds what is kept of a conversation.
const mostWords = 100

func (c *conversation) add(l maillog.Log) {
	c.mu.Lock()
	defer c.mu.Unlock()
	sign := "> "
	if l.Direction == maillog.DirServerToClient {
		sign = "< "
	}
	for line := range strings.Lines(strings.TrimSpace(fmt.Sprintf(l.Format, l.Messages...))) {
		if len(c.all) < mostWords {
			c.all = append(c.all, sign+strings.TrimSpace(line))
		}
	}
}

func (c *conversation) words() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.all)
}

func (c *conversation) Debugf(l maillog.Log) { c.add(l) }
func (c *conversation) Infof(l maillog.Log)  { c.add(l) }
func (c *conversation) Warnf(l maillog.Log)  { c.add(l) }
func (c *conversation) Errorf(l maillog.Log) { c.add(l) }

// letterOf makes the mail: what a person reads first is what changed, then what to do.
func letterOf(r routes.Route, l *tell.Letter) (*mail.Msg, error) {
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	to, err := netmail.ParseAddressList(r.To)
	if err != nil {
		return nil, err
	}
	from, err := netmail.ParseAddress(r.Sender)
	if err != nil {
		return nil, err
	}
	if from.Name == "" {
		from.Name = l.Shop
	}
	if err := m.From(from.String()); err != nil {
		return nil, err
	}
	for _, a := range to {
		if err := m.AddTo(a.String()); err != nil {
			return nil, err
		}
	}
	_, domain, _ := strings.Cut(from.Address, "@")
	threads(m, l, domain)
	m.Subject(subject(l))
	m.SetDateWithValue(l.At.In(zone(r)))
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's holiday answers it
	v := viewOf(r, l)
	m.SetBodyString(mail.TypeTextPlain, v.text())
	var page bytes.Buffer
	if err := look.Execute(&page, v); err != nil {
		return nil, fmt.Errorf("making the mail: %w", err)
	}
	m.AddAlternativeString(mail.TypeTextHTML, page.String())
	return m, nil
}

// threads gives a mail its name, the same whenever it is sent, and makes one thread of all that is told of an alert (RFC 5322, 3.6.4).
func threads(m *mail.Msg, l *tell.Letter, domain string) {
	if len(l.All) != 1 || l.Trial {
		m.SetMessageIDWithValue(l.ID + "@" + domain)
		return
	}
	root := fmt.Sprintf("%s-alert-%d@%s", l.Key, l.All[0].Alert.ID, domain)
	if l.All[0].Tells == "opened" {
		m.SetMessageIDWithValue(root)
		return
	}
	m.SetMessageIDWithValue(l.ID + "@" + domain)
	m.SetGenHeader(mail.HeaderInReplyTo, "<"+root+">")
	m.SetGenHeader(mail.HeaderReferences, "<"+root+">")
}

//go:embed mail.html
var lookText string

var look = template.Must(template.New("mail").Parse(lookText))

// view is what a mail shows.
type view struct {
	Shop, Title, Date string
	All               []item
	Page              string // of all alerts; empty: none
	Name              string // of the route
}

type item struct {
	Title, Said, When, Grade, Colour, Do, Where, Link string
	Over, Opened, LinkWords                           string
	Facts                                             []fact
}

type fact struct{ Name, Value string }

// Several reports whether a mail tells of more than one thing: they stand in a table then.
func (v view) Several() bool { return len(v.All) > 1 }

// colours are those of the console's light theme.
var colours = map[string]string{"healthy": "#1F5190", "degrading": "#8F5D10", "replace": "#6E0722", "undecided": "#66665F"}

func viewOf(r routes.Route, l *tell.Letter) view {
	z := zone(r)
	moment := func(t time.Time) string { return t.In(z).Format("2 Jan 2006, 15:04") }
	v := view{Shop: l.Shop, Title: subject(l), Date: moment(l.At) + " " + l.At.In(z).Format("MST"), Name: r.Name}
	if r.Page != "" {
		v.Page = strings.TrimRight(r.Page, "/") + "/alerts"
	}
	for i := range l.All {
		b := &l.All[i]
		one := item{
			Title: wording.Capital(b.Of.String()), Said: wording.Capital(sentence(b.Alert.Said.String())), When: moment(b.Alert.Moved),
			Grade:  b.Grade,
			Colour: colours[b.Grade], Do: b.Advice, Link: page(r, b),
		}
		if b.Tells == "ended" || b.Alert.State == "settled" && !b.Alert.Ended.IsZero() {
			one.Over = "It is over since " + moment(b.Alert.Ended) + "."
		}
		if !b.Alert.Opened.IsZero() && b.Alert.Count > 1 {
			one.Opened = fmt.Sprintf("It came %d times, first on %s.", b.Alert.Count, moment(b.Alert.Opened))
		}
		if one.LinkWords = "Open the drive as it was then"; b.Serial == "" {
			one.LinkWords = "Open the alerts"
		}
		add := func(name, value string) {
			if value != "" {
				one.Facts = append(one.Facts, fact{name, value})
			}
		}
		add("Drive", b.Model)
		one.Where = bay(b)
		add("Bay", one.Where)
		add("Verdict", b.Grade)
		add("Ticket", b.Ticket)
		add("Customer", b.Customer)
		v.All = append(v.All, one)
	}
	return v
}

func sentence(s string) string { return strings.TrimSuffix(s, ".") + "." }

// text is the mail for those who read no pages.
func (v view) text() string {
	var b strings.Builder
	for i, one := range v.All {
		if i > 0 {
			b.WriteString("\n----\n\n")
		}
		fmt.Fprintf(&b, "%s\n%s\n%s\n", one.Title, one.Said, one.When)
		for _, line := range []string{one.Over, one.Opened} {
			if line != "" {
				fmt.Fprintf(&b, "%s\n", line)
			}
		}
		if one.Do != "" {
			fmt.Fprintf(&b, "\nDo: %s\n", one.Do)
		}
		facts := one.Facts
		if v.Several() { // what a table has
			facts = slices.DeleteFunc(slices.Clone(facts), func(f fact) bool { return f.Name != "Bay" && f.Name != "Verdict" })
		}
		if len(facts) > 0 {
			b.WriteString("\n")
		}
		for _, f := range facts {
			fmt.Fprintf(&b, "%-9s %s\n", f.Name, f.Value)
		}
		if one.Link != "" {
			fmt.Fprintf(&b, "\n%s\n", one.Link)
		}
	}
	fmt.Fprintf(&b, "\n-- \n%s, %s\nTold by the route %q. %s\n", v.Shop, v.Date, v.Name, lessWords)
	if v.Page != "" {
		fmt.Fprintf(&b, "%s\n", v.Page)
	}
	return b.String()
}

// lessWords is how somebody is told less.
const lessWords = "To be told less: take or settle the alert, accept the level up to which a flaw is known, or change the route."

// Less is lessWords, for the page.
func (view) Less() string { return lessWords }
