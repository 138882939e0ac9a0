package tell

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	routes "hylostat.example/internal/core/tell"
)

// A route tells how it does: what came last of a success and a failure comes first.
func TestHowARouteDoes(t *testing.T) {
	t.Parallel()
	noon := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	before := noon.Add(-time.Hour)
	mail := func(r Route) Route { r.By = routes.Mail; return r }
	for says, r := range map[string]Route{
		"off: too loud":                                                  mail(Route{Route: routes.Route{Off: "too loud"}, Sent: noon}),
		"wherever the console is open":                                   {Route: routes.Route{By: routes.Console}, Sent: noon},
		"nothing was told yet":                                           mail(Route{}),
		"failed 29 Nov 2026 12:00:00 UTC: refused":                       mail(Route{Sent: before, Failed: noon, Why: "refused"}),
		"sent 29 Nov 2026 12:00:00 UTC, never failed":                    mail(Route{Sent: noon}),
		"sent 29 Nov 2026 12:00:00 UTC, failed 29 Nov 2026 11:00:00 UTC": mail(Route{Sent: noon, Failed: before, Why: "refused"}),
	} {
		assert.Equal(t, says, r.Standing().String())
	}
}
