package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
)

// What is asked of the readings that lie in stretches, and done with them; stretch.go holds how they lie there.

// stretchOf gives the stretch that holds a reading, opened; nil when none does.
func (q queries) stretchOf(ctx context.Context, driveID int64, seq int) (*stretchRow, []held, error) {
	rows, err := q.stretches(ctx, driveID, `AND s.first <= ? ORDER BY s.first DESC LIMIT 1`, seq)
	if err != nil || len(rows) == 0 || seq >= rows[0].First+rows[0].Readings {
		return nil, nil, err
	}
	all, err := rows[0].open()
	return &rows[0], all, err
}

// heldReading gives a reading that lies in a stretch.
func (q queries) heldReading(ctx context.Context, driveID int64, seq int, none error) (shop.Reading, error) {
	s, all, err := q.stretchOf(ctx, driveID, seq)
	if err == nil && s == nil {
		err = none
	}
	if err != nil {
		return shop.Reading{}, err
	}
	h := all[seq-s.First]
	if h.folded {
		return shop.Reading{}, folded(all, h)
	}
	r, err := q.Reading(ctx, driveID, s.First-1)
	if err != nil {
		return shop.Reading{}, err
	}
	if r.Pages, err = patched(r.Pages, h.differs); err != nil {
		return r, fmt.Errorf("reading %d: %w", seq, err)
	}
	stands, err := q.standings(ctx, driveID)
	if err != nil {
		return r, err
	}
	r.Seq, r.At, r.Took, r.Report, r.Signals, r.Decoder = seq, h.at, h.took, h.report, h.signals, s.Decoder
	r.Said, r.Aside = time.Time{}, ""
	if st, ok := stands[seq]; ok {
		r.Aside = shop.Aside(st.Aside)
		if st.Placed != nil {
			r.Said, r.At = r.At, moment(*st.Placed)
		}
	}
	return r, nil
}

// folded says that of a reading nothing is known but when it was taken.
func folded(all []held, h held) error {
	before, after := all[0].seq-1, all[len(all)-1].seq+1
	for _, one := range all {
		switch {
		case one.folded:
		case one.seq < h.seq:
			before = one.seq
		default:
			after = min(after, one.seq)
		}
	}
	return &shop.Conflict{
		What: fmt.Sprintf("reading %d of %s is folded: between reading %d and %d only clocks and temperatures moved",
			h.seq, h.at.Format(time.DateTime), before, after),
		Advice: fmt.Sprintf("Look at reading %d.", before),
	}
}

// standing is how a reading in a stretch stands, where that is not as it came.
type standing struct {
	Seq    int    `db:"seq"`
	Aside  string `db:"aside"`
	Placed *int64 `db:"placed"`
}

func (q queries) standings(ctx context.Context, driveID int64) (map[int]standing, error) {
	var rows []standing
	err := sqlx.SelectContext(ctx, q.q, &rows, `SELECT seq, aside, placed FROM stretch_standing WHERE drive = ?`, driveID)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	all := make(map[int]standing, len(rows))
	for _, r := range rows {
		all[r.Seq] = r
	}
	return all, nil
}

