package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/app"
	benches "hylostat.example/internal/bench"
	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/bench/worker"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	plans "hylostat.example/internal/core/watch"
	"hylostat.example/internal/demo"
	"hylostat.example/internal/protocol/wire"
)

// A shop that watches so many drives, each read every hour.
const (
	hourlyDrives = 5000
	hourlyDays   = 2
	hourlyFactor = 120 // by how much its time runs faster
	hourlySample = 200 // of how many drives it is looked when they were read
)

var hourlyKinds = []string{"K4", "K2", "EE", "HN"}

// hourly measures two days of such a shop, its simulated bench in a process of its own: what the service takes, how large a reading is in
// which only clocks and temperature moved, and how late the latest was.
func hourly(ctx context.Context, dir string) ([]figure, error) {
	dir = filepath.Join(dir, "hourly")
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	clock, socket := sim.NewClock(hourlyFactor), filepath.Join(dir, "bench.sock")
	serving, end := context.WithCancel(ctx)
	ready, done := make(chan string, 1), make(chan error, 1)
	app.Settle(serving)
	go func() {
		done <- app.Serve(serving, app.Options{
			Dir: dir, Create: true, Listen: "127.0.0.1:0", Shop: "Saltmarsh Lane", Bench: "north bench", Factor: hourlyFactor,
			Clock: clock, Socket: socket, Log: slog.New(slog.DiscardHandler), Ready: func(address string) { ready <- address },
		})
	}()
	defer func() {
		end()
		if err := <-done; err != nil {
			fmt.Println("the hourly shop:", err)
		}
	}()
	var address string
	select {
	case address = <-ready:
	case err := <-done:
		return nil, err
	}
	away, err := hourlyBenchApart(serving, filepath.Join(dir, "bench"), socket, clock)
	if err != nil {
		return nil, err
	}
	defer away()
	c, err := client.New(address, "")
	if err != nil {
		return nil, err
	}
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, "shop.db")+"?mode=ro")
	if err != nil {
		return nil, err
	}
	defer func() { _ = db.Close() }()
	count := func() (readings int, bytes float64, err error) {
		err = db.QueryRowContext(ctx, `
			SELECT (SELECT count(*) FROM reading) + (SELECT coalesce(sum(readings), 0) FROM stretch),
			       (SELECT page_count FROM pragma_page_count()) * (SELECT page_size FROM pragma_page_size())`).Scan(&readings, &bytes)
		return readings, bytes, err
	}
	readings := 0
	for readings < hourlyDrives { // each is read when it is put in
		time.Sleep(time.Second)
		if readings, _, err = count(); err != nil {
			return nil, err
		}
	}
	watch := func(read string) (contract.WatchPlan, error) {
		return c.SetWatchPlan(ctx, contract.WatchPlanRequest{
			By: "Dov", Plan: contract.WatchSetting{For: contract.WatchScope{Bench: new("")}, Read: &read, AtOnce: new(1000)},
		})
	}
	if _, err := watch("30d"); err != nil { // nothing is due for long
		return nil, err
	}
	time.Sleep(2 * time.Second) // what was written is settled
	used := cpu()
	time.Sleep(20 * time.Second)
	rest := (cpu() - used).Seconds() / 20 // what the watch takes of a core when nothing is read
	plan, err := watch("1h")
	if err != nil {
		return nil, err
	}
	time.Sleep(2 * time.Second)
	first, before, err := count()
	if err != nil {
		return nil, err
	}
	begun := time.Now()
	began := clock.Now()
	used = cpu()
	most := 0.0
	var lists []float64
	for clock.Now().Sub(began) < hourlyDays*24*time.Hour {
		asked := time.Now()
		resp, err := http.Get(address + "/api/v1/drives?limit=100") //nolint:noctx // the loop ends by itself
		if err != nil {
			return nil, err
		}
		_, _ = io.Copy(io.Discard, resp.Body)
		_ = resp.Body.Close()
		lists = append(lists, float64(time.Since(asked).Microseconds())/1000)
		rss, err := resident(os.Getpid())
		if err != nil {
			return nil, err
		}
		most = max(most, rss)
		time.Sleep(250 * time.Millisecond)
	}
	ended := clock.Now()
	spent := cpu() - used
	last, after, err := count()
	if err != nil {
		return nil, err
	}
	n := float64(last - first)
	each := (spent.Seconds() - rest*time.Since(begun).Seconds()) / n
	fmt.Printf("%.0f readings in %s of the shop's time, %.2f ms of CPU each; %.1f %% of a core at rest\n",
		n, ended.Sub(began).Round(time.Minute), each*1000, rest*100)
	figures := []figure{
		{"watch.hourly_readings", n, "", ">= 235000", n >= 235_000},
		below("watch.hourly_rss", most, "MB", 250),
		below("watch.hourly_core", 100*(rest+each*hourlyDrives/3600), "%", 30),
		below("watch.hourly_list_p99", quantile(lists, 0.99), "ms", 20),
		below("watch.hourly_reading", (after-before)/n, "B", 150),
	}
	late, err := latest(ctx, c, plan, began, ended)
	if err != nil {
		return figures, err
	}
	return append(figures, below("watch.hourly_late", late.Seconds()/36, "%", 2)), nil
}

