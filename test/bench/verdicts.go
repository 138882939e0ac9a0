package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	_ "modernc.org/sqlite" // the driver

	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/demo"
	"hylostat.example/internal/record"
)

// manyDrives is how many a shop knows after many years. Each has some 25 readings, as those of the demo have.
const manyDrives = 50_000

// eachReading is how many readings of a drive come in a file.
const eachReading = 20

// multiply fills the folder of a demo with copies of its drives, under serials of their own, until there are so many.
func multiply(ctx context.Context, dir string, drives int) error {
	served, err := start(ctx, "demo", "--data", dir, "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	served.end()
	db, err := sqlx.Open(
		"sqlite",
		"file:"+filepath.Join(dir, "shop.db")+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)&_pragma=cache_size(-200000)",
	)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	var have int
	if err := db.GetContext(ctx, &have, `SELECT COUNT(*) FROM drive`); err != nil {
		return err
	}
	copies := drives/have - 1
	for _, statement := range []string{
		`CREATE TEMP TABLE n AS WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < ?1) SELECT n FROM c`,
		`INSERT INTO drive (id, model, serial, identity, interface, medium, bytes, duty, first_seen, hints)
		 SELECT d.id + n * 1000, d.model, substr(d.serial, 1, length(d.serial) - 6) || printf('%06X', n * 128 + d.id),
		        json_set(d.identity, '$.serial', substr(d.serial, 1, length(d.serial) - 6) || printf('%06X', n * 128 + d.id)),
		          d.interface, d.medium, d.bytes, d.duty, d.first_seen, d.hints FROM drive d, n ORDER BY n, d.id`,
		`INSERT INTO reading (drive, seq, at, took, bay, run, step, tool, decoder, report, manifest, signals, leaves)
		 SELECT r.drive + n * 1000, r.seq, r.at, r.took, r.bay, 0, '', r.tool, r.decoder, r.report || '-' || n, r.manifest, r.signals,
		   r.leaves FROM n, reading r WHERE r.drive < 1000 ORDER BY n, r.drive, r.seq`,
		`INSERT INTO stretch (drive, first, readings, began, ended, decoder, pages, signals)
		 SELECT s.drive + n * 1000, s.first, s.readings, s.began, s.ended, s.decoder, s.pages, s.signals FROM n, stretch s
		  WHERE s.drive < 1000 ORDER BY n, s.drive, s.first`,
		`INSERT INTO reading_raw (drive, seq, frame) SELECT r.drive + n * 1000, r.seq, r.frame FROM n, reading_raw r
		  WHERE r.drive < 1000 ORDER BY n, r.drive, r.seq`,
		`INSERT INTO signal_change SELECT c.drive + n * 1000, c.seq, c.signal, c.at, c.hours, c.before, c.after FROM n,
		  signal_change c WHERE c.drive < 1000`,
		`INSERT INTO verdict SELECT v.drive + n * 1000, v.seq, v.at, v.reading, v.grade, v.policy, v.body, v.packed FROM n, verdict v
		  WHERE v.drive < 1000`,
		`INSERT INTO drive_now (drive, grade, verdict_seq, said, signed, margin, margin_share, findings, first, hours, temperature,
		  readings, last_at, policy)
		 SELECT d.drive + n * 1000, d.grade, d.verdict_seq, d.said, NULL, d.margin, d.margin_share, d.findings, d.first, d.hours,
		   d.temperature, d.readings, d.last_at, d.policy FROM n, drive_now d WHERE d.drive < 1000`,
		`INSERT INTO drive_text (rowid, serial, model, ticket, customer) SELECT id, serial, model, '', '' FROM drive WHERE id >= 1000`,
	} {
		if _, err := db.ExecContext(ctx, statement, copies); err != nil {
			return fmt.Errorf("%.60s: %w", statement, err)
		}
	}
	// A shop of many years was not written a moment ago: what the machine has still to write of it would slow what is measured.
	if _, err := db.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`); err != nil {
		return err
	}
	f, err := os.Open(filepath.Join(dir, "shop.db"))
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	return f.Sync()
}

// grown starts a shop of so many drives.
func grown(ctx context.Context, dir string, drives int) (*service, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := multiply(ctx, dir, drives); err != nil {
		return nil, err
	}
	served, err := start(ctx, "demo", "--data", dir, "--listen", "127.0.0.1:0")
	if err == nil {
		time.Sleep(5 * time.Second) // the bays settle
	}
	return served, err
}

// verdicts measures a shop of many years: lists, search and pages while readings come in, a policy that judges all anew, a replay.
func verdicts(ctx context.Context, dir string) ([]figure, error) {
	dir = filepath.Join(dir, "years")
	served, err := grown(ctx, dir, manyDrives)
	if err != nil {
		return nil, err
	}
	defer served.end()
	list, search, page, ingest, err := eight(ctx, served.Client, served.address)
	if err != nil {
		return nil, err
	}
	in, err := served.Policy(ctx)
	if err != nil {
		return nil, err
	}
	draft := laxer(in.Text)
	begun := time.Now()
	if _, err := served.ReplayPolicy(ctx, contract.PolicyDraft{Text: &draft}); err != nil {
		return nil, err
	}
	replay := time.Since(begun).Seconds()
	memory, err := resident(served.process.Pid)
	if err != nil {
		return nil, err
	}
	decided, err := redecided(ctx, served.Client, dir)
	if err != nil {
		return nil, err
	}
	size := 0.0
	for _, name := range []string{"shop.db", "shop.db-wal"} {
		if f, err := os.Stat(filepath.Join(dir, name)); err == nil {
			size += float64(f.Size()) / 1e9
		}
	}
	return []figure{
		below("verdicts.list_p99", list, "ms", 20),
		below("verdicts.search_p99", search, "ms", 30),
		below("verdicts.page_p99", page, "ms", 15),
		{"verdicts.ingest", math.Round(ingest), "/s", ">= 1000", ingest >= 1000},
		below("verdicts.database", size, "GB", 1),
		below("verdicts.redecide", decided, "s", 30),
		below("verdicts.replay", replay, "s", 120),
		below("verdicts.replay_rss", memory, "MB", 300),
	}, nil
}

// laxer is a policy under which more reallocated sectors are borne.
func laxer(text string) string {
	return strings.Replace(
		text, "when: unexplained.reallocated > 0.0\n    effect: degrading",
		"when: unexplained.reallocated > 5.0\n    effect: degrading", 1,
	)
}

// redecided publishes such a policy, and gives how many seconds pass until all drives are judged by it.
func redecided(ctx context.Context, c *client.Client, dir string) (float64, error) {
	in, err := c.Policy(ctx)
	if err != nil {
		return 0, err
	}
	begun := time.Now()
	text := strings.Replace(laxer(in.Text), "{now: {reallocated: 3}, fires: true}", "{now: {reallocated: 13}, fires: true}", 1)
	published, err := c.PublishPolicy(ctx, contract.PolicyPublication{Text: text, Note: "to be measured", By: "bench"})
	if err != nil {
		return 0, err
	}
	err = judged(ctx, filepath.Join(dir, "shop.db"), published.Version)
	return time.Since(begun).Seconds(), err
}

// tenfold measures a shop ten times as large.
func tenfold(ctx context.Context, dir string) ([]figure, error) {
	dir = filepath.Join(dir, "tenfold")
	served, err := grown(ctx, dir, 10*manyDrives)
	if err != nil {
		return nil, err
	}
	defer served.end()
	list, search, page, _, err := eight(ctx, served.Client, served.address)
	if err != nil {
		return nil, err
	}
	fmt.Printf("start %.1f s; list %.1f ms, search %.1f ms, page %.1f ms at p99\n", served.up.Seconds(), list, search, page)
	decided, err := redecided(ctx, served.Client, dir)
	return []figure{
		below("tenfold.start", served.up.Seconds(), "s", 2),
		below("tenfold.list_p99", list, "ms", 30),
		below("tenfold.search_p99", search, "ms", 30),
		below("tenfold.page_p99", page, "ms", 15),
		below("tenfold.redecide", decided/60, "min", 5),
	}, err
}

// judged waits until every drive was judged by a policy.
func judged(ctx context.Context, path string, version int) error {
	db, err := sqlx.Open("sqlite", "file:"+path+"?mode=ro")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1)
	for {
		var left int // the last is judged last: it alone is asked, until it is done
		if err := db.GetContext(
			ctx,
			&left,
			`SELECT COUNT(*) FROM (SELECT policy FROM drive_now WHERE readings > 0 ORDER BY drive DESC LIMIT 1) WHERE policy <> ?`,
			version,
		); err != nil {
			return err
		}
		if left == 0 {
			if err := db.GetContext(
				ctx,
				&left,
				`SELECT COUNT(*) FROM drive_now WHERE policy <> ? AND readings > 0`,
				version,
			); err != nil ||
				left == 0 {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// eight lets eight clients list, search and open drives for some seconds, while record files come in from a bench far away. ingest
// is how many readings a second were taken in.
func eight(ctx context.Context, c *client.Client, address string) (list, search, page, ingest float64, err error) {
	serials, err := sample(ctx, c)
	if err != nil {
		return 0, 0, 0, 0, err
	}
	load, err := files(ctx, int(lasting/between)+1)
	if err != nil {
		return 0, 0, 0, 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, lasting)
	defer cancel()
	var mu sync.Mutex
	var lists, searches, pages []float64
	var failed error
	timed := func(into *[]float64, f func() error) {
		begun := time.Now()
		err := f()
		took := float64(time.Since(begun).Microseconds()) / 1000
		mu.Lock()
		defer mu.Unlock()
		switch {
		case ctx.Err() != nil:
		case err != nil:
			failed = err
		default:
			*into = append(*into, took)
		}
	}
	get := func(path string) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/api/v1"+path, nil)
		if err != nil {
			return err
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		defer func() { _ = resp.Body.Close() }()
		if _, err := io.Copy(io.Discard, resp.Body); err != nil || resp.StatusCode != http.StatusOK {
			return fmt.Errorf("%s: %s %w", path, resp.Status, err)
		}
		return nil
	}
	http.DefaultTransport.(*http.Transport).MaxIdleConnsPerHost = 64 //nolint:forcetypeassert // it is
	var clients sync.WaitGroup
	for n := range 8 {
		clients.Go(func() {
			r := rand.New(rand.NewPCG(uint64(n), 3))
			time.Sleep(time.Duration(n) * 50 * time.Millisecond) // nobody sits down at the same moment as seven others
			for ctx.Err() == nil {
				serial := serials[r.IntN(len(serials))]
				timed(&lists, func() error { return get("/drives?limit=100&after=" + url.QueryEscape(serial)) })
				timed(&searches, func() error { return get("/drives?limit=100&q=" + url.QueryEscape(serial[len(serial)-3-r.IntN(3):])) })
				timed(&pages, func() error { return get("/drives/" + url.PathEscape(serial) + "/page") })
				time.Sleep(time.Duration(100+r.IntN(200)) * time.Millisecond) // a person reads what came
			}
		})
	}
	var taken atomic.Int64
	begun, until := time.Now(), time.Duration(0)
	clients.Go(func() {
		due := time.NewTicker(between)
		defer due.Stop()
		for _, text := range load {
			select {
			case <-due.C: // it waits already when the last one took longer
			case <-ctx.Done():
				return
			}
			if _, err := c.ImportRecord(ctx, bytes.NewReader(text), "bench"); err != nil {
				if ctx.Err() == nil {
					mu.Lock()
					failed = err
					mu.Unlock()
				}
				return
			}
			taken.Add(carried * eachReading)
			until = time.Since(begun)
		}
	})
	clients.Wait()
	return quantile(lists, 0.99), quantile(searches, 0.99), quantile(pages, 0.99), float64(taken.Load()) / until.Seconds(), failed
}

// sample is serials from all over the shop.
func sample(ctx context.Context, c *client.Client) ([]string, error) {
	var all []string
	after := ""
	for range 40 {
		limit := 1000
		found, err := c.Drives(ctx, contract.ListDrivesParams{Limit: &limit, After: &after})
		if err != nil {
			return nil, err
		}
		if len(found) == 0 {
			break
		}
		for i := 0; i < len(found); i += 50 {
			all = append(all, found[i].Serial)
		}
		after = found[len(found)-1].Serial
	}
	return all, nil
}

// files are record files of a few drives each that the shop has never met, as a bench far away brings them.
func files(ctx context.Context, count int) ([][]byte, error) {
	reader, now := demo.NewReader(), time.Now().UTC().Truncate(time.Millisecond)
	out := make([][]byte, count)
	for n := range out {
		f := record.New(now)
		for k := range carried {
			spec := demo.Build(
				[]string{"K4", "K2", "EE", "HN"}[k%4], fmt.Sprintf("%05X", 0xA0000+n*carried+k), 9_000, now.Add(-9_000*time.Hour),
			)
			var d record.Drive
			for i := range eachReading {
				at := now.Add(-time.Duration(eachReading-i) * 7 * 24 * time.Hour)
				pages, key, err := reader.Read(ctx, spec, at)
				if err != nil {
					return nil, err
				}
				d.Model, d.Serial = key.Model, key.Serial
				d.Readings = append(
					d.Readings,
					record.Reading{
						ID:     fmt.Sprintf("load-%d-%d-%d", n, k, i),
						At:     at,
						TookMs: 38,
						Tool:   "bench",
						Pages:  record.FromPages(pages),
					},
				)
			}
			f.Drives = append(f.Drives, d)
		}
		text, err := json.Marshal(f)
		if err != nil {
			return nil, err
		}
		out[n] = text
	}
	return out, nil
}

// A file carries so many drives, and they come so often that more readings come in than are asked for, for so long.
const (
	carried = 10
	between = 160 * time.Millisecond // of 200 readings: 1,250 a second
	lasting = 20 * time.Second
)

func quantile(all []float64, q float64) float64 {
	if len(all) == 0 {
		return math.NaN()
	}
	slices.Sort(all)
	return all[min(len(all)-1, int(q*float64(len(all))))]
}
