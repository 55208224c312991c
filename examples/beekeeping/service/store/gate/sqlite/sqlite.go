// Package sqlite opens SQLite databases for the runtime.
package sqlite

import (
	"context"
	"database/sql"
	sqldriver "database/sql/driver"
	"errors"
	"fmt"
	"net/url"
	"strings"

	driver "modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"

	"beekeeping/store/gate"
	"beekeeping/store/gate/sqldb"
)

// Engine says how SQLite differs from other databases.
var Engine = &gate.Engine{
	Name:        "sqlite",
	Quote:       '"',
	Returning:   true,
	Returns:     true,
	KeepsSent:   true,
	PlainTimes:  true,
	FoldingLike: true,
	MaxArgs:     32766,
	// The form of CURRENT_TIMESTAMP, with a fraction only where there is one:
	// such texts sort as the times do.
	TimeLayout: "2006-01-02 15:04:05.999999999",
}

// Open opens the database file at path, which must exist. References are
// enforced, readers do not wait for the writer, and a writer waits up to five
// seconds for another.
func Open(ctx context.Context, path string) (gate.DB, error) {
	db := sql.OpenDB(sqldb.Connector(file{dataSource(path)}))
	g := sqldb.New(db, sqldb.Config{
		Engine: Engine, Translate: translate, Retryable: busy, OneIsolation: true,
		ReadOnly: "PRAGMA query_only = 1", ReadWrite: "PRAGMA query_only = 0",
	})
	if err := g.Ping(ctx); err != nil {
		g.Close()
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	return g, nil
}

// file makes connections to a database file.
type file struct{ source string }

func (f file) Connect(context.Context) (sqldriver.Conn, error) { return f.Driver().Open(f.source) }
func (f file) Driver() sqldriver.Driver                        { return &driver.Driver{} }

// dataSource takes a path, or one behind "sqlite:".
func dataSource(path string) string {
	path = strings.TrimPrefix(strings.TrimPrefix(path, "sqlite:"), "//")
	u := url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath()}
	q := url.Values{}
	q.Set("mode", "rw")
	q.Set("_txlock", "immediate")
	for _, pragma := range []string{"busy_timeout(5000)", "foreign_keys(1)", "journal_mode(WAL)", "synchronous(NORMAL)"} {
		q.Add("_pragma", pragma)
	}
	u.RawQuery = q.Encode()
	return u.String()
}

func busy(err error) bool {
	var e *driver.Error
	if !errors.As(err, &e) {
		return false
	}
	primary := e.Code() & 0xff
	return primary == codes.SQLITE_BUSY || primary == codes.SQLITE_LOCKED
}

func translate(err error) error {
	var e *driver.Error
	if !errors.As(err, &e) {
		return err
	}
	broken := &gate.ConstraintError{Err: err}
	switch e.Code() {
	case codes.SQLITE_CONSTRAINT_UNIQUE, codes.SQLITE_CONSTRAINT_PRIMARYKEY, codes.SQLITE_CONSTRAINT_ROWID:
		broken.Kind = gate.UniqueBroken
		broken.Table, broken.Columns = failedColumns(e.Error())
	case codes.SQLITE_CONSTRAINT_FOREIGNKEY, codes.SQLITE_CONSTRAINT_TRIGGER:
		broken.Kind = gate.ReferenceBroken
	case codes.SQLITE_CONSTRAINT_CHECK:
		broken.Kind = gate.CheckBroken
		broken.Name = failedRule(e.Error())
	case codes.SQLITE_CONSTRAINT_NOTNULL:
		broken.Kind = gate.NotNullBroken
		broken.Table, broken.Columns = failedColumns(e.Error())
	default:
		if busy(err) || e.Code() == codes.SQLITE_CANTOPEN {
			return fmt.Errorf("%w: %w", gate.ErrUnavailable, err)
		}
		return err
	}
	return broken
}

// failedRule returns what stands behind "constraint failed: " in a message of
// the form "constraint failed: CHECK constraint failed: name (275)".
func failedRule(message string) string {
	at := strings.LastIndex(message, "constraint failed: ")
	if at < 0 {
		return ""
	}
	rule := message[at+len("constraint failed: "):]
	if end := strings.LastIndex(rule, " ("); end >= 0 {
		rule = rule[:end]
	}
	return rule
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
