// Command victim is a service over one simulated drive that carries out one procedure and kills itself, as kill -9 would, after
// the N-th commit of any of its databases, or before it (-N, of what is told): victim FOLDER PROCEDURE N. With 0 it lives, finishes what it
// finds open, and prints how everything stands. Package crash runs it. What it tells goes to the mail server that the environment names.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/sqlite"
)

const serial = "KVA077M4Q2"

// Standing is how everything stands when nothing is open any more.
type Standing struct {
	Runs       []contract.Run
	Sweeps     []contract.SweepSummary
	Tests      int // in the drive's own log
	Unreadable int // sectors that truly are
	Readings   map[string]int
}

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "victim FOLDER PROCEDURE N")
		os.Exit(2)
	}
	n, err := strconv.Atoi(os.Args[3])
	if err == nil {
		err = live(context.Background(), os.Args[1], os.Args[2], int64(n))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "victim:", err)
		os.Exit(1)
	}
}

func live(ctx context.Context, dir, procedure string, n int64) error {
	memory := filepath.Join(dir, "drives.json")
	clock, err := sim.RecallClock(memory, 7200)
	if err != nil {
		return err
	}
	flaws := 2.0
	if procedure == "told" { // it has become worse
		flaws = 40
	}
	if procedure == "renew" || procedure == "prepare-sound" { // looking closer at a flaw takes a renewal hundreds of commits
		flaws = 0
	}
	source := sim.New(clock, memory, "bay")
	source.Insert("bay", sim.Spec{
		Identity: ata.Identify{
			Serial:            serial,
			Model:             "Korvan K4-2000",
			Sectors:           65_536,
			LogicalSector:     512,
			PhysicalSector:    4096,
			RotationRate:      7200,
			LBA48:             true,
			SMARTSupported:    true,
			SMARTEnabled:      true,
			ErrorLogSupported: true,
			SelfTestSupported: true,
			SelfTestEnabled:   true,
			Integrity:         ata.IntegrityRight,
		},
		Born:     time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC),
		Hours:    9000,
		Share:    1,
		Minutes:  2,
		Heat:     sim.Heat{Base: 38},
		Unread:   sim.Course{From: flaws},
		FirstLBA: 32_000,
		Counters: []sim.Counter{
			{ID: 5, Value: 100},
			{ID: 9, Value: 90, Kind: sim.Hours},
			{ID: 194, Kind: sim.Temperature},
			{ID: 197, Value: 100, Course: sim.Course{From: flaws}},
		},
	})
	begun := clock.Now().Truncate(time.Millisecond)
	ctx, end := context.WithCancel(ctx)
	defer end()
	ready, done, death := make(chan string, 1), make(chan error, 1), &mortal{}
	go func() {
		done <- app.Serve(ctx, app.Options{
			Dir: dir, Create: true, Listen: "127.0.0.1:0", Shop: "Saltmarsh Lane", Bench: "north bench", Factor: 7200, Source: source,
			Rework: true,
			Log:    slog.New(slog.NewTextHandler(io.Discard, nil)),
			Gates:  []sqlite.Gate{death},
			Ready:  func(address string) { ready <- address },
		})
	}()
	var address string
	select {
	case address = <-ready:
	case err := <-done:
		return err
	}
	c, err := client.New(address, "")
	if err != nil {
		return err
	}
	if err := answers(ctx, c, begun); err != nil {
		return err
	}
	if procedure == "prepare-told" {
		return watch(ctx, c)
	}
	if strings.HasPrefix(procedure, "prepare") {
		return prepare(ctx, c)
	}
	if procedure == "told" {
		death.before.Store(n < 0)
		death.left.Store(max(n, -n))
		if _, err := c.TakeReading(ctx, serial, contract.ReadingRequest{By: "Dov"}); err != nil {
			return err
		}
		return told(ctx, c)
	}
	if n > 0 {
		if contract.ReworkKind(procedure).Valid() { // a release lasts a week, which is 84 seconds here
			if err := release(ctx, c); err != nil {
				return err
			}
		}
		death.left.Store(n)
		if err := order(ctx, c, procedure); err != nil {
			return err
		}
	}
	// Reports come in their order: with this reading the shop has everything the bench told before.
	if _, err := c.TakeReading(ctx, serial, contract.ReadingRequest{By: "Dov"}); err != nil {
		return err
	}
	if err := settle(ctx, c); err != nil {
		return err
	}
	return tell(ctx, c, source)
}

// mortal ends the process after so many commits of any of its databases, or before the last of so many.
type mortal struct {
	left   atomic.Int64 // 0: not armed
	before atomic.Bool
}

// Statement implements sqlite.Gate.
func (m *mortal) Statement(string) error { return nil }

