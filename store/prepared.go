package store

import (
	"context"
	"database/sql"
	"sync"
)

// mostPrepared bounds how many texts are kept prepared: those of this package are fewer, and
// some put a text together.
const mostPrepared = 256

// prepared reads by statements that SQLite has understood already: to understand a text takes
// longer than most of them run. Each connection keeps its own.
type prepared struct {
	*sql.DB
	mu    sync.Mutex
	known map[string]*sql.Stmt
}

// of is the statement of a text; nil where too many are kept, or the text is refused: then the
// caller hears it from the database.
func (p *prepared) of(ctx context.Context, text string) *sql.Stmt {
	p.mu.Lock()
	stmt, full := p.known[text], len(p.known) >= mostPrepared
	p.mu.Unlock()
	if stmt != nil || full {
		return stmt
	}
	stmt, err := p.DB.PrepareContext(ctx, text) // closed with the database
	if err != nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if have := p.known[text]; have != nil { // somebody was quicker
		_ = stmt.Close()
		return have
	}
	if p.known == nil {
		p.known = map[string]*sql.Stmt{}
	}
	p.known[text] = stmt
	return stmt
}

// QueryContext is that of sql.DB.
func (p *prepared) QueryContext(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	if stmt := p.of(ctx, text); stmt != nil {
		return stmt.QueryContext(ctx, args...)
	}
	return p.DB.QueryContext(ctx, text, args...)
}

// QueryRowContext is that of sql.DB.
func (p *prepared) QueryRowContext(ctx context.Context, text string, args ...any) *sql.Row {
	if stmt := p.of(ctx, text); stmt != nil {
		return stmt.QueryRowContext(ctx, args...)
	}
	return p.DB.QueryRowContext(ctx, text, args...)
}
