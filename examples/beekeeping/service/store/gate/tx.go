package gate

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strconv"
	"sync/atomic"
	"time"
)

// Isolation is how much a transaction sees of others that run meanwhile. The
// zero Isolation is what the database is set to.
type Isolation struct{ level isolationLevel }

type isolationLevel uint8

const (
	asTheDatabase isolationLevel = iota
	readCommitted
	repeatableRead
	serializable
)

// The levels of SQL. SQLite runs every transaction as Serializable.
var (
	ReadCommitted  = Isolation{readCommitted}
	RepeatableRead = Isolation{repeatableRead}
	Serializable   = Isolation{serializable}
)

// TxOptions say how a transaction runs. A transaction within another is a
// savepoint and takes none of them.
type TxOptions struct {
	Isolation Isolation
	ReadOnly  bool // nothing can be stored
	// Tries is how often the transaction is run before a serialization failure
	// or a deadlock is final; 0 stands for 5, 1 for no second time.
	Tries int
	// StatementTimeout is how long each statement may take; 0 is no limit.
	StatementTimeout time.Duration
}

// InTx runs do in a transaction on db, or in a savepoint of the one it is. It
// is rolled back when do fails or panics, and rows that were stored in it then
// have the values they had before. On a database, do may run several times:
// what failed by a deadlock or for the order of transactions is tried again.
func InTx(ctx context.Context, db DB, do func(tx DB) error) error {
	return InTxWith(ctx, db, TxOptions{}, do)
}

// InTxWith is InTx with options.
func InTxWith(ctx context.Context, db DB, o TxOptions, do func(tx DB) error) error {
	if o.StatementTimeout > 0 {
		db = WithStatementTimeout(db, o.StatementTimeout)
	}
	return db.InTx(ctx, o, do)
}

// InTxValue is InTx for a function that has a result.
func InTxValue[T any](ctx context.Context, db DB, do func(tx DB) (T, error)) (T, error) {
	var result T
	err := InTx(ctx, db, func(tx DB) (err error) {
		result, err = do(tx)
		return err
	})
	if err != nil {
		var none T
		return none, err
	}
	return result, nil
}

// ErrNestedOptions is returned for options of a transaction within another.
var ErrNestedOptions = errors.New("a transaction within another cannot have an isolation level of its own, nor be read-only")

// ErrTxOver is returned by statements of a transaction that has ended: because
// the function that ran in it has returned, or because the database rolled it
// back itself, after a deadlock for example.
var ErrTxOver = errors.New("the transaction is over")

// Session is a connection with an open transaction. It is for the packages that
// make a DB; see Transact.
type Session interface {
	Engine() *Engine
	Query(ctx context.Context, text string, args []any) (Rows, error)
	Exec(ctx context.Context, text string, args []any) (Result, error)
	// Commit commits, and gives the connection back where that worked.
	Commit(ctx context.Context) error
	// Rollback rolls back what was not committed and gives the connection back.
	// One on which that does not work must not be used again.
	Rollback()
	// RolledBack reports whether the database itself has ended the transaction
	// with this error.
	RolledBack(err error) bool
}

// Transact runs do in a transaction that begin opens, several times where
// retryable says that an error may not come again. Whatever ends do, an error,
// a panic or the end of its goroutine, the transaction is committed or rolled
// back, and rows that it changed are put back with it.
func Transact(ctx context.Context, tries int, retryable func(error) bool, begin func(ctx context.Context) (Session, error), do func(tx DB) error) error {
	return Retry(ctx, tries, retryable, func() error { return transactOnce(ctx, begin, do) })
}

func transactOnce(ctx context.Context, begin func(ctx context.Context) (Session, error), do func(tx DB) error) error {
	s, err := begin(ctx)
	if err != nil {
		return fmt.Errorf("beginning a transaction: %w", err)
	}
	tx := &transaction{Session: s, shared: &txShared{}, undo: undo{}}
	committed := false
	defer func() {
		tx.shared.end(ErrTxOver)
		if !committed {
			s.Rollback()
			tx.undo.restore()
		}
	}()
	if err := do(tx); err != nil {
		return err
	}
	if err := tx.shared.fault(); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := s.Commit(ctx); err != nil {
		return fmt.Errorf("committing: %w", err)
	}
	committed = true
	return nil
}

func (t *transaction) inner() any { return t.Session }

// transaction is a transaction, or a savepoint in one.
type transaction struct {
	Session
	shared *txShared
	undo   undo
}

// txShared is what a transaction and its savepoints have in common.
type txShared struct {
	savepoints int
	over       atomic.Pointer[error] // why no statement can run any more
}

func (s *txShared) end(why error) { s.over.CompareAndSwap(nil, &why) }

func (s *txShared) fault() error {
	if why := s.over.Load(); why != nil {
		return *why
	}
	return nil
}

func (t *transaction) Ping(context.Context) error { return t.shared.fault() }
func (t *transaction) Close() error               { return nil }
func (t *transaction) Transaction()               {}

func (t *transaction) Query(ctx context.Context, text string, args []any) (Rows, error) {
	if err := t.shared.fault(); err != nil {
		return nil, err
	}
	rows, err := t.Session.Query(ctx, text, args)
	return rows, t.checked(err)
}

