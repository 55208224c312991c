// Package model decides what is generated: which tables become entities, what
// everything is called, how tables relate, which Go type each column has and
// what paths the service answers. It knows the catalog and the project file;
// the templates that lay the text out decide nothing.
//
// Names once given are kept: Build takes those of earlier runs, gives them
// first, and what is new steps aside where it would clash.
package model

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/project"
	"widegate/internal/sqltext"
)

// Model is everything the renderers lay out.
type Model struct {
	dialect    *sqltext.Dialect
	Package    string // of the store
	Base       string // of the paths, without a slash at its end
	Open       bool   // anybody may call the service from anywhere
	API        *project.API
	Entities   []*Entity
	Enums      []*Enum
	Domains    []*Domain
	Composites []*Composite
	Joins      []*catalog.Table // tables that are only a relation
	Queries    []*QueryFile
	Exposed    []*Exposed // named queries and routines that have an endpoint
	Versions   []*Version // earlier ones of the interface
	Followed   []Followed
	Attention  []Attention

	steady spelling
}

// Followed is a table that came along because another refers to it.
type Followed struct{ Table, By string }

// Verbs say what can be done with an entity.
type Verbs int

// The degrees of what can be done.
const (
	ReadOnly Verbs = iota // a view
	Append                // a table without a key: read and insert
	Full
)

// Entity is a table or view with its Go and HTTP names.
type Entity struct {
	Table     *catalog.Table
	Name      string // Hive
	Type      string // of the rows: Name, or that of another entity
	Plural    string // Hives
	Local     string // hive, the beginning of names inside the packages
	File      string // hive, without ending
	Path      string // hives
	Words     string // hive, in prose
	words     []string
	why       string // it has its name
	Article   string // a hive, in prose
	Verbs     Verbs
	Fields    []*Field
	Key       []*Field
	KeyName   string // of the type of a key of several columns
	Uniques   []catalog.Key
	Finders   []Finder
	Relations []*Relation
	Allow     *project.Allow // who may do what, where that is its own
	Said      project.Entity // what the project file says of it
	Bulk      int            // the most rows that one request changes or removes by a filter; 0: none
}

// Finder is a method that finds a row by a unique key.
type Finder struct {
	Name   string // FindByCode
	Key    string // ByCode, of the key for upserts
	Fields []*Field
	Args   []string // the names of the values, one a field
}

// Field is a column with its Go names and type.
type Field struct {
	Column    *catalog.Column
	Name      string // in the entity
	Var       string // among the columns of the table's variable, where verbs stand too
	Kind      Kind
	Enum      *Enum
	Set       *Enum  // the labels of which a value has any number
	Element   *Field // of a list or range: what it is of
	Nullable  bool
	InKey     bool
	Auto      bool // the database numbers the rows
	Computed  bool // by the database, which takes no other value
	Hidden    bool
	NaN       bool // a decimal number that the engine lets be none
	Opaque    bool // the database cannot tell whether two values are the same
	Limits    Limits
	Constant  string // the default, where it is a constant
	ByDefault bool   // the database has a value for rows that bring none
	Role      Role
	Domain    *Domain    // that the column's type is
	Composite *Composite // that the column's type is
	Entity    *Entity    // of a query's row: the field holds one of these
	Content   *Content   // of a binary column that is a resource of its own

	set bool // its name is from the project file
}

// Limits restrict the values of a field.
type Limits struct{ Least, Most, Above, Below string }

// Kind is a family of types that are treated alike in code and on the wire.
type Kind string

// Kinds are those of fields.
var Kinds = []Kind{
	KindInt16, KindInt32, KindInt64, KindUint64, KindFloat32, KindFloat64, KindNumeric, KindBool, KindText, KindBytes, KindDate, KindTimestamp, KindTimestampTZ,
	KindUUID, KindJSON, KindEnum, KindTimeOfDay, KindInterval, KindList, KindRange, KindRecord, KindOther,
}

