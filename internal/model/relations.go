package model

import (
	"slices"
	"strconv"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/project"
)

// RelationKind says how many rows there are on the other side.
type RelationKind string

// The kinds of relations.
const (
	ToOne      RelationKind = "ToOne"
	ToMany     RelationKind = "ToMany"
	ManyToMany RelationKind = "ManyToMany"
)

// Relation leads from an entity to another, or to itself.
type Relation struct {
	Kind    RelationKind
	Name    string // Splits
	Var     string // among the columns and verbs of the table's variable
	JSON    string // splits
	Path    string // splits
	To      *Entity
	Pairs   [][2]string // columns of this entity and the other that are equal
	Join    *Join
	Owned   bool // this entity holds the reference
	Comment string
	Unclear bool // other relations or columns have all names that it would have

	words []string
	why   string // it has its name
}

// Join is the table between the two sides of a many-to-many relation.
type Join struct {
	Table  *catalog.Table
	Parent [][2]string // this entity's column, the join table's
	Child  [][2]string // the join table's column, the other entity's
	Pure   bool        // the table holds nothing else
}

// join is a table whose key is exactly two references.
type join struct {
	table    *catalog.Table
	one, two catalog.Reference
	pure     bool
}

// asJoin reports whether the key of t is exactly two of its references.
func asJoin(t *catalog.Table) (join, bool) {
	if t.PrimaryKey == nil || t.IsView() {
		return join{}, false
	}
	var parts []catalog.Reference
	covered := 0
	for _, ref := range t.References {
		if !ref.Period && len(ref.Target) == len(ref.Columns) && isSubset(ref.Columns, t.PrimaryKey.Columns) {
			parts = append(parts, ref)
			covered += len(ref.Columns)
		}
	}
	if len(parts) != 2 || covered != len(t.PrimaryKey.Columns) || overlap(parts[0].Columns, parts[1].Columns) {
		return join{}, false
	}
	return join{t, parts[0], parts[1], covered == len(t.Columns) && len(t.References) == 2}, true
}

func isPureJoin(t *catalog.Table) bool {
	j, ok := asJoin(t)
	return ok && j.pure
}

func isSubset(part, whole []string) bool {
	return !slices.ContainsFunc(part, func(s string) bool { return !slices.Contains(whole, s) })
}

func overlap(a, b []string) bool {
	return slices.ContainsFunc(a, func(s string) bool { return slices.Contains(b, s) })
}

// wanted is a relation before it is named. Its source is what it rests on, by
// which the ledger knows it again.
type wanted struct {
	relation   *Relation
	from       *Entity
	source     string
	candidates [][]string // words
	set        string     // the name that the project file gives
	why        string     // the first candidate is the best
}

// addRelations finds the relations of all entities and names them: first those
// that were named before, then the others in a fixed order.
func (b *builder) addRelations() {
	var list []wanted
	for _, e := range b.model.Entities {
		for _, ref := range b.references(e.Table) {
			list = append(list, b.fromReference(e, ref)...)
		}
	}
	for _, t := range b.taken {
		if j, ok := asJoin(t); ok {
			list = append(list, b.fromJoin(j)...)
		}
	}
	of := map[*Entity][]wanted{}
	for _, w := range list {
		of[w.from] = append(of[w.from], w)
	}
	for _, e := range b.model.Entities {
		if e.Type == e.Name { // else the rows have no room for what is related
			b.nameRelations(e, of[e])
		}
	}
	for _, e := range b.model.Entities {
		b.remember(e)
	}
}

// fromReference makes both sides of a reference, unless it leads nowhere.
func (b *builder) fromReference(e *Entity, ref catalog.Reference) []wanted {
	target, ok := b.table(ref)
	if !ok || b.entities[target] == nil || len(ref.Target) != len(ref.Columns) || !hasColumns(e.Table, ref.Columns) || !hasColumns(target, ref.Target) {
		return nil
	}
	to := b.entities[target]
	said := b.saying(e.Table, ref, to)
	forward := &Relation{Kind: ToOne, To: to, Pairs: pairs(ref.Columns, ref.Target), Owned: true, Comment: commentOf(e.Table, ref)}
	backward := &Relation{Kind: ToMany, To: e, Pairs: pairs(ref.Target, ref.Columns)}
	if isUnique(e, ref.Columns) {
		backward.Kind = ToOne
	}
	source := e.Table.FullName() + "(" + strings.Join(ref.Columns, ",") + ")"
	set := b.named(e.Table, ref)
	return []wanted{
		{forward, e, ">" + source, said.forward(), set.Name, said.why(false)},
		{backward, to, "<" + source, said.backward(e, backward.Kind), set.Reverse, said.why(true)},
	}
}

// references are those that a table declares, each once, and those that the
// project file declares for it. One over a period is left out: it says that rows
// cover the period, not that one of them has the same.
func (b *builder) references(t *catalog.Table) []catalog.Reference {
	var list []catalog.Reference
	for _, ref := range t.References {
		if !ref.Period && !slices.ContainsFunc(list, func(other catalog.Reference) bool { return sameReference(ref, other) }) {
			list = append(list, ref)
		}
	}
	return append(list, b.declared[t]...)
}

