package notify

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"

	"hylostat.example/internal/core/alert"
	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/shop/tell"
)

// logger writes to a log: RFC 5424 over UDP (RFC 5426), TCP (RFC 6587, octet counting) or TLS (RFC 5425).
type logger struct{}

// daemon is the facility of what it says (RFC 5424, 6.2.1).
const daemon = 3

// urgencies are severities as RFC 5424, 6.2.1, numbers them.
var urgencies = map[alert.Severity]uint8{alert.Wake: 2, alert.Now: 4, alert.Digest: 5}

// over is that of what has ended.
const over = 6

// element names the structured data. The number is that of RFC 5612, kept for documentation, until there is one of our own.
const element = "hylostat@32473"

// lines are a letter's, one for each alert.
func lines(r routes.Route, l *tell.Letter) (all []string, err error) {
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	for i := range l.All {
		b := &l.All[i]
		urgency, ok := urgencies[b.Alert.Severity]
		if !ok || b.Tells == alert.Ended || l.Trial {
			urgency = over
		}
		what := string(b.Tells)
		if l.Trial {
			what = "trial"
		}
		m := &rfc5424.SyslogMessage{}
		m.SetVersion(1)
		m.SetPriority(daemon*8 + urgency)
		m.SetTimestamp(l.At.UTC().Format("2006-01-02T15:04:05.000000Z07:00"))
		m.SetHostname(host)
		m.SetAppname("hylostat")
		m.SetMsgID("alert." + what)
		for _, p := range [][2]string{
			{"id", l.ID},
			{"alert", optionalNumber(b.Alert.ID)},
			{"kind", string(b.Alert.Kind)},
			{"severity", string(b.Alert.Severity)},
			{"serial", b.Serial},
			{"model", b.Model},
			{"grade", b.Grade},
			{"bay", bay(b)},
			{"ticket", b.Ticket},
			{"customer", b.Customer},
			{"page", page(r, b)},
		} {
			if p[1] != "" {
				m.SetParameter(element, p[0], p[1])
			}
		}
		said := fmt.Sprintf("%s: %s", b.Of, b.Alert.Said)
		if b.Tells == alert.Ended {
			said = "over, " + said
		}
		m.SetMessage(strings.ReplaceAll(said, "\n", " "))
		line, err := m.String()
		if err != nil {
			return nil, err
		}
		all = append(all, line)
	}
	return all, nil
}

func optionalNumber(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

// Send implements tell.Sender.
func (logger) Send(ctx context.Context, r routes.Route, _ string, l tell.Letter) (words []string, err error) {
	u, err := url.Parse(r.To)
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	all, err := lines(r, &l)
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	config, err := trusting(r, u.Hostname())
	if err != nil {
		return nil, err
	}
	network := u.Scheme
	if network == "tls" {
		network = "tcp"
	}
	conn, err := dial(ctx, u.Scheme == "tls", config, network, u.Host)
	if err != nil {
		return nil, wrong("the log at "+u.Host, err)
	}
	defer func() { _ = conn.Close() }()
	words = append(words, "> connected to "+u.Host)
	if until, ok := ctx.Deadline(); ok {
		if err := conn.SetDeadline(until); err != nil {
			return words, wrong("the log at "+u.Host, err)
		}
	}
	for _, line := range all {
		words = append(words, "> "+line)
		if network != "udp" {
			line = strconv.Itoa(len(line)) + " " + line
		}
		if _, err := conn.Write([]byte(line)); err != nil {
			return words, wrong("the log at "+u.Host, err)
		}
	}
	if network == "udp" {
		return append(words, "nobody answers over UDP: whether it arrived, the log shows"), nil
	}
	return words, ended(conn)
}

// ended closes our side and waits a little for the other's: one that has gone away resets the connection instead, and what was written
// last has not arrived.
func ended(conn net.Conn) error {
	half, ok := conn.(interface{ CloseWrite() error })
	if !ok {
		return nil
	}
	if err := half.CloseWrite(); err != nil {
		return wrong("ending what was written to the log", err)
	}
	if err := conn.SetReadDeadline(time.Now().Add(2 * time.Second)); err != nil {
		return wrong("ending what was written to the log", err)
	}
	_, err := conn.Read(make([]byte, 1))
	if op, failed := err.(*net.OpError); failed && !op.Timeout() { //nolint:errorlint // as a connection gives it
		return wrong("what was written to the log", err)
	}
	return nil
}

// dial connects, and speaks TLS where that is wished.
func dial(ctx context.Context, secure bool, config *tls.Config, network, address string) (net.Conn, error) {
	if secure {
		return (&tls.Dialer{NetDialer: dialer(), Config: config}).DialContext(ctx, network, address)
	}
	return dialer().DialContext(ctx, network, address)
}
