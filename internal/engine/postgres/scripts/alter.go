package scripts

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"widegate/internal/sqltext/ddl"

	"widegate/internal/catalog"
	"widegate/internal/engine/postgres/live"
)

func (p *pg) alterTable(n node) error {
	switch n.text("objtype") {
	case "OBJECT_TABLE", "OBJECT_FOREIGN_TABLE", "OBJECT_VIEW", "OBJECT_MATVIEW":
	case "OBJECT_TYPE":
		p.alterComposite(n)
		return nil
	default:
		return nil
	}
	t, err := p.table(n.at("relation"))
	if err != nil {
		if n.flag("missing_ok") || p.isSequence(n.at("relation")) || p.isIndex(n.at("relation")) {
			return nil
		}
		return err
	}
	for _, cmd := range n.list("cmds") {
		if err := p.alter(t, cmd); err != nil {
			return err
		}
	}
	return nil
}

func (p *pg) isSequence(relation node) bool {
	return slices.ContainsFunc(p.path(relation.text("schemaname")), func(s string) bool {
		return p.sequences[catalog.Qualify(s, relation.text("relname"))] != nil
	})
}

func (p *pg) isIndex(relation node) bool {
	return slices.ContainsFunc(p.path(relation.text("schemaname")), func(s string) bool {
		_, ok := p.indexes[catalog.Qualify(s, relation.text("relname"))]
		return ok
	})
}

func (p *pg) alter(t *pgTable, cmd node) error {
	def := cmd.at("def")
	name := cmd.text("name")
	needs := func() (*catalog.Column, error) {
		if c, ok := t.Column(name); ok {
			return c, nil
		}
		return nil, &ddl.Problem{Text: fmt.Sprintf("table %q has no column %q", t.FullName(), name)}
	}
	t.secure(cmd.text("subtype"))
	switch cmd.text("subtype") {
	case "AT_AddColumn":
		if _, there := t.Column(def.text("colname")); there {
			if cmd.flag("missing_ok") {
				return nil
			}
			return &ddl.Problem{At: def.number("location"), Text: fmt.Sprintf("table %q has a column %q already", t.FullName(), def.text("colname"))}
		}
		p.addColumn(t, def)
		p.addConstraints(t, def.list("constraints"), def.text("colname"))
		return nil
	case "AT_AddConstraint":
		p.addConstraints(t, []node{def}, "")
		return nil
	case "AT_DropConstraint":
		t.dropConstraint(name)
		delete(p.indexes, catalog.Qualify(t.Schema, name))
		return nil
	case "AT_AttachPartition", "AT_DetachPartition":
		part, err := p.table(def.at("name"))
		if err != nil {
			if p.isIndex(def.at("name")) {
				return nil
			}
			return err
		}
		part.partOf = ""
		if cmd.text("subtype") == "AT_AttachPartition" {
			part.partOf = t.FullName()
		}
		return nil
	case "AT_AddInherit", "AT_DropInherit":
		parent, err := p.table(def)
		if err != nil {
			return err
		}
		t.Inherits = slices.DeleteFunc(t.Inherits, func(s string) bool { return s == parent.FullName() })
		if cmd.text("subtype") == "AT_AddInherit" {
			t.Inherits = append(t.Inherits, parent.FullName())
		}
		return nil
	case "AT_SetUnLogged":
		t.Options = append(t.Options, "unlogged")
		return nil
	case "AT_SetLogged":
		t.Options = slices.DeleteFunc(t.Options, func(s string) bool { return s == "unlogged" })
		return nil
	case "AT_DropColumn":
		if _, err := needs(); err != nil {
			if cmd.flag("missing_ok") {
				return nil
			}
			return err
		}
		p.dropColumn(t, name)
		return nil
	}
	if columnCommands[cmd.text("subtype")] {
		c, err := needs()
		if err != nil {
			return err
		}
		p.alterColumn(t, c, cmd.text("subtype"), def)
	}
	return nil
}

