// Package metrics tells how the shop and the service do, for a server that collects figures: the OpenMetrics and Prometheus text formats,
// by client_golang. Names and units are those of Prometheus' own rules: base units, a counter ends in _total. docs/how-to/metrics.md lists
// them. Start with New.
package metrics

import (
	"context"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/tell"
	"hylostat.example/internal/shop/watch"
)

// Shop is what is asked.
type Shop interface {
	Standings() []watch.Standing
	Benches() []fleet.Standing
	RouteList(ctx context.Context) ([]tell.Route, error)
	AlertList(ctx context.Context, q watch.AlertQuery) ([]watch.Told, error)
	SignalsNow(ctx context.Context, driveID int64) (signal.Values, error)
	RunByID(ctx context.Context, id int64) (check.Run, error)
	Listen(ctx context.Context) <-chan shop.Event
}

// Counts is what is asked of the storage.
type Counts interface {
	CountGrades(ctx context.Context) (map[string]int, error)
	CountRuns(ctx context.Context) (map[string]int, error)     // open, by their state
	CountMessages(ctx context.Context) (map[string]int, error) // by their state
}

// MostDrives bounds the drives that have figures of their own: beyond it only sums are told.
const MostDrives = 2000

// within bounds how long a collection takes.
const within = 20 * time.Second

// Metrics are all figures.
type Metrics struct {
	shop   Shop
	counts Counts
	dir    string
	log    *slog.Logger

	registry *prometheus.Registry
	readings prometheus.Counter
	verdicts prometheus.Counter
	runs     *prometheus.CounterVec
	swept    prometheus.Counter
	requests *prometheus.CounterVec
	takes    *prometheus.HistogramVec

	mu    sync.Mutex // guards known
	known map[int64]told
}

// told is what a drive told at a reading.
type told struct {
	at     time.Time
	values signal.Values
}

// New makes the figures of a shop whose records lie in a folder.
func New(s Shop, counts Counts, dir, version string, log *slog.Logger) *Metrics {
	m := &Metrics{shop: s, counts: counts, dir: dir, log: log, registry: prometheus.NewRegistry(), known: map[int64]told{}}
	counter := func(name, help string) prometheus.Counter {
		return prometheus.NewCounter(prometheus.CounterOpts{Name: "hylostat_" + name, Help: help})
	}
	m.readings = counter("readings_total", "Readings taken in since the service started.")
	m.verdicts = counter("verdict_changes_total", "Verdicts that changed since the service started.")
	m.swept = counter("swept_bytes_total", "Bytes of surface that sweeps which ended since the service started went over.")
	m.runs = prometheus.NewCounterVec(
		prometheus.CounterOpts{Name: "hylostat_runs_ended_total", Help: "Runs that ended since the service started, by outcome."},
		[]string{"outcome"},
	)
	m.requests = prometheus.NewCounterVec(
		prometheus.CounterOpts{Name: "hylostat_http_requests_total", Help: "Requests answered, by method and status."},
		[]string{"method", "status"},
	)
	m.takes = prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "hylostat_http_request_duration_seconds", Help: "How long answers took, but for those that stay open.",
		Buckets: []float64{.001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 10},
	}, []string{"method"})
	info := prometheus.NewGauge(prometheus.GaugeOpts{
		Name: "hylostat_build_info", Help: "1, with the version.", ConstLabels: prometheus.Labels{"version": version},
	})
	info.Set(1)
	m.registry.MustRegister(
		m, m.readings, m.verdicts, m.swept, m.runs, m.requests, m.takes, info, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)
	return m
}

// Handler answers with all figures, in the format that is asked for.
func (m *Metrics) Handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{
		EnableOpenMetrics: true, DisableCompression: true, MaxRequestsInFlight: 2, ErrorHandling: promhttp.ContinueOnError,
		ErrorLog: slog.NewLogLogger(m.log.Handler(), slog.LevelWarn),
	})
}

