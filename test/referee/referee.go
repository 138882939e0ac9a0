// Package referee starts the real servers that what goes to others is tried against: each on loopback, in a folder of its own, and ended
// with the test. test/referees.sh installs them.
package referee

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Cert is a certificate of 127.0.0.1 and localhost, with its key, as files and as text.
type Cert struct{ File, KeyFile, PEM string }

// NewCert makes a certificate that signs itself, for names and addresses.
func NewCert(t *testing.T, dir string, names ...string) Cert {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	c := x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "a referee"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(24 * time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, &c, &c, key.Public(), key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	out := Cert{File: filepath.Join(dir, "cert.pem"), KeyFile: filepath.Join(dir, "key.pem")}
	out.PEM = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	require.NoError(t, os.WriteFile(out.File, []byte(out.PEM), 0o600))
	require.NoError(t, os.WriteFile(out.KeyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
	return out
}

// Port gives a port of 127.0.0.1 that is free now. It is none that the kernel gives to whoever asks for any: between two starts of a server
// somebody's connection would have it.
func Port(t *testing.T) int {
	t.Helper()
	for {
		require.NoError(t, t.Context().Err())
		port := 20_000 + mathrand.IntN(12_000) //nolint:gosec // no secret
		l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if _, given := ports.LoadOrStore(port, true); err == nil {
			require.NoError(t, l.Close())
			if !given {
				return port
			}
		}
	}
}

// ports are those that were given already.
var ports sync.Map

// Run starts a program as root and ends it with the test; it waits until the program listens at the ports.
func Run(t *testing.T, ports []int, name string, args ...string) (end func()) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		path = filepath.Join("/usr/sbin", name)
	}
	command := append([]string{path}, args...)
	if os.Geteuid() != 0 {
		command = append([]string{"sudo", "-n"}, command...)
	}
	cmd := exec.CommandContext(context.WithoutCancel(t.Context()), command[0], command[1:]...) //nolint:gosec // the test's own
	cmd.Stdout, cmd.Stderr = t.Output(), t.Output()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start(), "%s: install it with test/referees.sh", name)
	ended := false
	end = func() {
		if !ended {
			ended = true
			_ = cmd.Process.Signal(syscall.SIGTERM)
			gone := time.AfterFunc(5*time.Second, func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
			_ = cmd.Wait()
			gone.Stop()
		}
	}
	t.Cleanup(end)
	for _, port := range ports {
		require.Eventually(t, func() bool {
			c, err := (&net.Dialer{}).DialContext(t.Context(), "tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if err == nil {
				_ = c.Close()
			}
			return err == nil
		}, 20*time.Second, 20*time.Millisecond, "%s does not listen at %d", name, port)
	}
	return end
}

// Mail is a mail server for saltmarsh.example: OpenSMTPD puts what it takes plainly into a box, and Dovecot stands before it, with STARTTLS
// and over TLS, for whoever knows the password. (Debian's OpenSMTPD cannot sign by its own key with the OpenSSL beside it.)
type Mail struct {
	Cert                 Cert
	STARTTLS, TLS, Plain int // its ports
	dir                  string
	end                  []func()
	t                    *testing.T
}

// The one user the mail server knows.
const (
	MailUser     = "bench"
	MailPassword = "seven quiet herons"
)

// NewMail starts a mail server.
func NewMail(t *testing.T) *Mail {
	t.Helper()
	dir, err := os.MkdirTemp("", "referee-mail-") // that others may look into: it delivers as somebody else
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	m := &Mail{t: t, dir: dir, Cert: NewCert(t, dir, "127.0.0.1", "localhost"), STARTTLS: Port(t), TLS: Port(t), Plain: Port(t)}
	for _, open := range []string{dir, m.at("box"), m.at("home")} {
		require.NoError(t, os.MkdirAll(open, 0o700))
		require.NoError(t, os.Chmod(open, 0o777)) //nolint:gosec // as above
	}
	write := func(name, text string, values ...any) {
		require.NoError(t, os.WriteFile(m.at(name), fmt.Appendf(nil, text, values...), 0o644)) //nolint:gosec // as above
	}
	write("users", "%s:{PLAIN}%s\n", MailUser, MailPassword)
	write("smtpd.conf", `listen on 127.0.0.1 port %d
table nobody { "@" = "nobody" }
action "box" maildir "%s" virtual <nobody>
match from any for domain "saltmarsh.example" action "box"
match from any for any reject
`, m.Plain, m.at("box"))
	write("dovecot.conf", `protocols = submission
base_dir = %[1]s/run
state_dir = %[1]s/state
log_path = /dev/stderr
listen = 127.0.0.1
hostname = referee
ssl = required
ssl_cert = <%[2]s
ssl_key = <%[3]s
passdb {
  driver = passwd-file
  args = %[1]s/users
}
userdb {
  driver = static
  args = uid=nobody gid=nogroup home=%[1]s/home
}
first_valid_uid = 1
mail_location = maildir:%[1]s/home/mail
submission_relay_host = 127.0.0.1
submission_relay_port = %[4]d
service submission-login {
  inet_listener submission {
    port = %[5]d
  }
  inet_listener submissions {
    port = %[6]d
    ssl = yes
  }
}
`, dir, m.Cert.File, m.Cert.KeyFile, m.Plain, m.STARTTLS, m.TLS)
	m.Start()
	return m
}

func (m *Mail) at(name string) string { return filepath.Join(m.dir, name) }

// Start starts the server again after Stop.
func (m *Mail) Start() {
	m.end = []func(){
		Run(m.t, []int{m.STARTTLS, m.TLS}, "dovecot", "-F", "-c", m.at("dovecot.conf")),
		Run(m.t, []int{m.Plain}, "smtpd", "-d", "-f", m.at("smtpd.conf")),
	}
}

// Stop ends the server; what lies in the box stays.
func (m *Mail) Stop() {
	for _, end := range m.end {
		end()
	}
}

// Box gives the letters that lie in the box, as they came.
func (m *Mail) Box() (all []string) {
	files, _ := filepath.Glob(filepath.Join(m.dir, "box", "new", "*"))
	for _, f := range files {
		if text, err := os.ReadFile(f); err == nil {
			all = append(all, string(text))
		}
	}
	return all
}

// Log is a log server: rsyslog, which writes what it is sent to a file, a line each: app|msgid|structured data|message.
type Log struct {
	Cert          Cert
	UDP, TCP, TLS int // its ports
	file          string
}

// NewLog starts a log server.
func NewLog(t *testing.T) *Log {
	t.Helper()
	dir := t.TempDir()
	l := &Log{Cert: NewCert(t, dir, "127.0.0.1", "localhost"), UDP: Port(t), TCP: Port(t), TLS: Port(t), file: filepath.Join(dir, "log")}
	config := filepath.Join(dir, "rsyslog.conf")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `
global(workDirectory="%[1]s" defaultNetstreamDriverCAFile="%[2]s"
  defaultNetstreamDriverCertFile="%[2]s" defaultNetstreamDriverKeyFile="%[3]s")
module(load="imudp")
module(load="imtcp" streamDriver.name="gtls" streamDriver.mode="1" streamDriver.authMode="anon")
template(name="line" type="string" string="%%app-name%%|%%msgid%%|%%structured-data%%|%%msg%%\n")
ruleset(name="all") { action(type="omfile" file="%[4]s" template="line") }
input(type="imudp" port="%[5]d" address="127.0.0.1" ruleset="all")
input(type="imtcp" port="%[6]d" address="127.0.0.1" ruleset="all" streamDriver.name="ptcp" streamDriver.mode="0")
input(type="imtcp" port="%[7]d" address="127.0.0.1" ruleset="all"
  streamDriver.name="gtls" streamDriver.mode="1" streamDriver.authMode="anon")
`, dir, l.Cert.File, l.Cert.KeyFile, l.file, l.UDP, l.TCP, l.TLS), 0o600))
	Run(t, []int{l.TCP, l.TLS}, "rsyslogd", "-n", "-f", config, "-i", filepath.Join(dir, "pid"))
	return l
}

// Lines gives what was written.
func (l *Log) Lines() []string {
	text, _ := os.ReadFile(l.file)
	return strings.FieldsFunc(string(text), func(r rune) bool { return r == '\n' })
}
