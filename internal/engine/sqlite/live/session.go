package live

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"

	"github.com/ncruces/go-sqlite3/driver"
)

// Session is a connection to a database file.
type Session struct{ db *sql.DB }

// Open opens the database file at path for reading.
func Open(path string) (*Session, error) {
	if err := checkJournal(path); err != nil {
		return nil, err
	}
	db, err := driver.Open(dataSource(path), addModules)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	return &Session{db}, nil
}

// Counts runs a query of one row of two numbers.
func (s *Session) Counts(ctx context.Context, query string) (first, second int64, err error) {
	err = s.db.QueryRowContext(ctx, query).Scan(&first, &second)
	return first, second, err
}

// Close closes the file.
func (s *Session) Close() { s.db.Close() }

// Create makes a database file at path, or opens one, for statements too.
func Create(path string) (*Session, error) {
	u := url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: "_pragma=busy_timeout(60000)&_pragma=foreign_keys(1)"}
	db, err := driver.Open(u.String(), addModules)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	db.SetMaxOpenConns(1) // a transaction is begun and ended by statements
	return &Session{db}, nil
}

// Exec runs a statement.
func (s *Session) Exec(ctx context.Context, statement string) error {
	_, err := s.db.ExecContext(ctx, statement)
	return err
}

// Names runs a query of one column of text.
func (s *Session) Names(ctx context.Context, query string) ([]string, error) {
	var names []string
	err := (&reader{db: s.db}).each(ctx, query, func(row *sql.Rows) error {
		var name string
		err := row.Scan(&name)
		names = append(names, name)
		return err
	})
	return names, err
}
