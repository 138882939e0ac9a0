// Command bench measures the figures a release must hold on this machine and writes build/bench.json. It asserts nothing:
// figures are read, not failed. Run it with `make bench`; names of parts as arguments measure only those.
package main

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"hylostat.example/internal/client"
	"hylostat.example/test/browser"
)

// figure is one measurement beside its target.
type figure struct {
	Name   string  `json:"name"`
	Value  float64 `json:"value"`
	Unit   string  `json:"unit"`
	Target string  `json:"target"`
	Met    bool    `json:"met"`
}

func below(name string, value float64, unit string, limit float64) figure {
	return figure{name, math.Round(value*100) / 100, unit, fmt.Sprintf("< %g", limit), value < limit}
}

func above(name string, value float64, unit string, limit float64) figure {
	return figure{name, math.Round(value*1000) / 1000, unit, fmt.Sprintf("> %g", limit), value > limit}
}

const program = "build/hylostat"

func main() {
	var err error
	if len(os.Args) == 5 && os.Args[1] == hourlyBenchWord {
		err = hourlyBench(context.Background(), os.Args[2], os.Args[3], os.Args[4])
	} else {
		err = measure(context.Background())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func measure(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Hour)
	defer cancel()
	dir, err := os.MkdirTemp("", "hylostat-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	var all []figure
	var failed error
	for _, part := range []struct {
		name    string
		measure func(context.Context, string) ([]figure, error)
	}{
		{"help", help},
		{"idle", idle},
		{"reading", orderedReading},
		{"page", firstPage},
		{"kinds", kinds},
		{"sweeps", checks},
		{"many", many},
		{"verdicts", verdicts},
		{"tenfold", tenfold},
		{"trust", trust},
		{"crowd", crowd},
		{"told", told},
		{"hourly", hourly},
		{"year", year},
		{"copy", copying},
	} {
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], part.name) {
			continue
		}
		figures, err := part.measure(ctx, dir)
		all = append(all, figures...)
		if err != nil { // what was measured is told
			failed = fmt.Errorf("%s: %w", part.name, err)
			break
		}
	}
	for _, f := range all {
		met := "met"
		if !f.Met {
			met = "NOT MET"
		}
		fmt.Printf("%-28s %8.2f %-4s %-10s %s\n", f.Name, f.Value, f.Unit, f.Target, met)
	}
	body, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return errors.Join(failed, os.WriteFile("build/bench.json", append(body, '\n'), 0o600))
}

func median(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}

// help is how long the help text takes, median of 21, and how large the program is.
func help(ctx context.Context, _ string) ([]figure, error) {
	var took []float64
	for range 21 {
		start := time.Now()
		if err := exec.CommandContext(ctx, program, "--help").Run(); err != nil {
			return nil, err
		}
		took = append(took, float64(time.Since(start).Microseconds())/1000)
	}
	info, err := os.Stat(program)
	if err != nil {
		return nil, err
	}
	return []figure{below("slice.help", median(took), "ms", 50), below("slice.program", float64(info.Size())/1e6, "MB", 70)}, nil
}

var at = regexp.MustCompile(`http://[0-9.:]+`)

// service is a running one.
type service struct {
	*client.Client
	address string
	up      time.Duration // how long it took to answer a request
	process *os.Process
	end     func()
}

// start starts a service.
func start(ctx context.Context, args ...string) (*service, error) {
	cmd := exec.CommandContext(ctx, program, args...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	begun := time.Now()
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	s := &service{process: cmd.Process, end: func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }}
	lines := bufio.NewScanner(out)
	if !lines.Scan() {
		s.end()
		return nil, errors.New("the service did not say where it is")
	}
	s.address = at.FindString(lines.Text())
	go func() {
		for lines.Scan() {
			continue
		}
	}()
	if s.Client, err = client.New(s.address, ""); err == nil {
		_, err = s.Service(ctx)
	}
	if s.up = time.Since(begun); err != nil {
		s.end()
		return nil, err
	}
	return s, nil
}

