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
	all := false                                                          // that are found are to be sorted
	switch s.Text = strings.TrimPrefix(strings.TrimSpace(s.Text), "#"); { // as tickets are written
	case indexed(s.Text):
		var ids []int64
		if err := sqlx.SelectContext(
			ctx, q.q, &ids, `SELECT rowid FROM drive_text WHERE drive_text MATCH ? LIMIT ?`, phrase(s.Text), few+1,
		); err != nil {
			return nil, err
		}
		if all = len(ids) <= few; all {
			found, err := encode(ids)
			if err != nil {
				return nil, err
			}
			where, args = append(where, `d.id IN (SELECT value FROM json_each(?))`), append(args, found)
		} else {
			where = append(where, `d.id IN (SELECT rowid FROM drive_text WHERE drive_text MATCH ?)`)
			args = append(args, phrase(s.Text))
		}
	case s.Text != "": // in the table that FTS5 keeps the texts in, by number: its own way to one row is long
		text := "%" + like(s.Text) + "%"
		where = append(where, `EXISTS (SELECT 1 FROM drive_text_content t WHERE t.id = d.id AND (t.c0 LIKE ? ESCAPE '\'
			OR t.c1 LIKE ? ESCAPE '\' OR t.c2 LIKE ? ESCAPE '\' OR t.c3 LIKE ? ESCAPE '\'))`)
		args = append(args, text, text, text, text)
	}
	if s.Limit <= 0 || s.Limit > 1000 {
		s.Limit = 1000
	}
	order := "d.serial, d.id"
	if s.Urgent {
		order = "d.urgency, d.spare, d.serial, d.id"
	}
	if all { // by way of what was found, not of the order
		order = "+" + order
	}
	page := func(cursor string, limit int, behind ...any) (rows []struct {
		ID     int64  `db:"id"`
		Serial string `db:"serial"`
	}, err error,
	) {
		err = sqlx.SelectContext(
			ctx, q.q, &rows, `SELECT d.id, d.serial FROM drive d LEFT JOIN drive_now n ON n.drive = d.id WHERE `+
				strings.Join(append([]string{cursor}, where...), " AND ")+` ORDER BY `+order+` LIMIT ?`,
			append(append(behind, args...), limit)...,
		)
		return rows, err
	}
	cursor, behind := "d.serial > ?", []any{any(s.After)}
	switch {
	case s.Urgent && s.Behind == 0:
		cursor, behind = "1", nil
	case s.Urgent: // by its values: against a row that is looked up, SQLite would seek by the first of them alone
		var last struct {
			Urgency int     `db:"urgency"`
			Spare   float64 `db:"spare"`
			Serial  string  `db:"serial"`
		}
		err := sqlx.GetContext(ctx, q.q, &last, `SELECT urgency, spare, serial FROM drive WHERE id = ?`, s.Behind)
		if errors.Is(err, sql.ErrNoRows) {
			return nil, nil
		} else if err != nil {
			return nil, err
		}
		cursor, behind = "(d.urgency, d.spare, d.serial, d.id) > (?, ?, ?, ?)", []any{last.Urgency, last.Spare, last.Serial, s.Behind}
	}
	rows, err := page(cursor, s.Limit, behind...)
	if n := len(rows); err == nil && n >= s.Limit && !s.Urgent {
		// Two makers may use one serial: those that share the last one come, too, since the next page begins behind it.
		more, wrong := page("d.serial = ? AND d.id > ?", -1, rows[n-1].Serial, rows[n-1].ID)
		rows, err = append(rows, more...), wrong
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	return ids, err
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
