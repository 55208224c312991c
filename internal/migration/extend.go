package migration

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
)

// TypeWords are the types that a wanted column may have, besides the name of a
// table that it refers to, and raw TYPE for one of the engine's own.
var TypeWords = []string{"text", "text(N)", "int", "bigint", "decimal(P,S)", "float", "bool", "date", "time", "timestamp", "uuid", "json", "bytes", "enum(A|B)"}

// OptionWords are what may stand behind a type, each after a comma.
var OptionWords = []string{"null", "unique", "index", "default=VALUE", "cascade"}

// Extend returns the catalog with a table that has the wanted columns, or with
// the columns added to it if it is there. A column is written NAME:TYPE, with
// options behind commas: weight_kg:decimal(6,2),null. It is mandatory unless it
// says otherwise. A new table without a column id gets one that the engine
// numbers.
func Extend(ways Engine, c *catalog.Catalog, table string, wanted []string) (*catalog.Catalog, error) {
	if strings.TrimSpace(table) == "" {
		return nil, fault.New("name it, as in `widegate table hive name:text(60)`", "the table has no name")
	}
	out := c.Renamed([]catalog.Rename{{}}) // a copy
	schema, name := catalog.Split(table)
	t, there := out.Table(schema, name)
	if there && t.IsView() {
		return nil, fault.New("name a table, or another name", "%s is a view", table)
	}
	if there && len(wanted) == 0 {
		return nil, fault.New("name the columns to add, as in `widegate table "+table+" weight_kg:decimal(6,2),null`", "the table %s is there already", table)
	}
	e := &extension{ways: ways, traits: ways.Traits(), catalog: out}
	if !there {
		out.Tables = append(out.Tables, catalog.Table{Schema: schema, Name: name, Kind: catalog.BaseTable, Options: ways.Options(c), Rows: 0})
		t = &out.Tables[len(out.Tables)-1]
		if !slices.ContainsFunc(wanted, func(w string) bool { return strings.HasPrefix(w, "id:") }) {
			e.addID(t)
		}
	}
	for _, w := range wanted {
		if err := e.add(t, w); err != nil {
			return nil, err
		}
	}
	if t.PrimaryKey == nil {
		if _, ok := t.Column("id"); ok && !there {
			t.PrimaryKey = &catalog.Key{Name: ways.KeyName(t), Columns: []string{"id"}}
		}
	}
	if there {
		ways.Extended(t, func(column string) bool {
			return slices.ContainsFunc(wanted, func(w string) bool { return strings.HasPrefix(w, column+":") })
		})
	}
	return out, nil
}

type extension struct {
	ways    Engine
	traits  Traits
	catalog *catalog.Catalog
}

func (e *extension) addID(t *catalog.Table) {
	t.Columns = append(t.Columns, catalog.Column{Name: "id", Declared: e.ways.Declared("bigint", "", nil), Type: catalog.Type{Kind: catalog.Int, Bits: 64}, Default: &catalog.Default{Kind: catalog.Identity}})
	t.PrimaryKey = &catalog.Key{Name: e.ways.KeyName(t), Columns: []string{"id"}}
}

// wish is a column as it was asked for.
type wish struct {
	name, kind, inside          string // inside the parentheses of the type
	raw                         string
	null, unique, index, onward bool
	def                         string
	hasDefault                  bool
}

var wishText = regexp.MustCompile(`^([^:]+):\s*(raw\s+[^,(]+(?:\([^)]*\))?|[^,(]+)(?:\(([^)]*)\))?((?:,.*)?)$`)

func readWish(text string) (wish, error) {
	m := wishText.FindStringSubmatch(text)
	if m == nil {
		return wish{}, fault.New("write it as NAME:TYPE, as in name:text(60) or hive_id:hive", "%q is no column", text)
	}
	w := wish{name: strings.TrimSpace(m[1]), kind: strings.TrimSpace(m[2]), inside: strings.TrimSpace(m[3])}
	if raw, ok := strings.CutPrefix(w.kind, "raw "); ok {
		w.raw = strings.TrimSpace(raw)
	}
	for _, option := range strings.Split(strings.TrimPrefix(m[4], ","), ",") {
		def, isDefault := strings.CutPrefix(option, "default=")
		switch {
		case option == "":
		case isDefault:
			w.def, w.hasDefault = def, true
		case option == "null":
			w.null = true
		case option == "unique":
			w.unique = true
		case option == "index":
			w.index = true
		case option == "cascade":
			w.onward = true
		default:
			return w, fault.New("the options are "+strings.Join(OptionWords, ", "), "%q: there is no option %q", text, option)
		}
	}
	return w, nil
}