// Before implements sqlite.Gate.
func (m *mortal) Before() error {
	if m.before.Load() {
		m.count()
	}
	return nil
}

// After implements sqlite.Gate.
func (m *mortal) After() {
	if !m.before.Load() {
		m.count()
	}
}

func (m *mortal) count() {
	for {
		left := m.left.Load()
		if left == 0 {
			return
		}
		if !m.left.CompareAndSwap(left, left-1) {
			continue
		}
		if left == 1 {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {} // until it arrives
		}
		return
	}
}

// answers waits until the drive answers to this bench, whatever the shop remembers of an earlier one, and its bay is quiet.
func answers(ctx context.Context, c *client.Client, begun time.Time) error {
	for range 1000 {
		b, err := c.Bay(ctx, contract.BayName{Number: 1})
		if err == nil && b.Connection == contract.BayConnectionAnswering && b.Drive != nil && !b.Since.Before(begun) {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("the drive does not answer")
}

// prepare brings the drive to where a rework may begin.
func prepare(ctx context.Context, c *client.Client) error {
	if _, err := c.TakeIn(ctx, contract.IntakeRequest{Bay: contract.BayName{Number: 1}, By: "Dov"}); err != nil {
		return err
	}
	if err := release(ctx, c); err != nil {
		return err
	}
	if _, err := c.Check(ctx, serial, contract.CheckRequest{Kind: "whole", By: "Dov"}); err != nil {
		return err
	}
	return settle(ctx, c)
}

// watch has the drive watched, and somebody told by mail.
func watch(ctx context.Context, c *client.Client) error {
	if _, err := c.TakeReading(ctx, serial, contract.ReadingRequest{By: "Dov"}); err != nil {
		return err
	}
	_, err := c.SetWatchPlan(ctx, contract.WatchPlanRequest{
		By: "Dov", Plan: contract.WatchSetting{For: contract.WatchScope{Bench: new("")}, Read: new("30d")},
	})
	if err != nil {
		return err
	}
	_, err = c.SetRoute(ctx, contract.RouteRequest{By: "Dov", Route: contract.RouteSetting{
		Name: "mail", By: "mail", To: new("imre@saltmarsh.example"), Sender: new("bench@saltmarsh.example"),
		Server: new("smtp+plain://" + os.Getenv("VICTIM_MAIL")), Least: "digest",
	}})
	return err
}

// told waits until nothing waits to be told, and prints what was.
func told(ctx context.Context, c *client.Client) error {
	for range 3000 {
		all, err := c.Messages(ctx, 0, 1000)
		if err != nil {
			return err
		}
		waits := false
		for _, m := range all {
			waits = waits || m.State == "waiting"
		}
		if len(all) > 0 && !waits {
			return json.NewEncoder(os.Stdout).Encode(all)
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("something is never told")
}

func release(ctx context.Context, c *client.Client) error {
	_, err := c.RecordRelease(ctx, serial, contract.ReleaseRequest{Scope: "overwrite", Owner: "Orla Fenn", By: "Dov"})
	return err
}

func order(ctx context.Context, c *client.Client, procedure string) (err error) {
	if kind := contract.ReworkKind(procedure); kind.Valid() {
		_, err = c.StartRework(ctx, serial, contract.ReworkRequest{Kind: kind, Ending: serial, By: "Dov"})
	} else {
		_, err = c.Check(ctx, serial, contract.CheckRequest{Kind: contract.CheckRequestKind(procedure), By: "Dov"})
	}
	return err
}

// settle waits until no run is open.
func settle(ctx context.Context, c *client.Client) error {
	open := true
	for range 3000 {
		all, err := c.Runs(ctx, contract.ListRunsParams{Open: &open})
		if err != nil {
			return err
		}
		if len(all) == 0 {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("a run does not end")
}

func tell(ctx context.Context, c *client.Client, source *sim.Bench) error {
	s := Standing{Readings: map[string]int{}, Unreadable: len(source.Truth("bay"))}
	var err error
	if s.Runs, err = c.Runs(ctx, contract.ListRunsParams{}); err != nil {
		return err
	}
	if s.Sweeps, err = c.Sweeps(ctx, serial); err != nil {
		return err
	}
	r, err := c.TakeReading(ctx, serial, contract.ReadingRequest{By: "Dov"})
	if err != nil {
		return err
	}
	s.Tests = len(r.SelfTests)
	all, err := c.Readings(ctx, serial)
	if err != nil {
		return err
	}
	for _, one := range all {
		if one.Run != nil && one.Step != nil {
			s.Readings[fmt.Sprintf("%d %s", *one.Run, *one.Step)]++
		}
	}
	return json.NewEncoder(os.Stdout).Encode(s)
}
