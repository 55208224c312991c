package migration

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// own is the name of the sequence that belongs to a column.
func (d *postgres) own(t *catalog.Table, column string, def *catalog.Default) string {
	name := def.Own
	if name == "" {
		name = t.Name + "_" + column + "_seq"
	}
	return d.table(t.Schema, name)
}

func ownNumbers(def *catalog.Default) bool {
	return def != nil && def.Kind == catalog.Identity && def.Sequence == ""
}

// serialWord is the short way to declare a column that takes its numbers from an
// ordinary sequence of its own.
var serialWord = map[string]string{"smallint": "smallserial", "integer": "serial", "bigint": "bigserial"}

// numbered declares a column with numbers of its own, as far as it can be done in
// the declaration.
func (d *postgres) numbered(c *catalog.Column) (declared string, ok bool) {
	def := c.Default
	if !ownNumbers(def) {
		return "", false
	}
	if def.Serial {
		if word := serialWord[c.Declared]; word != "" && def.Own == "" && def.Options == "" && !c.Nullable && c.Domain == "" {
			return word, true
		}
		return c.Declared, true // the default comes behind
	}
	kind := "BY DEFAULT"
	if def.Always {
		kind = "ALWAYS"
	}
	text := c.Declared + " GENERATED " + kind + " AS IDENTITY"
	options := def.Options
	if def.Own != "" {
		options = strings.TrimSpace("SEQUENCE NAME " + d.name(def.Own) + " " + options)
	}
	if options != "" {
		text += " (" + options + ")"
	}
	return text, true
}

// needsSequence reports whether a column's sequence must be made by itself.
func needsSequence(c *catalog.Column) bool {
	def := c.Default
	return ownNumbers(def) && def.Serial && !(serialWord[c.Declared] != "" && def.Own == "" && def.Options == "" && !c.Nullable && c.Domain == "")
}

