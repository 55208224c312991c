package drafting

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
)

// own is the name of the sequence that belongs to a column.
func (d *postgres) own(t *catalog.Table, column string, def *catalog.Default) string {
	name := def.Own
	if name == "" {
		name = t.Name + "_" + column + "_seq"
	}
	return d.Table(t.Schema, name)
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
		options = strings.TrimSpace("SEQUENCE NAME " + d.Name(def.Own) + " " + options)
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
	table, column := d.TableOf(t), d.Name(c.Name)
	d.Step(strings.TrimSpace(fmt.Sprintf("CREATE SEQUENCE %s %s", sequence, sequenceType(c)+c.Default.Options)),
		fmt.Sprintf("ALTER SEQUENCE %s OWNED BY %s.%s", sequence, table, column),
		fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DEFAULT nextval(%s)", table, column, d.SQL.Literal(sequence)))
	if continued {
		d.Step(d.goOn(t, c))
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
	return fmt.Sprintf("SELECT setval(%s, coalesce(max(%s), 0) + 1, false) FROM %s", d.SQL.Literal(d.own(t, c.Name, c.Default)), d.Name(c.Name), d.TableOf(t))
}

// renumber changes how a column gets its numbers. It is false where the default
// is set as any other.
func (d *postgres) renumber(p *migration.Pair, a migration.Alteration) bool {
	was, now := a.Was.Default, a.Now.Default
	table, column := d.TableOf(p.Now), d.Name(a.Now.Name)
	alter := fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s ", table, column)
	switch {
	case ownNumbers(was) && ownNumbers(now):
		d.otherNumbers(p, a, alter)
	case ownNumbers(was) && was.Serial:
		d.Step(alter+"DROP DEFAULT", "DROP SEQUENCE "+d.own(p.Old, a.Was.Name, was))
		return now == nil
	case ownNumbers(was):
		d.Step(alter + "DROP IDENTITY")
		return now == nil
	case ownNumbers(now):
		if was != nil {
			d.Step(alter + "DROP DEFAULT")
		}
		if now.Serial {
			d.makeNumbers(p.Now, a.Now, true)
		} else {
			declared, _ := d.numbered(a.Now)
			d.Step(alter+"ADD"+strings.TrimPrefix(declared, a.Now.Declared), d.goOn(p.Now, a.Now))
		}
	default:
		return false
	}
	return true
}

// otherNumbers keeps the state of a sequence while the kind of numbering, its
// name or its options change.
func (d *postgres) otherNumbers(p *migration.Pair, a migration.Alteration, alter string) {
	was, now := a.Was.Default, a.Now.Default
	old, fresh := d.own(p.Old, a.Was.Name, was), d.own(p.Now, a.Now.Name, now)
	name := now.Own
	if name == "" {
		name = p.Now.Name + "_" + a.Now.Name + "_seq"
	}
	retyped := a.Was.Declared != a.Now.Declared && serialWord[a.Now.Declared] != ""
	switch {
	case was.Serial && !now.Serial:
		spare := d.FreeName(p.Now.Schema, name+"_before")
		declared, _ := d.numbered(a.Now)
		d.Step(alter+"DROP DEFAULT", fmt.Sprintf("ALTER SEQUENCE %s RENAME TO %s", old, d.Name(spare)),
			alter+"ADD"+strings.TrimPrefix(declared, a.Now.Declared),
			fmt.Sprintf("SELECT setval(%s, last_value, is_called) FROM %s", d.SQL.Literal(fresh), d.Table(p.Now.Schema, spare)),
			"DROP SEQUENCE "+d.Table(p.Now.Schema, spare))
		return
	case !was.Serial && now.Serial:
		spare := d.FreeName(p.Now.Schema, name+"_after")
		d.Step(strings.TrimSpace(fmt.Sprintf("CREATE SEQUENCE %s %s", d.Table(p.Now.Schema, spare), sequenceType(a.Now)+now.Options)),
			fmt.Sprintf("SELECT setval(%s, last_value, is_called) FROM %s", d.SQL.Literal(d.Table(p.Now.Schema, spare)), old),
			alter+"DROP IDENTITY", fmt.Sprintf("ALTER SEQUENCE %s RENAME TO %s", d.Table(p.Now.Schema, spare), d.Name(name)),
			fmt.Sprintf("ALTER SEQUENCE %s OWNED BY %s.%s", fresh, d.TableOf(p.Now), d.Name(a.Now.Name)),
			alter+fmt.Sprintf("SET DEFAULT nextval(%s)", d.SQL.Literal(fresh)))
		return
	case was.Always != now.Always:
		kind := "BY DEFAULT"
		if now.Always {
			kind = "ALWAYS"
		}
		d.Step(alter + "SET GENERATED " + kind)
	}
	if old != fresh {
		d.Step(fmt.Sprintf("ALTER SEQUENCE %s RENAME TO %s", old, d.Name(name)))
	}
	if now.Serial && retyped {
		d.Step(fmt.Sprintf("ALTER SEQUENCE %s AS %s", fresh, a.Now.Declared))
	}
	if options := otherOptions(was.Options, now.Options); options != "" {
		d.Step(fmt.Sprintf("ALTER SEQUENCE %s %s", fresh, options))
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
	for _, now := range d.After.Sequences {
		i := slices.IndexFunc(d.At.Sequences, func(x catalog.Sequence) bool { return x.Schema == now.Schema && x.Name == now.Name })
		name := d.Table(now.Schema, now.Name)
		switch {
		case i < 0:
			d.Step(strings.TrimSpace("CREATE SEQUENCE " + name + " " + now.Options))
		case d.At.Sequences[i].Options != now.Options:
			d.Step("ALTER SEQUENCE " + name + " " + otherOptions(d.At.Sequences[i].Options, now.Options))
		}
	}
}
