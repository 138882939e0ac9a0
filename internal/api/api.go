// Package api serves the contract over HTTP: it validates requests against openapi.yaml, hands them to the shop, turns the
// shop's errors into problems (RFC 9457), streams events, and serves the console. Start with New.
package api

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api/server"
	"hylostat.example/internal/api/web"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/metrics"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/sqlite"
)

// Base is where the API's paths begin.
const Base = "/api/v1"

// Limits of a request's body, in bytes: a record file may be long.
const (
	bodyLimit = 256 << 10
	fileLimit = record.MostBytes
)

// recordType is the media type of record files.
const recordType = "application/vnd.hylostat.record"

func init() { // the validator leaves the file to the handler, which knows its schema
	openapi3filter.RegisterBodyDecoder(recordType, openapi3filter.FileBodyDecoder)
}

// limit bounds bodies by what they are.
func limit(next echo.HandlerFunc) echo.HandlerFunc {
	small, large := middleware.BodyLimit(bodyLimit)(next), middleware.BodyLimit(fileLimit)(next)
	return func(c *echo.Context) error {
		if c.Request().Header.Get("Content-Type") == recordType {
			return large(c)
		}
		return small(c)
	}
}

// Options are what the service is made of.
type Options struct {
	Shop    *whole.Shop
	Access  *access.Access
	Version string
	Hosts   []string       // names besides loopback under which it may be reached
	Base    string         // the path below which a proxy has the service, without a slash at the end; empty: none
	Proxies []netip.Prefix // whose word for where a request comes from counts
	Log     *slog.Logger
	Ready   func(context.Context) []Check // what the service needs; nil: nobody looks
	Warning func() string                 // what people at the console should know; nil: nobody looks
	Metrics *metrics.Metrics              // nil: none are told
	Damaged func() error                  // what is known to be damaged of the databases; nil: nobody looks
}

// New makes the service's handler.
func New(o Options) (http.Handler, error) {
	document, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	if err != nil {
		return nil, fmt.Errorf("reading the contract: %w", err)
	}
	document.Servers = openapi3.Servers{{URL: Base}}
	router, err := legacy.NewRouter(document)
	if err != nil {
		return nil, fmt.Errorf("reading the contract: %w", err)
	}
	e := echo.New()
	e.Logger = o.Log
	e.HTTPErrorHandler = func(c *echo.Context, err error) { answerProblem(c, o.Log, err) }
	e.Use(middleware.Recover(), surroundings(o.Proxies, o.Base), headers, hurry, hosts(o.Hosts), ownPages)
	if o.Damaged != nil {
		e.Use(intact(o.Log, o.Damaged))
	}
	if o.Metrics != nil {
		e.Use(counted(o.Metrics))
	}
	e.Use(limit)
	e.Use(middleware.GzipWithConfig(middleware.GzipConfig{Skipper: uncompressed, MinLength: 1024, Level: gzip.BestSpeed}))
	h := &handlers{shop: o.Shop, access: o.Access, version: o.Version, warning: o.Warning}
	g := e.Group(Base, validate(router, o.Access))
	server.RegisterHandlers(g, server.NewStrictHandler(h, nil))
	g.GET("/events", h.StreamEvents)
	g.GET("/runs/:run/live", h.FollowRun)
	e.Any("/api/*", validate(router, o.Access)(func(*echo.Context) error { return noPath }))
	console, err := newConsole(web.Files(), o.Base)
	if err != nil {
		return nil, err
	}
	e.GET("/healthz", healthz)
	e.GET("/readyz", readyz(o.Ready))
	e.GET("/openapi.yaml", theContract)
	if o.Metrics != nil {
		e.GET("/metrics", figures(o.Metrics, o.Access))
	}
	e.GET("/*", console.serve)
	return below(o.Base, e), nil
}

// below serves what is asked for below a path. A proxy may have taken that away already.
func below(base string, h http.Handler) http.Handler {
	if base == "" {
		return h
	}
	stripped := http.StripPrefix(base, h)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == base:
			http.Redirect(w, r, base+"/", http.StatusMovedPermanently)
		case strings.HasPrefix(r.URL.Path, base+"/"):
			stripped.ServeHTTP(w, r)
		default:
			h.ServeHTTP(w, r)
		}
	})
}

