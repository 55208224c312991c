// Package migration drafts the SQL script that moves a database from one schema
// to another, in the way of each engine.
//
// A script has three parts. It sets what it relies on for its session. It then
// tests, on the rows that are there, every condition that could make a step fail
// or change a value, and stops before anything has changed if one does not hold.
// The steps follow, in the order of their dependencies: what is in the way goes,
// names change, new tables and columns come, columns change, what is no longer
// wanted goes, and views, routines, triggers and rights come back.
//
// Whatever client runs it, a script ends with the new schema and every row, or
// with the old schema and every row. Each engine has its own way to that, and its
// own spelling: an Engine, which is the package drafting of the engine's folder. This
// package keeps the order, the decisions and the proof.
//
// Where only a person can know what is right, a step is a Decision with
// proposals. A script with an open one changes nothing.
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
	Checks    []Check
	Steps     []Step
	Decisions []*Decision
	Notes     []string // what it cannot do, and what the reader of it must know

	Session session
	ways    Engine
}

// session is what stands around the steps.
type session struct {
	Begin []string // before the checks
	ready []string // between the checks and the steps
	End   []string // behind the steps
}

// Step is a statement or a few that belong together.
type Step struct {
	Note     string   // what to know of it, such as a lock and how to get around it
	SQL      []string // without the semicolons
	Decision *Decision
}

// Check is a condition that the rows must fulfil before anything changes.
type Check struct {
	Place string // the table, and the column if it is about one, as they are called before
	Fault string // what is wrong with a row, in a few words
	Count string // the query that counts the faults
	List  string // the statement that lists them
	Help  string // what may be done about them
	Tries string // instead: a condition on a value v that may raise an error

	Column, From string   // of Tries: the value and its table
	Held         bool     // the engine tests it too, when what it needs is there
	Table        string   // its bare name before, for an engine that must see whether it is there
	Schema       string   //
	Columns      []string // likewise
}

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

	Checks []Check // that it needs
	Holds  string  // a condition in SQL that is true once it was carried out
}

// Options are what the caller knows beside the two schemas.
type Options struct {
	Renames  []catalog.Rename
	Possible []catalog.Rename      // that may be some, or not: the script asks
	Decide   func(d *Decision) int // takes a proposal, or -1; nil leaves all open
}

// ErrSame says that there is nothing to move.
var ErrSame = errors.New("the two schemas are the same")

// Draft makes the script from one schema to the other.
func Draft(e Engine, before, after *catalog.Catalog, o Options) (*Script, error) {
	if before.Engine != after.Engine {
		return nil, fault.New("name two sources of the same engine", "one schema is of %s, the other of %s", before.Engine.Name, after.Engine.Name)
	}
	if err := errors.Join(verifyCatalog(before), verifyCatalog(after)); err != nil {
		return nil, err
	}
	o.Renames = withoutColumnLabels(before, o.Renames)
	d := newDraft(e, before, after, o)
	d.Script.Changes = catalog.Made(before, after, o.Renames...)
	if len(d.Script.Changes) == 0 && !d.onlyOrder() {
		return nil, ErrSame
	}
	e.Write(d)
	d.followUp()
	return d.Script, d.Script.verify()
}

// withoutColumnLabels leaves out the renames of labels that are no enum's: no engine
// knows them, and the check or the type changes as any other does.
func withoutColumnLabels(before *catalog.Catalog, renames []catalog.Rename) []catalog.Rename {
	return slices.DeleteFunc(slices.Clone(renames), func(r catalog.Rename) bool {
		_, isEnum := before.Enum(r.In)
		return r.Thing == catalog.RenamedLabel && !isEnum && !slices.ContainsFunc(renames, func(e catalog.Rename) bool { return e.Thing == catalog.RenamedEnum && e.To == r.In })
	})
}

// Open are the decisions that nobody has taken.
func (s *Script) Open() []*Decision {
	return slices.DeleteFunc(slices.Clone(s.Decisions), func(d *Decision) bool { return d.Taken >= 0 })
}

// Statements are those of the script in their order, for a program that runs
// them. There must be no open decision.
func (s *Script) Statements() []string {
	var list []string
	for _, l := range s.lines() {
		if l.sql != "" {
			list = append(list, l.sql)
		}
	}
	return list
}

// Texts are the statements that change something, those of open decisions left
// out.
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

// AllChecks are those of the script and of the proposals that were taken.
func (s *Script) AllChecks() []Check {
	list := slices.Clone(s.Checks)
	for _, d := range s.Decisions {
		if d.Taken >= 0 {
			list = append(list, d.Proposals[d.Taken].Checks...)
		}
	}
	return list
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
