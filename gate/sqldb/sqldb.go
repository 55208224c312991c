// Package sqldb makes a gate.DB of a database/sql pool, for the engines whose
// driver is used through it. It keeps prepared statements, so that a statement
// text is parsed once for each connection, and hands column values from the
// driver to the entity without copying them on the way.
package sqldb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"sync"

	"widegate/gate"
)

// Config is what an engine brings along.
type Config struct {
	Engine *gate.Engine
	// Translate turns a driver's error into the runtime's where it can.
	Translate func(error) error
	// Retryable reports that a transaction may succeed when it is run again.
	Retryable func(error) bool
	// OneIsolation says that there is only one level, whatever is asked for.
	OneIsolation bool
	// ReadOnly and ReadWrite are statements that forbid a connection to store
	// anything and allow it again, where the driver does not do so itself.
	ReadOnly, ReadWrite string
}

// maxPrepared bounds the prepared statements kept; texts beyond are prepared
// for each use.
const maxPrepared = 512

type pool struct {
	conn
	db *sql.DB

	mu       sync.Mutex
	prepared map[string]*sql.Stmt
}

// New returns the database behind a pool, which it closes when it is closed.
func New(db *sql.DB, config Config) gate.DB {
	p := &pool{db: db, prepared: map[string]*sql.Stmt{}}
	p.conn = conn{config: config, prepare: p.statement, direct: db}
	return p
}

// statement returns the prepared statement of a text, or nil where there are
// too many already.
func (p *pool) statement(ctx context.Context, text string) (*sql.Stmt, error) {
	p.mu.Lock()
	stmt, ok := p.prepared[text]
	full := len(p.prepared) >= maxPrepared
	p.mu.Unlock()
	if ok || full {
		return stmt, nil
	}
	stmt, err := p.db.PrepareContext(ctx, text)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if other, ok := p.prepared[text]; ok {
		stmt.Close()
		return other, nil
	}
	p.prepared[text] = stmt
	return stmt, nil
}

func (p *pool) Ping(ctx context.Context) error { return p.config.Translate(p.db.PingContext(ctx)) }

func (p *pool) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, stmt := range p.prepared {
		stmt.Close()
	}
	p.prepared = nil
	return p.db.Close()
}

func (p *pool) InTx(ctx context.Context, o gate.TxOptions, do func(tx gate.DB) error) error {
	return gate.Retry(ctx, o.Tries, p.config.Retryable, func() error { return p.once(ctx, o, do) })
}

var isolations = map[gate.Isolation]sql.IsolationLevel{
	gate.ReadCommitted:  sql.LevelReadCommitted,
	gate.RepeatableRead: sql.LevelRepeatableRead,
	gate.Serializable:   sql.LevelSerializable,
}

func (p *pool) once(ctx context.Context, o gate.TxOptions, do func(tx gate.DB) error) error {
	options := &sql.TxOptions{Isolation: isolations[o.Isolation], ReadOnly: o.ReadOnly}
	if p.config.OneIsolation {
		options.Isolation = sql.LevelDefault
	}
	begin := p.db.BeginTx
	if o.ReadOnly && p.config.ReadOnly != "" {
		conn, err := p.db.Conn(ctx)
		if err != nil {
			return fmt.Errorf("beginning a transaction: %w", p.config.Translate(err))
		}
		defer conn.Close()
		if _, err := conn.ExecContext(ctx, p.config.ReadOnly); err != nil {
			return fmt.Errorf("beginning a transaction: %w", p.config.Translate(err))
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), p.config.ReadWrite)
		begin = conn.BeginTx
	}
	tx, err := begin(ctx, options)
	if err != nil {
		return fmt.Errorf("beginning a transaction: %w", p.config.Translate(err))
	}
	defer tx.Rollback() // does nothing after a commit
	t := &transaction{tx: tx}
	t.conn = conn{config: p.config, direct: tx, prepare: func(ctx context.Context, text string) (*sql.Stmt, error) {
		stmt, err := p.statement(ctx, text)
		if err != nil || stmt == nil {
			return nil, err
		}
		return tx.StmtContext(ctx, stmt), nil
	}}
	if err := do(t); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("committing: %w", p.config.Translate(err))
	}
	return nil
}

type transaction struct {
	conn
	tx         *sql.Tx
	savepoints int
}

func (t *transaction) Ping(context.Context) error { return nil }
func (t *transaction) Close() error               { return nil }
func (t *transaction) Transaction()               {}

// InTx runs do in a savepoint. Nothing is tried again: that is for the whole
// transaction to do.
func (t *transaction) InTx(ctx context.Context, o gate.TxOptions, do func(tx gate.DB) error) error {
	if o.Isolation != gate.DefaultIsolation || o.ReadOnly {
		return gate.ErrNestedOptions
	}
	t.savepoints++
	name := "gate_" + strconv.Itoa(t.savepoints)
	if _, err := t.tx.ExecContext(ctx, "SAVEPOINT "+name); err != nil {
		return fmt.Errorf("setting a savepoint: %w", t.config.Translate(err))
	}
	if err := do(t); err != nil {
		_, undo := t.tx.ExecContext(ctx, "ROLLBACK TO SAVEPOINT "+name)
		return errors.Join(err, undo)
	}
	_, err := t.tx.ExecContext(ctx, "RELEASE SAVEPOINT "+name)
	return err
}

// conn runs statements, on a pool or in a transaction.
type conn struct {
	config  Config
	prepare func(ctx context.Context, text string) (*sql.Stmt, error)
	direct  interface {
		QueryContext(ctx context.Context, text string, args ...any) (*sql.Rows, error)
		ExecContext(ctx context.Context, text string, args ...any) (sql.Result, error)
	}
}

func (c conn) Engine() *gate.Engine { return c.config.Engine }

func (c conn) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	stmt, err := c.prepare(ctx, text)
	if err != nil {
		return nil, c.config.Translate(err)
	}
	var list *sql.Rows
	if stmt != nil {
		list, err = stmt.QueryContext(ctx, args...)
	} else {
		list, err = c.direct.QueryContext(ctx, text, args...)
	}
	if err != nil {
		return nil, c.config.Translate(err)
	}
	return &rows{Rows: list, translate: c.config.Translate}, nil
}

func (c conn) Exec(ctx context.Context, text string, args []any) (gate.Result, error) {
	stmt, err := c.prepare(ctx, text)
	if err != nil {
		return gate.Result{}, c.config.Translate(err)
	}
	var done sql.Result
	if stmt != nil {
		done, err = stmt.ExecContext(ctx, args...)
	} else {
		done, err = c.direct.ExecContext(ctx, text, args...)
	}
	if err != nil {
		return gate.Result{}, c.config.Translate(err)
	}
	var result gate.Result
	if result.Rows, err = done.RowsAffected(); err != nil {
		return result, err
	}
	result.LastID, err = done.LastInsertId()
	return result, err
}

type rows struct {
	*sql.Rows
	translate func(error) error
	cells     []cell
	targets   []any
}

// cell takes a value from the driver before database/sql would copy it.
type cell struct{ field any }

func (c *cell) Scan(src any) error { return gate.Assign(c.field, src) }

func (r *rows) Scan(fields []any) error {
	if len(r.cells) != len(fields) {
		r.cells = make([]cell, len(fields))
		r.targets = make([]any, len(fields))
		for i := range r.cells {
			r.targets[i] = &r.cells[i]
		}
	}
	for i, f := range fields {
		r.cells[i].field = f
	}
	return r.Rows.Scan(r.targets...)
}

func (r *rows) Err() error { return r.translate(r.Rows.Err()) }