func (e *extension) add(t *catalog.Table, text string) error {
	w, err := readWish(text)
	if err != nil {
		return err
	}
	if _, taken := t.Column(w.name); taken {
		return fault.New("give it another name", "%s has a column %s already", t.FullName(), w.name)
	}
	c := catalog.Column{Name: w.name, Nullable: w.null}
	target, refers := e.target(w.kind)
	switch {
	case w.raw != "":
		c.Declared, c.Type = w.raw, catalog.Type{Kind: catalog.Other}
	case refers:
		if err := e.refer(t, &c, w, target); err != nil {
			return err
		}
	default:
		if c.Declared, c.Type, err = e.declare(t, w); err != nil {
			return err
		}
	}
	if w.hasDefault {
		if c.Default, err = defaultWanted(w, c.Type); err != nil {
			return err
		}
	}
	if !e.traits.NamelessEnums {
		c.Type.Labels = nil
	}
	t.Columns = append(t.Columns, c)
	if w.unique {
		key := catalog.Key{Name: t.Name + "_" + w.name + "_key", Columns: []string{w.name}, Index: e.traits.UniqueIndexes}
		t.Uniques = append(t.Uniques, key)
	}
	if (w.index || refers && !e.traits.IndexesReferences) && !w.unique {
		t.Indexes = append(t.Indexes, catalog.Index{Name: t.Name + "_" + w.name + "_idx", Columns: []string{w.name}})
	}
	return nil
}

var call = regexp.MustCompile(`(?i)^(current_(date|time|timestamp)|null|[a-z_]+\(.*\))$`)

