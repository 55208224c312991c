package catalog

import (
	"cmp"
	"slices"
	"strings"
)

// Made is Compare without what no migration makes: names of constraints, the order
// of columns, and other facts that say nothing of what rows a schema takes.
func Made(before, after *Catalog, renames ...Rename) []Change {
	return (&comparison{}).compare(before, after, renames)
}

// finer tells of the facts of a table that Made leaves out.
func (c *comparison) finer(old, now *Table) {
	name := now.FullName()
	c.called(name, "key", keysOf(old), keysOf(now))
	c.called(name, "unique key", uniqueNames(old), uniqueNames(now))
	c.called(name, "reference", referenceNames(old), referenceNames(now))
	c.called(name, "check", checkNames(old), checkNames(now))
	c.targets(name, old, now)
	if a, b := commonOrder(old, now), commonOrder(now, old); a != b {
		c.altered("order", name, "", a, b, "the columns have another order")
	}
	if old.Partition != now.Partition {
		c.altered("partition", name, "", old.Partition, now.Partition, "its rows are divided by %s now, were by %s", orNone(now.Partition), orNone(old.Partition))
	}
	if a, b := strings.Join(old.Inherits, ", "), strings.Join(now.Inherits, ", "); a != b {
		c.altered("inheritance", name, "", a, b, "it inherits from %s now, was from %s", orNone(b), orNone(a))
	}
	if old.Updatable != now.Updatable {
		c.altered("updatable", name, "", "", "", "rows can %sbe changed through it now", map[bool]string{false: "no longer "}[now.Updatable])
	}
	for i := range now.Columns {
		if was, ok := old.Column(now.Columns[i].Name); ok && was.NotNull != now.Columns[i].NotNull {
			c.altered("name", name, was.Name, was.NotNull, now.Columns[i].NotNull, "the constraint that %s is not null is called %s now, was %s", was.Name, cmp.Or(now.Columns[i].NotNull, "as usual"), cmp.Or(was.NotNull, "as usual"))
		}
		if was, ok := old.Column(now.Columns[i].Name); ok && was.Domain != now.Columns[i].Domain {
			c.altered("domain", name, was.Name, was.Domain, now.Columns[i].Domain, "%s is of the domain %s now, was of %s", was.Name, orNone(now.Columns[i].Domain), orNone(was.Domain))
		}
	}
	for _, in := range now.Indexes {
		i := slices.IndexFunc(old.Indexes, func(x Index) bool { return x.Name == in.Name })
		if i >= 0 && old.Indexes[i].Method != in.Method {
			c.altered("index", name, in.Name, old.Indexes[i].Method, in.Method, "the index %s is a %s index now", in.Name, cmp.Or(in.Method, "plain"))
		}
	}
	for _, trigger := range now.Triggers {
		i := slices.IndexFunc(old.Triggers, func(x Trigger) bool { return x.Name == trigger.Name })
		if i >= 0 && differ(old.Triggers[i].Session, trigger.Session) {
			c.altered("trigger", name, trigger.Name, old.Triggers[i].Session, trigger.Session, "the trigger %s has other settings", trigger.Name)
		}
	}
}

// targets tells of references that lead to other columns, and of those that the
// engine enforces now, or no longer.
func (c *comparison) targets(table string, old, now *Table) {
	for _, r := range now.References {
		i := slices.IndexFunc(old.References, func(x Reference) bool {
			return slices.Equal(x.Columns, r.Columns) && x.Schema == r.Schema && x.Table == r.Table && (x.Name == r.Name || x.Name == "" || r.Name == "")
		})
		if i < 0 {
			continue
		}
		was := old.References[i]
		columns := strings.Join(r.Columns, ", ")
		if a, b := strings.Join(was.Target, ", "), strings.Join(r.Target, ", "); a != b {
			c.altered("reference", table, columns, a, b, "the reference of %s leads to %s now, was to %s", columns, orNone(b), orNone(a))
		}
		if was.Unenforced != r.Unenforced {
			c.altered("reference", table, columns, "", "", "the reference of %s is %senforced now", columns, map[bool]string{true: "not "}[r.Unenforced])
		}
	}
}