// The kinds of fields.
const (
	KindInt16       Kind = "Int16"
	KindInt32       Kind = "Int32"
	KindInt64       Kind = "Int64"
	KindUint64      Kind = "Uint64"
	KindFloat32     Kind = "Float32"
	KindFloat64     Kind = "Float64"
	KindNumeric     Kind = "Numeric"
	KindBool        Kind = "Bool"
	KindText        Kind = "Text"
	KindBytes       Kind = "Bytes"
	KindDate        Kind = "Date"
	KindTimestamp   Kind = "Timestamp"
	KindTimestampTZ Kind = "TimestampTZ"
	KindUUID        Kind = "UUID"
	KindJSON        Kind = "JSON"
	KindEnum        Kind = "Enum"
	KindTimeOfDay   Kind = "TimeOfDay"
	KindInterval    Kind = "Interval"
	KindList        Kind = "List"
	KindRange       Kind = "Range"
	KindRecord      Kind = "Record"
	KindOther       Kind = "Other"
)

// Enum is a Go type with a constant for each label.
type Enum struct {
	Name    string
	Comment string
	Labels  []Label
	Home    *Entity // the first entity that uses it
	Several bool    // a value is any number of the labels, between commas
	Maker   string  // the function that makes such a value
}

// Label is one value of an enum.
type Label struct{ Name, Text string }

// Build makes the model of a catalog. It adds the names that it gives to names.
func Build(c *catalog.Catalog, p *project.Project, names *project.Names) (*Model, error) {
	b := newBuilder(c, p, names)
	if err := b.declareRelations(); err != nil {
		return nil, err
	}
	if err := b.chooseTables(); err != nil {
		return nil, err
	}
	b.nameTables()
	for _, e := range b.model.Entities {
		b.addFields(e)
	}
	for _, e := range b.model.Entities {
		if err := b.shareRows(e); err != nil {
			return nil, err
		}
		b.setKey(e)
		if err := b.setRoles(e); err != nil {
			return nil, err
		}
	}
	b.addRelations()
	for _, e := range b.model.Entities {
		b.addFinders(e)
		if err := b.addContents(e); err != nil {
			return nil, err
		}
		if e.Bulk = b.project.API.Bulk; b.settings(e.Table).Bulk != nil {
			e.Bulk = *b.settings(e.Table).Bulk
		}
		if e.Verbs != Full {
			e.Bulk = 0
		}
		if err := e.checkAllow(); err != nil {
			return nil, err
		}
		if err := b.checkCamel(e); err != nil {
			return nil, err
		}
		e.Said = b.settings(e.Table)
		if err := e.checkLook(); err != nil {
			return nil, err
		}
	}
	if err := b.addVersions(); err != nil {
		return nil, err
	}
	b.gatherAttention()
	return b.model, nil
}

func newBuilder(c *catalog.Catalog, p *project.Project, names *project.Names) *builder {
	b := &builder{catalog: c, project: p, names: names, model: &Model{
		dialect: c.Engine, Package: p.Code.Package, Base: strings.TrimSuffix(p.API.Base, "/"), Open: p.API.Access == project.Open, API: &p.API,
	}, entities: map[*catalog.Table]*Entity{}}
	b.tables = make(map[string]*catalog.Table, len(c.Tables))
	for i := range c.Tables {
		b.tables[c.Tables[i].FullName()] = &c.Tables[i]
	}
	b.words, b.steady = spellings(p, names)
	b.before = map[string]bool{}
	for name := range names.Tables {
		b.before[name] = true
	}
	b.model.steady = b.steady
	return b
}

type builder struct {
	catalog  *catalog.Catalog
	project  *project.Project
	names    *project.Names
	model    *Model
	tables   map[string]*catalog.Table // by full name
	declared map[*catalog.Table][]catalog.Reference
	taken    []*catalog.Table
	entities map[*catalog.Table]*Entity
	global   *namespace      // of the store package
	before   map[string]bool // tables that had names
	words    spelling        // of names that the ledger remembers
	steady   spelling        // of all others
}

// settings are what the project file says of a table.
func (b *builder) settings(t *catalog.Table) project.Entity { return b.project.Entities[t.FullName()] }

// table is the one that a reference leads to.
func (b *builder) table(ref catalog.Reference) (*catalog.Table, bool) {
	t, ok := b.tables[catalog.Qualify(ref.Schema, ref.Table)]
	return t, ok
}

