package certify_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/certify"
)

type clock struct{ at time.Time }

func (c *clock) now() time.Time { return c.at }

var quiet = slog.New(slog.DiscardHandler)

// shown is the certificate a keeper shows.
func shown(t *testing.T, k *certify.Keeper) *x509.Certificate {
	t.Helper()
	c, err := k.Config().GetCertificate(&tls.ClientHelloInfo{})
	require.NoError(t, err)
	return c.Leaf
}

// The shop's authority is made once; its certificates are for the names they are asked by, and made anew before they end.
func TestAnAuthorityOfTheShopsOwn(t *testing.T) {
	dir, c := filepath.Join(t.TempDir(), "tls"), &clock{time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC)}
	own := func() *certify.Keeper {
		k, err := certify.Own(dir, "Saltmarsh Lane", []string{"bench.shop.example", "192.0.2.7"}, c.now, quiet)
		require.NoError(t, err)
		return k
	}
	k := own()
	text, err := os.ReadFile(filepath.Join(dir, certify.AuthorityFile))
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(text))
	for _, name := range []string{"bench.shop.example", "192.0.2.7"} {
		_, err := shown(t, k).Verify(x509.VerifyOptions{DNSName: name, Roots: pool, CurrentTime: c.at})
		require.NoError(t, err, name)
	}
	_, err = shown(t, k).Verify(x509.VerifyOptions{DNSName: "elsewhere.example", Roots: pool, CurrentTime: c.at})
	require.Error(t, err)
	for _, f := range []string{"authority.key", certify.AuthorityFile} {
		info, err := os.Stat(filepath.Join(dir, f))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	}
	assert.Equal(t, k.Fingerprint(), own().Fingerprint(), "the authority stays")
	assert.Len(t, k.Fingerprint(), 32*3-1)

	first := shown(t, k)
	c.at = c.at.Add(59 * 24 * time.Hour)
	assert.True(t, first.Equal(shown(t, k)))
	c.at = c.at.Add(2 * 24 * time.Hour)
	second := shown(t, k)
	assert.False(t, first.Equal(second), "another one is made a month before its end")
	_, err = second.Verify(x509.VerifyOptions{DNSName: "192.0.2.7", Roots: pool, CurrentTime: c.at})
	require.NoError(t, err)

	require.NoError(t, os.Remove(filepath.Join(dir, "authority.key")))
	_, err = certify.Own(dir, "Saltmarsh Lane", nil, c.now, quiet)
	require.ErrorContains(t, err, "Move", "an authority that others trust is not replaced without a word")
}

// Certificates in files are taken anew when they change; what cannot be used is told, and the one of before stays.
func TestCertificatesInFiles(t *testing.T) {
	dir, c := t.TempDir(), &clock{time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC)}
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	write := func() *x509.Certificate {
		k, err := certify.Own(filepath.Join(t.TempDir(), "tls"), "a shop", []string{"localhost"}, c.now, quiet)
		require.NoError(t, err)
		one, err := k.Config().GetCertificate(nil)
		require.NoError(t, err)
		der, err := x509.MarshalPKCS8PrivateKey(one.PrivateKey)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: one.Certificate[0]}), 0o600))
		require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
		require.NoError(t, os.Chtimes(cert, c.at, c.at))
		return one.Leaf
	}
	first := write()
	var log bytes.Buffer
	k, err := certify.Files(cert, key, c.now, slog.New(slog.NewTextHandler(&log, nil)))
	require.NoError(t, err)
	assert.True(t, first.Equal(shown(t, k)))
	c.at = c.at.Add(time.Minute)
	second := write()
	assert.True(t, second.Equal(shown(t, k)))
	c.at = c.at.Add(time.Minute)
	require.NoError(t, os.WriteFile(key, []byte("half a fi"), 0o600))
	assert.True(t, second.Equal(shown(t, k)))
	assert.Contains(t, log.String(), "the one of before is shown")
	c.at = c.at.Add(time.Minute)
	assert.True(t, write().Equal(shown(t, k)), "and it is tried again")
	_, err = certify.Files(filepath.Join(dir, "none.pem"), key, c.now, quiet)
	require.ErrorContains(t, err, "none.pem")
}