// methods are those the service answers to. Whatever else a stranger makes up is counted as one: each label is kept for good.
var methods = map[string]bool{
	http.MethodGet: true, http.MethodHead: true, http.MethodPost: true, http.MethodPut: true,
	http.MethodPatch: true, http.MethodDelete: true,
	http.MethodOptions: true,
}

// Answered counts an answer.
func (m *Metrics) Answered(method string, status int, took time.Duration, stays bool) {
	if !methods[method] {
		method = "other"
	}
	m.requests.WithLabelValues(method, strconv.Itoa(status)).Inc()
	if !stays {
		m.takes.WithLabelValues(method).Observe(took.Seconds())
	}
}

// Count counts what happens until the context ends.
func (m *Metrics) Count(ctx context.Context) {
	for ctx.Err() == nil {
		for e := range m.shop.Listen(ctx) {
			switch e.Kind {
			case shop.ReadingTaken:
				m.readings.Inc()
			case shop.VerdictChanged:
				m.verdicts.Inc()
			case shop.RunChanged:
				m.ended(ctx, e.Run)
			default:
			}
		}
	}
}

// ended counts a run, if it has ended.
func (m *Metrics) ended(ctx context.Context, id int64) {
	r, err := m.shop.RunByID(ctx, id)
	if err != nil || r.State != check.Done {
		return
	}
	m.runs.WithLabelValues(string(r.Outcome)).Inc()
	for i := range r.Steps {
		if s := r.Steps[i].Standing; s != nil {
			m.swept.Add(s.Share * float64(s.Geometry.Bytes()))
		}
	}
}

// describe makes the description of a figure.
func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("hylostat_"+name, help, labels, nil)
}

var (
	ofDrive = []string{"serial", "model", "bench", "bay"}

	drives    = describe("drives", "Drives in the records, by the grade they go by.", "grade")
	watched   = describe("watched_drives", "Drives under watch.")
	missed    = describe("watched_drives_missed", "Drives under watch that were not read for two intervals.")
	grade     = describe("drive_grade", "Grade of a watched drive: 0 undecided, 1 healthy, 2 degrading, 3 replace.", ofDrive...)
	read      = describe("drive_read_timestamp_seconds", "When a watched drive told its counters last.", ofDrive...)
	openRuns  = describe("runs", "Runs that are open, by their state.", "state")
	alerts    = describe("alerts", "Alerts that are not settled.", "kind", "severity", "state")
	routeUp   = describe("route_up", "1 when a route's last letter arrived, 0 when it failed or the route is off.", "route", "means")
	routeSent = describe("route_sent_timestamp_seconds", "When a route told something last.", "route", "means")
	outbox    = describe("messages", "Messages of the last 90 days, by how they stand.", "state")
	bench     = describe("bench_connected", "1 while a bench is connected.", "bench")
	size      = describe("store_bytes", "Size of the files of the records.", "file")
	asked     = describe("store_read_duration_seconds", "How long a small question to the records took just now.")
)

// signals of watched drives, with the factor that brings them to base units.
var signals = []struct {
	name   signal.Name
	factor float64
	desc   *prometheus.Desc
}{
	{signal.Temperature, 1, describe("drive_temperature_celsius", "Temperature of a watched drive at its last reading.", ofDrive...)},
	{signal.PowerOnHours, 3600, describe("drive_powered_on_seconds", "How long a watched drive was powered on.", ofDrive...)},
	{signal.PercentageUsed, 0.01, describe("drive_wear_ratio", "Share of its endurance that a watched drive has used.", ofDrive...)},
	{signal.Pending, 1, describe("drive_pending_sectors", "Sectors of a watched drive that wait to be replaced.", ofDrive...)},
	{signal.Reallocated, 1, describe("drive_reallocated_sectors", "Sectors that a watched drive has replaced.", ofDrive...)},
	{signal.CRCErrors, 1, describe("drive_link_errors", "Interface CRC errors that a watched drive has counted.", ofDrive...)},
}

// Describe implements prometheus.Collector.
func (m *Metrics) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{
		drives, watched, missed, grade, read, openRuns, alerts, routeUp, routeSent, outbox, bench, size, asked,
	} {
		to <- d
	}
	for _, s := range signals {
		to <- s.desc
	}
}