// chooseTables takes the tables that the project file asks for, and what they
// refer to.
func (b *builder) chooseTables() error {
	take := b.project.Tables.Take
	if len(take) == 0 {
		take = []string{"*"}
	}
	chosen := map[*catalog.Table]bool{}
	for _, pattern := range take {
		matched := false
		for i := range b.catalog.Tables {
			t := &b.catalog.Tables[i]
			if !Matches(pattern, t) {
				continue
			}
			matched = true
			chosen[t] = chosen[t] || !b.left(t)
		}
		if !matched && !strings.ContainsAny(pattern, "*?") {
			return fault.New(b.nearTable(pattern), "there is no table %q to take", pattern)
		}
	}
	b.follow(chosen)
	if err := b.checkRepeats(chosen); err != nil {
		return err
	}
	for table := range b.project.Entities {
		if b.tables[table] == nil {
			return fault.New(b.nearTable(table), "widegate.yaml: entities names %q, which is no table", table)
		}
	}
	for i := range b.catalog.Tables {
		if t := &b.catalog.Tables[i]; chosen[t] && len(t.Columns) > 0 {
			b.taken = append(b.taken, t)
		}
	}
	if len(b.taken) == 0 {
		return fault.New("create tables first, or change `tables: take` in widegate.yaml", "there is no table to generate from")
	}
	return nil
}

// checkRepeats finds the table that keeps answers to requests with an
// Idempotency-Key, which is the runtime's own and no resource.
func (b *builder) checkRepeats(chosen map[*catalog.Table]bool) error {
	name := b.project.API.Repeats
	if name == "" {
		return nil
	}
	next := fmt.Sprintf("make it: CREATE TABLE %s (id VARCHAR(64) PRIMARY KEY, request VARCHAR(64) NOT NULL, answer %s NOT NULL, made_at TIMESTAMP NOT NULL)", name, b.catalog.Engine.LongText)
	t := b.tables[name]
	if t == nil || !plainName.MatchString(name) {
		return fault.New(next, "widegate.yaml: api.repeats names %q, which is no table with a plain name", name)
	}
	for _, column := range []string{"id", "request", "answer", "made_at"} {
		if _, ok := t.Column(column); !ok {
			return fault.New(next, "widegate.yaml: api.repeats: the table %s has no column %s", name, column)
		}
	}
	delete(chosen, t)
	return nil
}

// plainName is one that needs no quotes anywhere.
var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

// Matches reports whether a pattern, in which * is any text and ? any
// character, fits the name of a table, with its schema or without.
func Matches(pattern string, t *catalog.Table) bool {
	quoted := strings.NewReplacer(`\*`, ".*", `\?`, ".").Replace(regexp.QuoteMeta(pattern))
	form, err := regexp.Compile(`(?s)^(?:` + quoted + `)$`)
	return err == nil && (form.MatchString(t.Name) || form.MatchString(t.FullName()))
}

func (b *builder) left(t *catalog.Table) bool {
	return slices.ContainsFunc(b.project.Tables.Leave, func(pattern string) bool { return Matches(pattern, t) })
}

func (b *builder) nearTable(name string) string { return NearTable(b.catalog, name) }

// NearTable says what may have been meant by the name of a table that is not
// there.
func NearTable(c *catalog.Catalog, name string) string {
	var all []string
	for i := range c.Tables {
		all = append(all, c.Tables[i].FullName())
	}
	if near := catalog.Nearest(name, all); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return "`widegate read` lists the tables"
}

// follow adds what the chosen tables refer to. The tables that are nothing but
// a relation between two chosen ones come along too: they are part of both.
func (b *builder) follow(chosen map[*catalog.Table]bool) {
	if !*b.project.Tables.Follow {
		return
	}
	var queue []*catalog.Table
	for i := range b.catalog.Tables {
		if t := &b.catalog.Tables[i]; chosen[t] {
			queue = append(queue, t)
		}
	}
	for len(queue) > 0 {
		t := queue[0]
		queue = queue[1:]
		for _, ref := range b.references(t) {
			target, ok := b.table(ref)
			if !ok || chosen[target] || b.left(target) {
				continue
			}
			chosen[target] = true
			queue = append(queue, target)
			b.model.Followed = append(b.model.Followed, Followed{target.FullName(), t.FullName()})
		}
	}
	for i := range b.catalog.Tables {
		t := &b.catalog.Tables[i]
		if chosen[t] || b.left(t) || !isPureJoin(t) {
			continue
		}
		one, ok1 := b.table(t.References[0])
		two, ok2 := b.table(t.References[1])
		if ok1 && ok2 && chosen[one] && chosen[two] {
			chosen[t] = true
			b.model.Followed = append(b.model.Followed, Followed{t.FullName(), one.FullName() + " and " + two.FullName()})
		}
	}
}

