// Package rollout brings a database to the schema of its scripts. Scripts run in
// their order and each once. The database itself keeps the record of those that
// have run, in the table widegate_scripts.
//
// A script is all done or not at all wherever the engine can take back changes of
// a schema: it runs in one transaction with its record, or in the one that it
// begins itself. Elsewhere the record counts the statements that are done, and the
// next run goes on behind them.
package rollout

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"widegate/internal/engine"
	"widegate/internal/fault"
	"widegate/internal/read"
	"widegate/internal/sqltext"
)

// Script is one that a database is made by.
type Script struct {
	Name       string // below the folder that was named, with slashes
	Path       string
	statements []statement
}

// State is how far a script is in a database.
type State string

// The states of scripts.
const (
	Done    State = "done"
	Waiting State = "waiting" // to be run
	Begun   State = "begun"   // some of its statements are done
	Late    State = "late"    // waiting, though others behind it have run
	Changed State = "changed" // since it was run
	Gone    State = "gone"    // it was run, and its file is not there
)

// Entry is a script in a list of them.
type Entry struct {
	*Script
	State State
	Ended time.Time // when it was run; zero unless it is done
	Done  int       // statements of one that was begun

	record record
}

// Status is how a database stands to its scripts.
type Status struct {
	Entries  []Entry
	Recorded bool // the database has a record of scripts
	Tables   int  // in the database, besides that of the record
}

// Waiting are the scripts that a run would run.
func (s *Status) Waiting() []Entry {
	var list []Entry
	for _, e := range s.Entries {
		if slices.Contains([]State{Waiting, Begun, Late}, e.State) {
			list = append(list, e)
		}
	}
	return list
}

// Foreign reports whether the database has tables that no script of a record has
// made.
func (s *Status) Foreign() bool { return !s.Recorded && s.Tables > 0 }

// Load reads the scripts of a source.
func Load(source read.Source) ([]*Script, error) {
	e, err := source.Known()
	if err != nil {
		return nil, err
	}
	var list []*Script
	known := map[string]string{}
	for _, root := range source.DDL {
		files, err := sqltext.Find([]string{root})
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			s := &Script{Name: nameBelow(root, f.Path), Path: f.Path}
			if other, twice := known[s.Name]; twice {
				return nil, fault.New("rename one of them: a script is known by its name", "two scripts are called %s: %s and %s", s.Name, other, f.Path)
			}
			known[s.Name] = f.Path
			if err := s.split(f, e); err != nil {
				return nil, err
			}
			list = append(list, s)
		}
	}
	return list, nil
}

// nameBelow is the name of a file as seen from the folder that was named, or that
// of the file alone.
func nameBelow(root, path string) string {
	if below, err := filepath.Rel(root, path); err == nil && filepath.IsLocal(below) && below != "." {
		return filepath.ToSlash(below)
	}
	return filepath.Base(path)
}

func (s *Script) split(f *sqltext.File, e engine.Engine) error {
	d := e.Dialect()
	if strings.ContainsAny(s.Name, "\\|\n") || len(s.Name) > mostOfName {
		return fault.New("rename it", "%s: the name of a script has no backslash, bar or line break, and at most %d bytes", f.Path, mostOfName)
	}
	if at := sqltext.ForShell(f, d); len(at) > 0 {
		line, column := at[0].Position(0)
		return fault.New("write SQL in its place; rows of a dump are statements with `pg_dump --inserts`", "%s:%d:%d: %s: this is for the engine's own client, and not sent to a server", f.Path, line, column, at[0].Head())
	}
	for _, piece := range sqltext.Split(f, d) {
		text := f.Text[piece.From : piece.From+len(piece.Text)] // with the comments that MariaDB executes
		if strings.HasPrefix(text, "DECIDE ") {
			line, column := piece.Position(0)
			return fault.New("fill in the places marked DECIDE, and remove those lines", "%s:%d:%d: the script waits for a decision", f.Path, line, column)
		}
		s.statements = append(s.statements, statement{piece, text, rankOf(text, e)})
	}
	return nil
}

// mostOfName is how long the name of a script may be, in bytes.
const mostOfName = 190

// hash is that of the first n statements.
func (s *Script) hash(n int) string {
	sum := sha256.New()
	for _, st := range s.statements[:n] {
		fmt.Fprintf(sum, "%d\n%s\n", len(st.text), strings.ReplaceAll(st.text, "\r\n", "\n"))
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// Statements is how many there are.
func (s *Script) Statements() int { return len(s.statements) }

// Look compares a database with its scripts, and changes nothing.
func Look(ctx context.Context, source read.Source, scripts []*Script) (*Status, error) {
	db, err := open(ctx, source)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	return db.look(ctx, scripts)
}

func (db *database) look(ctx context.Context, scripts []*Script) (*Status, error) {
	tables, err := db.Names(ctx, db.Tables)
	if err != nil {
		return nil, fmt.Errorf("listing the tables: %w", err)
	}
	s := &Status{Recorded: slices.Contains(tables, recordTable)}
	s.Tables = len(slices.DeleteFunc(tables, func(name string) bool { return name == recordTable }))
	var records map[string]record
	if s.Recorded {
		if records, err = db.records(ctx); err != nil {
			return nil, err
		}
	}
	last := -1
	for i, script := range scripts {
		r, known := records[script.Name]
		delete(records, script.Name)
		e := Entry{Script: script, State: Waiting, record: r, Done: r.done, Ended: r.ended}
		if known {
			e.State = r.state(script)
			last = i
		}
		s.Entries = append(s.Entries, e)
	}
	for i := range s.Entries[:last+1] {
		if s.Entries[i].State == Waiting {
			s.Entries[i].State = Late
		}
	}
	for name, r := range records {
		s.Entries = append(s.Entries, Entry{Script: &Script{Name: name}, State: Gone, Ended: r.ended})
	}
	slices.SortStableFunc(s.Entries, func(a, b Entry) int {
		if a.State != Gone && b.State != Gone {
			return 0
		}
		return sqltext.Natural(a.Name, b.Name)
	})
	return s, nil
}

// state is that of a script of which there is a record.
func (r record) state(s *Script) State {
	switch {
	case r.done > len(s.statements) || s.hash(r.done) != r.hash, !r.ended.IsZero() && r.done != len(s.statements):
		return Changed
	case r.ended.IsZero():
		return Begun
	}
	return Done
}