// between puts the readings of a drive's stretches between its whole ones, in the order of their numbers. Of those that are folded the next
// one tells how many they are.
func (q queries) between(ctx context.Context, driveID int64, whole []shop.Moment, which string, args ...any) ([]shop.Moment, error) {
	rows, err := q.stretches(ctx, driveID, which, args...)
	if err != nil || len(rows) == 0 {
		return whole, err
	}
	stands, err := q.standings(ctx, driveID)
	if err != nil {
		return nil, err
	}
	n := len(whole)
	for i := range rows {
		n += rows[i].Readings
	}
	all := make([]shop.Moment, 0, n)
	folded := 0
	for i := range rows {
		r := &rows[i]
		to, found := slices.BinarySearchFunc(whole, r.First-1, func(m shop.Moment, seq int) int { return cmp.Compare(m.Seq, seq) })
		if !found {
			return nil, fmt.Errorf("reading %d: %w", r.First-1, errStretch)
		}
		whole[0].Folded = folded
		anchor := whole[to]
		all, whole = append(all, whole[:to+1]...), whole[to+1:]
		readings, err := r.open()
		if err != nil {
			return nil, err
		}
		folded = 0
		for _, h := range readings {
			if h.folded {
				folded++
				continue
			}
			m := anchor
			m.Seq, m.At, m.Signals, m.Said, m.Aside, m.Folded = h.seq, h.at, h.signals, time.Time{}, "", folded
			folded = 0
			if st, ok := stands[h.seq]; ok {
				m.Aside = shop.Aside(st.Aside)
				if st.Placed != nil {
					m.Said, m.At = m.At, moment(*st.Placed)
				}
			}
			all = append(all, m)
		}
	}
	if len(whole) > 0 {
		whole[0].Folded = folded
	}
	return append(all, whole...), nil
}

// saveHeldSignals changes what a reading in a stretch decodes to.
func (c Tx) saveHeldSignals(ctx context.Context, driveID int64, seq, decoder int, signals signal.Set) error {
	s, all, err := c.stretchOf(ctx, driveID, seq)
	if err != nil || s == nil || all[seq-s.First].folded {
		return err
	}
	all[seq-s.First].signals = signal.ValuesOf(signals)
	s.close(all)
	_, err = c.tx.ExecContext(
		ctx, `UPDATE stretch SET decoder = ?, signals = ? WHERE drive = ? AND first = ?`, decoder, s.Signals, driveID, s.First,
	)
	*c.last = last{}
	return err
}

// standHeld says how a reading in a stretch stands; false: none has that number.
func (c Tx) standHeld(ctx context.Context, driveID int64, seq int, aside shop.Aside, at time.Time) (bool, error) {
	s, all, err := c.stretchOf(ctx, driveID, seq)
	if err != nil || s == nil {
		return false, err
	}
	h := all[seq-s.First]
	if h.folded {
		return false, folded(all, h)
	}
	_, err = c.tx.ExecContext(
		ctx, `INSERT OR REPLACE INTO stretch_standing (drive, seq, aside, placed) VALUES (?, ?, ?, nullif(?, ?))`,
		driveID, seq, aside, millis(at), millis(h.at),
	)
	return err == nil, err
}

// HasReading serves a use case's Reader.
func (q queries) HasReading(ctx context.Context, of drive.Key, at time.Time, report string) (has bool, err error) {
	err = sqlx.GetContext(ctx, q.q, &has, `SELECT EXISTS (SELECT 1 FROM reading WHERE report = ?)`, report)
	if err != nil || has {
		return has, err
	}
	var driveID int64
	err = sqlx.GetContext(ctx, q.q, &driveID, `SELECT coalesce(max(id), 0) FROM drive WHERE serial = ? AND model = ?`, of.Serial, of.Model)
	if err != nil || driveID == 0 {
		return false, err
	}
	rows, err := q.stretches(ctx, driveID, `AND s.ended >= ? AND s.began <= ?`, millis(at), millis(at))
	if err != nil {
		return false, err
	}
	for i := range rows {
		all, err := rows[i].open()
		if err != nil {
			return false, err
		}
		same := func(h held) bool { return h.report == report && !h.folded || h.folded && millis(h.at) == millis(at) }
		if slices.ContainsFunc(all, same) {
			return true, nil
		}
	}
	return false, nil
}

// FoldedTimes serves a use case's Reader: when the readings were taken of which nothing else is known, by the number of the reading before.
func (q queries) FoldedTimes(ctx context.Context, driveID int64) (map[int][]time.Time, error) {
	rows, err := q.stretches(ctx, driveID, `AND s.folded = 1`)
	all := map[int][]time.Time{}
	for i := range rows {
		readings, err := rows[i].open()
		if err != nil {
			return nil, err
		}
		before := rows[i].First - 1
		for _, h := range readings {
			if h.folded {
				all[before] = append(all[before], h.at)
			} else {
				before = h.seq
			}
		}
	}
	return all, err
}

