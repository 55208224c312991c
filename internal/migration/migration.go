// Package migration drafts the SQL script that moves a database from one schema
// to another, in the way of each engine.
//
// A script is made of steps in the order of their dependencies: views and
// routines go first, then names change, new tables and columns come, columns
// change, what is no longer wanted goes, and keys, references, routines and
// views come back. Where only a person can know what is right a step is a
// Decision with proposals; a script with an open one fails before it has
// changed anything. Nothing that rows hold is dropped or cut without one.
package migration

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
)

// Script moves a database one way.
type Script struct {
	Engine    string
	Changes   []catalog.Change // what it is about
	Steps     []Step
	Decisions []*Decision
	Notes     []string // what it cannot do
}

// Step is a statement or a few that belong together.
type Step struct {
	Note     string   // what to know of it, such as a lock and how to get around it
	SQL      []string // without the semicolons
	Decision *Decision
	Place    Place
}

// Place says where a step stands to the transaction of a script.
type Place int

// The places.
const (
	Inside Place = iota
	Ahead        // before it begins
	Behind       // after it has ended
)

// Decision is what only a person can decide.
type Decision struct {
	Number    int
	Question  string
	Proposals []Proposal
	Taken     int // place among the proposals, -1 while it is open
}

// Proposal is one way to decide.
type Proposal struct {
	Title string
	SQL   []string
}

// Options are what the caller knows beside the two schemas.
type Options struct {
	Renames []catalog.Rename
	Decide  func(d *Decision) int // takes a proposal, or -1; nil leaves all open
}

// ErrSame says that there is nothing to move.
var ErrSame = errors.New("the two schemas are the same")

// Draft makes the script from one schema to the other.
func Draft(before, after *catalog.Catalog, o Options) (*Script, error) {
	if before.Engine != after.Engine {
		return nil, fault.New("name two sources of the same engine", "one schema is of %s, the other of %s", before.Engine, after.Engine)
	}
	d := newDraft(before, after, o)
	d.script.Changes = catalog.Compare(before, after, o.Renames...)
	if len(d.script.Changes) == 0 && !d.onlyOrder() {
		return nil, ErrSame
	}
	switch before.Engine {
	case catalog.Postgres:
		(&postgres{draft: d}).write()
	case catalog.MySQL:
		(&mysql{d}).write()
	default:
		(&sqlite{d}).write()
	}
	return d.script, nil
}

// Open are the decisions that nobody has taken.
func (s *Script) Open() []*Decision {
	return slices.DeleteFunc(slices.Clone(s.Decisions), func(d *Decision) bool { return d.Taken >= 0 })
}

// Statements are those of the script in their order, for a program that runs
// them. There must be no open decision.
func (s *Script) Statements() []string {
	var list []string
	begin, end := transaction(s.Engine)
	for _, place := range []Place{Ahead, Inside, Behind} {
		if place == Inside && begin != "" {
			list = append(list, begin)
		}
		for _, step := range s.Steps {
			if step.Place == place {
				list = append(list, step.statements()...)
			}
		}
		if place == Inside && end != "" {
			list = append(list, end)
		}
	}
	return list
}

// Texts are the statements of the script, those of open decisions left out.
func (s *Script) Texts() []string {
	list := []string{}
	for _, step := range s.Steps {
		list = append(list, step.statements()...)
	}
	return list
}

func (s Step) statements() []string {
	if s.Decision != nil && s.Decision.Taken >= 0 {
		return s.Decision.Proposals[s.Decision.Taken].SQL
	}
	return s.SQL
}

// Run brings a script to a database.
func (s *Script) Run(ctx context.Context, exec func(ctx context.Context, statement string) error) error {
	if open := s.Open(); len(open) > 0 {
		return fault.New("take a proposal of each", "%d decisions are open", len(open))
	}
	for _, statement := range s.Statements() {
		if err := exec(ctx, statement); err != nil {
			return fmt.Errorf("%s: %w", firstLine(statement), err)
		}
	}
	return nil
}

func firstLine(s string) string {
	line, _, more := strings.Cut(s, "\n")
	if more {
		line += " …"
	}
	return line
}

// transaction are the statements around what can be taken back. MySQL ends one
// with every change of the schema.
func transaction(engine string) (begin, end string) {
	if engine == catalog.MySQL {
		return "", ""
	}
	return "BEGIN", "COMMIT"
}
