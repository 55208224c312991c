package live

import (
	"context"
	"errors"
	"slices"
	"strings"

	"widegate/internal/engine/mysql/dialect"

	driver "github.com/go-sql-driver/mysql"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// Describe prepares a statement. Of one that gives rows the columns are told by
// asking for none of its rows. The server does not tell the types of
// arguments, nor where an error is.
func (s *Session) Describe(ctx context.Context, text string, args int, rows bool) (_ []catalog.Type, columns []catalog.Column, at int, err error) {
	if !rows || !strings.HasPrefix(strings.ToUpper(strings.TrimLeft(text, "( \n\t")), "SELECT") && !strings.HasPrefix(strings.ToUpper(strings.TrimSpace(text)), "WITH") {
		stmt, err := s.conn.PrepareContext(ctx, text)
		if err != nil {
			return nil, nil, -1, message(err)
		}
		return nil, nil, -1, stmt.Close()
	}
	stmt, err := s.conn.PrepareContext(ctx, text) // for what is left out below
	if err != nil {
		return nil, nil, -1, message(err)
	}
	stmt.Close()
	if writesFile(text) {
		return nil, nil, -1, errors.New("the query writes a file")
	}
	// A query of somebody else's may call a function that changes rows.
	if _, err := s.conn.ExecContext(ctx, "START TRANSACTION READ ONLY"); err != nil {
		return nil, nil, -1, message(err)
	}
	defer s.conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") // there is nothing to keep
	empty, args := withoutRows(text, args)
	list, err := s.conn.QueryContext(ctx, empty, make([]any, args)...)
	if err != nil {
		return nil, nil, -1, message(err)
	}
	defer list.Close()
	types, err := list.ColumnTypes()
	if err != nil {
		return nil, nil, -1, message(err)
	}
	for _, t := range types {
		declared := strings.ToLower(t.DatabaseTypeName())
		base, unsigned := strings.CutPrefix(declared, "unsigned ")
		if unsigned {
			declared = base + " unsigned"
		}
		nullable, _ := t.Nullable()
		precision, scale, _ := t.DecimalSize()
		columns = append(columns, catalog.Column{Name: t.Name(), Declared: declared, Type: TypeOf(base, declared, 0, precision, scale), Nullable: nullable})
	}
	return nil, columns, -1, list.Err()
}

// writesFile reports whether a query puts its rows into a file of the server.
func writesFile(text string) bool {
	return slices.ContainsFunc(sqltext.Scan(text, dialect.MySQL), func(t sqltext.Token) bool {
		comment := text[t.From:t.To] // which the server may run
		runs := t.Kind == sqltext.Comment && (strings.HasPrefix(comment, "/*!") || strings.HasPrefix(comment, "/*M!"))
		return t.Is("OUTFILE") || t.Is("DUMPFILE") || runs && strings.Contains(strings.ToUpper(comment), "FILE")
	})
}

// withoutRows is a query of the same columns and no rows, and how many
// arguments are left in it.
func withoutRows(text string, args int) (string, int) {
	depth, end := 0, len(text)
	for _, t := range sqltext.Scan(text, dialect.MySQL) {
		switch {
		case t.Sign("("):
			depth++
		case t.Sign(")"):
			depth--
		case depth == 0 && end == len(text) && (t.Is("LIMIT") || t.Is("FOR") || t.Is("LOCK")):
			end = t.From
		case t.Sign("?") && t.From >= end:
			args--
		}
	}
	return text[:end] + " LIMIT 0", args
}

func message(err error) error {
	var e *driver.MySQLError
	if errors.As(err, &e) {
		return errors.New(e.Message)
	}
	return err
}
