package store

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/seal"
	"hylostat.example/internal/sqlite"
)

// Outside is a shop's database seen from outside: nothing is changed, and it may be of an earlier version, or in use.
type Outside struct {
	queries
	path string
}

// Look opens one; end closes it.
func Look(path string) (o *Outside, end func(), err error) {
	db, end, err := sqlite.Reader(path)
	if err != nil {
		return nil, nil, err
	}
	return &Outside{queries{db, sqlite.NewCompressor(), &sync.Map{}, true}, path}, end, nil
}

// Shop gives the shop's id and the key by which it signs, which is zero when it has none yet.
func (o *Outside) Shop(ctx context.Context) (id string, k seal.Key, err error) {
	var row struct {
		ID   string `db:"id"`
		Seal []byte `db:"seal"`
	}
	if err := sqlx.GetContext(ctx, o.q, &row, `SELECT id, seal FROM shop`); err != nil {
		return "", k, fmt.Errorf("%s is no shop's database, or of an earlier version: start the program with it once (%w)", o.path, err)
	}
	if len(row.Seal) > 0 {
		k, err = seal.FromSeed(row.Seal)
	}
	return row.ID, k, err
}

// Count is how many there are of something.
type Count struct {
	What string `json:"what"`
	N    int64  `json:"n"`
}

// Counts counts what is recorded.
func (o *Outside) Counts(ctx context.Context) (all []Count, err error) {
	for _, c := range []struct{ what, query string }{
		{"drives", `SELECT COUNT(*) FROM drive`},
		{"readings", `SELECT (SELECT COUNT(*) FROM reading) + (SELECT COALESCE(SUM(readings), 0) FROM stretch)`},
		{"verdicts", `SELECT COUNT(*) FROM verdict`},
		{"signed verdicts", `SELECT COUNT(*) FROM sign_off`},
		{"intakes", `SELECT COUNT(*) FROM intake`},
		{"open intakes", `SELECT COUNT(*) FROM intake WHERE open = 1`},
		{"runs", `SELECT COUNT(*) FROM run`},
		{"open runs", `SELECT COUNT(*) FROM run WHERE done = 0`},
		{"people", `SELECT COUNT(*) FROM person`},
		{"rows of the audit", `SELECT COUNT(*) FROM audit`},
	} {
		one := Count{What: c.what}
		if err := sqlx.GetContext(ctx, o.q, &one.N, c.query); err != nil {
			return nil, fmt.Errorf("counting %s in %s: %w", c.what, o.path, err)
		}
		all = append(all, one)
	}
	return all, nil
}

// Orphans tells of what belongs to something that is not there, and does not follow what it should, beyond what refers to it by name.
func (o *Outside) Orphans(ctx context.Context) (all []string, err error) {
	for _, c := range []struct{ what, query string }{
		{
			"bytes without their reading",
			`SELECT COUNT(*) FROM reading_raw AS r WHERE NOT EXISTS (SELECT 1 FROM reading WHERE drive = r.drive AND seq = r.seq)`,
		},
		{
			"rows of readings without the one they follow",
			`SELECT COUNT(*) FROM stretch AS s WHERE NOT EXISTS (SELECT 1 FROM reading WHERE drive = s.drive AND seq = s.first - 1)`,
		},
		{
			"drives that lists have in the wrong place",
			`SELECT COUNT(*) FROM drive d JOIN drive_place p ON p.drive = d.id WHERE (d.urgency, d.spare) IS NOT (p.urgency, p.spare)`,
		},
		{"drives that no search finds", `SELECT COUNT(*) FROM drive WHERE NOT EXISTS (SELECT 1 FROM drive_text WHERE rowid = drive.id)`},
	} {
		var n int64
		if err := sqlx.GetContext(ctx, o.q, &n, c.query); err != nil {
			return nil, fmt.Errorf("counting %s in %s: %w", c.what, o.path, err)
		}
		if n > 0 {
			all = append(all, fmt.Sprintf("%d %s", n, c.what))
		}
	}
	return all, nil
}

// Last is the time of the last event; zero: there is none.
func (o *Outside) Last(ctx context.Context) (time.Time, error) {
	id, err := o.LastEvent(ctx)
	if err != nil || id == 0 {
		return time.Time{}, err
	}
	all, err := o.Events(ctx, id-1, 1)
	if err != nil || len(all) == 0 {
		return time.Time{}, err
	}
	return all[0].At, nil
}

// Taken gives, for each bench, the sequence of its newest report that is stored.
func (o *Outside) Taken(ctx context.Context) (map[string]int64, error) {
	var rows []struct {
		Name  string `db:"name"`
		Taken int64  `db:"taken"`
	}
	if err := sqlx.SelectContext(ctx, o.q, &rows, `SELECT name, taken FROM bench`); err != nil {
		return nil, err
	}
	all := map[string]int64{}
	for _, r := range rows {
		all[r.Name] = r.Taken
	}
	return all, nil
}
