// Package certify gives the service its certificates for TLS: files that somebody else renews, or those of an authority of the shop's own.
// Start with Files and Own.
package certify

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// How long certificates last: the authority's, which people trust by hand, and the service's, which is made anew in time and at its start.
const (
	authorityLasts = 10 * 365 * 24 * time.Hour
	serviceLasts   = 90 * 24 * time.Hour
	serviceRenewed = 30 * 24 * time.Hour // before its end
	lookEvery      = 10 * time.Second    // whether files have changed
)

// Keeper has the certificate of the moment.
type Keeper struct {
	log  *slog.Logger
	now  func() time.Time
	make func() (*tls.Certificate, time.Time, error) // a certificate, and from when on another one is due; zero: when its files change
	seen func() string                               // what tells that files have changed

	mu      sync.Mutex // guards what follows
	have    *tls.Certificate
	due     time.Time
	was     string
	looked  time.Time
	printed string
}

// Fingerprint is that of the authority's certificate, SHA-256, or of the one in the files.
func (k *Keeper) Fingerprint() string { return k.printed }

// Config is how the service speaks TLS: 1.2 at least, with the ciphers the standard library holds to be safe, and HTTP/2.
func (k *Keeper) Config() *tls.Config {
	return &tls.Config{
		MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return k.certificate(), nil },
	}
}

// certificate gives the one to show now. When another one is due and cannot be had, it stays the one of before, and the log says so.
func (k *Keeper) certificate() *tls.Certificate {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := k.now()
	if now.Sub(k.looked).Abs() < lookEvery {
		return k.have
	}
	k.looked = now
	was := k.seen()
	if was == k.was && (k.due.IsZero() || now.Before(k.due)) {
		return k.have
	}
	have, due, err := k.make()
	if err != nil {
		k.log.Error("a new certificate cannot be used; the one of before is shown", "error", err)
		return k.have
	}
	k.log.Info("a new certificate is in use", "until", have.Leaf.NotAfter)
	k.have, k.due, k.was = have, due, was
	return k.have
}

func begin(k *Keeper) (*Keeper, error) {
	var err error
	k.was, k.looked = k.seen(), k.now()
	k.have, k.due, err = k.make()
	return k, err
}

// Files takes certificate and key of PEM files, and anew when they change.
func Files(cert, key string, now func() time.Time, log *slog.Logger) (*Keeper, error) {
	k := &Keeper{log: log, now: now, seen: func() string { return stamp(cert) + stamp(key) }}
	k.make = func() (*tls.Certificate, time.Time, error) {
		c, err := tls.LoadX509KeyPair(cert, key)
		if err != nil {
			return nil, time.Time{}, fmt.Errorf("reading the certificate %s and its key %s: %w", cert, key, err)
		}
		if c.Leaf, err = x509.ParseCertificate(c.Certificate[0]); err != nil {
			return nil, time.Time{}, fmt.Errorf("reading the certificate %s: %w", cert, err)
		}
		if now().After(c.Leaf.NotAfter) {
			log.Warn("the certificate has expired", "file", cert, "on", c.Leaf.NotAfter)
		}
		return &c, time.Time{}, nil
	}
	k, err := begin(k)
	if err != nil {
		return nil, err
	}
	k.printed = fingerprint(k.have.Certificate[0])
	return k, nil
}

// stamp tells one version of a file from another.
func stamp(file string) string {
	info, err := os.Stat(file)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprint(info.ModTime().UnixNano(), " ", info.Size(), " ")
}

// Own takes certificates of the shop's own authority, which it makes once and keeps in a folder. They are for names and addresses.
func Own(dir, shop string, names []string, now func() time.Time, log *slog.Logger) (*Keeper, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder of the shop's authority: %w", err)
	}
	authority, key, err := authorityOf(dir, shop, now())
	if err != nil {
		return nil, err
	}
	k := &Keeper{log: log, now: now, seen: func() string { return "" }, printed: fingerprint(authority.Raw)}
	k.make = func() (*tls.Certificate, time.Time, error) {
		own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, time.Time{}, err
		}
		t := template(shop, now(), serviceLasts)
		t.KeyUsage, t.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
		for _, name := range names {
			if ip := net.ParseIP(name); ip != nil {
				t.IPAddresses = append(t.IPAddresses, ip)
			} else if name != "" {
				t.DNSNames = append(t.DNSNames, name)
			}
		}
		raw, err := x509.CreateCertificate(rand.Reader, t, authority, own.Public(), key)
		if err != nil {
			return nil, time.Time{}, fmt.Errorf("making a certificate: %w", err)
		}
		leaf, err := x509.ParseCertificate(raw)
		if err != nil {
			return nil, time.Time{}, err
		}
		c := &tls.Certificate{Certificate: [][]byte{raw, authority.Raw}, PrivateKey: own, Leaf: leaf}
		return c, leaf.NotAfter.Add(-serviceRenewed), nil
	}
	return begin(k)
}

func template(name string, now time.Time, lasts time.Duration) *x509.Certificate {
	serial, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)) // never fails
	return &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(lasts),
		BasicConstraintsValid: true,
	}
}

// AuthorityFile is the certificate in the folder of an authority, which people give to those who are to trust it.
const AuthorityFile, authorityKey = "authority.pem", "authority.key"

func authorityOf(dir, shop string, now time.Time) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	certFile, keyFile := filepath.Join(dir, AuthorityFile), filepath.Join(dir, authorityKey)
	cert, err := os.ReadFile(certFile)
	if errors.Is(err, fs.ErrNotExist) {
		return makeAuthority(certFile, keyFile, shop, now)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("reading the shop's authority: %w", err)
	}
	key, err := os.ReadFile(keyFile)
	if err != nil {
		return nil, nil, fmt.Errorf(
			"reading the key of the shop's authority: %w. Move %s away to have another authority made", err, certFile,
		)
	}
	pair, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, nil, fmt.Errorf("the shop's authority in %s: %w", dir, err)
	}
	authority, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return nil, nil, fmt.Errorf("the shop's authority in %s: %w", dir, err)
	}
	own, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok || !authority.IsCA {
		return nil, nil, fmt.Errorf("%s is no authority of a shop", certFile)
	}
	return authority, own, nil
}

func makeAuthority(certFile, keyFile, shop string, now time.Time) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	t := template("Hylostat authority of "+shop, now, authorityLasts)
	t.IsCA, t.KeyUsage, t.MaxPathLenZero = true, x509.KeyUsageCertSign, true
	raw, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, nil, fmt.Errorf("making the shop's authority: %w", err)
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range []struct { // the certificate at last: with it, there is an authority
		name, kind string
		body       []byte
	}{{keyFile, "PRIVATE KEY", der}, {certFile, "CERTIFICATE", raw}} {
		if err := os.WriteFile(f.name, pem.EncodeToMemory(&pem.Block{Type: f.kind, Bytes: f.body}), 0o600); err != nil {
			return nil, nil, fmt.Errorf("keeping the shop's authority: %w", err)
		}
	}
	authority, err := x509.ParseCertificate(raw)
	return authority, key, err
}

func fingerprint(raw []byte) string {
	sum := sha256.Sum256(raw)
	pairs := slices.Collect(slices.Chunk([]byte(strings.ToUpper(hex.EncodeToString(sum[:]))), 2))
	text := make([]string, len(pairs))
	for i, p := range pairs {
		text[i] = string(p)
	}
	return strings.Join(text, ":")
}
