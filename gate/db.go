package gate

import (
	"context"
	"errors"
	"strings"
	"time"
)

// DB is a database, or a transaction on one.
type DB interface {
	// Engine says how the database differs from others.
	Engine() *Engine
	// Query runs a statement that gives rows. The caller closes the rows.
	Query(ctx context.Context, text string, args []any) (Rows, error)
	// Exec runs a statement that gives none.
	Exec(ctx context.Context, text string, args []any) (Result, error)
	// InTx runs do in a transaction, or in a savepoint; see the function InTx.
	InTx(ctx context.Context, o TxOptions, do func(tx DB) error) error
	// Ping reports whether the database answers.
	Ping(ctx context.Context) error
	// Close gives the connections back.
	Close() error
}

// Rows is a result that is read row by row.
type Rows interface {
	Next() bool
	// Scan stores the current row by Assign, one field pointer a column.
	Scan(fields []any) error
	Err() error
	Close() error
}

// Result says what a statement did.
type Result struct {
	Rows   int64 // touched, for an update also those that it left as they were
	LastID int64 // the number given to a new row, where the engine tells
}

// ErrNotFound is returned when there is no row of the key asked for.
var ErrNotFound = errors.New("no such row")

// ErrStale is returned when a row was changed by another since it was read.
var ErrStale = errors.New("the row has been changed meanwhile")

// ErrUnavailable marks errors of a database that cannot be reached just now.
var ErrUnavailable = errors.New("database unavailable")

// ErrTimeout marks errors of statements that took longer than the database
// lets them.
var ErrTimeout = errors.New("statement timed out")

// Constraint is the kind of rule that a statement broke.
type Constraint string

// The rules of a database that a statement can break.
const (
	UniqueBroken    Constraint = "unique"     // another row has these values
	ReferenceBroken Constraint = "reference"  // the row referred to is not there
	StillReferenced Constraint = "referenced" // other rows refer to this one
	CheckBroken     Constraint = "check"
	NotNullBroken   Constraint = "not null"
	TooLong         Constraint = "too long" // or out of range
	WrongForm       Constraint = "form"     // not what the column's type looks like
)

// ConstraintError reports that the database refused a row.
type ConstraintError struct {
	Kind    Constraint
	Name    string   // the constraint's, where the engine tells it
	Table   string   // as the engine names it; for StillReferenced the referring one
	Columns []string // where they are known
	Err     error    // the driver's
}

// Error returns the driver's message, which is for logs and not for users.
func (e *ConstraintError) Error() string {
	text := "constraint (" + string(e.Kind)
	if e.Name != "" {
		text += " " + e.Name
	}
	return text + "): " + e.Err.Error()
}

// Unwrap returns the driver's error.
func (e *ConstraintError) Unwrap() error { return e.Err }

// nameColumns completes the error by what the table knows of its keys.
func (t *Info) nameColumns(err error) error {
	var broken *ConstraintError
	if !errors.As(err, &broken) || broken.Kind != UniqueBroken || len(broken.Columns) > 0 {
		return err
	}
	for _, u := range t.Uniques {
		if u.Name == broken.Name {
			broken.Columns = u.Columns
			return err
		}
	}
	if strings.EqualFold(broken.Name, "PRIMARY") || strings.HasSuffix(broken.Name, "_pkey") {
		for _, i := range t.Keys {
			broken.Columns = append(broken.Columns, t.Columns[i].Name)
		}
	}
	return err
}

// Engine says how one kind of database differs from others, as far as the
// statements of this package show it.
type Engine struct {
	Name         string
	Dialect      Dialect
	Quote        byte   // around names; doubled inside them
	Numbered     bool   // placeholders are $1, $2 … instead of ?
	Returning    bool   // INSERT, UPDATE and DELETE take RETURNING
	Returns      bool   // INSERT does
	KeepsSent    bool   // nothing but the types of columns changes a value on its way in
	LocksRows    bool   // SELECT takes FOR UPDATE
	InProcess    bool   // no server is asked: a statement for many rows saves nothing
	MaxArgs      int    // of one statement
	ArrayArgs    bool   // a list can be one argument: = ANY($1)
	OwnUUIDs     bool   // UUIDs are a type, and not kept as texts
	ChecksJSON   bool   // JSON columns hold nothing else
	RowWord      string // before each row of a VALUES that stands in FROM
	NullsHigh    bool   // NULL sorts as the largest value; else as the smallest
	EnumsByPlace bool   // enums sort by the place of their labels, but compare as text
	TakesDefault bool   // DEFAULT stands among the values of an INSERT
	FoldingLike  bool   // LIKE has no regard to case, and GLOB has
	ZeroTimes    bool   // the zero time.Time is stored as 0000-00-00
	TimeLayout   string // points in time are passed as text in UTC; empty: as time.Time
	// Mixed reports whether a column holds values in other forms than they are
	// stored here, which gate_shown makes one form of; nil is for engines whose types
	// have one.
	Mixed func(t *Info, column int) bool
	// Check refuses a value that the engine would store as another; nil is for
	// engines that do so themselves.
	Check func(c *Column, v any) *ConstraintError
	// Follows reports whether rows of a table that refer to removed ones of another
	// are removed or changed too. It is nil where errors name the table that keeps
	// rows from being removed.
	Follows func(ctx context.Context, db DB, child, parent string) bool
}

// arg turns a Go value into what the driver is given.
func (e *Engine) arg(v any) any {
	t, ok := v.(time.Time)
	switch {
	case !ok:
		return v
	case e.TimeLayout == "":
		return t.UTC()
	case t.IsZero() && e.ZeroTimes:
		return zeroDate
	}
	return t.UTC().Format(e.TimeLayout)
}

// quote returns a name as the engine takes it, whatever is in it.
func (e *Engine) quote(name string) string {
	q := string(e.Quote)
	return q + strings.ReplaceAll(name, q, q+q) + q
}

func (e *Engine) table(schema, name string) string {
	if schema == "" {
		return e.quote(name)
	}
	return e.quote(schema) + "." + e.quote(name)
}