// hourlyBenchWord has this program be the bench of the hourly shop.
const hourlyBenchWord = "hourly-bench"

// hourlyBenchApart starts the bench of the hourly shop, and gives its end.
func hourlyBenchApart(ctx context.Context, dir, socket string, clock *sim.Clock) (func(), error) {
	told, err := json.Marshal(clock)
	if err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, self, hourlyBenchWord, dir, socket, string(told))
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }, nil
}

// hourlyBench is that bench: it ends with its service, or when it is interrupted.
func hourlyBench(ctx context.Context, dir, socket, told string) (err error) {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	clock := &sim.Clock{}
	if err := json.Unmarshal([]byte(told), clock); err != nil {
		return err
	}
	// From here on by the machine's steady clock, as the shop's: its wall clock is set now and then, and a second of it is two minutes
	// here.
	clock.Start, clock.Wall = clock.Now(), time.Now()
	places := make([]drive.Address, hourlyDrives)
	for n := range places {
		places[n] = drive.Address(fmt.Sprintf("place-%04d", n))
	}
	source := sim.New(clock, "", places...)
	for n, at := range places {
		source.Insert(at, demo.Build(hourlyKinds[n%4], fmt.Sprintf("%05X", 0xB0000+n), 9000, clock.Now()))
	}
	if err := os.Mkdir(dir, 0o700); err != nil {
		return err
	}
	j, err := journal.Open(ctx, filepath.Join(dir, "bench.db"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, j.Close()) }()
	silent := slog.New(slog.DiscardHandler)
	b, err := benches.New(ctx, benches.Options{
		Title: "north bench", Factor: clock.Factor,
		Machine: worker.Machine{Tool: app.Version, Source: source, Journal: j, Folder: dir, Log: silent},
	})
	if err != nil {
		return err
	}
	conn, err := wire.Dial(ctx, socket, nil)
	if err != nil {
		return err
	}
	ran := make(chan error, 1)
	go func() { ran <- b.Run(ctx) }()
	err = wire.Answer(ctx, conn, b, app.Version)
	stop()
	if ctx.Err() != nil {
		err = nil
	}
	return errors.Join(err, <-ran)
}

// cpu is what this process has used.
func cpu() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// latest is how late the latest reading of a plan was, of some drives, by the machine's clock: what takes a second here takes a second in a
// shop whose time does not run faster.
func latest(ctx context.Context, c *client.Client, plan contract.WatchPlan, began, ended time.Time) (time.Duration, error) {
	every, err := plans.ParseCadence(*plan.Plan.Read)
	if err != nil {
		return 0, err
	}
	planner, err := plans.New([]plans.Plan{{ID: 1, For: plans.Scope{Bench: new("")}, Read: every}})
	if err != nil {
		return 0, err
	}
	watched, err := c.WatchedDrives(ctx, hourlyDrives)
	if err != nil {
		return 0, err
	}
	worst := time.Duration(0)
	for i := 0; i < len(watched); i += len(watched) / hourlySample {
		d := watched[i]
		all, err := c.Readings(ctx, d.Serial)
		if err != nil {
			return 0, err
		}
		slices.Reverse(all) // the oldest first
		slots := planner.Slots(
			plans.Reading, plans.Drive{Key: drive.Key{Model: d.Model, Serial: d.Serial}, Plan: 1}, began.Add(time.Hour),
			ended.Add(-time.Hour), math.MaxInt,
		)
		for _, due := range slots {
			n := slices.IndexFunc(all, func(r contract.ReadingSummary) bool { return !r.At.Before(due) })
			if n < 0 {
				return 0, fmt.Errorf("%s was not read after %s", d.Serial, due)
			}
			worst = max(worst, all[n].At.Sub(due)/hourlyFactor)
		}
	}
	return worst, nil
}