func (t *transaction) Exec(ctx context.Context, text string, args []any) (Result, error) {
	if err := t.shared.fault(); err != nil {
		return Result{}, err
	}
	result, err := t.Session.Exec(ctx, text, args)
	return result, t.checked(err)
}

// checked makes sure that nothing goes on outside of a transaction which the
// database has rolled back: what follows would be stored at once.
func (t *transaction) checked(err error) error {
	if err != nil && t.RolledBack(err) {
		t.shared.end(fmt.Errorf("%w: it was rolled back by the database: %w", ErrTxOver, err))
	}
	return err
}

// InTx runs do in a savepoint. Nothing is tried again: that is for the whole
// transaction to do.
func (t *transaction) InTx(ctx context.Context, o TxOptions, do func(tx DB) error) error {
	if o.Isolation != (Isolation{}) || o.ReadOnly {
		return ErrNestedOptions
	}
	t.shared.savepoints++
	name := "gate_" + strconv.Itoa(t.shared.savepoints)
	if _, err := t.Exec(ctx, "SAVEPOINT "+name, nil); err != nil {
		return fmt.Errorf("setting a savepoint: %w", err)
	}
	inner := &transaction{Session: t.Session, shared: t.shared, undo: undo{}}
	kept := false
	defer func() {
		if !kept {
			t.rollbackTo(ctx, name)
			inner.undo.restore()
		}
	}()
	if err := do(inner); err != nil {
		return err
	}
	if _, err := t.Exec(ctx, "RELEASE SAVEPOINT "+name, nil); err != nil {
		return fmt.Errorf("releasing a savepoint: %w", err)
	}
	kept = true
	t.undo.take(inner.undo)
	return nil
}

// rollbackTo takes back what was done since a savepoint. Where that fails,
// nothing of the transaction can be kept.
func (t *transaction) rollbackTo(ctx context.Context, name string) {
	ctx = context.WithoutCancel(ctx)
	for _, text := range []string{"ROLLBACK TO SAVEPOINT " + name, "RELEASE SAVEPOINT " + name} {
		if _, err := t.Exec(ctx, text, nil); err != nil {
			t.shared.end(fmt.Errorf("%w: rolling back to a savepoint: %w", ErrTxOver, err))
			return
		}
	}
}

// undo knows, by row, how to give a row the values that it had before.
type undo map[any]func()

func (u undo) restore() {
	for _, back := range u {
		back()
	}
}

// take adds what a savepoint changed. What the transaction itself knows of a
// row is older.
func (u undo) take(inner undo) {
	for row, back := range inner {
		if _, known := u[row]; !known {
			u[row] = back
		}
	}
}

// keep remembers row as it is, to be put back when the transaction of db is
// rolled back, and returns a function that does so at once.
func keep(db DB, row any) (back func()) {
	back = copyOf(row)
	if tx, ok := find[*transaction](db); ok {
		if _, known := tx.undo[row]; !known {
			tx.undo[row] = back
		}
	}
	return back
}

// copyOf copies a row, which is a pointer to a struct, and returns a function
// that gives it the values of the copy.
func copyOf(row any) (back func()) {
	v := reflect.ValueOf(row).Elem()
	saved := reflect.New(v.Type()).Elem()
	saved.Set(v)
	return func() { v.Set(saved) }
}

// Tx is implemented by a DB that is a transaction.
type Tx interface{ Transaction() }

// IsTx reports whether db is a transaction.
func IsTx(db DB) bool {
	_, ok := find[Tx](db)
	return ok
}

// together runs do, which are several statements that must be stored together
// or not at all: in a transaction, or in a savepoint where db is one already. Of
// several calls that lie within each other, the outermost does so.
func together(ctx context.Context, db DB, do func(tx DB) error) error {
	return togetherWith(ctx, db, TxOptions{}, do)
}

func togetherWith(ctx context.Context, db DB, o TxOptions, do func(tx DB) error) error {
	if _, ok := db.(*compound); ok {
		return do(db)
	}
	return db.InTx(ctx, o, func(tx DB) error { return do(&compound{tx}) })
}

// compound is a transaction in which any error undoes all of a call.
type compound struct{ DB }

func (c *compound) inner() any { return c.DB }

// apart is a transaction for the developer's own code, whose errors need not
// end the call that it is part of.
func apart(tx DB) DB {
	if c, ok := tx.(*compound); ok {
		return c.DB
	}
	return tx
}

// maxTries is how often a transaction is run before its error is final.
const maxTries = 5

// Retry runs a transaction again while its error is retryable, a few times and
// after a random wait that grows. It is for the packages that make a DB.
func Retry(ctx context.Context, tries int, retryable func(error) bool, once func() error) error {
	if tries <= 0 {
		tries = maxTries
	}
	for try := 1; ; try++ {
		err := once()
		if err == nil || try >= tries || ctx.Err() != nil || !retryable(err) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(time.Duration(rand.Int64N(int64(10*time.Millisecond) << min(try, 8)))):
		}
	}
}