// makeNumbers gives a column an ordinary sequence of its own.
func (d *postgres) makeNumbers(t *catalog.Table, c *catalog.Column, continued bool) {
	sequence := d.own(t, c.Name, c.Default)
	table, column := d.tableOf(t), d.name(c.Name)
	d.step(strings.TrimSpace(fmt.Sprintf("CREATE SEQUENCE %s %s", sequence, sequenceType(c)+c.Default.Options)),
		fmt.Sprintf("ALTER SEQUENCE %s OWNED BY %s.%s", sequence, table, column),
		fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DEFAULT nextval(%s)", table, column, literal(d.engine, sequence)))
	if continued {
		d.step(d.goOn(t, c))
	}
}

func sequenceType(c *catalog.Column) string {
	if strings.Contains(c.Default.Options, "AS ") || serialWord[c.Declared] == "" {
		return ""
	}
	return "AS " + c.Declared + " "
}

// goOn has a sequence go on behind the highest number that is there.
func (d *postgres) goOn(t *catalog.Table, c *catalog.Column) string {
	return fmt.Sprintf("SELECT setval(%s, coalesce(max(%s), 0) + 1, false) FROM %s", literal(d.engine, d.own(t, c.Name, c.Default)), d.name(c.Name), d.tableOf(t))
}

// renumber changes how a column gets its numbers. It is false where the default
// is set as any other.
func (d *postgres) renumber(p *pair, a alteration) bool {
	was, now := a.was.Default, a.now.Default
	table, column := d.tableOf(p.now), d.name(a.now.Name)
	alter := fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s ", table, column)
	switch {
	case ownNumbers(was) && ownNumbers(now):
		d.otherNumbers(p, a, alter)
	case ownNumbers(was) && was.Serial:
		d.step(alter+"DROP DEFAULT", "DROP SEQUENCE "+d.own(p.old, a.was.Name, was))
		return now == nil
	case ownNumbers(was):
		d.step(alter + "DROP IDENTITY")
		return now == nil
	case ownNumbers(now):
		if was != nil {
			d.step(alter + "DROP DEFAULT")
		}
		if now.Serial {
			d.makeNumbers(p.now, a.now, true)
		} else {
			declared, _ := d.numbered(a.now)
			d.step(alter+"ADD"+strings.TrimPrefix(declared, a.now.Declared), d.goOn(p.now, a.now))
		}
	default:
		return false
	}
	return true
}

// otherNumbers keeps the state of a sequence while the kind of numbering, its
// name or its options change.
func (d *postgres) otherNumbers(p *pair, a alteration, alter string) {
	was, now := a.was.Default, a.now.Default
	old, fresh := d.own(p.old, a.was.Name, was), d.own(p.now, a.now.Name, now)
	name := now.Own
	if name == "" {
		name = p.now.Name + "_" + a.now.Name + "_seq"
	}
	retyped := a.was.Declared != a.now.Declared && serialWord[a.now.Declared] != ""
	switch {
	case was.Serial && !now.Serial:
		spare := d.freeName(p.now.Schema, name+"_before")
		declared, _ := d.numbered(a.now)
		d.step(alter+"DROP DEFAULT", fmt.Sprintf("ALTER SEQUENCE %s RENAME TO %s", old, d.name(spare)),
			alter+"ADD"+strings.TrimPrefix(declared, a.now.Declared),
			fmt.Sprintf("SELECT setval(%s, last_value, is_called) FROM %s", literal(d.engine, fresh), d.table(p.now.Schema, spare)),
			"DROP SEQUENCE "+d.table(p.now.Schema, spare))
		return
	case !was.Serial && now.Serial:
		spare := d.freeName(p.now.Schema, name+"_after")
		d.step(strings.TrimSpace(fmt.Sprintf("CREATE SEQUENCE %s %s", d.table(p.now.Schema, spare), sequenceType(a.now)+now.Options)),
			fmt.Sprintf("SELECT setval(%s, last_value, is_called) FROM %s", literal(d.engine, d.table(p.now.Schema, spare)), old),
			alter+"DROP IDENTITY", fmt.Sprintf("ALTER SEQUENCE %s RENAME TO %s", d.table(p.now.Schema, spare), d.name(name)),
			fmt.Sprintf("ALTER SEQUENCE %s OWNED BY %s.%s", fresh, d.tableOf(p.now), d.name(a.now.Name)),
			alter+fmt.Sprintf("SET DEFAULT nextval(%s)", literal(d.engine, fresh)))
		return
	case was.Always != now.Always:
		kind := "BY DEFAULT"
		if now.Always {
			kind = "ALWAYS"
		}
		d.step(alter + "SET GENERATED " + kind)
	}
	if old != fresh {
		d.step(fmt.Sprintf("ALTER SEQUENCE %s RENAME TO %s", old, d.name(name)))
	}
	if now.Serial && retyped {
		d.step(fmt.Sprintf("ALTER SEQUENCE %s AS %s", fresh, a.now.Declared))
	}
	if options := otherOptions(was.Options, now.Options); options != "" {
		d.step(fmt.Sprintf("ALTER SEQUENCE %s %s", fresh, options))
	}
}

var sequenceOption = regexp.MustCompile(`(AS|INCREMENT BY|MINVALUE|MAXVALUE|START WITH|CACHE|CYCLE)(?: ([\w-]+))?`)

// usualOptions are those of a sequence that says nothing.
var usualOptions = map[string]string{"AS": "AS bigint", "INCREMENT BY": "INCREMENT BY 1", "MINVALUE": "NO MINVALUE", "MAXVALUE": "NO MAXVALUE", "START WITH": "START WITH 1", "CACHE": "CACHE 1", "CYCLE": "NO CYCLE"}

// otherOptions are the options that change one set into another.
func otherOptions(was, now string) string {
	read := func(text string) map[string]string {
		options := map[string]string{}
		for _, m := range sequenceOption.FindAllStringSubmatch(text, -1) {
			options[m[1]] = m[0]
		}
		return options
	}
	old, fresh := read(was), read(now)
	var list []string
	for _, name := range []string{"AS", "INCREMENT BY", "MINVALUE", "MAXVALUE", "START WITH", "CACHE", "CYCLE"} {
		switch {
		case fresh[name] == old[name]:
		case fresh[name] == "":
			list = append(list, usualOptions[name])
		default:
			list = append(list, fresh[name])
		}
	}
	return strings.Join(list, " ")
}

// sequences makes, changes and, in late, drops those that stand by themselves.
func (d *postgres) sequences() {
	for _, now := range d.after.Sequences {
		i := slices.IndexFunc(d.at.Sequences, func(x catalog.Sequence) bool { return x.Schema == now.Schema && x.Name == now.Name })
		name := d.table(now.Schema, now.Name)
		switch {
		case i < 0:
			d.step(strings.TrimSpace("CREATE SEQUENCE " + name + " " + now.Options))
		case d.at.Sequences[i].Options != now.Options:
			d.step("ALTER SEQUENCE " + name + " " + otherOptions(d.at.Sequences[i].Options, now.Options))
		}
	}
}
