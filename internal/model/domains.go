package model

import (
	"strings"

	"widegate/internal/catalog"
)

// Domain is a type of the database that is another with a name, and mostly with
// rules: a name for the Go type, which stays what it is.
type Domain struct {
	Name    string
	Of      *Field // what it is another name for
	SQL     string // what it is called and based on
	Comment string
	Home    *Entity // the first entity that uses it
}

// domain finds a domain by its full name.
func (b *builder) domain(name string) (*catalog.Domain, bool) {
	for i := range b.catalog.Domains {
		if d := &b.catalog.Domains[i]; name != "" && catalog.Qualify(d.Schema, d.Name) == name {
			return d, true
		}
	}
	return nil, false
}

// withDomain adds to the limits of a column those of its domain, in whose
// checks VALUE stands for the column.
func (b *builder) withDomain(l limits, c *catalog.Column) limits {
	d, ok := b.domain(c.Domain)
	if !ok {
		return l
	}
	t := &catalog.Table{Columns: []catalog.Column{{Name: "VALUE", Type: c.Type}}, Checks: d.Checks}
	of := readChecks(t)["VALUE"]
	for to, from := range map[*string]string{&l.least: of.least, &l.most: of.most, &l.above: of.above, &l.below: of.below} {
		if *to == "" {
			*to = from
		}
	}
	if l.labels == nil {
		l.labels = of.labels
	}
	return l
}

// setDomain gives the type of a field the name of its domain. One that is a
// list of labels is an enum already.
func (b *builder) setDomain(e *Entity, f *Field) {
	d, ok := b.domain(f.Column.Domain)
	if !ok || f.Enum != nil || f.Element != nil {
		return
	}
	source := "domain " + f.Column.Domain
	f.Domain = b.namedDomain(source)
	if f.Domain == nil {
		name, given := b.names.Enums[source]
		if !given {
			name = b.global.give(b.words.exported(b.words.Split(d.Name)), b.words.exported(b.words.Split(d.Name+" value")))
			b.names.Enums[source] = name
		}
		of := *f
		f.Domain = &Domain{Name: name, Of: &of, SQL: source + ", which is " + strings.ToLower(d.Declared), Comment: d.Comment, Home: e}
		b.model.Domains = append(b.model.Domains, f.Domain)
	}
	if f.Domain.Of.Kind != f.Kind {
		f.Domain = nil
		return
	}
	if f.Domain.Home.Table.IsView() && !e.Table.IsView() {
		f.Domain.Home = e // where one looks for it
	}
}

func (b *builder) namedDomain(source string) *Domain {
	for _, d := range b.model.Domains {
		if d.Name == b.names.Enums[source] {
			return d
		}
	}
	return nil
}
