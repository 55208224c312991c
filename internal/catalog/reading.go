package catalog

import "slices"

// Reading is the version of what the readers find. A catalog of an earlier one
// lacks facts, or has them less exactly.
const Reading = 1

// asReadLike returns the catalog with the facts that its own readers did not find
// yet, taken from a later one for what is declared alike in both: what is only read
// better is no change of the schema.
func (c *Catalog) asReadLike(later *Catalog) *Catalog {
	if c.Reading >= later.Reading || c.Engine != later.Engine {
		return c
	}
	out := c.clone()
	for i := range out.Tables {
		t := &out.Tables[i]
		if other, ok := later.Table(t.Schema, t.Name); ok {
			t.readLike(other, c.Engine.NullableKeys)
		}
	}
	for _, s := range later.Sequences {
		was := func(e Extra) bool { return e.Kind == "sequence" && e.Name == s.Name && e.Make == "" }
		if slices.ContainsFunc(out.Extras, was) { // sequences of MariaDB were known by name only
			out.Extras = slices.DeleteFunc(out.Extras, was)
			out.Sequences = append(out.Sequences, s)
		}
	}
	return out
}

func (t *Table) readLike(other *Table, nullableKeys bool) {
	for i := range t.Columns {
		c := &t.Columns[i]
		now, ok := other.Column(c.Name)
		if !ok || now.Declared != c.Declared {
			continue
		}
		c.Type = now.Type
		if c.Generated == now.Generated {
			c.Stored, c.Virtual = now.Stored, now.Virtual
		}
		if nullableKeys && t.PrimaryKey != nil && slices.Contains(t.PrimaryKey.Columns, c.Name) {
			c.Nullable = now.Nullable
		}
		if c.Default != nil && now.Default != nil && bits(c.Default, now.Default) {
			c.Default = now.Default
		}
		c.NotNull = now.NotNull
	}
	for i := range t.References {
		r := &t.References[i]
		k := slices.IndexFunc(other.References, func(x Reference) bool { return x.Name == r.Name && slices.Equal(x.Columns, r.Columns) })
		if k >= 0 && other.References[k].Definition == r.Definition {
			r.Unenforced, r.Period = other.References[k].Unenforced, other.References[k].Period
		}
	}
}

// bits reports whether two defaults are one bit, as MySQL writes it and as a truth
// value.
func bits(was, now *Default) bool {
	return was.Text == "b'1'" && now.Text == "true" || was.Text == "b'0'" && now.Text == "false"
}