func sameReference(a, b catalog.Reference) bool {
	return a.Schema == b.Schema && a.Table == b.Table && slices.Equal(a.Columns, b.Columns) && slices.Equal(a.Target, b.Target)
}

// named finds the names that the project file gives to a reference.
func (b *builder) named(t *catalog.Table, ref catalog.Reference) project.Relation {
	for _, r := range b.project.Relations {
		if r.Table == t.FullName() && slices.Equal(r.Columns, ref.Columns) && r.To == catalog.Qualify(ref.Schema, ref.Table) {
			return r
		}
	}
	return project.Relation{}
}

// declareRelations reads the references of the project file that the schema
// does not have.
func (b *builder) declareRelations() error {
	b.declared = map[*catalog.Table][]catalog.Reference{}
	for _, r := range b.project.Relations {
		t, to := b.tables[r.Table], b.tables[r.To]
		for name, found := range map[string]*catalog.Table{r.Table: t, r.To: to} {
			if found == nil {
				return fault.New(b.nearTable(name), "widegate.yaml: a relation names %q, which is no table", name)
			}
		}
		ref := catalog.Reference{Columns: r.Columns, Schema: to.Schema, Table: to.Name, Target: r.Target}
		if len(ref.Target) == 0 && to.PrimaryKey != nil {
			ref.Target = to.PrimaryKey.Columns
		}
		if err := b.checkDeclared(t, to, ref); err != nil {
			return err
		}
		known := func(other catalog.Reference) bool {
			return slices.Equal(other.Columns, ref.Columns) && other.Schema == ref.Schema && other.Table == ref.Table
		}
		if !slices.ContainsFunc(t.References, known) {
			b.declared[t] = append(b.declared[t], ref)
		}
	}
	return nil
}

// WithDeclared returns the catalog with the references that the project file
// declares beside those of the schema.
func WithDeclared(c *catalog.Catalog, p *project.Project) (*catalog.Catalog, error) {
	b := newBuilder(c, p, project.NewNames())
	if err := b.declareRelations(); err != nil {
		return nil, err
	}
	full := *c
	full.Tables = slices.Clone(c.Tables)
	for i := range full.Tables {
		full.Tables[i].References = slices.Concat(c.Tables[i].References, b.declared[&c.Tables[i]])
	}
	return &full, nil
}

func (b *builder) checkDeclared(t, to *catalog.Table, ref catalog.Reference) error {
	for table, columns := range map[*catalog.Table][]string{t: ref.Columns, to: ref.Target} {
		for _, name := range columns {
			if _, ok := table.Column(name); !ok {
				return fault.New(nearColumn(table, name), "widegate.yaml: a relation names %q, which is no column of %s", name, table.FullName())
			}
		}
	}
	if len(ref.Target) != len(ref.Columns) {
		return fault.New("name the columns of "+to.FullName()+" that are referred to: `target: […]`", "widegate.yaml: the relation of %s to %s has %d columns and %d to refer to", t.FullName(), to.FullName(), len(ref.Columns), len(ref.Target))
	}
	return nil
}

func nearColumn(t *catalog.Table, name string) string {
	var all []string
	for _, c := range t.Columns {
		all = append(all, c.Name)
	}
	if near := catalog.Nearest(name, all); near != "" {
		return "did you mean \"" + near + "\"?"
	}
	return "its columns are " + strings.Join(all, ", ")
}

func hasColumns(t *catalog.Table, names []string) bool {
	return !slices.ContainsFunc(names, func(n string) bool { _, ok := t.Column(n); return !ok })
}

func pairs(a, b []string) [][2]string {
	list := make([][2]string, len(a))
	for i := range a {
		list[i] = [2]string{a[i], b[i]}
	}
	return list
}

func commentOf(t *catalog.Table, ref catalog.Reference) string {
	if len(ref.Columns) != 1 {
		return ""
	}
	c, _ := t.Column(ref.Columns[0])
	return c.Comment
}

// isUnique reports whether no two rows have the same values in the columns.
func isUnique(e *Entity, columns []string) bool {
	if e.Table.PrimaryKey != nil && isSubset(e.Table.PrimaryKey.Columns, columns) {
		return true
	}
	return slices.ContainsFunc(e.Uniques, func(k catalog.Key) bool { return isSubset(k.Columns, columns) })
}

// fromJoin makes both sides of a many-to-many relation.
func (b *builder) fromJoin(j join) []wanted {
	oneTable, ok1 := b.table(j.one)
	twoTable, ok2 := b.table(j.two)
	if !ok1 || !ok2 || b.entities[oneTable] == nil || b.entities[twoTable] == nil {
		return nil
	}
	return []wanted{
		b.joinSide(j, j.one, j.two, b.entities[oneTable], b.entities[twoTable]),
		b.joinSide(j, j.two, j.one, b.entities[twoTable], b.entities[oneTable]),
	}
}

