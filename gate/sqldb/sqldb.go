// Package sqldb makes a gate.DB of a database/sql pool, for the engines whose
// driver is one of database/sql. From the pool it takes connections, and
// speaks to the driver on them itself: it keeps the prepared statements of
// each connection, and hands column values from the driver to the entity
// without the copies and conversions on the way between.
package sqldb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"widegate/gate"
)

// Config is what an engine brings along.
type Config struct {
	Engine *gate.Engine
	// Translate turns a driver's error into the runtime's where it can.
	Translate func(error) error
	// Retryable reports that a transaction may succeed when it is run again.
	Retryable func(error) bool
}

// maxPrepared bounds the prepared statements of a connection; when there are as
// many, all are closed, and those that are used come back.
const maxPrepared = 256

// Connector makes the connections of a pool such that they keep their prepared
// statements. A pool that is given to New must be made by it.
func Connector(c driver.Connector) driver.Connector { return connector{c} }

type connector struct{ driver.Connector }

func (c connector) Connect(ctx context.Context) (driver.Conn, error) {
	raw, err := c.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return &session{Conn: raw, prepared: map[string]driver.Stmt{}}, nil
}

// session is a connection with its prepared statements.
type session struct {
	driver.Conn
	prepared map[string]driver.Stmt
}

// ResetSession and IsValid are asked by the pool.
func (s *session) ResetSession(ctx context.Context) error {
	if r, ok := s.Conn.(driver.SessionResetter); ok {
		return r.ResetSession(ctx)
	}
	return nil
}

func (s *session) IsValid() bool {
	v, ok := s.Conn.(driver.Validator)
	return !ok || v.IsValid()
}

func (s *session) Ping(ctx context.Context) error {
	if p, ok := s.Conn.(driver.Pinger); ok {
		return p.Ping(ctx)
	}
	return nil
}

func (s *session) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	if b, ok := s.Conn.(driver.ConnBeginTx); ok {
		return b.BeginTx(ctx, o)
	}
	return nil, errors.New("the driver has no transactions")
}

func (s *session) Close() error {
	s.forget()
	return s.Conn.Close()
}

func (s *session) forget() {
	for _, stmt := range s.prepared {
		stmt.Close()
	}
	clear(s.prepared)
}

func (s *session) statement(ctx context.Context, text string) (driver.Stmt, error) {
	if stmt, ok := s.prepared[text]; ok {
		return stmt, nil
	}
	p, ok := s.Conn.(driver.ConnPrepareContext)
	if !ok {
		return nil, errors.New("the driver prepares no statements")
	}
	stmt, err := p.PrepareContext(ctx, text)
	if err != nil {
		return nil, err
	}
	if len(s.prepared) >= maxPrepared {
		s.forget()
	}
	s.prepared[text] = stmt
	return stmt, nil
}

// query runs a statement, which belongs to its rows until they are closed:
// another use of the same text meanwhile has a statement of its own.
func (s *session) query(ctx context.Context, text string, values []any, translate func(error) error) (*rows, error) {
	args, err := named(values)
	if err != nil {
		return nil, err
	}
	stmt, err := s.statement(ctx, text)
	if err != nil {
		return nil, err
	}
	q, ok := stmt.(driver.StmtQueryContext)
	if !ok {
		return nil, errors.New("the driver's statements take no context")
	}
	delete(s.prepared, text)
	list, err := q.QueryContext(ctx, args)
	if err != nil {
		stmt.Close()
		return nil, err
	}
	return &rows{
		ctx: ctx, list: list, translate: translate, values: make([]driver.Value, len(list.Columns())),
		done: func() {
			if _, other := s.prepared[text]; other {
				stmt.Close()
				return
			}
			s.prepared[text] = stmt
		},
	}, nil
}

