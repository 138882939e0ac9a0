package tell_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/tell"
	"hylostat.example/internal/core/watch"
)

func route(change func(*tell.Route)) *tell.Route {
	r := &tell.Route{
		Name: "Imre's mail", By: tell.Mail, To: "imre@saltmarsh.example", Server: "smtp://mail.saltmarsh.example:587",
		Sender: "bench@saltmarsh.example", Least: alert.Digest, Zone: "Europe/Lisbon",
		Quiet: []watch.Window{{From: 19 * 60, Until: 7*60 + 30}},
	}
	if change != nil {
		change(r)
	}
	return r
}

func TestWhenARouteTells(t *testing.T) {
	t.Parallel()
	const layout = "2006-01-02 15:04"
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	digest := watch.Daytime(8 * 60)
	for _, c := range []struct {
		what     string
		change   func(*tell.Route)
		severity alert.Severity
		tells    alert.Tells
		now      string
		want     string // empty: never
	}{
		{"by day, at once", nil, alert.Now, alert.Opened, "2027-02-01 12:00", "2027-02-01 12:00"},
		{"at night it waits", nil, alert.Now, alert.Opened, "2027-02-01 23:00", "2027-02-02 07:30"},
		{"what wakes does not", nil, alert.Wake, alert.Opened, "2027-02-01 23:00", "2027-02-01 23:00"},
		{
			"unless nothing does", func(r *tell.Route) { r.Breaks = alert.None }, alert.Wake, alert.Opened, "2027-02-01 23:00",
			"2027-02-02 07:30",
		},
		{"a night of 23 hours", nil, alert.Now, alert.Opened, "2027-03-28 00:30", "2027-03-28 07:30"},
		{"a night of 25 hours", nil, alert.Now, alert.Opened, "2027-10-30 23:00", "2027-10-31 07:30"},
		{"what may wait, without a digest", nil, alert.Digest, alert.Opened, "2027-02-01 12:00", "2027-02-01 12:00"},
		{
			"with one", func(r *tell.Route) { r.Digest = &digest }, alert.Digest, alert.Opened, "2027-02-01 12:00",
			"2027-02-02 08:00 digest",
		},
		{
			"with one, before it", func(r *tell.Route) { r.Digest = &digest }, alert.Digest, alert.Grew, "2027-02-01 07:59",
			"2027-02-01 08:00 digest",
		},
		{"what is over is no news", nil, alert.Now, alert.Ended, "2027-02-01 12:00", ""},
		{
			"but in a digest", func(r *tell.Route) { r.Digest = &digest }, alert.Now, alert.Ended, "2027-02-01 12:00",
			"2027-02-02 08:00 digest",
		},
		{
			"and for a program", func(r *tell.Route) { *r = tell.Route{Name: "x", By: tell.Syslog, Least: alert.Now} }, alert.Now,
			alert.Ended, "2027-02-01 12:00", "2027-02-01 12:00",
		},
		{"what is too little", func(r *tell.Route) { r.Least = alert.Wake }, alert.Now, alert.Opened, "2027-02-01 12:00", ""},
		{
			"what nobody takes", func(r *tell.Route) { r.After = time.Hour }, alert.Now, alert.Opened, "2027-02-01 12:00",
			"2027-02-01 13:00 untaken",
		},
		{
			"into the night", func(r *tell.Route) { r.After = time.Hour }, alert.Now, alert.Opened, "2027-02-01 18:30",
			"2027-02-02 07:30 untaken",
		},
		{"another drive", func(r *tell.Route) { r.Drives = []string{"OSS041A03H"} }, alert.Now, alert.Opened, "2027-02-01 12:00", ""},
		{"another bench", func(r *tell.Route) { r.Bench = new("loft") }, alert.Now, alert.Opened, "2027-02-01 12:00", ""},
		{"switched off", func(r *tell.Route) { r.Off = "its receiver is gone" }, alert.Now, alert.Opened, "2027-02-01 12:00", ""},
	} {
		now, err := time.ParseInLocation(layout, c.now, lisbon)
		require.NoError(t, err)
		a := &alert.Alert{Thing: alert.Thing{Kind: alert.Signal, Drive: 1}, Severity: c.severity}
		when, ok := route(c.change).When(a, c.tells, tell.Of{Serial: "KVA077M511", Bench: "field"}, now)
		got := ""
		if ok {
			got = when.At.In(lisbon).Format(layout)
		}
		if when.Digest {
			got += " digest"
		}
		if when.Untaken {
			got += " untaken"
		}
		assert.Equal(t, c.want, got, c.what)
	}
	own := &alert.Alert{Thing: alert.Thing{Kind: alert.RouteFailed, Name: "Imre's mail"}, Severity: alert.Wake}
	_, ok := route(nil).When(own, alert.Opened, tell.Of{}, time.Now())
	assert.False(t, ok, "a route does not tell that it fails")
}

func TestWhatIsNoRoute(t *testing.T) {
	t.Parallel()
	require.NoError(t, route(nil).Valid())
	for want, change := range map[string]func(*tell.Route){
		"a route's name":              func(r *tell.Route) { r.Name = "a/b" },
		"by mail, webhook, syslog":    func(r *tell.Route) { r.By = "pigeon" },
		"digest, now or wake":         func(r *tell.Route) { r.Least = "loud" },
		"no time zone":                func(r *tell.Route) { r.Zone = "Saltmarsh/Lane" },
		"lets nothing run":            func(r *tell.Route) { r.Quiet[0].Until = r.Quiet[0].From },
		"comes from a mail address":   func(r *tell.Route) { r.Sender = "bench" },
		"a host and a port":           func(r *tell.Route) { r.Server = "smtp://mail.saltmarsh.example" },
		"begins with smtp://":         func(r *tell.Route) { r.Server = "http://mail.saltmarsh.example:25" },
		"a password does":             func(r *tell.Route) { r.Server = "smtp://a:b@mail.saltmarsh.example:25" },
		"the console has no address":  func(r *tell.Route) { *r = tell.Route{Name: "x", By: tell.Console, Least: "now", To: "https://x"} },
		"are of mail, not of a":       func(r *tell.Route) { r.By, r.To = tell.Webhook, "https://desk.saltmarsh.example/" },
		"up to 7 days":                func(r *tell.Route) { r.After = 8 * 24 * time.Hour },
		"an address like https":       func(r *tell.Route) { r.Page = "bench.saltmarsh.example" },
		"broken by digest, now, wake": func(r *tell.Route) { r.Breaks = "loud" },
	} {
		assert.ErrorContains(t, route(change).Valid(), want)
	}
}

// A message is tried ever less often, and for a day.
func TestRetriesLastADay(t *testing.T) {
	t.Parallel()
	due := time.Date(2027, 2, 1, 12, 0, 0, 0, time.UTC)
	now, last, tries := due, time.Duration(0), 0
	for {
		tries++
		next, ok := tell.Again(due, tries, now)
		if !ok {
			break
		}
		assert.GreaterOrEqual(t, next.Sub(now), last)
		last, now = next.Sub(now), next
	}
	assert.Equal(t, time.Hour, last)
	assert.Greater(t, now.Sub(due), 23*time.Hour)
	assert.Less(t, tries, 40)
}
