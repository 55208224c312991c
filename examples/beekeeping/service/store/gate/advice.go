package gate

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Advise says in plain words what a cause means, and on a line of its own what to
// do next. It is for errors that a person reads because a program does not start.
// The cause, which may be nil, is wrapped, and its text left out.
func Advise(cause error, next, format string, args ...any) error {
	return &advised{fmt.Sprintf(format, args...), next, cause}
}

type advised struct {
	what, next string
	cause      error
}

func (a *advised) Error() string { return a.what + "\n  next: " + a.next }
func (a *advised) Unwrap() error { return a.cause }

// WrongURL is the error of a database URL that is for another engine than the
// program was made for, or nil. Schemes are those that the engine takes, without
// the colon.
func WrongURL(address, engine, example string, schemes ...string) error {
	scheme, _, found := strings.Cut(address, ":")
	if found && strings.Contains(address, "://") {
		for _, s := range schemes {
			if strings.EqualFold(s, scheme) {
				return nil
			}
		}
	}
	what := "is not a URL"
	if found && strings.Contains(address, "://") {
		what = "begins with " + scheme + ":"
	}
	return Advise(nil, "name one as in "+example, "the database is to be one of %s, and what names it %s", engine, what)
}

// Lacking lists what a database lacks of the tables: a table, or columns of one.
// It reads no rows.
func Lacking(ctx context.Context, db DB, tables ...*Info) ([]string, error) {
	var list []string
	e := db.Engine()
	for _, t := range tables {
		names := t.qualified(e)
		err := probe(ctx, db, e.table(t.Schema, t.Name), names)
		if err == nil {
			continue
		}
		if errors.Is(err, ErrUnavailable) || ctx.Err() != nil {
			return nil, err
		}
		if probe(ctx, db, e.table(t.Schema, t.Name), []string{"1"}) != nil {
			list = append(list, t.Name)
			continue
		}
		for i := range t.Columns {
			if probe(ctx, db, e.table(t.Schema, t.Name), names[i:i+1]) != nil {
				list = append(list, t.Name+"."+t.Columns[i].Name)
			}
		}
	}
	return list, nil
}

func (t *Info) qualified(e *Engine) []string {
	list := make([]string, len(t.Columns))
	for i := range t.Columns {
		list[i] = e.quote(t.Name) + "." + e.quote(t.Columns[i].Name) // SQLite takes an unknown "name" for a text
	}
	return list
}

func probe(ctx context.Context, db DB, table string, names []string) error {
	rows, err := db.Query(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+table+" WHERE 1 = 0", nil)
	if err != nil {
		return err
	}
	for rows.Next() {
		continue
	}
	return errors.Join(rows.Err(), rows.Close())
}