// storeReserved are the names that the generated store package has anyway.
var storeReserved = []string{"Open"}

// nameTables makes an entity of each table that is not only a relation.
func (b *builder) nameTables() {
	b.global = newNamespace(storeReserved...)
	files := newNamespace("store", "service", "openapi", "doc", "routines")
	files.fold = true
	paths := newNamespace("batch", "queries", "routines")
	locals := newNamespace()
	var fresh []*Entity
	for _, t := range b.taken {
		if isPureJoin(t) && b.settings(t).Name == "" {
			b.model.Joins = append(b.model.Joins, t)
			continue
		}
		e := &Entity{Table: t, Allow: b.settings(t).Allow}
		b.entities[t] = e
		b.model.Entities = append(b.model.Entities, e)
		if given, ok := b.names.Tables[t.FullName()]; ok && given.Entity != "" && b.settings(t).Name == "" && b.settings(t).Path == "" {
			e.Name, e.Plural, e.File, e.Path = given.Entity, given.Plural, given.File, given.Path
			one, many := b.words.Noun(b.tableWords(t))
			e.words, e.why = given.WordsOf(e.Name), b.stillWhy(e.Name, b.words.exported(one), b.whyCalled(t, one, many))
			if b.global.reserve(e.Name, e.Plural) && files.reserve(e.File) && paths.reserve(e.Path) {
				continue
			}
		}
		fresh = append(fresh, e)
	}
	for _, name := range b.names.Enums {
		b.global.reserve(name) // a new table does not take it
	}
	for _, e := range fresh {
		b.nameFresh(e, files, paths)
	}
	for _, e := range b.model.Entities {
		locals.reserve(e.handlers()...)
	}
	for _, e := range b.model.Entities {
		e.Local = b.localName(locals, b.steady.unexported(e.words))
		e.Words = strings.Join(e.words, " ")
		e.Article = withArticle(e.Words)
		e.Type = e.Name
	}
}

// handlers are the methods that a service has for an entity.
func (e *Entity) handlers() []string {
	return []string{"list" + e.Plural, "get" + e.Name, "create" + e.Name, "replace" + e.Name, "change" + e.Name, "delete" + e.Name}
}

// localName finds a name that is free for a field of the service, and with its
// endings for what else is called after it.
func (b *builder) localName(locals *namespace, name string) string {
	for i := 1; ; i++ {
		local := name
		if i > 1 {
			local += strconv.Itoa(i)
		}
		if locals.free(local, local+"Routes") && b.global.free(inStore(local)...) {
			locals.reserve(local, local+"Routes")
			b.global.reserve(inStore(local)...)
			return local
		}
	}
}

// inStore are the names of the store that follow from an entity's local one.
func inStore(local string) []string {
	first, size := utf8.DecodeRuneInString(local)
	title := string(unicode.ToUpper(first)) + local[size:]
	return []string{local + "Def", local + "Table", "new" + title + "Def", "new" + title + "Table"}
}

func (b *builder) nameFresh(e *Entity, files, paths *namespace) {
	t, set := e.Table, b.settings(e.Table)
	words, many := b.words.Noun(b.tableWords(t))
	if set.Name != "" {
		words = b.words.Split(set.Name)
		_, many = b.words.Noun(words)
	}
	schema := b.words.Split(t.Schema)
	inSchema := slices.Concat(schema, words)
	e.Name = b.global.give(cmp.Or(set.Name, b.words.exported(words)), b.words.exported(inSchema))
	if e.Name == b.words.exported(inSchema) {
		words, many = inSchema, slices.Concat(schema, many)
	}
	e.words, e.why = words, b.whyCalled(t, words, many)
	if e.Name != b.words.exported(words) || len(words) == 0 {
		e.words = b.words.Split(e.Name)
	}
	e.Plural = b.global.give(cmp.Or(set.Plural, b.words.exported(many)), e.Name+"Rows")
	e.File = files.give(fileName(words))
	e.Path = paths.give(cmp.Or(cmp.Or(set.Path, kebab(many)), "rows"))
}

