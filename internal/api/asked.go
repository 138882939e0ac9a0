package api

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"

	"github.com/labstack/echo/v5"

	"hylostat.example/internal/access"
)

// cookie is the session's. With TLS it carries the prefix that keeps it from other hosts and paths (RFC 6265bis, 4.1.3.2).
const (
	cookie       = "hylostat-session"
	secureCookie = "__Host-" + cookie
)

// asked is what is known of a request beside what it wants.
type asked struct {
	from   access.From
	base   string // scheme, host and path, as the browser knows them
	url    url.URL
	secure bool   // the browser speaks TLS, be it to what stands before the service
	secret string // that its cookie carries
}

type askedKey struct{}

func askedOf(ctx context.Context) asked {
	a, _ := ctx.Value(askedKey{}).(asked)
	return a
}

// surroundings notes where a request comes from. Of a proxy that is trusted, what it says of the one before it counts.
func surroundings(proxies []netip.Prefix, path string) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			address, secure, host := hostOf(r.RemoteAddr), r.TLS != nil, r.Host
			if trusted(proxies, address) {
				secure = strings.EqualFold(last(r.Header.Get("X-Forwarded-Proto")), "https")
				if h := last(r.Header.Get("X-Forwarded-Host")); h != "" {
					host = h
				}
				address = before(proxies, r.Header.Values("X-Forwarded-For"), address)
			}
			scheme := "http://"
			if secure {
				scheme = "https://"
			}
			a := asked{from: access.From{Address: address, Agent: shortened(r.UserAgent())}, base: scheme + host + path, secure: secure}
			a.url = *r.URL
			a.url.Path = path + r.URL.Path
			a.secret = secretOf(r, secure)
			r = r.WithContext(context.WithValue(r.Context(), askedKey{}, a))
			r.Host = host
			c.SetRequest(r)
			return next(c)
		}
	}
}

// hostOf is an address without its port.
func hostOf(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return address
}

func trusted(proxies []netip.Prefix, address string) bool {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	for _, p := range proxies {
		if p.Contains(ip.Unmap()) {
			return true
		}
	}
	return false
}

// before is the address before the proxies that are trusted: the last one in the list that is none of them. What stands before that anybody
// may have made up.
func before(proxies []netip.Prefix, lists []string, address string) string {
	all := strings.Split(strings.Join(lists, ","), ",")
	for i := len(all) - 1; i >= 0; i-- {
		one := strings.TrimSpace(all[i])
		if _, err := netip.ParseAddr(one); err != nil {
			break
		}
		if address = one; !trusted(proxies, one) {
			break
		}
	}
	return address
}

// last is the last element of a list in a header: the one that the proxy itself put there.
func last(list string) string { return strings.TrimSpace(list[strings.LastIndex(list, ",")+1:]) }

// mostAgent is how much is kept of what a browser calls itself.
const mostAgent = 200

func shortened(s string) string {
	if len(s) > mostAgent {
		s = strings.ToValidUTF8(s[:mostAgent], "")
	}
	return s
}

// secretOf is what a request's cookie carries. Where there is TLS, only the cookie that nobody else can have set counts.
func secretOf(r *http.Request, secure bool) string {
	name := cookie
	if secure {
		name = secureCookie
	}
	if c, err := r.Cookie(name); err == nil {
		return c.Value
	}
	return ""
}

// newCookie carries a secret; an empty one forgets it. Without TLS, which is on loopback only, a secure cookie would not come back.
func newCookie(ctx context.Context, secret string) http.Cookie {
	c := http.Cookie{ //nolint:gosec // Secure is set below where there is TLS
		Name:     cookie,
		Value:    secret,
		Path:     "/",
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		MaxAge:   int(access.Idle.Seconds()),
	}
	if askedOf(ctx).secure {
		c.Name, c.Secure = secureCookie, true
	}
	if secret == "" {
		c.MaxAge = -1
	}
	return c
}

// headers are on every answer. What is no page of the console may load nothing and is shown in no frame.
func headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		for name, value := range map[string]string{
			"X-Content-Type-Options":       "nosniff",
			"Referrer-Policy":              "no-referrer",
			"X-Frame-Options":              "DENY",
			"Cross-Origin-Opener-Policy":   "same-origin",
			"Cross-Origin-Resource-Policy": "same-origin",
			"Permissions-Policy":           "camera=(), geolocation=(), microphone=(), payment=(), usb=()",
			"Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; img-src data:; font-src data:; base-uri 'none'; " +
				"form-action 'none'; frame-ancestors 'none'",
		} {
			h.Set(name, value)
		}
		if askedOf(c.Request().Context()).secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}
