package read

import (
	"context"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
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
	e, err := s.engine()
	if err != nil {
		return err
	}
	d, err := e.Open(ctx, s.URL)
	if err != nil {
		return err
	}
	defer d.Close()
	return do(d)
}

func describeScripts(ctx context.Context, s Source, do func(d Describer) error) error {
	files, err := sqltext.Find(s.DDL)
	if err != nil {
		return err
	}
	e, err := s.engineOf(files)
	if err != nil {
		return err
	}
	if s.Scratch != "" {
		return inScratchDatabase(ctx, s, e, files, func(at string) error {
			session, err := e.Open(ctx, at)
			if err != nil {
				return err
			}
			defer session.Close()
			return do(session)
		})
	}
	session, err := e.OpenScripts(ctx, files)
	if err != nil {
		return err
	}
	if session == nil {
		return do(nil)
	}
	defer session.Close()
	return do(session)
}
