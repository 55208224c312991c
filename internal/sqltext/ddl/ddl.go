// Package ddl is what the readers of scripts share that parse them without a server:
// problems with their places, what views are made of, and names that change in a
// catalog. Each engine's reader parses by the engine's real grammar and keeps,
// statement by statement, the catalog that the engine would have.
//
// What these readers give is what the live readers give, but for some differences:
// expressions of checks, defaults, generated columns and indexes are printed without
// the casts that a server adds; the definition of a view is its source text; what
// procedural code would do when it runs is not known, and neither are the types and
// functions that extensions bring.
package ddl

import (
	"fmt"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

// Problem is an error in a statement; at is a place in its text, in bytes.
type Problem struct {
	At   int
	Text string
	Next string
}

func (p *Problem) Error() string { return p.Text }

// Locate says where a problem is.
func Locate(s sqltext.Statement, err error) error {
	p, ok := err.(*Problem)
	if !ok {
		p = &Problem{Text: err.Error()}
	}
	next := p.Next
	if next == "" {
		next = "mend the statement, name another dialect with --engine, or read with a server: `database: {scratch: URL}` in widegate.yaml"
	}
	line, column := s.Position(p.At)
	return fault.New(next, "%s:%d:%d: %s: %s", s.File.Path, line, column, s.Head(), p.Text)
}

// NoSchema says that the scripts do not make a schema.
func NoSchema(name string, made []string) error {
	return fault.New("the scripts make "+strings.Join(made, ", "), "there is no schema %q", name)
}

// Unread is the note about a statement that is not read from scripts.
func Unread(s sqltext.Statement, why string) catalog.Note {
	line, column := s.Position(0)
	return catalog.Note{Text: fmt.Sprintf("%s:%d:%d: %s: %s", s.File.Path, line, column, s.Head(), why)}
}

// Why a statement is not read.
const (
	NotFromScripts = "is not read from scripts, only from a database"
	NotUnderstood  = "is not understood"
)
