package gate

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"
)

// Isolation is how much a transaction sees of others that run meanwhile.
type Isolation uint8

// The levels of SQL. SQLite runs every transaction as Serializable.
const (
	DefaultIsolation Isolation = iota // what the database is set to
	ReadCommitted
	RepeatableRead
	Serializable
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
// is rolled back when do fails. On a database, do may run several times: what
// failed by a deadlock or for the order of transactions is tried again.
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
	return result, err
}

// inTx runs do in a transaction where db is not one already: what several
// statements do together must fail together.
func inTx(ctx context.Context, db DB, do func(tx DB) error) error {
	if IsTx(db) {
		return do(db)
	}
	return InTx(ctx, db, do)
}

// Tx is implemented by a DB that is a transaction.
type Tx interface{ Transaction() }

// IsTx reports whether db is a transaction.
func IsTx(db DB) bool {
	_, ok := find[Tx](db)
	return ok
}

// ErrNestedOptions is returned for options of a transaction within another.
var ErrNestedOptions = errors.New("a transaction within another cannot have an isolation level of its own, nor be read-only")

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
