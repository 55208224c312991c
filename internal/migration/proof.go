package migration

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

// Database is an empty one to prove a script in.
type Database interface {
	Exec(ctx context.Context, statement string) error
	Names(ctx context.Context, query string) ([]string, error) // a query of one column of text
	Read(ctx context.Context) (*catalog.Catalog, error)
	// Shell runs a script in the engine's own client, and Dump gives the schema as
	// the engine's own program prints it; both are false where it is not installed.
	Shell(ctx context.Context, text []byte) (ran bool, err error)
	Dump(ctx context.Context) (lines []string, ran bool, err error)
}

// Proof is what came out when a script was carried out on a copy of the old
// schema with rows.
type Proof struct {
	Statements int          `json:"statements"`
	Ways       []string     `json:"ways"`    // how it was run
	Differs    []string     `json:"differs"` // what does not read as the new schema; empty where it does
	Tables     []TableProof `json:"tables"`
	Empty      []string     `json:"empty,omitempty"`   // tables without rows, each with the reason
	Refused    []string     `json:"refused,omitempty"` // rows that the script's checks refuse, taken out before it ran
	Back       []string     `json:"back"`              // what does not read as the old schema after the way back
	NoWayBack  string       `json:"noWayBack,omitempty"`
	Dumped     bool         `json:"dumped"` // the engine's own program compared the schemas too
}

// TableProof says what became of a table's rows. They are compared by the
// columns that are in both schemas.
type TableProof struct {
	Table   string   `json:"table"` // its name now
	Before  int      `json:"before"`
	After   int      `json:"after"`
	Changed []string `json:"changed,omitempty"` // keys of rows whose values are others, or that are gone
}

// Holds reports whether the script did what it should.
func (p *Proof) Holds() bool { return len(p.Differs)+len(p.Back) == 0 && p.NoWayBack == "" }

// Within runs do with a new, empty database, which is gone afterwards.
type Within func(do func(db Database) error) error

// Proving is what a proof needs.
type Proving struct {
	Engine            Engine
	Before, After     *catalog.Catalog
	There, Back       *Script
	ThereText         []byte // in place of There: a script whose decisions are filled in
	BackText          []byte
	Renames, Possible []catalog.Rename
	Rows              func(ctx context.Context, old *catalog.Catalog, exec func(ctx context.Context, statement string) error) (empty []string, err error) // fills the tables; nil makes rows up
}