func (s *session) exec(ctx context.Context, text string, values []any) (driver.Result, error) {
	args, err := named(values)
	if err != nil {
		return nil, err
	}
	if len(args) == 0 { // such as DDL, which not every server prepares
		if e, ok := s.Conn.(driver.ExecerContext); ok {
			return e.ExecContext(ctx, text, nil)
		}
	}
	stmt, err := s.statement(ctx, text)
	if err != nil {
		return nil, err
	}
	e, ok := stmt.(driver.StmtExecContext)
	if !ok {
		return nil, errors.New("the driver's statements take no context")
	}
	result, err := e.ExecContext(ctx, args)
	if err != nil {
		delete(s.prepared, text)
		stmt.Close()
	}
	return result, err
}

type pool struct {
	config Config
	db     *sql.DB
}

// New returns the database behind a pool, which it closes when it is closed.
func New(db *sql.DB, config Config) gate.DB { return &pool{config, db} }

func (p *pool) Engine() *gate.Engine { return p.config.Engine }

func (p *pool) Ping(ctx context.Context) error { return p.config.Translate(p.db.PingContext(ctx)) }
func (p *pool) Close() error                   { return p.db.Close() }

// badTries is how many connections are tried that turn out to be broken.
const badTries = 3

// onConn runs do on a connection, and on another when it was broken before it
// did anything. The caller gives the connection back.
func (p *pool) onConn(ctx context.Context, do func(s *session) error) (*sql.Conn, error) {
	for try := 1; ; try++ {
		c, err := p.db.Conn(ctx)
		if err != nil {
			return nil, err
		}
		err = c.Raw(func(raw any) error {
			s, ok := raw.(*session)
			if !ok {
				return errors.New("the pool was not made by Connector")
			}
			return do(s)
		})
		if err == nil {
			return c, nil
		}
		c.Close()
		if try == badTries || !errors.Is(err, driver.ErrBadConn) {
			return nil, err
		}
	}
}

func (p *pool) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	var list *rows
	c, err := p.onConn(ctx, func(s *session) (err error) {
		list, err = s.query(ctx, text, args, p.config.Translate)
		return err
	})
	if err != nil {
		return nil, p.config.Translate(err)
	}
	list.conn = c
	return list, nil
}

func (p *pool) Exec(ctx context.Context, text string, args []any) (gate.Result, error) {
	var result gate.Result
	c, err := p.onConn(ctx, func(s *session) error {
		done, err := s.exec(ctx, text, args)
		if err != nil {
			return err
		}
		result, err = resultOf(done)
		return err
	})
	if err != nil {
		return result, p.config.Translate(err)
	}
	return result, c.Close()
}

func resultOf(done driver.Result) (result gate.Result, err error) {
	if result.Rows, err = done.RowsAffected(); err != nil {
		return result, err
	}
	result.LastID, err = done.LastInsertId()
	return result, err
}

// named are the arguments as a driver takes them.
func named(args []any) ([]driver.NamedValue, error) {
	list := make([]driver.NamedValue, len(args))
	for i, a := range args {
		switch a.(type) {
		case nil, int64, string, bool, float64, []byte, time.Time:
		default:
			converted, err := driver.DefaultParameterConverter.ConvertValue(a)
			if err != nil {
				return nil, fmt.Errorf("argument %d: %w", i+1, err)
			}
			a = converted
		}
		list[i] = driver.NamedValue{Ordinal: i + 1, Value: a}
	}
	return list, nil
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
	t := &transaction{config: p.config}
	conn, err := p.onConn(ctx, func(s *session) (err error) {
		t.session = s
		t.tx, err = s.BeginTx(ctx, driver.TxOptions{Isolation: driver.IsolationLevel(isolations[o.Isolation]), ReadOnly: o.ReadOnly})
		return err
	})
	if err != nil {
		return fmt.Errorf("beginning a transaction: %w", p.config.Translate(err))
	}
	defer conn.Close()
	if err := do(t); err != nil {
		return errors.Join(err, p.rollback(conn, t))
	}
	if err := ctx.Err(); err != nil {
		return errors.Join(err, p.rollback(conn, t))
	}
	if err := t.tx.Commit(); err != nil {
		return errors.Join(fmt.Errorf("committing: %w", p.config.Translate(err)), p.rollback(conn, t))
	}
	return nil
}