// uncompressed reports whether an answer goes as it is: a stream, and what the API says to this very machine, where packing it costs
// more than it saves. A browser far away asks by another name, be it through a proxy here.
func uncompressed(c *echo.Context) bool {
	r := c.Request()
	if strings.HasSuffix(r.URL.Path, "/events") || strings.HasSuffix(r.URL.Path, "/live") {
		return true
	}
	from, err := netip.ParseAddr(askedOf(r.Context()).from.Address)
	name, _, wrong := net.SplitHostPort(r.Host)
	if wrong != nil {
		name = r.Host
	}
	ip := net.ParseIP(strings.Trim(name, "[]"))
	return strings.HasPrefix(r.URL.Path, "/api/") && err == nil && from.IsLoopback() &&
		(name == "localhost" || ip != nil && ip.IsLoopback())
}

// hosts refuses requests that name another host: a page elsewhere must not reach a service on loopback by way of DNS.
func hosts(allowed []string) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			name := c.Request().Host
			if isProbe(c.Request().URL.Path) {
				return next(c)
			}
			if h, _, err := net.SplitHostPort(name); err == nil {
				name = h
			}
			if ip := net.ParseIP(strings.Trim(name, "[]")); name == "localhost" || name == "hylostat" || ip != nil && ip.IsLoopback() {
				return next(c)
			}
			for _, a := range allowed {
				if strings.EqualFold(a, name) {
					return next(c)
				}
			}
			return problem{
				contract.Problem{
					Status: http.StatusMisdirectedRequest,
					Title:  "Wrong host",
					Detail: fmt.Sprintf("this service is not known as %q", name),
					Advice: text("Use its address, or start it with --host."),
				},
			}
		}
	}
}

// ownPages refuses what a page from elsewhere, opened in the browser of somebody who is signed in, would have done in their name.
func ownPages(next echo.HandlerFunc) echo.HandlerFunc {
	protection := http.NewCrossOriginProtection()
	return func(c *echo.Context) error {
		if err := protection.Check(c.Request()); err != nil {
			return problem{
				contract.Problem{
					Status: http.StatusForbidden,
					Title:  "From another page",
					Detail: "a page from " + cmp.Or(c.Request().Header.Get("Origin"), "elsewhere") + " tried to change something here",
					Advice: text("Use the service's own console."),
				},
			}
		}
		return next(c)
	}
}

// validate checks every request against the contract before a handler sees it, and who sends it.
func validate(router routers.Router, a *access.Access) echo.MiddlewareFunc {
	costly := newTurnstile()
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			route, parameters, err := router.FindRoute(c.Request())
			if err != nil && err.Error() == routers.ErrMethodNotAllowed.Error() { // the router makes a new error each time
				return problem{
					contract.Problem{
						Status: http.StatusMethodNotAllowed,
						Title:  "Wrong method",
						Detail: c.Request().Method + " is not for this path",
						Advice: text(see),
					},
				}
			}
			if err != nil {
				return noPath
			}
			who, open, err := admit(a, c.Request(), demandOf(route.Operation.Extensions, c.Request().Method, route.Operation.Summary))
			if err != nil {
				return err // before anything of the body is read
			}
			if lane := laneOf(route.Operation.Extensions); lane != "" {
				done, err := costly.pass(c, workFor(c.Request(), who), lane)
				if err != nil {
					return err
				}
				defer done()
			}
			if who.Name == "" && !open {
				c.Request().Body = http.MaxBytesReader(c.Response(), c.Request().Body, strangersLimit)
			}
			input := &openapi3filter.RequestValidationInput{Request: c.Request(), PathParams: parameters, Route: route}
			if err := openapi3filter.ValidateRequest(c.Request().Context(), input); err != nil {
				return invalid(err)
			}
			c.SetRequest(c.Request().WithContext(context.WithValue(c.Request().Context(), callerKey{}, who)))
			return next(c)
		}
	}
}

const see = "See docs/reference/api.md."

var noPath = &shop.NotFound{What: "the API has no such path", Advice: see}

