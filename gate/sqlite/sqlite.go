// Package sqlite opens SQLite databases for the runtime, through the engine's
// own interface of connections, prepared statements and steps.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/ncruces/go-sqlite3"

	"widegate/gate"
	"widegate/gate/sqlite/spelling"
)

// Engine says how SQLite differs from other databases.
var Engine = &gate.Engine{
	Name:        "sqlite",
	Dialect:     spelling.SQLite{},
	Quote:       '"',
	Returning:   true,
	Returns:     true,
	InProcess:   true,
	KeepsSent:   true,
	FoldingLike: true,
	Check:       check,
	MaxArgs:     32766,
	TimeLayout:  timeLayout,
	Follows:     follows,
}

// follows reports whether rows of a table that refer to removed ones of another are
// removed or changed themselves, by what the schema says.
func follows(ctx context.Context, db gate.DB, child, parent string) bool {
	rows, err := db.Query(ctx, `SELECT count(*) FROM pragma_foreign_key_list(?) WHERE lower("table") = lower(?) AND on_delete IN ('NO ACTION', 'RESTRICT')`, []any{child, parent})
	if err != nil {
		return false
	}
	defer rows.Close()
	keeps := int64(1)
	if rows.Next() && rows.Scan([]any{&keeps}) != nil {
		return false
	}
	return keeps == 0
}

// timeLayout is the form of CURRENT_TIMESTAMP, with a fraction only where there is
// one: such texts sort as the times do.
const timeLayout = "2006-01-02 15:04:05.999999999"

// exactDigits is how many digits of a number are kept that is no whole number of
// 64 bits: such numbers are doubles.
const (
	exactDigits   = 15
	mostMagnitude = 300 // powers of ten
)

// check refuses numbers that would be stored as others.
func check(c *gate.Column, v any) *gate.ConstraintError {
	switch v := v.(type) {
	case float64:
		if math.IsNaN(v) {
			return &gate.ConstraintError{Kind: gate.WrongForm, Err: errors.New("SQLite has no NaN, and would store NULL")}
		}
	case string:
		number := strings.TrimSpace(v)
		if c.Type == gate.TypeNumeric || c.Type == gate.TypeJSON && isNumber(number) {
			return checkNumber(number)
		}
	}
	return nil
}

func isNumber(text string) bool {
	return text != "" && (text[0] == '-' || text[0] >= '0' && text[0] <= '9')
}

func checkNumber(text string) *gate.ConstraintError {
	if _, err := strconv.ParseInt(text, 10, 64); err == nil {
		return nil
	}
	mantissa, exponent, _ := strings.Cut(strings.ToLower(strings.TrimPrefix(text, "-")), "e")
	power, _ := strconv.Atoi(exponent)
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits := strings.TrimLeft(whole+fraction, "0")
	magnitude := len(strings.TrimLeft(whole, "0")) + power
	switch digits = strings.TrimRight(digits, "0"); {
	case strings.ContainsAny(text, "NIny"):
		return &gate.ConstraintError{Kind: gate.WrongForm, Err: fmt.Errorf("SQLite has no number %s", text)}
	case len(digits) > exactDigits, magnitude > mostMagnitude, magnitude < -mostMagnitude, len(fraction) > mostMagnitude:
		return &gate.ConstraintError{Kind: gate.TooLong, Err: fmt.Errorf("SQLite keeps %d digits of a number; there are %d", exactDigits, len(digits))}
	}
	return nil
}

const (
	mostConnections = 16
	writerWaits     = 5 * time.Second // for another writer
)

// Open opens the database file of a URL such as sqlite:bees.db, or of a path, which must exist. References are
// enforced, readers do not wait for the writer, and a writer waits up to five
// seconds for another.
func Open(ctx context.Context, address string) (gate.DB, error) {
	if strings.Contains(address, "://") && !strings.HasPrefix(address, "sqlite:") {
		return nil, gate.WrongURL(address, "SQLite", "sqlite:bees.db", "sqlite")
	}
	d := &database{path: strings.TrimPrefix(strings.TrimPrefix(address, "sqlite:"), "//"), slots: make(chan struct{}, mostConnections)}
	d.forms.path = d.path
	d.engine = *Engine
	d.engine.Mixed = d.forms.mixed
	if err := d.Ping(ctx); err != nil {
		d.Close()
		return nil, refused(d.path, err)
	}
	return d, nil
}

