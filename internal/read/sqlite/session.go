package sqlite

import (
	"context"
	"database/sql"
	"fmt"
)

// Session is a connection that only reads.
type Session struct{ db *sql.DB }

// Open opens the database file at path for reading.
func Open(path string) (*Session, error) {
	db, err := sql.Open("sqlite", dataSource(path))
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
