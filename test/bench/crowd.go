package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// crowdSize is how many requests come at once, and every seventh of them is costly. As many come one after the other at a pace.
const (
	crowdSize   = 1000
	crowdCostly = 7
	crowdPace   = 10 * time.Millisecond
)

// answer is how a request of a crowd went.
type answer struct {
	path   string
	costly bool
	status int
	took   float64 // ms
}

// crowd sends a thousand requests of every kind at once to a service over the demo's drives: how long ordinary reads take while archives
// and papers wait their turn, beside what one takes alone; what is answered with an error of the service's; and its memory at most.
func crowd(ctx context.Context, dir string) ([]figure, error) {
	served, err := start(ctx, "demo", "--data", filepath.Join(dir, "crowd"), "--listen", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer served.end()
	time.Sleep(12 * time.Second) // the bays settle
	ordinary, costly, err := crowdPaths(ctx, served.Client)
	if err != nil {
		return nil, err
	}
	one := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: crowdSize}, Timeout: 2 * time.Minute}
	defer one.CloseIdleConnections()
	var alone []float64
	for _, path := range ordinary { // once each, and once more
		for range 2 {
			alone = append(alone, ask(ctx, one, served.address, path, false).took)
		}
	}
	all := make([]answer, crowdSize)
	var asking sync.WaitGroup
	for n := range all {
		asking.Go(func() {
			if n%crowdCostly == 0 {
				all[n] = ask(ctx, one, served.address, costly[n/crowdCostly%len(costly)], true)
			} else {
				all[n] = ask(ctx, one, served.address, ordinary[n%len(ordinary)], false)
			}
		})
	}
	asking.Wait()
	paced := pace(ctx, one, served.address, ordinary, costly)
	peak, err := peakMemory(served.process.Pid)
	if err != nil {
		return nil, err
	}
	var took []float64
	errors, later := 0.0, 0.0
	for _, a := range all {
		switch {
		case a.status == http.StatusTooManyRequests && a.costly:
			later++
		case a.status != http.StatusOK:
			errors++
			fmt.Println("crowd:", a.status, a.path)
		}
		if !a.costly {
			took = append(took, a.took)
		}
	}
	return []figure{
		below("crowd.errors", errors, "", 1),
		{"crowd.told_to_come_later", later, "", "", true},
		{"crowd.read_alone_p50", quantile(alone, 0.5), "ms", "", true},
		{"crowd.read_p50", quantile(took, 0.5), "ms", "", true},
		below("crowd.read_p99", quantile(took, 0.99), "ms", 250),
		below("crowd.read_at_a_pace_p99", quantile(paced, 0.99), "ms", 250),
		below("crowd.memory", peak, "MB", 300),
	}, nil
}

// pace gives what ordinary reads take that come at a pace, while four at a time wait for costly work without end.
func pace(ctx context.Context, c *http.Client, address string, ordinary, costly []string) []float64 {
	working, end := context.WithCancel(ctx)
	var queue sync.WaitGroup
	for n := range 4 {
		queue.Go(func() {
			for ; working.Err() == nil; n++ {
				if ask(working, c, address, costly[n%len(costly)], true).status == http.StatusTooManyRequests {
					time.Sleep(50 * time.Millisecond)
				}
			}
		})
	}
	took := make([]float64, crowdSize)
	var reading sync.WaitGroup
	tick := time.NewTicker(crowdPace)
	defer tick.Stop()
	for n := range took {
		<-tick.C
		reading.Go(func() { took[n] = ask(ctx, c, address, ordinary[n%len(ordinary)], false).took })
	}
	reading.Wait()
	end()
	queue.Wait()
	return took
}

// crowdPaths are what a crowd asks for.
func crowdPaths(ctx context.Context, c *client.Client) (ordinary, costly []string, err error) {
	limit := 100
	page, err := c.Drives(ctx, contract.ListDrivesParams{Limit: &limit})
	if err != nil {
		return nil, nil, err
	}
	ordinary = []string{"/bays", "/drives?limit=50", "/drives?verdict=replace", "/lots", "/runs", "/policy", "/intakes"}
	for _, d := range page {
		of := "/drives/" + d.Serial
		ordinary = append(ordinary, of, of+"/history", of+"/signals", of+"/readings", of+"/verdict")
		costly = append(costly, of+"/archive", of+"/statement", of+"/label")
	}
	return ordinary, costly, nil
}

func ask(ctx context.Context, c *http.Client, address, path string, costly bool) answer {
	a := answer{path: path, costly: costly}
	begun := time.Now()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/api/v1"+path, http.NoBody)
	if err != nil {
		return a
	}
	q.Header.Set("Accept-Language", "en")
	r, err := c.Do(q)
	if err != nil {
		return a
	}
	defer func() { _ = r.Body.Close() }()
	if _, err := io.Copy(io.Discard, r.Body); err == nil {
		a.status = r.StatusCode
	}
	a.took = float64(time.Since(begun).Microseconds()) / 1000
	if !costly && strings.HasSuffix(path, "/verdict") && a.status == http.StatusNotFound { // of a drive nobody has read yet
		a.status = http.StatusOK
	}
	return a
}
