package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// AddVolumes serves a use case's Tx. One that is there already stays as it is.
func (c Tx) AddVolumes(ctx context.Context, driveID int64, v protocol.Volumes) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(
		ctx,
		`INSERT OR IGNORE INTO volumes (id, drive, at, body) VALUES (?, ?, ?, ?)`,
		v.ID,
		driveID,
		millis(v.At),
		c.Compress(body),
	)
	return err
}

// Volumes serves a use case's Reader: the newest of a drive.
func (q queries) Volumes(ctx context.Context, driveID int64) (v protocol.Volumes, err error) {
	var packed []byte
	err = sqlx.GetContext(ctx, q.q, &packed, `SELECT body FROM volumes WHERE drive = ? ORDER BY at DESC LIMIT 1`, driveID)
	if errors.Is(err, sql.ErrNoRows) {
		err = &shop.NotFound{What: "nobody has looked at this drive's file systems", Advice: "Look at them."}
	}
	if err != nil {
		return v, err
	}
	body, err := q.Expand(packed)
	if err != nil {
		return v, fmt.Errorf("volumes of drive %d: %w", driveID, err)
	}
	return v, decode(string(body), &v)
}

// VolumesAt serves the record's Reader.
func (q queries) VolumesAt(ctx context.Context, driveID int64) (time.Time, error) {
	var at int64
	err := sqlx.GetContext(ctx, q.q, &at, `SELECT COALESCE(MAX(at), 0) FROM volumes WHERE drive = ?`, driveID)
	if err != nil || at == 0 {
		return time.Time{}, err
	}
	return moment(at), nil
}