// tableWords are the words of a table's name, without the prefix that the project
// leaves off.
func (b *builder) tableWords(t *catalog.Table) []string {
	return b.words.Split(withoutPrefix(t.Name, b.project.Words.Prefix))
}

// withoutPrefix leaves a prefix off a name, if something is left.
func withoutPrefix(name, prefix string) string {
	if len(name) > len(prefix) && strings.EqualFold(name[:len(prefix)], prefix) {
		return name[len(prefix):]
	}
	return name
}

func withArticle(words string) string {
	if words != "" && strings.ContainsRune("aeiou", rune(words[0])) {
		return "an " + words
	}
	return "a " + words
}

// verbNames are what a table's variable has besides columns and relations.
var verbNames = []string{
	"All", "Count", "Delete", "Each", "Find", "FindAll", "Import", "Insert", "InsertAll", "InsertWithRelated", "On", "OnLoad", "OrderBy",
	"Purge", "Query", "Update", "UpdateAll", "UpdateChanged", "Upsert", "Validate", "Where", "With",
}

func (b *builder) addFields(e *Entity) {
	given := b.names.Tables[e.Table.FullName()].Columns
	fields := newNamespace()
	vars := newNamespace(verbNames...)
	checks := readChecks(e.Table)
	name := map[string]string{}
	for _, c := range e.Table.Columns {
		if n, ok := given[c.Name]; ok && b.settings(e.Table).Columns[c.Name].Name == "" && fields.reserve(n) {
			name[c.Name] = n
		}
	}
	for i := range e.Table.Columns {
		c := &e.Table.Columns[i]
		set := b.settings(e.Table).Columns[c.Name]
		if name[c.Name] == "" {
			name[c.Name] = fields.give(cmp.Or(set.Name, b.words.exported(b.words.Split(c.Name))))
		}
		f := &Field{Column: c, Name: name[c.Name], Nullable: c.Nullable, ByDefault: c.Default != nil}
		f.set = set.Name != ""
		f.Var = vars.give(f.Name, f.Name+"Column")
		f.Auto = c.Default != nil && c.Default.Kind == catalog.Identity
		if c.Default != nil && c.Default.Kind == catalog.Constant {
			f.Constant = c.Default.Text
		}
		f.Computed = c.Generated != ""
		f.Hidden = looksSecret(c)
		if set.Hidden != nil {
			f.Hidden = *set.Hidden
		}
		l := b.withDomain(checks[c.Name], c)
		f.Limits = Limits{l.least, l.most, l.above, l.below}
		b.setType(e, f, l.labels)
		b.setDomain(e, f)
		f.NaN = f.Kind == KindNumeric && b.catalog.Engine.NaN
		f.Opaque = opaque(&f.Column.Type, f.Column.Declared)
		e.Fields = append(e.Fields, f)
	}
	e.Uniques = usableUniques(e.Table)
}

func usableUniques(t *catalog.Table) []catalog.Key {
	return slices.DeleteFunc(slices.Clone(t.Uniques), func(k catalog.Key) bool {
		return slices.ContainsFunc(k.Columns, func(c string) bool { _, ok := t.Column(c); return !ok })
	})
}

// secretWords mark columns that are not shown until the project file says so.
var secretWords = []string{"password", "passwd", "passphrase", "pw", "pwd", "secret", "salt", "token", "apikey", "pin", "credential", "credentials"}

// aboutWords are last words of names that tell of a secret, and are none: the type
// of a token, the length of a password.
var aboutWords = []string{"type", "kind", "algorithm", "policy", "format", "status", "length", "count", "hint", "url", "name"}

// numberSecrets are the last words of names of secrets that may be numbers.
var numberSecrets = []string{"pin", "password", "passwd", "pw", "pwd", "token", "secret"}