// idle is the memory of a service with nothing to do, with that of its bench, and how long it takes to start.
func idle(ctx context.Context, dir string) ([]figure, error) {
	var ready []float64
	var memory float64
	for n := range 5 {
		args := []string{"serve", "--data", filepath.Join(dir, "idle"), "--listen", "127.0.0.1:0"}
		if n == 0 {
			args = append(args, "--create")
		}
		served, err := start(ctx, args...)
		if err != nil {
			return nil, err
		}
		ready = append(ready, float64(served.up.Microseconds())/1000)
		if n == 4 {
			time.Sleep(10 * time.Second) // it has given back what only its start needed
			memory, err = family(served.process.Pid, resident)
		}
		served.end()
		if err != nil {
			return nil, err
		}
	}
	return []figure{below("slice.idle_rss", memory, "MB", 80), below("slice.ready", median(ready), "ms", 500)}, nil
}

// resident is a process's resident memory in MB.
func resident(pid int) (float64, error) { return memory(pid, "VmRSS:") }

// peakMemory is the most memory a process has had, in MB.
func peakMemory(pid int) (float64, error) { return memory(pid, "VmHWM:") }

func memory(pid int, line string) (float64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for text := range strings.Lines(string(b)) {
		if kB, ok := strings.CutPrefix(text, line); ok {
			n, err := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(kB), " kB"), 64)
			return n / 1000, err
		}
	}
	return 0, errors.New("no " + line)
}

// orderedReading is the time from ordering a reading to its event in a browser's page, median of 21, on the demo's bench.
func orderedReading(ctx context.Context, dir string) ([]figure, error) {
	served, err := start(ctx, "demo", "--data", filepath.Join(dir, "demo"), "--listen", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer served.end()
	tab, quit, err := browser.Open(ctx, filepath.Join(dir, "profile"), 1280, 800)
	if err != nil {
		return nil, err
	}
	defer quit()
	if err := chromedp.Do(tab, chromedp.Navigate(served.address), chromedp.WaitVisible(chromedp.CSS("article"))); err != nil {
		return nil, err
	}
	time.Sleep(2 * time.Second) // the bays settle
	took, err := chromedp.Run(tab, chromedp.Evaluate[[]float64](`(async () => {
		const source = new EventSource("/api/v1/events");
		await new Promise((r) => source.addEventListener("hello", r));
		const all = [];
		for (let i = 0; i < 21; i++) {
			const begun = performance.now();
			const heard = new Promise((r) => source.addEventListener("fact", (m) => {
				if (JSON.parse(m.data).kind === "reading.taken") r();
			}));
			fetch("/api/v1/drives/KVA077M4R9/readings", {
				method: "POST", headers: {"Content-Type": "application/json"}, body: '{"by":"bench"}',
			});
			await heard;
			all.push(performance.now() - begun);
			await new Promise((r) => setTimeout(r, 50));
		}
		source.close();
		return all;
	})()`, chromedp.EvalAwaitPromise))
	if err != nil {
		return nil, err
	}
	return []figure{below("slice.reading_end_to_end", median(took), "ms", 150)}, nil
}

// firstPage is the JavaScript a browser fetches to show the bench, compressed.
func firstPage(ctx context.Context, dir string) ([]figure, error) {
	served, err := start(ctx, "demo", "--data", filepath.Join(dir, "page"), "--listen", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer served.end()
	tab, quit, err := browser.Open(ctx, filepath.Join(dir, "profile2"), 1280, 800)
	if err != nil {
		return nil, err
	}
	defer quit()
	if err := chromedp.Do(tab, chromedp.Navigate(served.address), chromedp.WaitVisible(chromedp.CSS("article"))); err != nil {
		return nil, err
	}
	scripts, err := chromedp.Run(
		tab,
		chromedp.Evaluate[[]string](`performance.getEntriesByType("resource").map(r => r.name).filter(n => n.endsWith(".js"))`),
	)
	if err != nil {
		return nil, err
	}
	sum := 0
	for _, s := range scripts {
		n, err := compressed(ctx, s)
		if err != nil {
			return nil, err
		}
		sum += n
	}
	return []figure{below("slice.first_page_js", float64(sum)/1000, "kB", 250)}, nil
}

func compressed(ctx context.Context, address string) (int, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, http.NoBody)
	if err != nil {
		return 0, err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer func() { _ = resp.Body.Close() }()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := io.Copy(z, resp.Body); err != nil {
		return 0, err
	}
	err = z.Close() // what it holds back counts, too
	return b.Len(), err
}
