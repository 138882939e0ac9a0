package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/shop"
)

const selectDrive = `
	SELECT d.id, d.identity, d.duty, d.first_seen, d.hints,
	       COALESCE(n.grade, 0) AS grade, COALESCE(n.verdict_seq, 0) AS verdict_seq, n.said, n.signed, COALESCE(n.margin, '') AS margin,
	       COALESCE(n.margin_share, 0) AS margin_share, COALESCE(n.findings, 0) AS findings, COALESCE(n.first, '') AS first,
	       COALESCE(n.missing, '') AS missing, n.hours, n.temperature, COALESCE(n.readings, 0) AS readings,
	       COALESCE(n.last_at, 0) AS last_at, COALESCE(n.policy, 0) AS policy,
	       COALESCE((SELECT group_concat(b.bench || '/' || b.number) FROM bay b
	         WHERE b.serial = d.serial AND b.model = d.model AND b.serial <> ''),
	         '') AS bays
	FROM drive d LEFT JOIN drive_now n ON n.drive = d.id`

type driveRow struct {
	ID          int64           `db:"id"`
	Identity    string          `db:"identity"`
	Duty        string          `db:"duty"`
	FirstSeen   int64           `db:"first_seen"`
	Hints       string          `db:"hints"`
	Grade       uint8           `db:"grade"`
	VerdictSeq  int             `db:"verdict_seq"`
	Said        []byte          `db:"said"`
	Signed      sql.NullString  `db:"signed"`
	Margin      string          `db:"margin"`
	MarginShare float64         `db:"margin_share"`
	Findings    int             `db:"findings"`
	First       string          `db:"first"`
	Missing     string          `db:"missing"`
	Hours       sql.NullFloat64 `db:"hours"`
	Temperature sql.NullFloat64 `db:"temperature"`
	Readings    int             `db:"readings"`
	LastAt      int64           `db:"last_at"`
	Policy      int             `db:"policy"`
	Bays        string          `db:"bays"`
}

func (r driveRow) drive() (shop.Drive, error) {
	d := shop.Drive{ID: r.ID, Duty: drive.Duty(r.Duty), FirstSeen: moment(r.FirstSeen), Now: shop.Now{
		Grade:         drive.Grade(r.Grade),
		VerdictSeq:    r.VerdictSeq,
		VerdictDigest: r.Said,
		Margin:        r.Margin,
		MarginShare:   r.MarginShare,
		Findings:      r.Findings,
		First:         r.First,
		Missing:       r.Missing,
		Hours:         r.Hours.Float64,
		HasHours:      r.Hours.Valid,
		Temperature:   r.Temperature.Float64,
		HasTemp:       r.Temperature.Valid,
		Readings:      r.Readings,
		LastAt:        moment(r.LastAt),
		Policy:        r.Policy,
	}}
	if bays := baysOf(r.Bays); len(bays) > 0 {
		d.Now.Bay, d.Now.OtherBays = bays[0], bays[1:]
	}
	if err := decode(r.Identity, &d.Identity); err != nil {
		return d, err
	}
	if r.Hints != "" {
		if err := decode(r.Hints, &d.Hints); err != nil {
			return d, err
		}
	}
	if r.Signed.Valid {
		d.Now.Signed = &shop.SignOff{}
		return d, decode(r.Signed.String, d.Now.Signed)
	}
	return d, nil
}

// baysOf reads what group_concat gives of the bays of a drive: "/3,field/1".
func baysOf(joined string) (all []drive.Bay) {
	for one := range strings.SplitSeq(joined, ",") {
		if b, err := drive.ParseBay(strings.TrimPrefix(one, "/")); err == nil {
			all = append(all, b)
		}
	}
	slices.SortFunc(all, func(a, b drive.Bay) int {
		if a.Before(b) {
			return -1
		}
		return 1
	})
	return all
}

