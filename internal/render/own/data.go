package own

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"widegate/internal/model"
	"widegate/internal/render"
	"widegate/internal/render/golang"
)

// Data is what a template is run on. Project and Settings are always there; of the
// others, those of the unit and what it belongs to.
type Data struct {
	Project  *Project       // all of it
	Schema   *Schema        // for schema
	Entity   *Entity        // for entity, relation and route
	Relation *Relation      // for relation
	Enum     *Enum          // for enum
	Query    *Query         // for query
	Route    *Route         // for route
	Notice   string         // a sentence that must stand in a comment near the beginning of the text
	Settings map[string]any // of the template, by name
}

// name is what the data are of, for messages.
func (d *Data) name() string {
	switch {
	case d.Relation != nil:
		return "the relation " + d.Entity.Name + "." + d.Relation.Name
	case d.Route != nil:
		return "the route " + d.Route.Method + " " + d.Route.Path
	case d.Entity != nil:
		return "the table " + d.Entity.Table
	case d.Enum != nil:
		return "the enum " + d.Enum.Name
	case d.Query != nil:
		return "the query " + d.Query.Name
	case d.Schema != nil:
		return "the schema " + d.Schema.Name
	}
	return "the project"
}

// names are those by which somebody asks for the unit.
func (d *Data) names() []string {
	switch {
	case d.Entity != nil:
		return []string{d.Entity.Table, d.Entity.Name, d.Entity.Schema + "." + d.Entity.Table}
	case d.Enum != nil:
		return []string{d.Enum.Name}
	case d.Query != nil:
		return []string{d.Query.Name}
	case d.Schema != nil:
		return []string{d.Schema.Name}
	}
	return nil
}

// Project is all that is generated.
type Project struct {
	Module   string    // import path of the project
	Store    string    // import path of the store
	Package  string    // of the store
	Engine   string    // "SQLite", "PostgreSQL" or "MySQL or MariaDB"
	Base     string    // of the paths of the service
	Schemas  []*Schema // of the database
	Entities []*Entity // by table
	Enums    []*Enum
	Queries  []*Query // named queries and routines
}

// Schema is a schema of the database; the connection's own has no name.
type Schema struct {
	Name     string
	Entities []*Entity
}

// Entity is a table or view.
type Entity struct {
	Name      string // Hive
	Plural    string // Hives
	Words     string // hive, in prose
	Article   string // a hive
	File      string // hive, of its files
	Path      string // hives, of its resource
	Table     string // hive
	Schema    string // of the table; empty for the connection's own
	Comment   string // of the table
	Label     string // that the project file gives
	Help      string // that the project file gives
	View      bool
	ReadOnly  bool
	Fields    []*Field
	Key       []*Field
	Relations []*Relation
	Routes    []*Route
}

// Field is a column.
type Field struct {
	Name     string // in Go: KeeperID
	Column   string // keeper_id
	Type     string // in Go: int64
	Kind     string // Int64, Text, Date and so on
	Declared string // as the database has the type: varchar(60)
	Comment  string
	Default  string // where it is a constant
	Size     int    // the most characters of a text; 0 for any
	Least    string // a bound of a number
	Most     string // likewise
	Nullable bool
	Key      bool // part of the key
	Auto     bool // the database numbers the rows
	Computed bool // by the database
	Hidden   bool // from callers of the service
	Required bool // new rows must have a value
	Enum     *Enum
}

// Relation leads from the rows of an entity to those of another.
type Relation struct {
	Name    string // Inspections
	Path    string // inspections, behind the path of a row
	Kind    string // to-one, to-many or many-to-many
	Many    bool   // there may be several rows at its end
	Owned   bool   // this entity has the columns that refer to the other
	Comment string
	To      *Entity
	Columns []Pair // that are equal
	Through string // the table between the two; empty for none
}

// Pair is a column here and one at the other end.
type Pair struct{ From, To string }

// Enum is a set of labels.
type Enum struct {
	Name    string
	Comment string
	Labels  []Label
}

// Label is one of an enum: its constant in Go, and its text.
type Label struct{ Name, Text string }

// Query is a named query or a routine.
type Query struct {
	Name    string // of its function
	Doc     string
	Routine bool
	Reads   bool // it changes nothing
	Args    []*Field
	Fields  []*Field // of its rows; none where they are those of Entity
	Entity  *Entity  // may be nil
}

// Route is a verb of a path.
type Route struct {
	Method string // GET
	Path   string // /api/hives/{key}
	Does   string // list, get, create and so on
}

// kinds are those of relations in words.
var kinds = map[model.RelationKind]string{model.ToOne: "to-one", model.ToMany: "to-many", model.ManyToMany: "many-to-many"}

// builder keeps the views of what was seen.
type builder struct {
	entities map[*model.Entity]*Entity
	enums    map[*model.Enum]*Enum
}

