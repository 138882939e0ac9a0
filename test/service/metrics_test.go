package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/test/referee"
)

// The figures are what a collector takes, and answer the questions that the documents put to it.
func TestMetricsAreCollected(t *testing.T) {
	s, worse := watchedDisk(t, t.TempDir())
	worse(3)
	status, text := s.raw("GET", "/metrics", "")
	require.Equal(t, http.StatusOK, status)
	check := exec.CommandContext(t.Context(), "promtool", "check", "metrics")
	check.Stdin = strings.NewReader(text)
	out, err := check.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Empty(t, string(out))
	status, text = s.raw("GET", "/metrics", "", "X-Forwarded-For", "192.0.2.7")
	assert.Equal(t, http.StatusUnauthorized, status, text)
	for i := range 20 {
		s.raw(fmt.Sprintf("MADEUP%d", i), "/api/v1/drives", "")
	}
	_, text = s.raw("GET", "/metrics", "")
	assert.False(t, strings.Contains(text, "MADEUP"), "a stranger makes no figures")
	assert.Contains(t, text, `hylostat_http_requests_total{method="other"`)

	rules, err := filepath.Abs("../../docs/how-to/metrics-rules.yaml")
	require.NoError(t, err)
	out, err = exec.CommandContext(t.Context(), "promtool", "check", "rules", rules).CombinedOutput()
	require.NoError(t, err, string(out))
	dir, port := t.TempDir(), referee.Port(t)
	target, err := url.Parse(s.address)
	require.NoError(t, err)
	config := filepath.Join(dir, "prometheus.yml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `
rule_files: ["%s"]
scrape_configs:
  - job_name: hylostat
    scrape_interval: 1s
    static_configs: [{targets: ["%s"]}]
`, rules, target.Host), 0o600))
	referee.Run(
		t, []int{port}, "prometheus", "--config.file="+config, "--storage.tsdb.path="+filepath.Join(dir, "data"),
		fmt.Sprintf("--web.listen-address=127.0.0.1:%d", port), "--log.level=error",
	)
	ask := func(query string) (value string) {
		//nolint:gosec // loopback
		resp, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/api/v1/query?query=%s", port, url.QueryEscape(query)))
		if err != nil {
			return ""
		}
		defer func() { _ = resp.Body.Close() }()
		var answer struct {
			Data struct{ Result []struct{ Value []any } }
		}
		if json.NewDecoder(resp.Body).Decode(&answer) != nil || len(answer.Data.Result) == 0 {
			return ""
		}
		return fmt.Sprint(answer.Data.Result[0].Value[1])
	}
	s.until("it has been collected", func() bool { return ask(`up{job="hylostat"}`) == "1" && ask("hylostat_watched_drives") == "1" })
	for query, want := range map[string]string{
		`hylostat_drive_reallocated_sectors{serial="KVA077M511"}`: "3",
		`sum(hylostat_drives)`:                                                                            "1",
		`hylostat_drives{grade="replace"}`:                                                                "1",
		`sum(hylostat_alerts{state="open",severity="wake"})`:                                              "1",
		`hylostat_bench_connected`:                                                                        "1",
		`hylostat_route_up{means="console"}`:                                                              "1",
		`hylostat_readings_total >= bool 3`:                                                               "1",
		`sum(hylostat_http_requests_total{method="GET"}) > bool 1`:                                        "1",
		`hylostat_store_bytes{file="shop.db"} > bool 10000`:                                               "1",
		`hylostat_drive_powered_on_seconds / 3600 > bool 100`:                                             "1",
		`histogram_quantile(0.99, sum by (le) (hylostat_http_request_duration_seconds_bucket)) < bool 10`: "1",
	} {
		assert.Equal(t, want, ask(query), query)
	}
}
