package model

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/project"
)

// Version is an earlier version of the interface.
type Version struct {
	Name       string
	Base       string
	Deprecated time.Time
	Sunset     time.Time
	Resources  []FormerResource
	Model      *Model // as it looks in the version
}

// FormerResource says how a resource was in a version.
type FormerResource struct {
	Entity    *Entity
	Path      string // empty: as today
	Hidden    bool
	Columns   []Renamed
	Relations []Renamed
	Values    []Renamed // of columns that were not there
}

// Renamed is a name of today and what it was; empty where it was not there.
type Renamed struct{ Name, Former string }

// addVersions makes the earlier versions of the interface that the project file
// tells of.
func (b *builder) addVersions() error {
	for _, name := range slices.Sorted(maps.Keys(b.project.API.Versions)) {
		said := b.project.API.Versions[name]
		v := &Version{Name: name, Base: said.Base, Deprecated: project.Day(said.Deprecated), Sunset: project.Day(said.Sunset)}
		for _, table := range slices.Sorted(maps.Keys(said.Entities)) {
			e := b.model.Entity(table)
			if e == nil {
				return fault.New(b.nearTable(table), "widegate.yaml: api.versions.%s names %q, of which there are no endpoints", name, table)
			}
			former, err := formerResource(e, said.Entities[table])
			if err != nil {
				return fmt.Errorf("widegate.yaml: api.versions.%s.entities.%s: %w", name, table, err)
			}
			v.Resources = append(v.Resources, former)
		}
		v.Model = b.model.former(v)
		b.model.Versions = append(b.model.Versions, v)
	}
	return nil
}

func formerResource(e *Entity, said project.Former) (FormerResource, error) {
	f := FormerResource{Entity: e, Path: said.Path, Hidden: said.Hidden}
	for _, name := range slices.Sorted(maps.Keys(said.Columns)) {
		field := e.Field(name)
		if field == nil || field.Hidden {
			return f, fault.New(near(name, e.columnNames()), "there is no column %q", name)
		}
		column := said.Columns[name]
		if column.Hidden || column.Name != "" {
			f.Columns = append(f.Columns, Renamed{name, column.Name})
		}
		if column.Value != nil {
			f.Values = append(f.Values, Renamed{name, *column.Value})
		}
		if column.Hidden && column.Value == nil && !field.Nullable && !field.ByDefault && !field.Computed && field.Role == NoRole && e.Verbs != ReadOnly {
			return f, fault.New("say what new rows of the version have in it: `value: …`", "the column %q must have a value, and was not there", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(said.Relations)) {
		if !slices.ContainsFunc(e.Relations, func(r *Relation) bool { return r.JSON == name }) {
			return f, fault.New(near(name, e.relationNames()), "there is no relation %q", name)
		}
		f.Relations = append(f.Relations, Renamed{name, said.Relations[name].Name})
	}
	return f, nil
}

func near(name string, known []string) string {
	if n := catalog.Nearest(name, known); n != "" {
		return fmt.Sprintf("did you mean %q?", n)
	}
	return "there are " + strings.Join(known, ", ")
}

func (e *Entity) columnNames() []string {
	var names []string
	for _, f := range e.Fields {
		names = append(names, f.Column.Name)
	}
	return names
}

func (e *Entity) relationNames() []string {
	var names []string
	for _, r := range e.Relations {
		names = append(names, r.JSON)
	}
	return names
}

// former is the model as it looks in a version.
func (m *Model) former(v *Version) *Model {
	own := *m
	own.Base, own.Entities, own.Versions = v.Base, nil, nil
	copies := map[*Entity]*Entity{}
	names := map[*Entity]map[string]string{} // of columns, by those of today
	for _, e := range m.Entities {
		said := FormerResource{}
		if i := slices.IndexFunc(v.Resources, func(f FormerResource) bool { return f.Entity == e }); i >= 0 {
			said = v.Resources[i]
		}
		names[e] = map[string]string{}
		for _, f := range e.Fields {
			names[e][f.Column.Name] = m.Outward(f.Column.Name)
		}
		for _, c := range said.Columns {
			names[e][c.Name] = c.Former
		}
		if !said.Hidden {
			copies[e] = e.former(said, m.Outward)
			own.Entities = append(own.Entities, copies[e])
		}
	}
	for _, e := range m.Entities {
		at := copies[e]
		if at == nil {
			continue
		}
		hidden := map[string]bool{}
		renamed := map[string]string{}
		for _, f := range v.Resources {
			for _, r := range f.Relations {
				if f.Entity == e {
					renamed[r.Name], hidden[r.Name] = r.Former, r.Former == ""
				}
			}
		}
		at.Relations = nil
		for _, r := range e.Relations {
			if copies[r.To] == nil || hidden[r.JSON] {
				continue
			}
			own := r.former(copies[r.To], renamed[r.JSON], names[e], names[r.To])
			if renamed[r.JSON] == "" {
				own.JSON = m.Outward(r.JSON)
			}
			at.Relations = append(at.Relations, own)
		}
	}
	return &own
}

func (e *Entity) former(said FormerResource, outward func(string) string) *Entity {
	own := *e
	own.Path = cmp.Or(said.Path, e.Path)
	own.Fields, own.Key = nil, nil
	own.Said.Columns = map[string]project.Column{}
	for name, said := range e.Said.Columns {
		own.Said.Columns[outward(name)] = said
	}
	if e.Allow != nil {
		allow := *e.Allow
		allow.Columns = map[string]project.AllowColumn{}
		for name, roles := range e.Allow.Columns {
			was := outward(name)
			for _, c := range said.Columns {
				if c.Name == name {
					was = c.Former
					break
				}
			}
			allow.Columns[was] = roles
		}
		own.Allow = &allow
	}
	for _, f := range e.Fields {
		field := *f
		column := *f.Column
		column.Name = outward(column.Name)
		field.Column = &column
		for _, c := range said.Columns {
			if c.Name == f.Column.Name {
				column.Name = cmp.Or(c.Former, f.Column.Name)
				field.Hidden = f.Hidden || c.Former == ""
			}
		}
		for _, c := range said.Values {
			field.ByDefault = field.ByDefault || c.Name == f.Column.Name
		}
		own.Fields = append(own.Fields, &field)
		if slices.Contains(e.Key, f) {
			own.Key = append(own.Key, &field)
		}
	}
	return &own
}

func (r *Relation) former(to *Entity, name string, mine, theirs map[string]string) *Relation {
	own := *r
	own.To = to
	if name != "" {
		own.JSON, own.Path = name, strings.ReplaceAll(name, "_", "-")
	}
	own.Pairs = nil
	for _, p := range r.Pairs {
		own.Pairs = append(own.Pairs, [2]string{cmp.Or(mine[p[0]], p[0]), cmp.Or(theirs[p[1]], p[1])})
	}
	return &own
}
