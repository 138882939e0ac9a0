package store

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base32"
	"encoding/binary"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
)

// A stretch holds the readings that follow a whole one, its anchor, and differ from it in a few bytes. They share with it where and how
// they were taken and which pages there are. The column pages holds of each of them, one after the other, in varints: the milliseconds
// since the reading before; 0 where it is folded, else the length of the rest plus 1; how many milliseconds it took; its report, see
// appendID; and the bytes that differ from the anchor's pages, laid end to end, see appendDiffering. The column signals holds, of those
// that are not folded, a length and the bytes of signal.PackAfter.
//
// Folding leaves of a reading the moment at which it was taken. What may be folded is not decided here.

const (
	longestStretch = 64  // readings
	mostDiffers    = 160 // bytes that differ; a reading that differs more is stored whole
)

// held is one reading of a stretch.
type held struct {
	seq     int
	at      time.Time // as it came
	folded  bool      // nothing but these is known of it
	took    time.Duration
	report  string
	differs []byte
	signals signal.Values
}

type stretchRow struct {
	First    int    `db:"first"`
	Readings int    `db:"readings"`
	Decoder  int    `db:"decoder"`
	Folded   bool   `db:"folded"`
	Pages    []byte `db:"pages"`
	Signals  []byte `db:"signals"`
	From     int64  `db:"since"` // when its anchor was read, as it came
}

const selectStretch = `
	SELECT s.first, s.readings, s.decoder, s.folded, s.pages, s.signals,
	       (SELECT at FROM reading r WHERE r.drive = s.drive AND r.seq = s.first - 1) AS since
	FROM stretch s WHERE s.drive = ? `

// stretches reads those of a drive that a condition of ours chooses.
func (q queries) stretches(ctx context.Context, driveID int64, which string, args ...any) (rows []stretchRow, err error) {
	err = sqlx.SelectContext(ctx, q.q, &rows, selectStretch+which, append([]any{driveID}, args...)...)
	return rows, err
}

var errStretch = errors.New("the readings after it are damaged")

// open gives the readings of a stretch.
func (r *stretchRow) open() ([]held, error) {
	all := make([]held, 0, r.Readings)
	pages, signals := cutter{rest: r.Pages}, cutter{rest: r.Signals}
	at := r.From
	var values signal.Values
	for seq := r.First; len(pages.rest) > 0; seq++ {
		at += pages.varint()
		h := held{seq: seq, at: moment(at), folded: true}
		if n := pages.uvarint(); n > 0 {
			body := cutter{rest: pages.bytes(n - 1)}
			h.folded, h.took, h.report = false, time.Duration(body.uvarint())*time.Millisecond, body.id()
			h.differs = body.rest
			var err error
			if values, err = signal.UnpackAfter(values, signals.bytes(signals.uvarint())); err != nil {
				return nil, fmt.Errorf("reading %d: %w", seq, err)
			}
			h.signals = values
			pages.damaged = pages.damaged || body.damaged
		}
		if pages.damaged || signals.damaged {
			return nil, fmt.Errorf("reading %d: %w", r.First-1, errStretch)
		}
		all = append(all, h)
	}
	if len(all) != r.Readings || len(signals.rest) > 0 {
		return nil, fmt.Errorf("reading %d: %w", r.First-1, errStretch)
	}
	return all, nil
}

// append writes a reading behind those of a stretch; last is the one before it.
func (r *stretchRow) append(h held, last held) {
	r.Pages = binary.AppendVarint(r.Pages, millis(h.at)-millis(last.at))
	r.Readings++
	if h.folded {
		r.Pages = append(r.Pages, 0)
		return
	}
	body := binary.AppendUvarint(nil, uint64(max(0, h.took.Milliseconds())))
	body = append(appendID(body, h.report), h.differs...)
	r.Pages = append(binary.AppendUvarint(r.Pages, uint64(len(body)+1)), body...)
	moved := signal.PackAfter(last.signals, h.signals)
	r.Signals = append(binary.AppendUvarint(r.Signals, uint64(len(moved))), moved...)
}

// close writes the readings of a stretch, which open gave, anew.
func (r *stretchRow) close(all []held) {
	r.Pages, r.Signals, r.Readings = nil, []byte{}, 0
	before := held{at: moment(r.From)}
	for _, h := range all {
		r.append(h, before)
		if h.folded { // what moved is told against the last that tells something
			before.at = h.at
		} else {
			before = h
		}
	}
}

// cutter takes varints and bytes from the front; damaged, it gives nothing.
type cutter struct {
	rest    []byte
	damaged bool
}

func (c *cutter) cut(n int) []byte {
	if n < 0 || n > len(c.rest) || c.damaged {
		c.damaged, c.rest = true, nil
		return nil
	}
	front := c.rest[:n]
	c.rest = c.rest[n:]
	return front
}

func (c *cutter) bytes(n uint64) []byte { return c.cut(int(min(n, 1<<31))) }

func (c *cutter) uvarint() uint64 {
	x, n := binary.Uvarint(c.rest)
	if n <= 0 {
		n = -1
	}
	c.cut(n)
	return x
}

func (c *cutter) varint() int64 {
	x, n := binary.Varint(c.rest)
	if n <= 0 {
		n = -1
	}
	c.cut(n)
	return x
}

// A report's id is 26 letters and digits of base 32, 130 random bits. Those are 17 bytes, behind a zero; any other text is as it is, behind
// its length plus 1.
const (
	idLetters = 26
	idBytes   = 17
)

var base32ID = base32.StdEncoding.WithPadding(base32.NoPadding)

