// Package registry lists the database engines.
package registry

import (
	"context"
	"slices"
	"strings"

	"widegate/internal/engine"
	"widegate/internal/engine/mysql"
	"widegate/internal/engine/postgres"
	"widegate/internal/engine/sqlite"
	"widegate/internal/fault"
	"widegate/internal/migration"
	"widegate/internal/sqltext"
)

// engines are the known ones, in the order in which people are offered them.
var engines = []engine.Engine{
	postgres.Engine{},
	mysql.Engine{},
	sqlite.Engine{},
}

// All are the known engines.
func All() []engine.Engine { return slices.Clone(engines) }

// Names are the names of the known engines.
func Names() []string {
	names := make([]string, len(engines))
	for i, e := range engines {
		names[i] = e.Dialect().Name
	}
	return names
}

// Of is the engine of a name.
func Of(name string) (engine.Engine, error) {
	for _, e := range engines {
		if e.Dialect().Name == name {
			return e, nil
		}
	}
	return nil, fault.New("use one of "+strings.Join(Names(), ", "), "there is no engine %q", name)
}

// Named is the engine of a name, or of a scheme of its URLs.
func Named(word string) (engine.Engine, error) {
	for _, e := range engines {
		if slices.Contains(e.Schemes(), strings.ToLower(word)) {
			return e, nil
		}
	}
	return Of(word)
}

// OfURL is the engine that a URL, or the path of a database file, is one of; it is
// nil for a scheme that is not known.
func OfURL(url string) engine.Engine {
	scheme, _, hasScheme := strings.Cut(url, ":")
	if e, err := Named(scheme); err == nil {
		return e
	}
	if hasScheme && strings.Contains(url, "://") {
		return nil
	}
	return Embedded()
}

// Embedded is the engine that needs no server.
func Embedded() engine.Embedder { return sqlite.Engine{} }

// Dialects are those of the engines, the one first that takes plain SQL as it is.
func Dialects() []*sqltext.Dialect {
	list := []*sqltext.Dialect{Embedded().Dialect()}
	for _, e := range engines {
		if e.Dialect() != list[0] {
			list = append(list, e.Dialect())
		}
	}
	return list
}

// Drafting is how scripts are drafted for a schema of a dialect.
func Drafting(d *sqltext.Dialect) (migration.Engine, error) {
	e, err := Of(d.Name)
	if err != nil {
		return nil, err
	}
	return e.Drafting(), nil
}

// Trusting returns a context in which functions of a database may stand in for those
// of its server.
func Trusting(ctx context.Context) context.Context { return postgres.Trusting(ctx) }