// differ reports whether two texts that may not be known are different.
func differ(a, b string) bool { return a != "" && b != "" && a != b }

// commonOrder are the columns of a table that another one has too.
func commonOrder(t, other *Table) string {
	var names []string
	for _, c := range t.Columns {
		if _, ok := other.Column(c.Name); ok {
			names = append(names, c.Name)
		}
	}
	return strings.Join(names, ", ")
}

// entry is a constraint by what it says, with its name.
type entry struct{ text, name string }

func keysOf(t *Table) []entry {
	if t.PrimaryKey == nil {
		return nil
	}
	return []entry{{keyText(t.PrimaryKey), t.PrimaryKey.Name}}
}

func uniqueNames(t *Table) []entry {
	texts := uniqueTexts(t)
	list := make([]entry, len(texts))
	for i, text := range texts {
		list[i] = entry{text, t.Uniques[i].Name + map[bool]string{true: " (an index)"}[t.Uniques[i].Index]}
	}
	return list
}

func referenceNames(t *Table) []entry {
	texts := referenceTexts(t)
	list := make([]entry, len(texts))
	for i, text := range texts {
		list[i] = entry{text, t.References[i].Name}
	}
	return list
}

func checkNames(t *Table) []entry {
	texts := checkTexts(t)
	list := make([]entry, len(texts))
	for i, text := range texts {
		list[i] = entry{text, t.Checks[i].Name}
	}
	return list
}

// called tells of constraints that say what they said and have another name.
func (c *comparison) called(table, thing string, old, now []entry) {
	left := slices.Clone(old)
	for _, n := range now {
		same := slices.Index(left, n)
		if same < 0 {
			same = slices.IndexFunc(left, func(x entry) bool { return x.text == n.text && !slices.Contains(now, x) })
		}
		if same < 0 {
			continue
		}
		if was := left[same].name; differ(was, n.name) {
			c.altered("name", table, n.name, was, n.name, "the %s %s is called %s now", thing, was, n.name)
		}
		left = slices.Delete(left, same, same+1)
	}
}

// finerOthers tells of comments, and of what types and routines have besides.
func (c *comparison) finerOthers(before, after *Catalog) {
	known := comments(before)
	for _, now := range comments(after) {
		i := slices.IndexFunc(known, func(x named) bool { return x.name == now.name })
		if i >= 0 && known[i].text != now.text {
			c.add(Altered, "comment", "", now.name, known[i].text, now.text, "the comment of the %s has changed", now.name)
		}
	}
	for _, now := range after.Routines {
		i := slices.IndexFunc(before.Routines, func(x Routine) bool { return x.Signature() == now.Signature() })
		if i < 0 {
			continue
		}
		was := before.Routines[i]
		if !slices.Equal(was.Arguments, now.Arguments) {
			c.add(Altered, now.Kind, "", now.Signature(), "", "", "the arguments of the %s %s have changed", now.Kind, now.Signature())
		}
		if differ(was.Session, now.Session) {
			c.add(Altered, now.Kind, "", now.Signature(), was.Session, now.Session, "the %s %s has other settings", now.Kind, now.Signature())
		}
	}
}

// comments are those of types and routines.
func comments(c *Catalog) []named {
	var list []named
	for _, e := range c.Enums {
		list = append(list, named{"comment", "enum " + Qualify(e.Schema, e.Name), e.Comment})
	}
	for _, d := range c.Domains {
		list = append(list, named{"comment", "domain " + Qualify(d.Schema, d.Name), d.Comment})
	}
	for _, t := range c.Composites {
		list = append(list, named{"comment", "composite type " + Qualify(t.Schema, t.Name), t.Comment})
	}
	for _, r := range c.Routines {
		list = append(list, named{"comment", r.Kind + " " + r.Signature(), r.Comment})
	}
	return list
}