// rollback ends a transaction that failed. A connection on which that does not
// work is given up, so that nobody goes on within it.
func (p *pool) rollback(conn *sql.Conn, t *transaction) error {
	if t.tx.Rollback() == nil {
		return nil
	}
	if err := conn.Raw(func(any) error { return driver.ErrBadConn }); !errors.Is(err, driver.ErrBadConn) {
		return err
	}
	return nil
}

type transaction struct {
	config     Config
	session    *session
	tx         driver.Tx
	savepoints int
}

func (t *transaction) Engine() *gate.Engine       { return t.config.Engine }
func (t *transaction) Ping(context.Context) error { return nil }
func (t *transaction) Close() error               { return nil }
func (t *transaction) Transaction()               {}

func (t *transaction) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	list, err := t.session.query(ctx, text, args, t.config.Translate)
	if err != nil {
		return nil, t.config.Translate(err)
	}
	return list, nil
}

func (t *transaction) Exec(ctx context.Context, text string, args []any) (gate.Result, error) {
	done, err := t.session.exec(ctx, text, args)
	if err != nil {
		return gate.Result{}, t.config.Translate(err)
	}
	return resultOf(done)
}

// InTx runs do in a savepoint. Nothing is tried again: that is for the whole
// transaction to do.
func (t *transaction) InTx(ctx context.Context, o gate.TxOptions, do func(tx gate.DB) error) error {
	if o.Isolation != gate.DefaultIsolation || o.ReadOnly {
		return gate.ErrNestedOptions
	}
	t.savepoints++
	name := "gate_" + strconv.Itoa(t.savepoints)
	if _, err := t.Exec(ctx, "SAVEPOINT "+name, nil); err != nil {
		return fmt.Errorf("setting a savepoint: %w", err)
	}
	if err := do(t); err != nil {
		_, undo := t.Exec(context.WithoutCancel(ctx), "ROLLBACK TO SAVEPOINT "+name, nil)
		return errors.Join(err, undo)
	}
	_, err := t.Exec(ctx, "RELEASE SAVEPOINT "+name, nil)
	return err
}

// rows reads a result from the driver.
type rows struct {
	ctx       context.Context
	list      driver.Rows
	translate func(error) error
	done      func()
	conn      *sql.Conn // to give back; nil in a transaction
	values    []driver.Value
	err       error
	closed    bool
}

func (r *rows) Next() bool {
	if r.closed || r.err != nil {
		return false
	}
	err := r.ctx.Err()
	if err == nil {
		err = r.list.Next(r.values)
	}
	if err != nil && !errors.Is(err, io.EOF) {
		r.err = r.translate(err)
	}
	return err == nil
}

func (r *rows) Err() error { return r.err }

func (r *rows) Close() error {
	if r.closed {
		return nil
	}
	r.closed = true
	err := r.list.Close()
	r.done()
	if r.conn != nil {
		err = errors.Join(err, r.conn.Close())
	}
	return r.translate(err)
}

func (r *rows) Scan(fields []any) error {
	if len(r.values) != len(fields) {
		return fmt.Errorf("%d columns for %d values", len(r.values), len(fields))
	}
	for i, field := range fields {
		if err := assign(field, r.values[i]); err != nil {
			return fmt.Errorf("column %d: %w", i+1, err)
		}
	}
	return nil
}

func assign(field any, value driver.Value) error {
	switch v := value.(type) {
	case nil:
		return gate.SetNull(field)
	case int64:
		return gate.SetInt(field, v)
	case float64:
		return gate.SetFloat(field, v)
	case bool:
		return gate.SetBool(field, v)
	case string:
		return gate.SetString(field, v)
	case []byte:
		return gate.SetText(field, v)
	case time.Time:
		return gate.SetTime(field, v)
	}
	return gate.Assign(field, value)
}