// ReadingTimes serves a use case's Reader.
func (q queries) ReadingTimes(ctx context.Context, driveID int64, since time.Time, limit int) ([]time.Time, error) {
	var at []int64
	err := sqlx.SelectContext(
		ctx, q.q, &at, `SELECT at FROM reading WHERE drive = ? AND at >= ? ORDER BY seq DESC LIMIT ?`, driveID, millis(since), limit,
	)
	if err != nil {
		return nil, err
	}
	rows, err := q.stretches(ctx, driveID, `AND s.ended >= ? ORDER BY s.first DESC`, millis(since))
	if err != nil {
		return nil, err
	}
	for i := range rows {
		readings, err := rows[i].open()
		if err != nil {
			return nil, err
		}
		for _, h := range readings {
			if !h.at.Before(since) {
				at = append(at, millis(h.at))
			}
		}
	}
	slices.SortFunc(at, func(a, b int64) int { return cmp.Compare(b, a) })
	all := make([]time.Time, min(limit, len(at)))
	for i := range all {
		all[i] = moment(at[i])
	}
	return all, nil
}

// Unfolded serves a use case's Reader: the drives, after one, that have stretches none of which is folded yet.
func (q queries) Unfolded(ctx context.Context, after int64, limit int) (drives []int64, err error) {
	err = sqlx.SelectContext(
		ctx, q.q, &drives, `SELECT DISTINCT drive FROM stretch WHERE folded = 0 AND drive > ? ORDER BY drive LIMIT ?`, after, limit,
	)
	return drives, err
}

// Stretches serves a use case's Reader: those of a drive that ended before a moment and are not folded, as the numbers of their readings.
func (q queries) Stretches(ctx context.Context, driveID int64, before time.Time) ([]shop.Stretch, error) {
	var rows []struct {
		First    int `db:"first"`
		Readings int `db:"readings"`
	}
	err := sqlx.SelectContext(
		ctx, q.q, &rows, `SELECT first, readings FROM stretch WHERE drive = ? AND folded = 0 AND ended < ? ORDER BY first`,
		driveID, millis(before),
	)
	all := make([]shop.Stretch, len(rows))
	for i, r := range rows {
		all[i] = shop.Stretch{First: r.First, Last: r.First + r.Readings - 1}
	}
	return all, err
}

// ToldReadings serves a use case's Reader.
func (q queries) ToldReadings(ctx context.Context, driveID int64) (seqs []int, err error) {
	err = sqlx.SelectContext(ctx, q.q, &seqs, `
		SELECT coalesce(body ->> '$.reading', 0) FROM alert WHERE drive = ?1
		UNION SELECT coalesce(m.body ->> '$.alert.reading', 0) FROM message m JOIN alert a ON a.id = m.alert WHERE a.drive = ?1`, driveID)
	return seqs, err
}

// Fold serves a use case's Tx: of the readings of a stretch that are named only the times stay.
func (c Tx) Fold(ctx context.Context, driveID int64, first int, seqs []int) error {
	s, all, err := c.stretchOf(ctx, driveID, first)
	if err != nil {
		return err
	}
	if s == nil || s.First != first || s.Folded {
		return fmt.Errorf("no stretch of drive %d to be folded begins with reading %d", driveID, first)
	}
	for _, seq := range seqs {
		if seq < first || seq >= first+len(all) {
			return fmt.Errorf("reading %d is not of the stretch after reading %d", seq, first-1)
		}
		all[seq-first].folded, all[seq-first].signals = true, signal.Values{}
	}
	s.close(all)
	_, err = c.tx.ExecContext(
		ctx, `UPDATE stretch SET folded = 1, pages = ?, signals = ? WHERE drive = ? AND first = ?`, s.Pages, s.Signals, driveID, first,
	)
	*c.last = last{}
	return err
}
