package read

import (
	"context"

	"widegate/internal/catalog"
	"widegate/internal/engine/mysql"
	"widegate/internal/engine/postgres"
	"widegate/internal/sqltext"
	"widegate/internal/engine/sqlite"
)

// Describer asks an engine about statements, without running them.
type Describer interface {
	// Describe returns the types of a statement's arguments and columns, as far
	// as the engine tells them, and where in the text an error is.
	Describe(ctx context.Context, text string, args int, rows bool) (types []catalog.Type, columns []catalog.Column, at int, err error)
	Close()
}

// WithDescriber runs do with the engine of a source: the database itself, a
// scratch database, or SQLite in memory. Where there is none, do gets nil.
func WithDescriber(ctx context.Context, s Source, do func(d Describer) error) error {
	if err := s.complete(); err != nil {
		return err
	}
	if s.Progress == nil {
		s.Progress = func(string) {}
	}
	switch {
	case s.Snapshot != "":
		return do(nil)
	case len(s.DDL) > 0:
		return describeScripts(ctx, s, do)
	}
	d, err := openDescriber(ctx, s.Engine, s.URL)
	if err != nil {
		return err
	}
	defer d.Close()
	return do(d)
}

func openDescriber(ctx context.Context, engine, url string) (Describer, error) {
	switch engine {
	case catalog.Postgres:
		return postgres.Open(ctx, url)
	case catalog.MySQL:
		return mysql.Open(ctx, url)
	}
	return sqlite.Open(SQLitePath(url))
}

func describeScripts(ctx context.Context, s Source, do func(d Describer) error) error {
	files, err := sqltext.Find(s.DDL)
	if err != nil {
		return err
	}
	d := sqltext.Dialect(s.Engine)
	if d == "" {
		d = sqltext.Guess(files)
	}
	switch {
	case s.Scratch != "":
		return inScratchDatabase(ctx, s, d, files, func(_ scratchServer, at string) error {
			session, err := openDescriber(ctx, string(d), at)
			if err != nil {
				return err
			}
			defer session.Close()
			return do(session)
		})
	case d == sqltext.SQLite:
		session, err := sqlite.OpenScripts(ctx, files)
		if err != nil {
			return err
		}
		defer session.Close()
		return do(session)
	}
	return do(nil)
}