func (b *builder) joinSide(j join, near, far catalog.Reference, from, to *Entity) wanted {
	role := b.saying(j.table, far, to).role
	r := &Relation{Kind: ManyToMany, To: to, Join: &Join{
		Table: j.table, Parent: pairs(near.Target, near.Columns), Child: pairs(far.Columns, far.Target), Pure: j.pure,
	}}
	return wanted{r, from, "*" + j.table.FullName() + "(" + strings.Join(far.Columns, ",") + ")", [][]string{
		b.words.Plural(role),
		slices.Concat(role, b.words.Plural(to.words)),
		slices.Concat(b.words.Plural(role), []string{"by"}, b.tableWords(j.table)),
	}, "", "through " + j.table.FullName()}
}

// nameRelations gives the relations of an entity names that neither its fields
// nor each other have.
func (b *builder) nameRelations(e *Entity, list []wanted) {
	names := newNamespace()
	for _, f := range e.Fields {
		names.reserve(f.Name)
		names.taken["json "+f.Column.Name] = true
	}
	given := b.names.Tables[e.Table.FullName()]
	named := map[string]bool{}
	take := func(w wanted, name string, words []string, why string) {
		if name != "" && !named[w.source] && names.reserve(name, "json "+snake(words)) {
			w.relation.setName(name, words)
			w.relation.why = why
			named[w.source] = true
		}
	}
	for _, w := range list {
		if given.Relations[w.source] == w.set {
			take(w, w.set, given.WordsOf(w.set), saysSo)
		}
		take(w, w.set, b.words.Split(w.set), saysSo)
	}
	for _, w := range list {
		take(w, given.Relations[w.source], given.WordsOf(given.Relations[w.source]), b.stillWhy(given.Relations[w.source], b.words.exported(w.candidates[0]), w.why))
	}
	for _, w := range list {
		if !named[w.source] {
			b.chooseName(w, names)
		}
		e.Relations = append(e.Relations, w.relation)
	}
	vars := newNamespace(verbNames...)
	for _, f := range e.Fields {
		vars.reserve(f.Var)
	}
	for i, r := range e.Relations {
		r.Var = vars.give(r.Name, r.Name+"Relation")
		b.relationSources(e)[list[i].source] = r.Name
	}
	order := map[RelationKind]int{ToOne: 0, ToMany: 1, ManyToMany: 2}
	slices.SortStableFunc(e.Relations, func(x, y *Relation) int { return order[x.Kind] - order[y.Kind] })
}

// stillWhy is the reason of a name that the ledger gave: the one that it would have
// today, if it would be the same.
func (b *builder) stillWhy(name, today, why string) string {
	if name == today {
		return why
	}
	return wasBefore + "; today it would be " + today
}

// chooseName gives a relation its name, and notes one that needed a number.
func (b *builder) chooseName(w wanted, names *namespace) {
	w.relation.why = w.why
	best := b.words.exported(w.candidates[0])
	for i, words := range w.candidates {
		name := b.words.exported(words)
		if !names.reserve(name, "json "+snake(words)) {
			continue
		}
		w.relation.setName(name, words)
		if i > 0 && name != best {
			w.relation.why += "; " + best + " is taken"
		}
		return
	}
	last := w.candidates[len(w.candidates)-1]
	for i := 2; ; i++ {
		words := append(slices.Clone(last), strconv.Itoa(i))
		if name := b.words.exported(words); names.reserve(name, "json "+snake(words)) {
			w.relation.setName(name, words)
			w.relation.Unclear = true
			return
		}
	}
}

func (r *Relation) setName(name string, words []string) {
	r.words = words
	r.Name, r.JSON, r.Path = name, snake(words), kebab(words)
}

// relationSources is the part of the ledger that knows the relations of e.
func (b *builder) relationSources(e *Entity) map[string]string {
	given := b.names.Tables[e.Table.FullName()]
	if given.Relations == nil {
		given.Relations = map[string]string{}
		b.names.Tables[e.Table.FullName()] = given
	}
	return given.Relations
}

// remember puts the names of an entity into the ledger.
func (b *builder) remember(e *Entity) {
	n := project.TableNames{
		Entity: e.Name, Plural: e.Plural, File: e.File, Path: e.Path,
		Columns: map[string]string{}, Relations: b.relationSources(e),
	}
	for _, f := range e.Fields {
		n.Columns[f.Column.Name] = f.Name
	}
	n.Remember(e.Name, e.words)
	for _, r := range e.Relations {
		n.Remember(r.Name, r.words)
	}
	b.names.Tables[e.Table.FullName()] = n
}

// Reverse reports whether rows of the related entity can be created through
// the relation: they hold the reference.
func (r *Relation) Reverse() bool { return r.Kind == ToMany && !r.Owned }

// Linkable reports whether rows can be linked through the relation by nothing
// but their keys.
func (r *Relation) Linkable() bool { return r.Join != nil && r.Join.Pure && len(r.To.Key) > 0 }
