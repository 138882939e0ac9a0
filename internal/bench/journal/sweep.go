package journal

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/sqlite"
)

// Mark is how far a sweep is.
type Mark struct {
	Geometry surface.Geometry `json:"geometry"`
	State    surface.State    `json:"state"`
	Sample   *surface.Sample  `json:"sample,omitempty"`
	Began    time.Time        `json:"began"`
	Heat     []check.Heat     `json:"heat,omitempty"`
	Written  check.Written    `json:"written,omitzero"`
}

// SaveMark stores how far a sweep is, with the blocks of its ribbon that changed. The body is a Mark as JSON.
func (j *Journal) SaveMark(ctx context.Context, run int64, step int, body []byte, blocks []check.Block) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		if _, err := tx.ExecContext(
			ctx,
			`INSERT OR REPLACE INTO sweep_mark (run, step, body) VALUES (?, ?, ?)`,
			run,
			step,
			string(body),
		); err != nil {
			return err
		}
		for _, b := range blocks {
			if _, err := tx.ExecContext(
				ctx,
				`INSERT OR REPLACE INTO sweep_block (run, step, number, cells) VALUES (?, ?, ?, ?)`,
				run,
				step,
				b.Number,
				b.Cells,
			); err != nil {
				return err
			}
		}
		return nil
	})
}

// Mark reads how far a sweep is, with all blocks of its ribbon that have something in them; nil when there is no mark.
func (j *Journal) Mark(ctx context.Context, run int64, step int) (*Mark, []check.Block, error) {
	var bodies []string
	if err := j.db.Read.SelectContext(
		ctx,
		&bodies,
		`SELECT body FROM sweep_mark WHERE run = ? AND step = ?`,
		run,
		step,
	); err != nil ||
		len(bodies) == 0 {
		return nil, nil, err
	}
	var m Mark
	if err := json.Unmarshal([]byte(bodies[0]), &m); err != nil {
		return nil, nil, fmt.Errorf("the mark of step %d of run %d: %w", step, run, err)
	}
	var rows []struct {
		Number int    `db:"number"`
		Cells  []byte `db:"cells"`
	}
	if err := j.db.Read.SelectContext(
		ctx,
		&rows,
		`SELECT number, cells FROM sweep_block WHERE run = ? AND step = ? ORDER BY number`,
		run,
		step,
	); err != nil {
		return nil, nil, err
	}
	blocks := make([]check.Block, len(rows))
	for i, r := range rows {
		blocks[i] = check.Block(r)
	}
	return &m, blocks, nil
}

// SweepEnded keeps the report of a sweep that ended and its last mark, at once; the ribbon's blocks go with the report. Should
// the sweep end a second time after a crash, the mark tells that there is nothing left to read.
func (j *Journal) SweepEnded(ctx context.Context, r check.Result, body []byte) error {
	return j.db.Write(ctx, func(tx *sqlite.Tx) error {
		if _, err := tx.ExecContext(
			ctx,
			`INSERT OR REPLACE INTO sweep_mark (run, step, body) VALUES (?, ?, ?)`,
			r.Run,
			r.Step,
			string(body),
		); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM sweep_block WHERE run = ? AND step = ?`, r.Run, r.Step); err != nil {
			return err
		}
		return j.report(ctx, tx, protocol.Report{Sweep: &r})
	})
}