// Prove makes the old schema in an empty database, fills it, runs the script
// there, and then the one that leads back: in a plain session, under unhelpful
// settings, and in the engine's own client. What comes out is compared with the
// new schema made by itself, since an engine prints expressions in its own way.
func Prove(ctx context.Context, within Within, v Proving) (proof *Proof, err error) {
	if open := v.There.Open(); len(open) > 0 && v.ThereText == nil {
		return nil, fault.New("take a proposal of each, as in --decide 1=a, or fill them in and name the file by --script", "a script with open decisions cannot be proved: %d are open", len(open))
	}
	goal := &target{}
	err = within(func(db Database) error {
		if goal.schema, err = made(ctx, v.Engine, db, v.After); err != nil {
			return err
		}
		goal.dump, _, err = db.Dump(ctx)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("making the new schema: %w", err)
	}
	for _, way := range []string{"statement by statement", "under unhelpful settings", "in the engine's own client"} {
		skipped := false
		err = within(func(db Database) error {
			next, ran, err := v.try(ctx, db, goal, way)
			if err != nil {
				return fmt.Errorf("%s: %w", way, err)
			}
			skipped = !ran
			if proof == nil {
				proof = next
			} else if ran {
				proof.add(next, way)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		if !skipped {
			proof.Ways = append(proof.Ways, way)
		}
	}
	return proof, nil
}

// target is the schema that a script must give, made by itself.
type target struct {
	schema *catalog.Catalog
	dump   []string
}

// add takes over what only another way of running the script has shown.
func (p *Proof) add(other *Proof, way string) {
	more := func(list *[]string, found []string) {
		for _, line := range found {
			if !slices.Contains(*list, line) {
				*list = append(*list, line+" ("+way+")")
			}
		}
	}
	more(&p.Differs, other.Differs)
	more(&p.Back, other.Back)
	if p.NoWayBack == "" && other.NoWayBack != "" {
		p.NoWayBack = way + ": " + other.NoWayBack
	}
	for i := range p.Tables {
		if i < len(other.Tables) && p.Tables[i].After != other.Tables[i].After {
			p.Differs = append(p.Differs, fmt.Sprintf("%s has %d rows, and %d %s", p.Tables[i].Table, p.Tables[i].After, other.Tables[i].After, way))
		}
	}
}

// made makes a schema in an empty database and reads it back.
func made(ctx context.Context, e Engine, db Database, schema *catalog.Catalog) (*catalog.Catalog, error) {
	creation, err := Draft(e, &catalog.Catalog{Engine: schema.Engine, Complete: schema.Complete, SearchPath: schema.SearchPath}, schema, Options{})
	if err == nil {
		err = creation.Run(ctx, db.Exec)
	}
	if err != nil && !errors.Is(err, ErrSame) {
		return nil, err
	}
	return db.Read(ctx)
}

// try proves one way of running the script.
func (v *Proving) try(ctx context.Context, db Database, goal *target, way string) (proof *Proof, ran bool, err error) {
	before, err := made(ctx, v.Engine, db, v.Before)
	if err != nil {
		return nil, false, fmt.Errorf("making the old schema: %w", err)
	}
	oldDump, dumped, err := db.Dump(ctx)
	if err != nil {
		return nil, false, err
	}
	proof = &Proof{Statements: len(v.statements(v.There, v.ThereText)), Dumped: dumped, Differs: []string{}, Back: []string{}}
	if proof.Empty, err = v.fill(ctx, db, before); err != nil {
		return nil, false, err
	}
	v.takeOut(ctx, db, proof)
	d := newDraft(v.Engine, before, goal.schema, Options{Renames: v.Renames})
	pairs := d.Pairs()
	was, err := d.snapshots(ctx, db, pairs, true)
	if err != nil {
		return nil, false, err
	}
	if ran, err = v.run(ctx, db, way, v.There, v.ThereText); err != nil && len(proof.Refused) > 0 {
		return nil, ran, fmt.Errorf("%w (%s)", err, strings.Join(proof.Refused, "; "))
	}
	if err != nil || !ran {
		return proof, ran, err
	}
	now, err := db.Read(ctx)
	if err != nil {
		return nil, false, err
	}
	proof.Differs = append(proof.Differs, differences(goal.schema, now)...)
	is, err := d.snapshots(ctx, db, pairs, false)
	if err != nil {
		return nil, false, err
	}
	for i, p := range pairs {
		proof.Tables = append(proof.Tables, compareRows(p.Now.FullName(), was[i], is[i]))
	}
	if dumped {
		dump, _, err := db.Dump(ctx)
		if err != nil {
			return nil, false, err
		}
		proof.Differs = append(proof.Differs, dumpDifferences(goal.dump, dump, v.kept())...)
	}
	return proof, true, v.goBack(ctx, db, proof, before, oldDump, way)
}

// kept reports whether decisions leave something in the database that the new
// schema has not.
func (v *Proving) kept() bool {
	return v.ThereText != nil || slices.ContainsFunc(v.There.Decisions, func(d *Decision) bool {
		return d.Taken >= 0 && (strings.Contains(d.Proposals[d.Taken].Title, "keep") || strings.Contains(d.Proposals[d.Taken].Title, "stays") || strings.Contains(d.Proposals[d.Taken].Title, "table of their own"))
	})
}

func (v *Proving) statements(s *Script, text []byte) []string {
	if text == nil {
		return s.Statements()
	}
	return sqltext.Pieces(string(text), v.Engine.Dialect())
}

// run runs a script one way.
func (v *Proving) run(ctx context.Context, db Database, way string, s *Script, text []byte) (ran bool, err error) {
	unhelpful, usual := v.Engine.ProofSession()
	switch way {
	case "in the engine's own client":
		if text == nil {
			text = s.Text("A proof.")
		}
		return db.Shell(ctx, text)
	case "under unhelpful settings":
		for _, setting := range unhelpful {
			if err := db.Exec(ctx, setting); err != nil {
				return false, err
			}
		}
	}
	for _, statement := range v.statements(s, text) {
		if err := db.Exec(ctx, statement); err != nil {
			return false, fmt.Errorf("%s: %w", firstLine(statement), err)
		}
	}
	for _, setting := range usual {
		if err := db.Exec(ctx, setting); err != nil {
			return false, err
		}
	}
	return true, nil
}

func (v *Proving) fill(ctx context.Context, db Database, before *catalog.Catalog) ([]string, error) {
	if v.Rows != nil {
		return v.Rows(ctx, before, db.Exec)
	}
	f := &filler{ways: v.Engine, sql: v.Engine.Dialect(), schema: before, exec: db.Exec}
	f.fill(ctx)
	return f.empty, nil
}

// takeOut removes the rows that the script's own checks refuse, and says how many
// there were: that a script stops at them is right, and shows nothing of the rest.
func (v *Proving) takeOut(ctx context.Context, db Database, proof *Proof) {
	if v.ThereText != nil {
		return
	}
	for _, c := range v.There.AllChecks() {
		from, ok := strings.CutPrefix(c.List, "SELECT * FROM ")
		counts, err := db.Names(ctx, "SELECT CAST(("+c.Count+") AS char(20))")
		if err != nil {
			proof.Refused = append(proof.Refused, fmt.Sprintf("%s: %v", c.Message(), err))
		}
		if !ok || err != nil || len(counts) == 0 || strings.TrimSpace(counts[0]) == "0" {
			continue
		}
		if err := db.Exec(ctx, "DELETE FROM "+from); err == nil {
			proof.Refused = append(proof.Refused, fmt.Sprintf("%s (%s)", c.Message(), strings.TrimSpace(counts[0])))
		} else {
			proof.Refused = append(proof.Refused, fmt.Sprintf("%s (%s), which could not be taken out: %v", c.Message(), strings.TrimSpace(counts[0]), err))
		}
	}
}

// goBack runs the script that leads back. Some things cannot be had again, such
// as a value for every row that was deleted; that is said, and no fault.
func (v *Proving) goBack(ctx context.Context, db Database, proof *Proof, before *catalog.Catalog, oldDump []string, way string) error {
	if v.kept() && v.BackText == nil {
		proof.NoWayBack = ""
		return nil // what was kept is dropped by hand
	}
	back := v.Back
	if v.BackText == nil {
		now, err := db.Read(ctx)
		if err != nil {
			return err
		}
		taken := v.Back
		back, err = Draft(v.Engine, now, before, Options{Renames: catalog.Reversed(v.Renames), Possible: catalog.Reversed(v.Possible), Decide: func(d *Decision) int {
			if d.Number <= len(taken.Decisions) && taken.Decisions[d.Number-1].Taken >= 0 {
				return taken.Decisions[d.Number-1].Taken
			}
			return 0
		}})
		if errors.Is(err, ErrSame) {
			return nil
		}
		if err != nil {
			return err
		}
	}
	if _, err := v.run(ctx, db, way, back, v.BackText); err != nil {
		proof.NoWayBack = err.Error()
		return nil
	}
	again, err := db.Read(ctx)
	if err != nil {
		return err
	}
	proof.Back = append(proof.Back, differences(before, again)...)
	if proof.Dumped {
		dump, _, err := db.Dump(ctx)
		if err != nil {
			return err
		}
		proof.Back = append(proof.Back, dumpDifferences(oldDump, dump, false)...)
	}
	return nil
}

// differences are those of two schemas as lines, texts apart that an engine
// prints in its own way.
func differences(want, got *catalog.Catalog) []string {
	list := []string{}
	for _, c := range catalog.Made(want, got) {
		kept := c.Kind == catalog.Added && (strings.Contains(c.Name, "_kept") || strings.Contains(c.Name, "_without_"))
		if c.Thing != "definition" && c.Thing != "comment" && c.Thing != "collation" && !kept {
			list = append(list, c.String())
		}
	}
	return list
}

// dumpDifferences compares what the engine's own program prints of two schemas.
func dumpDifferences(want, got []string, more bool) []string {
	var list []string
	for _, line := range without(want, got) {
		list = append(list, "the engine's dump lacks: "+line)
	}
	if !more {
		for _, line := range without(got, want) {
			list = append(list, "the engine's dump has besides: "+line)
		}
	}
	return list
}

func without(list, other []string) []string {
	left := map[string]int{}
	for _, s := range other {
		left[s]++
	}
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool {
		left[s]--
		return left[s] >= 0
	})
}

// snapshots are the rows of the tables that are in both schemas: key and values
// of the columns that are in both.
func (d *Writing) snapshots(ctx context.Context, db Database, pairs []*Pair, before bool) ([]map[string]string, error) {
	all := make([]map[string]string, len(pairs))
	for i, p := range pairs {
		query := d.rowsQuery(p, before)
		if query == "" {
			continue
		}
		rows, err := db.Names(ctx, query)
		if err != nil {
			return nil, fmt.Errorf("looking at the rows of %s: %w", p.Now.FullName(), err)
		}
		all[i] = map[string]string{}
		for _, row := range rows {
			key, values, _ := strings.Cut(row, between)
			all[i][key] = values
		}
	}
	return all, nil
}

// between stands between the key and the values of a row.
const between = "\x01"

// rowsQuery gives each row as its key and the values that are in both schemas,
// with the names that they have then. It is empty for a table whose key does not
// stay.
func (d *Writing) rowsQuery(p *Pair, before bool) string {
	if p.KeyChanged || p.Now.PrimaryKey == nil {
		return ""
	}
	var keys, values []string
	for i := range p.Now.Columns {
		c := &p.Now.Columns[i]
		if _, both := p.Old.Column(c.Name); !both {
			continue
		}
		name := c.Name
		if before {
			name = d.oldColumn(p.Now.FullName(), name)
		}
		if slices.Contains(p.Now.PrimaryKey.Columns, c.Name) {
			keys = append(keys, d.Engine.Text(d.Name(name)))
		} else {
			values = append(values, d.Engine.Text(d.Name(name)))
		}
	}
	full := p.Now.FullName()
	if before {
		full = d.OldName(full)
	}
	parts := []string{}
	for i, k := range keys {
		if i > 0 {
			parts = append(parts, "', '")
		}
		parts = append(parts, k)
	}
	parts = append(parts, "'"+between+"'")
	for _, v := range values {
		parts = append(parts, v, "', '")
	}
	return "SELECT " + d.Engine.Join(parts) + " FROM " + d.Full(full)
}

func (d *Writing) oldColumn(table, column string) string {
	for _, r := range d.Renames {
		if r.Thing == catalog.RenamedColumn && r.In == table && r.To == column {
			return r.From
		}
	}
	return column
}

// compareRows tells which rows are not what they were.
func compareRows(table string, was, is map[string]string) TableProof {
	t := TableProof{Table: table, Before: len(was), After: len(is)}
	for _, key := range slices.Sorted(maps.Keys(was)) {
		if values, there := is[key]; !there || values != was[key] {
			t.Changed = append(t.Changed, key)
		}
	}
	return t
}
