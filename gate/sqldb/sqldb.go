// Package sqldb makes a gate.DB of a database/sql pool, for the engines whose
// driver is one of database/sql. From the pool it takes connections, and
// speaks to the driver on them itself: it keeps the prepared statements of
// each connection, and hands column values from the driver to the entity
// without the copies and conversions on the way between.
package sqldb

import (
	"bytes"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
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
	// RolledBack reports that the database has ended the transaction with an
	// error.
	RolledBack func(error) bool
	// Stop ends the statement that runs on a connection, given by the number that
	// Connector was told to find out, or the connection as a whole.
	Stop func(id int64, connection bool) error
	// Stopped reports that a statement ended because of Stop.
	Stopped func(error) bool
}

// maxPrepared bounds the prepared statements of a connection; when there are as
// many, all are closed, and those that are used come back.
const maxPrepared = 256

// longText is the length of statements that are not kept: they hold values.
const longText = 1 << 16

// Connector makes the connections of a pool such that they keep their prepared
// statements. A pool that is given to New must be made by it. id returns the
// number by which Stop of Config finds a connection.
func Connector(c driver.Connector, id func(ctx context.Context, c driver.Conn) (int64, error)) driver.Connector {
	return connector{c, id}
}

type connector struct {
	driver.Connector
	id func(ctx context.Context, c driver.Conn) (int64, error)
}

func (c connector) Connect(ctx context.Context) (driver.Conn, error) {
	raw, err := c.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	s := &session{Conn: raw, prepared: map[string]driver.Stmt{}, hung: make(chan struct{})}
	if s.id, err = c.id(ctx, raw); err != nil {
		raw.Close()
		return nil, err
	}
	return s, nil
}

// session is a connection with its prepared statements.
type session struct {
	driver.Conn
	id       int64
	prepared map[string]driver.Stmt
	hung     chan struct{} // closed when the server does not stop a statement
	once     sync.Once
	spent    bool // it may stop a statement to come
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
	return !s.spent && (!ok || v.IsValid())
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
	s.keep(text, stmt)
	return stmt, nil
}

// keep keeps a statement for its next use.
func (s *session) keep(text string, stmt driver.Stmt) {
	if _, other := s.prepared[text]; other {
		stmt.Close()
		return
	}
	if len(s.prepared) >= maxPrepared {
		s.forget()
	}
	s.prepared[text] = stmt
}

// query runs a statement, which belongs to its rows until they are closed:
// another use of the same text meanwhile has a statement of its own.
func (s *session) query(ctx context.Context, text string, values []any, config *Config) (_ *rows, err error) {
	args, err := named(values)
	if err != nil {
		return nil, err
	}
	r := &rows{ctx: ctx, explain: config.Translate}
	ctx, r.watch = s.watch(ctx, config, &r.watching)
	defer func() {
		if err != nil {
			r.watch.end(err)
		}
	}()
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
	r.list, r.values = list, make([]driver.Value, len(list.Columns()))
	r.done = func() { s.keep(text, stmt) }
	if len(text) > longText {
		r.done = func() { stmt.Close() }
	}
	return r, nil
}

func (s *session) exec(ctx context.Context, text string, values []any, config *Config) (_ driver.Result, err error) {
	args, err := named(values)
	if err != nil {
		return nil, err
	}
	ctx, over := s.watch(ctx, config, &watch{})
	defer func() { over.end(err) }()
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
	if err != nil || len(text) > longText {
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
		list, err = s.query(ctx, text, args, &p.config)
		return err
	})
	if err != nil {
		return nil, p.explain(ctx, err)
	}
	list.conn = c
	list.explain = func(err error) error { return p.explain(ctx, err) }
	return list, nil
}

func (p *pool) Exec(ctx context.Context, text string, args []any) (gate.Result, error) {
	var result gate.Result
	c, err := p.onConn(ctx, func(s *session) error {
		done, err := s.exec(ctx, text, args, &p.config)
		if err != nil {
			return err
		}
		result, err = resultOf(done)
		return err
	})
	if err != nil {
		return result, p.explain(ctx, err)
	}
	return result, c.Close()
}

// explain translates an error; where the caller has left, that is the error.
func (p *pool) explain(ctx context.Context, err error) error {
	if err == nil || ctx.Err() == nil {
		return p.config.Translate(err)
	}
	return ctx.Err()
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
	begin := func(ctx context.Context) (gate.Session, error) { return p.begin(ctx, o) }
	return gate.Transact(ctx, o.Tries, p.config.Retryable, begin, do)
}

var isolations = map[gate.Isolation]sql.IsolationLevel{
	gate.ReadCommitted:  sql.LevelReadCommitted,
	gate.RepeatableRead: sql.LevelRepeatableRead,
	gate.Serializable:   sql.LevelSerializable,
}

