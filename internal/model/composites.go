package model

import "widegate/internal/catalog"

// Composite is a type of the database made of several parts: a struct of which
// every part may be null.
type Composite struct {
	Name    string
	Facts   string // the name of the variable that describes its parts
	SQL     string // what the database calls it
	Comment string
	Parts   []*Field
	Home    *Entity // the first entity that uses it

	full string
}

// composite finds a type by its full name.
func (m *Model) composite(full string) *Composite {
	for _, c := range m.Composites {
		if full != "" && c.full == full {
			return c
		}
	}
	return nil
}

// setComposite gives a field the type of a composite one of the schema. The row
// type of a table, which is one too, stays a text.
func (b *builder) setComposite(e *Entity, f *Field) {
	full := f.Column.Type.Composite
	known := b.model.composite(full)
	for i := range b.catalog.Composites {
		if c := &b.catalog.Composites[i]; known == nil && full != "" && catalog.Qualify(c.Schema, c.Name) == full && len(c.Fields) > 0 {
			known = b.addComposite(e, c, full)
		}
	}
	f.setComposite(known)
}

func (f *Field) setComposite(c *Composite) {
	if f.Composite = c; c != nil {
		f.Kind = KindRecord
	}
}

func (b *builder) addComposite(e *Entity, from *catalog.Composite, full string) *Composite {
	source := "composite type " + full
	name, given := b.names.Enums[source]
	if !given {
		name = b.global.give(b.words.exported(b.words.Split(from.Name)), b.words.exported(b.words.Split(from.Name+" value")))
		b.names.Enums[source] = name
	}
	c := &Composite{Name: name, Facts: b.global.give(b.steady.unexported(b.steady.Split(name + " parts"))), SQL: source, Comment: from.Comment, Home: e, full: full}
	names := newNamespace("Parts")
	for _, part := range from.Fields {
		f := &Field{
			Name: names.give(b.steady.exported(b.steady.Split(part.Name))), Nullable: true,
			Column: &catalog.Column{Name: part.Name, Declared: part.Declared, Type: part.Type, Nullable: true},
		}
		b.setType(e, f, nil)
		c.Parts = append(c.Parts, f)
	}
	b.model.Composites = append(b.model.Composites, c)
	return c
}