// Collect implements prometheus.Collector. What cannot be asked is left out, and said in the log.
func (m *Metrics) Collect(to chan<- prometheus.Metric) {
	ctx, end := context.WithTimeout(context.Background(), within)
	defer end()
	give := func(d *prometheus.Desc, x float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, x, labels...)
	}
	began := time.Now()
	for _, c := range []struct {
		desc  *prometheus.Desc
		count func(context.Context) (map[string]int, error)
	}{{openRuns, m.counts.CountRuns}, {drives, m.counts.CountGrades}, {outbox, m.counts.CountMessages}} {
		all, err := c.count(ctx)
		if err != nil {
			m.log.Warn("counting for the metrics", "error", err)
		}
		for label, n := range all {
			give(c.desc, float64(n), label)
		}
		if c.desc == openRuns {
			give(asked, time.Since(began).Seconds())
		}
	}
	m.collectDrives(ctx, give)
	m.collectAlerts(ctx, give)
	for _, b := range m.shop.Benches() {
		give(bench, flag(!b.Away), b.Name)
	}
	files, err := filepath.Glob(filepath.Join(m.dir, "*.db*"))
	if err != nil {
		return
	}
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			give(size, float64(info.Size()), filepath.Base(f))
		}
	}
}

func flag(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

func (m *Metrics) collectDrives(ctx context.Context, give func(*prometheus.Desc, float64, ...string)) {
	all := m.shop.Standings()
	give(watched, float64(len(all)))
	late := 0
	for i := range all {
		if len(all[i].Missed) > 1 {
			late++
		}
	}
	give(missed, float64(late))
	if len(all) > MostDrives {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range all {
		s := &all[i]
		id := s.Drive.Identity
		labels := []string{id.Serial, id.Model, s.Drive.Now.Bay.Bench, ""}
		if !s.Bay.IsZero() {
			labels[3] = strconv.Itoa(s.Bay.Number)
		}
		give(grade, float64(s.Drive.Now.Stands()), labels...)
		if !s.Told.IsZero() {
			give(read, float64(s.Told.UnixMilli())/1000, labels...)
		}
		now, known := m.known[s.Drive.ID]
		if !known || !now.at.Equal(s.Drive.Now.LastAt) {
			values, err := m.shop.SignalsNow(ctx, s.Drive.ID)
			if err != nil {
				m.log.Warn("a drive's signals for the metrics", "drive", id.Serial, "error", err)
				continue
			}
			now = told{s.Drive.Now.LastAt, values}
			m.known[s.Drive.ID] = now
		}
		for _, one := range signals {
			if x, ok := now.values.Get(one.name); ok {
				give(one.desc, x*one.factor, labels...)
			}
		}
	}
}

// mostAlerts bounds what is asked for.
const mostAlerts = 10_000

func (m *Metrics) collectAlerts(ctx context.Context, give func(*prometheus.Desc, float64, ...string)) {
	open, err := m.shop.AlertList(ctx, watch.AlertQuery{State: watch.Unsettled, Limit: mostAlerts})
	if err != nil {
		m.log.Warn("alerts for the metrics", "error", err)
		return
	}
	type of struct {
		kind     alert.Kind
		severity alert.Severity
		state    alert.State
	}
	sums := map[of]int{}
	for i := range open {
		sums[of{open[i].Kind, open[i].Severity, open[i].State}]++
	}
	for o, n := range sums {
		give(alerts, float64(n), string(o.kind), string(o.severity), string(o.state))
	}
	routes, err := m.shop.RouteList(ctx)
	if err != nil {
		m.log.Warn("routes for the metrics", "error", err)
		return
	}
	for i := range routes {
		r := &routes[i]
		give(routeUp, flag(r.Off == "" && !r.Failed.After(r.Sent)), r.Name, string(r.By))
		if !r.Sent.IsZero() {
			give(routeSent, float64(r.Sent.Unix()), r.Name, string(r.By))
		}
	}
}
