package scripts

import (
	"strconv"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/engine/postgres/live"
)

// displayed are the names that PostgreSQL prints for types that it keeps under
// others. A % stands for the modifier.
var displayed = map[string]string{
	"int2": "smallint", "int4": "integer", "int8": "bigint", "float4": "real", "float8": "double precision",
	"bool": "boolean", "varchar": "character varying%", "bpchar": "character%", "varbit": "bit varying%", "bit": "bit%",
	"numeric": "numeric%", "timestamp": "timestamp% without time zone", "timestamptz": "timestamp% with time zone",
	"time": "time% without time zone", "timetz": "time% with time zone", "interval": "interval%", "char": `"char"`,
}

// synonyms are types that are written in ways that are no types themselves.
var synonyms = map[string]string{
	"serial": "int4", "serial4": "int4", "bigserial": "int8", "serial8": "int8", "smallserial": "int2", "serial2": "int2",
}

// builtin are the other types that every server has.
var builtin = map[string]bool{
	"text": true, "bytea": true, "date": true, "uuid": true, "json": true, "jsonb": true, "xml": true, "money": true,
	"inet": true, "cidr": true, "macaddr": true, "macaddr8": true, "point": true, "line": true, "lseg": true, "box": true,
	"path": true, "polygon": true, "circle": true, "tsvector": true, "tsquery": true, "oid": true, "name": true,
	"regclass": true, "regproc": true, "regprocedure": true, "regoper": true, "regoperator": true, "regtype": true,
	"regrole": true, "regnamespace": true, "regconfig": true, "regdictionary": true, "xid": true, "xid8": true, "cid": true,
	"tid": true, "pg_lsn": true, "pg_snapshot": true, "txid_snapshot": true, "jsonpath": true, "aclitem": true,
	"refcursor": true, "record": true, "void": true, "trigger": true, "event_trigger": true, "anyelement": true,
	"anyarray": true, "anynonarray": true, "anyenum": true, "anyrange": true, "anycompatible": true, "cstring": true,
	"internal": true, "language_handler": true, "unknown": true, "gtsvector": true, "int2vector": true, "oidvector": true,
	"int4multirange": true, "int8multirange": true, "nummultirange": true, "datemultirange": true, "tsmultirange": true, "tstzmultirange": true,
}

// ranges are the built-in range types and what they are of.
var ranges = map[string]string{
	"int4range": "int4", "int8range": "int8", "numrange": "numeric", "daterange": "date", "tsrange": "timestamp", "tstzrange": "timestamptz",
}

// userType is a type that a script makes.
type userType struct {
	kind    string // as in pg_type: e, c, d, r
	base    column // of a domain
	element string // of a range, a built-in type's name
}

// column is what a type gives a column.
type column struct {
	declared string
	typ      catalog.Type
	domain   string
	notNull  bool
	def      *catalog.Default
	serial   bool
	known    bool
}

// typeOf reads a TypeName node.
func (p *pg) typeOf(n node) column {
	names := n.names("names")
	name := last(names)
	schema := ""
	if len(names) > 1 {
		schema = names[len(names)-2]
	}
	var mods []int
	for _, m := range n.list("typmods") {
		mods = append(mods, m.at("ival").number("ival"))
	}
	var c column
	if n.flag("pct_type") { // table.column%TYPE
		return p.typeOfColumn(names)
	}
	fields := ""
	if name == "interval" && len(mods) > 0 { // the first one says which fields are kept
		fields, mods = intervalFields[mods[0]], mods[1:]
	}
	c = p.namedType(schema, name, mods)
	if fields != "" {
		c.declared = strings.Replace(c.declared, "interval", "interval "+fields, 1)
	}
	bounds := len(n.list("arrayBounds"))
	if bounds == 0 {
		return c
	}
	element := c.typ
	c.typ = catalog.Type{Kind: catalog.Array, Element: &element, Name: c.declared}
	if element.Kind == catalog.Array || bounds > 1 {
		c.typ = catalog.Type{Kind: catalog.Other}
	}
	return column{declared: c.declared + "[]", typ: c.typ, known: c.known}
}

// intervalFields are the names of the fields that an interval is restricted to, by
// the bits of datetime.h.
var intervalFields = map[int]string{
	1 << 2: "year", 1 << 1: "month", 1 << 3: "day", 1 << 10: "hour", 1 << 11: "minute", 1 << 12: "second", 1<<2 | 1<<1: "year to month",
	1<<3 | 1<<10: "day to hour", 1<<3 | 1<<10 | 1<<11: "day to minute", 1<<3 | 1<<10 | 1<<11 | 1<<12: "day to second",
	1<<10 | 1<<11: "hour to minute", 1<<10 | 1<<11 | 1<<12: "hour to second", 1<<11 | 1<<12: "minute to second",
}

// typeOfColumn is the type that table.column%TYPE stands for.
func (p *pg) typeOfColumn(names []string) column {
	unknown := column{declared: strings.Join(names, ".") + "%TYPE", typ: catalog.Type{Kind: catalog.Other}}
	if len(names) < 2 {
		return unknown
	}
	schema := ""
	if len(names) > 2 {
		schema = names[len(names)-3]
	}
	t := p.find(schema, names[len(names)-2])
	if t == nil {
		return unknown
	}
	c, ok := t.Column(last(names))
	if !ok {
		return unknown
	}
	return column{declared: c.Declared, typ: c.Type, domain: c.Domain, known: true}
}

