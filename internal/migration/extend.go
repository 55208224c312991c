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
func Extend(c *catalog.Catalog, table string, wanted []string) (*catalog.Catalog, error) {
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
	e := &extension{engine: c.Engine, catalog: out}
	if !there {
		out.Tables = append(out.Tables, catalog.Table{Schema: schema, Name: name, Kind: catalog.BaseTable, Options: e.options(), Rows: 0})
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
			t.PrimaryKey = &catalog.Key{Name: e.keyName(t, "pkey"), Columns: []string{"id"}}
		}
	}
	if c.Engine == catalog.SQLite && there {
		e.extendText(t, wanted)
	}
	return out, nil
}

type extension struct {
	engine  string
	catalog *catalog.Catalog
}

// options are those that all tables have: a SQLite schema may be strict.
func (e *extension) options() []string {
	strict := func(t catalog.Table) bool { return t.IsView() || slices.Contains(t.Options, "strict") }
	if e.engine == catalog.SQLite && len(e.catalog.Tables) > 0 && !slices.ContainsFunc(e.catalog.Tables, func(t catalog.Table) bool { return !strict(t) }) {
		return []string{"strict"}
	}
	return nil
}

func (e *extension) keyName(t *catalog.Table, label string) string {
	switch e.engine {
	case catalog.Postgres:
		return t.Name + "_" + label
	case catalog.MySQL:
		return "PRIMARY"
	}
	return ""
}