// columnCommands are the subtypes of AlterTableCmd that alterColumn knows.
var columnCommands = map[string]bool{
	"AT_AlterColumnType": true, "AT_ColumnDefault": true, "AT_SetNotNull": true, "AT_DropNotNull": true,
	"AT_AddIdentity": true, "AT_SetIdentity": true, "AT_DropIdentity": true, "AT_DropExpression": true,
}

func (p *pg) alterColumn(t *pgTable, c *catalog.Column, command string, def node) {
	switch command {
	case "AT_AlterColumnType":
		typ := p.typeOf(def.at("typeName"))
		c.Declared, c.Type, c.Domain = typ.declared, typ.typ, typ.domain
	case "AT_ColumnDefault":
		c.Default = nil
		if def.kind != "" {
			p.setDefault(t, c, def)
		}
	case "AT_SetNotNull":
		c.Nullable = false
	case "AT_DropNotNull":
		c.Nullable = true
	case "AT_AddIdentity":
		p.addConstraints(t, []node{def}, c.Name)
		for _, o := range def.list("options") { // dumps name the sequence
			if names := o.at("arg").items(); o.text("defname") == "sequence_name" && len(names) > 0 {
				name := last(names)
				usual := catalog.Qualify(t.Schema, objectName(t.Name, c.Name, "seq"))
				made := p.sequences[usual]
				delete(p.sequences, usual)
				p.sequences[catalog.Qualify(t.Schema, name)] = &sequence{schema: t.Schema, name: name, table: t.FullName(), column: c.Name, options: made.options}
			}
		}
	case "AT_DropIdentity":
		c.Default = nil
		for full, s := range p.sequences {
			if s.table == t.FullName() && s.column == c.Name {
				delete(p.sequences, full)
			}
		}
	case "AT_DropExpression":
		c.Generated = ""
	}
}

func (p *pg) dropColumn(t *pgTable, name string) {
	t.Columns = slices.DeleteFunc(t.Columns, func(c catalog.Column) bool { return c.Name == name })
	has := func(columns []string) bool { return slices.Contains(columns, name) }
	if t.PrimaryKey != nil && has(t.PrimaryKey.Columns) {
		t.PrimaryKey = nil
	}
	t.Uniques = slices.DeleteFunc(t.Uniques, func(k catalog.Key) bool { return has(k.Columns) })
	t.References = slices.DeleteFunc(t.References, func(r catalog.Reference) bool { return has(r.Columns) })
	t.Indexes = slices.DeleteFunc(t.Indexes, func(i catalog.Index) bool { return has(i.Columns) })
	t.Checks = slices.DeleteFunc(t.Checks, func(c catalog.Check) bool { return mentions(c.Expr, name) })
	for full, s := range p.sequences {
		if s.table == t.FullName() && s.column == name {
			delete(p.sequences, full)
		}
	}
}

// mentions reports whether a printed expression names a column.
func mentions(expr, column string) bool {
	n, err := parseTree("SELECT " + cmp.Or(expr, "1"))
	return err == nil && slices.Contains(columnsIn(n.fields), column)
}

func (t *pgTable) dropConstraint(name string) {
	if t.PrimaryKey != nil && t.PrimaryKey.Name == name {
		t.PrimaryKey = nil
	}
	t.Uniques = slices.DeleteFunc(t.Uniques, func(k catalog.Key) bool { return k.Name == name })
	t.References = slices.DeleteFunc(t.References, func(r catalog.Reference) bool { return r.Name == name })
	t.Checks = slices.DeleteFunc(t.Checks, func(c catalog.Check) bool { return c.Name == name })
	t.Indexes = slices.DeleteFunc(t.Indexes, func(i catalog.Index) bool { return i.Name == name })
}

