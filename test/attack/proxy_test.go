package attack_test

import (
	"crypto/x509"
	"io"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// What a proxy says of whom it asks for counts when the proxy is trusted, and from nobody else: else whoever guesses has as many addresses
// as he likes, and a cookie goes over the network in clear.
func TestOnlyATrustedProxyIsBelieved(t *testing.T) {
	for name, row := range map[string]struct {
		trusted []netip.Prefix
		list    string
		from    string
		secure  bool
	}{
		"nobody is trusted":           {nil, "192.0.2.9", "127.0.0.1", false},
		"the proxy is":                {[]netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, "192.0.2.9", "192.0.2.9", true},
		"another one is":              {[]netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}, "192.0.2.9", "127.0.0.1", false},
		"a list that was made up":     {[]netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, "203.0.113.1, 192.0.2.9", "192.0.2.9", true},
		"two proxies, both trusted":   {[]netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, "192.0.2.9, 127.0.0.3", "192.0.2.9", true},
		"what is no address is not":   {[]netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, "192.0.2.9, me", "127.0.0.1", true},
		"the proxy says nothing else": {[]netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, "", "127.0.0.1", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := beginWith(t, t.TempDir(), func(o *app.Options) {
				o.Proxies, o.Base, o.Hosts = row.trusted, "/hylostat", []string{"shop.example"}
			})
			lead := p.enter("Maud", contract.Lead, "kelp and gravel")
			head := []string{"X-Forwarded-For", row.list, "X-Forwarded-Proto", "https", "X-Forwarded-Host", "shop.example"}
			status, body, h := p.ask(
				t.Context(), "POST", "/api/v1/session", contract.SignInRequest{Name: "Maud", Password: "kelp and gravel"}, head...,
			)
			require.Equal(t, http.StatusOK, status, string(body))
			cookie := h.Get("Set-Cookie")
			assert.Equal(t, row.secure, strings.HasPrefix(cookie, "__Host-") && strings.Contains(cookie, "Secure"), cookie)
			assert.Equal(t, row.secure, h.Get("Strict-Transport-Security") != "")
			c, err := client.New(p.address, lead)
			require.NoError(t, err)
			all, err := c.Sessions(t.Context())
			require.NoError(t, err)
			require.Len(t, all, 1)
			assert.Equal(t, row.from, all[0].Address)
			_, page, _ := p.ask(t.Context(), "GET", "/drives/x", nil)
			assert.Contains(t, string(page), `<base href="/hylostat/">`, "the pages know where they are")
			status, _, _ = p.ask(t.Context(), "GET", "", nil)
			assert.Equal(t, http.StatusOK, status)
		})
	}
}

// By TLS the service is asked through its own authority, and by no other; over HTTP it says nothing.
func TestTLSByTheShopsOwnAuthority(t *testing.T) {
	dir := t.TempDir()
	p := beginWith(t, dir, func(o *app.Options) { o.TLS.Own = true })
	require.True(t, strings.HasPrefix(p.address, "https://"), p.address)
	_, err := p.Service(t.Context())
	require.ErrorContains(t, err, "is not one that this machine trusts", "its authority is not trusted")
	text, err := os.ReadFile(filepath.Join(dir, "tls", "authority.pem"))
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(text))
	c, err := client.NewTrusting(p.address, "", pool)
	require.NoError(t, err)
	_, err = c.Service(t.Context())
	require.NoError(t, err)
	answer, err := http.Get("http://" + strings.TrimPrefix(p.address, "https://") + "/api/v1/drives")
	require.NoError(t, err)
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, http.StatusBadRequest, answer.StatusCode, string(body))
}

// Whoever watches the service asks by any name, needs no person, and learns no more than that it works.
func TestProbesTellNothingButHowItStands(t *testing.T) {
	p := begin(t, t.TempDir())
	p.enter("Maud", contract.Lead, "kelp and gravel")
	r, err := http.NewRequestWithContext(t.Context(), "GET", p.address+"/readyz", nil)
	require.NoError(t, err)
	r.Host = "10.0.0.7:8347"
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.JSONEq(
		t,
		`{"ready": true, "checks": [{"name": "records", "ok": true}, {"name": "database", "ok": true}, {"name": "disk", "ok": true},
		  {"name": "bench", "ok": true}]}`,
		string(body),
	)
	status, body, _ := p.ask(t.Context(), "GET", "/healthz", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.JSONEq(t, `{"status": "ok"}`, string(body))
}
