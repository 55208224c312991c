package preview

import (
	"net/http"
	"slices"

	"widegate/gate"
	"widegate/gate/rest"
	"widegate/internal/model"
)

// row is a row of any table: places for its values, and for related rows.
type row struct {
	values []any
	one    []*row
	many   [][]*row
}

// key is the key of a row: places for its values.
type key struct{ parts []any }

// table is an entity as the runtime knows it.
type table struct {
	entity *model.Entity
	fields []func() any
	def    *gate.Def[*row]
	keyed  gate.Table[*row, *key]
	shape  *rest.Shape[*row, *key]

	one  map[*model.Relation]*gate.ToOne[*row, *row]
	many map[*model.Relation]*gate.ToMany[*row, *row]
	join map[*model.Relation]*gate.ManyToMany[*row, *row]
}

// newTables describes all entities to the runtime, and their relations.
func newTables(m *model.Model) map[*model.Entity]*table {
	tables := map[*model.Entity]*table{}
	for _, e := range m.Entities {
		tables[e] = newTable(m, e)
	}
	for _, e := range m.Entities {
		tables[e].relate(tables)
	}
	for _, e := range m.Entities {
		tables[e].outline()
	}
	return tables
}

func newTable(m *model.Model, e *model.Entity) *table {
	t := &table{
		entity: e, one: map[*model.Relation]*gate.ToOne[*row, *row]{}, many: map[*model.Relation]*gate.ToMany[*row, *row]{},
		join: map[*model.Relation]*gate.ManyToMany[*row, *row]{},
	}
	spec := gate.Spec[*row]{Schema: e.Table.Schema, Name: e.Table.Name, New: t.newRow}
	for i, f := range e.Fields {
		spec.Fields = append(spec.Fields, gate.FieldOf(m.Facts(f), func(r *row) any { return r.values[i] }))
		t.fields = append(t.fields, newField(f))
	}
	for _, u := range e.Uniques {
		spec.Uniques = append(spec.Uniques, gate.Unique{Name: u.Name, Columns: u.Columns})
	}
	t.def = gate.Describe(spec)
	t.keyed = gate.NewTable(t.def, t.keyParts)
	return t
}

func (t *table) newRow() *row {
	r := &row{values: make([]any, len(t.fields)), one: make([]*row, len(t.entity.Relations)), many: make([][]*row, len(t.entity.Relations))}
	for i, make := range t.fields {
		r.values[i] = make()
	}
	return r
}

// keyParts are the places of a key's values.
func (t *table) keyParts(k **key) []any {
	if *k == nil {
		*k = &key{}
		for _, f := range t.entity.Key {
			(*k).parts = append((*k).parts, t.fields[slices.Index(t.entity.Fields, f)]())
		}
	}
	return (*k).parts
}

// relate describes the relations of a table.
func (t *table) relate(tables map[*model.Entity]*table) {
	for i, r := range t.entity.Relations {
		to := tables[r.To]
		single := func(e *row) **row { return &e.one[i] }
		several := func(e *row) *[]*row { return &e.many[i] }
		switch {
		case r.Kind == model.ToOne && r.Owned:
			t.one[r] = gate.NewToOne(t.def, to.def, gate.On(r.Pairs), single)
		case r.Kind == model.ToOne:
			t.one[r] = gate.NewOneToOne(t.def, to.def, gate.On(r.Pairs), single)
		case r.Kind == model.ToMany:
			t.many[r] = gate.NewToMany(t.def, to.def, gate.On(r.Pairs), several)
		default:
			j := gate.Join{Schema: r.Join.Table.Schema, Name: r.Join.Table.Name, Parent: r.Join.Parent, Child: r.Join.Child}
			t.join[r] = gate.NewManyToMany(t.def, to.def, j, several)
		}
	}
}