func (p *pg) rename(n node) error {
	to := n.text("newname")
	switch n.text("renameType") {
	case "OBJECT_TABLE", "OBJECT_VIEW", "OBJECT_MATVIEW", "OBJECT_FOREIGN_TABLE":
		if p.isIndex(n.at("relation")) {
			p.renameIndex(n.at("relation"), to)
			return nil
		}
		t, err := p.table(n.at("relation"))
		if err != nil {
			return unlessMissing(n, err)
		}
		p.replaceTable(t, t.Schema, to)
	case "OBJECT_INDEX":
		p.renameIndex(n.at("relation"), to)
	case "OBJECT_COLUMN":
		t, err := p.table(n.at("relation"))
		if err != nil {
			return unlessMissing(n, err)
		}
		if _, ok := t.Column(n.text("subname")); !ok {
			return &ddl.Problem{Text: fmt.Sprintf("table %q has no column %q", t.FullName(), n.text("subname"))}
		}
		p.renameColumn(t, n.text("subname"), to)
	case "OBJECT_TABCONSTRAINT":
		t, err := p.table(n.at("relation"))
		if err != nil {
			return unlessMissing(n, err)
		}
		t.renameConstraint(n.text("subname"), to)
	case "OBJECT_TYPE", "OBJECT_DOMAIN":
		p.renameType(n.at("object").items(), to)
	case "OBJECT_SEQUENCE":
		p.renameSequence(n.at("relation"), to)
	}
	return nil
}

func unlessMissing(n node, err error) error {
	if n.flag("missing_ok") {
		return nil
	}
	return err
}

func (p *pg) renameIndex(relation node, to string) {
	for _, s := range p.path(relation.text("schemaname")) {
		from := relation.text("relname")
		if table, ok := p.indexes[catalog.Qualify(s, from)]; ok {
			delete(p.indexes, catalog.Qualify(s, from))
			p.indexes[catalog.Qualify(s, to)] = table
			if t := p.tables[table]; t != nil {
				t.renameConstraint(from, to)
			}
			return
		}
	}
}

func (t *pgTable) renameConstraint(from, to string) {
	set := func(name *string) {
		if *name == from {
			*name = to
		}
	}
	if t.PrimaryKey != nil {
		set(&t.PrimaryKey.Name)
	}
	for i := range t.Uniques {
		set(&t.Uniques[i].Name)
	}
	for i := range t.References {
		set(&t.References[i].Name)
	}
	for i := range t.Checks {
		set(&t.Checks[i].Name)
	}
	for i := range t.Indexes {
		set(&t.Indexes[i].Name)
	}
}

func (p *pg) renameSequence(relation node, to string) {
	for _, s := range p.path(relation.text("schemaname")) {
		from := catalog.Qualify(s, relation.text("relname"))
		if seq := p.sequences[from]; seq != nil {
			delete(p.sequences, from)
			seq.name = to
			p.sequences[catalog.Qualify(s, to)] = seq
			p.eachDefault(func(d *catalog.Default) {
				if d.Sequence == from {
					d.Sequence = catalog.Qualify(s, to)
				}
			})
			return
		}
	}
}

func (p *pg) eachDefault(do func(d *catalog.Default)) {
	for _, t := range p.tables {
		for i := range t.Columns {
			if d := t.Columns[i].Default; d != nil {
				do(d)
			}
		}
	}
}

// replaceTable gives a table another schema and name, in the references to it
// too.
func (p *pg) replaceTable(t *pgTable, schema, name string) {
	before := t.FullName()
	for _, other := range p.tables {
		ddl.MoveReferences(&other.Table, before, schema, name)
		for i, parent := range other.Inherits {
			if parent == before {
				other.Inherits[i] = catalog.Qualify(schema, name)
			}
		}
	}
	delete(p.tables, before)
	t.Schema, t.Name = schema, name
	p.tables[t.FullName()] = t
	for _, s := range p.sequences {
		if s.table == before {
			s.table = t.FullName()
		}
	}
	for index, table := range p.indexes {
		if table == before {
			p.indexes[index] = t.FullName()
		}
	}
}

func (p *pg) renameColumn(t *pgTable, from, to string) {
	ddl.RenameColumn(&t.Table, from, to)
	for i := range t.Checks {
		t.Checks[i].Expr = renameInText(t.Checks[i].Expr, from, to)
	}
	for _, other := range p.tables {
		ddl.RenameTarget(&other.Table, &t.Table, from, to)
	}
	for _, s := range p.sequences {
		if s.table == t.FullName() && s.column == from {
			s.column = to
		}
	}
}

