package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/jmoiron/sqlx"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/shop"
)

// Drives serves a use case's Reader.
func (q queries) Drives(ctx context.Context, s shop.Query) ([]shop.Drive, error) {
	ids, err := q.find(ctx, s)
	if err != nil {
		return nil, err
	}
	asked, err := encode(ids)
	if err != nil {
		return nil, err
	}
	all, err := q.drives(ctx, ` WHERE d.id IN (SELECT value FROM json_each(?))`, asked)
	return inOrder(all, ids, func(d shop.Drive) int64 { return d.ID }), err
}

// List serves a use case's Reader.
func (q queries) List(ctx context.Context, s shop.Query) ([]shop.Listed, error) {
	ids, err := q.find(ctx, s)
	if err != nil {
		return nil, err
	}
	all, err := q.listed(ctx, ids)
	return inOrder(all, ids, func(d shop.Listed) int64 { return d.ID }), err
}

// inOrder sorts drives as their IDs were found.
func inOrder[T any](all []T, ids []int64, id func(T) int64) []T {
	place := make(map[int64]int, len(ids))
	for i, n := range ids {
		place[n] = i
	}
	slices.SortFunc(all, func(a, b T) int { return cmp.Compare(place[id(a)], place[id(b)]) })
	return all
}

// urgencies are what drives are sorted by first; see migration 29.
var urgencies = map[drive.Grade]int{drive.Replace: 0, drive.Degrading: 1, drive.Undecided: 2, drive.Healthy: 3}

// few is how many drives a text may be found in to look at each of them, and sort them. Of more, a page is found by going through all
// drives in their order. A test goes both ways.
var few = 10_000

// find gives the IDs of a page of what a query asks for, in its order, from the indices of that order alone where nothing else is asked.
func (q queries) find(ctx context.Context, s shop.Query) ([]int64, error) {
	where, args := conditions(s)
	text, texts, sorted, err := q.text(ctx, strings.TrimPrefix(strings.TrimSpace(s.Text), "#")) // as tickets are written
	if err != nil {
		return nil, err
	}
	where, args = append(where, text), append(args, texts...)
	if s.Limit <= 0 || s.Limit > 1000 {
		s.Limit = 1000
	}
	order := "d.serial, d.id"
	if s.Urgent {
		order = "d.urgency, d.spare, d.serial, d.id"
	}
	if sorted {
		order = "+" + order
	}
	type row struct {
		ID     int64  `db:"id"`
		Serial string `db:"serial"`
	}
	page := func(cursor string, limit int, behind ...any) (rows []row, err error) {
		err = sqlx.SelectContext(
			ctx, q.q, &rows, `SELECT d.id, d.serial FROM drive d LEFT JOIN drive_now n ON n.drive = d.id WHERE `+
				cursor+" AND "+strings.Join(where, " AND ")+` ORDER BY `+order+` LIMIT ?`,
			append(append(behind, args...), limit)...,
		)
		return rows, err
	}
	var rows []row
	switch {
	case !s.Urgent:
		if rows, err = page("d.serial > ?", s.Limit, s.After); err == nil && len(rows) == s.Limit {
			// Two makers may use one serial: those that share the last one come, too, since the next page begins behind it.
			var more []row
			last := rows[len(rows)-1]
			more, err = page("d.serial = ? AND d.id > ?", -1, last.Serial, last.ID)
			rows = append(rows, more...)
		}
	case s.Behind == 0:
		rows, err = page("1", s.Limit)
	default: // by its values: against a row that is looked up, SQLite would seek by the first of them alone
		var last struct {
			Urgency int     `db:"urgency"`
			Spare   float64 `db:"spare"`
			Serial  string  `db:"serial"`
		}
		err = sqlx.GetContext(ctx, q.q, &last, `SELECT urgency, spare, serial FROM drive WHERE id = ?`, s.Behind)
		if errors.Is(err, sql.ErrNoRows) {
			return nil, nil
		}
		if err == nil {
			rows, err = page(
				"(d.urgency, d.spare, d.serial, d.id) > (?, ?, ?, ?)", s.Limit, last.Urgency, last.Spare, last.Serial, s.Behind,
			)
		}
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	return ids, err
}

// text is the condition that a drive has a text in its serial, model, ticket or customer. Those that have it are to be sorted when they
// are few.
func (q queries) text(ctx context.Context, text string) (where string, args []any, sorted bool, err error) {
	if text == "" {
		return "1", nil, false, nil
	}
	if !indexed(text) { // in the table that FTS5 keeps the texts in, by number: its own way to one row is long
		part := "%" + like(text) + "%"
		return `EXISTS (SELECT 1 FROM drive_text_content t WHERE t.id = d.id AND (t.c0 LIKE ? ESCAPE '\'
			OR t.c1 LIKE ? ESCAPE '\' OR t.c2 LIKE ? ESCAPE '\' OR t.c3 LIKE ? ESCAPE '\'))`, []any{part, part, part, part}, false, nil
	}
	var ids []int64
	if err := sqlx.SelectContext(
		ctx, q.q, &ids, `SELECT rowid FROM drive_text WHERE drive_text MATCH ? LIMIT ?`, phrase(text), few+1,
	); err != nil {
		return "", nil, false, err
	}
	if len(ids) > few {
		return `d.id IN (SELECT rowid FROM drive_text WHERE drive_text MATCH ?)`, []any{phrase(text)}, false, nil
	}
	found, err := encode(ids)
	return `d.id IN (SELECT value FROM json_each(?))`, []any{found}, true, err
}

// conditions are those of a query beside its text and its cursor.
func conditions(s shop.Query) (where []string, args []any) {
	if s.Model != "" {
		where, args = append(where, "d.model = ?"), append(args, s.Model)
	}
	if s.Medium != "" {
		where, args = append(where, "d.medium = ?"), append(args, s.Medium)
	}
	if s.Lot != 0 {
		where, args = append(where, "d.id IN (SELECT drive FROM intake WHERE lot = ?)"), append(args, s.Lot)
	}
	if s.From > 0 {
		where, args = append(where, "n.hours >= ?"), append(args, s.From)
	}
	if s.To > 0 {
		where, args = append(where, "n.hours < ?"), append(args, s.To)
	}
	if s.Grade != nil {
		where, args = append(where, "d.urgency = ?"), append(args, urgencies[*s.Grade])
	}
	return where, args
}

// indexed reports whether drive_text can find a text: it knows any three characters in a row.
func indexed(text string) bool { return utf8.RuneCountInString(text) >= 3 }

// phrase makes of a text what FTS5 looks for as it stands. FTS5 would take the text to end at a NUL, before its closing quote; the
// replacement character stands in no record, so that nothing is found.
//
// Serials are printed with a space, and kept without.
func phrase(text string) string {
	quoted := `"` + strings.NewReplacer(`"`, `""`, "\x00", "\ufffd").Replace(text) + `"`
	if together := strings.ReplaceAll(text, " ", ""); together != text && indexed(together) {
		return quoted + " OR " + phrase(together)
	}
	return quoted
}

// like escapes the wildcards of LIKE.
func like(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}
