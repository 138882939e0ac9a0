// Package notify carries letters to those who are told of alerts: by mail (RFC 5321), to programs that listen at an address (CloudEvents
// 1.0, signed as Standard Webhooks are), to a log (RFC 5424). It decides nothing, keeps nothing and tries nothing twice. Start with
// Senders.
package notify

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"syscall"
	"time"

	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop/tell"
)

// Senders are all there are, by their means.
func Senders(version string) map[routes.Means]tell.Sender {
	return map[routes.Means]tell.Sender{
		routes.Mail: mailer{}, routes.Webhook: caller{agent: "Hylostat/" + version}, routes.Syslog: logger{},
	}
}

// dialWithin bounds how long a connection takes to be made.
const dialWithin = 10 * time.Second

// dialer makes connections, but to no address at which a machine is asked about itself.
func dialer() *net.Dialer { return &net.Dialer{Timeout: dialWithin, Control: allowed} }

// metadata are addresses beside the link's own at which machines that are rented tell their keys.
var metadata = []netip.Prefix{
	netip.MustParsePrefix("100.100.100.200/32"), netip.MustParsePrefix("fd00:ec2::/32"), netip.MustParsePrefix("192.0.0.0/24"),
}

// allowed refuses what no receiver of alerts is at: the link's own addresses (RFC 3927; RFC 4291, 2.5.6), groups, none.
func allowed(_, address string, _ syscall.RawConn) error {
	to, err := netip.ParseAddrPort(address)
	if err != nil {
		return fmt.Errorf("no address: %w", err)
	}
	ip := to.Addr().Unmap().WithZone("")
	inMetadata := false
	for _, p := range metadata {
		inMetadata = inMetadata || p.Contains(ip)
	}
	if inMetadata || ip.IsLinkLocalUnicast() || ip.IsMulticast() || ip.IsUnspecified() {
		return &tell.Refused{Why: fmt.Sprintf("%s is no address to tell anything at", ip)}
	}
	return nil
}

// trusting is how TLS is spoken by a route: with its own certificate beside those the machine trusts.
func trusting(r routes.Route, host string) (*tls.Config, error) {
	c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host}
	if r.Trust == "" {
		return c, nil
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM([]byte(r.Trust)) {
		return nil, &tell.Refused{Why: "the certificate the route trusts is none"}
	}
	c.RootCAs = pool
	return c, nil
}

// wrong is what went wrong as a person reads it: the last cause, not the whole way to it.
func wrong(did string, err error) error {
	if refused, ok := errors.AsType[*tell.Refused](err); ok {
		return refused
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s: no answer in time", did)
	}
	if cert, ok := errors.AsType[*tls.CertificateVerificationError](err); ok {
		return fmt.Errorf("%s: its certificate is not trusted: %w", did, cert.Err)
	}
	if op, ok := errors.AsType[*net.OpError](err); ok {
		return fmt.Errorf("%s: %w", did, op)
	}
	return fmt.Errorf("%s: %w", did, err)
}

// page is where what a letter tells of is found; empty: the route names no place.
func page(r routes.Route, b *tell.Body) string {
	base := strings.TrimRight(r.Page, "/")
	switch {
	case base == "":
		return ""
	case b.Serial == "":
		return base + "/alerts"
	case b.Alert.Reading > 0:
		return fmt.Sprintf("%s/drives/%s?reading=%d", base, pathOf(b.Serial), b.Alert.Reading)
	}
	return base + "/drives/" + pathOf(b.Serial)
}

// bay is a drive's bay in words; empty: it is in none.
func bay(b *tell.Body) string {
	if b.Bay.IsZero() {
		return ""
	}
	return b.Bay.Words()
}

// subject names what a letter is about: "KVA07 7M511: healthy to replace: ...".
func subject(l *tell.Letter) string {
	if len(l.All) == 1 {
		b := &l.All[0]
		over := ""
		if b.Tells == "ended" {
			over = "over: "
		}
		return fmt.Sprintf("%s: %s%s", wording.Capital(b.Of.String()), over, strings.TrimSuffix(b.Alert.Said.String(), "."))
	}
	return fmt.Sprintf("%d things since yesterday", len(l.All))
}

// zone is where a route's people are.
func zone(r routes.Route) *time.Location {
	z, err := time.LoadLocation(r.Zone)
	if err != nil {
		return time.UTC
	}
	return z
}