func (p *pool) begin(ctx context.Context, o gate.TxOptions) (gate.Session, error) {
	t := &transaction{pool: p}
	var err error
	t.conn, err = p.onConn(ctx, func(s *session) (err error) {
		t.session = s
		t.tx, err = s.BeginTx(ctx, driver.TxOptions{Isolation: driver.IsolationLevel(isolations[o.Isolation]), ReadOnly: o.ReadOnly})
		return err
	})
	if err != nil {
		return nil, p.config.Translate(err)
	}
	return t, nil
}

// transaction is a connection with a transaction on it.
type transaction struct {
	pool    *pool
	conn    *sql.Conn
	session *session
	tx      driver.Tx
	open    *rows // the result that is still being read; the driver takes one at a time
}

func (t *transaction) Engine() *gate.Engine { return t.pool.config.Engine }

func (t *transaction) RolledBack(err error) bool { return t.pool.config.RolledBack(err) }

func (t *transaction) Commit(ctx context.Context) error {
	t.closeOpen()
	if err := t.tx.Commit(); err != nil {
		return t.pool.config.Translate(err)
	}
	t.conn.Close()
	return nil
}

// Rollback gives a connection up on which it does not work, so that nobody goes
// on within the transaction.
func (t *transaction) Rollback() {
	t.closeOpen()
	if t.tx.Rollback() != nil {
		t.conn.Raw(func(any) error { return driver.ErrBadConn })
	}
	t.conn.Close()
}

func (t *transaction) closeOpen() {
	if t.open != nil {
		t.open.Close()
	}
}

func (t *transaction) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	if err := t.spill(); err != nil {
		return nil, err
	}
	list, err := t.session.query(ctx, text, args, &t.pool.config)
	if err != nil {
		return nil, t.pool.explain(ctx, err)
	}
	list.explain = func(err error) error { return t.pool.explain(ctx, err) }
	t.open = list
	return list, nil
}

func (t *transaction) Exec(ctx context.Context, text string, args []any) (gate.Result, error) {
	if err := t.spill(); err != nil {
		return gate.Result{}, err
	}
	done, err := t.session.exec(ctx, text, args, &t.pool.config)
	if err != nil {
		return gate.Result{}, t.pool.explain(ctx, err)
	}
	return resultOf(done)
}

// spill reads what is left of an open result into memory, so that the
// connection can take another statement.
func (t *transaction) spill() error {
	if t.open == nil {
		return nil
	}
	err := t.open.spill()
	t.open = nil
	return err
}

// rows reads a result from the driver.
type rows struct {
	ctx      context.Context
	list     driver.Rows
	explain  func(error) error
	done     func()
	watch    *watch // nil where nobody can leave
	watching watch
	conn     *sql.Conn // to give back; nil in a transaction
	values   []driver.Value
	spilled  [][]driver.Value // rows that were read ahead
	ended    bool             // nothing is left to be read from the list
	err      error
	last     error // the driver's
	closed   bool
}

func (r *rows) Next() bool {
	if r.closed {
		return false
	}
	if len(r.spilled) > 0 {
		r.values, r.spilled = r.spilled[0], r.spilled[1:]
		return true
	}
	return r.err == nil && !r.ended && r.advance()
}

// advance reads the next row from the driver.
func (r *rows) advance() bool {
	err := r.ctx.Err()
	if err == nil {
		err = r.list.Next(r.values)
	}
	if err != nil && !errors.Is(err, io.EOF) {
		r.err, r.last = r.explain(err), err
	}
	return err == nil
}

// spill reads the rows that are left into memory.
func (r *rows) spill() error {
	if r.closed || r.ended {
		return nil
	}
	current := r.values
	for r.values = make([]driver.Value, len(current)); r.err == nil && r.advance(); {
		row := slices.Clone(r.values)
		for i, v := range row {
			if b, ok := v.([]byte); ok {
				row[i] = bytes.Clone(b)
			}
		}
		r.spilled = append(r.spilled, row)
	}
	r.values, r.ended = current, true
	err := r.end()
	return r.explain(err)
}

func (r *rows) Err() error { return r.err }

// end ends the statement.
func (r *rows) end() error {
	err := r.list.Close()
	r.watch.end(errors.Join(err, r.last))
	r.done()
	return err
}

func (r *rows) Close() error {
	if r.closed {
		return nil
	}
	r.closed = true
	var err error
	if !r.ended {
		err = r.end()
	}
	if r.conn != nil {
		err = errors.Join(err, r.conn.Close())
	}
	return r.explain(err)
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
