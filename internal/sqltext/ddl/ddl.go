// Package ddl reads DDL scripts of PostgreSQL and MySQL without a server: it
// parses them by the engine's real grammar and keeps, statement by statement,
// the catalog that the engine would have.
//
// What it gives is what the live readers give, but for these differences:
// expressions of checks, defaults, generated columns and indexes are printed
// without the casts that a server adds; the definition of a view is its source
// text; what procedural code would do when it runs is not known, and neither
// are the types and functions that extensions bring.
package ddl

import (
	"context"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

// Read reads the schemas that are named from scripts of the dialect; none
// means those that a connection would see by itself.
func Read(ctx context.Context, d sqltext.Dialect, files []*sqltext.File, schemas []string) (*catalog.Catalog, error) {
	if d == sqltext.Postgres {
		return readPostgres(ctx, files, schemas)
	}
	return readMySQL(ctx, files)
}

// problem is an error in a statement; at is a place in its text, in bytes.
type problem struct {
	at   int
	text string
	next string
}

func (p *problem) Error() string { return p.text }

// locate says where a problem is.
func locate(s sqltext.Statement, err error) error {
	p, ok := err.(*problem)
	if !ok {
		p = &problem{text: err.Error()}
	}
	next := p.next
	if next == "" {
		next = "mend the statement, name another dialect with --engine, or read with a server: `database: {scratch: URL}` in widegate.yaml"
	}
	line, column := s.Position(p.at)
	return fault.New(next, "%s:%d:%d: %s: %s", s.File.Path, line, column, s.Head(), p.text)
}

func noSchema(name string, made []string) error {
	return fault.New("the scripts make "+strings.Join(made, ", "), "there is no schema %q", name)
}
