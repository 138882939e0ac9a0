package api

import (
	"errors"
	"html/template"
	"log/slog"
	"net/http"
	"path/filepath"
	"strings"
	"sync/atomic"

	"github.com/labstack/echo/v5"

	"hylostat.example/internal/sqlite"
)

// intact lets nothing through while a database is known to be damaged, or since a request came upon that: what is read from it may lack
// rows without an error.
func intact(log *slog.Logger, damaged func() error) echo.MiddlewareFunc {
	var met atomic.Pointer[error]
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			err := damaged()
			if before := met.Load(); err == nil && before != nil {
				err = *before
			}
			if err != nil {
				return answerDamage(c, log, err)
			}
			err = next(c)
			if sqlite.Damage(err) {
				met.Store(&err)
			}
			return err
		}
	}
}

// OfDamage answers every request with what is damaged and what to do.
func OfDamage(found *sqlite.DamagedError, log *slog.Logger) http.Handler {
	e := echo.New()
	e.Logger = log
	e.Use(headers)
	e.Any("/*", func(c *echo.Context) error { return answerDamage(c, log, found) })
	return e
}

// answerDamage tells programs by a problem, and people by a page.
func answerDamage(c *echo.Context, log *slog.Logger, found error) error {
	if strings.HasPrefix(c.Request().URL.Path, "/api/") || !strings.Contains(c.Request().Header.Get("Accept"), "text/html") {
		answerProblem(c, log, found)
		return nil
	}
	h := c.Response().Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	c.Response().WriteHeader(http.StatusServiceUnavailable)
	return damagePage.Execute(c.Response(), damageWords(found))
}

// damageWords tells what is damaged, and nothing of where this machine keeps it.
func damageWords(err error) string {
	if e, ok := errors.AsType[*sqlite.DamagedError](err); ok {
		return filepath.Base(e.Path) + " is damaged: " + e.Found
	}
	return "a database is damaged"
}

var damagePage = template.Must(template.New("damage").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>The records are damaged · Hylostat</title>
<style>body{font:16px/24px system-ui,sans-serif;max-width:44em;margin:4em auto;padding:0 24px;color:#1d1f21;background:#f7f6f2}
h1{font-size:28px;line-height:36px}code{overflow-wrap:anywhere}
@media(prefers-color-scheme:dark){body{color:#e6e4df;background:#181a1b}}</style>
<h1>The records are damaged</h1>
<p><code>{{.}}</code></p>
<p>Nothing of them is shown, since a damaged list can lack drives without saying so, and nothing is written to them.</p>
<ol><li>End the service.</li>
<li>Keep the folder as it is, somewhere else: what is whole in it can still be read.</li>
<li>Look at the disk it lies on before you trust it again.</li>
<li>Put the newest backup of the folder in its place, and start the service. A bench sends again what the records lack, as far as it
still has it; <code>--rejoin</code> goes on with databases that are not of the same age.</li></ol>
</html>
`))