// bareType is a declaration without its modifier and without the fields of an
// interval.
func bareType(declared string) string {
	if strings.HasPrefix(declared, "interval ") {
		return "interval"
	}
	if at := strings.IndexByte(declared, '('); at > 0 {
		end := strings.IndexByte(declared, ')')
		return declared[:at] + declared[end+1:]
	}
	return declared
}

func (p *pg) namedType(schema, name string, mods []int) column {
	if base, ok := synonyms[name]; ok && schema == "" {
		c := p.builtinType(base, nil)
		c.serial, c.notNull = true, true
		return c
	}
	if schema == "" || schema == "pg_catalog" {
		if c := p.builtinType(name, mods); c.known {
			return c
		}
	}
	if c, ok := p.ownType(schema, name); ok {
		return c
	}
	// An extension's, or one that is not in the scripts.
	c := column{declared: p.printName(schema, name), typ: live.TypeOf(live.Name{Name: name, Schema: schema, Kind: "b"}, live.Name{}, -1)}
	if len(mods) > 0 {
		c.declared += modifierText(mods)
	}
	c.known = p.extensions
	return c
}

func (p *pg) builtinType(name string, mods []int) column {
	if element, ok := ranges[name]; ok {
		inner := p.builtinType(element, nil)
		t := live.TypeOf(live.Name{Name: name, Kind: "r"}, live.Name{Name: element, Kind: "b"}, -1)
		t.Name = inner.declared
		return column{declared: name, typ: t, known: true}
	}
	if strings.HasPrefix(name, "_") && (displayed[name[1:]] != "" || builtin[name[1:]]) {
		inner := p.builtinType(name[1:], nil)
		element := inner.typ
		return column{declared: inner.declared + "[]", typ: catalog.Type{Kind: catalog.Array, Element: &element, Name: inner.declared}, known: true}
	}
	form, ok := displayed[name]
	if !ok {
		if !builtin[name] {
			return column{}
		}
		form = name
	}
	modifier := -1
	switch name {
	case "numeric":
		if len(mods) == 1 {
			mods = append(mods, 0)
		}
		if len(mods) == 2 {
			modifier = (mods[0]<<16 | mods[1]&0x7ff) + 4
		}
	case "varchar", "bpchar":
		if len(mods) > 0 {
			modifier = mods[0] + 4
		}
	case "bit", "varbit":
		if len(mods) > 0 {
			modifier = mods[0]
		}
	}
	declared := strings.Replace(form, "%", modifierText(mods), 1)
	return column{declared: declared, typ: live.TypeOf(live.Name{Name: name, Kind: "b"}, live.Name{}, int32(modifier)), known: true}
}

func modifierText(mods []int) string {
	if len(mods) == 0 {
		return ""
	}
	texts := make([]string, len(mods))
	for i, m := range mods {
		texts[i] = strconv.Itoa(m)
	}
	return "(" + strings.Join(texts, ",") + ")"
}

// ownType finds a type that the scripts make, or the row type of a table.
func (p *pg) ownType(schema, name string) (column, bool) {
	for _, s := range p.path(schema) {
		full := catalog.Qualify(s, name)
		declared := p.printName(s, name)
		if t, ok := p.types[full]; ok {
			switch t.kind {
			case "d":
				c := t.base
				c.declared, c.domain, c.known, c.serial = declared, full, true, false
				return c, true
			case "r":
				inner := p.builtinType(t.element, nil)
				element := inner.typ
				return column{declared: declared, typ: catalog.Type{Kind: catalog.Range, Element: &element, Name: inner.declared}, known: true}, true
			}
			return column{declared: declared, typ: live.TypeOf(live.Name{Name: name, Schema: s, Kind: t.kind}, live.Name{}, -1), known: true}, true
		}
		if _, ok := p.tables[full]; ok {
			return column{declared: declared, typ: live.TypeOf(live.Name{Name: name, Schema: s, Kind: "c"}, live.Name{}, -1), known: true}, true
		}
	}
	return column{}, false
}

// printName prints a name as the server does: quoted where it must be, and
// qualified outside the schema that is found by itself.
func (p *pg) printName(schema, name string) string {
	if schema == "" || schema == ownSchema || schema == "pg_catalog" {
		return quoteIdent(name)
	}
	return quoteIdent(schema) + "." + quoteIdent(name)
}

// quoteIdent quotes a name that is not made of small letters, digits and _.
func quoteIdent(name string) string {
	plain := name != ""
	for i, r := range name {
		if !(r >= 'a' && r <= 'z' || r == '_' || i > 0 && (r >= '0' && r <= '9' || r == '$')) {
			plain = false
		}
	}
	if plain && !reserved[name] {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// reserved are words that are quoted as names.
var reserved = func() map[string]bool {
	words := map[string]bool{}
	for _, w := range strings.Fields(`all analyse analyze and any array as asc asymmetric both case cast check collate column constraint
		create current_catalog current_date current_role current_time current_timestamp current_user default deferrable desc distinct do
		else end except false fetch for foreign from grant group having in initially intersect into lateral leading limit localtime
		localtimestamp not null offset on only or order placing primary references returning select session_user some symmetric table
		then to trailing true union unique user using variadic when where window with between bigint bit boolean char character coalesce
		dec decimal exists extract float greatest grouping inout int integer interval least national nchar none normalize nullif numeric
		out overlay position precision real row setof smallint substring time timestamp treat trim values varchar xmlattributes
		authorization binary collation concurrently cross current_schema freeze full ilike inner is isnull join left like natural notnull
		outer overlaps right similar tablesample verbose`) {
		words[w] = true
	}
	return words
}()
