package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/test/made"
)

// sink is a mail server that notes when a letter came, by the serial in its subject.
type sink struct {
	mu   sync.Mutex
	came map[string][]time.Time
}

// mailbox is one conversation with it.
type mailbox struct{ *sink }

func (mailbox) Mail(string, *smtp.MailOptions) error { return nil }
func (mailbox) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (mailbox) Reset()                               {}
func (mailbox) Logout() error                        { return nil }

func (m mailbox) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	_, after, _ := strings.Cut(string(text), "Subject: KVA07 ")
	m.mu.Lock()
	defer m.mu.Unlock()
	m.came[after[:min(5, len(after))]] = append(m.came[after[:min(5, len(after))]], time.Now())
	return nil
}

// count is how many letters came about a drive, and when the last did.
func (s *sink) count(ending string) (n int, last time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := s.came[ending]
	if len(all) > 0 {
		last = all[len(all)-1]
	}
	return len(all), last
}

// told measures how soon a reading that matters is in the mail server's hands, and with the consoles that sound, from when it is ordered.
func told(ctx context.Context, dir string) ([]figure, error) {
	const drives, rounds = 20, 4
	dir = filepath.Join(dir, "told")
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	box := &sink{came: map[string][]time.Time{}}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return mailbox{box}, nil }))
	server.Domain = "saltmarsh.example"
	go func() { _ = server.Serve(listener) }()
	defer func() { _ = server.Close() }()
	var places []drive.Address
	for n := range drives {
		places = append(places, drive.Address(fmt.Sprintf("place-%02d", n)))
	}
	source := sim.New(sim.NewClock(60), "", places...)
	put := func(n, replaced int) {
		d := made.Disk(fmt.Sprintf("KVA07%05d", n))
		if source.Remove(places[n]); replaced > 0 {
			d.Counters[0].Course = sim.Course{From: float64(replaced)}
		}
		source.Insert(places[n], d)
	}
	for n := range drives {
		put(n, 0)
	}
	serving, end := context.WithCancel(ctx)
	ready, done := make(chan string, 1), make(chan error, 1)
	go func() {
		done <- app.Serve(serving, app.Options{
			Dir: dir, Create: true, Listen: "127.0.0.1:0", Shop: "Saltmarsh Lane", Bench: "north bench", Factor: 60, Source: source,
			Log: slog.New(slog.DiscardHandler), Ready: func(address string) { ready <- address },
		})
	}()
	defer func() {
		end()
		if err := <-done; err != nil {
			fmt.Println("the shop of the told:", err)
		}
	}()
	var c *client.Client
	select {
	case address := <-ready:
		if c, err = client.New(address, ""); err != nil {
			return nil, err
		}
	case err := <-done:
		return nil, err
	}
	own := ""
	_, err = c.SetWatchPlan(ctx, contract.WatchPlanRequest{
		By: "Dov", Plan: contract.WatchSetting{For: contract.WatchScope{Bench: &own}, Read: new("30d")},
	})
	if err != nil {
		return nil, err
	}
	_, err = c.SetRoute(ctx, contract.RouteRequest{By: "Dov", Route: contract.RouteSetting{
		Name: "mail", By: "mail", To: new("imre@saltmarsh.example"), Sender: new("bench@saltmarsh.example"),
		Server: new("smtp+plain://" + listener.Addr().String()), Least: "now",
	}})
	if err != nil {
		return nil, err
	}
	events := c.Events(ctx, -1)
	var mails, sounds []float64
	for round := range rounds + 1 {
		for n := range drives {
			if round > 0 { // each more than twice the one before
				put(n, 3<<(2*(round-1)))
			}
			ending := fmt.Sprintf("%05d", n)
			before, _ := box.count(ending)
			read, err := taken(ctx, c, "KVA07"+ending)
			if err != nil {
				return nil, err
			}
			if round == 0 {
				continue
			}
			sounded, mailed := time.Time{}, time.Time{}
			for until := time.After(20 * time.Second); sounded.IsZero() || mailed.IsZero(); {
				select {
				case e := <-events.Next:
					if e.Kind == contract.AlertTold && e.Serial != nil && strings.HasSuffix(*e.Serial, ending) {
						sounded = time.Now()
					}
				case <-time.After(2 * time.Millisecond):
				case <-until:
					return nil, errors.New("nobody was told of " + ending)
				}
				if now, last := box.count(ending); now > before {
					mailed = last
				}
			}
			mails = append(mails, max(0, mailed.Sub(read).Seconds()))
			sounds = append(sounds, max(0, sounded.Sub(read).Seconds()*1000))
		}
	}
	return []figure{
		below("watch.told_mail_p99", quantile(mails, 0.99)*1000, "ms", 2000),
		below("watch.told_console_p99", quantile(sounds, 0.99), "ms", 500),
	}, nil
}

// taken has a drive read, once it answers, and gives when that was ordered.
func taken(ctx context.Context, c *client.Client, serial string) (ordered time.Time, err error) {
	for range 400 {
		ordered = time.Now()
		if _, err = c.TakeReading(ctx, serial, contract.ReadingRequest{By: "Dov"}); err == nil {
			return ordered, nil
		}
		time.Sleep(25 * time.Millisecond)
	}
	return ordered, err
}