func (q queries) drives(ctx context.Context, where string, args ...any) ([]shop.Drive, error) {
	var rows []driveRow
	if err := sqlx.SelectContext(ctx, q.q, &rows, selectDrive+where, args...); err != nil {
		return nil, err
	}
	all := make([]shop.Drive, len(rows))
	for i, r := range rows {
		var err error
		if all[i], err = r.drive(); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (q queries) oneDrive(ctx context.Context, what, where string, args ...any) (shop.Drive, error) {
	all, err := q.drives(ctx, where, args...)
	if err != nil {
		return shop.Drive{}, err
	}
	if len(all) == 0 {
		return shop.Drive{}, &shop.NotFound{What: "no drive " + what, Advice: "List the drives."}
	}
	return all[0], nil
}

// Drive serves a use case's Reader.
func (q queries) Drive(ctx context.Context, id int64) (shop.Drive, error) {
	return q.oneDrive(ctx, fmt.Sprint(id), ` WHERE d.id = ?`, id)
}

// DriveByKey serves a use case's Reader.
func (q queries) DriveByKey(ctx context.Context, key drive.Key) (shop.Drive, error) {
	return q.oneDrive(ctx, key.String(), ` WHERE d.serial = ? AND d.model = ?`, key.Serial, key.Model)
}

// DrivesBySerial serves a use case's Reader.
func (q queries) DrivesBySerial(ctx context.Context, serial string) ([]shop.Drive, error) {
	return q.drives(ctx, ` WHERE d.serial = ?`, serial)
}

// DrivesBySuffix serves a use case's Reader.
func (q queries) DrivesBySuffix(ctx context.Context, ending string) ([]shop.Drive, error) {
	where, args := `UPPER(REPLACE(d.serial, ' ', '')) LIKE ? ESCAPE '\'`, []any{"%" + like(strings.ToUpper(ending))}
	if indexed(ending) {
		where, args = `d.id IN (SELECT rowid FROM drive_text WHERE serial MATCH ?) AND `+where, append([]any{phrase(ending)}, args...)
	}
	return q.drives(ctx, " WHERE "+where+" ORDER BY d.serial LIMIT 20", args...)
}

// index brings what a drive is found by up to date.
func (c Tx) index(ctx context.Context, driveID int64) error {
	if _, err := c.tx.ExecContext(ctx, `DELETE FROM drive_text WHERE rowid = ?`, driveID); err != nil {
		return err
	}
	_, err := c.tx.ExecContext(ctx, `
		INSERT INTO drive_text (rowid, serial, model, ticket, customer)
		SELECT d.id, CASE WHEN instr(d.serial, ' ') THEN d.serial || ' ' || replace(d.serial, ' ', '') ELSE d.serial END, d.model,
		       COALESCE((SELECT group_concat(i.body ->> '$.Ticket', ' ') FROM intake i WHERE i.drive = d.id), ''),
		       COALESCE((SELECT group_concat(i.body ->> '$.Customer', ' ') FROM intake i WHERE i.drive = d.id), '')
		FROM drive d WHERE d.id = ?`, driveID)
	return err
}

// listed gives drives by their IDs, as lists show them, in any order.
func (q queries) listed(ctx context.Context, ids []int64) ([]shop.Listed, error) {
	asked, err := encode(ids)
	if err != nil {
		return nil, err
	}
	rows, err := q.q.QueryContext(ctx, `
		SELECT d.id, d.model, d.serial, d.interface, d.medium, d.bytes, d.duty, COALESCE(n.grade, 0), n.signed, COALESCE(n.margin,
		  ''), COALESCE(n.margin_share, 0), COALESCE(n.findings, 0),
		       COALESCE(n.first, ''), n.hours, n.temperature, COALESCE(n.readings, 0), COALESCE(n.last_at, 0),
		       COALESCE(i.body ->> '$.Ticket', ''), COALESCE(i.body ->> '$.Customer', '')
		FROM drive d LEFT JOIN drive_now n ON n.drive = d.id LEFT JOIN intake i ON i.id =
		  (SELECT id FROM intake WHERE drive = d.id ORDER BY open DESC, id DESC LIMIT 1)
		WHERE d.id IN (SELECT value FROM json_each(?))`, asked)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	all := []shop.Listed{}
	var signed sql.RawBytes
	for rows.Next() {
		var d shop.Listed
		n := &d.Now
		var hours, temperature sql.NullFloat64
		var at int64
		if err := rows.Scan(
			&d.ID, &d.Key.Model, &d.Key.Serial, &d.Interface, &d.Medium, &d.Bytes, &d.Duty, &n.Grade, &signed, &n.Margin,
			&n.MarginShare, &n.Findings, &n.First, &hours, &temperature, &n.Readings, &at,
			&d.Ticket, &d.Customer,
		); err != nil {
			return nil, err
		}
		n.Hours, n.HasHours, n.LastAt = hours.Float64, hours.Valid, moment(at)
		n.Temperature, n.HasTemp = temperature.Float64, temperature.Valid
		if signed != nil {
			n.Signed = &shop.SignOff{}
			if err := decode(string(signed), n.Signed); err != nil {
				return nil, err
			}
		}
		all = append(all, d)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	return all, q.held(ctx, all)
}

// held tells of each drive in which bay it is; of one on two paths the first.
func (q queries) held(ctx context.Context, drives []shop.Listed) error {
	serials := make([]string, len(drives))
	for i := range drives {
		serials[i] = drives[i].Key.Serial
	}
	asked, err := encode(serials)
	if err != nil {
		return err
	}
	var rows []struct {
		Model, Serial, Bench string
		Number               int
	}
	if err := sqlx.SelectContext(ctx, q.q, &rows, `
		SELECT b.model, b.serial, b.bench, b.number FROM json_each(?) j JOIN bay b ON b.serial = j.value AND b.serial <> ''
		ORDER BY b.bench DESC, b.number DESC`, asked,
	); err != nil {
		return err
	}
	bays := make(map[drive.Key]drive.Bay, len(rows))
	for _, r := range rows {
		bays[drive.Key{Model: r.Model, Serial: r.Serial}] = drive.Bay{Bench: r.Bench, Number: r.Number}
	}
	for i := range drives {
		drives[i].Now.Bay = bays[drives[i].Key]
	}
	return nil
}

// SaveDrive serves a use case's Tx.
func (c Tx) SaveDrive(ctx context.Context, d *shop.Drive) error {
	identity, err := encode(d.Identity)
	if err != nil {
		return err
	}
	hints := ""
	if d.Hints != (dialect.Hints{}) {
		if hints, err = encode(d.Hints); err != nil {
			return err
		}
	}
	known := d.ID
	err = c.tx.GetContext(ctx, &d.ID, `
		INSERT INTO drive (model, serial, identity, interface, medium, bytes, duty, first_seen, hints) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (model, serial) DO UPDATE SET identity = excluded.identity, interface = excluded.interface,
		  medium = excluded.medium, bytes = excluded.bytes, duty = excluded.duty, hints = excluded.hints, first_seen = MIN(first_seen,
		  excluded.first_seen)
		RETURNING id`, d.Identity.Model, d.Identity.Serial, identity, string(d.Identity.Interface), string(d.Identity.Medium),
		int64(d.Identity.Bytes), d.Duty, millis(d.FirstSeen), hints)
	if err != nil || d.ID == known {
		return err
	}
	return c.index(ctx, d.ID)
}

// SaveNow serves a use case's Tx.
func (c Tx) SaveNow(ctx context.Context, driveID int64, n shop.Now) error {
	var signed sql.NullString
	if n.Signed != nil {
		body, err := encode(n.Signed)
		if err != nil {
			return err
		}
		signed = sql.NullString{String: body, Valid: true}
	}
	_, err := c.tx.ExecContext(
		ctx,
		`
		INSERT OR REPLACE INTO drive_now (drive, grade, verdict_seq, said, signed, margin, margin_share, findings, first, missing,
		  hours, temperature, readings, last_at, policy)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		driveID,
		n.Grade,
		n.VerdictSeq,
		n.VerdictDigest,
		signed,
		n.Margin,
		n.MarginShare,
		n.Findings,
		n.First,
		n.Missing,
		sql.NullFloat64{
			Float64: n.Hours,
			Valid:   n.HasHours,
		},
		sql.NullFloat64{Float64: n.Temperature, Valid: n.HasTemp},
		n.Readings,
		millis(n.LastAt),
		n.Policy,
	)
	return err
}

// AddVerdict serves a use case's Tx.
func (c Tx) AddVerdict(ctx context.Context, v *shop.Verdict) error {
	body, err := encode(v.Verdict)
	if err != nil {
		return err
	}
	return c.tx.GetContext(ctx, &v.Seq, `
		INSERT INTO verdict (drive, seq, at, reading, grade, policy, body, packed)
		SELECT ?, COALESCE(MAX(seq), 0) + 1, ?, ?, ?, ?, '', ? FROM verdict WHERE drive = ? RETURNING seq`,
		v.Drive, millis(v.At), v.Reading, v.Grade, v.Policy, c.Compress([]byte(body)), v.Drive)
}

// Verdicts serves a use case's Reader.
func (q queries) Verdicts(ctx context.Context, driveID int64) ([]shop.Verdict, error) {
	return q.verdicts(ctx, driveID, 1000)
}

// LastVerdict serves a use case's Reader.
func (q queries) LastVerdict(ctx context.Context, driveID int64) (shop.Verdict, error) {
	all, err := q.verdicts(ctx, driveID, 1)
	if err != nil {
		return shop.Verdict{}, err
	}
	if len(all) == 0 {
		return shop.Verdict{}, &shop.NotFound{What: "no verdict on this drive yet", Advice: "Take a reading."}
	}
	return all[0], nil
}

func (q queries) verdicts(ctx context.Context, driveID int64, limit int) ([]shop.Verdict, error) {
	var rows []struct {
		Seq     int            `db:"seq"`
		At      int64          `db:"at"`
		Reading int            `db:"reading"`
		Body    string         `db:"body"`
		Packed  []byte         `db:"packed"`
		Signed  sql.NullString `db:"signed"`
	}
	err := sqlx.SelectContext(ctx, q.q, &rows, `
		SELECT v.seq, v.at, v.reading, v.body, v.packed, s.body AS signed
		FROM verdict v LEFT JOIN sign_off s ON s.drive = v.drive AND s.verdict = v.seq
		WHERE v.drive = ? ORDER BY v.seq DESC LIMIT ?`, driveID, limit)
	if err != nil {
		return nil, err
	}
	all := make([]shop.Verdict, len(rows))
	for i, r := range rows {
		all[i] = shop.Verdict{Drive: driveID, Seq: r.Seq, At: moment(r.At), Reading: r.Reading}
		body := []byte(r.Body)
		if r.Packed != nil {
			if body, err = q.Expand(r.Packed); err != nil {
				return nil, fmt.Errorf("verdict %d: %w", r.Seq, err)
			}
		}
		if err := decode(string(body), &all[i].Verdict); err != nil {
			return nil, err
		}
		if r.Signed.Valid {
			all[i].Signed = &shop.SignOff{}
			if err := decode(r.Signed.String, all[i].Signed); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// Sign serves a use case's Tx.
func (c Tx) Sign(ctx context.Context, driveID int64, verdictSeq int, s shop.SignOff) error {
	body, err := encode(s)
	if err != nil {
		return err
	}
	_, err = c.tx.ExecContext(ctx, `INSERT INTO sign_off (drive, verdict, body) VALUES (?, ?, ?)`, driveID, verdictSeq, body)
	return err
}