func (e *extension) addID(t *catalog.Table) {
	declared := map[string]string{catalog.Postgres: "bigint", catalog.MySQL: "bigint", catalog.SQLite: "INTEGER"}[e.engine]
	t.Columns = append(t.Columns, catalog.Column{Name: "id", Declared: declared, Type: catalog.Type{Kind: catalog.Int, Bits: 64}, Default: &catalog.Default{Kind: catalog.Identity}})
	t.PrimaryKey = &catalog.Key{Name: e.keyName(t, "pkey"), Columns: []string{"id"}}
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
	if e.engine != catalog.MySQL { // whose enums have no name
		c.Type.Labels = nil
	}
	t.Columns = append(t.Columns, c)
	if w.unique {
		key := catalog.Key{Name: t.Name + "_" + w.name + "_key", Columns: []string{w.name}, Index: e.engine == catalog.SQLite}
		t.Uniques = append(t.Uniques, key)
	}
	// MySQL makes one for each reference; the others leave it to the author.
	if (w.index || refers && e.engine != catalog.MySQL) && !w.unique {
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
	if e.engine == catalog.SQLite {
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

// declare finds the engine's own way to write a type.
func (e *extension) declare(t *catalog.Table, w wish) (string, catalog.Type, error) {
	pick := func(postgres, mysql, sqlite string) string {
		return map[string]string{catalog.Postgres: postgres, catalog.MySQL: mysql, catalog.SQLite: sqlite}[e.engine]
	}
	strict := slices.Contains(t.Options, "strict")
	number := regexp.MustCompile(`^\d+$`).MatchString
	switch {
	case w.kind == "text" && w.inside == "":
		return pick("text", "text", "TEXT"), catalog.Type{Kind: catalog.Text}, nil
	case w.kind == "text" && number(w.inside):
		n, err := strconv.Atoi(w.inside)
		if err != nil || n < 1 || n > 10_485_760 {
			return "", catalog.Type{}, fault.New("give it a length from 1 up, as in text(60), or none", "%s: a text cannot have %s characters", w.name, w.inside)
		}
		declared := pick("character varying("+w.inside+")", "varchar("+w.inside+")", "VARCHAR("+w.inside+")")
		if strict {
			declared = "TEXT"
		}
		return declared, catalog.Type{Kind: catalog.Text, Size: n}, nil
	case w.kind == "int":
		return pick("integer", "int", "INTEGER"), catalog.Type{Kind: catalog.Int, Bits: 32}, nil
	case w.kind == "bigint":
		return pick("bigint", "bigint", "INTEGER"), catalog.Type{Kind: catalog.Int, Bits: 64}, nil
	case w.kind == "decimal" && regexp.MustCompile(`^\d+(,\d+)?$`).MatchString(w.inside):
		declared := pick("numeric("+w.inside+")", "decimal("+w.inside+")", "DECIMAL("+w.inside+")")
		if strict {
			declared = "ANY"
		}
		return declared, catalog.Type{Kind: catalog.Decimal, Precision: 1}, nil
	case w.kind == "float":
		return pick("double precision", "double", "REAL"), catalog.Type{Kind: catalog.Float, Bits: 64}, nil
	case w.kind == "bool":
		return e.loose(strict, "INTEGER", pick("boolean", "tinyint(1)", "BOOLEAN")), catalog.Type{Kind: catalog.Bool}, nil
	case w.kind == "date":
		return e.loose(strict, "TEXT", pick("date", "date", "DATE")), catalog.Type{Kind: catalog.Date}, nil
	case w.kind == "time":
		return e.loose(strict, "TEXT", pick("time without time zone", "time", "TIME")), catalog.Type{Kind: catalog.Time}, nil
	case w.kind == "timestamp":
		return e.loose(strict, "TEXT", pick("timestamp with time zone", "timestamp", "TIMESTAMP")), catalog.Type{Kind: catalog.TimestampTZ}, nil
	case w.kind == "uuid":
		return e.loose(strict, "TEXT", pick("uuid", "uuid", "UUID")), catalog.Type{Kind: catalog.UUID}, nil
	case w.kind == "json":
		return e.loose(strict, "TEXT", pick("jsonb", "json", "JSON")), catalog.Type{Kind: catalog.JSON}, nil
	case w.kind == "bytes":
		return pick("bytea", "longblob", "BLOB"), catalog.Type{Kind: catalog.Bytes}, nil
	case w.kind == "enum" && w.inside != "":
		return e.enum(t, w)
	}
	return "", catalog.Type{}, fault.New(e.nearest(w.kind)+"the types are "+strings.Join(TypeWords, ", ")+", the name of a table to refer to, or raw TYPE", "%s: there is no type %q, and no table of that name", w.name, strings.TrimSpace(w.kind+" "+w.inside))
}

// loose is the type in a table that takes any, or in a strict one.
func (e *extension) loose(strict bool, in, other string) string {
	if strict {
		return in
	}
	return other
}

func (e *extension) enum(t *catalog.Table, w wish) (string, catalog.Type, error) {
	labels := strings.Split(w.inside, "|")
	quoted := make([]string, len(labels))
	for i, l := range labels {
		labels[i] = strings.TrimSpace(l)
		quoted[i] = literal(e.engine, labels[i])
	}
	switch e.engine {
	case catalog.Postgres:
		name := t.Name + "_" + w.name
		e.catalog.Enums = append(e.catalog.Enums, catalog.Enum{Schema: t.Schema, Name: name, Labels: labels})
		full := catalog.Qualify(t.Schema, name)
		return full, catalog.Type{Kind: catalog.EnumKind, Enum: full, Labels: labels}, nil
	case catalog.MySQL:
		return "enum(" + strings.Join(quoted, ",") + ")", catalog.Type{Kind: catalog.EnumKind, Labels: labels}, nil
	}
	t.Checks = append(t.Checks, catalog.Check{Expr: quote(e.engine, w.name) + " IN (" + strings.Join(quoted, ", ") + ")"})
	return "TEXT", catalog.Type{Kind: catalog.Text, Labels: labels}, nil
}

// extendText puts new columns into the text of a SQLite table, behind the last
// one that is there.
func (e *extension) extendText(t *catalog.Table, wanted []string) {
	d := &sqlite{draft: &draft{engine: e.engine}}
	var added []string
	for i := range t.Columns {
		c := &t.Columns[i]
		isNew := slices.ContainsFunc(wanted, func(w string) bool { return strings.HasPrefix(w, c.Name+":") })
		if isNew {
			added = append(added, ",\n  "+d.columnText(t, c))
		}
	}
	end := 0
	for _, item := range items(t.Definition) {
		if !slices.ContainsFunc([]string{"CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN"}, item[0].Is) {
			end = item[len(item)-1].To
		}
	}
	if end > 0 {
		t.Definition = t.Definition[:end] + strings.Join(added, "") + t.Definition[end:]
	} else {
		t.Definition = ""
	}
}

// columnText is a column with the reference and the check that belong to it.
func (d *sqlite) columnText(t *catalog.Table, c *catalog.Column) string {
	text := d.name(c.Name) + " " + c.Declared
	if !c.Nullable {
		text += " NOT NULL"
	}
	if c.Default != nil {
		text += " DEFAULT " + d.defaultText(c)
	}
	for _, check := range t.Checks {
		if strings.HasPrefix(check.Expr, d.name(c.Name)+" IN ") {
			text += " CHECK (" + check.Expr + ")"
		}
	}
	for _, r := range t.References {
		if slices.Equal(r.Columns, []string{c.Name}) {
			text += strings.TrimPrefix(d.referenceText(r), "FOREIGN KEY ("+d.name(c.Name)+")")
		}
	}
	return text
}
