package catalog

import (
	"regexp"
	"slices"
	"strings"
)

// Completed returns two schemas in which each knows what the other one does:
// scripts that were read without a server do not tell of rights or storage, and
// a snapshot of an earlier version of this tool does not either. What one side
// does not know counts as what the other side has. The tables of both must have
// the same names where they are the same.
func Completed(a, b *Catalog) (x, y *Catalog) {
	a, b = a.asReadLike(b), b.asReadLike(a)
	if a.Engine.ToldWhole || a.Complete == b.Complete {
		return a, b
	}
	if a.Complete {
		return a, b.completedBy(a)
	}
	return a.completedBy(b), b
}

func (c *Catalog) completedBy(other *Catalog) *Catalog {
	out := c.clone()
	out.Complete, out.Extras = true, slices.Clone(other.Extras)
	for i := range out.Tables {
		t := &out.Tables[i]
		known, ok := other.Table(t.Schema, t.Name)
		if !ok {
			continue
		}
		t.Triggers, t.Extras = completeTriggers(known.Triggers, t.Triggers), completeExtras(known.Extras, t.Extras)
		if t.IsView() && len(t.Options) == 0 && out.Engine.ViewOptionsApart {
			t.Options = slices.Clone(known.Options)
		}
		t.completeBy(known)
	}
	out.Sequences = slices.Clone(out.Sequences)
	for i := range out.Sequences {
		s := &out.Sequences[i]
		k := slices.IndexFunc(other.Sequences, func(x Sequence) bool { return x.Schema == s.Schema && x.Name == s.Name })
		if k >= 0 && s.Options == "" {
			s.Options = other.Sequences[k].Options
		}
	}
	out.Routines = slices.Clone(out.Routines)
	for i := range out.Routines {
		r := &out.Routines[i]
		k := slices.IndexFunc(other.Routines, func(x Routine) bool { return x.Signature() == r.Signature() })
		if k >= 0 && SameText(routineBody(r.Definition), routineBody(other.Routines[k].Definition)) {
			r.Definition, r.Returns, r.Volatility = other.Routines[k].Definition, other.Routines[k].Returns, other.Routines[k].Volatility
		}
	}
	for _, r := range other.Routines {
		there := slices.ContainsFunc(out.Routines, func(x Routine) bool { return x.Signature() == r.Signature() })
		if r.ForTriggers() && !there {
			out.Routines = append(out.Routines, r)
		}
	}
	return out
}

// completeTriggers are those that a server knows, and new ones of scripts.
func completeTriggers(known, more []Trigger) []Trigger {
	list := slices.Clone(known)
	for _, t := range more {
		if !slices.ContainsFunc(known, func(x Trigger) bool { return x.Name == t.Name }) {
			list = append(list, t)
		}
	}
	return list
}

// completeExtras are those that a server knows, and of those of scripts the new
// ones whose names tell them from others.
func completeExtras(known, more []Extra) []Extra {
	list := slices.Clone(known)
	for _, e := range more {
		named := e.Kind == "policy" || e.Kind == "row security"
		if named && !slices.ContainsFunc(known, func(x Extra) bool { return x.Kind == e.Kind && x.Name == e.Name }) {
			list = append(list, e)
		}
	}
	return list
}

var bodyTag = regexp.MustCompile(`\$\w*\$`)

// routineBody is the text between the quotes of a routine's definition, or all of
// it.
func routineBody(definition string) string {
	if tag := bodyTag.FindString(definition); tag != "" {
		_, rest, _ := strings.Cut(definition, tag)
		body, _, _ := strings.Cut(rest, tag)
		return body
	}
	if i, k := strings.Index(definition, "'"), strings.LastIndex(definition, "'"); i >= 0 && k > i {
		return strings.ReplaceAll(definition[i+1:k], "''", "'")
	}
	return definition
}

// completeBy takes over what the parts of a table have besides their columns.
func (t *Table) completeBy(known *Table) {
	if k := t.PrimaryKey; k != nil && known.PrimaryKey != nil && k.Definition == "" && slices.Equal(k.Columns, known.PrimaryKey.Columns) {
		k.Definition = known.PrimaryKey.Definition
	}
	for i := range t.Uniques {
		k := &t.Uniques[i]
		at := slices.IndexFunc(known.Uniques, func(x Key) bool { return x.Name == k.Name && slices.Equal(x.Columns, k.Columns) })
		if at >= 0 && k.Definition == "" {
			k.Definition = known.Uniques[at].Definition
		}
	}
	for i := range t.References {
		r := &t.References[i]
		at := slices.IndexFunc(known.References, func(x Reference) bool { return x.Name == r.Name && slices.Equal(x.Columns, r.Columns) })
		if at >= 0 && r.Definition == "" {
			r.Definition = known.References[at].Definition
		}
	}
	for i := range t.Checks {
		c := &t.Checks[i]
		at := slices.IndexFunc(known.Checks, func(x Check) bool { return x.Name == c.Name })
		if at >= 0 && c.Options == "" {
			c.Options = known.Checks[at].Options
		}
	}
	for i := range t.Indexes {
		in := &t.Indexes[i]
		at := slices.IndexFunc(known.Indexes, func(x Index) bool {
			return x.Name == in.Name && slices.Equal(x.Columns, in.Columns) && x.Where == in.Where
		})
		if at >= 0 && in.Definition == "" {
			in.Definition = known.Indexes[at].Definition
		}
	}
	for i := range t.Columns {
		c := &t.Columns[i]
		was, ok := known.Column(c.Name)
		if !ok {
			continue
		}
		c.Invisible = was.Invisible
		if def, old := c.Default, was.Default; def != nil && old != nil && def.Kind == Identity && old.Kind == Identity && def.Sequence == old.Sequence {
			if def.Own == "" {
				def.Own = old.Own
			}
			if def.Options == "" {
				def.Options = old.Options
			}
		}
	}
}