// refused explains why a file cannot be opened.
func refused(path string, err error) error {
	full := path
	if absolute, relative := filepath.Abs(path); relative == nil {
		full = absolute
	}
	_, missing := os.Stat(path)
	switch {
	case errors.Is(missing, os.ErrNotExist):
		return gate.Advise(err, "name the file by its full path, or make it first", "there is no database file %s", full)
	case errors.Is(err, sqlite3.NOTADB):
		return gate.Advise(err, "check the path", "%s is no SQLite database", full)
	case errors.Is(err, sqlite3.CANTOPEN), errors.Is(err, sqlite3.READONLY), errors.Is(err, sqlite3.PERM):
		return gate.Advise(err, "give yourself the right to write to the file and its folder", "%s cannot be opened for writing", full)
	}
	return fmt.Errorf("opening %s: %w", full, err)
}

// Find looks for the file of a relative path in the current folder and those above
// it, and then likewise from the program's own folder, so that a program finds its
// database wherever it is started. What is not found is returned as it is.
func Find(address string) string {
	path := strings.TrimPrefix(strings.TrimPrefix(address, "sqlite:"), "//")
	if filepath.IsAbs(path) || strings.Contains(path, "://") {
		return address
	}
	var from []string
	if here, err := os.Getwd(); err == nil {
		from = append(from, here)
	}
	if program, err := os.Executable(); err == nil {
		from = append(from, filepath.Dir(program))
	}
	for _, folder := range from {
		for ; ; folder = filepath.Dir(folder) {
			if info, err := os.Stat(filepath.Join(folder, path)); err == nil && !info.IsDir() {
				return "sqlite:" + filepath.Join(folder, path)
			}
			if folder == filepath.Dir(folder) {
				break
			}
		}
	}
	return address
}

// database hands out connections to a file. Those that are not used wait for
// their next use.
type database struct {
	path   string
	engine gate.Engine
	forms  forms
	slots  chan struct{} // one for each connection that is used

	mu     sync.Mutex
	idle   []*conn
	closed bool
}

var errClosed = errors.New("the database has been closed")

// take takes a connection out; free gives it back.
func (d *database) take(ctx context.Context) (*conn, error) {
	select {
	case d.slots <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	d.mu.Lock()
	closed := d.closed
	var c *conn
	if n := len(d.idle); n > 0 {
		c = d.idle[n-1]
		d.idle = d.idle[:n-1]
	}
	d.mu.Unlock()
	var err error
	if closed {
		err = errClosed
	} else if c == nil {
		c, err = connect(d.path)
	}
	if err != nil {
		<-d.slots
		return nil, err
	}
	return c, nil
}

func (d *database) free(c *conn) {
	d.mu.Lock()
	defer d.mu.Unlock()
	<-d.slots
	if d.closed || c.broken {
		c.close()
		return
	}
	d.idle = append(d.idle, c)
}

func (d *database) Engine() *gate.Engine { return &d.engine }

func (d *database) Ping(ctx context.Context) error {
	c, err := d.take(ctx)
	if err != nil {
		return translate(err)
	}
	d.free(c)
	return nil
}

// Close closes the connections, those that are used when they come back.
func (d *database) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = true
	faults := []error{d.forms.close()}
	for _, c := range d.idle {
		faults = append(faults, c.close())
	}
	d.idle = nil
	return errors.Join(faults...)
}

func (d *database) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	c, err := d.take(ctx)
	if err != nil {
		return nil, translate(err)
	}
	list, err := c.query(ctx, text, args)
	if err != nil {
		d.free(c)
		return nil, err
	}
	list.done = func() { d.free(c) }
	return list, nil
}

func (d *database) Exec(ctx context.Context, text string, args []any) (gate.Result, error) {
	c, err := d.take(ctx)
	if err != nil {
		return gate.Result{}, translate(err)
	}
	defer d.free(c)
	return c.exec(ctx, text, args)
}

func (d *database) InTx(ctx context.Context, o gate.TxOptions, do func(tx gate.DB) error) error {
	begin := func(ctx context.Context) (gate.Session, error) {
		c, err := d.take(ctx)
		if err != nil {
			return nil, translate(err)
		}
		t := &transaction{conn: c, database: d, readOnly: o.ReadOnly}
		if err := t.begin(ctx); err != nil {
			t.Rollback()
			return nil, waited{err}
		}
		return t, nil
	}
	return gate.Transact(ctx, o.Tries, busy, begin, do)
}

// transaction is a connection with a transaction on it.
type transaction struct {
	*conn
	database *database
	readOnly bool
	open     map[*rows]bool // results that are still being read
}

// begin begins the transaction. One that may write has the file to itself from
// its beginning: what is read in it is not changed by another.
func (t *transaction) begin(ctx context.Context) error {
	if !t.readOnly {
		return t.run(ctx, "BEGIN IMMEDIATE")
	}
	if err := t.run(ctx, "PRAGMA query_only = 1"); err != nil {
		return err
	}
	return t.run(ctx, "BEGIN")
}

