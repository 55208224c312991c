package read

import (
	"context"

	"widegate/internal/engine"
	"widegate/internal/engine/registry"
)

// Session runs statements on one connection.
type Session = engine.Session

// Connect opens a session for statements of the user's own, as a client of the
// engine would: with the settings of the server.
func Connect(ctx context.Context, s Source) (Session, error) {
	e, err := s.engine()
	if err != nil {
		return nil, err
	}
	db, err := e.Connect(ctx, s.URL)
	return db, s.withoutSecrets(err)
}

// Missing reports whether the database of a source is not there, though its server
// is. A file that is empty is there.
func Missing(ctx context.Context, s Source) (bool, error) {
	e, err := s.engine()
	if err != nil {
		return false, err
	}
	return e.Missing(ctx, s.URL)
}

// MakeDatabase makes the database of a source, which is not there.
func MakeDatabase(ctx context.Context, s Source) error {
	e, err := s.engine()
	if err != nil {
		return err
	}
	return e.Make(ctx, s.URL)
}

// ErrorPlace is where in a statement its error is, in bytes; -1 where the engine
// does not tell.
func ErrorPlace(statement string, err error) int {
	for _, e := range registry.All() {
		if at, known := e.ErrorPlace(statement, err); known {
			return at
		}
	}
	return -1
}

// ErrorText is what an engine says of an error, without its codes.
func ErrorText(err error) string {
	for _, e := range registry.All() {
		if text, known := e.ErrorText(err); known {
			return text
		}
	}
	return err.Error()
}
