package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
)

// oldLeaf is one page in the manifest of a reading from before the packed form.
type oldLeaf struct {
	Name  reading.PageName `json:"n"`
	How   string           `json:"h,omitempty"`
	Hash  string           `json:"x,omitempty"` // first 12 bytes of SHA-256, hex
	Seq   int              `json:"s,omitempty"` // the reading that holds the bytes
	At    int              `json:"o,omitempty"` // offset in its frame
	Size  int              `json:"z,omitempty"`
	Fault *drive.Fault     `json:"f,omitempty"`
}

// manifest reads a reading's leaves in either form.
func (q queries) manifest(ctx context.Context, old string, packed []byte) ([]leaf, error) {
	if packed != nil {
		all, err := unpack(packed)
		if err == nil {
			err = q.kinds(ctx, all)
		}
		return all, err
	}
	var leaves []oldLeaf
	if err := decode(old, &leaves); err != nil {
		return nil, err
	}
	all := make([]leaf, len(leaves))
	for i, l := range leaves {
		all[i] = leaf{name: l.Name, how: l.How, fault: l.Fault, seq: l.Seq, at: l.At, size: l.Size}
		hash, err := hex.DecodeString(l.Hash)
		if err != nil {
			return nil, errManifest
		}
		copy(all[i].hash[:], hash)
	}
	return all, nil
}

// AddReading serves a use case's Tx. Only pages that differ from the previous reading's are stored again.
func (c Tx) AddReading(ctx context.Context, r *shop.Reading, signals signal.Set) error {
	if err := c.recall(ctx, r.Drive); err != nil {
		return err
	}
	r.Seq = c.last.seq + 1
	if done, err := c.extend(ctx, r, signals); err != nil || done {
		c.last.seq = r.Seq
		return err
	}
	all, fresh, err := c.leaves(ctx, r.Seq, r.Pages)
	if err != nil {
		return err
	}
	if _, err := c.tx.ExecContext(
		ctx,
		`
		INSERT INTO reading (drive, seq, at, took, bench, bay, run, step, tool, decoder, report, aside, origin, manifest, leaves, signals)
		  VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '', ?, ?)`,
		r.Drive,
		r.Seq,
		millis(r.At),
		r.Took.Milliseconds(),
		r.Bay.Bench,
		r.Bay.Number,
		r.Run,
		r.Step,
		r.Tool,
		r.Decoder,
		r.Report,
		r.Aside,
		r.Origin,
		pack(all),
		signal.Pack(signals),
	); err != nil {
		return err
	}
	if len(fresh) > 0 {
		if _, err := c.tx.ExecContext(
			ctx,
			`INSERT INTO reading_raw (drive, seq, frame) VALUES (?, ?, ?)`,
			r.Drive,
			r.Seq,
			c.Compress(fresh),
		); err != nil {
			return err
		}
		c.last.frames.open[r.Seq] = fresh
	}
	c.last.seq, c.last.leaves, c.last.pages = r.Seq, all, r.Pages
	c.last.anchored, c.last.anchor = r.Seq, *r
	c.last.stretch, c.last.held = stretchRow{First: r.Seq + 1, From: millis(r.At)}, held{at: r.At}
	return nil
}

// last is the latest reading of the drive that readings were added to last in this change: more of them are likely to follow.
type last struct {
	drive    int64
	seq      int          // 0: it has none
	anchored int          // the last that is stored whole; 0: none
	anchor   shop.Reading // that one, as far as those of a stretch share it
	leaves   []leaf
	pages    []reading.Page // where they are at hand, one for each leaf
	stretch  stretchRow     // of those behind the anchor
	held     held           // the last of them, or when the anchor was read
	frames   frameCache
}

// recall makes c.last that of a drive.
func (c Tx) recall(ctx context.Context, driveID int64) error {
	if c.last.drive == driveID {
		return nil
	}
	*c.last = last{}
	var row readingRow
	err := c.tx.GetContext(ctx, &row, selectReading+`WHERE drive = ? ORDER BY seq DESC LIMIT 1`, driveID)
	found := last{drive: driveID, seq: row.Seq, anchored: row.Seq, frames: frameCache{c.queries, driveID, map[int][]byte{}}}
	if errors.Is(err, sql.ErrNoRows) {
		*c.last = found
		return nil
	}
	if err != nil {
		return err
	}
	if found.leaves, err = c.manifest(ctx, row.Manifest, row.Leaves); err != nil {
		return fmt.Errorf("reading %d: %w", row.Seq, err)
	}
	found.anchor = row.reading(driveID)
	found.stretch, found.held = stretchRow{First: row.Seq + 1, From: row.At}, held{at: moment(row.At)}
	rows, err := c.stretches(ctx, driveID, `AND s.first = ?`, row.Seq+1)
	if err != nil {
		return err
	}
	if len(rows) > 0 {
		all, err := rows[0].open()
		if err != nil {
			return err
		}
		found.stretch, found.held = rows[0], all[len(all)-1]
		found.seq = found.held.seq
	}
	*c.last = found
	return nil
}

