package sqlite

import (
	"context"
	"database/sql"
	"sync"

	"github.com/jmoiron/sqlx"
)

// mostPrepared bounds how many statements are kept ready. The texts are ours, a few for each table; what is beyond is prepared
// each time.
const mostPrepared = 400

// prepared keeps statements ready: preparing one costs SQLite several times what carrying it out does.
type prepared struct {
	db    *sqlx.DB
	gates []Gate
	mu    sync.RWMutex // guards kept
	kept  map[string]*sqlx.Stmt
}

func prepare(db *sqlx.DB, gates []Gate) *prepared {
	return &prepared{db: db, gates: gates, kept: map[string]*sqlx.Stmt{}}
}

// get gives a statement, or nil when no more are kept.
func (p *prepared) get(ctx context.Context, query string) (*sqlx.Stmt, error) {
	p.mu.RLock()
	s, full := p.kept[query], len(p.kept) >= mostPrepared
	p.mu.RUnlock()
	if s != nil || full {
		return s, nil
	}
	s, err := p.db.PreparexContext(ctx, query)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if other := p.kept[query]; other != nil { // somebody was quicker
		_ = s.Close()
		return other, nil
	}
	p.kept[query] = s
	return s, nil
}

// brief is the context a statement runs under. All of ours are short, and one that can end costs each of them two goroutines that
// wait for it; so whether it has ended is asked before, and not meanwhile. It has ended when a gate lets nothing through.
func (p *prepared) brief(ctx context.Context, query string) context.Context {
	if ctx.Err() != nil {
		return ctx
	}
	for _, g := range p.gates {
		if err := g.Statement(query); err != nil {
			ctx, cancel := context.WithCancelCause(ctx)
			cancel(err)
			return ctx
		}
	}
	return context.WithoutCancel(ctx)
}

// Pool reads on any of a pool's connections, with statements that are kept ready. It is a sqlx.QueryerContext.
type Pool struct{ *prepared }

// QueryContext implements sqlx.QueryerContext.
func (p Pool) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	s, err := p.get(ctx, query)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return p.db.QueryContext(p.brief(ctx, query), query, args...)
	}
	return s.QueryContext(p.brief(ctx, query), args...)
}

// QueryxContext implements sqlx.QueryerContext.
func (p Pool) QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	s, err := p.get(ctx, query)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return p.db.QueryxContext(p.brief(ctx, query), query, args...)
	}
	return s.QueryxContext(p.brief(ctx, query), args...)
}

// QueryRowxContext implements sqlx.QueryerContext.
func (p Pool) QueryRowxContext(ctx context.Context, query string, args ...any) *sqlx.Row {
	if s, err := p.get(ctx, query); err == nil && s != nil {
		return s.QueryRowxContext(p.brief(ctx, query), args...)
	}
	return p.db.QueryRowxContext(p.brief(ctx, query), query, args...)
}

// GetContext reads one row.
func (p Pool) GetContext(ctx context.Context, into any, query string, args ...any) error {
	return sqlx.GetContext(ctx, p, into, query, args...)
}

// SelectContext reads all rows.
func (p Pool) SelectContext(ctx context.Context, into any, query string, args ...any) error {
	return sqlx.SelectContext(ctx, p, into, query, args...)
}

// SetMaxOpenConns bounds how many read at once. All of them stay open: a new one reads the tables' definitions, prepares every
// statement again and begins with nothing in memory.
func (p Pool) SetMaxOpenConns(n int) {
	p.db.SetMaxOpenConns(n)
	p.db.SetMaxIdleConns(n)
}

// Close closes the pool, and with it what is kept.
func (p Pool) Close() error { return p.db.Close() }

// Tx is a transaction whose statements are kept ready between transactions: there is one writing connection. It is a
// sqlx.QueryerContext.
type Tx struct {
	tx     *sqlx.Tx
	kept   *prepared
	missed []string // to be prepared once the transaction is over: until then it has the connection
}

// want gives a statement that is ready, or nil.
func (t *Tx) want(ctx context.Context, query string) *sqlx.Stmt {
	t.kept.mu.RLock()
	s, full := t.kept.kept[query], len(t.kept.kept) >= mostPrepared
	t.kept.mu.RUnlock()
	if s != nil {
		return t.tx.StmtxContext(context.WithoutCancel(ctx), s)
	}
	if !full {
		t.missed = append(t.missed, query)
	}
	return nil
}

// GetContext reads one row.
func (t *Tx) GetContext(ctx context.Context, into any, query string, args ...any) error {
	return sqlx.GetContext(ctx, t, into, query, args...)
}

// SelectContext reads all rows.
func (t *Tx) SelectContext(ctx context.Context, into any, query string, args ...any) error {
	return sqlx.SelectContext(ctx, t, into, query, args...)
}

// QueryContext implements sqlx.QueryerContext.
func (t *Tx) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if s := t.want(ctx, query); s != nil {
		return s.QueryContext(t.kept.brief(ctx, query), args...)
	}
	return t.tx.QueryContext(t.kept.brief(ctx, query), query, args...)
}

// QueryxContext implements sqlx.QueryerContext.
func (t *Tx) QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	if s := t.want(ctx, query); s != nil {
		return s.QueryxContext(t.kept.brief(ctx, query), args...)
	}
	return t.tx.QueryxContext(t.kept.brief(ctx, query), query, args...)
}

// QueryRowxContext implements sqlx.QueryerContext.
func (t *Tx) QueryRowxContext(ctx context.Context, query string, args ...any) *sqlx.Row {
	if s := t.want(ctx, query); s != nil {
		return s.QueryRowxContext(t.kept.brief(ctx, query), args...)
	}
	return t.tx.QueryRowxContext(t.kept.brief(ctx, query), query, args...)
}

// ExecContext carries out a statement that changes something.
func (t *Tx) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if s := t.want(ctx, query); s != nil {
		return s.ExecContext(t.kept.brief(ctx, query), args...)
	}
	return t.tx.ExecContext(t.kept.brief(ctx, query), query, args...)
}