// invalid puts the validator's finding into one sentence.
func invalid(err error) error {
	if c := echo.HTTPStatusCoder(nil); errors.As(err, &c) && c.StatusCode() == http.StatusRequestEntityTooLarge {
		return tooLarge
	}
	if _, ok := errors.AsType[*http.MaxBytesError](err); ok {
		return tooLarge
	}
	if slow, ok := errors.AsType[problem](err); ok {
		return slow
	}
	field, detail := wrongField(err)
	return problem{
		contract.Problem{
			Status: http.StatusBadRequest,
			Title:  "Not understood",
			Detail: strings.TrimSuffix(detail, "."),
			Advice: text(see),
			Field:  text(field),
		},
	}
}

// problem is an error that is already in the form it goes out in.
type problem struct{ contract.Problem }

func (p problem) Error() string { return p.Title + ": " + p.Detail }

var tooLarge = problem{
	contract.Problem{
		Status: http.StatusRequestEntityTooLarge,
		Title:  "Too large",
		Detail: fmt.Sprintf("the body is larger than %d bytes", bodyLimit),
		Advice: text("Send less."),
	},
}

func text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// asProblem finds the problem for an error: what went wrong, on what, and what to do.
func asProblem(err error) contract.Problem {
	if p, ok := errors.AsType[problem](err); ok {
		return p.Problem
	}
	problemOf := func(status int, title, detail, advice string) contract.Problem {
		return contract.Problem{Status: status, Title: title, Detail: detail, Advice: text(advice)}
	}
	if e, ok := errors.AsType[*shop.NotFound](err); ok {
		return problemOf(http.StatusNotFound, "Not found", e.What, e.Advice)
	}
	if e, ok := errors.AsType[*shop.Invalid](err); ok {
		return problemOf(http.StatusBadRequest, "Not understood", e.What, e.Advice)
	}
	if e, ok := errors.AsType[*shop.Conflict](err); ok {
		return problemOf(http.StatusConflict, "Not as things stand", e.What, e.Advice)
	}
	if e, ok := errors.AsType[*access.Unknown](err); ok {
		return problemOf(
			http.StatusNotFound, "Not found", e.Error(),
			"List the "+cmp.Or(e.Kind, "people")+".",
		)
	}
	if e, ok := errors.AsType[*access.Refused](err); ok {
		switch e.Help {
		case access.ToSignIn:
			return problemOf(http.StatusUnauthorized, "Not signed in", e.What, e.Advice)
		case access.ToGiveCode:
			return problemOf(http.StatusUnauthorized, "Code wanted", e.What, e.Advice)
		case access.ToProve:
			return problemOf(http.StatusForbidden, "Say again who you are", e.What, e.Advice)
		case access.ToSetFactor:
			return problemOf(http.StatusForbidden, "Second factor wanted", e.What, e.Advice)
		}
		return problemOf(http.StatusForbidden, "Not allowed", e.What, e.Advice)
	}
	if e, ok := errors.AsType[*access.Busy](err); ok {
		return problemOf(http.StatusTooManyRequests, "Too much at once", "too many wrong passwords were given for that name or from here",
			fmt.Sprintf("Try again in %d s.", int(e.After.Seconds())))
	}
	if e, ok := errors.AsType[*protocol.Refusal](err); ok {
		return problemOf(http.StatusConflict, "The bench refuses", e.What+": "+e.Cause, e.Advice)
	}
	if e, ok := errors.AsType[*sqlite.FullError](err); ok {
		return problemOf(http.StatusInsufficientStorage, "No room", e.Error(), "Make room, then try again.")
	}
	if sqlite.Damage(err) {
		return problemOf(
			http.StatusServiceUnavailable, "The records are damaged", damageWords(err),
			"End the service, and put a backup in its place.",
		)
	}
	var c echo.HTTPStatusCoder
	if errors.As(err, &c) {
		if c.StatusCode() == http.StatusRequestEntityTooLarge {
			return tooLarge.Problem
		}
		return problemOf(c.StatusCode(), http.StatusText(c.StatusCode()), err.Error(), see)
	}
	return problemOf(
		http.StatusInternalServerError, "Failed", "the service could not do this",
		"Look at its log; report it with what you did.",
	)
}