// SaveSignals serves a use case's Tx: the pages stay, what they decode to is derived anew.
func (c Tx) SaveSignals(ctx context.Context, driveID int64, seq, decoder int, signals signal.Set) error {
	res, err := c.tx.ExecContext(
		ctx,
		`UPDATE reading SET signals = ?, decoder = ? WHERE drive = ? AND seq = ?`,
		signal.Pack(signals),
		decoder,
		driveID,
		seq,
	)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		*c.last = last{}
		return err
	}
	return c.saveHeldSignals(ctx, driveID, seq, decoder, signals)
}

const selectReading = `
	SELECT seq, at, placed, aside, origin, took, bench, bay, run, step, tool, decoder, report, manifest, leaves, signals
	FROM reading `

type readingRow struct {
	Seq      int    `db:"seq"`
	At       int64  `db:"at"`
	Placed   *int64 `db:"placed"`
	Aside    string `db:"aside"`
	Origin   string `db:"origin"`
	Took     int64  `db:"took"`
	Bench    string `db:"bench"`
	Bay      int    `db:"bay"`
	Run      int64  `db:"run"`
	Step     string `db:"step"`
	Tool     string `db:"tool"`
	Decoder  int    `db:"decoder"`
	Report   string `db:"report"`
	Manifest string `db:"manifest"`
	Leaves   []byte `db:"leaves"`
	Signals  []byte `db:"signals"`
}

// reading gives what a row tells by itself: all but pages and signals.
func (row *readingRow) reading(driveID int64) shop.Reading {
	r := shop.Reading{
		Drive:   driveID,
		Seq:     row.Seq,
		At:      moment(row.At),
		Took:    time.Duration(row.Took) * time.Millisecond,
		Bay:     drive.Bay{Bench: row.Bench, Number: row.Bay},
		Run:     row.Run,
		Step:    check.StepKind(row.Step),
		Tool:    row.Tool,
		Decoder: row.Decoder,
		Report:  row.Report,
		Aside:   shop.Aside(row.Aside),
		Origin:  row.Origin,
	}
	if row.Placed != nil {
		r.Said, r.At = r.At, moment(*row.Placed)
	}
	return r
}

// Reading serves a use case's Reader.
func (q queries) Reading(ctx context.Context, driveID int64, seq int) (shop.Reading, error) {
	var row readingRow
	err := sqlx.GetContext(ctx, q.q, &row, selectReading+`WHERE drive = ? AND seq = ?`, driveID, seq)
	if err != nil {
		err = missing(err, fmt.Sprintf("no reading %d of this drive", seq), "List its readings.")
		if !shop.IsNone(err) {
			return shop.Reading{}, err
		}
		return q.heldReading(ctx, driveID, seq, err)
	}
	r := row.reading(driveID)
	if r.Signals, err = signal.Unpack(row.Signals); err != nil {
		return r, err
	}
	manifest, err := q.manifest(ctx, row.Manifest, row.Leaves)
	if err != nil {
		return r, fmt.Errorf("reading %d: %w", seq, err)
	}
	frames := frameCache{q, driveID, map[int][]byte{}}
	if err := frames.fetch(ctx, manifest); err != nil {
		return r, err
	}
	r.Pages = make([]reading.Page, len(manifest))
	for i, l := range manifest {
		if r.Pages[i], err = frames.page(ctx, l); err != nil {
			return r, fmt.Errorf("reading %d, page %s: %w", seq, l.name, err)
		}
	}
	return r, nil
}

// Moments serves a use case's Reader: the readings that count, in the order of time. Those taken elsewhere may come in late.
func (q queries) Moments(ctx context.Context, driveID int64) ([]shop.Moment, error) {
	all, err := q.AllMoments(ctx, driveID)
	return slices.DeleteFunc(all, func(m shop.Moment) bool { return m.Aside != "" }), err
}

// AllMoments serves a use case's Reader: Moments, and those of the readings that do not count.
func (q queries) AllMoments(ctx context.Context, driveID int64) ([]shop.Moment, error) {
	// They lie together by seq; by time, each would be looked for on its own.
	all, err := q.moments(ctx, driveID, `1 ORDER BY seq`)
	if err == nil && len(all) > 0 {
		all, err = q.between(ctx, driveID, all, `ORDER BY s.first`)
	}
	slices.SortStableFunc(all, func(a, b shop.Moment) int { return a.At.Compare(b.At) })
	return all, err
}

