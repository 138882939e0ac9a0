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
	c.cut(cmp.Or(max(n, 0), -1)) // 0 and less: there is none
	return x
}

func (c *cutter) varint() int64 {
	x := c.uvarint()
	return int64(x>>1) ^ -int64(x&1) // zigzag, as encoding/binary writes it
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
