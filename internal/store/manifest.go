package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
)

// leaf is one page in a reading's manifest: where its bytes are, or the fault that stands for them.
//
// A page that differs from the one before is stored as the difference (XOR) to its base, the last one stored whole: most
// bytes of a counter page stay the same from reading to reading, and zeros pack well.
type leaf struct {
	kind int64
	name reading.PageName
	how  string
	// fault is nil when there are bytes.
	fault *drive.Fault

	hash         [8]byte // of the page, for telling whether it changed
	seq, at      int     // the reading whose frame holds the bytes, and where
	size         int
	base, baseAt int // the reading and place of the whole page these bytes differ from; 0: these are whole
}

// rebase is how many readings a page may be stored as a difference before it is stored whole again.
const rebase = 128

// pack writes leaves as varints: kind, then for pages with bytes size plus 1, place, base and hash; 0 for a fault.
func pack(all []leaf) []byte {
	b := make([]byte, 0, 16*len(all))
	for _, l := range all {
		b = binary.AppendUvarint(b, uint64(l.kind))
		if l.fault != nil {
			b = append(b, 0)
			continue
		}
		for _, n := range []int{l.size + 1, l.seq, l.at, l.base} {
			b = binary.AppendUvarint(b, uint64(n))
		}
		if l.base != 0 {
			b = binary.AppendUvarint(b, uint64(l.baseAt))
		}
		b = append(b, l.hash[:]...)
	}
	return b
}

var errManifest = errors.New("the manifest is damaged")

func unpack(b []byte) ([]leaf, error) {
	next := func() int {
		n, size := binary.Uvarint(b)
		if size <= 0 {
			b = nil
			return -1
		}
		b = b[size:]
		return int(n)
	}
	all := make([]leaf, 0, len(b)/14) // one takes some 14 bytes
	for len(b) > 0 {
		l := leaf{kind: int64(next())}
		switch size := next(); {
		case size < 0:
			return nil, errManifest
		case size > 0:
			l.size, l.seq, l.at, l.base = size-1, next(), next(), next()
			if l.base > 0 {
				l.baseAt = next()
			}
			if len(b) < len(l.hash) || l.seq < 1 || l.at < 0 || l.base < 0 || l.baseAt < 0 {
				return nil, errManifest
			}
			copy(l.hash[:], b)
			b = b[len(l.hash):]
		}
		all = append(all, l)
	}
	return all, nil
}

// kindKey is what a leaf shares with others.
type kindKey struct {
	name       reading.PageName
	how, fault string
}

// kind is the same, as it serves a use case's Reader. Nobody changes one: they are shared.
type kind struct {
	name  reading.PageName
	how   string
	fault *drive.Fault
}

func (k kindKey) kind() (*kind, error) {
	out := &kind{name: k.name, how: k.how}
	if k.fault == "" {
		return out, nil
	}
	out.fault = &drive.Fault{}
	return out, decode(k.fault, out.fault)
}

// kinds fills in what leaves share with others.
func (q queries) kinds(ctx context.Context, all []leaf) error {
	var unknown []int64
	for i := range all {
		if k, known := q.committed.Load(all[i].kind); known {
			all[i].kindOf(k.(*kind)) //nolint:forcetypeassert // nothing else is stored there
		} else {
			unknown = append(unknown, all[i].kind)
		}
	}
	if len(unknown) == 0 {
		return nil
	}
	found, err := q.readKinds(ctx, unknown)
	if err != nil {
		return err
	}
	for i := range all {
		if all[i].name != "" {
			continue
		}
		k := found[all[i].kind]
		if k == nil {
			return errManifest
		}
		all[i].kindOf(k)
	}
	return nil
}

func (l *leaf) kindOf(k *kind) { l.name, l.how, l.fault = k.name, k.how, k.fault }