// constants say what a constant of a type looks like, and how to write one.
var constants = map[catalog.TypeKind]struct {
	pattern *regexp.Regexp
	example string
}{
	catalog.Int:         {regexp.MustCompile(`^-?\d{1,19}$`), "10"},
	catalog.Decimal:     {regexp.MustCompile(`^-?\d+(\.\d+)?$`), "1.5"},
	catalog.Float:       {regexp.MustCompile(`^-?\d+(\.\d+)?([eE][-+]?\d+)?$`), "1.5"},
	catalog.Bool:        {regexp.MustCompile(`^(true|false)$`), "true or false"},
	catalog.Date:        {regexp.MustCompile(`^\d{4}-\d\d-\d\d$`), "2026-05-01, or now"},
	catalog.Time:        {regexp.MustCompile(`^\d\d:\d\d(:\d\d(\.\d+)?)?$`), "09:30"},
	catalog.TimestampTZ: {regexp.MustCompile(`^\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d(\.\d+)?)?`), "2026-05-01 09:30, or now"},
	catalog.UUID:        {regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`), "00000000-0000-4000-8000-000000000000"},
	catalog.JSON:        {regexp.MustCompile(`(?s)^\s*([\[{"].*[\]}"]|-?\d+(\.\d+)?|true|false|null)\s*$`), `{}`},
}

// defaultWanted tells a constant from a call, and refuses what the type does not
// take.
func defaultWanted(w wish, t catalog.Type) (*catalog.Default, error) {
	text := w.def
	if strings.EqualFold(text, "now") {
		switch t.Kind {
		case catalog.Date:
			text = "CURRENT_DATE"
		case catalog.Time:
			text = "CURRENT_TIME"
		case catalog.Timestamp, catalog.TimestampTZ:
			text = "CURRENT_TIMESTAMP"
		}
	}
	if call.MatchString(text) {
		return &catalog.Default{Kind: catalog.Expression, Text: text}, nil
	}
	if known, ok := constants[t.Kind]; ok && w.raw == "" && !known.pattern.MatchString(text) {
		return nil, fault.New("write it as "+known.example, "%s: %q is no default for the type %s", w.name, text, w.kind)
	}
	if len(t.Labels) > 0 && w.kind == "enum" && !slices.Contains(t.Labels, text) {
		return nil, fault.New("use one of "+strings.Join(t.Labels, ", "), "%s: %q is none of its labels", w.name, text)
	}
	if t.Kind == catalog.Text && t.Size > 0 && len([]rune(text)) > t.Size {
		return nil, fault.New("make the text longer, or the default shorter", "%s: the default %q is longer than %d characters", w.name, text, t.Size)
	}
	return &catalog.Default{Kind: catalog.Constant, Text: text}, nil
}

// target is the table that a type names.
func (e *extension) target(name string) (*catalog.Table, bool) {
	for i := range e.catalog.Tables {
		if t := &e.catalog.Tables[i]; !t.IsView() && t.FullName() == name {
			return t, true
		}
	}
	return nil, false
}

func (e *extension) refer(t *catalog.Table, c *catalog.Column, w wish, target *catalog.Table) error {
	if target.PrimaryKey == nil || len(target.PrimaryKey.Columns) != 1 {
		return fault.New("give the column a type of its own, and add the reference to the script by hand", "%s has no key of one column that %s could refer to", target.FullName(), w.name)
	}
	key, _ := target.Column(target.PrimaryKey.Columns[0])
	c.Declared, c.Type = key.Declared, key.Type
	r := catalog.Reference{Name: t.Name + "_" + w.name + "_fkey", Columns: []string{w.name}, Schema: target.Schema, Table: target.Name, Target: []string{key.Name}}
	if e.traits.AnonymousReferences {
		r.Name = ""
	}
	if w.onward {
		r.OnDelete = "cascade"
	}
	t.References = append(t.References, r)
	return nil
}

// nearest proposes the type or table whose name is nearest to a word.
func (e *extension) nearest(word string) string {
	var names []string
	for _, w := range TypeWords {
		name, _, _ := strings.Cut(w, "(")
		names = append(names, name)
	}
	for i := range e.catalog.Tables {
		names = append(names, e.catalog.Tables[i].Name)
	}
	if near := catalog.Nearest(word, names); near != "" {
		return "did you mean " + near + "? "
	}
	return ""
}

// plainWords are the types without parentheses.
var plainWords = map[string]catalog.Type{
	"text": {Kind: catalog.Text}, "int": {Kind: catalog.Int, Bits: 32}, "bigint": {Kind: catalog.Int, Bits: 64}, "float": {Kind: catalog.Float, Bits: 64},
	"bool": {Kind: catalog.Bool}, "date": {Kind: catalog.Date}, "time": {Kind: catalog.Time}, "timestamp": {Kind: catalog.TimestampTZ}, "uuid": {Kind: catalog.UUID},
	"json": {Kind: catalog.JSON}, "bytes": {Kind: catalog.Bytes},
}

var (
	digitsOnly = regexp.MustCompile(`^\d+$`)
	precision  = regexp.MustCompile(`^\d+(,\d+)?$`)
)

// declare finds the engine's own way to write a type.
func (e *extension) declare(t *catalog.Table, w wish) (string, catalog.Type, error) {
	if plain, ok := plainWords[w.kind]; ok && (w.inside == "" || w.kind != "text") {
		return e.ways.Declared(w.kind, "", t.Options), plain, nil
	}
	switch {
	case w.kind == "text" && digitsOnly.MatchString(w.inside):
		n, err := strconv.Atoi(w.inside)
		if err != nil || n < 1 || n > 10_485_760 {
			return "", catalog.Type{}, fault.New("give it a length from 1 up, as in text(60), or none", "%s: a text cannot have %s characters", w.name, w.inside)
		}
		return e.ways.Declared("text", w.inside, t.Options), catalog.Type{Kind: catalog.Text, Size: n}, nil
	case w.kind == "decimal" && precision.MatchString(w.inside):
		return e.ways.Declared("decimal", w.inside, t.Options), catalog.Type{Kind: catalog.Decimal, Precision: 1}, nil
	case w.kind == "enum" && w.inside != "":
		labels := strings.Split(w.inside, "|")
		for i, l := range labels {
			labels[i] = strings.TrimSpace(l)
		}
		declared, typ := e.ways.Enum(e.catalog, t, w.name, labels)
		return declared, typ, nil
	}
	return "", catalog.Type{}, fault.New(e.nearest(w.kind)+"the types are "+strings.Join(TypeWords, ", ")+", the name of a table to refer to, or raw TYPE", "%s: there is no type %q, and no table of that name", w.name, strings.TrimSpace(w.kind+" "+w.inside))
}