// renameInText renames a column in an expression that this package printed.
func renameInText(expr, from, to string) string {
	tokens := scanPostgres(expr)
	var b strings.Builder
	at := 0
	for _, t := range tokens {
		if (t.Is(from) || t.Text == from) && !t.Sign(from) && expr[t.From] != '\'' {
			b.WriteString(expr[at:t.From] + quoteIdent(to))
			at = t.To
		}
	}
	return b.String() + expr[at:]
}

func (p *pg) moveTable(n node) error {
	switch n.text("objectType") {
	case "OBJECT_TABLE", "OBJECT_VIEW", "OBJECT_MATVIEW":
		t, err := p.table(n.at("relation"))
		if err != nil {
			return unlessMissing(n, err)
		}
		p.schemas[n.text("newschema")] = true
		p.replaceTable(t, n.text("newschema"), t.Name)
	}
	return nil
}

func (p *pg) drop(n node) error {
	for _, object := range n.list("objects") {
		names := object.items()
		if object.kind == "TypeName" {
			names = object.names("names")
		}
		schema := ""
		if len(names) > 1 {
			schema = names[len(names)-2]
		}
		name := last(names)
		switch n.text("removeType") {
		case "OBJECT_TABLE", "OBJECT_VIEW", "OBJECT_MATVIEW", "OBJECT_FOREIGN_TABLE":
			t := p.find(schema, name)
			if t == nil && !n.flag("missing_ok") {
				return &ddl.Problem{Text: fmt.Sprintf("there is no table %q", catalog.Qualify(schema, name))}
			}
			if t != nil {
				p.dropTable(t)
			}
		case "OBJECT_INDEX":
			p.dropIndex(schema, name)
		case "OBJECT_TRIGGER", "OBJECT_POLICY":
			owner := ""
			if len(names) > 2 {
				owner = names[len(names)-3]
			}
			if t := p.find(owner, schema); t != nil {
				t.dropTrigger(name)
				t.dropExtra("policy", name)
			}
		case "OBJECT_TYPE", "OBJECT_DOMAIN":
			for _, s := range p.path(schema) {
				p.dropType(catalog.Qualify(s, name))
			}
		case "OBJECT_SEQUENCE":
			for _, s := range p.path(schema) {
				delete(p.sequences, catalog.Qualify(s, name))
			}
		case "OBJECT_SCHEMA":
			p.dropSchema(name)
		case "OBJECT_FUNCTION", "OBJECT_PROCEDURE", "OBJECT_ROUTINE":
			p.dropRoutine(object)
		}
	}
	return nil
}

func (p *pg) dropTable(t *pgTable) {
	full := t.FullName()
	delete(p.tables, full)
	for _, other := range p.tables {
		other.References = slices.DeleteFunc(other.References, func(r catalog.Reference) bool {
			return catalog.Qualify(r.Schema, r.Table) == full
		})
	}
	for name, s := range p.sequences {
		if s.table == full {
			delete(p.sequences, name)
		}
	}
	for name, table := range p.indexes {
		if table == full {
			delete(p.indexes, name)
		}
	}
}

func (p *pg) dropIndex(schema, name string) {
	for _, s := range p.path(schema) {
		full := catalog.Qualify(s, name)
		if t := p.tables[p.indexes[full]]; t != nil {
			t.dropConstraint(name)
			delete(p.indexes, full)
			return
		}
	}
}

func (p *pg) dropType(full string) {
	delete(p.types, full)
	delete(p.enums, full)
	delete(p.domains, full)
	delete(p.composites, full)
}

func (p *pg) dropSchema(name string) {
	delete(p.schemas, name)
	for _, t := range p.tables {
		if t.Schema == name {
			p.dropTable(t)
		}
	}
	for full := range p.types {
		if strings.HasPrefix(full, name+".") {
			p.dropType(full)
		}
	}
	p.routines = slices.DeleteFunc(p.routines, func(r catalog.Routine) bool { return r.Schema == name })
}