// Latest serves a use case's Reader.
func (q queries) Latest(ctx context.Context, driveID int64) (shop.Moment, error) {
	all, err := q.moments(ctx, driveID, `aside = '' ORDER BY coalesce(placed, at) DESC, seq DESC LIMIT 1`)
	if err != nil {
		return shop.Moment{}, err
	}
	// That of the stretch which ended last may be later. Where somebody set readings aside, or their time, nothing is as it came.
	var in struct {
		Stood int  `db:"stood"`
		First *int `db:"first"`
	}
	if err := sqlx.GetContext(ctx, q.q, &in, `
		SELECT (SELECT count(*) FROM stretch_standing WHERE drive = ?1) AS stood,
		       (SELECT first FROM stretch WHERE drive = ?1 ORDER BY ended DESC, first DESC LIMIT 1) AS first`, driveID,
	); err != nil {
		return shop.Moment{}, err
	}
	if in.First != nil {
		var whole []shop.Moment
		if in.Stood > 0 {
			whole, err = q.Moments(ctx, driveID)
		} else if whole, err = q.moments(ctx, driveID, fmt.Sprintf(`seq = %d`, *in.First-1)); err == nil {
			whole, err = q.between(ctx, driveID, whole, `AND s.first = ?`, *in.First)
		}
		if err != nil {
			return shop.Moment{}, err
		}
		all = append(all, slices.DeleteFunc(whole, func(m shop.Moment) bool { return m.Aside != "" })...)
	}
	if len(all) == 0 {
		return shop.Moment{}, &shop.NotFound{What: "no reading of this drive", Advice: "Take one."}
	}
	return slices.MaxFunc(all, func(a, b shop.Moment) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Seq, b.Seq)) }), nil
}

// moments reads those of a drive that a condition of ours chooses.
func (q queries) moments(ctx context.Context, driveID int64, which string) ([]shop.Moment, error) {
	rows, err := q.q.QueryContext(
		ctx, `SELECT seq, at, placed, aside, origin, bench, bay, run, step, signals FROM reading WHERE drive = ? AND `+which, driveID,
	)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	all := make([]shop.Moment, 0, 24)
	var packed sql.RawBytes // a shop of many years has a million of these, so nothing is copied twice
	for rows.Next() {
		var m shop.Moment
		var at int64
		var placed *int64
		if err := rows.Scan(
			&m.Seq, &at, &placed, &m.Aside, &m.Origin, &m.Place.Bench, &m.Place.Number, &m.Run, &m.Step, &packed,
		); err != nil {
			return nil, err
		}
		m.At = moment(at)
		if placed != nil {
			m.Said, m.At = m.At, moment(*placed)
		}
		if m.Signals, err = signal.Unpack(packed); err != nil {
			return nil, fmt.Errorf("reading %d: %w", m.Seq, err)
		}
		all = append(all, m)
	}
	return all, rows.Err()
}

// StandReading serves a use case's Tx. The time a reading came with stays beside the one that counts.
func (c Tx) StandReading(ctx context.Context, driveID int64, seq int, aside shop.Aside, at time.Time) error {
	res, err := c.tx.ExecContext(
		ctx, `UPDATE reading SET aside = ?, placed = nullif(?, at) WHERE drive = ? AND seq = ?`, aside, millis(at), driveID, seq,
	)
	if err != nil {
		return err
	}
	n, err := res.RowsAffected()
	if err != nil || n == 1 {
		return err
	}
	if found, err := c.standHeld(ctx, driveID, seq, aside, at); err != nil || found {
		return err
	}
	return &shop.NotFound{What: fmt.Sprintf("no reading %d of this drive", seq), Advice: "List its readings."}
}

// AddChange serves a use case's Tx.
func (c Tx) AddChange(ctx context.Context, driveID int64, x shop.Change) error {
	_, err := c.tx.ExecContext(ctx, `INSERT INTO signal_change (drive, seq, signal, at, hours, before, after) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		driveID, x.Seq, x.Signal, millis(x.At), x.Hours, x.Before, x.After)
	return err
}

// ForgetChanges serves a use case's Tx.
func (c Tx) ForgetChanges(ctx context.Context, driveID int64) error {
	_, err := c.tx.ExecContext(ctx, `DELETE FROM signal_change WHERE drive = ?`, driveID)
	return err
}

// Changes serves a use case's Reader.
func (q queries) Changes(ctx context.Context, driveID int64) ([]shop.Change, error) {
	var rows []struct {
		Seq    int     `db:"seq"`
		Signal string  `db:"signal"`
		At     int64   `db:"at"`
		Hours  float64 `db:"hours"`
		Before float64 `db:"before"`
		After  float64 `db:"after"`
	}
	if err := sqlx.SelectContext(
		ctx,
		q.q,
		&rows,
		`SELECT seq, signal, at, hours, before, after FROM signal_change WHERE drive = ? ORDER BY at, seq`,
		driveID,
	); err != nil {
		return nil, err
	}
	all := make([]shop.Change, len(rows))
	for i, r := range rows {
		all[i] = shop.Change{Signal: signal.Name(r.Signal), Seq: r.Seq, At: moment(r.At), Hours: r.Hours, Before: r.Before, After: r.After}
	}
	return all, nil
}
