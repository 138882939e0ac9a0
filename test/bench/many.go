package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/test/browser"
)

// twelve is how many drives are swept at once.
const twelve = 12

// fleet is a service in this process over simulated drives of 100 GB, all different, whose time runs sixty times faster.
func fleet(ctx context.Context, dir string) (*client.Client, string, func(), error) {
	var places []drive.Address
	for n := range twelve {
		places = append(places, drive.Address(fmt.Sprintf("place-%02d", n)))
	}
	source := sim.New(sim.NewClock(60), "", places...)
	for n, at := range places {
		source.Insert(at, sim.Spec{
			Identity: ata.Identify{
				Serial:            fmt.Sprintf("KVA07%05d", n),
				Model:             "Korvan K4-100",
				Sectors:           195_312_500 + uint64(n)*8,
				LogicalSector:     512,
				PhysicalSector:    4096,
				RotationRate:      7200,
				LBA48:             true,
				SMARTSupported:    true,
				SMARTEnabled:      true,
				SelfTestSupported: true,
				SelfTestEnabled:   true,
				Integrity:         ata.IntegrityRight,
			},
			Seed:     uint64(n),
			Born:     time.Now(),
			Hours:    9000,
			Share:    1,
			Heat:     sim.Heat{Base: 38},
			Counters: []sim.Counter{{ID: 9, Value: 90, Kind: sim.Hours}, {ID: 194, Kind: sim.Temperature}},
			Unread:   sim.Course{From: float64(n % 3)},
			FirstLBA: uint32(90_000_000 + n*1_000_000),
			Slow:     []sim.Stretch{{LBA: 50_000_000, Sectors: 8, Costs: 7}},
		})
	}
	ctx, cancel := context.WithCancel(ctx)
	ready, done := make(chan string, 1), make(chan error, 1)
	go func() {
		done <- app.Serve(ctx, app.Options{
			Dir: dir, Create: true, Listen: "127.0.0.1:0", Shop: "Saltmarsh Lane", Bench: "north bench", Factor: 60, Source: source,
			Log:   slog.New(slog.NewTextHandler(io.Discard, nil)),
			Ready: func(address string) { ready <- address },
		})
	}()
	end := func() {
		cancel()
		if err := <-done; err != nil {
			fmt.Println("the fleet:", err)
		}
	}
	select {
	case address := <-ready:
		c, err := client.New(address, "")
		return c, address, end, err
	case err := <-done:
		cancel()
		return nil, "", func() {}, err
	}
}

// many sweeps twelve drives at once: how smooth the run page is meanwhile, how far off the time left is once a tenth is done,
// and how soon a stop is obeyed.
func many(ctx context.Context, dir string) ([]figure, error) {
	c, address, end, err := fleet(ctx, filepath.Join(dir, "fleet"))
	if err != nil {
		return nil, err
	}
	defer end()
	var runs []int64
	for n := range twelve {
		serial := fmt.Sprintf("KVA07%05d", n)
		if err := answers(ctx, c, serial); err != nil {
			return nil, err
		}
		r, err := c.Check(ctx, serial, contract.CheckRequest{Kind: "whole", By: "bench"})
		if err != nil {
			return nil, err
		}
		runs = append(runs, r.Id)
	}
	fps, slowest, err := frames(ctx, dir, fmt.Sprintf("%s/runs/%d", address, runs[3]))
	if err != nil {
		return nil, err
	}
	off, err := estimates(ctx, c, runs[:twelve-1])
	if err != nil {
		return nil, err
	}
	again, err := c.Check(ctx, "KVA0700003", contract.CheckRequest{Kind: "whole", By: "bench"})
	if err != nil {
		return nil, err
	}
	time.Sleep(2 * time.Second)
	asked := time.Now()
	if _, err := c.StopRun(ctx, again.Id, "bench"); err != nil {
		return nil, err
	}
	for again.State != contract.RunStateDone {
		if again, err = c.Run(ctx, again.Id); err != nil {
			return nil, err
		}
	}
	stopped := time.Since(asked).Seconds()
	return []figure{
		{"checks.run_page_fps", math.Round(fps*10) / 10, "/s", ">= 59", fps >= 59},
		below("checks.run_page_slow_frames", slowest, "%", 2),
		below("checks.eta_off_after_tenth", off, "%", 15), below("checks.stop_obeyed", stopped, "s", 1),
	}, nil
}

// frames counts the frames of a page over five seconds, and the share of them that came later than 25 ms.
func frames(ctx context.Context, dir, page string) (perSecond, late float64, err error) {
	tab, quit, err := browser.Open(ctx, filepath.Join(dir, "profile3"), 1280, 800)
	if err != nil {
		return 0, 0, err
	}
	defer quit()
	if err := chromedp.Do(
		tab, chromedp.Navigate(page), chromedp.WaitVisible(chromedp.CSS("canvas")), chromedp.Sleep(2*time.Second),
	); err != nil {
		return 0, 0, err
	}
	all, err := chromedp.Run(tab, chromedp.Evaluate[[]float64](`new Promise((done) => {
		const all = [];
		const frame = (t) => { all.push(t); if (t - all[0] < 5000) requestAnimationFrame(frame); else done(all); };
		requestAnimationFrame(frame);
	})`, chromedp.EvalAwaitPromise))
	if err != nil {
		return 0, 0, err
	}
	n := 0
	for i := 1; i < len(all); i++ {
		if all[i]-all[i-1] > 25 {
			n++
		}
	}
	return float64(len(all)-1) / (all[len(all)-1] - all[0]) * 1000, 100 * float64(n) / float64(len(all)-1), nil
}

// estimates follows runs to their end and gives the worst error, in per cent, of the time left as it was told once a tenth of
// the sweep was done.
func estimates(ctx context.Context, c *client.Client, runs []int64) (worst float64, err error) {
	type told struct {
		at   time.Time
		left float64
	}
	first := map[int64]told{}
	open := append([]int64(nil), runs...)
	for len(open) > 0 {
		time.Sleep(100 * time.Millisecond)
		var still []int64
		for _, id := range open {
			r, err := c.Run(ctx, id)
			if err != nil {
				return 0, err
			}
			step := r.Steps[1]
			now, err := c.Service(ctx)
			if err != nil {
				return 0, err
			}
			if _, known := first[id]; !known && step.Sweep != nil && step.Sweep.Share >= 0.1 && step.Sweep.LeftS > 0 {
				first[id] = told{now.Time, float64(step.Sweep.LeftS)}
			}
			if step.Ended == nil {
				still = append(still, id)
				continue
			}
			if f, known := first[id]; known {
				actual := step.Ended.Sub(f.at).Seconds()
				worst = max(worst, 100*math.Abs(f.left-actual)/actual)
			}
		}
		open = still
	}
	if len(first) == 0 {
		return 0, fmt.Errorf("no run told how long it takes")
	}
	return worst, nil
}
