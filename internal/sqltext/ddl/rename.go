package ddl

import "widegate/internal/catalog"

// RenameColumn renames a column in its table, but for the expressions, which
// the dialects print in their own ways.
func RenameColumn(t *catalog.Table, from, to string) {
	c, _ := t.Column(from)
	c.Name = to
	if t.PrimaryKey != nil {
		replaceName(t.PrimaryKey.Columns, from, to)
	}
	for _, k := range t.Uniques {
		replaceName(k.Columns, from, to)
	}
	for _, r := range t.References {
		replaceName(r.Columns, from, to)
	}
	for _, i := range t.Indexes {
		replaceName(i.Columns, from, to)
	}
}

// RenameTarget renames a column of a table in the references of another, or of
// its own.
func RenameTarget(other, t *catalog.Table, from, to string) {
	for _, r := range other.References {
		if r.Schema == t.Schema && r.Table == t.Name {
			replaceName(r.Target, from, to)
		}
	}
}

// MoveReferences follows a table that gets another schema or name.
func MoveReferences(other *catalog.Table, before, schema, name string) {
	for i := range other.References {
		if ref := &other.References[i]; catalog.Qualify(ref.Schema, ref.Table) == before {
			ref.Schema, ref.Table = schema, name
		}
	}
}

func replaceName(names []string, from, to string) {
	for i := range names {
		if names[i] == from {
			names[i] = to
		}
	}
}
