package live

import (
	"context"
	"errors"
	"strings"

	"github.com/ncruces/go-sqlite3"
	"github.com/ncruces/go-sqlite3/driver"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// OpenScripts opens a database in memory that scripts have made.
func OpenScripts(ctx context.Context, files []*sqltext.File) (*Session, error) {
	db, err := inMemory()
	if err != nil {
		return nil, err
	}
	if _, err := runScripts(ctx, db, files); err != nil {
		db.Close()
		return nil, err
	}
	return &Session{db}, nil
}

// Describe prepares a statement. Of one that gives rows the columns are told by
// preparing it as a table of another. The engine does not tell the types of
// arguments and of expressions.
func (s *Session) Describe(ctx context.Context, text string, _ int, rows bool) (_ []catalog.Type, columns []catalog.Column, at int, err error) {
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return nil, nil, -1, err
	}
	defer conn.Close()
	err = conn.Raw(func(c any) error {
		c.(driver.Conn).Raw().SetInterrupt(ctx)
		columns, at, err = describe(c.(driver.Conn).Raw(), text, rows)
		return err
	})
	return nil, columns, at, err
}

func describe(c *sqlite3.Conn, text string, rows bool) (columns []catalog.Column, at int, err error) {
	stmt, _, err := c.Prepare(text) // by itself, so that what is wrong with it is told of it
	if err != nil {
		return nil, place(text, err), errors.New(message(err))
	}
	if err := stmt.Close(); err != nil {
		return nil, -1, err
	}
	reading := strings.ToUpper(strings.TrimLeft(text, "( \n\t"))
	if !rows || !strings.HasPrefix(reading, "SELECT") && !strings.HasPrefix(reading, "WITH") && !strings.HasPrefix(reading, "VALUES") || changesRows(reading) {
		return nil, -1, nil
	}
	stmt, _, err = c.Prepare("SELECT * FROM (" + text + "\n)")
	if err != nil {
		return nil, -1, errors.New(message(err))
	}
	for i := range stmt.ColumnCount() {
		column := catalog.Column{Name: stmt.ColumnName(i), Declared: strings.ToUpper(stmt.ColumnDeclType(i)), Nullable: true}
		if column.Declared != "" {
			column.Type = columnType(column.Declared)
		}
		columns = append(columns, column)
	}
	return columns, -1, stmt.Close()
}

// changesRows holds for WITH … INSERT and the like.
func changesRows(text string) bool {
	return strings.HasPrefix(text, "WITH") && (strings.Contains(text, "INSERT INTO") || strings.Contains(text, "DELETE FROM") || strings.Contains(text, "UPDATE "))
}
