package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/access"
	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/demo"
	"hylostat.example/internal/record"
	benches "hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// A year of such a shop. So many drives live it reading by reading; the others are copies of these.
const yearLives = 4

// dated is a clock set by hand.
type dated struct{ at time.Time }

func (d *dated) Now() time.Time { return d.at }

// year measures what a year of hourly readings comes to: the database, and how fast it is looked at.
func year(ctx context.Context, dir string) ([]figure, error) {
	dir = filepath.Join(dir, "year")
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	if err := app.CreateShop(ctx, dir, "", ""); err != nil {
		return nil, err
	}
	begun := time.Now()
	readings, err := lived(ctx, filepath.Join(dir, "shop.db"))
	if err != nil {
		return nil, err
	}
	fmt.Printf("%d readings of %d drives were taken and folded in %s\n", readings, yearLives, time.Since(begun).Round(time.Second))
	path := filepath.Join(dir, "shop.db")
	if err := copies(ctx, path, hourlyDrives/yearLives-1); err != nil {
		return nil, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	none := filepath.Join(dir, "none")
	served, err := start(ctx, "serve", "--data", dir, "--listen", "127.0.0.1:0", "--bench-socket", none)
	if err != nil {
		return nil, err
	}
	defer served.end()
	serials, err := sample(ctx, served.Client)
	if err != nil {
		return nil, err
	}
	var lists, pages []float64
	for n := range 300 {
		serial := serials[(n*37)%len(serials)]
		took, err := gets(ctx, served.address, "/drives?limit=100&after="+serial)
		if err != nil {
			return nil, err
		}
		lists = append(lists, took)
		if took, err = gets(ctx, served.address, "/drives/"+serial+"/page"); err != nil {
			return nil, err
		}
		pages = append(pages, took)
		time.Sleep(20 * time.Millisecond)
	}
	fmt.Printf("list %.1f ms, page %.1f ms at p99, %.1f GB\n", quantile(lists, 0.99), quantile(pages, 0.99), float64(info.Size())/1e9)
	in, err := served.Policy(ctx)
	if err != nil {
		return nil, err
	}
	draft := laxer(in.Text)
	begun = time.Now()
	if _, err := served.ReplayPolicy(ctx, contract.PolicyDraft{Text: &draft}); err != nil {
		return nil, err
	}
	replay := time.Since(begun).Minutes()
	memory, err := peakMemory(served.process.Pid)
	if err != nil {
		return nil, err
	}
	return []figure{
		below("watch.year_database", float64(info.Size())/1e9, "GB", 6),
		below("watch.year_start", served.up.Seconds(), "s", 2),
		below("watch.year_list_p99", quantile(lists, 0.99), "ms", 20),
		below("watch.year_page_p99", quantile(pages, 0.99), "ms", 15),
		below("watch.year_replay", replay, "min", 10),
		below("watch.year_replay_rss", memory, "MB", 300),
	}, nil
}

// gets asks for something, and gives how many milliseconds the whole answer took.
func gets(ctx context.Context, address, path string) (float64, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/api/v1"+path, nil)
	if err != nil {
		return 0, err
	}
	begun := time.Now()
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer func() { _ = resp.Body.Close() }()
	_, err = io.Copy(io.Discard, resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = errors.New(path + ": " + resp.Status)
	}
	return float64(time.Since(begun).Microseconds()) / 1000, err
}

// lived writes a year of some drives into a shop, week by week, with what is folded as it goes on. A third of them goes bad.
func lived(ctx context.Context, path string) (readings int, err error) {
	st, err := store.Open(ctx, path)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	silent := slog.New(slog.DiscardHandler)
	nobody, err := benches.New(silent)
	if err != nil {
		return 0, err
	}
	now := time.Now().UTC().Truncate(time.Hour)
	clock := &dated{now.Add(-365 * 24 * time.Hour)}
	s, err := whole.New(ctx, "Saltmarsh Lane", st.Storage(), nobody, policy.Default, clock, silent)
	if err != nil {
		return 0, err
	}
	specs := make([]sim.Spec, yearLives)
	for n := range specs {
		specs[n] = demo.Build(hourlyKinds[n%4], fmt.Sprintf("%05X", n), 9000, clock.at)
		specs[n].Share = 1
		for i := range specs[n].Counters {
			if k := &specs[n].Counters[i]; n%3 == 0 && k.ID == 5 {
				k.Course = sim.Course{Start: 9000, Every: float64(500 + 100*n), Step: 3}
			}
		}
	}
	reader := demo.NewReader()
	for clock.at.Before(now) { // a week of each in one file, as benches that were away bring it
		week := clock.at
		clock.at = week.Add(7 * 24 * time.Hour)
		for n, spec := range specs {
			f := record.New(clock.at)
			d := record.Drive{}
			for at := week.Add(time.Duration(n*151) * time.Second); at.Before(clock.at) && at.Before(now); at = at.Add(time.Hour) {
				pages, key, err := reader.Read(ctx, spec, at)
				if err != nil {
					return readings, err
				}
				d.Model, d.Serial = key.Model, key.Serial
				d.Readings = append(
					d.Readings, record.Reading{ID: rand.Text(), At: at, TookMs: 38, Tool: "bench", Pages: record.FromPages(pages)},
				)
			}
			f.Drives = append(f.Drives, d)
			if _, err := s.Import(ctx, access.Service, f); err != nil {
				return readings, err
			}
			readings += len(d.Readings)
		}
		if _, err := s.Fold(ctx); err != nil {
			return readings, err
		}
	}
	return readings, nil
}

// copies fills a shop with copies of its drives.
func copies(ctx context.Context, path string, n int) error {
	db, err := sqlx.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)&_pragma=cache_size(-200000)")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1)
	serial := `substr(d.serial, 1, length(d.serial) - 5) || printf('%05X', n * 64 + d.id)`
	for _, statement := range []string{
		`CREATE TEMP TABLE n AS WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < ?1) SELECT n FROM c`,
		`INSERT INTO drive (id, model, serial, identity, interface, medium, bytes, duty, first_seen, hints)
		 SELECT d.id + n * 1000, d.model, ` + serial + `, json_set(d.identity, '$.serial', ` + serial + `),
		        d.interface, d.medium, d.bytes, d.duty, d.first_seen, d.hints FROM n, drive d WHERE d.id < 1000 ORDER BY n, d.id`,
		`INSERT INTO reading (drive, seq, at, took, bay, run, step, tool, decoder, report, manifest, signals, leaves)
		 SELECT r.drive + n * 1000, r.seq, r.at, r.took, r.bay, 0, r.step, r.tool, r.decoder, r.report || '-' || n, r.manifest, r.signals,
		        r.leaves FROM n, reading r WHERE r.drive < 1000 ORDER BY n, r.drive, r.seq`,
		`INSERT INTO reading_raw (drive, seq, frame) SELECT r.drive + n * 1000, r.seq, r.frame FROM n, reading_raw r
		 WHERE r.drive < 1000 ORDER BY n, r.drive, r.seq`,
		`INSERT INTO stretch (drive, first, readings, began, ended, decoder, folded, pages, signals)
		 SELECT s.drive + n * 1000, s.first, s.readings, s.began, s.ended, s.decoder, s.folded, s.pages, s.signals FROM n, stretch s
		 WHERE s.drive < 1000 ORDER BY n, s.drive, s.first`,
		`INSERT INTO signal_change SELECT c.drive + n * 1000, c.seq, c.signal, c.at, c.hours, c.before, c.after FROM n, signal_change c
		 WHERE c.drive < 1000`,
		`INSERT INTO verdict SELECT v.drive + n * 1000, v.seq, v.at, v.reading, v.grade, v.policy, v.body, v.packed FROM n, verdict v
		 WHERE v.drive < 1000`,
		`INSERT INTO drive_now (drive, grade, verdict_seq, said, signed, margin, margin_share, findings, first, missing, hours, temperature,
		   readings, last_at, policy)
		 SELECT d.drive + n * 1000, d.grade, d.verdict_seq, d.said, NULL, d.margin, d.margin_share, d.findings, d.first, d.missing, d.hours,
		        d.temperature, d.readings, d.last_at, d.policy FROM n, drive_now d WHERE d.drive < 1000`,
		`INSERT INTO drive_text (rowid, serial, model, ticket, customer) SELECT id, serial, model, '', '' FROM drive WHERE id >= 1000`,
		`PRAGMA wal_checkpoint(TRUNCATE)`,
	} {
		if _, err := db.ExecContext(ctx, statement, n); err != nil {
			return fmt.Errorf("%.60s: %w", statement, err)
		}
	}
	return nil
}