// looksSecret tells by name and type whether a column holds a secret.
func looksSecret(c *catalog.Column) bool {
	words := english.Split(c.Name)
	if len(words) == 0 || !slices.ContainsFunc(words, func(w string) bool { return slices.Contains(secretWords, w) }) {
		return false
	}
	last := words[len(words)-1]
	switch c.Type.Kind {
	case catalog.Text, catalog.Bytes, catalog.JSON, catalog.UUID, catalog.BitString, catalog.Array, catalog.Other:
		return !slices.Contains(aboutWords, last)
	case catalog.Int, catalog.Decimal:
		return slices.Contains(numberSecrets, last)
	}
	return false
}

// setType chooses the kind.
func (b *builder) setType(e *Entity, f *Field, labels []string) {
	t := f.Column.Type
	f.Kind = kindOf(t)
	switch {
	case t.Element != nil:
		b.setCompound(e, f)
	case t.Kind == catalog.Compound:
		b.setComposite(e, f)
	case t.Kind == catalog.Time && !b.catalog.Engine.Loose: // which keeps any text in such columns
		f.Kind = KindTimeOfDay
	case t.Kind == catalog.EnumKind && t.Enum != "":
		if known, ok := b.catalog.Enum(t.Enum); ok {
			f.Enum = b.enum(e, t.Enum, []string{b.words.exported(b.words.Split(known.Name))}, known.Comment, known.Labels)
		}
	case e.Table.IsView():
		if t.Kind == catalog.EnumKind {
			f.Kind = KindText
		}
	case t.Kind == catalog.Set && len(t.Labels) > 0:
		column := b.words.exported(b.words.Split(f.Column.Name))
		f.Set = b.enum(e, e.Table.FullName()+"."+f.Column.Name, []string{column, e.Name + column}, f.Column.Comment, t.Labels)
		f.Set.Several = true
		if f.Set.Maker == "" {
			f.Set.Maker = b.global.give(f.Set.Name + "Of")
		}
	case t.Kind == catalog.EnumKind, len(labels) > 0:
		if t.Kind == catalog.EnumKind {
			labels = t.Labels
		}
		column := b.words.exported(b.words.Split(f.Column.Name))
		f.Enum = b.enum(e, e.Table.FullName()+"."+f.Column.Name, []string{column, e.Name + column}, f.Column.Comment, labels)
	}
	if f.Enum != nil {
		f.Kind = KindEnum
	}
}

// opaque reports whether PostgreSQL has no = for values of a type.
func opaque(t *catalog.Type, declared string) bool {
	if t.Element != nil {
		return t.Element.Kind == catalog.JSON || opaque(t.Element, strings.TrimSuffix(t.Name, "[]"))
	}
	return t.Kind == catalog.XML || t.Kind == catalog.Geometric && (strings.HasPrefix(declared, "point") || strings.HasPrefix(declared, "polygon"))
}

// kinds are those of the families of types. Lists, ranges, composite types and enums
// have kinds of their own where their parts are known, as have times of day where the
// engine has a type for them; else all of these are carried as text.
var kinds = map[catalog.TypeKind]Kind{
	catalog.Float: KindFloat64, catalog.Decimal: KindNumeric, catalog.Bool: KindBool, catalog.Text: KindText, catalog.Bytes: KindBytes, catalog.Date: KindDate,
	catalog.Timestamp: KindTimestamp, catalog.TimestampTZ: KindTimestampTZ, catalog.UUID: KindUUID, catalog.JSON: KindJSON, catalog.Interval: KindInterval,
	catalog.Int: KindInt64, catalog.Time: KindOther, catalog.EnumKind: KindOther, catalog.Array: KindOther, catalog.Range: KindOther, catalog.Set: KindOther,
	catalog.Network: KindOther, catalog.BitString: KindOther, catalog.XML: KindOther, catalog.Money: KindOther, catalog.Geometric: KindOther, catalog.FullText: KindOther,
	catalog.Compound: KindOther, catalog.Other: KindOther,
}

func kindOf(t catalog.Type) Kind {
	switch {
	case t.Kind == catalog.Int:
		return intKind(t.Bits, t.Unsigned)
	case t.Kind == catalog.Float && t.Bits == 32:
		return KindFloat32
	}
	if kind, known := kinds[t.Kind]; known {
		return kind
	}
	return KindOther
}