func (t *transaction) Engine() *gate.Engine { return &t.database.engine }

// RolledBack reports whether the engine has ended the transaction: some errors
// make it do so.
func (t *transaction) RolledBack(error) bool { return t.GetAutocommit() }

func (t *transaction) Commit(ctx context.Context) error {
	t.closeOpen()
	if err := t.run(ctx, "COMMIT"); err != nil {
		return err
	}
	t.free()
	return nil
}

func (t *transaction) Rollback() {
	t.closeOpen()
	if !t.GetAutocommit() && t.run(context.Background(), "ROLLBACK") != nil {
		t.broken = true // nobody must go on within it
	}
	t.free()
}

func (t *transaction) closeOpen() {
	for r := range t.open {
		r.Close()
	}
}

func (t *transaction) free() {
	if t.readOnly && t.run(context.Background(), "PRAGMA query_only = 0") != nil {
		t.broken = true
	}
	t.database.free(t.conn)
}

func (t *transaction) Query(ctx context.Context, text string, args []any) (gate.Rows, error) {
	list, err := t.query(ctx, text, args)
	if err != nil {
		return nil, err
	}
	if t.open == nil {
		t.open = map[*rows]bool{}
	}
	t.open[list] = true
	list.done = func() { delete(t.open, list) }
	return list, nil
}

func (t *transaction) Exec(ctx context.Context, text string, args []any) (gate.Result, error) {
	return t.exec(ctx, text, args)
}

// waited is an error of the beginning of a transaction, for which the engine has
// waited as long as it may.
type waited struct{ error }

func (w waited) Unwrap() error { return w.error }

// busy reports whether a transaction may succeed when it is run again.
func busy(err error) bool {
	return (errors.Is(err, sqlite3.BUSY) || errors.Is(err, sqlite3.LOCKED)) && !errors.As(err, new(waited))
}

// tooLarge are words of errors about values that go beyond what the engine takes.
var tooLarge = []string{beyondNumbers, "integer overflow", "pattern too complex", "too big"}

// passing are errors of the file, the disk or other writers, and not of a
// statement.
var passing = []sqlite3.ErrorCode{
	sqlite3.BUSY, sqlite3.LOCKED, sqlite3.CANTOPEN, sqlite3.FULL, sqlite3.IOERR, sqlite3.READONLY, sqlite3.PROTOCOL, sqlite3.NOMEM,
}

func translate(err error) error {
	if slices.ContainsFunc(passing, func(code sqlite3.ErrorCode) bool { return errors.Is(err, code) }) {
		return fmt.Errorf("%w: %w", gate.ErrUnavailable, err)
	}
	var e *sqlite3.Error
	if !errors.As(err, &e) {
		return err
	}
	broken := &gate.ConstraintError{Err: err}
	switch e.ExtendedCode() {
	case sqlite3.CONSTRAINT_UNIQUE, sqlite3.CONSTRAINT_PRIMARYKEY, sqlite3.CONSTRAINT_ROWID:
		broken.Kind = gate.UniqueBroken
		broken.Table, broken.Columns = failedColumns(e.Error())
	case sqlite3.CONSTRAINT_FOREIGNKEY, sqlite3.CONSTRAINT_TRIGGER:
		broken.Kind = gate.ReferenceBroken
		if !strings.Contains(e.Error(), "FOREIGN KEY") { // a trigger raised it
			broken.Kind = gate.CheckBroken
		}
	case sqlite3.CONSTRAINT_CHECK:
		broken.Kind = gate.CheckBroken
		broken.Name = failedRule(e.Error())
	case sqlite3.CONSTRAINT_NOTNULL:
		broken.Kind = gate.NotNullBroken
		broken.Table, broken.Columns = failedColumns(e.Error())
	default:
		if slices.ContainsFunc(tooLarge, func(words string) bool { return strings.Contains(e.Error(), words) }) {
			broken.Kind = gate.TooLong
			return broken
		}
		return err
	}
	return broken
}

// failedRule returns what stands behind the last "constraint failed: " in a
// message such as "constraint failed: CHECK constraint failed: name".
func failedRule(message string) string {
	const before = "constraint failed: "
	at := strings.LastIndex(message, before)
	if at < 0 {
		return ""
	}
	return message[at+len(before):]
}

// failedColumns reads "hive.apiary_id, hive.name".
func failedColumns(message string) (table string, columns []string) {
	for _, part := range strings.Split(failedRule(message), ", ") {
		if t, column, ok := strings.Cut(part, "."); ok {
			table = t
			columns = append(columns, column)
		}
	}
	return table, columns
}
