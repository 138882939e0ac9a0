package api

import (
	"context"
	"net/http"

	"github.com/labstack/echo/v5"
)

// Check is one thing a service needs to work.
type Check struct {
	Name string `json:"name"`
	OK   bool   `json:"ok"`
	Says string `json:"says,omitempty"` // what is not as it should be
}

// healthz answers while the process does.
func healthz(c *echo.Context) error { return c.JSON(http.StatusOK, map[string]string{"status": "ok"}) }

// readyz tells whether the service can do its work: 503 when it cannot.
func readyz(ready func(context.Context) []Check) echo.HandlerFunc {
	return func(c *echo.Context) error {
		all, status := []Check{}, http.StatusOK
		if ready != nil {
			all = ready(c.Request().Context())
		}
		for _, one := range all {
			if !one.OK {
				status = http.StatusServiceUnavailable
			}
		}
		return c.JSON(status, map[string]any{"ready": status == http.StatusOK, "checks": all})
	}
}

// isProbe reports whether a path is one of these. They are asked by whatever name, and by nobody in particular.
func isProbe(path string) bool { return path == "/healthz" || path == "/readyz" }