// intKind chooses a signed kind wide enough, and an unsigned one only where there is
// none.
func intKind(bits int, unsigned bool) Kind {
	if unsigned && bits > 0 {
		bits++
	}
	switch {
	case bits == 0:
		return KindInt64
	case bits <= 16:
		return KindInt16
	case bits <= 32:
		return KindInt32
	case bits <= 64:
		return KindInt64
	}
	return KindUint64
}

// setCompound chooses the kind of what is made of values of another type.
// Those of which the text form is not known are carried as text.
func (b *builder) setCompound(e *Entity, f *Field) {
	t := f.Column.Type
	f.Kind = KindOther
	switch t.Element.Kind {
	case catalog.Geometric, catalog.Array, catalog.Range:
		return
	}
	element := &Field{Column: &catalog.Column{Name: f.Column.Name, Declared: t.Name, Type: *t.Element}}
	element.Kind = kindOf(*t.Element)
	if t.Element.Kind == catalog.Time {
		element.Kind = KindTimeOfDay
	}
	if known, ok := b.catalog.Enum(t.Element.Enum); ok && t.Element.Enum != "" {
		element.Enum = b.enum(e, t.Element.Enum, []string{b.words.exported(b.words.Split(known.Name))}, known.Comment, known.Labels)
		element.Kind = KindEnum
	}
	if t.Element.Kind == catalog.Compound {
		if b.setComposite(e, element); element.Composite == nil {
			return
		}
	}
	f.Element = element
	f.Kind = KindList
	if t.Kind == catalog.Range {
		f.Kind = KindRange
	}
}

// enum returns the Go type of an enum, one for all columns that share it.
func (b *builder) enum(e *Entity, source string, candidates []string, comment string, labels []string) *Enum {
	name, given := b.names.Enums[source]
	if given {
		for _, known := range b.model.Enums {
			if known.Name == name {
				return known
			}
		}
	}
	if !given {
		name = b.global.give(candidates...)
		b.names.Enums[source] = name
	}
	en := &Enum{Name: name, Comment: comment, Home: e}
	for _, l := range labels {
		words := b.steady.Split(l)
		constant := name + b.steady.Title(words)
		if len(words) == 0 {
			constant = name + "Empty"
		}
		en.Labels = append(en.Labels, Label{b.global.give(constant), l})
	}
	b.model.Enums = append(b.model.Enums, en)
	return en
}

// setKey finds the key: the one the project file names, the primary key, or a
// unique key without nulls.
func (b *builder) setKey(e *Entity) {
	t := e.Table
	e.Verbs = Full
	columns := b.settings(t).Key
	if len(columns) == 0 && t.PrimaryKey != nil {
		columns = t.PrimaryKey.Columns
	}
	if len(columns) == 0 {
		columns = notNullUnique(e)
	}
	if t.IsView() && !b.settings(t).Write {
		e.Verbs = ReadOnly
	}
	for _, name := range columns {
		for _, f := range e.Fields {
			if f.Column.Name == name {
				e.Key = append(e.Key, f)
			}
		}
	}
	if len(e.Key) == 0 || len(e.Key) < len(columns) {
		e.Key = nil
		if e.Verbs == Full {
			e.Verbs = Append
		}
		return
	}
	for _, f := range e.Fields {
		d := f.Column.Default
		f.Computed = f.Computed || d != nil && d.Always && !slices.Contains(e.Key, f)
	}
	for _, f := range e.Key {
		f.InKey = true
		f.Nullable = false
	}
	// The runtime finds the key by the columns' order.
	slices.SortFunc(e.Key, func(x, y *Field) int { return slices.Index(e.Fields, x) - slices.Index(e.Fields, y) })
	if len(e.Key) > 1 {
		e.KeyName = b.global.give(e.Name+"Key", e.Name+"RowKey")
	}
}

func notNullUnique(e *Entity) []string {
	for _, u := range e.Uniques {
		nullable := slices.ContainsFunc(u.Columns, func(name string) bool {
			c, _ := e.Table.Column(name)
			return c.Nullable
		})
		if !nullable {
			return u.Columns
		}
	}
	return nil
}

// Field returns the field of a column.
func (e *Entity) Field(column string) *Field {
	for _, f := range e.Fields {
		if f.Column.Name == column {
			return f
		}
	}
	return nil
}