// readKinds reads kinds by number. What is read inside a change is not kept: it may not come to be.
func (q queries) readKinds(ctx context.Context, ids []int64) (map[int64]*kind, error) {
	query, args, err := sqlx.In(`SELECT id, name, how, fault FROM leaf_kind WHERE id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		ID    int64  `db:"id"`
		Name  string `db:"name"`
		How   string `db:"how"`
		Fault string `db:"fault"`
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, query, args...); err != nil {
		return nil, err
	}
	found := make(map[int64]*kind, len(rows))
	for _, r := range rows {
		k, err := kindKey{reading.PageName(r.Name), r.How, r.Fault}.kind()
		if err != nil {
			return nil, err
		}
		found[r.ID] = k
		if q.learns {
			q.committed.Store(r.ID, k)
		}
	}
	return found, nil
}

// kindOf gives the number of what a page shares with others.
func (c Tx) kindOf(ctx context.Context, p reading.Page) (id int64, err error) {
	fault := ""
	if p.Fault != nil {
		if fault, err = encode(p.Fault); err != nil {
			return 0, err
		}
	}
	key := kindKey{p.Name, p.How, fault}
	if known, ok := c.kinds.Load(key); ok {
		return known.(int64), nil
	}
	if id, ok := c.fresh[key]; ok {
		return id, nil
	}
	defer func() {
		if err == nil {
			c.fresh[key] = id
		}
	}()
	err = c.tx.GetContext(
		ctx,
		&id,
		`SELECT COALESCE((SELECT id FROM leaf_kind WHERE name = ? AND how = ? AND fault = ?), 0)`,
		p.Name,
		p.How,
		fault,
	)
	if err != nil || id != 0 {
		return id, err
	}
	err = c.tx.GetContext(ctx, &id, `INSERT INTO leaf_kind (name, how, fault) VALUES (?, ?, ?) RETURNING id`, p.Name, p.How, fault)
	return id, err
}

// leaves makes the manifest of a reading's pages, given the one before in c.last, and the frame of bytes that are not stored yet.
func (c Tx) leaves(ctx context.Context, seq int, pages []reading.Page) (all []leaf, frame []byte, err error) {
	before := c.last.leaves
	all = make([]leaf, 0, len(pages))
	for _, p := range pages {
		l := leaf{name: p.Name, fault: p.Fault}
		if l.kind, err = c.kindOf(ctx, p); err != nil {
			return nil, nil, err
		}
		if p.Fault != nil {
			all = append(all, l)
			continue
		}
		l.size, l.seq, l.at = len(p.Bytes), seq, len(frame)
		i := slices.IndexFunc(before, func(b leaf) bool { return b.name == p.Name && b.fault == nil && b.size == l.size })
		if i >= 0 && c.last.pages != nil && bytes.Equal(c.last.pages[i].Bytes, p.Bytes) {
			l.hash = before[i].hash
		} else {
			sum := sha256.Sum256(p.Bytes)
			l.hash = [8]byte(sum[:8])
		}
		stored := p.Bytes
		switch {
		case i < 0:
		case before[i].hash == l.hash:
			l.seq, l.at, l.base, l.baseAt = before[i].seq, before[i].at, before[i].base, before[i].baseAt
			stored = nil
		default:
			l.base, l.baseAt = before[i].base, before[i].baseAt
			if l.base == 0 {
				l.base, l.baseAt = before[i].seq, before[i].at
			}
			if seq-l.base > rebase {
				l.base, l.baseAt = 0, 0
				break
			}
			whole, err := c.last.frames.part(ctx, l.base, l.baseAt, l.size)
			if err != nil {
				return nil, nil, err
			}
			stored = make([]byte, l.size)
			subtle.XORBytes(stored, p.Bytes, whole)
		}
		frame = append(frame, stored...)
		all = append(all, l)
	}
	return all, frame, nil
}

// frameCache opens each frame once.
type frameCache struct {
	q     queries
	drive int64
	open  map[int][]byte
}

// fetch opens all the frames that some leaves need, with one question.
func (f frameCache) fetch(ctx context.Context, all []leaf) error {
	var wanted []int
	for _, l := range all {
		for _, seq := range []int{l.seq, l.base} {
			if seq != 0 && l.size != 0 && f.open[seq] == nil && !slices.Contains(wanted, seq) {
				wanted = append(wanted, seq)
			}
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	query, args, err := sqlx.In(`SELECT seq, frame FROM reading_raw WHERE drive = ? AND seq IN (?)`, f.drive, wanted)
	if err != nil {
		return err
	}
	rows, err := f.q.q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	var packed sql.RawBytes
	for rows.Next() {
		var seq int
		if err := rows.Scan(&seq, &packed); err != nil {
			return err
		}
		if f.open[seq], err = f.q.Expand(packed); err != nil {
			return fmt.Errorf("the pages of reading %d: %w", seq, err)
		}
	}
	return rows.Err()
}

func (f frameCache) part(ctx context.Context, seq, at, size int) ([]byte, error) {
	if f.open[seq] == nil {
		if err := f.fetch(ctx, []leaf{{seq: seq, size: size}}); err != nil {
			return nil, err
		}
	}
	if at+size > len(f.open[seq]) {
		return nil, fmt.Errorf("a page lies outside the frame of reading %d", seq)
	}
	return f.open[seq][at : at+size], nil
}

// page brings the bytes of a leaf.
func (f frameCache) page(ctx context.Context, l leaf) (reading.Page, error) {
	p := reading.Page{Name: l.name, How: l.how, Fault: l.fault}
	if l.size == 0 { // a fault, or an answer of no bytes
		return p, nil
	}
	stored, err := f.part(ctx, l.seq, l.at, l.size)
	if err != nil {
		return p, err
	}
	if l.base == 0 {
		p.Bytes = stored
		return p, nil
	}
	whole, err := f.part(ctx, l.base, l.baseAt, l.size)
	if err != nil {
		return p, err
	}
	p.Bytes = make([]byte, l.size)
	subtle.XORBytes(p.Bytes, stored, whole)
	return p, nil
}