func answerProblem(c *echo.Context, log *slog.Logger, err error) {
	if r, e := echo.UnwrapResponse(c.Response()); e == nil && r.Committed {
		return
	}
	if errors.Is(err, c.Request().Context().Err()) && c.Request().Context().Err() != nil {
		return // whoever asked has gone
	}
	if busy, ok := errors.AsType[*access.Busy](err); ok {
		c.Response().Header().Set("Retry-After", strconv.Itoa(int(busy.After.Seconds())))
	}
	p := asProblem(err)
	kind := "urn:hylostat:" + strings.ReplaceAll(strings.ToLower(p.Title), " ", "-")
	p.Type = &kind
	if p.Status >= http.StatusInternalServerError {
		log.Error("request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
	}
	body, _ := json.Marshal(p) // a Problem always marshals
	c.Response().Header().Set("Content-Type", "application/problem+json")
	c.Response().WriteHeader(p.Status)
	_, _ = c.Response().Write(body)
}

// theContract serves the contract, which says itself at which path it is.
func theContract(c *echo.Context) error {
	return c.Blob(http.StatusOK, "application/yaml", contract.OpenAPI)
}

// pages are where paths of the console begin: it routes on its own behind them (console/src/routes.tsx).
var pages = []string{"", "account", "alerts", "bays", "drives", "intake", "lots", "parts", "policy", "runs", "watch"}

// console serves the built pages. Every path of a page is the page itself.
type console struct {
	files fs.FS
	index []byte
}

const noConsole = `<!doctype html><title>Hylostat</title><p>This program was built without its console. Run <code>make build</code>.`

func newConsole(files fs.FS, base string) (*console, error) {
	index, err := fs.ReadFile(files, "index.html")
	if errors.Is(err, fs.ErrNotExist) {
		index, err = []byte(noConsole), nil
	}
	// The pages' own addresses are relative, to this.
	head := []byte("<head><base href=\"" + html.EscapeString(base) + "/\">")
	return &console{files, bytes.Replace(index, []byte("<head>"), head, 1)}, err
}

// ownFiles are what makes the console installable: what it is, its pictures, and what keeps the last that was seen.
var ownFiles = map[string]string{
	"manifest.webmanifest": "application/manifest+json", "worker.js": "text/javascript; charset=utf-8", "icon-192.png": "image/png",
	"icon-512.png": "image/png", "icon-touch.png": "image/png",
}

func (p *console) serve(c *echo.Context) error {
	name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
	if strings.HasPrefix(name, "assets/") {
		f, err := p.files.Open(name)
		if err != nil {
			return &shop.NotFound{What: "no file " + name, Advice: "Reload the page."}
		}
		defer func() { _ = f.Close() }()
		content, ok := f.(io.ReadSeeker)
		if !ok {
			return errors.New("the console's files cannot be sought")
		}
		stat, err := f.Stat()
		if err != nil || stat.IsDir() {
			return &shop.NotFound{What: "no file " + name, Advice: "Reload the page."}
		}
		c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		http.ServeContent(c.Response(), c.Request(), name, stat.ModTime(), content)
		return nil
	}
	if kind, own := ownFiles[name]; own {
		body, err := fs.ReadFile(p.files, name)
		if err != nil {
			return &shop.NotFound{What: "no file " + name, Advice: "This program was built without its console."}
		}
		c.Response().Header().Set("Cache-Control", "no-cache")
		c.Response().Header().Set("Content-Security-Policy", "default-src 'none'; connect-src 'self'") // the worker asks for pages
		return c.Blob(http.StatusOK, kind, body)
	}
	if first, _, _ := strings.Cut(name, "/"); !slices.Contains(pages, first) {
		return &shop.NotFound{
			What: "nothing at /" + name, Advice: "The console is at /, the API below /api/v1, its contract at /openapi.yaml.",
		}
	}
	raw := make([]byte, 16)
	_, _ = rand.Read(raw) // never fails
	nonce := base64.RawURLEncoding.EncodeToString(raw)
	h := c.Response().Header()
	h.Set(
		"Content-Security-Policy",
		fmt.Sprintf(
			"default-src 'none'; script-src 'self' 'nonce-%[1]s'; style-src 'self' 'nonce-%[1]s'; font-src 'self'; img-src 'self' "+
				"data:; connect-src 'self'; manifest-src 'self'; worker-src 'self'; "+
				"base-uri 'self'; form-action 'none'; frame-ancestors 'none'",
			nonce,
		),
	)
	h.Set("Cache-Control", "no-store")
	return c.HTMLBlob(http.StatusOK, bytes.ReplaceAll(p.index, []byte("{{nonce}}"), []byte(nonce)))
}
