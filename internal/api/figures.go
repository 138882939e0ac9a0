package api

import (
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"hylostat.example/internal/access"
	"hylostat.example/internal/metrics"
)

// figures answers with the metrics: to who asks from this machine itself, and to who brings a token of the shop.
func figures(m *metrics.Metrics, people *access.Access) echo.HandlerFunc {
	all := m.Handler()
	return func(c *echo.Context) error {
		if !local(c.Request()) {
			secret, ok := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
			var caller *access.Caller
			if ok {
				known, err := people.ByToken(c.Request().Context(), secret)
				if err != nil {
					return err
				}
				caller = known
			}
			if caller == nil {
				return &access.Refused{
					What:   "figures are told on this machine itself, or to whoever brings a token of the shop",
					Advice: "Make one that reads, and send it as a bearer token.", Help: access.ToSignIn,
				}
			}
		}
		all.ServeHTTP(c.Response(), c.Request())
		return nil
	}
}

// local reports whether a request comes from this machine, and no proxy stands between.
func local(r *http.Request) bool {
	for _, name := range []string{"Forwarded", "X-Forwarded-For", "X-Real-Ip", "Via"} {
		if r.Header.Get(name) != "" {
			return false
		}
	}
	ip, err := netip.ParseAddr(askedOf(r.Context()).from.Address)
	return err == nil && ip.Unmap().IsLoopback()
}

// counted counts answers.
func counted(m *metrics.Metrics) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			began := time.Now()
			err := next(c)
			status := http.StatusOK
			if r, wrong := echo.UnwrapResponse(c.Response()); wrong == nil && r.Status != 0 {
				status = r.Status
			}
			if err != nil {
				status = asProblem(err).Status
			}
			path := c.Request().URL.Path
			stays := strings.HasSuffix(path, "/events") || strings.HasSuffix(path, "/live") // as long as whoever asked listens
			m.Answered(c.Request().Method, status, time.Since(began), stays)
			return err
		}
	}
}
