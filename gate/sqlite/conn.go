package sqlite

import (
	"context"
	"database/sql/driver"
	"fmt"
	"time"

	"github.com/ncruces/go-sqlite3"
	"github.com/ncruces/go-sqlite3/ext/fts5"
	"github.com/ncruces/go-sqlite3/ext/rtree"

	"widegate/gate"
)

// conn is a connection with its prepared statements. It serves one caller at a
// time.
type conn struct {
	*sqlite3.Conn
	prepared map[string]*sqlite3.Stmt // those that no rows are read from
	broken   bool                     // to be closed
}

// maxPrepared bounds the prepared statements of a connection; when there are as
// many, all are closed, and those that are used come back.
const maxPrepared = 256

const settings = `PRAGMA foreign_keys = 1; PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL`

func connect(path string) (*conn, error) {
	raw, err := sqlite3.OpenFlags(path, sqlite3.OPEN_READWRITE)
	if err != nil {
		return nil, err
	}
	c := &conn{Conn: raw, prepared: map[string]*sqlite3.Stmt{}}
	if err := raw.BusyTimeout(writerWaits); err != nil {
		c.close()
		return nil, err
	}
	// Tables for full-text and spatial search are part of most builds.
	for _, register := range []func(*sqlite3.Conn) error{fts5.Register, rtree.Register} {
		if err := register(raw); err != nil {
			c.close()
			return nil, err
		}
	}
	if err := addFunctions(raw); err != nil {
		c.close()
		return nil, err
	}
	if err := raw.Exec(settings); err != nil {
		c.close()
		return nil, err
	}
	return c, nil
}

func (c *conn) close() error {
	c.forget()
	return c.Conn.Close()
}

func (c *conn) forget() {
	for _, stmt := range c.prepared {
		stmt.Close()
	}
	clear(c.prepared)
}

// within runs do so that it ends with the context.
func (c *conn) within(ctx context.Context, do func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	before := c.SetInterrupt(ctx)
	err := do()
	c.SetInterrupt(before)
	return explain(ctx, err)
}

// explain puts the end of the context in the place of what came of it.
func explain(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return translate(err)
}

// run runs statements without arguments.
func (c *conn) run(ctx context.Context, text string) error {
	return c.within(ctx, func() error { return c.Conn.Exec(text) })
}

// statement returns a prepared statement with its arguments, which belongs to
// the caller until it is kept.
func (c *conn) statement(text string, args []any) (*sqlite3.Stmt, error) {
	stmt, ok := c.prepared[text]
	if ok {
		delete(c.prepared, text)
	} else {
		var tail string
		var err error
		if stmt, tail, err = c.PrepareFlags(text, sqlite3.PREPARE_PERSISTENT); err != nil {
			return nil, err
		}
		if stmt == nil || tail != "" {
			return nil, fmt.Errorf("one statement was expected: %s", text)
		}
	}
	if n := stmt.BindCount(); n != len(args) {
		stmt.Close()
		return nil, fmt.Errorf("%d arguments for %d places", len(args), n)
	}
	for i, a := range args {
		if err := bind(stmt, i+1, a); err != nil {
			stmt.Close()
			return nil, fmt.Errorf("argument %d: %w", i+1, err)
		}
	}
	return stmt, nil
}

// keep takes a statement back for its next use.
func (c *conn) keep(text string, stmt *sqlite3.Stmt) error {
	err := stmt.Reset()
	if _, other := c.prepared[text]; other || err != nil {
		stmt.Close()
		return err
	}
	if len(c.prepared) >= maxPrepared {
		c.forget()
	}
	c.prepared[text] = stmt
	return stmt.ClearBindings()
}

func bind(stmt *sqlite3.Stmt, at int, a any) error {
	switch v := a.(type) {
	case nil:
		return stmt.BindNull(at)
	case int64:
		return stmt.BindInt64(at, v)
	case string:
		return stmt.BindText(at, v)
	case float64:
		return stmt.BindFloat(at, v)
	case bool:
		return stmt.BindBool(at, v)
	case []byte:
		return stmt.BindBlob(at, v)
	case time.Time:
		return stmt.BindText(at, v.UTC().Format(timeLayout))
	}
	converted, err := driver.DefaultParameterConverter.ConvertValue(a)
	if err != nil {
		return err
	}
	return bind(stmt, at, converted)
}

func (c *conn) exec(ctx context.Context, text string, args []any) (result gate.Result, err error) {
	err = c.within(ctx, func() error {
		if len(args) == 0 {
			return c.Conn.Exec(text)
		}
		stmt, err := c.statement(text, args)
		if err != nil {
			return err
		}
		for stmt.Step() {
			continue // rows that nobody asked for
		}
		if err := stmt.Err(); err != nil {
			stmt.Close()
			return err
		}
		return c.keep(text, stmt)
	})
	if err != nil {
		return gate.Result{}, err
	}
	return gate.Result{Rows: c.Changes(), LastID: c.LastInsertRowID()}, nil
}

func (c *conn) query(ctx context.Context, text string, args []any) (*rows, error) {
	r := &rows{ctx: ctx, conn: c, text: text}
	err := c.within(ctx, func() (err error) {
		if r.stmt, err = c.statement(text, args); err != nil {
			return err
		}
		r.ready = r.stmt.Step() // what is wrong with the statement shows at once
		return r.stmt.Err()
	})
	if err != nil {
		if r.stmt != nil {
			r.stmt.Close()
		}
		return nil, err
	}
	r.width = r.stmt.ColumnCount()
	return r, nil
}

// rows reads a result step by step.
type rows struct {
	ctx    context.Context
	conn   *conn
	text   string
	stmt   *sqlite3.Stmt
	width  int
	ready  bool // the step to the next row is done
	err    error
	closed bool
	done   func()
}

func (r *rows) Next() bool {
	if r.closed || r.err != nil {
		return false
	}
	if r.ready {
		r.ready = false
		return true
	}
	if !r.stmt.Busy() { // behind the last row, a step would begin again
		return false
	}
	more := false
	r.err = r.conn.within(r.ctx, func() error {
		more = r.stmt.Step()
		return r.stmt.Err()
	})
	return more && r.err == nil
}

func (r *rows) Err() error { return r.err }

func (r *rows) Close() error {
	if r.closed {
		return nil
	}
	r.closed = true
	err := r.conn.keep(r.text, r.stmt)
	r.done()
	if r.err != nil {
		return nil // it was told already
	}
	return explain(r.ctx, err)
}

// Scan reads the values where the engine has them, straight into the fields.
func (r *rows) Scan(fields []any) error {
	if len(fields) != r.width {
		return fmt.Errorf("%d columns for %d values", r.width, len(fields))
	}
	for i, field := range fields {
		if err := r.assign(field, i); err != nil {
			return fmt.Errorf("column %d: %w", i+1, err)
		}
	}
	return nil
}

func (r *rows) assign(field any, i int) error {
	switch r.stmt.ColumnType(i) {
	case sqlite3.INTEGER:
		return gate.SetInt(field, r.stmt.ColumnInt64(i))
	case sqlite3.FLOAT:
		return gate.SetFloat(field, r.stmt.ColumnFloat(i))
	case sqlite3.TEXT:
		return gate.SetText(field, r.stmt.ColumnRawText(i))
	case sqlite3.BLOB:
		return gate.Assign(field, r.stmt.ColumnRawBlob(i))
	}
	return gate.SetNull(field)
}