// typeStatement makes and changes types.
func (p *pg) typeStatement(n node) error {
	switch n.kind {
	case "CreateEnumStmt":
		schema, name := p.typeTarget(n.names("typeName"))
		e := &catalog.Enum{Schema: schema, Name: name, Labels: n.names("vals")}
		p.enums[catalog.Qualify(schema, name)] = e
		p.types[catalog.Qualify(schema, name)] = userType{kind: "e"}
	case "AlterEnumStmt":
		p.alterEnum(n)
	case "CompositeTypeStmt":
		schema, name := p.target(n.at("typevar"))
		c := &catalog.Composite{Schema: schema, Name: name, Fields: []catalog.CompositeField{}}
		for _, f := range n.list("coldeflist") {
			c.Fields = append(c.Fields, p.compositeField(f))
		}
		p.composites[c.Schema+"."+c.Name] = c
		p.types[catalog.Qualify(schema, name)] = userType{kind: "c"}
	case "CreateDomainStmt":
		p.createDomain(n)
	case "AlterDomainStmt":
		p.alterDomain(n)
	case "CreateRangeStmt":
		schema, name := p.typeTarget(n.names("typeName"))
		for _, o := range n.list("params") {
			if o.text("defname") == "subtype" {
				p.types[catalog.Qualify(schema, name)] = userType{kind: "r", element: last(o.at("arg").names("names"))}
			}
		}
	case "DefineStmt":
		if n.text("kind") == "OBJECT_TYPE" {
			schema, name := p.typeTarget(n.names("defnames"))
			p.types[catalog.Qualify(schema, name)] = userType{kind: "b"}
		}
	}
	return nil
}

func (p *pg) typeTarget(names []string) (schema, name string) {
	relation := node{fields: map[string]any{"relname": last(names)}}
	if len(names) > 1 {
		relation.fields["schemaname"] = names[len(names)-2]
	}
	return p.target(relation)
}

// named finds the full name under which a list of names is known in a map.
func (p *pg) named(names []string, known func(full string) bool) (string, bool) {
	schema := ""
	if len(names) > 1 {
		schema = names[len(names)-2]
	}
	for _, s := range p.path(schema) {
		if full := catalog.Qualify(s, last(names)); known(full) {
			return full, true
		}
	}
	return "", false
}

func (p *pg) alterEnum(n node) {
	full, ok := p.named(n.names("typeName"), func(s string) bool { return p.enums[s] != nil })
	if !ok {
		return
	}
	e := p.enums[full]
	value, old, neighbour := n.text("newVal"), n.text("oldVal"), n.text("newValNeighbor")
	switch {
	case old != "":
		if i := slices.Index(e.Labels, old); i >= 0 {
			e.Labels[i] = value
		}
	case slices.Contains(e.Labels, value):
	case neighbour != "":
		i := slices.Index(e.Labels, neighbour)
		if n.flag("newValIsAfter") {
			i++
		}
		e.Labels = slices.Insert(e.Labels, max(i, 0), value)
	default:
		e.Labels = append(e.Labels, value)
	}
}

func (p *pg) alterComposite(n node) {
	full, ok := p.named([]string{n.at("relation").text("schemaname"), n.at("relation").text("relname")}, func(s string) bool { return p.composites[s] != nil })
	if !ok {
		full, ok = p.named([]string{n.at("relation").text("relname")}, func(s string) bool { return p.composites[s] != nil })
	}
	if !ok {
		return
	}
	c := p.composites[full]
	for _, cmd := range n.list("cmds") {
		def, name := cmd.at("def"), cmd.text("name")
		switch cmd.text("subtype") {
		case "AT_AddColumn":
			c.Fields = append(c.Fields, p.compositeField(def))
		case "AT_DropColumn":
			c.Fields = slices.DeleteFunc(c.Fields, func(f catalog.CompositeField) bool { return f.Name == name })
		case "AT_AlterColumnType":
			for i := range c.Fields {
				if c.Fields[i].Name == name {
					t := p.typeOf(def.at("typeName"))
					c.Fields[i].Declared, c.Fields[i].Type = t.declared, t.typ
				}
			}
		}
	}
}

