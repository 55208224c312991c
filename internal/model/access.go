package model

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"widegate/gate/cql2"
	"widegate/internal/fault"
)

// claimPrefix stands before the name of a claim in a rule for rows.
const claimPrefix = "claim."

// checkAllow finds names in what the project file allows that mean nothing.
func (e *Entity) checkAllow() error {
	if e.Allow == nil {
		return nil
	}
	at := "widegate.yaml: entities." + e.Table.FullName() + ".allow"
	for _, name := range slices.Sorted(maps.Keys(e.Allow.Columns)) {
		if f := e.Field(name); f == nil || f.Hidden {
			return fault.New(near(name, e.columnNames()), "%s.columns: there is no column %q", at, name)
		}
	}
	for _, role := range slices.Sorted(maps.Keys(e.Allow.Rows)) {
		rule, err := cql2.Parse(e.Allow.Rows[role], cql2.DefaultLimits)
		if err != nil {
			return fault.New("write it like a filter, with claims of the caller: keeper_id = claim.sub", "%s.rows.%s: %v", at, role, err)
		}
		if err := e.checkRule(rule); err != nil {
			return fmt.Errorf("%s.rows.%s: %w", at, role, err)
		}
		if len(e.Key) == 0 && e.Verbs != ReadOnly {
			return fault.New("name the key: `entities: {"+e.Table.FullName()+": {key: […]}}`", "%s.rows.%s: rows without a key cannot be stored under a rule", at, role)
		}
	}
	return nil
}

// checkRule finds names in a rule that are no columns.
func (e *Entity) checkRule(n *cql2.Node) error {
	if n.Op == cql2.Property && !strings.HasPrefix(n.Value, claimPrefix) {
		return e.checkName(n.Value)
	}
	for _, a := range n.Args {
		if err := e.checkRule(a); err != nil {
			return err
		}
	}
	return nil
}

// checkName follows a name such as apiary.keeper_id to a column.
func (e *Entity) checkName(name string) error {
	if f := e.Field(name); f != nil && !f.Hidden {
		return nil
	}
	word, rest, more := strings.Cut(name, ".")
	for _, r := range e.Relations {
		if r.JSON == word && more {
			return r.To.checkName(rest)
		}
	}
	known := append(e.columnNames(), e.relationNames()...)
	return fault.New(near(word, known), "%s has no column and no relation %q", e.Table.FullName(), word)
}

// Everyone reports whether all who may read the rows see a column.
func (e *Entity) Everyone(f *Field) bool {
	return e.Allow == nil || e.Allow.Columns[f.Column.Name].Read == nil
}
