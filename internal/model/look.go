package model

import (
	"cmp"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
)

// Look says how the rows of an entity look on pages. Names are those that
// callers of the service see.
type Look struct {
	Label   string // Hives
	One     string // hive
	Group   string
	Help    string
	Tells   string   // the property that tells a row
	Order   []string // properties, in the order in which they are shown
	Columns []ColumnLook
}

// ColumnLook says how a property looks.
type ColumnLook struct {
	Name   string
	Label  string
	Help   string
	Format string
	Input  string
	Aside  bool // is shown on request only
}

// silent reports whether nothing is said of the column.
func (c ColumnLook) silent() bool { return c == ColumnLook{Name: c.Name} }

// Look is how an entity looks: what the project file says, and what the comments
// of the schema do.
func (m *Model) Look(e *Entity) Look {
	l := Look{Label: e.Said.Label, One: e.Words, Group: e.Said.Group, Help: cmp.Or(e.Said.Help, e.Table.Comment)}
	if e.Said.Tells != "" {
		l.Tells = m.Outward(e.Said.Tells)
	}
	switch {
	case l.Group != "":
	case e.Table.Schema != "":
		l.Group = e.Table.Schema // which is not the connection's own
	case e.Table.IsView():
		l.Group = "Views"
	}
	for _, name := range e.Said.Order {
		l.Order = append(l.Order, m.Outward(name))
	}
	for _, f := range e.Fields {
		said := e.Said.Columns[f.Column.Name]
		c := ColumnLook{Name: m.Outward(f.Column.Name), Label: said.Label, Help: cmp.Or(said.Help, f.Column.Comment), Format: said.Format, Input: said.Input, Aside: said.Aside}
		if c.Format == "" && f.Content != nil && strings.HasPrefix(f.Content.Media, "image/") {
			c.Format = "picture"
		}
		if !f.Hidden && !c.silent() {
			l.Columns = append(l.Columns, c)
		}
	}
	return l
}

// The formats and controls that a column may be given.
var (
	formats  = []string{"currency", "percent", "number", "date", "relative", "phone", "mail", "link", "picture", "own"}
	controls = []string{"long"}
)

// checkLook finds names and words that mean nothing.
func (e *Entity) checkLook() error {
	at := "widegate.yaml: entities." + e.Table.FullName()
	for _, name := range slices.Concat(e.Said.Order, []string{e.Said.Tells}) {
		if name != "" && e.Field(name) == nil {
			return fault.New(near(name, e.columnNames()), "%s: there is no column %q to show", at, name)
		}
	}
	for name, said := range e.Said.Columns {
		kind, _, _ := strings.Cut(said.Format, " ")
		if kind != "" && !slices.Contains(formats, kind) {
			return fault.New(nearWord(kind, formats), "%s.columns.%s: there is no format %q", at, name, kind)
		}
		if said.Input != "" && !slices.Contains(controls, said.Input) {
			return fault.New("leave it out, or write long for a large field", "%s.columns.%s: there is no input %q", at, name, said.Input)
		}
	}
	return nil
}

func nearWord(word string, known []string) string {
	if n := catalog.Nearest(word, known); n != "" {
		return "did you mean " + n + "?"
	}
	return "there are " + strings.Join(known, ", ")
}