// outline says how the rows look from outside.
func (t *table) outline() {
	var relations []rest.Relation[*row]
	for _, r := range t.entity.Relations {
		switch {
		case t.one[r] != nil:
			relations = append(relations, rest.Relate(r.JSON, t.one[r]))
		case t.many[r] != nil:
			relations = append(relations, rest.Relate(r.JSON, t.many[r]))
		default:
			relations = append(relations, rest.Relate(r.JSON, t.join[r]))
		}
	}
	t.shape = rest.NewShape(t.entity.Path, &t.keyed, relations...)
}

// of is the query for the rows that a relation leads to.
func (t *table) of(r *model.Relation) func(*row) *gate.Query[*row] {
	switch {
	case t.one[r] != nil:
		return t.one[r].Of
	case t.many[r] != nil:
		return t.many[r].Of
	}
	return t.join[r].Of
}

// part is the table with its routes.
func (t *table) part(tables map[*model.Entity]*table) rest.Part {
	var routes []rest.Route
	for _, r := range t.entity.Routes() {
		routes = append(routes, t.route(tables, r))
	}
	return rest.Mount(t.shape, routes)
}

// route is a route with what answers it.
func (t *table) route(tables map[*model.Entity]*table, r model.Route) rest.Route {
	var to *rest.Shape[*row, *key]
	if r.Relation != nil {
		to = tables[r.Relation.To].shape
	}
	switch r.Does {
	case model.DoesList:
		return rest.On(r.Pattern, t.list)
	case model.DoesSummarize:
		return rest.On(r.Pattern, rest.Summarize(t.shape))
	case model.DoesGet:
		return rest.On(r.Pattern, t.get)
	case model.DoesCreate:
		return rest.On(r.Pattern, rest.Create(t.shape))
	case model.DoesReplace:
		return rest.On(r.Pattern, rest.Replace(t.shape))
	case model.DoesChange:
		return rest.On(r.Pattern, rest.Change(t.shape))
	case model.DoesRemove:
		return rest.On(r.Pattern, rest.Remove(t.shape))
	case model.DoesChangeMany:
		return rest.On(r.Pattern, rest.ChangeMany(t.shape, t.entity.Bulk))
	case model.DoesRemoveMany:
		return rest.On(r.Pattern, rest.RemoveMany(t.shape, t.entity.Bulk))
	case model.DoesSendContent:
		return rest.On(r.Pattern, rest.SendContent(t.shape, contentOf(r.Content)))
	case model.DoesStoreContent:
		return rest.On(r.Pattern, rest.StoreContent(t.shape, contentOf(r.Content)))
	case model.DoesRemoveContent:
		return rest.On(r.Pattern, rest.RemoveContent(t.shape, contentOf(r.Content)))
	case model.DoesGetUnder:
		return rest.On(r.Pattern, rest.GetUnder(t.shape, t.of(r.Relation), to))
	case model.DoesListUnder:
		return rest.On(r.Pattern, rest.ListUnder(t.shape, t.of(r.Relation), to))
	case model.DoesCreateUnder:
		return rest.On(r.Pattern, rest.CreateUnder(t.shape, t.many[r.Relation], to))
	case model.DoesLink:
		return rest.On(r.Pattern, rest.Link(t.shape, t.join[r.Relation], to))
	}
	return rest.On(r.Pattern, rest.Unlink(t.shape, t.join[r.Relation], to))
}

// list answers with rows, as generated code does.
func (t *table) list(w http.ResponseWriter, r *http.Request) error {
	list, err := rest.ReadList(r, t.shape)
	if err != nil {
		return err
	}
	return rest.SendList(w, r, t.shape, list)
}

// get answers with one row, as generated code does.
func (t *table) get(w http.ResponseWriter, r *http.Request) error {
	key, err := rest.ReadKey(r, t.shape)
	if err != nil {
		return err
	}
	return rest.SendRow(w, r, t.shape, key)
}

func contentOf(f *model.Field) rest.Content {
	c := rest.Content{Column: f.Column.Name, Media: f.Content.Media, Most: int64(f.Content.Most)}
	if f.Content.MediaColumn != nil {
		c.MediaColumn = f.Content.MediaColumn.Column.Name
	}
	return c
}