func appendID(b []byte, id string) []byte {
	if len(id) == idLetters {
		packed, err := base32ID.DecodeString(id)
		if err == nil && len(packed) == idBytes-1 && unpackID(packed, id[idLetters-1]) == id {
			return append(append(append(b, 0), packed...), id[idLetters-1])
		}
	}
	return append(binary.AppendUvarint(b, uint64(len(id)+1)), id...)
}

// unpackID puts an id together; the last letter has what is beyond whole bytes.
func unpackID(packed []byte, last byte) string {
	return base32ID.EncodeToString(packed)[:idLetters-1] + string(last)
}

func (c *cutter) id() string {
	n := c.uvarint()
	if n > 0 {
		return string(c.bytes(n - 1))
	}
	packed := c.cut(idBytes)
	if packed == nil {
		return ""
	}
	return unpackID(packed[:idBytes-1], packed[idBytes-1])
}

// alike reports whether there are the same pages in both readings, come by the same way and of the same size.
func alike(a, b []reading.Page) bool {
	return slices.EqualFunc(a, b, func(x, y reading.Page) bool {
		return x.Name == y.Name && x.How == y.How && len(x.Bytes) == len(y.Bytes) && reflect.DeepEqual(x.Fault, y.Fault)
	})
}

// together is how few equal bytes between two that differ are told with them.
const together = 2

// appendDiffering writes which bytes of some pages differ from those of an anchor, which has the same pages: how many are the same, how
// many are not, and these, as often as there are any.
func appendDiffering(b []byte, anchor, pages []reading.Page) []byte {
	same, tail := 0, 0 // how many are the same before the run, and at its end
	var run []byte
	end := func() {
		if len(run) > 0 {
			b = append(binary.AppendUvarint(b, uint64(len(run)-tail)), run[:len(run)-tail]...)
			same, tail, run = tail, 0, run[:0]
		}
	}
	for i, p := range pages {
		was := anchor[i].Bytes
		if bytes.Equal(was, p.Bytes) {
			end()
			same += len(was)
			continue
		}
		for n, x := range p.Bytes {
			switch {
			case x != was[n] && len(run) == 0:
				b = binary.AppendUvarint(b, uint64(same))
				run = append(run, x)
			case x != was[n]:
				run, tail = append(run, x), 0
			case len(run) == 0:
				same++
			default:
				run, tail = append(run, x), tail+1
				if tail > together {
					end()
				}
			}
		}
	}
	end()
	return b
}

// patched gives the pages that differ from an anchor's.
func patched(anchor []reading.Page, differs []byte) ([]reading.Page, error) {
	all := slices.Clone(anchor)
	c, at, i, own := cutter{rest: differs}, 0, 0, false
	for len(c.rest) > 0 {
		at += int(min(c.uvarint(), 1<<31))
		for _, x := range c.bytes(c.uvarint()) {
			for i < len(all) && at >= len(all[i].Bytes) {
				at -= len(all[i].Bytes)
				i, own = i+1, false
			}
			if i == len(all) {
				return nil, errStretch
			}
			if !own {
				all[i].Bytes, own = bytes.Clone(all[i].Bytes), true
			}
			all[i].Bytes[at] = x
			at++
		}
	}
	if c.damaged {
		return nil, errStretch
	}
	return all, nil
}

// extend stores a reading in the stretch behind the last whole one, which is the anchor in c.last; false: it differs too much.
func (c Tx) extend(ctx context.Context, r *shop.Reading, signals signal.Set) (bool, error) {
	a := &c.last.anchor
	if c.last.anchored == 0 || r.Run != 0 || r.Aside != "" || r.Bay != a.Bay || r.Step != a.Step || r.Tool != a.Tool ||
		r.Decoder != a.Decoder || r.Origin != a.Origin || a.Run != 0 || a.Aside != "" || c.last.stretch.Folded ||
		c.last.stretch.Readings >= longestStretch ||
		c.last.stretch.Readings > 0 && c.last.stretch.Decoder != r.Decoder || len(r.Pages) != len(c.last.leaves) {
		return false, nil
	}
	if c.last.pages == nil {
		if err := c.last.frames.fetch(ctx, c.last.leaves); err != nil {
			return false, err
		}
		c.last.pages = make([]reading.Page, len(c.last.leaves))
		for i, l := range c.last.leaves {
			var err error
			if c.last.pages[i], err = c.last.frames.page(ctx, l); err != nil {
				return false, fmt.Errorf("reading %d, page %s: %w", c.last.anchored, l.name, err)
			}
		}
	}
	if !alike(c.last.pages, r.Pages) {
		return false, nil
	}
	h := held{
		seq: r.Seq, at: moment(millis(r.At)), took: r.Took, report: r.Report, signals: signal.ValuesOf(signals),
		differs: appendDiffering(nil, c.last.pages, r.Pages),
	}
	if len(h.differs) > mostDiffers {
		return false, nil
	}
	s := &c.last.stretch
	s.append(h, c.last.held)
	c.last.held = h
	at := millis(h.at)
	statement := `UPDATE stretch SET readings = ?3, decoder = ?5, began = min(began, ?4), ended = max(ended, ?4), pages = ?6, signals = ?7
		WHERE drive = ?1 AND first = ?2`
	if s.Readings == 1 {
		s.Decoder = r.Decoder
		statement = `INSERT INTO stretch (drive, first, readings, began, ended, decoder, pages, signals)
			VALUES (?1, ?2, ?3, ?4, ?4, ?5, ?6, ?7)`
	}
	_, err := c.tx.ExecContext(ctx, statement, r.Drive, s.First, s.Readings, at, r.Decoder, s.Pages, s.Signals)
	return err == nil, err
}

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
