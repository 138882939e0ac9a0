package demo

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"html/template"
	"io"
	"log/slog"
	"mime"
	"mime/multipart"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
	webhook "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Post is who is told in the demo: a mail server and a program that is called, both made up, both on loopback. A page shows what they got.
type Post struct {
	Mail, Page string // addresses: host and port of the one, http of the other
	Secret     string // by which it knows calls

	mu  sync.Mutex // guards all
	all []told
}

// told is something that somebody was told.
type told struct {
	At       time.Time
	By, To   string
	Title    string
	Text     string
	Verified bool // its signature, of a call
}

// mostKept bounds what is kept, in letters and in bytes of one.
const (
	mostKept   = 500
	mostLetter = 1 << 20
)

// NewPost starts both until the context ends.
func NewPost(ctx context.Context) (*Post, error) {
	key := make([]byte, 24)
	_, _ = rand.Read(key) // never fails
	p := &Post{Secret: "whsec_" + base64.StdEncoding.EncodeToString(key)}
	var listen net.ListenConfig
	forMail, err := listen.Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("the demo's mail server: %w", err)
	}
	forCalls, err := listen.Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the demo's receiver: %w", err), forMail.Close())
	}
	p.Mail, p.Page = forMail.Addr().String(), "http://"+forCalls.Addr().String()
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{post: p}, nil }))
	server.Domain, server.MaxMessageBytes, server.MaxRecipients = "saltmarsh.example", mostLetter, 20
	server.ReadTimeout, server.WriteTimeout = time.Minute, time.Minute
	server.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)
	page := http.NewServeMux()
	page.HandleFunc("POST /", p.called)
	page.HandleFunc("GET /", p.show)
	web := &http.Server{Handler: page, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(forMail) }()
	go func() { _ = web.Serve(forCalls) }()
	context.AfterFunc(ctx, func() { _, _ = server.Close(), web.Close() })
	return p, nil
}

func (p *Post) keep(t told) {
	p.mu.Lock()
	defer p.mu.Unlock()
	t.At = time.Now()
	if p.all = append(p.all, t); len(p.all) > mostKept {
		p.all = p.all[1:]
	}
}

// session is one conversation with the mail server.
type session struct {
	post *Post
	to   []string
}

func (*session) Mail(string, *smtp.MailOptions) error { return nil }

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if !strings.HasSuffix(to, "@saltmarsh.example") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name lives here"}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	m, err := mail.ReadMessage(io.LimitReader(r, mostLetter))
	if err != nil {
		return fmt.Errorf("that is no mail: %w", err)
	}
	title, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil {
		title = m.Header.Get("Subject")
	}
	s.post.keep(told{By: "mail", To: strings.Join(s.to, ", "), Title: title, Text: plainOf(m)})
	return nil
}

func (s *session) Reset()      { s.to = nil }
func (*session) Logout() error { return nil }

// plainOf is the plain text of a mail.
func plainOf(m *mail.Message) string {
	_, how, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil || how["boundary"] == "" {
		text, _ := io.ReadAll(m.Body)
		return string(text)
	}
	part, err := multipart.NewReader(m.Body, how["boundary"]).NextPart() // the plain one comes first; its encoding is undone
	if err != nil {
		return ""
	}
	text, _ := io.ReadAll(part)
	return string(text)
}

// called takes in a call, if its signature is right.
func (p *Post) called(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostLetter))
	if err != nil {
		http.Error(w, "too much", http.StatusRequestEntityTooLarge)
		return
	}
	known, err := webhook.NewWebhook(p.Secret)
	if err == nil {
		err = known.Verify(body, r.Header)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnauthorized)
		return
	}
	p.keep(told{By: "webhook", To: "front desk", Title: "a call, its signature is right", Text: string(body), Verified: true})
	w.WriteHeader(http.StatusNoContent)
}

var tellsAll = template.Must(template.New("told").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1"><title>What was told</title>
<style>body{font:15px/22px system-ui,sans-serif;background:#FBFAF5;color:#1B1C1E;max-width:44rem;margin:0 auto;padding:16px}
article{border-top:2px solid;padding:8px 0 16px}small{color:#66645D}
pre{white-space:pre-wrap;overflow-wrap:anywhere;font:13px/18px ui-monospace,monospace}</style>
<h1>What was told</h1><p>By the demo's own mail server and receiver, the newest first. Nothing leaves this machine.</p>
{{range .}}<article><small>{{.At.Format "15:04:05"}}, {{.By}} to {{.To}}</small><h2>{{.Title}}</h2><pre>{{.Text}}</pre></article>
{{else}}<p>Nothing yet.</p>{{end}}</html>`))

// show shows what was told.
func (p *Post) show(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	all := slices.Clone(p.all)
	p.mu.Unlock()
	slices.Reverse(all)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	_ = tellsAll.Execute(w, all)
}
