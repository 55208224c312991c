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
)

// Database is an empty one to prove a script in.
type Database interface {
	Exec(ctx context.Context, statement string) error
	Names(ctx context.Context, query string) ([]string, error) // a query of one column of text
	Read(ctx context.Context) (*catalog.Catalog, error)
}

// Proof is what came out when a script was carried out on a copy of the old
// schema with generated rows.
type Proof struct {
	Statements int          `json:"statements"`
	Differs    []string     `json:"differs"` // what does not read as the new schema; empty where it does
	Tables     []TableProof `json:"tables"`
	Empty      []string     `json:"empty,omitempty"` // tables for which no row could be made up
	Back       []string     `json:"back"`            // what does not read as the old schema after the way back
	NoWayBack  string       `json:"noWayBack,omitempty"`
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

// Prove makes the old schema in an empty database, fills it, runs the script
// there, and then the one that leads back, for which the first proposals are
// taken. What comes out is compared with the new schema made by itself, since an
// engine prints expressions in its own way.
func Prove(ctx context.Context, within Within, before, after *catalog.Catalog, there *Script, renames []catalog.Rename) (proof *Proof, err error) {
	if open := there.Open(); len(open) > 0 {
		return nil, fault.New("take a proposal of each, as in --decide 1=a", "a script with open decisions cannot be proved: %d are open", len(open))
	}
	var want *catalog.Catalog
	err = within(func(db Database) error {
		want, err = made(ctx, db, after)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("making the new schema: %w", err)
	}
	err = within(func(db Database) error {
		old, err := made(ctx, db, before)
		if err != nil {
			return fmt.Errorf("making the old schema: %w", err)
		}
		proof, err = prove(ctx, db, old, want, there, renames)
		return err
	})
	return proof, err
}

// made makes a schema in an empty database and reads it back.
func made(ctx context.Context, db Database, schema *catalog.Catalog) (*catalog.Catalog, error) {
	creation, err := Draft(&catalog.Catalog{Engine: schema.Engine}, schema, Options{})
	if err == nil {
		err = creation.Run(ctx, db.Exec)
	}
	if err != nil && !errors.Is(err, ErrSame) {
		return nil, err
	}
	return db.Read(ctx)
}

func prove(ctx context.Context, db Database, before, after *catalog.Catalog, there *Script, renames []catalog.Rename) (*Proof, error) {
	f := &filler{engine: before.Engine, schema: before, exec: db.Exec}
	f.fill(ctx)
	proof := &Proof{Empty: f.empty, Statements: len(there.Statements())}
	d := newDraft(before, after, Options{Renames: renames})
	pairs := d.pairs()
	was, err := d.snapshots(ctx, db, pairs, true)
	if err != nil {
		return nil, err
	}
	if err := there.Run(ctx, db.Exec); err != nil {
		return nil, fmt.Errorf("running the script: %w", err)
	}
	now, err := db.Read(ctx)
	if err != nil {
		return nil, err
	}
	proof.Differs = differences(after, now)
	is, err := d.snapshots(ctx, db, pairs, false)
	if err != nil {
		return nil, err
	}
	for i, p := range pairs {
		proof.Tables = append(proof.Tables, compareRows(p.now.FullName(), was[i], is[i]))
	}
	return proof, proof.goBack(ctx, db, before, now, renames)
}

// goBack runs the script that leads back. Some things cannot be had again, such
// as a value for every row that was deleted; that is said, and no fault.
func (p *Proof) goBack(ctx context.Context, db Database, before, now *catalog.Catalog, renames []catalog.Rename) error {
	back, err := Draft(now, before, Options{Renames: catalog.Reversed(renames), Decide: func(*Decision) int { return 0 }})
	if errors.Is(err, ErrSame) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := back.Run(ctx, db.Exec); err != nil {
		p.NoWayBack = err.Error()
		return nil
	}
	again, err := db.Read(ctx)
	if err != nil {
		return err
	}
	p.Back = differences(before, again)
	return nil
}

// differences are those of two schemas as lines, texts apart that an engine
// prints in its own way.
func differences(want, got *catalog.Catalog) []string {
	list := []string{}
	for _, c := range catalog.Compare(want, got) {
		if c.Thing != "definition" && c.Thing != "comment" && c.Thing != "collation" {
			list = append(list, c.String())
		}
	}
	return list
}

// snapshots are the rows of the tables that are in both schemas: key and values
// of the columns that are in both.
func (d *draft) snapshots(ctx context.Context, db Database, pairs []*pair, before bool) ([]map[string]string, error) {
	all := make([]map[string]string, len(pairs))
	for i, p := range pairs {
		query := d.rowsQuery(p, before)
		if query == "" {
			continue
		}
		rows, err := db.Names(ctx, query)
		if err != nil {
			return nil, fmt.Errorf("looking at the rows of %s: %w", p.now.FullName(), err)
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
func (d *draft) rowsQuery(p *pair, before bool) string {
	if p.keyChanged || p.now.PrimaryKey == nil {
		return ""
	}
	var keys, values []string
	for i := range p.now.Columns {
		c := &p.now.Columns[i]
		if _, both := p.old.Column(c.Name); !both {
			continue
		}
		name := c.Name
		if before {
			name = d.oldColumn(p.now.FullName(), name)
		}
		if slices.Contains(p.now.PrimaryKey.Columns, c.Name) {
			keys = append(keys, d.asText(name))
		} else {
			values = append(values, d.asText(name))
		}
	}
	full := p.now.FullName()
	if before {
		full = d.oldName(full)
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
	if d.engine == catalog.MySQL {
		return "SELECT concat(" + strings.Join(parts, ", ") + ") FROM " + d.full(full)
	}
	return "SELECT " + strings.Join(parts, " || ") + " FROM " + d.full(full)
}

func (d *draft) oldColumn(table, column string) string {
	for _, r := range d.renames {
		if r.Thing == catalog.RenamedColumn && r.In == table && r.To == column {
			return r.From
		}
	}
	return column
}

// asText is a value as a text that is never null.
func (d *draft) asText(column string) string {
	switch name := d.name(column); d.engine {
	case catalog.Postgres:
		return "coalesce(" + name + "::text, 'null')"
	case catalog.MySQL:
		return "coalesce(cast(" + name + " AS char), 'null')"
	default:
		return "coalesce(CAST(" + name + " AS TEXT), 'null')"
	}
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
