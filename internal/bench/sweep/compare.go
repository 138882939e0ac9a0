package sweep

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/jmoiron/sqlx"
	"lukechampine.com/blake3"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/copymap"
	"hylostat.example/internal/core/surface"
)

// beginComparing has the sweep read the image of a copy back, and hold it against the sums in its map.
func (s *Sweeper) beginComparing(ctx context.Context, o Order) error {
	c, err := openComparison(ctx, o.Image, o.Blocks.Limits())
	if err != nil {
		return err
	}
	s.blocks, s.how, s.held.Close = c, device.Streaming{Depth: 1}, c.close
	return nil
}

// comparison is an image with the sums of what was copied to it. They lie in a database beside it, since those of a large drive are more
// than memory should hold.
type comparison struct {
	limits device.Limits
	file   string
	image  *os.File
	sums   *sqlx.DB
	most   uint64 // sectors that have one sum together
}

// sumSuffix is what the database is called more than the image.
const sumSuffix = ".sums"

func openComparison(ctx context.Context, image string, limits device.Limits) (_ *comparison, err error) {
	c := &comparison{limits: limits, file: image}
	defer func() {
		if err != nil {
			c.close()
		}
	}()
	if c.image, err = os.Open(image); err != nil {
		return nil, fmt.Errorf("opening the image: %w", err)
	}
	_ = os.Remove(image + sumSuffix)
	if c.sums, err = sqlx.Open("sqlite", "file:"+image+sumSuffix+"?_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)"); err != nil {
		return nil, err
	}
	c.sums.SetMaxOpenConns(1)
	if _, err := c.sums.ExecContext(
		ctx, `CREATE TABLE sum (lba INTEGER PRIMARY KEY, sectors INTEGER NOT NULL, line INTEGER NOT NULL, sum BLOB NOT NULL)`,
	); err != nil {
		return nil, fmt.Errorf("keeping the sums in order: %w", err)
	}
	if err := c.load(ctx, image+MapSuffix); err != nil {
		return nil, fmt.Errorf("the map %s: %w", image+MapSuffix, err)
	}
	return c, nil
}

// load puts the sums of a map in the order of the surface.
func (c *comparison) load(ctx context.Context, file string) error {
	lines, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = lines.Close() }()
	_, m, _, err := copymap.Read(lines, "")
	if err != nil {
		return err
	}
	if _, err := lines.Seek(0, 0); err != nil {
		return err
	}
	tx, err := c.sums.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	add, err := tx.PreparexContext(ctx, `INSERT OR REPLACE INTO sum VALUES (?, ?, ?, ?)`)
	if err != nil {
		return err
	}
	defer func() { _ = add.Close() }()
	if err := copymap.Sums(lines, m, func(line int, k copymap.Summed) error {
		c.most = max(c.most, k.Sectors)
		_, err := add.ExecContext(ctx, k.LBA, k.Sectors, line, k.Sum[:])
		return err
	}); err != nil {
		return err
	}
	return tx.Commit()
}

func (c *comparison) close() {
	if c.image != nil {
		_ = c.image.Close()
	}
	if c.sums != nil {
		_ = c.sums.Close()
		_ = os.Remove(c.file + sumSuffix)
	}
}

// Limits implements device.Blocks.
func (c *comparison) Limits() device.Limits { return c.limits }

// Stream implements device.Blocks: each read takes what was copied from its place on, and ends Altered where the image holds other
// bytes.
func (c *comparison) Stream(
	ctx context.Context, _ device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	for ctx.Err() == nil {
		r, ok := next()
		if !ok {
			return nil
		}
		o, err := c.compare(ctx, r.Extent)
		if err != nil {
			return err
		}
		told(r, o)
	}
	return ctx.Err()
}

type summed struct {
	LBA     uint64 `db:"lba"`
	Sectors uint64 `db:"sectors"`
	Line    int    `db:"line"`
	Sum     []byte `db:"sum"`
}

func (c *comparison) compare(ctx context.Context, e surface.Extent) (o surface.Outcome, err error) {
	begun := time.Now()
	var all []summed
	if err := c.sums.SelectContext(
		ctx, &all, `SELECT lba, sectors, line, sum FROM sum WHERE lba >= ? AND lba < ? ORDER BY lba`,
		e.LBA-min(e.LBA, c.most), e.End()+c.most,
	); err != nil {
		return o, fmt.Errorf("reading sums: %w", err)
	}
	for i, s := range all {
		if !e.Holds(s.LBA) || replaced(all, i) {
			continue
		}
		data := make([]byte, s.Sectors*uint64(c.limits.Logical))
		if _, err := c.image.ReadAt(data, int64(s.LBA*uint64(c.limits.Logical))); err != nil {
			o.Cause, o.All = surface.Altered, true
			continue
		}
		if sum := blake3.Sum256(data); string(sum[:]) != string(s.Sum) {
			o.Cause, o.All = surface.Altered, true
		}
	}
	o.Took = time.Since(begun)
	return o, nil
}

// replaced reports whether what a line says was copied anew by a later one.
func replaced(all []summed, i int) bool {
	s := all[i]
	for _, o := range all {
		if o.Line > s.Line && o.LBA < s.LBA+s.Sectors && s.LBA < o.LBA+o.Sectors {
			return true
		}
	}
	return false
}