// newProject makes the views of a model.
func newProject(m *model.Model, t render.Target) *Project {
	b := &builder{map[*model.Entity]*Entity{}, map[*model.Enum]*Enum{}}
	p := &Project{Module: t.Module, Store: t.StoreImport(), Package: t.Package, Engine: t.Database.Title, Base: m.Base}
	for _, e := range m.Enums {
		p.Enums = append(p.Enums, b.enum(e))
	}
	for _, e := range m.Entities {
		p.Entities = append(p.Entities, b.entity(e, m.Base))
	}
	for _, e := range m.Entities {
		for _, r := range e.Relations {
			b.entities[e].Relations = append(b.entities[e].Relations, b.relation(r))
		}
	}
	for _, f := range m.Queries {
		for _, q := range f.Queries {
			p.Queries = append(p.Queries, b.query(q))
		}
	}
	schemas := map[string]*Schema{}
	for _, e := range p.Entities {
		if schemas[e.Schema] == nil {
			schemas[e.Schema] = &Schema{Name: e.Schema}
		}
		schemas[e.Schema].Entities = append(schemas[e.Schema].Entities, e)
	}
	for _, name := range slices.Sorted(maps.Keys(schemas)) {
		p.Schemas = append(p.Schemas, schemas[name])
	}
	return p
}

func (b *builder) enum(e *model.Enum) *Enum {
	if e == nil {
		return nil
	}
	if b.enums[e] == nil {
		view := &Enum{Name: e.Name, Comment: e.Comment}
		for _, l := range e.Labels {
			view.Labels = append(view.Labels, Label{l.Name, l.Text})
		}
		b.enums[e] = view
	}
	return b.enums[e]
}

func (b *builder) entity(e *model.Entity, base string) *Entity {
	view := &Entity{
		Name: e.Name, Plural: e.Plural, Words: e.Words, Article: e.Article, File: e.File, Path: e.Path, Table: e.Table.Name, Schema: e.Table.Schema,
		Comment: e.Table.Comment, Label: e.Said.Label, Help: e.Said.Help, View: strings.Contains(string(e.Table.Kind), "view"), ReadOnly: e.Verbs == model.ReadOnly,
	}
	b.entities[e] = view
	for _, f := range e.Fields {
		field := b.field(f)
		view.Fields = append(view.Fields, field)
	}
	for _, k := range e.Key {
		view.Key = append(view.Key, view.Fields[slices.Index(e.Fields, k)])
	}
	for _, r := range e.Routes() {
		method, at, _ := strings.Cut(r.Pattern, " ")
		view.Routes = append(view.Routes, &Route{Method: method, Path: base + at, Does: string(r.Does)})
	}
	return view
}

func (b *builder) field(f *model.Field) *Field {
	return &Field{
		Name: f.Name, Column: f.Column.Name, Type: golang.FieldType(f), Kind: string(f.Kind), Declared: f.Column.Declared, Comment: f.Column.Comment,
		Default: f.Constant, Size: f.Column.Type.Size, Least: cmp.Or(f.Limits.Least, f.Limits.Above), Most: cmp.Or(f.Limits.Most, f.Limits.Below),
		Nullable: f.Nullable, Key: f.InKey, Auto: f.Auto, Computed: f.Computed, Hidden: f.Hidden,
		Required: !f.Nullable && !f.ByDefault && !f.Auto && !f.Computed && f.Role == model.NoRole, Enum: b.enum(f.Enum),
	}
}

func (b *builder) relation(r *model.Relation) *Relation {
	view := &Relation{Name: r.Name, Path: r.Path, Kind: kinds[r.Kind], Many: r.Kind != model.ToOne, Owned: r.Owned, Comment: r.Comment, To: b.entities[r.To]}
	for _, p := range r.Pairs {
		view.Columns = append(view.Columns, Pair{p[0], p[1]})
	}
	if r.Join != nil {
		view.Through = r.Join.Table.FullName()
	}
	return view
}

func (b *builder) query(q *model.NamedQuery) *Query {
	view := &Query{Name: q.Name, Doc: q.Doc, Routine: q.Routine, Reads: q.Reads}
	if q.Entity != nil {
		view.Entity = b.entities[q.Entity]
	}
	for _, a := range q.Args {
		if a.Field != nil {
			view.Args = append(view.Args, b.field(a.Field))
		}
	}
	for _, f := range q.Fields {
		if f.Entity == nil {
			view.Fields = append(view.Fields, b.field(f))
		}
	}
	return view
}

// units are the data of all that a template is run for.
func (p *Project) units(of string) []*Data {
	var list []*Data
	add := func(d Data) {
		d.Project = p
		list = append(list, &d)
	}
	switch of {
	case ForProject:
		add(Data{})
	case ForSchema:
		for _, s := range p.Schemas {
			add(Data{Schema: s})
		}
	case ForEnum:
		for _, e := range p.Enums {
			add(Data{Enum: e})
		}
	case ForQuery:
		for _, q := range p.Queries {
			add(Data{Query: q})
		}
	default:
		for _, e := range p.Entities {
			p.ofEntity(of, e, add)
		}
	}
	return list
}

func (p *Project) ofEntity(of string, e *Entity, add func(Data)) {
	switch of {
	case ForEntity:
		add(Data{Entity: e})
	case ForRelation:
		for _, r := range e.Relations {
			add(Data{Entity: e, Relation: r})
		}
	case ForRoute:
		for _, r := range e.Routes {
			add(Data{Entity: e, Route: r})
		}
	}
}

// present are the fields of Data that there are for a unit.
var present = map[string][]string{
	ForProject: {}, ForSchema: {"Schema"}, ForEntity: {"Entity"}, ForRelation: {"Entity", "Relation"},
	ForEnum: {"Enum"}, ForQuery: {"Query"}, ForRoute: {"Entity", "Route"},
}
