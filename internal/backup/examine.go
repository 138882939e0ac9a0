package backup

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"hylostat.example/internal/bench/journal"
	"hylostat.example/internal/seal"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/audit"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/sqlite"
	"hylostat.example/internal/store"
)

// Examination is what was found in the records of a shop.
type Examination struct {
	Shop      string         `json:"shop"` // its id
	Databases []Examined     `json:"databases"`
	Audit     shop.AuditHead `json:"audit"`
	Counts    []store.Count  `json:"counts"`
	Last      *time.Time     `json:"last,omitempty"` // the last entry
	Wrong     []string       `json:"wrong"`          // what is not as it should be; empty: nothing
}

// Examined is a database.
type Examined struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

// aheadBy is by how much the last entry may lie ahead of this machine's clock.
const aheadBy = 2 * time.Minute

// Examine looks through the records of a shop, be they in use, and changes nothing: each page, what refers to what, the chain of the audit,
// whether benches and shop are of the same past, and the clock. What is wrong stands in what it gives; the error says that it could not
// look.
func Examine(ctx context.Context, data string, now time.Time) (e Examination, err error) {
	e.Wrong = []string{}
	names, err := Databases(data)
	if err != nil {
		return e, err
	}
	for _, name := range names {
		path := filepath.Join(data, name)
		info, err := os.Stat(path)
		if err != nil {
			return e, err
		}
		e.Databases = append(e.Databases, Examined{name, info.Size()})
		if info.Mode().Perm()&0o077 != 0 {
			e.Wrong = append(e.Wrong, name+" can be read by others on this machine: its mode is "+info.Mode().Perm().String())
		}
		for _, look := range []func(context.Context, string) error{sqlite.ExamineFile, sqlite.References} {
			err := look(ctx, path)
			if damaged, ok := errors.AsType[*sqlite.DamagedError](err); ok {
				e.Wrong = append(e.Wrong, name+": "+damaged.Found)
				break
			}
			if err != nil {
				return e, err
			}
		}
	}
	o, end, err := store.Look(filepath.Join(data, "shop.db"))
	if err != nil {
		return e, err
	}
	defer end()
	var key seal.Key
	if e.Shop, key, err = o.Shop(ctx); err != nil {
		return e, err
	}
	if e.Audit, err = audit.HeadOf(ctx, o, key, moment(now)); err != nil {
		return e, err
	}
	return e, errors.Join(e.contents(ctx, o, now), e.benches(ctx, o, data, names[1:]))
}

// contents looks at what is in the shop's database.
func (e *Examination) contents(ctx context.Context, o *store.Outside, now time.Time) (err error) {
	if e.Counts, err = o.Counts(ctx); err != nil {
		return err
	}
	orphans, err := o.Orphans(ctx)
	if err != nil {
		return err
	}
	e.Wrong = append(e.Wrong, orphans...)
	v, err := audit.New(nil, o).VerifyAudit(ctx)
	if err != nil {
		return err
	}
	if v.Bad != 0 {
		e.Wrong = append(e.Wrong, fmt.Sprintf("row %d of the audit does not follow from the one before: it was changed", v.Bad))
	}
	last, err := o.Last(ctx)
	if err != nil || last.IsZero() {
		return err
	}
	e.Last = &last
	if ahead := last.Sub(now); ahead > aheadBy {
		e.Wrong = append(e.Wrong, fmt.Sprintf(
			"the last entry lies %s ahead of this machine's clock, which says %s; a demo whose time runs faster may",
			ahead.Round(time.Minute), now.Format(time.DateTime),
		))
	}
	return nil
}

// benches looks whether the benches' journals and the shop's records are of the same past.
func (e *Examination) benches(ctx context.Context, o *store.Outside, data string, names []string) error {
	taken, err := o.Taken(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		bond, err := journal.Look(ctx, filepath.Join(data, name))
		if err != nil {
			return err
		}
		bench := filepath.Dir(name)
		if bench == "." {
			bench = ""
		}
		at, known := taken[bench]
		delete(taken, bench)
		switch {
		case bond.Shop != e.Shop:
			e.Wrong = append(e.Wrong, name+" belongs to another shop, or to none yet")
		case !known:
			e.Wrong = append(e.Wrong, name+" is of a bench the shop does not know")
		case bond.Next <= at || bond.Forgotten > at:
			e.Wrong = append(e.Wrong, fmt.Sprintf(
				"%s and shop.db are not of the same past: the bench has made %d reports, and the shop has taken in %d", name,
				bond.Next-1, at,
			))
		}
	}
	for bench := range taken {
		e.Wrong = append(e.Wrong, fleet.Lost("bench "+bench, filepath.Join(bench, "bench.db")+" is not there").Error())
	}
	return nil
}
