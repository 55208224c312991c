package sqlite

import (
	"context"
	"errors"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/read/script"
)

// OpenScripts opens a database in memory that scripts have made.
func OpenScripts(ctx context.Context, files []*script.File) (*Session, error) {
	db, err := inMemory(ctx)
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
// asking for none of its rows. The engine does not tell the types of arguments
// and of expressions, nor where an error is.
func (s *Session) Describe(ctx context.Context, text string, args int, rows bool) (_ []catalog.Type, columns []catalog.Column, at int, err error) {
	reading := strings.ToUpper(strings.TrimLeft(text, "( \n\t"))
	stmt, err := s.db.PrepareContext(ctx, text) // by itself, so that what is wrong with it is told of it
	if err != nil {
		return nil, nil, -1, errors.New(message(err))
	}
	if err := stmt.Close(); err != nil {
		return nil, nil, -1, err
	}
	if !rows || !strings.HasPrefix(reading, "SELECT") && !strings.HasPrefix(reading, "WITH") && !strings.HasPrefix(reading, "VALUES") || changesRows(reading) {
		return nil, nil, -1, nil
	}
	list, err := s.db.QueryContext(ctx, "SELECT * FROM ("+text+"\n) LIMIT 0", make([]any, args)...)
	if err != nil {
		return nil, nil, -1, errors.New(message(err))
	}
	defer list.Close()
	types, err := list.ColumnTypes()
	if err != nil {
		return nil, nil, -1, errors.New(message(err))
	}
	for _, t := range types {
		declared := t.DatabaseTypeName()
		c := catalog.Column{Name: t.Name(), Declared: declared, Nullable: true}
		if declared != "" {
			c.Type = columnType(declared)
		}
		columns = append(columns, c)
	}
	return nil, columns, -1, list.Err()
}

// changesRows holds for WITH … INSERT and the like.
func changesRows(text string) bool {
	return strings.HasPrefix(text, "WITH") && (strings.Contains(text, "INSERT INTO") || strings.Contains(text, "DELETE FROM") || strings.Contains(text, "UPDATE "))
}