func (p *pg) compositeField(def node) catalog.CompositeField {
	t := p.typeOf(def.at("typeName"))
	return catalog.CompositeField{Name: def.text("colname"), Declared: t.declared, Type: t.typ}
}

func (p *pg) createDomain(n node) {
	schema, name := p.typeTarget(n.names("domainname"))
	base := p.typeOf(n.at("typeName"))
	d := &catalog.Domain{Schema: schema, Name: name, Declared: base.declared}
	for _, k := range n.list("constraints") {
		switch k.text("contype") {
		case "CONSTR_NOTNULL":
			d.NotNull = true
		case "CONSTR_DEFAULT":
			d.Default = live.DefaultOf(p.print(k.at("raw_expr")))
		case "CONSTR_CHECK":
			p.addDomainCheck(d, k)
		}
	}
	d.Default = firstDefault(d.Default, base.def)
	full := catalog.Qualify(schema, name)
	p.domains[full] = d
	p.types[full] = userType{kind: "d", base: column{typ: base.typ, notNull: d.NotNull || base.notNull, def: d.Default}}
}

func firstDefault(a, b *catalog.Default) *catalog.Default {
	if a != nil {
		return a
	}
	return b
}

func (p *pg) addDomainCheck(d *catalog.Domain, k node) {
	name := k.text("conname")
	for n := 0; name == "" || slices.ContainsFunc(d.Checks, func(c catalog.Check) bool { return c.Name == name }); n++ {
		name = objectName(d.Name, "", "check")
		if n > 0 {
			name += fmt.Sprint(n)
		}
	}
	d.Checks = append(d.Checks, catalog.Check{Name: name, Expr: strings.ReplaceAll(p.print(k.at("raw_expr")), "value", "VALUE")})
}

func (p *pg) alterDomain(n node) {
	full, ok := p.named(n.names("typeName"), func(s string) bool { return p.domains[s] != nil })
	if !ok {
		return
	}
	d := p.domains[full]
	switch n.text("subtype") {
	case "C":
		p.addDomainCheck(d, n.at("def"))
	case "X":
		d.Checks = slices.DeleteFunc(d.Checks, func(c catalog.Check) bool { return c.Name == n.text("name") })
	case "O":
		d.NotNull = true
	case "N":
		d.NotNull = false
	case "T":
		d.Default = live.DefaultOf(p.print(n.at("def")))
	}
}

func (p *pg) renameType(names []string, to string) {
	full, ok := p.named(names, func(s string) bool { _, ok := p.types[s]; return ok })
	if !ok {
		return
	}
	schema, _, _ := strings.Cut(full, ".")
	renamed := catalog.Qualify(schema, to)
	p.types[renamed] = p.types[full]
	delete(p.types, full)
	if e := p.enums[full]; e != nil {
		e.Name = to
		p.enums[renamed] = e
		delete(p.enums, full)
	}
	if d := p.domains[full]; d != nil {
		d.Name = to
		p.domains[renamed] = d
		delete(p.domains, full)
	}
	if c := p.composites[full]; c != nil {
		c.Name = to
		p.composites[renamed] = c
		delete(p.composites, full)
	}
	before, after := full, renamed
	for _, t := range p.tables {
		for i := range t.Columns {
			c := &t.Columns[i]
			for kind := &c.Type; kind != nil; kind = kind.Element {
				if kind.Enum == before {
					kind.Enum = after
				}
			}
			if c.Domain == before {
				c.Domain = after
			}
			bare := p.printName(schema, strings.TrimPrefix(before, schema+"."))
			if strings.TrimSuffix(c.Declared, "[]") == bare {
				c.Declared = strings.Replace(c.Declared, bare, p.printName(schema, to), 1)
				c.Type.Name = strings.Replace(c.Type.Name, bare, p.printName(schema, to), 1)
			}
		}
	}
}
